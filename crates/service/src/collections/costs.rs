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
    let part = |part: &str, name: &str, n: u64, database: u64, memory: usize, mapped: usize| wire::CostPart {
        part: part.into(),
        name: name.into(),
        n,
        database,
        disk: 0,
        memory: memory as u64,
        mapped: mapped as u64,
        coverage: None,
    };
    let (n, bytes) = registry.catalog.record_bytes(live.id).await?;
    let in_files = table.n_bytes_mapped_documents();
    let mut parts = vec![part("records", "keys and fields", n, bytes, table.n_bytes_keys(), in_files)];
    // Segments hold all of the records and vectors.
    parts[0].disk = table.segments().map(|s| s.n_bytes() as u64).sum();
    for (i, field) in table.schema().fields.iter().enumerate() {
        let mut present = table.alive().to_set();
        present.difference_with(&table.missing(i));
        let n = present.count_ones(..) as u64;
        parts.push(part("field", &field.name, n, 0, table.column(i).n_bytes(), 0));
    }
    for (column, held) in live.columns().iter().zip(table.vectors()) {
        let (n, bytes) = registry.catalog.vector_bytes(column.id).await?;
        parts.push(part("vectors", &column.name, n, bytes, held.n_bytes(), held.n_bytes_mapped()));
    }
    for index in view::indexes(&live) {
        let attached = live.index(&index.name).ok();
        let held = attached.and_then(|i| Some(i.attached.as_ref()?.n_bytes_held())).unwrap_or(0);
        let copied = index.n_bytes_copied;
        let mapped = (index.n_bytes_vectors + index.n_bytes_structure).saturating_sub(copied);
        let mut part = part("index", &index.name, index.n_rows as u64, 0, held + copied, mapped);
        part.disk = index.n_bytes_file as u64;
        part.coverage = view::coverage(&index);
        parts.push(part);
    }
    let written_at = registry.catalog.collection(live.id).await?.about.written_at;
    Ok(wire::Costs {
        database: parts.iter().map(|p| p.database).sum(),
        disk: parts.iter().map(|p| p.disk).sum(),
        memory: parts.iter().map(|p| p.memory).sum(),
        mapped: parts.iter().map(|p| p.mapped).sum(),
        parts,
        written_at,
        revision: table.revision(),
    })
}
