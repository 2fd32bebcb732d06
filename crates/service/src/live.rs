//! One collection in memory: rows, indexes, serving choices. Readers take snapshots; writes go
//! through the database first and are applied here before they are acknowledged.

use crate::hub::Hub;
use crate::jobs::{Job, Stop};
use crate::problem::{Kind, Problem, Result};
use crate::routes::SettingsInput;
use arc_swap::ArcSwap;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::{BTreeMap, HashMap};
use std::io;
use std::sync::Arc;
use std::time::Instant;
use zesty_catalog::{
    Catalog, CatalogError, Collection, Fill, LoadStep, RecordWrite, Written, index, vector_column,
};
use zesty_engine::index::{BuildError, Description, FileError, Index, Settings, Source};
use zesty_engine::lines::Aligned;
use zesty_engine::search::Attached;
use zesty_engine::table::{Change, Table, Writer};
use zesty_engine::{Metric, Recipe, Schema};

/// Which index answers searches that name none, and how.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Serving {
    pub index: String,
    pub settings: Settings,
}

pub struct LiveIndex {
    pub model: index::Model,
    /// `None` until it is built, or while it is being rebuilt.
    pub attached: Option<Attached>,
}

/// What outlives a change of the collection's shape.
#[derive(Default)]
pub struct Kept {
    pub indexes: ArcSwap<Vec<Arc<LiveIndex>>>,
    /// By the id of the vector column.
    pub serving: ArcSwap<BTreeMap<i64, Serving>>,
    /// Held while either changes.
    changing: parking_lot::Mutex<()>,
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
    /// `None` once there is a newer shape.
    writer: tokio::sync::Mutex<Option<Writer>>,
}

/// What an encoder made of a record as it was at a revision, or why nothing.
#[derive(Clone)]
pub struct Made {
    pub number: u64,
    pub revision: u64,
    pub row: u32,
    pub vector: Result<Vec<f32>, String>,
}

fn newer_shape() -> Problem {
    Problem::new(
        Kind::Reshaped,
        "fields or columns of the collection changed meanwhile; nothing was written: send it again",
    )
}

fn shape(collection: &Collection) -> Result<(Schema, Vec<Metric>), CatalogError> {
    let schema = Schema::from_json(&collection.about.fields)
        .map_err(|e| CatalogError::Internal(format!("fields of {}: {e}", collection.about.name)))?;
    let metrics = collection.columns.iter().map(|c| c.metric.parse().map_err(CatalogError::Internal));
    Ok((schema, metrics.collect::<Result<_, _>>()?))
}

impl Live {
    /// Reads everything from the database, then attaches the index files.
    pub async fn open(hub: &Arc<Hub>, collection: Collection) -> Result<Arc<Live>, CatalogError> {
        let start = Instant::now();
        let live = Live::read(&hub.catalog, collection, Arc::default()).await?;
        let serving = live.columns().iter().filter_map(|c| {
            let serving = c.serving.clone().and_then(|s| serde_json::from_value(s).ok())?;
            Some((c.id, serving))
        });
        live.kept.serving.store(Arc::new(serving.collect()));
        for model in hub.catalog.indexes(live.id).await? {
            live.attach_file(hub, model).await?;
        }
        tracing::info!(
            collection = live.name,
            records = live.table.load().n_records(),
            elapsed_ms = start.elapsed().as_millis() as u64,
            "collection is live"
        );
        Ok(live)
    }

    fn new(collection: Collection, metrics: Vec<Metric>, writer: Writer, kept: Arc<Kept>) -> Arc<Live> {
        Arc::new(Live {
            id: collection.about.id,
            name: collection.about.name.clone(),
            metrics,
            table: ArcSwap::from_pointee(writer.snapshot()),
            kept,
            writer: tokio::sync::Mutex::new(Some(writer)),
            collection,
        })
    }

    /// A collection with everything that the database has of it.
    async fn read(
        catalog: &Catalog,
        collection: Collection,
        kept: Arc<Kept>,
    ) -> Result<Arc<Live>, CatalogError> {
        let (schema, metrics) = shape(&collection)?;
        let columns = collection.columns.iter().zip(&metrics);
        let writer = Writer::new(schema, columns.map(|(c, m)| (c.name.clone(), *m, c.dimensions as usize)));
        let live = Live::new(collection, metrics, writer, kept);
        live.follow(catalog).await?;
        Ok(live)
    }

