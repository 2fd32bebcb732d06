//! Sweeps: recall and latency of indexes at lists of settings.

use crate::{Notice, Settings};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

/// A sweep to run: every index, setting, k, number of clients and query set with every other
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct SweepRequest {
    /// Indexes to measure, of one vector column
    pub indexes: Vec<String>,
    /// Recipes to build for this, measure, and drop again
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub recipes: Vec<String>,
    /// Whether the indexes of `recipes` stay
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub keep: bool,
    /// Query sets to measure with; when absent the set `sampled`, which is made if it is not there
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub query_sets: Vec<String>,
    /// Hits of a search, each 1 to 1,000; 10 when absent
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub k: Vec<usize>,
    /// Graphs: beams to measure, each 1 to 10,000, at most 32; a usual list when absent
    #[serde(skip_serializing_if = "Option::is_none")]
    pub beams: Option<Vec<usize>>,
    /// Cells: how many to visit, each 1 to 100,000, at most 32; a usual list when absent
    #[serde(skip_serializing_if = "Option::is_none")]
    pub visits: Option<Vec<usize>>,
    /// With `rescore` in the recipe: re-ranks this many times k candidates, each 1 to 100; 3 when absent
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rescores: Option<Vec<usize>>,
    /// Threads that search at the same time, each 1 to 64; 1 when absent
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub clients: Vec<usize>,
    /// Times that every point is measured, in turns, 1 to 20; 3 when absent
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rounds: Option<usize>,
    /// Of the intervals, and of the query set that is made; 1 when absent
    #[serde(skip_serializing_if = "Option::is_none")]
    pub seed: Option<u64>,
}

/// A range that holds the true value in 19 of 20 cases
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Interval {
    pub low: f64,
    pub high: f64,
}

/// What some settings gave on a list of queries. Latencies are those of the engine
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Figures {
    pub recall_mean: f64,
    /// Of the mean, by the bootstrap over queries
    pub recall_interval: Interval,
    /// The 5th percentile
    pub recall_p5: f64,
    pub recall_min: f64,
    /// As `recall_mean`, but a hit that is as near as the farthest true one counts as found
    pub recall_ties_mean: f64,
    /// Recall among true neighbours that are clearly nearer than the k-th; null where there are none
    #[cfg_attr(feature = "openapi", schema(required))]
    pub standout_recall: Option<f64>,
    /// True neighbours that are clearly nearer than the k-th, of all queries
    pub standouts: usize,
    /// How much farther the hits are than the true ones, relative: the mean over queries
    pub gap_mean: f64,
    /// The 95th percentile of that
    pub gap_p95: f64,
    pub p50_us: f64,
    pub p95_us: f64,
    pub p99_us: f64,
    pub distances_per_query: f64,
    /// How many queries had each recall: k + 1 counts, from none found to all k
    pub histogram: Vec<usize>,
}

/// A query that fared badly
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct WorstQuery {
    /// In its query set, from 0
    pub position: usize,
    pub recall: f64,
    /// How much farther its hits are than the true ones, relative
    pub gap: f64,
}

/// One round of a point
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Round {
    pub queries_per_s: f64,
    pub p50_us: f64,
}

/// One setting of one index, measured on one query set
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SweepPoint {
    pub index: String,
    pub query_set: String,
    pub k: usize,
    pub clients: usize,
    pub settings: Settings,
    pub queries_per_s: f64,
    pub figures: Figures,
    pub rounds: Vec<Round>,
    /// At most 20, worst first
    pub worst: Vec<WorstQuery>,
    /// Points that neither recall nor latency tells apart from this one, by their place in the list
    pub like: Vec<usize>,
}

/// The exact scan on some of the same queries
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ExactPoint {
    pub queries: usize,
    pub queries_per_s: f64,
    pub p50_us: f64,
    pub p99_us: f64,
}

/// An index as it was measured
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SweptIndex {
    pub name: String,
    pub recipe: String,
    /// Bytes that searches read throughout
    pub n_bytes_memory: usize,
    /// Bytes of the file that is mapped
    pub n_bytes_file: i64,
    pub build_seconds: f64,
    pub seed: i64,
    /// The revision it covers
    pub revision: i64,
    /// Records that are newer than it, and were scanned
    pub n_uncovered: usize,
}

/// A query set as it was measured with
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SweptSet {
    pub name: String,
    pub kind: crate::QueryKind,
    pub n_queries: usize,
    /// Records that could be a neighbour of any query: those of the smallest part
    pub n_rows: usize,
    /// Records that were left out of what was searched, a part at a time
    pub n_held_out: usize,
    /// Queries that were left out, because an index may have seen them
    pub n_left_out: usize,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub exact: Option<ExactPoint>,
}

/// Where something was measured
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Machine {
    pub cpu: String,
    pub cores: usize,
    /// Of Zesty Lantern
    pub version: String,
    /// `release`, or `debug` for a build that is not optimised throughout
    pub build: String,
}

/// What a sweep gave
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SweepResult {
    pub points: Vec<SweepPoint>,
    pub indexes: Vec<SweptIndex>,
    pub query_sets: Vec<SweptSet>,
    pub metric: String,
    /// The revision of the collection that was measured; later writes did not change it
    pub revision: u64,
    /// Whether it was cancelled; the points are those that were whole by then
    pub cut: bool,
    pub machine: Machine,
    pub notices: Vec<Notice>,
}

/// A sweep that was run
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Sweep {
    pub id: i64,
    pub column: String,
    pub spec: SweepRequest,
    pub result: SweepResult,
    /// Whether the collection has changed since
    pub stale: bool,
    pub created_at: DateTime<Utc>,
}

/// The sweeps of a collection
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SweepList {
    /// Newest first
    pub sweeps: Vec<Sweep>,
}
