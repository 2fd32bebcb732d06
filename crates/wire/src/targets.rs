//! Targets: the settings with which an index reaches a recall.

use crate::{Figures, Machine, Notice, Settings};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

/// What must reach the recall
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Aim {
    /// The mean over queries
    #[default]
    Mean,
    /// The 5th percentile: 19 of 20 queries reach it
    P5,
}

/// A target to solve
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct TargetRequest {
    pub index: String,
    /// Above 0, at most 1
    pub recall: f64,
    #[serde(default)]
    pub aim: Aim,
    /// Hits of a search, 1 to 1,000
    #[serde(default = "ten")]
    pub k: usize,
    /// The target is reached over all of them together; when absent the set `sampled`, which is made if it is not there
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub query_sets: Vec<String>,
    /// With `rescore` in the recipe: fixes that setting, 1 to 100; chosen when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rescore: Option<usize>,
    /// Makes the settings the serving choice if they reach the target
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub serve: bool,
}

fn ten() -> usize {
    10
}

/// What one query set gave
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SetFigures {
    pub query_set: String,
    /// Queries that verified
    pub n_queries: usize,
    pub figures: Figures,
}

/// Settings that were tried
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Tried {
    pub settings: Settings,
    /// On the half of the queries that chooses
    pub recall: f64,
}

/// A recipe that may reach what this index cannot
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct OtherRecipe {
    pub recipe: String,
    pub why: String,
    /// Expected
    pub memory_bytes: u64,
    /// Expected
    pub file_bytes: u64,
    /// Expected
    pub build_seconds: f64,
}

/// What came of a target
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct TargetResult {
    /// Whether the queries that did not choose the settings reached it
    pub reached: bool,
    /// The settings that reach it, or the best there are
    pub settings: Settings,
    /// Of all query sets together, on the half of the queries that did not choose
    pub achieved: Figures,
    pub queries_per_s: f64,
    /// On the half that chose
    pub chosen_recall: f64,
    /// Of each query set, worst first
    pub sets: Vec<SetFigures>,
    pub tried: Vec<Tried>,
    pub recipe: String,
    /// Where the index cannot reach it: what could
    #[cfg_attr(feature = "openapi", schema(required))]
    pub instead: Option<OtherRecipe>,
    /// Whether it became the serving choice
    pub served: bool,
    pub n_queries: usize,
    /// Queries that had a filter
    #[serde(default)]
    pub n_filtered: usize,
    /// Their filter as CQL2 JSON, if all queries had the same one
    #[serde(default)]
    #[cfg_attr(feature = "openapi", schema(required, value_type = Option<Object>))]
    pub filter: Option<serde_json::Value>,
    pub revision: u64,
    pub machine: Machine,
    pub notices: Vec<Notice>,
}

/// A target that was solved
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Target {
    pub id: i64,
    pub column: String,
    pub spec: TargetRequest,
    pub result: TargetResult,
    /// Whether the collection has changed since
    pub stale: bool,
    pub created_at: DateTime<Utc>,
}

/// The targets of a collection
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct TargetList {
    /// Newest first
    pub targets: Vec<Target>,
}
