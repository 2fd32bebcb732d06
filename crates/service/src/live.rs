//! One collection in memory: rows, indexes, serving choices. Readers take snapshots; writes go
//! through the database first and are applied here before they are acknowledged.

use crate::hub::Hub;
use crate::problem::{Kind, Problem, Result};
use arc_swap::ArcSwap;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::AtomicI64;
use std::time::{Duration, Instant};
use tokio::sync::OwnedMutexGuard;
use zesty_catalog::{
    CatalogError, Collection, Conflicts, Fill, KeyAt, LoadStep, Made, RecordWrite, Target, VectorWrite,
    Written, index, vector_column,
};
use zesty_engine::index::Settings;
use zesty_engine::search::Attached;
use zesty_engine::table::{Change, Table, VectorChange, Writer};
use zesty_engine::{Metric, Schema};

/// How long a write waits for those before it.
const PATIENCE: Duration = Duration::from_secs(30);

/// Which index answers searches that name none, and how.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Serving {
    pub index: String,
    pub settings: Settings,
}

pub struct LiveIndex {
    /// As the catalogue has it, but for what is otherwise on this node: its state, error and size.
    pub model: index::Model,
    /// `None` until it is built here.
    pub attached: Option<Attached>,
}

/// What outlives a change of the collection's shape.
#[derive(Default)]
pub struct Kept {
    pub indexes: ArcSwap<Vec<Arc<LiveIndex>>>,
    /// By the id of the vector column.
    pub serving: ArcSwap<BTreeMap<i64, Serving>>,
    /// The version of both that was last read from the database.
    pub choices: AtomicI64,
    /// Held while either changes.
    changing: parking_lot::Mutex<()>,
    /// Held while an index is described, so that what follows the database does not take it for one left over.
    pub describing: tokio::sync::Mutex<()>,
}

/// One collection under one shape: its fields and columns never change. Another shape is another
/// `Live`, made by [`Live::reshaped`]; whoever still holds the old one reads on, and cannot write.
pub struct Live {
    pub id: i64,
    pub name: String,
    pub collection: Collection,
    pub metrics: Vec<Metric>,
    pub table: ArcSwap<Table>,
    pub kept: Arc<Kept>,
    /// Bytes that a record may take as JSON.
    pub record_limit: usize,
    /// `None` once there is a newer shape.
    writer: Arc<tokio::sync::Mutex<Option<Writer>>>,
}

type Writing = OwnedMutexGuard<Option<Writer>>;

fn newer_shape() -> Problem {
    Problem::from(CatalogError::Reshaped { now: 0 })
}

fn shape(collection: &Collection) -> Result<(Schema, Vec<Metric>), CatalogError> {
    let schema = Schema::from_json(&collection.about.fields)
        .map_err(|e| CatalogError::Internal(format!("fields of {}: {e}", collection.about.name)))?;
    let metrics = collection.columns.iter().map(|c| c.metric.parse().map_err(CatalogError::Internal));
    Ok((schema, metrics.collect::<Result<_, _>>()?))
}

/// A step that runs on when its caller goes away.
async fn finished<T: Send + 'static>(
    what: &str,
    work: impl Future<Output = Result<T>> + Send + 'static,
) -> Result<T> {
    tokio::spawn(work).await.map_err(|e| Problem::new(Kind::Internal, format!("the {what} stopped: {e}")))?
}

impl Live {
    /// Reads everything from the database but the indexes: see [`Live::follow_choices`].
    pub async fn open(hub: &Arc<Hub>, collection: Collection) -> Result<Arc<Live>, CatalogError> {
        let start = Instant::now();
        let kept = Kept { choices: AtomicI64::new(-1), ..Kept::default() };
        let live = Live::read(hub, collection, Arc::new(kept)).await?;
        tracing::info!(
            collection = live.name,
            records = live.table.load().n_records(),
            elapsed_ms = start.elapsed().as_millis() as u64,
            "collection is live"
        );
        Ok(live)
    }

    fn new(
        hub: &Hub,
        collection: Collection,
        metrics: Vec<Metric>,
        writer: Writer,
        kept: Arc<Kept>,
    ) -> Arc<Live> {
        Arc::new(Live {
            record_limit: hub.catalog.record_limit(),
            id: collection.about.id,
            name: collection.about.name.clone(),
            metrics,
            table: ArcSwap::from_pointee(writer.snapshot()),
            kept,
            writer: Arc::new(tokio::sync::Mutex::new(Some(writer))),
            collection,
        })
    }

