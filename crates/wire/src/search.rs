//! Searches: what is asked, what is answered, and how the answer came about.

use crate::vectors::vector;
use crate::{AskedSaved, Body, Filter, Settings};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::HashMap;

/// One key, or several
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(untagged)]
pub enum Keys {
    One(String),
    Many(Vec<String>),
}

impl Keys {
    pub fn list(&self) -> &[String] {
        match self {
            Keys::One(key) => std::slice::from_ref(key),
            Keys::Many(keys) => keys,
        }
    }
}

/// At most this many hits that share a value of a field; records without a value count as sharing one
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct AtMost {
    pub field: String,
    /// 1 to 1000
    pub hits: usize,
}

/// A search. It gives one of `text`, `vector` and `examples`
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct SearchRequest {
    /// The collection's default column when absent
    #[serde(skip_serializing_if = "Option::is_none")]
    pub column: Option<String>,
    /// The encoder that made `vector`; a column of another encoder refuses it
    #[serde(skip_serializing_if = "Option::is_none")]
    pub encoder: Option<String>,
    /// Search by text, through the column's encoder
    #[serde(skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// Search by a vector with the column's dimensions
    #[serde(deserialize_with = "vector", skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "openapi", schema(value_type = crate::vectors::Vector))]
    pub vector: Option<Vec<f32>>,
    /// Search by the vectors of the records with these keys, at most 100; by their mean if there are several
    #[serde(skip_serializing_if = "Option::is_none")]
    pub examples: Option<Keys>,
    /// Move away from the vectors of these records: half of their mean is subtracted (Rocchio 1971)
    #[serde(skip_serializing_if = "Option::is_none")]
    pub counterexamples: Option<Keys>,
    /// Whether the records of `examples` and `counterexamples` may be hits
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub include_self: bool,
    /// Hits wanted, 1 to 1000; 10 when absent
    #[serde(default = "ten")]
    pub k: usize,
    /// CQL2 text, such as `severity >= 4 AND station = 'Gull Rock'`, or CQL2 JSON
    #[serde(skip_serializing_if = "Option::is_none")]
    pub filter: Option<Filter>,
    /// Hits to pass over first; with k at most 10,000
    #[serde(skip_serializing_if = "is_zero")]
    pub skip: usize,
    /// Keys of records that must not be hits, at most 10,000
    #[serde(skip_serializing_if = "Option::is_none")]
    pub leave_out: Option<Vec<String>>,
    /// Leave out hits with a lower score
    #[serde(skip_serializing_if = "Option::is_none")]
    pub score_at_least: Option<f32>,
    /// Leave out hits with a greater distance
    #[serde(skip_serializing_if = "Option::is_none")]
    pub distance_at_most: Option<f32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at_most: Option<AtMost>,
    /// Stop filtering and searching after this many milliseconds, up to 60,000, and answer with what was found
    #[serde(skip_serializing_if = "Option::is_none")]
    pub time_limit_ms: Option<f64>,
    /// Sort the hits by this field instead of by distance; descending with a leading minus
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sort: Option<String>,
    /// Fields to return; all when absent
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fields: Option<Vec<String>>,
    /// Vector columns whose vectors to return with each hit, as they were given
    #[serde(skip_serializing_if = "Option::is_none")]
    pub vectors: Option<Vec<String>>,
    /// Fields that refer to records of another collection; each hit brings those records
    #[serde(skip_serializing_if = "Option::is_none")]
    pub follow: Option<Vec<String>>,
    /// Return the plan, and how the filter was understood, as a tree
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub explain: bool,
    /// Scan every record instead of using an index
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub exact: bool,
    /// Instead of the serving choice
    #[serde(skip_serializing_if = "Option::is_none")]
    pub index: Option<String>,
    /// Instead of the settings of the serving choice
    #[serde(skip_serializing_if = "Option::is_none")]
    pub settings: Option<Settings>,
    /// In place of settings: those that the newest target of the index measured for this recall; above 0, at most 1
    #[serde(skip_serializing_if = "Option::is_none")]
    pub recall: Option<f64>,
}

fn ten() -> usize {
    10
}

fn is_zero(n: &usize) -> bool {
    *n == 0
}

/// Many searches
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct SearchRequests {
    /// 1 to 100
    pub searches: Vec<SearchRequest>,
}

/// A record that was found
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Hit {
    pub key: String,
    /// Lower is closer
    pub distance: f32,
    /// Higher is closer
    pub score: f32,
    #[cfg_attr(feature = "openapi", schema(value_type = Object))]
    pub fields: Body,
    /// By column; null where the record has none
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub vectors: Option<HashMap<String, Option<Vec<f32>>>>,
    /// By field: the record it refers to; null where there is none
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<HashMap<String, Followed>>))]
    pub follow: Option<HashMap<String, Option<Followed>>>,
}

/// A record that a hit refers to
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Followed {
    pub collection: String,
    pub key: String,
    #[cfg_attr(feature = "openapi", schema(value_type = Object))]
    pub fields: Body,
}

/// A part of a filter, and how many records it allows by itself
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct FilterPart {
    /// CQL2
    pub text: String,
    pub allowed: usize,
    #[cfg_attr(feature = "openapi", schema(no_recursion))]
    pub parts: Vec<FilterPart>,
}

