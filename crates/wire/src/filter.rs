//! Filters as they come over HTTP: CQL2 text or CQL2 JSON.

use crate::strict::{Budget, Strict};
use serde::de::DeserializeSeed;
use serde::{Deserialize, Deserializer, Serialize};
use serde_json::Value;

/// Bytes that a filter may have.
pub const MAX_FILTER_BYTES: usize = 1 << 20;

/// A filter as CQL2 text or as CQL2 JSON; text that begins with `{` is read as JSON
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(untagged)]
pub enum Filter {
    Text(String),
    #[cfg_attr(feature = "openapi", schema(value_type = Object))]
    Json(Value),
}

impl<'de> Deserialize<'de> for Filter {
    /// JSON is read only as far as a filter may be long: a large one would take many times its bytes in memory.
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let budget = Budget::new(MAX_FILTER_BYTES, "the filter");
        Ok(match DeserializeSeed::deserialize(Strict { budget: Some(&budget) }, deserializer)? {
            Value::String(text) => Filter::Text(text),
            json => Filter::Json(json),
        })
    }
}

impl Filter {
    /// The text; empty for CQL2 JSON.
    pub fn text(&self) -> &str {
        match self {
            Filter::Text(text) => text,
            Filter::Json(_) => "",
        }
    }
}

impl From<&str> for Filter {
    fn from(text: &str) -> Filter {
        Filter::Text(text.to_owned())
    }
}

/// A filter to be read
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct FilterRequest {
    pub filter: Filter,
}

/// A filter in both forms, and what it allows
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct FilterReading {
    /// Canonical CQL2 text
    pub text: String,
    /// CQL2 JSON
    #[cfg_attr(feature = "openapi", schema(value_type = Object))]
    pub json: Value,
    /// Records that it allows
    pub allowed: usize,
    /// Records in the collection
    pub of: usize,
}