    /// A collection with everything that the database has of it.
    async fn read(hub: &Hub, collection: Collection, kept: Arc<Kept>) -> Result<Arc<Live>, CatalogError> {
        let (schema, metrics) = shape(&collection)?;
        let columns = collection.columns.iter().zip(&metrics);
        let writer = Writer::new(schema, columns.map(|(c, m)| (c.name.clone(), *m, c.dimensions as usize)));
        let live = Live::new(hub, collection, metrics, writer, kept);
        live.follow(hub).await?;
        Ok(live)
    }

    /// The same collection under another shape, which the database has already. Writes wait until
    /// the new one is where requests find it, so that none is lost between the two. Where records had to be read
    /// again, their rows have other numbers, and the indexes are attached to them anew.
    pub async fn reshaped(&self, hub: &Arc<Hub>, collection: Collection) -> Result<Arc<Live>, CatalogError> {
        let mut guard = self.writer.lock().await;
        let (schema, metrics) = shape(&collection)?;
        let from = |c: &vector_column::Model| self.columns().iter().position(|o| o.id == c.id);
        let columns: Vec<_> = collection
            .columns
            .iter()
            .zip(&metrics)
            .map(|(c, m)| (c.name.clone(), *m, c.dimensions as usize, from(c)))
            .collect();
        let next = match guard.as_ref().and_then(|w| w.reshaped(schema, &columns)) {
            Some(writer) => Live::new(hub, collection, metrics, writer, self.kept.clone()),
            None => Live::read(hub, collection, self.kept.clone()).await?,
        };
        let ids: Vec<i64> = next.columns().iter().map(|c| c.id).collect();
        {
            let _held = self.kept.changing.lock();
            let indexes = self.kept.indexes.load();
            let left = indexes.iter().filter(|i| ids.contains(&i.model.column_id)).cloned().collect();
            self.kept.indexes.store(Arc::new(left));
        }
        hub.place(next.clone());
        *guard = None;
        drop(guard);
        next.attach_again(hub).await;
        Ok(next)
    }

    pub fn shape(&self) -> i64 {
        self.collection.about.shape
    }

    /// What writes go to: refused when the collection has another shape by then.
    pub fn target(&self) -> Target {
        let columns = self.columns().iter().map(|c| c.id).collect();
        Target { collection: self.id, shape: self.shape(), columns }
    }

    /// Where an index's vector column is; `None` when it was dropped.
    pub fn position(&self, index: &LiveIndex) -> Option<usize> {
        self.position_of(index.model.column_id)
    }

    pub fn position_of(&self, column_id: i64) -> Option<usize> {
        self.columns().iter().position(|c| c.id == column_id)
    }

    pub fn serving(&self, column: usize) -> Option<Serving> {
        self.kept.serving.load().get(&self.columns()[column].id).cloned()
    }

    /// The column that searches use when they name none: the chosen one, or the first; `None` when there is no column.
    pub fn default_column(&self) -> Option<usize> {
        let chosen = self.collection.about.default_column.as_deref();
        let found = self.columns().iter().position(|c| Some(c.name.as_str()) == chosen);
        found.or((!self.columns().is_empty()).then_some(0))
    }

    pub fn columns(&self) -> &[vector_column::Model] {
        &self.collection.columns
    }

    /// A vector column by name; the default one when none is named.
    pub fn column(&self, name: Option<&str>, pointer: &str) -> Result<usize> {
        let names = || self.columns().iter().map(|c| c.name.as_str());
        match name {
            Some(name) => names()
                .position(|n| n == name)
                .ok_or_else(|| Problem::unknown("vector column", name, names()).at(pointer)),
            None => self.default_column().ok_or_else(|| {
                let detail = format!("collection \"{}\" has no vector column yet; add one first", self.name);
                Problem::new(Kind::NoData, detail).at(pointer)
            }),
        }
    }

    /// Vectors that are said to come from an encoder must be the column's own.
    pub fn check_encoder(&self, column: usize, said: &str, pointer: &str) -> Result<()> {
        let about = &self.columns()[column];
        match &about.encoder {
            Some(own) if own != said => {
                let detail = format!(
                    "column \"{}\" holds vectors of encoder \"{own}\", and these are said to come from \"{said}\": \
                     they cannot be compared; add a column for \"{said}\"",
                    about.name
                );
                Err(Problem::new(Kind::WrongEncoder, detail)
                    .at(pointer)
                    .with("expected", own)
                    .with("got", said))
            }
            _ => Ok(()),
        }
    }

    pub fn index(&self, name: &str) -> Result<Arc<LiveIndex>> {
        let indexes = self.kept.indexes.load();
        let found = indexes.iter().find(|i| i.model.name == name).cloned();
        found.ok_or_else(|| Problem::unknown("index", name, indexes.iter().map(|i| i.model.name.as_str())))
    }

