//! What filters can ask of a collection, and how one is understood.

use crate::access::grant::{Grant, Scope};
use crate::collections::registry::Registry;
use crate::node::threads::blocking;
use crate::problem::{Kind, Problem, Result};
use crate::records::select::read_and_compile;
use serde_json::{Map, Value, json};
use zesty_wire as wire;

/// Reads a filter: both of its forms, and how many records it allows.
pub async fn read(
    grant: &Grant,
    registry: &Registry,
    collection: &str,
    filter: wire::Filter,
) -> Result<wire::FilterReading> {
    let reach = registry.reach(grant, Scope::Search, collection)?;
    blocking(move || {
        let table = reach.live.table.load_full();
        let read = read_and_compile(table.schema(), Some(&filter))?;
        let (read, _) = read.ok_or_else(|| {
            Problem::new(Kind::InvalidFilter, "the filter is empty; TRUE allows every record").at("/filter")
        })?;
        let allowed = reach.allowed(&table, Some(&filter))?.count_ones(..);
        let of = reach.n_records(&table)?;
        Ok(wire::FilterReading { text: read.to_text(), json: read.to_json(), allowed, of })
    })
    .await
}

/// The fields that filters can ask of, as a JSON Schema (2020-12).
pub fn queryables(grant: &Grant, registry: &Registry, collection: &str) -> Result<Value> {
    let reach = registry.reach(grant, Scope::Search, collection)?;
    let table = reach.live.table.load();
    let fields = table.schema().fields.iter().filter(|f| !f.stored_only);
    let properties: Map<String, Value> = fields.map(|f| (f.name.clone(), f.to_json())).collect();
    Ok(json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": format!("/api/collections/{collection}/queryables"),
        "title": format!("The fields that filters of {collection} can use"),
        "type": "object",
        "properties": properties,
        "additionalProperties": false,
    }))
}
