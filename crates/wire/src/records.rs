//! Records: written, read, changed and deleted.

use crate::strict::object;
use crate::vectors::vectors;
use crate::{Body, Filter};
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use serde_json::{Map, Value};
use std::collections::BTreeMap;

/// A record to write
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewRecord {
    /// The caller's own name for the record: 1 to 190 bytes
    pub key: String,
    #[serde(default, deserialize_with = "object")]
    #[cfg_attr(feature = "openapi", schema(value_type = Object))]
    pub fields: Map<String, Value>,
    /// By vector column. If a vector is missing, a column with an encoder and a template makes it
    #[serde(default, deserialize_with = "vectors")]
    #[cfg_attr(feature = "openapi", schema(value_type = BTreeMap<String, crate::vectors::Vector>))]
    pub vectors: BTreeMap<String, Option<Vec<f32>>>,
}

/// Records to write together
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RecordBatch {
    /// Up to 10,000
    #[cfg_attr(feature = "openapi", schema(value_type = Vec<NewRecord>))]
    pub records: Vec<Box<RawValue>>,
    /// Write the good records and list the others as rejected, instead of refusing the whole batch
    #[serde(default)]
    pub set_aside: bool,
    /// The encoder that made the vectors; a column of another encoder refuses them
    pub encoder: Option<String>,
}

/// A record that was not written, and why
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Rejected {
    /// Its place in the batch, from 0
    pub at: usize,
    /// The kind of problem
    pub word: String,
    pub detail: String,
}

/// What a write did; it is committed and searchable
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Written {
    pub read: usize,
    pub new: usize,
    pub replaced: usize,
    /// Records that were stored exactly so already
    pub unchanged: usize,
    pub revision: u64,
    /// Only if the batch asked to set bad records aside
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rejected: Vec<Rejected>,
}

/// A record
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Record {
    pub key: String,
    #[cfg_attr(feature = "openapi", schema(value_type = Object))]
    pub fields: Body,
    /// The revision that wrote it
    pub revision: u64,
    /// By vector column, as they were given; only if they were asked for
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub vectors: Option<BTreeMap<String, Option<Vec<f32>>>>,
}

/// A page of records
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct RecordPage {
    pub records: Vec<Record>,
    /// Give this as `after` for the next page; null at the end
    #[cfg_attr(feature = "openapi", schema(required))]
    pub next: Option<String>,
}

/// A change of a record (JSON Merge Patch, RFC 7396)
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RecordPatch {
    /// Sets members; null removes a value
    #[serde(default, deserialize_with = "object")]
    #[cfg_attr(feature = "openapi", schema(value_type = Object))]
    pub fields: Map<String, Value>,
    /// By vector column; null removes a vector
    #[serde(default, deserialize_with = "vectors")]
    #[cfg_attr(feature = "openapi", schema(value_type = BTreeMap<String, crate::vectors::Vector>))]
    pub vectors: BTreeMap<String, Option<Vec<f32>>>,
}

/// A change of many records
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct PatchRequest {
    /// Change these records; unknown keys are ignored
    #[serde(skip_serializing_if = "Option::is_none")]
    pub keys: Option<Vec<String>>,
    /// Change the records that this CQL2 filter allows
    #[serde(skip_serializing_if = "Option::is_none")]
    pub filter: Option<Filter>,
    /// As for one record
    pub patch: RecordPatch,
    /// Only count
    #[serde(default)]
    pub dry_run: bool,
    /// Refuse unless exactly this many records would change; a dry run says how many
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expected: Option<usize>,
}

/// What a change of many records did. `matched` = `changed` + `unchanged` + `left_out`, except for a dry run
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Patched {
    /// Records that were named or allowed, and exist
    pub matched: usize,
    pub changed: usize,
    /// Records that were already as the patch would make them
    pub unchanged: usize,
    /// Records that others changed or deleted during the request, so that the filter no longer allowed them
    pub left_out: usize,
    /// Keys of some of those
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left_out_keys: Vec<String>,
    pub revision: u64,
}

/// A deletion of many records
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct DeleteRequest {
    /// Delete these records; unknown keys are ignored
    #[serde(skip_serializing_if = "Option::is_none")]
    pub keys: Option<Vec<String>>,
    /// Delete the records that this CQL2 filter allows
    #[serde(skip_serializing_if = "Option::is_none")]
    pub filter: Option<Filter>,
    /// Only count
    #[serde(default)]
    pub dry_run: bool,
    /// Refuse unless exactly this many records would be deleted; a dry run says how many
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expected: Option<usize>,
}

/// What a deletion of many records did. `matched` = `deleted` + `left_out`, except for a dry run
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Deleted {
    /// Records that were named or allowed, and exist
    pub matched: usize,
    pub deleted: usize,
    /// Records that others changed or deleted during the request, so that the filter no longer allowed them
    pub left_out: usize,
    /// Keys of some of those
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left_out_keys: Vec<String>,
    pub revision: u64,
}
