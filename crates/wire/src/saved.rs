//! Saved searches: what they ask, what they are given, and how they fare.

use crate::strict::object;
use crate::{Observed, PulseStep};
use chrono::{DateTime, Utc};
use indexmap::IndexMap;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// The JSON type of a value
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum ValueType {
    String,
    Integer,
    Number,
    Boolean,
    Array,
}

/// What a string holds
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum ValueFormat {
    /// A day, such as 1931-10-04
    Date,
    /// A moment in RFC 3339, such as 1931-10-04T18:30:00Z
    DateTime,
}

/// What an array holds
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Items {
    /// Not `array`
    pub r#type: ValueType,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub format: Option<ValueFormat>,
}

/// A value that a saved search is given, described with JSON Schema (2020-12). Without `default` and `optional` it has to
/// be given
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, rename_all = "camelCase")]
pub struct Parameter {
    pub r#type: ValueType,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub format: Option<ValueFormat>,
    /// For an array
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub items: Option<Items>,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub description: String,
    /// What it is when it is not given
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<serde_json::Value>))]
    pub default: Option<Value>,
    /// The values that it takes, up to 1000
    #[serde(default, rename = "enum", skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<Vec<serde_json::Value>>))]
    pub one_of: Option<Vec<Value>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub minimum: Option<f64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub maximum: Option<f64>,
    /// Characters of a string, or of each in an array; 1 to 100000; 10000 when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_length: Option<usize>,
    /// Of an array, 1 to 100000; 1000 when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_items: Option<usize>,
    /// Whether it may be left out: then the condition of the filter that names it is left out too, and so is the member
    /// of the search that it would be
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub optional: bool,
}

/// What a saved search asks
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct SavedDefinition {
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub description: String,
    /// A search, in which `{"parameter": "name"}` can be the value of text, vector, examples, counterexamples, leave_out,
    /// k, skip, score_at_least and distance_at_most. In its filter, `:name` stands for a value in CQL2 text, and
    /// `{"parameter": "name"}` in CQL2 JSON
    #[serde(deserialize_with = "object")]
    #[cfg_attr(feature = "openapi", schema(value_type = Object))]
    pub search: Map<String, Value>,
    /// By name, in the order they are shown in: a letter, then letters, digits and _; up to 64 bytes. Up to 50
    #[serde(default)]
    pub parameters: IndexMap<String, Parameter>,
}

/// A version of a saved search; versions never change
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SavedVersion {
    /// From 1
    pub version: i32,
    pub definition: SavedDefinition,
    /// What each parameter takes, in words
    pub takes: IndexMap<String, String>,
    pub made_at: DateTime<Utc>,
    /// The key that made it; empty for whoever may only ask
    pub made_by: String,
}

/// A saved search
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SavedSearch {
    pub collection: String,
    pub name: String,
    /// The path that answers
    pub path: String,
    /// The version that answers; null while there are only drafts
    #[cfg_attr(feature = "openapi", schema(required))]
    pub live: Option<i32>,
    /// The newest first, up to 100; in a list, the newest and the one that answers. Whoever may only ask sees the latter
    pub versions: Vec<SavedVersion>,
    /// Why the version that answers does not fit the collection any more, where it does not
    #[cfg_attr(feature = "openapi", schema(required))]
    pub trouble: Option<String>,
}

/// The saved searches of a collection
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SavedList {
    pub saved: Vec<SavedSearch>,
}

/// The version that answers from now on
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct LiveVersion {
    pub version: i32,
}

/// Which saved search answered
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct AskedSaved {
    pub name: String,
    pub version: i32,
}

/// How a saved search fared on this node in the last hour, and the recall that was observed of it
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SavedTraffic {
    /// Seconds of each step
    pub step_s: u64,
    /// The minutes in which it was asked, the oldest first
    pub steps: Vec<PulseStep>,
    /// Searches of the last hour
    pub searches: u64,
    /// Of them, in microseconds; within a fifth
    #[cfg_attr(feature = "openapi", schema(required))]
    pub p50_us: Option<f64>,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub p99_us: Option<f64>,
    /// Of the last 24 hours, by index, on all nodes; empty unless the collection's recall is watched
    pub observed: Vec<Observed>,
}
