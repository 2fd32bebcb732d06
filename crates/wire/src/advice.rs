//! Advice: recipes tried against a target and a memory budget, and which one wins.

use crate::{Aim, Figures, Machine, Notice, Settings};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

/// What is needed of an index
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct AdviceRequest {
    /// The collection's default column when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub column: Option<String>,
    /// Above 0, at most 1
    #[serde(default = "usual_recall")]
    pub recall: f64,
    #[serde(default)]
    pub aim: Aim,
    /// Hits of a search, 1 to 1,000
    #[serde(default = "ten")]
    pub k: usize,
    /// Megabytes (10^6 bytes) that searches may keep in memory; no limit when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory_mb: Option<f64>,
    /// When absent the set `sampled`, which is made if it is not there
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub query_set: Option<String>,
    /// Recipes to try besides the usual candidates, at most 8
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub recipes: Vec<String>,
    /// Recipes to try on all records, 1 to 8; 3 when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finalists: Option<usize>,
    /// Drops the index of the winner, too
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub drop_all: bool,
    /// Makes the winner with its settings the serving choice
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub serve: bool,
}

fn usual_recall() -> f64 {
    0.95
}

fn ten() -> usize {
    10
}

/// How a recipe did on some of the records, or on all
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Trial {
    /// Records that it was built over
    pub n_rows: usize,
    pub reached: bool,
    /// Those that reach the target, or the best there are
    pub settings: Settings,
    pub figures: Figures,
    pub queries_per_s: f64,
    pub memory_bytes: u64,
    pub build_seconds: f64,
}

/// A recipe that was considered
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Candidate {
    pub recipe: String,
    /// Expected for all records
    pub expected_memory_bytes: u64,
    /// Null if it does not fit, and was not tried
    #[cfg_attr(feature = "openapi", schema(required))]
    pub on_sample: Option<Trial>,
    /// Null if others did better on the sample
    #[cfg_attr(feature = "openapi", schema(required))]
    pub on_all: Option<Trial>,
    /// The index, if it was kept or was there before
    #[cfg_attr(feature = "openapi", schema(required))]
    pub index: Option<String>,
    /// Why it won, or what it lost by
    pub verdict: String,
}

/// What came of trying recipes
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct AdviceResult {
    /// The recipe to take; null if none reaches the target within the budget
    #[cfg_attr(feature = "openapi", schema(required))]
    pub winner: Option<String>,
    pub why: String,
    /// The winner first, then by how far they came
    pub candidates: Vec<Candidate>,
    pub query_set: String,
    pub n_queries: usize,
    pub n_rows: usize,
    /// Whether the winner became the serving choice
    pub served: bool,
    pub revision: u64,
    pub machine: Machine,
    pub notices: Vec<Notice>,
}

/// Advice that was given
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Advice {
    pub id: i64,
    pub column: String,
    pub spec: AdviceRequest,
    pub result: AdviceResult,
    /// Whether the collection has changed since
    pub stale: bool,
    pub created_at: DateTime<Utc>,
}

/// The advice of a collection
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct AdviceList {
    /// Newest first
    pub advice: Vec<Advice>,
}