    fn prepared(&self, vectors: &[VectorWrite]) -> Vec<VectorChange> {
        let columns = self.columns().iter().zip(&self.metrics);
        let prepare = |(v, (c, m)): (&VectorWrite, (&vector_column::Model, &Metric))| match v {
            VectorWrite::Set(v) => m.prepare(v, c.dimensions as usize).ok().into(),
            VectorWrite::Clear => VectorChange::Clear,
            VectorWrite::Keep => VectorChange::Keep,
        };
        vectors.iter().zip(columns).map(prepare).collect()
    }

    /// Waits for the writes before this one; refused when there is a newer shape, or the wait is too long.
    async fn writing(&self) -> Result<Writing> {
        let waited = tokio::time::timeout(PATIENCE, self.writer.clone().lock_owned()).await;
        let guard = waited.map_err(|_| {
            let detail = format!(
                "other writes to \"{}\" have not ended for {} s, so nothing was written; try again",
                self.name,
                PATIENCE.as_secs()
            );
            Problem::new(Kind::Busy, detail)
        })?;
        if guard.is_none() { Err(newer_shape()) } else { Ok(guard) }
    }

    /// Applies everything that the database has and this node has not.
    pub async fn follow(&self, hub: &Hub) -> Result<(), CatalogError> {
        match self.writer.lock().await.as_mut() {
            Some(writer) => self.follow_locked(hub, writer).await,
            None => Ok(()),
        }
    }

    async fn follow_locked(&self, hub: &Hub, writer: &mut Writer) -> Result<(), CatalogError> {
        let after = writer.revision();
        let mut fills = Vec::new();
        let each = |portion: Vec<zesty_catalog::Change>| {
            let changes: Vec<Change> = portion
                .into_iter()
                .map(|c| {
                    let given = |v: Option<Vec<f32>>| v.map_or(VectorWrite::Clear, VectorWrite::Set);
                    Change {
                        number: c.number,
                        key: c.key,
                        revision: c.revision,
                        body: c.body.map(|b| match b {
                            Value::Object(map) => map,
                            _ => Default::default(),
                        }),
                        vectors: self.prepared(&c.vectors.into_iter().map(given).collect::<Vec<_>>()),
                    }
                })
                .collect();
            // Not yet `revision`: a view that breaks off half-way is read again from `after`.
            writer.apply(after, &changes);
        };
        let revision = hub.catalog.follow(&self.target(), after, each, |fill| fills.push(fill)).await?;
        for fill in fills {
            self.apply_fill(writer, &fill);
        }
        writer.apply(revision, &[]);
        self.table.store(Arc::new(writer.snapshot()));
        Ok(())
    }

    /// Rows are found by key and number each time: between a fill and here they may have been numbered anew.
    fn apply_fill(&self, writer: &mut Writer, fill: &Fill) {
        // A column that was dropped since takes no more.
        let Some(column) = self.columns().iter().position(|c| c.id == fill.column) else { return };
        let (metric, dimensions) = (self.metrics[column], self.columns()[column].dimensions as usize);
        let table = writer.snapshot();
        let prepared: Vec<(u32, Vec<f32>)> = fill
            .vectors
            .iter()
            .filter_map(|f| {
                let row = table.row(&f.key).filter(|row| table.number(*row) == f.number)?;
                Some((row, metric.prepare(&f.vector, dimensions).ok()?))
            })
            .collect();
        drop(table);
        writer.set_vectors(fill.revision, column, prepared.iter().map(|(row, v)| (*row, v.as_slice())));
    }

    /// Makes what a write committed searchable here: by `apply` when nothing else was written meanwhile.
    async fn committed(
        self: &Arc<Self>,
        hub: &Hub,
        mut guard: Writing,
        before: u64,
        revision: u64,
        apply: impl FnOnce(&Live, &mut Writer) + Send + 'static,
    ) -> Result<()> {
        let Some(writer) = guard.as_mut() else { return Err(newer_shape()) };
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
        self.follow_locked(hub, writer).await.map_err(|e| {
            tracing::warn!(collection = self.name, "a committed write is not searchable yet: {e}");
            let detail = format!(
                "the write is committed as revision {revision}, but MariaDB broke off before this node had read what \
                 others wrote before it; it becomes searchable when MariaDB answers"
            );
            Problem::new(Kind::Unsure, detail).with("revision", revision)
        })
    }

    /// What a refusal tells of this node: with a newer shape in the database, it is taken up before the caller hears.
    async fn refused(&self, hub: &Arc<Hub>, error: CatalogError) -> Problem {
        if matches!(error, CatalogError::Reshaped { .. })
            && let Err(e) = hub.refresh(self.id).await
        {
            tracing::warn!(collection = self.name, "cannot take up a newer shape: {e}");
        }
        error.into()
    }