    /// The same collection under another shape, which the database has already. Writes wait until
    /// `place` has put the new one where requests find it, so that none is lost between the two.
    pub async fn reshaped(
        &self,
        catalog: &Catalog,
        collection: Collection,
        place: impl FnOnce(Arc<Live>),
    ) -> Result<Arc<Live>, CatalogError> {
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
            Some(writer) => Live::new(collection, metrics, writer, self.kept.clone()),
            None => Live::read(catalog, collection, self.kept.clone()).await?,
        };
        let ids: Vec<i64> = next.columns().iter().map(|c| c.id).collect();
        {
            let _held = self.kept.changing.lock();
            let indexes = self.kept.indexes.load();
            let left = indexes.iter().filter(|i| ids.contains(&i.model.column_id)).cloned().collect();
            self.kept.indexes.store(Arc::new(left));
        }
        place(next.clone());
        *guard = None;
        Ok(next)
    }

    pub fn shape(&self) -> i64 {
        self.collection.about.shape
    }

    /// Where an index's vector column is; `None` when it was dropped.
    pub fn position(&self, index: &LiveIndex) -> Option<usize> {
        self.columns().iter().position(|c| c.id == index.model.column_id)
    }

    pub fn serving(&self, column: usize) -> Option<Serving> {
        self.kept.serving.load().get(&self.columns()[column].id).cloned()
    }

    /// The column that searches use when they name none: the chosen one, or the first.
    pub fn default_column(&self) -> usize {
        let chosen = self.collection.about.default_column.as_deref();
        self.columns().iter().position(|c| Some(c.name.as_str()) == chosen).unwrap_or(0)
    }

    pub fn columns(&self) -> &[vector_column::Model] {
        &self.collection.columns
    }

    fn column_ids(&self) -> Vec<i64> {
        self.columns().iter().map(|c| c.id).collect()
    }

    /// A vector column by name; the default one when none is named.
    pub fn column(&self, name: Option<&str>, pointer: &str) -> Result<usize> {
        let names = || self.columns().iter().map(|c| c.name.as_str());
        match name {
            Some(name) => names()
                .position(|n| n == name)
                .ok_or_else(|| Problem::unknown("vector column", name, names()).at(pointer)),
            None => Ok(self.default_column()),
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

    fn prepared(&self, vectors: &[Option<Vec<f32>>]) -> Vec<Option<Vec<f32>>> {
        let columns = self.columns().iter().zip(&self.metrics);
        let prepare = |(v, (c, m)): (&Option<Vec<f32>>, (&vector_column::Model, &Metric))| {
            m.prepare(v.as_ref()?, c.dimensions as usize).ok()
        };
        vectors.iter().zip(columns).map(prepare).collect()
    }

    /// Applies everything that the database has and this node has not.
    pub async fn follow(&self, catalog: &Catalog) -> Result<(), CatalogError> {
        match self.writer.lock().await.as_mut() {
            Some(writer) => self.follow_locked(catalog, writer).await,
            None => Ok(()),
        }
    }

    async fn follow_locked(&self, catalog: &Catalog, writer: &mut Writer) -> Result<(), CatalogError> {
        let after = writer.revision();
        let mut fills = Vec::new();
        let each = |portion: Vec<zesty_catalog::Change>| {
            let changes: Vec<Change> = portion
                .into_iter()
                .map(|c| Change {
                    number: c.number,
                    key: c.key,
                    revision: c.revision,
                    body: c.body.map(|b| match b {
                        Value::Object(map) => map,
                        _ => Default::default(),
                    }),
                    vectors: self.prepared(&c.vectors),
                })
                .collect();
            // Not yet `revision`: a view that breaks off half-way is read again from `after`.
            writer.apply(after, &changes);
        };
        let revision =
            catalog.follow(self.id, &self.column_ids(), after, each, |fill| fills.push(fill)).await?;
        if !fills.is_empty() {
            let table = writer.snapshot();
            let rows: HashMap<u64, u32> =
                table.alive().ones().map(|row| (table.number(row as u32), row as u32)).collect();
            for fill in fills {
                self.apply_fill(writer, &fill, |number| rows.get(&number).copied());
            }
        }
        writer.apply(revision, &[]);
        self.table.store(Arc::new(writer.snapshot()));
        Ok(())
    }

    fn apply_fill(&self, writer: &mut Writer, fill: &Fill, row: impl Fn(u64) -> Option<u32>) {
        // A column that was dropped since takes no more.
        let Some(column) = self.columns().iter().position(|c| c.id == fill.column) else { return };
        let (metric, dimensions) = (self.metrics[column], self.columns()[column].dimensions as usize);
        let prepared: Vec<(u32, Vec<f32>)> = fill
            .vectors
            .iter()
            .filter_map(|(number, v)| Some((row(*number)?, metric.prepare(v, dimensions).ok()?)))
            .collect();
        writer.set_vectors(fill.revision, column, prepared.iter().map(|(row, v)| (*row, v.as_slice())));
    }

    /// Writes a batch, as a step of a load or on its own. It is in the database and searchable here when
    /// this returns; it also gets there when the caller goes away meanwhile.
    pub async fn write(
        self: &Arc<Self>,
        hub: &Arc<Hub>,
        writes: Arc<Vec<RecordWrite>>,
        step: Option<LoadStep>,
    ) -> Result<Written> {
        let (live, catalog) = (self.clone(), hub.catalog.clone());
        let task = tokio::spawn(async move {
            let mut guard = live.writer.lock().await;
            let writer = guard.as_mut().ok_or_else(newer_shape)?;
            let written = catalog.write(live.id, &live.column_ids(), &writes, step.as_ref()).await?;
            if written.before == writer.revision() {
                let changes: Vec<Change> = writes
                    .iter()
                    .zip(&written.numbers)
                    .filter_map(|(w, number)| {
                        Some(Change {
                            number: (*number)?,
                            key: w.key.clone(),
                            revision: written.revision,
                            body: w.body.as_object().cloned(),
                            vectors: live.prepared(&w.vectors),
                        })
                    })
                    .collect();
                writer.apply(written.revision, &changes);
                live.table.store(Arc::new(writer.snapshot()));
            } else {
                live.follow_locked(&catalog, writer).await?;
            }
            Ok::<_, Problem>(written)
        });
        task.await.map_err(|e| Problem::new(Kind::Internal, format!("the write stopped: {e}")))?
    }

    /// Gives records a vector in one column, or notes why they have none.
    /// Returns how many were given one; records that have changed since are passed over.
    pub async fn fill(self: &Arc<Self>, hub: &Arc<Hub>, column: i64, given: Vec<Made>) -> Result<usize> {
        let (live, catalog) = (self.clone(), hub.catalog.clone());
        let task = tokio::spawn(async move {
            let mut guard = live.writer.lock().await;
            let writer = guard.as_mut().ok_or_else(newer_shape)?;
            let rows: HashMap<u64, u32> = given.iter().map(|m| (m.number, m.row)).collect();
            let given = given.into_iter().map(|m| (m.number, m.revision, m.vector));
            let (before, fill) = catalog.set_vectors(live.id, column, given.collect()).await?;
            if before == writer.revision() {
                live.apply_fill(writer, &fill, |number| rows.get(&number).copied());
                live.table.store(Arc::new(writer.snapshot()));
            } else {
                live.follow_locked(&catalog, writer).await?;
            }
            Ok::<_, Problem>(fill.vectors.len())
        });
        task.await.map_err(|e| Problem::new(Kind::Internal, format!("the write stopped: {e}")))?
    }

    /// Deletes records by key; returns how many there were.
    pub async fn delete(self: &Arc<Self>, hub: &Arc<Hub>, keys: Vec<String>) -> Result<(usize, u64)> {
        let (live, catalog) = (self.clone(), hub.catalog.clone());
        let task = tokio::spawn(async move {
            let mut guard = live.writer.lock().await;
            let writer = guard.as_mut().ok_or_else(newer_shape)?;
            let written = catalog.delete(live.id, &live.column_ids(), &keys).await?;
            if written.revision > writer.revision() {
                live.follow_locked(&catalog, writer).await?;
            }
            Ok::<_, Problem>((written.numbers.iter().flatten().count(), written.revision))
        });
        task.await.map_err(|e| Problem::new(Kind::Internal, format!("the deletion stopped: {e}")))?
    }

    fn set_index(&self, index: LiveIndex) {
        let _held = self.kept.changing.lock();
        let mut all = Vec::clone(&self.kept.indexes.load());
        let index = Arc::new(index);
        match all.iter_mut().find(|i| i.model.id == index.model.id) {
            Some(place) => *place = index,
            None => all.push(index),
        }
        self.kept.indexes.store(Arc::new(all));
    }

    fn forget_index(&self, id: i64) {
        let _held = self.kept.changing.lock();
        let all = self.kept.indexes.load().iter().filter(|i| i.model.id != id).cloned().collect();
        self.kept.indexes.store(Arc::new(all));
    }

    /// Attaches an index from its file. A file that is lost, damaged or of another version is said
    /// so and rebuilt; searches are exact until then.
    async fn attach_file(self: &Arc<Self>, hub: &Arc<Hub>, model: index::Model) -> Result<(), CatalogError> {
        let Some(column) = self.columns().iter().position(|c| c.id == model.column_id) else { return Ok(()) };
        let path = hub.index_path(model.id);
        let table = self.table.load_full();
        let opened =
            tokio::task::spawn_blocking(move || Index::open(&path).map(|i| Attached::new(i, &table, column)))
                .await;
        let trouble = match opened {
            Ok(Ok(attached)) => {
                self.set_index(LiveIndex { model, attached: Some(attached) });
                return Ok(());
            }
            Ok(Err(e)) => e.to_string(),
            Err(e) => e.to_string(),
        };
        let why = match model.state.as_str() {
            "ready" => format!("{trouble}; rebuilding"),
            _ => "the service stopped while it was built; building again".into(),
        };
        tracing::warn!(collection = self.name, index = model.name, "{why}");
        self.set_index(LiveIndex {
            model: index::Model { state: "building".into(), ..model.clone() },
            attached: None,
        });
        let started = self.clone().start_build(hub, model, hub.threads, Some(why)).await;
        if let Err(problem) = started {
            tracing::error!(collection = self.name, "cannot start a rebuild: {}", problem.detail);
        }
        Ok(())
    }

    /// Describes a new index and starts building it.
    pub async fn create_index(
        self: &Arc<Self>,
        hub: &Arc<Hub>,
        column: usize,
        name: &str,
        recipe: Recipe,
        seed: u64,
        threads: usize,
    ) -> Result<Arc<Job>> {
        let column_id = self.columns()[column].id;
        let model = hub.catalog.add_index(self.id, column_id, name, &recipe.to_string(), seed as i64).await?;
        self.set_index(LiveIndex { model: model.clone(), attached: None });
        self.clone().start_build(hub, model, threads, None).await
    }

    async fn start_build(
        self: Arc<Self>,
        hub: &Arc<Hub>,
        model: index::Model,
        threads: usize,
        why: Option<String>,
    ) -> Result<Arc<Job>> {
        let (node, jobs, catalog) = (hub.node.clone(), hub.jobs.clone(), hub.catalog.clone());
        let subject = model.name.clone();
        let (hub, live) = (hub.clone(), self.clone());
        jobs.start(&catalog, &node, "build", &self.name, &subject, move |job| async move {
            if let Some(why) = why {
                job.say(why);
            }
            let built = live.build(&hub, &model, None, threads, &job).await;
            if let Err(stop) = &built {
                live.abandon(&hub, &model, stop).await;
            }
            built
        })
        .await
    }

    /// Takes into an index what was written since it was made: new rows are folded in, what led over dead ones is
    /// mended; when too much has changed it is made from nothing. It answers as before until that is done.
    pub async fn absorb(self: &Arc<Self>, hub: &Arc<Hub>, index: Arc<LiveIndex>) -> Result<Arc<Job>> {
        let (node, jobs, catalog) = (hub.node.clone(), hub.jobs.clone(), hub.catalog.clone());
        let subject = index.model.name.clone();
        let (hub, live) = (hub.clone(), self.clone());
        jobs.start(&catalog, &node, "absorb", &self.name, &subject, move |job| async move {
            let model = index.model.clone();
            live.build(&hub, &model, Some(index), hub.threads, &job).await
        })
        .await
    }

    /// Indexes that much was written beside: a quarter of their rows, or a twentieth once writing has paused.
    pub fn stale(&self, paused: bool) -> Vec<Arc<LiveIndex>> {
        let table = self.table.load();
        let all = self.kept.indexes.load();
        let is_stale = |index: &&Arc<LiveIndex>| {
            let (Some(attached), Some(column)) = (&index.attached, self.position(index)) else {
                return false;
            };
            let changed = attached.uncovered(&table, column).count_ones(..) + attached.n_dead(&table);
            let nodes = attached.index.len();
            changed >= 256 && changed >= nodes / if paused { 20 } else { 4 }
        };
        all.iter().filter(is_stale).cloned().collect()
    }

    /// A build that did not succeed leaves nothing behind when it was the first; the description
    /// with its error stays when there is something to learn from it.
    async fn abandon(&self, hub: &Hub, model: &index::Model, stop: &Stop) {
        let _ = std::fs::remove_file(hub.index_path(model.id));
        let told = match stop {
            Stop::Cancelled => {
                self.forget_index(model.id);
                hub.catalog.remove_index(model.id).await
            }
            Stop::Failed(why) => {
                let failed =
                    index::Model { state: "failed".into(), error: Some(why.clone()), ..model.clone() };
                self.set_index(LiveIndex { model: failed, attached: None });
                hub.catalog.index_state(model.id, "failed", Some(why.clone())).await
            }
        };
        if let Err(e) = told {
            tracing::warn!("cannot record a failed build: {e}");
        }
    }

    async fn build(
        self: &Arc<Self>,
        hub: &Arc<Hub>,
        model: &index::Model,
        old: Option<Arc<LiveIndex>>,
        threads: usize,
        job: &Arc<Job>,
    ) -> Result<Value, Stop> {
        let column = self
            .columns()
            .iter()
            .position(|c| c.id == model.column_id)
            .ok_or_else(|| Stop::Failed("its vector column is gone".into()))?;
        let recipe: Recipe = model.recipe.parse().map_err(|e| Stop::Failed(format!("recipe: {e}")))?;
        let start = Instant::now();
        let (live, path, seed, progress) =
            (self.clone(), hub.index_path(model.id), model.seed, job.progress.clone());
        let table = self.table.load_full();
        let revision = table.revision();
        let verb = if old.is_some() { "absorbing into" } else { "building" };
        job.say(format!("{verb} {recipe} on revision {revision} with {threads} threads"));
        let (renewing, said) = (old.clone(), job.clone());
        let built = tokio::task::spawn_blocking(move || -> Result<(Attached, u64, usize), Stop> {
            let vectors = &table.vectors()[column].vectors;
            let mut source = Source {
                description: Description {
                    recipe: String::new(),
                    metric: live.metrics[column],
                    dimensions: vectors.dimensions(),
                    revision,
                    seed: seed as u64,
                    rows_at_build: 0, owner: String::new(),
                },
                vectors: Aligned::with_capacity(table.n_records() * vectors.dimensions()),
                numbers: Vec::with_capacity(table.n_records()),
            };
            for row in table.alive().intersection(vectors.present()) {
                source.vectors.extend(vectors.row(row as u32));
                source.numbers.push(table.number(row as u32));
            }
            let rows = source.numbers.len();
            let old = renewing.as_ref().and_then(|i| i.attached.as_ref());
            let old = old.map(|a| (&a.index, a.living(&table, column)));
            drop(table);
            let built = match old {
                Some((index, alive)) if !index.is_outgrown(alive.count_ones(..), rows) => {
                    let n = alive.count_ones(..);
                    said.say(format!(
                        "{n} rows stay, {} come, {} go",
                        rows.saturating_sub(n),
                        index.len() - n
                    ));
                    index.renew(source, &alive, threads, &progress)
                }
                old => {
                    if old.is_some() {
                        said.say("too much has changed since it was built: it is made from nothing");
                    }
                    Index::build(source, recipe, threads, &progress)
                }
            };
            let index = built.map_err(|e| match e {
                BuildError::Cancelled => Stop::Cancelled,
                other => Stop::Failed(other.to_string()),
            })?;
            let failed = |e: FileError| {
                Stop::Failed(match &e {
                    FileError::Io(io) if io.kind() == io::ErrorKind::StorageFull => format!(
                        "the disk is full: {} needs {} MB; free some space and build again",
                        path.display(),
                        (index.n_bytes_vectors() + index.n_bytes_structure()) / 1_000_000 + 1
                    ),
                    _ => e.to_string(),
                })
            };
            let bytes = index.write(&path).map_err(failed)?;
            if progress.is_cancelled() {
                return Err(Stop::Cancelled);
            }
            // From here on the file is the index: one way to serve it, built now or long ago.
            let opened = Index::open(&path).map_err(failed)?;
            Ok((Attached::new(opened, &live.table.load(), column), bytes, rows))
        });
        let (attached, bytes, rows) = built.await.map_err(|e| Stop::Failed(e.to_string()))??;
        let took = start.elapsed().as_secs_f64();
        // An index that was dropped meanwhile stays dropped.
        if old.is_some() && self.index(&model.name).is_err() {
            let _ = std::fs::remove_file(hub.index_path(model.id));
            return Err(Stop::Cancelled);
        }
        let seconds = if old.is_some() { model.build_seconds } else { took };
        hub.catalog.index_ready(model.id, revision, rows as u64, bytes, seconds).await?;
        let ready = index::Model {
            state: "ready".into(),
            revision: revision as i64,
            n_rows: rows as i64,
            n_bytes: bytes as i64,
            build_seconds: seconds,
            error: None,
            ..model.clone()
        };
        self.set_index(LiveIndex { model: ready, attached: Some(attached) });
        job.say(format!("{rows} rows in {took:.1} s, {:.1} MB on disk", bytes as f64 / 1e6));
        if self.serving(column).is_none() {
            let serving = Serving { index: model.name.clone(), settings: Settings::default() };
            let shown = SettingsInput::of(&model.recipe, serving.settings);
            let with = Some(shown.to_string()).filter(|s| !s.is_empty()).map(|s| format!(", with {s}"));
            let with = with.unwrap_or_default();
            job.say(format!("it is the first index of the column, so it answers searches from now on{with}"));
            self.set_serving(hub, column, Some(serving)).await?;
        }
        Ok(json!({"index": model.name, "recipe": recipe.to_string(), "rows": rows, "bytes": bytes,
            "seconds": took, "revision": revision}))
    }

    pub async fn set_serving(
        &self,
        hub: &Hub,
        column: usize,
        serving: Option<Serving>,
    ) -> Result<(), CatalogError> {
        let value = serving.as_ref().map(|s| json!(s));
        let id = self.columns()[column].id;
        hub.catalog.set_serving(id, value).await?;
        let _held = self.kept.changing.lock();
        let mut all = BTreeMap::clone(&self.kept.serving.load());
        match serving {
            Some(serving) => drop(all.insert(id, serving)),
            None => drop(all.remove(&id)),
        }
        self.kept.serving.store(Arc::new(all));
        Ok(())
    }

    pub async fn drop_index(&self, hub: &Hub, name: &str) -> Result<()> {
        let index = self.index(name)?;
        for column in 0..self.columns().len() {
            if self.serving(column).is_some_and(|s| s.index == name) {
                self.set_serving(hub, column, None).await?;
            }
        }
        hub.catalog.remove_index(index.model.id).await?;
        self.forget_index(index.model.id);
        // Searches that hold the index keep its mapped file until they end.
        let _ = std::fs::remove_file(hub.index_path(index.model.id));
        Ok(())
    }
}
