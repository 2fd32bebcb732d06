//! Filters over the rows of a collection.

use crate::problem::{Kind, Problem, Result};
use zesty_engine::Schema;
use zesty_engine::filter::{Filter, Test};
use zesty_wire as wire;

/// Reads a filter; `None` when it is blank.
pub fn read_filter(filter: &wire::Filter) -> Result<Option<Filter>> {
    let json = match filter {
        wire::Filter::Text(text) if text.trim().is_empty() => return Ok(None),
        wire::Filter::Text(text) if text.trim_start().starts_with('{') => serde_json::from_str(text)
            .map_err(|e| {
                let detail = format!("the filter begins with {{ and is not CQL2 JSON: {e}");
                Problem::new(Kind::InvalidFilter, detail).at("/filter")
            })?,
        wire::Filter::Text(text) => {
            return Filter::from_text(text).map(Some).map_err(|e| Problem::filter(&e, text));
        }
        wire::Filter::Json(json) => json.clone(),
    };
    Filter::from_json(&json).map(Some).map_err(|e| Problem::filter(&e, ""))
}

/// A filter, and the same against the fields it speaks of; `None` when it is absent or blank.
pub fn read_and_compile(schema: &Schema, filter: Option<&wire::Filter>) -> Result<Option<(Filter, Test)>> {
    let Some(input) = filter else { return Ok(None) };
    let Some(read) = read_filter(input)? else { return Ok(None) };
    let test = read.compile(schema).map_err(|e| Problem::filter(&e, input.text()))?;
    Ok(Some((read, test)))
}