    /// Writes a batch, as a step of a load or on its own. It is in the database and searchable here when
    /// this returns; it also gets there when the caller goes away meanwhile.
    pub async fn write(
        self: &Arc<Self>,
        hub: &Arc<Hub>,
        writes: Arc<Vec<RecordWrite>>,
        conflicts: Conflicts,
        step: Option<LoadStep>,
    ) -> Result<Written> {
        let (live, hub) = (self.clone(), hub.clone());
        finished("write", async move {
            let guard = live.writing().await?;
            let written = match hub.catalog.write(&live.target(), &writes, conflicts, step.as_ref()).await {
                Ok(written) => written,
                Err(e) => {
                    drop(guard);
                    return Err(live.refused(&hub, e).await);
                }
            };
            let (before, revision, numbers) = (written.before, written.revision, written.numbers.clone());
            let apply = move |live: &Live, writer: &mut Writer| {
                let changes: Vec<Change> = writes
                    .iter()
                    .zip(numbers)
                    .filter_map(|(w, number)| {
                        Some(Change {
                            number: number?,
                            key: w.key.clone(),
                            revision,
                            body: w.body.as_object().cloned(),
                            vectors: live.prepared(&w.vectors),
                        })
                    })
                    .collect();
                writer.apply(revision, &changes);
            };
            live.committed(&hub, guard, before, revision, apply).await?;
            Ok(written)
        })
        .await
    }

    /// Gives records a vector in one column, or notes why they have none.
    /// Returns how many were given one; records that have changed since are passed over.
    pub async fn fill(self: &Arc<Self>, hub: &Arc<Hub>, column: i64, made: Vec<Made>) -> Result<usize> {
        let (live, hub) = (self.clone(), hub.clone());
        finished("write", async move {
            let guard = live.writing().await?;
            let filled = match hub.catalog.set_vectors(&live.target(), column, &made).await {
                Ok(filled) => filled,
                Err(e) => {
                    drop(guard);
                    return Err(live.refused(&hub, e).await);
                }
            };
            let (n, revision) = (filled.fill.vectors.len(), filled.fill.revision);
            let apply = move |live: &Live, writer: &mut Writer| live.apply_fill(writer, &filled.fill);
            live.committed(&hub, guard, filled.before, revision, apply).await?;
            Ok(n)
        })
        .await
    }

    /// Deletes records by key, each only at the revision that is expected of it, where one is.
    pub async fn delete(
        self: &Arc<Self>,
        hub: &Arc<Hub>,
        keys: Vec<KeyAt>,
        conflicts: Conflicts,
    ) -> Result<Written> {
        let (live, hub) = (self.clone(), hub.clone());
        finished("deletion", async move {
            let guard = live.writing().await?;
            let written = match hub.catalog.delete(&live.target(), &keys, conflicts).await {
                Ok(written) => written,
                Err(e) => {
                    drop(guard);
                    return Err(live.refused(&hub, e).await);
                }
            };
            let (before, revision, numbers) = (written.before, written.revision, written.numbers.clone());
            let apply = move |_: &Live, writer: &mut Writer| {
                let gone = keys.into_iter().zip(numbers).filter_map(|(k, number)| {
                    Some(Change { number: number?, key: k.key, revision, body: None, vectors: Vec::new() })
                });
                writer.apply(revision, &gone.collect::<Vec<_>>());
            };
            live.committed(&hub, guard, before, revision, apply).await?;
            Ok(written)
        })
        .await
    }

    pub(crate) fn set_index(&self, index: LiveIndex) {
        let _held = self.kept.changing.lock();
        let mut all = Vec::clone(&self.kept.indexes.load());
        let index = Arc::new(index);
        match all.iter_mut().find(|i| i.model.id == index.model.id) {
            Some(place) => *place = index,
            None => all.push(index),
        }
        self.kept.indexes.store(Arc::new(all));
    }

    pub(crate) fn forget_index(&self, id: i64) {
        let _held = self.kept.changing.lock();
        let all = self.kept.indexes.load().iter().filter(|i| i.model.id != id).cloned().collect();
        self.kept.indexes.store(Arc::new(all));
    }

    pub(crate) fn edit_serving(&self, edit: impl FnOnce(&mut BTreeMap<i64, Serving>)) {
        let _held = self.kept.changing.lock();
        let mut all = BTreeMap::clone(&self.kept.serving.load());
        edit(&mut all);
        self.kept.serving.store(Arc::new(all));
    }
}
