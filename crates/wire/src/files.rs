//! Uploaded files, and what is found in them.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// A file to upload
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewUpload {
    /// The file's name; its ending says the format
    pub name: String,
    /// Its size, where it is known; a file of another size is refused
    pub bytes: Option<u64>,
}

/// An uploaded file
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Upload {
    pub id: String,
    /// Its ending says the format: .jsonl, .csv, .parquet, .arrow, .npy, .fvecs, .bvecs; text may end in .gz or .zst
    pub name: String,
    /// As announced; null when it was not known
    #[cfg_attr(feature = "openapi", schema(required))]
    pub bytes: Option<u64>,
    pub received: u64,
    /// Whether the whole file has arrived
    pub complete: bool,
    pub created_at: DateTime<Utc>,
}

/// Uploaded files
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct UploadList {
    /// Newest first
    pub files: Vec<Upload>,
}

/// A type that a column of a file could have, and what that would cost
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct TypeChoice {
    pub r#type: String,
    /// Rows that this type would reject: of the sampled rows, or of all rows for a type that was asked for
    pub n_rejected: u64,
    /// The first of them: its row and its value
    #[cfg_attr(feature = "openapi", schema(required, value_type = Option<Vec<Value>>))]
    pub first: Option<(u64, Value)>,
}

/// A column of a file that can become a field
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct FoundField {
    /// Its name in the file; members of objects by dotted path
    pub source: String,
    /// A name that a collection accepts
    pub name: String,
    /// string, integer, number, boolean, date, timestamp, array of strings, array of integers
    pub r#type: String,
    pub n_missing: u64,
    pub n_distinct: u64,
    pub examples: Vec<Value>,
    /// What a person should know before taking the type
    #[cfg_attr(feature = "openapi", schema(required))]
    pub remark: Option<String>,
    /// Other types that are possible, when the values are of several types
    #[serde(default)]
    pub choices: Vec<TypeChoice>,
}

/// A column of a file that can become a vector column
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct FoundVectors {
    pub source: String,
    pub name: String,
    pub dimensions: usize,
    /// f16, f32, f64, u8, or text for numbers that are written out
    pub element: String,
    pub n_missing: u64,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub remark: Option<String>,
}

/// Which columns of a file are taken, and what they become
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct FileMapping {
    /// The column that holds the keys; `key` when absent
    #[cfg_attr(feature = "openapi", schema(required))]
    pub key: Option<String>,
    /// Name in the file to name in the collection
    pub rename: BTreeMap<String, String>,
    /// Names in the file; all when absent
    #[cfg_attr(feature = "openapi", schema(required))]
    pub only: Option<Vec<String>>,
}

/// What a file holds
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Inspection {
    pub file: String,
    /// `jsonlines`, `csv`, `parquet`, `arrow`, `npy`, `fvecs` or `bvecs`
    pub format: String,
    /// Rows in the file, if the file says so
    #[cfg_attr(feature = "openapi", schema(required))]
    pub n_rows: Option<u64>,
    /// Rows that were read
    pub n_sampled: u64,
    /// The column that should hold the keys
    #[cfg_attr(feature = "openapi", schema(required))]
    pub key: Option<String>,
    pub fields: Vec<FoundField>,
    pub vectors: Vec<FoundVectors>,
    /// What is wrong with rows that were read
    pub troubles: Vec<String>,
    /// JSON Schema of the fields
    #[cfg_attr(feature = "openapi", schema(value_type = Object))]
    pub schema: Value,
    /// What a load must say to put the file into a collection made from it
    pub mapping: FileMapping,
}
