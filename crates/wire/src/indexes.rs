//! Indexes, and the recipes that they are built from.

use crate::Settings;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// A recipe as one line of text, or in its JSON form
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(untagged)]
pub enum RecipeText {
    Text(String),
    #[cfg_attr(feature = "openapi", schema(value_type = Object))]
    Form(Value),
}

/// An index to build
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewIndex {
    /// Made from the recipe when absent
    pub name: Option<String>,
    /// The collection's default column when absent
    pub column: Option<String>,
    /// One line, such as `graph(links=16, build=200) | int8 | rescore(f32)`; or `auto`, `auto(recall=0.95, memory=200)`;
    /// or the JSON form
    pub recipe: RecipeText,
    /// The same recipe, data, seed and one thread give the same index; 1 when absent
    pub seed: Option<u64>,
    /// Threads to build with, 1 to 256; all cores when absent
    pub threads: Option<usize>,
}

/// A recipe to explain
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RecipeRequest {
    /// As for an index
    pub recipe: RecipeText,
    /// Takes rows, dimensions and metric from a column of this collection
    pub collection: Option<String>,
    pub column: Option<String>,
    /// Rows to calculate with; those of the collection when absent
    pub rows: Option<usize>,
    /// Dimensions to calculate with; those of the column when absent
    pub dimensions: Option<usize>,
    /// `cosine`, `euclidean` or `dot`; that of the column, or cosine, when absent
    pub metric: Option<String>,
}

/// What an index is expected to take
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Expected {
    /// Bytes that searches read throughout: links, cells, codes or vectors
    pub memory_bytes: u64,
    /// Bytes of the whole file; vectors for re-ranking are part of it, and may stay on disk
    pub file_bytes: u64,
    /// Processor seconds of the build, about, on a CPU of 2024
    pub build_seconds: f64,
}

/// One stage of a recipe, explained
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct StageNote {
    pub stage: String,
    pub what: String,
    /// Bytes that each row adds
    pub bytes_per_row: f64,
    /// Bytes that do not depend on the number of rows
    pub fixed_bytes: u64,
}

/// What a recipe means, stage by stage
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct RecipeExplained {
    pub rows: usize,
    pub dimensions: usize,
    pub metric: String,
    /// Why it was chosen, if the request said `auto`
    #[cfg_attr(feature = "openapi", schema(required))]
    pub why: Option<String>,
    /// The JSON form
    #[cfg_attr(feature = "openapi", schema(value_type = Object))]
    pub form: Value,
    /// The canonical text
    pub recipe: String,
    pub stages: Vec<StageNote>,
    pub expected: Expected,
    /// Rows from which means, directions and centres are learned
    #[cfg_attr(feature = "openapi", schema(required))]
    pub learns_from: Option<usize>,
    pub notices: Vec<String>,
}

/// What the last sweep of an index gave at the settings it is served with, or near the knee
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Measured {
    pub sweep: i64,
    pub settings: Settings,
    pub k: usize,
    pub recall_mean: f64,
    pub p50_us: f64,
    pub queries_per_s: f64,
}

/// An index
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Index {
    pub name: String,
    pub column: String,
    /// In canonical form
    pub recipe: String,
    /// `building`, `ready`, `failed` or `unloaded`
    pub state: String,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub error: Option<String>,
    /// Rows it was built over
    pub n_rows: i64,
    /// The revision it covers
    pub revision: i64,
    /// Records newer than the index; searches scan them
    pub n_uncovered: usize,
    /// Rows whose record was deleted or replaced since
    pub n_dead: usize,
    pub n_bytes_file: i64,
    pub n_bytes_vectors: usize,
    pub n_bytes_structure: usize,
    /// What searches read throughout: structure and codes, without the vectors for re-ranking
    pub n_bytes_memory: usize,
    /// Of that, what this node has copied from the file into large pages of memory
    #[serde(default)]
    pub n_bytes_copied: usize,
    /// What was expected of the recipe for these rows
    #[cfg_attr(feature = "openapi", schema(required))]
    pub expected: Option<Expected>,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub measured: Option<Measured>,
    pub build_seconds: f64,
    pub seed: i64,
    pub created_at: DateTime<Utc>,
    /// Whether it answers searches that name no index
    pub serving: bool,
}

/// The indexes of a collection
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct IndexList {
    pub indexes: Vec<Index>,
}
