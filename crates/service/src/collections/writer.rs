//! Writes to a collection: through the database first, then into memory, then acknowledged.

use crate::collections::live::{Live, Writing, newer_schema, vector_changes};
use crate::collections::registry::Registry;
use crate::problem::{Kind, Problem, Result};
use std::sync::Arc;
use std::time::Duration;
use zesty_catalog::{
    CatalogError, Conflicts, KeyAt, LoadStep, Made, RecordWrite, VectorWrite, Written, json_length,
};
use zesty_engine::rows::{Change, Writer};

/// How long a write waits for those before it.
const PATIENCE: Duration = Duration::from_secs(30);

/// A step that runs on when its caller goes away.
async fn finished<T: Send + 'static>(
    what: &str,
    work: impl Future<Output = Result<T>> + Send + 'static,
) -> Result<T> {
    tokio::spawn(work).await.map_err(|e| Problem::new(Kind::Internal, format!("the {what} stopped: {e}")))?
}

impl Live {
    /// Waits for the writes before this one; refused when there is a newer schema, or the wait is too long.
    async fn writing(&self) -> Result<Writing> {
        let waited = tokio::time::timeout(PATIENCE, self.writer.clone().lock_owned()).await;
        let guard = waited.map_err(|_| {
            let detail = format!(
                "other writes to \"{}\" have held it for {} s, so nothing was written; try again",
                self.name,
                PATIENCE.as_secs()
            );
            Problem::new(Kind::Busy, detail)
        })?;
        if guard.is_none() { Err(newer_schema()) } else { Ok(guard) }
    }

    /// Makes what a write committed searchable here: by `apply` when nothing else was written meanwhile.
    async fn committed(
        self: &Arc<Self>,
        registry: &Registry,
        mut guard: Writing,
        before: u64,
        revision: u64,
        apply: impl FnOnce(&Live, &mut Writer) + Send + 'static,
    ) -> Result<()> {
        let Some(writer) = guard.as_mut() else { return Err(newer_schema()) };
        if before == writer.revision() {
            let live = self.clone();
            let applied = tokio::task::spawn_blocking(move || {
                let Some(writer) = guard.as_mut() else { return };
                apply(&live, writer);
                live.table.store(Arc::new(writer.snapshot()));
            });
            return applied
                .await
                .map_err(|e| Problem::new(Kind::Internal, format!("the write stopped: {e}")));
        }
        if revision <= writer.revision() {
            return Ok(());
        }
        self.follow_locked(registry, writer).await.map_err(|e| {
            tracing::warn!(collection = self.name, "a committed write is not searchable yet: {e}");
            let detail = format!(
                "the write is committed as revision {revision}, but MariaDB broke off before this node had read what \
                 others wrote before it; it becomes searchable when MariaDB answers"
            );
            Problem::new(Kind::Unsure, detail).with("revision", revision)
        })
    }

    /// What a refusal tells of this node: with a newer shape in the database, it is taken up before the caller hears.
    async fn refused(&self, registry: &Arc<Registry>, error: CatalogError) -> Problem {
        if matches!(error, CatalogError::Reshaped { .. })
            && let Err(e) = registry.refresh(self.id).await
        {
            tracing::warn!(collection = self.name, "cannot take up a newer schema: {e}");
        }
        error.into()
    }

    /// Writes a batch, as a step of a load or on its own. It is in the database and searchable here when
    /// this returns; it also gets there when the caller goes away meanwhile.
    pub async fn write(
        self: &Arc<Self>,
        registry: &Arc<Registry>,
        writes: Arc<Vec<RecordWrite>>,
        conflicts: Conflicts,
        step: Option<LoadStep>,
    ) -> Result<Written> {
        let (live, registry) = (self.clone(), registry.clone());
        finished("write", async move {
            let bytes = |w: &RecordWrite| {
                let vectors = w.vectors.iter().map(|v| match v {
                    VectorWrite::Set(v) => 8 * v.len(),
                    VectorWrite::Clear | VectorWrite::Keep => 0,
                });
                (json_length(&w.body) + w.key.len() + 100 + vectors.sum::<usize>()) as u64
            };
            registry.check_write(|| writes.iter().map(bytes).sum())?;
            let guard = live.writing().await?;
            let written =
                match registry.catalog.write(&live.target(), &writes, conflicts, step.as_ref()).await {
                    Ok(written) => written,
                    Err(e) => {
                        drop(guard);
                        return Err(live.refused(&registry, e).await);
                    }
                };
            let (before, revision, numbers) = (written.before, written.revision, written.numbers.clone());
            let apply = move |_: &Live, writer: &mut Writer| {
                let changes: Vec<Change> = writes
                    .iter()
                    .zip(numbers)
                    .filter_map(|(w, number)| {
                        Some(Change {
                            number: number?,
                            key: w.key.clone(),
                            revision,
                            body: w.body.as_object().cloned(),
                            vectors: vector_changes(&w.vectors),
                        })
                    })
                    .collect();
                writer.apply(revision, &changes);
            };
            live.committed(&registry, guard, before, revision, apply).await?;
            Ok(written)
        })
        .await
    }

    /// Gives records a vector in one column, or notes why they have none.
    /// Returns how many were given one; records that have changed since are passed over.
    pub async fn fill(
        self: &Arc<Self>,
        registry: &Arc<Registry>,
        column: i64,
        made: Vec<Made>,
    ) -> Result<usize> {
        let (live, registry) = (self.clone(), registry.clone());
        finished("write", async move {
            let guard = live.writing().await?;
            let filled = match registry.catalog.set_vectors(&live.target(), column, &made).await {
                Ok(filled) => filled,
                Err(e) => {
                    drop(guard);
                    return Err(live.refused(&registry, e).await);
                }
            };
            let (n, revision) = (filled.fill.vectors.len(), filled.fill.revision);
            let apply = move |live: &Live, writer: &mut Writer| live.apply_fill(writer, &filled.fill);
            live.committed(&registry, guard, filled.before, revision, apply).await?;
            Ok(n)
        })
        .await
    }

    /// Deletes records by key, each only at the revision that is expected of it, where one is.
    pub async fn delete(
        self: &Arc<Self>,
        registry: &Arc<Registry>,
        keys: Vec<KeyAt>,
        conflicts: Conflicts,
    ) -> Result<Written> {
        let (live, registry) = (self.clone(), registry.clone());
        finished("deletion", async move {
            let guard = live.writing().await?;
            let written = match registry.catalog.delete(&live.target(), &keys, conflicts).await {
                Ok(written) => written,
                Err(e) => {
                    drop(guard);
                    return Err(live.refused(&registry, e).await);
                }
            };
            let (before, revision, numbers) = (written.before, written.revision, written.numbers.clone());
            let apply = move |_: &Live, writer: &mut Writer| {
                let gone = keys.into_iter().zip(numbers).filter_map(|(k, number)| {
                    Some(Change { number: number?, key: k.key, revision, body: None, vectors: Vec::new() })
                });
                writer.apply(revision, &gone.collect::<Vec<_>>());
            };
            live.committed(&registry, guard, before, revision, apply).await?;
            Ok(written)
        })
        .await
    }
}
