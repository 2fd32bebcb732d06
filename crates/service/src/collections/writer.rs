//! Writes to a collection: through the database first, then into memory, then acknowledged. While one becomes searchable
//! the next may be on its way into the database.

use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::problem::{Kind, Problem, Result};
use serde_json::{Map, Value};
use std::borrow::Cow;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::OwnedMutexGuard;
use zesty_catalog::{
    Ahead, CatalogError, Conflicts, Guess, KeyAt, LoadStep, Made, RecordWrite, VectorWrite, Way, Written,
};
use zesty_engine::rows::{Change, Changed, VectorChange, Writer};

/// How long a write waits for those before it.
const PATIENCE: Duration = Duration::from_secs(30);
/// The same for one that was inserted ahead of its turn: those before it may wait for its keys.
const PATIENCE_AHEAD: Duration = Duration::from_secs(1);

/// A step that runs on when its caller goes away.
async fn finished<T: Send + 'static>(
    what: &str,
    work: impl Future<Output = Result<T>> + Send + 'static,
) -> Result<T> {
    tokio::spawn(work).await.map_err(|e| Problem::new(Kind::Internal, format!("the {what} stopped: {e}")))?
}

fn not_searchable(revision: u64, why: &str) -> Problem {
    let detail = format!(
        "the write is committed as revision {revision}, but {why}; it becomes searchable by itself, when this node has followed"
    );
    Problem::new(Kind::Unsure, detail).with("revision", revision)
}

/// Ends when a write is searchable here.
type Searchable = tokio::task::JoinHandle<Result<()>>;

async fn searchable(end: Searchable) -> Result<()> {
    end.await.map_err(|e| Problem::new(Kind::Internal, format!("the write stopped: {e}")))?
}

/// A write that is in the database, and becomes searchable here in any case.
pub struct Committed {
    pub written: Written,
    end: Searchable,
}

impl Committed {
    /// Waits until it is searchable.
    pub async fn searchable(self) -> Result<Written> {
        searchable(self.end).await.map(|()| self.written)
    }
}

/// A batch of a load.
pub struct Step {
    pub noted: LoadStep,
    /// Who goes before it.
    pub way: Arc<dyn Way>,
    /// Its records, if they were inserted ahead of their turn.
    pub ahead: Option<Ahead>,
}

/// A record that the database has taken.
struct Taken<'a> {
    write: &'a RecordWrite,
    number: u64,
    revision: u64,
}

impl Changed for Taken<'_> {
    fn number(&self) -> u64 {
        self.number
    }
    fn key(&self) -> &str {
        &self.write.key
    }
    fn revision(&self) -> u64 {
        self.revision
    }
    fn body(&self) -> Option<(&Map<String, Value>, Cow<'_, str>)> {
        Some((self.write.body.fields(), self.write.body.text().into()))
    }
    fn vector(&self, column: usize) -> VectorChange<&[f32]> {
        match &self.write.vectors[column] {
            VectorWrite::Set(v) => VectorChange::Set(v),
            VectorWrite::Clear => VectorChange::Clear,
            VectorWrite::Keep => VectorChange::Keep,
        }
    }
}

impl Live {
    /// Whether this node knows no record under any of the keys.
    pub fn are_new(&self, writes: &[RecordWrite]) -> bool {
        let table = self.table.load();
        writes.iter().all(|w| table.row(&w.key).is_none())
    }

    /// Waits for the writes before this one to be in the database; refused when the wait is too long.
    async fn turn(&self, patience: Duration) -> Result<OwnedMutexGuard<()>> {
        tokio::time::timeout(patience, self.kept.turn.clone().lock_owned()).await.map_err(|_| {
            let detail = format!(
                "other writes to \"{}\" have held it for {} s, so nothing was written; try again",
                self.name,
                patience.as_secs()
            );
            Problem::new(Kind::Busy, detail)
        })
    }

