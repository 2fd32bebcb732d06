//! Measurements as they are kept and shown.

use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::problem::{Problem, Result};
use serde::de::DeserializeOwned;
use zesty_catalog::measurement;
use zesty_wire as wire;

/// A sweep or a target, by its number.
pub async fn found(
    registry: &Registry,
    live: &Live,
    kind: &'static str,
    id: i64,
) -> Result<measurement::Model> {
    let model = registry.catalog.measurement(live.id, kind, id).await?;
    model.ok_or_else(|| Problem::unknown(kind, &id.to_string(), []))
}

/// Empty where the column is gone.
pub fn column_name(live: &Live, id: i64) -> String {
    live.columns().iter().find(|c| c.id == id).map_or(String::new(), |c| c.name.clone())
}

/// What was asked and what came of it; `None`, with a warning in the log, where it cannot be read.
pub fn read<S: DeserializeOwned, R: DeserializeOwned>(m: &measurement::Model) -> Option<(S, R)> {
    let read = serde_json::from_value(m.spec.clone())
        .and_then(|s| Ok((s, serde_json::from_value(m.result.clone())?)));
    let told = |e: &serde_json::Error| tracing::warn!(kind = m.kind, id = m.id, "it is not shown: {e}");
    read.inspect_err(told).ok()
}

pub fn view(live: &Live, m: measurement::Model) -> Option<wire::Sweep> {
    let (spec, result): (_, wire::SweepResult) = read(&m)?;
    Some(wire::Sweep {
        id: m.id,
        column: column_name(live, m.column_id),
        stale: result.revision != live.table.load().revision(),
        spec,
        result,
        created_at: m.created_at,
    })
}

/// The sweeps of a collection, newest first.
pub async fn views(registry: &Registry, live: &Live) -> Result<Vec<wire::Sweep>> {
    let all = registry.catalog.measurements(live.id, "sweep").await?;
    Ok(all.into_iter().filter_map(|m| view(live, m)).collect())
}
