//! Query sets: named lists of queries to measure with.

use crate::{Filter, vectors::vector};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// How the queries of a set come about
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum QueryKind {
    /// Stored records that indexes hold out of their links, so that no index has seen them
    Sampled,
    /// Each component drawn from one of `of` random records: far from every cluster
    Blended,
    /// A stored record plus noise
    Jittered,
    /// Vectors or texts from an uploaded file
    Uploaded,
    /// Vectors or texts in the request
    Given,
    /// The newest live searches that were captured
    Captured,
}

/// A query as it is given
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct GivenQuery {
    /// A vector with the column's dimensions; this or `text`
    #[serde(deserialize_with = "vector", skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "openapi", schema(value_type = crate::vectors::Vector))]
    pub vector: Option<Vec<f32>>,
    /// Encoded by the column's encoder
    #[serde(skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// A filter of this query alone
    #[serde(skip_serializing_if = "Option::is_none")]
    pub filter: Option<Filter>,
    /// Keys known to be right, with a grade above 0 each
    #[serde(skip_serializing_if = "Option::is_none")]
    pub relevant: Option<BTreeMap<String, f64>>,
}

/// A query set to make
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewQuerySet {
    pub name: String,
    /// The collection's default column when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub column: Option<String>,
    pub kind: QueryKind,
    /// How many to draw, 1 to 10,000; 4,000 when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub queries: Option<usize>,
    /// The same seed, kind and records give the same queries; 1 when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seed: Option<u64>,
    /// Blended: random records that components come from, 2 to 100; 3 when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of: Option<usize>,
    /// Jittered: the length of the noise, as a share of the distance to the record's 10th neighbour, above 0 to 10;
    /// 0.5 when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub noise: Option<f64>,
    /// Sampled: whether exact copies of a record count as its neighbours; true when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub copies: Option<bool>,
    /// Uploaded: the id of the file. A record of it has a `vector` or a `text`, and may have `filter` and `relevant`
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// Given: the queries, 1 to 10,000
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub given: Option<Vec<GivenQuery>>,
    /// A filter of every query that has none of its own
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub filter: Option<Filter>,
}

/// How hard queries are: medians over them
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Difficulty {
    /// Distance to the nearest neighbour
    #[cfg_attr(feature = "openapi", schema(required))]
    pub distance_1: Option<f64>,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub distance_10: Option<f64>,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub distance_100: Option<f64>,
    /// Local intrinsic dimensionality at the 100th neighbour (Levina and Bickel 2004); null under `dot`
    #[cfg_attr(feature = "openapi", schema(required))]
    pub intrinsic: Option<f64>,
}

/// How hard a query set is, beside the collection's own records
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SetDifficulty {
    pub queries: Difficulty,
    /// Of up to 200 records of the collection
    pub records: Difficulty,
}

/// Exact answers that are kept
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct KeptAnswers {
    /// Neighbours of each query
    pub k: usize,
    pub revision: u64,
    /// Whether the collection has changed since: they are computed again when they are needed
    pub stale: bool,
    /// Records that could be a neighbour
    pub n_rows: usize,
    pub seconds: f64,
    pub created_at: DateTime<Utc>,
}

/// A query set
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct QuerySet {
    pub name: String,
    pub column: String,
    pub kind: QueryKind,
    pub n_queries: usize,
    /// Those that have a filter
    pub n_filtered: usize,
    /// Those that know keys which are right
    pub n_graded: usize,
    pub seed: u64,
    /// Blended: random records that components come from
    #[cfg_attr(feature = "openapi", schema(required))]
    pub of: Option<usize>,
    /// Jittered: the length of the noise
    #[cfg_attr(feature = "openapi", schema(required))]
    pub noise: Option<f64>,
    /// Sampled: whether exact copies count
    #[cfg_attr(feature = "openapi", schema(required))]
    pub copies: Option<bool>,
    /// The collection's revision that it was made at
    pub revision: u64,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub difficulty: Option<SetDifficulty>,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub answers: Option<KeptAnswers>,
    pub created_at: DateTime<Utc>,
}

/// The query sets of a collection
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct QuerySetList {
    pub query_sets: Vec<QuerySet>,
}

/// A query of a set
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Query {
    /// From 0
    pub position: u64,
    /// As it is searched for: of unit length under `cosine`
    pub vector: Vec<f32>,
    /// The key of the record that it is
    #[serde(skip_serializing_if = "Option::is_none")]
    pub record: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub filter: Option<Filter>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub relevant: Option<BTreeMap<String, f64>>,
}

/// Queries of a set, in order
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct QueryPage {
    pub queries: Vec<Query>,
    /// Where the next ones begin; null at the end
    #[cfg_attr(feature = "openapi", schema(required))]
    pub next: Option<u64>,
}

/// Exact answers to compute
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct AnswersRequest {
    /// Neighbours of each query, 1 to 1,000
    pub k: usize,
}