    /// Makes what a write committed searchable here: by `apply` when nothing else was written meanwhile. Returns when
    /// the writes before it are searchable; what it returns says when this one is.
    async fn committed(
        self: &Arc<Self>,
        registry: &Arc<Registry>,
        turn: OwnedMutexGuard<()>,
        before: u64,
        revision: u64,
        apply: impl FnOnce(&Live, &mut Writer) + Send + 'static,
    ) -> Searchable {
        let newest = tokio::time::timeout(PATIENCE, self.newest(registry)).await;
        drop(turn);
        let registry = registry.clone();
        let shape = self.schema_version();
        tokio::spawn(async move {
            let (live, mut guard) = match newest {
                Ok(Some(newest)) => newest,
                // The collection was deleted meanwhile.
                Ok(None) => return Ok(()),
                Err(_) => {
                    let secs = PATIENCE.as_secs();
                    return Err(not_searchable(
                        revision,
                        &format!("other work has held the collection for {secs} s"),
                    ));
                }
            };
            let Some(writer) = guard.as_mut() else { return Ok(()) };
            if before == writer.revision() && live.schema_version() == shape {
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
            live.follow_locked(&registry, writer).await.map_err(|e| {
                tracing::warn!(collection = live.name, "a committed write is not searchable yet: {e}");
                not_searchable(
                    revision,
                    "MariaDB broke off before this node had read what others wrote before it",
                )
            })
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

    /// Writes a batch. It is in the database and searchable here when this returns; it also gets there when the caller
    /// goes away meanwhile.
    pub async fn write(
        self: &Arc<Self>,
        registry: &Arc<Registry>,
        writes: Arc<Vec<RecordWrite>>,
        conflicts: Conflicts,
    ) -> Result<Written> {
        self.commit(registry, writes, conflicts, None).await?.searchable().await
    }

    /// Writes a batch, as a step of a load, which others go before, or on its own. It is in the database when this returns,
    /// and those before it are searchable.
    pub async fn commit(
        self: &Arc<Self>,
        registry: &Arc<Registry>,
        writes: Arc<Vec<RecordWrite>>,
        conflicts: Conflicts,
        step: Option<Step>,
    ) -> Result<Committed> {
        let (live, registry) = (self.clone(), registry.clone());
        finished("write", async move {
            let bytes = |w: &RecordWrite| {
                let vectors = w.vectors.iter().map(|v| match v {
                    // At unit length, and what leads back.
                    VectorWrite::Set(v) => 5 * v.len(),
                    VectorWrite::Clear | VectorWrite::Keep => 0,
                });
                (w.n_bytes() + 100 + vectors.sum::<usize>()) as u64
            };
            registry.check_write(|| writes.iter().map(bytes).sum())?;
            let (step, way, ahead) = match step {
                Some(Step { noted, way, ahead }) => (Some(noted), Some(way), ahead),
                None => (None, None, None),
            };
            let patience = if ahead.is_some() { PATIENCE_AHEAD } else { PATIENCE };
            let turn = live.turn(patience).await?;
            let (catalog, target) = (&registry.catalog, live.target());
            let written = match ahead {
                Some(ahead) => catalog.commit_ahead(ahead, &writes, step.as_ref()).await,
                None => {
                    let guess = if live.are_new(&writes) { Guess::AllNew } else { Guess::Any };
                    catalog.write(&target, &writes, conflicts, step.as_ref(), guess, way.as_deref()).await
                }
            };
            let written = match written {
                Ok(written) => written,
                Err(e) => {
                    drop(turn);
                    return Err(live.refused(&registry, e).await);
                }
            };
            let (before, revision, numbers) = (written.before, written.revision, written.numbers.clone());
            let apply = move |_: &Live, writer: &mut Writer| {
                let numbered = writes.iter().zip(numbers);
                let taken =
                    numbered.filter_map(|(write, number)| Some(Taken { write, number: number?, revision }));
                writer.apply(revision, &taken.collect::<Vec<_>>());
            };
            let end = live.committed(&registry, turn, before, revision, apply).await;
            Ok(Committed { written, end })
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
            let turn = live.turn(PATIENCE).await?;
            let filled = match registry.catalog.set_vectors(&live.target(), column, &made).await {
                Ok(filled) => filled,
                Err(e) => {
                    drop(turn);
                    return Err(live.refused(&registry, e).await);
                }
            };
            let (n, before, revision) = (filled.fill.vectors.len(), filled.before, filled.fill.revision);
            let apply = move |live: &Live, writer: &mut Writer| live.apply_fill(writer, &filled.fill);
            searchable(live.committed(&registry, turn, before, revision, apply).await).await?;
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
            let turn = live.turn(PATIENCE).await?;
            let written = match registry.catalog.delete(&live.target(), &keys, conflicts).await {
                Ok(written) => written,
                Err(e) => {
                    drop(turn);
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
            searchable(live.committed(&registry, turn, before, revision, apply).await).await?;
            Ok(written)
        })
        .await
    }
}
