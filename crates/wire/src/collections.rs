//! Collections and their vector columns.

use crate::{Index, ServingChoice};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// A collection to create
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewCollection {
    /// 1 to 64 of a-z, 0-9, - and _, beginning with a letter
    pub name: String,
    #[serde(default)]
    pub description: String,
    /// JSON Schema (2020-12) of the fields: `{"type": "object", "properties": {...}}`
    #[serde(default)]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<Object>))]
    pub fields: Option<Value>,
    /// Vector columns; more can be added later
    #[serde(default)]
    pub columns: Vec<NewColumn>,
}

/// A vector column to create
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewColumn {
    pub name: String,
    /// 1 to 16,384; not needed when `encoder` is given
    pub dimensions: Option<u32>,
    /// `cosine` (when absent), `euclidean` or `dot`
    pub metric: Option<String>,
    /// The encoder that makes this column's vectors from text
    pub encoder: Option<String>,
    /// What the encoder reads: field names in braces, such as `{note}`
    pub template: Option<String>,
}

/// A change of a collection; absent members stay as they are
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct CollectionPatch {
    #[serde(skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// The whole JSON Schema of the fields. Fields can be added, described and widened, but not removed
    #[serde(skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<Object>))]
    pub fields: Option<Value>,
    /// The column that searches use when they name none
    #[serde(skip_serializing_if = "Option::is_none")]
    pub default_column: Option<String>,
}

/// A vector column
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Column {
    pub name: String,
    pub dimensions: u32,
    /// `cosine`, `euclidean` or `dot`
    pub metric: String,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub encoder: Option<String>,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub template: Option<String>,
    /// Records that have a vector in this column
    pub n_vectors: usize,
    /// What answers searches that name no index; null for the exact scan
    #[cfg_attr(feature = "openapi", schema(required))]
    pub serving: Option<ServingChoice>,
    /// Bytes of vectors that the process holds: those in no segment file yet
    pub n_bytes_memory: usize,
    /// Bytes of vectors mapped from segment files, which take memory only while they are used
    pub n_bytes_mapped: usize,
}

/// A collection
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Collection {
    pub name: String,
    pub description: String,
    /// JSON Schema (2020-12)
    #[cfg_attr(feature = "openapi", schema(value_type = Object))]
    pub fields: Value,
    pub columns: Vec<Column>,
    /// The column that searches use when they name none; null while there is no column
    #[cfg_attr(feature = "openapi", schema(required))]
    pub default_column: Option<String>,
    pub indexes: Vec<Index>,
    pub n_records: usize,
    /// Grows with every batch that is written
    pub revision: u64,
    pub created_at: DateTime<Utc>,
    /// Grows with every change of fields or columns
    pub schema_version: i64,
    /// Why this node cannot write its copy of the records, where it cannot; new records stay in memory
    #[cfg_attr(feature = "openapi", schema(required))]
    pub trouble: Option<String>,
}

/// Every collection
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct CollectionList {
    pub collections: Vec<Collection>,
}

/// What one part of a collection takes, in bytes
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct CostPart {
    /// `records`, `field`, `vectors` or `index`
    pub part: String,
    pub name: String,
    /// Rows, values or vectors that it holds
    pub n: u64,
    /// Bytes stored in MariaDB, without what its tables add
    pub database: u64,
    /// Bytes of files in the data directory
    pub disk: u64,
    /// Bytes that the process holds
    pub memory: u64,
    /// Bytes mapped from files. They take memory only while they are used, and the system can take it back
    pub mapped: u64,
    /// Of an index: the share of living vectors that it holds, 0 to 1
    #[cfg_attr(feature = "openapi", schema(required))]
    pub coverage: Option<f64>,
}

/// What a collection takes, in bytes, part by part
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Costs {
    pub parts: Vec<CostPart>,
    pub database: u64,
    pub disk: u64,
    pub memory: u64,
    pub mapped: u64,
    /// When a record was last written or deleted
    #[cfg_attr(feature = "openapi", schema(required))]
    pub written_at: Option<DateTime<Utc>>,
    pub revision: u64,
}

/// A record whose text the encoder refused
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct UnencodedRecord {
    pub key: String,
    pub reason: String,
}

/// Records that have no vector in a column
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Unencoded {
    /// Records without a vector in the column, for whatever reason
    pub n_without_vector: usize,
    pub records: Vec<UnencodedRecord>,
}

/// A collection that was dropped and can be restored
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct DroppedCollection {
    pub id: i64,
    /// What it was called
    pub name: String,
    pub description: String,
    pub revision: u64,
    pub dropped_at: DateTime<Utc>,
    /// The key that dropped it
    pub dropped_by: String,
    /// Then it is deleted for good
    pub restorable_until: DateTime<Utc>,
}

/// Dropped collections, the last first
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct DroppedList {
    pub dropped: Vec<DroppedCollection>,
}

/// How to bring a dropped collection back
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RestoreRequest {
    /// Another name; the one that it had when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
}

/// Another name for a collection
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RenameRequest {
    pub name: String,
}

/// The collection to change names with
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct SwapRequest {
    pub with: String,
    /// Even if the other one lacks live saved searches that this one answers
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub anyway: bool,
}

/// A copy of a collection
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct CloneRequest {
    pub name: String,
    /// Copy records and saved searches alone; searches of the copy are then exact
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub without_indexes: bool,
}
