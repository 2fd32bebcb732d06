//! Comparisons: two ways of answering, side by side on the same queries, and the verdicts of a person.

use crate::{Filter, Interval, Machine, Notice, Settings, SweptSet};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::fmt;

/// One of two ways to answer
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct CompareSide {
    /// The index; when absent, the exact scan of a column
    #[serde(skip_serializing_if = "Option::is_none")]
    pub index: Option<String>,
    /// The vector column, when no index says which; the collection's default column when absent
    #[serde(skip_serializing_if = "Option::is_none")]
    pub column: Option<String>,
    /// Of the index
    pub settings: Settings,
}

impl fmt::Display for CompareSide {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.index.as_deref().unwrap_or("exact"))?;
        if let Some(column) = &self.column {
            write!(f, ",column={column}")?;
        }
        for (word, n) in self.settings.named() {
            if let Some(n) = n {
                write!(f, ",{word}={n}")?;
            }
        }
        Ok(())
    }
}

/// What to compare
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ComparisonRequest {
    pub left: CompareSide,
    pub right: CompareSide,
    /// Its queries are asked of both; when absent the set `sampled`, which is made if it is not there. If the sides search
    /// two columns, each query needs a record or a text, so that each column has a vector for it
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub query_set: Option<String>,
    /// Hits of a search, 1 to 100
    #[serde(default = "ten")]
    pub k: usize,
    /// Times that both sides answer every query, in turns, 1 to 20; 3 when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rounds: Option<usize>,
    /// Of the intervals; 1 when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seed: Option<u64>,
}

fn ten() -> usize {
    10
}

/// How well hits agree with the grades of a query set
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct GradedFigures {
    /// The share of the graded queries with a graded record among the hits
    pub hit_rate: f64,
    /// The mean of one over the rank of the first graded hit
    pub mean_reciprocal_rank: f64,
    /// Normalised discounted cumulative gain at k, the mean
    pub ndcg: f64,
}

/// One side as it was measured
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ComparedSide {
    pub column: String,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub index: Option<String>,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub recipe: Option<String>,
    pub settings: Settings,
    /// Against the exact neighbours in its own column
    pub recall_mean: f64,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub graded: Option<GradedFigures>,
    pub p50_us: f64,
    pub p95_us: f64,
    pub p99_us: f64,
}

/// A measure of both sides, query by query
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct PairedTest {
    /// Queries on which the left side is better
    pub left_better: usize,
    pub right_better: usize,
    pub same: usize,
    /// The mean of left less right
    pub difference: f64,
    /// Holds it in 19 of 20 cases
    pub interval: Interval,
    /// Of the two-sided sign test: how likely such counts are if neither side is better
    pub p: f64,
}

/// Hits by how far apart the two sides rank them
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct RankMoves {
    pub same_rank: usize,
    pub by_one: usize,
    pub by_two_or_three: usize,
    pub farther: usize,
    pub left_alone: usize,
    pub right_alone: usize,
}

/// True neighbours by who found them
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Finders {
    pub both: usize,
    pub left_alone: usize,
    pub right_alone: usize,
    pub neither: usize,
}

/// Distances of the hits, where both sides search one column
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ComparedDistances {
    /// The mean at each rank
    pub left: Vec<f64>,
    pub right: Vec<f64>,
    /// By the sum of the distances of a query's hits, with turned signs: better is nearer
    pub nearer: PairedTest,
}

/// What a comparison gave
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ComparisonResult {
    pub left: ComparedSide,
    pub right: ComparedSide,
    pub query_set: SweptSet,
    /// The mean share of the first hits that both sides have, at 1 to k
    pub overlap: Vec<f64>,
    pub moves: RankMoves,
    /// Null where the sides search two columns, since each has a truth of its own
    #[cfg_attr(feature = "openapi", schema(required))]
    pub finders: Option<Finders>,
    pub by_recall: PairedTest,
    /// By nDCG; null without grades
    #[cfg_attr(feature = "openapi", schema(required))]
    pub by_grades: Option<PairedTest>,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub distances: Option<ComparedDistances>,
    /// Graded keys that are not in the collection; they count as not found
    pub n_unknown_keys: usize,
    pub revision: u64,
    pub machine: Machine,
    pub notices: Vec<Notice>,
}

/// Which side a person prefers for a query
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Verdict {
    Left,
    Right,
    /// Both are as good
    Same,
    /// Both are bad
    Neither,
}

/// A verdict to keep
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct VerdictRequest {
    /// Null takes it back
    #[cfg_attr(feature = "openapi", schema(required))]
    pub verdict: Option<Verdict>,
}

/// The verdicts of a comparison
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Verdicts {
    pub left: usize,
    pub right: usize,
    pub same: usize,
    pub neither: usize,
    /// Of the two-sided sign test of left against right
    pub p: f64,
}

/// A comparison that was made
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Comparison {
    pub id: i64,
    pub spec: ComparisonRequest,
    pub result: ComparisonResult,
    pub verdicts: Verdicts,
    /// Whether the collection has changed since
    pub stale: bool,
    pub created_at: DateTime<Utc>,
}

/// The comparisons of a collection
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ComparisonList {
    /// Newest first
    pub comparisons: Vec<Comparison>,
}

/// A hit of one side
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ComparedHit {
    /// From 1
    pub rank: usize,
    /// Null where the record is gone
    #[cfg_attr(feature = "openapi", schema(required))]
    pub key: Option<String>,
    pub distance: f32,
    pub score: f32,
    /// Its rank on the other side; null where that side does not have it
    #[cfg_attr(feature = "openapi", schema(required))]
    pub other_rank: Option<usize>,
    /// Of the query set
    #[cfg_attr(feature = "openapi", schema(required))]
    pub grade: Option<f64>,
    /// Of the record as it is now; empty where it is gone
    #[cfg_attr(feature = "openapi", schema(value_type = Object))]
    pub fields: Map<String, Value>,
}

/// One query of a comparison
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ComparedQuery {
    /// In its query set, from 0
    pub position: u64,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub text: Option<String>,
    /// The key of the record that asks
    #[cfg_attr(feature = "openapi", schema(required))]
    pub record: Option<String>,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub filter: Option<Filter>,
    /// The share of the hits that both sides have
    pub overlap: f64,
    pub left_recall: f64,
    pub right_recall: f64,
    /// Null without grades
    #[cfg_attr(feature = "openapi", schema(required))]
    pub left_ndcg: Option<f64>,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub right_ndcg: Option<f64>,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub verdict: Option<Verdict>,
    pub left: Vec<ComparedHit>,
    pub right: Vec<ComparedHit>,
}

/// Queries of a comparison
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ComparedPage {
    /// Those that differ most come first
    pub queries: Vec<ComparedQuery>,
    /// Where the next page begins; null at the end
    #[cfg_attr(feature = "openapi", schema(required))]
    pub next: Option<u64>,
}
