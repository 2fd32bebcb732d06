//! Loads: uploaded files written into a collection.

use crate::Job;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// What happens when a row is wrong
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum BadRows {
    /// The first one stops the load; the rows before it are committed
    #[default]
    Stop,
    /// They go to a file with their reasons, and the load continues
    SetAside,
}

/// What happens to a record whose key exists already
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Known {
    /// The row replaces the whole record
    Replace,
    /// The row sets its fields and vectors, the others stay (RFC 7396)
    Merge,
}

/// How rows of a file of vectors find their records
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Match {
    /// The first row belongs to the first record, and so on; the counts must agree
    #[default]
    Row,
    /// By the key that the rows of both files have
    Key,
}

/// Vectors of one column in a file of their own
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct LoadVectors {
    /// The collection's default column when absent
    pub column: Option<String>,
    /// An uploaded file: .npy, .fvecs, .bvecs, or one with keys to match by
    pub file: String,
    /// An uploaded file with the keys of the rows, one a line
    pub keys: Option<String>,
}

/// A load to start
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct LoadRequest {
    /// An uploaded file of records. Without it the rows of `vectors` are the records, with keys 0, 1, ...
    pub records: Option<String>,
    pub vectors: Vec<LoadVectors>,
    /// `row` (the first vector belongs to the first record, and so on) or `key`
    #[serde(rename = "match")]
    pub matching: Match,
    /// The column that holds the keys; `key` when absent
    pub key: Option<String>,
    /// Name in the file to name in the collection
    pub rename: BTreeMap<String, String>,
    /// Columns of the file to take; all when absent
    pub only: Option<Vec<String>>,
    pub bad_rows: BadRows,
    /// `replace` when absent; `merge` for a load of vectors alone, because its records have fields already
    pub known: Option<Known>,
    /// The encoder that made the vectors; a column of another encoder refuses them
    pub encoder: Option<String>,
    /// Records committed together, 1 to 10,000; 1,000 when absent
    pub batch: Option<usize>,
}

impl LoadRequest {
    /// The ids of the uploaded files that it reads.
    pub fn files(&self) -> impl Iterator<Item = &String> {
        let of_vectors = self.vectors.iter().flat_map(|v| std::iter::once(&v.file).chain(&v.keys));
        self.records.iter().chain(of_vectors)
    }
}

/// How to continue a stopped load
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ResumeRequest {
    /// As before when absent
    pub bad_rows: Option<BadRows>,
}

/// A load and how far it is. `read` = `new` + `replaced` + `unchanged` + `rejected`
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Load {
    pub id: i64,
    pub collection: String,
    /// `running`, `done`, `stopped` or `cancelled`; the last two can be resumed
    pub state: String,
    /// Why it stopped
    #[cfg_attr(feature = "openapi", schema(required))]
    pub error: Option<String>,
    /// The job that works on it, or did last
    pub job: i64,
    /// The request
    #[cfg_attr(feature = "openapi", schema(value_type = Object))]
    pub spec: Value,
    /// Names of its files
    pub files: Vec<String>,
    pub read: u64,
    pub new: u64,
    pub replaced: u64,
    pub unchanged: u64,
    pub rejected: u64,
    /// Written without a vector because the encoder refused their text
    pub unencoded: u64,
    pub created_at: DateTime<Utc>,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub finished_at: Option<DateTime<Utc>>,
}

/// Loads of a collection
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LoadList {
    /// Newest first, at most 50
    pub loads: Vec<Load>,
}

/// A load that has started
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct StartedLoad {
    pub load: i64,
    pub job: Job,
}

/// The result of a load's job. `read` = `new` + `replaced` + `unchanged` + `rejected`
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LoadResult {
    pub load: i64,
    pub read: u64,
    pub new: u64,
    pub replaced: u64,
    pub unchanged: u64,
    pub rejected: u64,
    /// Written without a vector because the encoder refused their text
    pub unencoded: u64,
    pub rows_per_s: f64,
    /// Records in the collection when the load began
    pub before: u64,
    /// Records in the database now
    pub in_database: u64,
    /// Records on this node now
    pub on_node: u64,
    pub others_wrote: bool,
    pub adds_up: bool,
    pub notices: Vec<String>,
    pub revision: u64,
}
