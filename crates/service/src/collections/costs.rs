//! What a collection takes, in bytes.

use crate::access::grant::{Grant, Scope};
use crate::collections::registry::Registry;
use crate::collections::view;
use crate::problem::Result;
use zesty_wire as wire;

/// Bytes in MariaDB, on disk and in memory, part by part.
pub async fn costs(grant: &Grant, registry: &Registry, collection: &str) -> Result<wire::Costs> {
    let live = registry.collection(grant, Scope::Search, collection)?;
    let table = live.table.load_full();
    let part = |part: &str, name: &str, n: u64, database: u64, disk: u64, memory: usize| wire::CostPart {
        part: part.into(),
        name: name.into(),
        n,
        database,
        disk,
        memory: memory as u64,
        coverage: None,
    };
    let (n, bytes) = registry.catalog.record_bytes(live.id).await?;
    let mut parts = vec![part("records", "keys and fields", n, bytes, 0, table.n_bytes_keys())];
    for (i, field) in table.schema().fields.iter().enumerate() {
        let mut present = table.alive().to_set();
        present.difference_with(&table.missing(i));
        let n = present.count_ones(..) as u64;
        parts.push(part("field", &field.name, n, 0, 0, table.column(i).n_bytes()));
    }
    for (column, held) in live.columns().iter().zip(table.vectors()) {
        let (n, bytes) = registry.catalog.vector_bytes(column.id).await?;
        parts.push(part("vectors", &column.name, n, bytes, 0, held.vectors.n_bytes()));
    }
    for index in view::indexes(&live) {
        let memory = index.n_bytes_vectors + index.n_bytes_structure;
        let covered = (index.n_rows as usize).saturating_sub(index.n_dead);
        let all = covered + index.n_uncovered;
        let mut part = part("index", &index.name, index.n_rows as u64, 0, index.n_bytes_file as u64, memory);
        part.coverage = (all > 0).then(|| covered as f64 / all as f64);
        parts.push(part);
    }
    let written_at = registry.catalog.collection(live.id).await?.about.written_at;
    Ok(wire::Costs {
        database: parts.iter().map(|p| p.database).sum(),
        disk: parts.iter().map(|p| p.disk).sum(),
        memory: parts.iter().map(|p| p.memory).sum(),
        parts,
        written_at,
        revision: table.revision(),
    })
}
