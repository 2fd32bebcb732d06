//! One query looked at closely: approximate beside exact.

use crate::{SearchRequest, Settings};
use serde::{Deserialize, Serialize};

/// A query to look at: a search, or a query of a set
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct LensRequest {
    /// Of it count what asks (`text`, `vector` or `examples`), `column`, `filter`, `k`, `index`, `settings` and `recall`
    pub search: SearchRequest,
    /// The query set; then the search has nothing that asks
    #[serde(skip_serializing_if = "Option::is_none")]
    pub query_set: Option<String>,
    /// Which query of the set, from 0
    #[serde(skip_serializing_if = "Option::is_none")]
    pub position: Option<u64>,
}

/// A true neighbour
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct TrueNeighbour {
    /// From 1
    pub rank: usize,
    pub key: String,
    pub distance: f32,
    pub score: f32,
    /// Its rank among the hits; null where it was missed
    #[cfg_attr(feature = "openapi", schema(required))]
    pub found_at: Option<usize>,
    /// Whether it is clearly nearer than the k-th
    pub stands_out: bool,
    /// The smallest setting that finds it; null where none does
    #[cfg_attr(feature = "openapi", schema(required))]
    pub smallest: Option<Settings>,
}

/// A hit that is not among the true neighbours
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Stray {
    /// From 1
    pub rank: usize,
    pub key: String,
    pub distance: f32,
    pub score: f32,
}

/// Where a query lies among the records
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Place {
    /// As near to its 10th neighbour as three of four records are
    InACluster,
    /// Farther than that, but not farther than 19 of 20
    AtTheEdge,
    /// Farther from its 10th neighbour than 19 of 20 records
    InTheOpen,
}

/// Percentiles of distances
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Percentiles {
    pub p5: f64,
    pub p25: f64,
    pub p50: f64,
    pub p75: f64,
    pub p95: f64,
}

/// What the lens shows
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LensAnswer {
    pub column: String,
    pub metric: String,
    pub index: String,
    pub recipe: String,
    pub settings: Settings,
    pub k: usize,
    pub recall: f64,
    /// How much farther the hits are than the true neighbours, relative
    pub gap: f64,
    /// True neighbours that stand out
    pub standouts: usize,
    pub standouts_found: usize,
    /// Nearest first
    pub truth: Vec<TrueNeighbour>,
    pub strays: Vec<Stray>,
    /// Distances of the nearest records by rank, at most 1,000
    pub curve: Vec<f32>,
    /// Null where the collection is too small to tell
    #[cfg_attr(feature = "openapi", schema(required))]
    pub place: Option<Place>,
    /// Distances of the collection's records to their 10th neighbour
    #[cfg_attr(feature = "openapi", schema(required))]
    pub of_records: Option<Percentiles>,
    /// Distances of the query to records of the collection
    pub of_rows: Percentiles,
    /// Of the engine
    pub search_us: f64,
    pub distances: usize,
    /// Whether the record that asks was held out of the index
    pub held_out: bool,
    pub revision: u64,
}