/// How a search was understood and run
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Explanation {
    /// For people to read
    pub text: String,
    /// The filter as it was understood
    #[cfg_attr(feature = "openapi", schema(required))]
    pub filter: Option<FilterPart>,
    /// The same as CQL2 JSON
    #[cfg_attr(feature = "openapi", schema(required, value_type = Option<Object>))]
    pub filter_json: Option<Value>,
}

/// How candidates were found
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Strategy {
    /// Scanned every row that has a vector
    ScanAll,
    /// Scanned the rows that the filter allows
    ScanAllowed,
    /// Scanned the index's codes of the allowed rows and re-ranked the nearest
    ScanStored,
    /// Walked the graph
    Walk,
    /// Walked the graph with a wider beam; only allowed nodes could be hits
    WalkAllowed,
    /// Visited the nearest cells
    Visit,
    /// Visited cells, of the index or beside its graph, for their allowed rows
    VisitAllowed,
}

impl Strategy {
    /// The word in JSON.
    pub fn word(self) -> &'static str {
        match self {
            Strategy::ScanAll => "scan-all",
            Strategy::ScanAllowed => "scan-allowed",
            Strategy::ScanStored => "scan-stored",
            Strategy::Walk => "walk",
            Strategy::WalkAllowed => "walk-allowed",
            Strategy::Visit => "visit",
            Strategy::VisitAllowed => "visit-allowed",
        }
    }
}

/// A strategy that the planner compared
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Considered {
    pub strategy: Strategy,
    /// The sum of its costs
    pub expected_us: f64,
    pub costs: Vec<SearchCost>,
}

/// What a search spends its time on
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum CostOf {
    /// What it takes whatever it looks at
    Search,
    /// Distances
    Distance,
    /// Rows that are compared by what the index stores of them
    Stored,
    /// Blocks of 32 rows that are held against the filter
    Checked,
    /// Blocks of 32 codes that are compared
    Compared,
    /// Allowed rows in cells that are compared one by one
    Picked,
    /// Rows newer than the index
    Newer,
}

impl CostOf {
    /// Several of them, in words.
    pub fn words(self) -> &'static str {
        match self {
            CostOf::Search => "search",
            CostOf::Distance => "distances",
            CostOf::Stored => "stored rows",
            CostOf::Checked => "blocks checked",
            CostOf::Compared => "blocks compared",
            CostOf::Picked => "rows compared",
            CostOf::Newer => "newer rows",
        }
    }
}

/// A part of what a strategy was expected to take
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SearchCost {
    pub of: CostOf,
    /// How many were expected
    pub n: usize,
    /// Nanoseconds of one of them on this machine, as measured
    pub ns_each: f64,
}

/// What the planner decided, and by which numbers
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SearchPlan {
    pub strategy: Strategy,
    /// Rows that could be an answer before the filter
    pub rows: usize,
    /// Rows that the filter allows; all rows without a filter
    pub allowed: usize,
    /// Allowed rows that are newer than the index; they were scanned
    pub unindexed: usize,
    /// The settings that were taken in place of those asked for, because the filter leaves less of what is near
    #[cfg_attr(feature = "openapi", schema(required))]
    pub widened: Option<Settings>,
    /// The preferred first: the cheapest, unless a scan takes at most 1.4 times as long as a filtered walk or visit
    pub considered: Vec<Considered>,
}

/// What a search did
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Work {
    /// Distances evaluated
    pub distances: usize,
    /// Nodes whose neighbours were read, or cells visited
    pub hops: usize,
    /// Blocks of 32 codes that were compared under a filter
    pub blocks: usize,
    /// Whether the search was repeated with wider settings, because its hits were farther than the neighbours of nearly all
    /// records, or with cells of most
    #[serde(default)]
    pub repeated: bool,
}

/// How the answer came about
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Via {
    pub column: String,
    /// `cosine`, `euclidean` or `dot`
    pub metric: String,
    /// Null for an exact search
    #[cfg_attr(feature = "openapi", schema(required))]
    pub index: Option<String>,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub recipe: Option<String>,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub settings: Option<Settings>,
    /// The target that measured the settings, where a recall was asked for
    #[cfg_attr(feature = "openapi", schema(required))]
    pub target: Option<MeasuredTarget>,
    pub plan: SearchPlan,
    pub work: Work,
    /// Whether the hits are certainly the nearest
    pub exact: bool,
}

/// A target that was solved, and what it measured
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct MeasuredTarget {
    pub id: i64,
    /// That was asked of it
    pub recall: f64,
    /// That was measured on queries which did not choose the settings
    pub achieved: f64,
    pub k: usize,
    /// Whether the collection has changed since
    pub stale: bool,
}

/// Microseconds in each stage
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Timing {
    pub encode_us: f64,
    /// With a filter that an earlier search ran on the same records, the time to find its answer
    pub filter_us: f64,
    pub plan_us: f64,
    pub search_us: f64,
    pub fetch_us: f64,
    pub total_us: f64,
}

/// Advice that comes with an answer
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Notice {
    pub code: String,
    pub text: String,
}

/// The answer to a search
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SearchAnswer {
    /// Nearest first
    pub hits: Vec<Hit>,
    pub via: Via,
    /// The saved search that answered, where one was asked
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub saved: Option<AskedSaved>,
    /// The answer includes every batch up to this revision
    pub revision: u64,
    pub timing: Timing,
    pub notices: Vec<Notice>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub explain: Option<Explanation>,
}

/// The answers to many searches
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SearchAnswers {
    /// In the order of the searches
    pub answers: Vec<SearchAnswer>,
}
