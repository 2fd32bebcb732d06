//! Measurements as they are kept and shown.

use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::problem::{Problem, Result};
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

pub fn view(live: &Live, m: measurement::Model) -> Option<wire::Sweep> {
    let (Ok(spec), Ok(result)) =
        (serde_json::from_value(m.spec), serde_json::from_value::<wire::SweepResult>(m.result))
    else {
        tracing::warn!(sweep = m.id, "a stored sweep cannot be read and is not shown");
        return None;
    };
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
