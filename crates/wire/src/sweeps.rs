//! Sweeps: the recall and latency of an index at a list of settings.

use crate::Settings;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

/// A sweep to run
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct SweepRequest {
    /// The index to measure
    pub index: String,
    /// Records sampled as queries, 1 to 10,000. A record never counts as its own neighbour
    #[serde(default = "queries")]
    pub queries: usize,
    #[serde(default = "ten")]
    pub k: usize,
    /// Graphs: beams to measure, each 1 to 10,000, at most 32; a usual list when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub beams: Option<Vec<usize>>,
    /// Cells: how many to visit, each 1 to 100,000, at most 32; a usual list when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub visits: Option<Vec<usize>>,
    /// With `rescore` in the recipe: re-ranks this many times k candidates, 1 to 100; 3 when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rescore: Option<usize>,
    /// Decides which records are sampled
    #[serde(default = "one")]
    pub seed: u64,
}

fn queries() -> usize {
    500
}

fn ten() -> usize {
    10
}

fn one() -> u64 {
    1
}

/// One setting, measured. Latencies are those of the engine, one query at a time
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SweepPoint {
    pub settings: Settings,
    pub queries_per_s: f64,
    pub recall_mean: f64,
    /// The 5th percentile
    pub recall_p5: f64,
    pub recall_min: f64,
    /// As `recall_mean`, but a hit that is as near as the farthest true one counts as found
    pub recall_ties_mean: f64,
    pub p50_us: f64,
    pub p95_us: f64,
    pub p99_us: f64,
    pub distances_per_query: f64,
    /// How many queries had each recall: k + 1 counts, from none found to all k
    pub histogram: Vec<usize>,
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

/// What a sweep gave
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SweepResult {
    pub points: Vec<SweepPoint>,
    pub exact: ExactPoint,
    /// Records that could be a neighbour
    pub n_rows: usize,
    /// Queries that were sampled; fewer than asked for if there are fewer records
    pub n_queries: usize,
    pub revision: u64,
}

/// A sweep that was run
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Sweep {
    pub id: i64,
    pub index: String,
    pub column: String,
    pub recipe: String,
    pub spec: SweepRequest,
    pub result: SweepResult,
    pub created_at: DateTime<Utc>,
}

/// The sweeps of a collection
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SweepList {
    /// Newest first
    pub sweeps: Vec<Sweep>,
}
