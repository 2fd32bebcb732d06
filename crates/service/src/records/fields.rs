//! The values of fields, counted.

use crate::access::grant::{Grant, Scope};
use crate::collections::registry::Registry;
use crate::node::threads::blocking;
use crate::problem::{Kind, Problem, Result};
use crate::records::references::lost_references;
use std::sync::Arc;
use zesty_engine::counts::{FieldCounts, count};
use zesty_engine::schema::Field;
use zesty_wire as wire;

/// Counts the values of every field over the records that a filter allows; lists up to `limit` values of each.
pub async fn fields(
    grant: &Grant,
    registry: &Arc<Registry>,
    collection: &str,
    filter: Option<wire::Filter>,
    limit: usize,
) -> Result<wire::Fields> {
    let reach = registry.reach(grant, Scope::Search, collection)?;
    let registry = registry.clone();
    if limit > 1000 {
        let detail = format!("limit is {limit}; it goes from 0 to 1000");
        return Err(Problem::new(Kind::WrongShape, detail).at("/limit"));
    }
    blocking(move || {
        let table = reach.live.table.load_full();
        let rows = reach.allowed(&table, filter.as_ref())?;
        let fields = table.schema().fields.iter().enumerate().map(|(i, f)| {
            let counts = count(&table, i, &rows, limit);
            if reach.is_bound() {
                // Bytes and references are counted over all records.
                return view(f, 0, None, counts);
            }
            let lost = lost_references(&reach.grant, &registry, &reach.live, i);
            view(f, table.column(i).n_bytes(), lost.map(|(n, _)| n), counts)
        });
        Ok(wire::Fields { n_records: rows.count_ones(..), fields: fields.collect() })
    })
    .await
}

fn view(field: &Field, n_bytes: usize, n_lost_references: Option<usize>, counts: FieldCounts) -> wire::Field {
    let values = counts.values.into_iter().map(|v| wire::ValueCount { value: v.value, count: v.count });
    let histogram = counts.histogram.map(|h| wire::Histogram { low: h.low, high: h.high, counts: h.counts });
    wire::Field {
        name: field.name.clone(),
        r#type: field.kind.name().into(),
        description: field.description.clone(),
        stored_only: field.stored_only,
        refers_to: field.refers_to.clone(),
        n_lost_references,
        n_bytes,
        n_present: counts.n_present,
        n_missing: counts.n_missing,
        n_distinct: counts.n_distinct,
        values: values.collect(),
        histogram,
    }
}
