//! One collection in memory: rows, indexes, serving choices. Readers take snapshots; writes go
//! through the database first and are applied here before they are acknowledged.

use crate::hub::Hub;
use crate::jobs::{Job, Stop};
use crate::problem::{Kind, Problem, Result};
use arc_swap::ArcSwap;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::io;
use std::sync::Arc;
use std::time::Instant;
use utoipa::ToSchema;
use zesty_catalog::{Catalog, CatalogError, Collection, RecordWrite, Written, index, vector_column};
use zesty_engine::chunked::Aligned;
use zesty_engine::index::{BuildError, Description, FileError, Index, Settings, Source};
use zesty_engine::search::Attached;
use zesty_engine::table::{Change, Table, Writer};
use zesty_engine::{Metric, Recipe, Schema};

/// Which index answers searches that name none, and how.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Serving {
    pub index: String,
    #[schema(value_type = crate::routes::SettingsInput)]
    pub settings: Settings,
}

pub struct LiveIndex {
    pub model: index::Model,
    /// Position among the collection's vector columns.
    pub column: usize,
    /// `None` until it is built, or while it is being rebuilt.
    pub attached: Option<Attached>,
}

pub struct Live {
    pub id: i64,
    pub name: String,
    pub collection: Collection,
    pub metrics: Vec<Metric>,
    pub table: ArcSwap<Table>,
    pub indexes: ArcSwap<Vec<Arc<LiveIndex>>>,
    pub serving: ArcSwap<Vec<Option<Serving>>>,
    writer: tokio::sync::Mutex<Writer>,
    /// Held while the list of indexes changes.
    indexing: parking_lot::Mutex<()>,
}

impl Live {
    /// Reads everything from the database, then attaches the index files.
    pub async fn open(hub: &Arc<Hub>, collection: Collection) -> Result<Arc<Live>, CatalogError> {
        let start = Instant::now();
        let schema = Schema::from_json(&collection.about.fields)
            .map_err(|e| CatalogError::Internal(format!("fields of {}: {e}", collection.about.name)))?;
        let metrics: Vec<Metric> = collection
            .columns
            .iter()
            .map(|c| c.metric.parse().map_err(CatalogError::Internal))
            .collect::<Result<_, _>>()?;
        let columns = collection.columns.iter().zip(&metrics);
        let writer = Writer::new(schema, columns.map(|(c, m)| (c.name.clone(), *m, c.dimensions as usize)));
        let serving = collection
            .columns
            .iter()
            .map(|c| c.serving.clone().and_then(|s| serde_json::from_value(s).ok()))
            .collect();
        let live = Arc::new(Live {
            id: collection.about.id,
            name: collection.about.name.clone(),
            metrics,
            table: ArcSwap::from_pointee(writer.snapshot()),
            indexes: ArcSwap::default(),
            serving: ArcSwap::from_pointee(serving),
            writer: tokio::sync::Mutex::new(writer),
            indexing: parking_lot::Mutex::default(),
            collection,
        });
        live.follow(&hub.catalog).await?;
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

    pub fn columns(&self) -> &[vector_column::Model] {
        &self.collection.columns
    }

    fn column_ids(&self) -> Vec<i64> {
        self.columns().iter().map(|c| c.id).collect()
    }

    /// A vector column by name; the only one when none is named.
    pub fn column(&self, name: Option<&str>, pointer: &str) -> Result<usize> {
        let names = || self.columns().iter().map(|c| c.name.as_str());
        match (name, self.columns().len()) {
            (Some(name), _) => names()
                .position(|n| n == name)
                .ok_or_else(|| Problem::unknown("vector column", name, names()).at(pointer)),
            (None, 1) => Ok(0),
            (None, 0) => Err(Problem::new(
                Kind::WrongShape,
                format!("collection \"{}\" has no vector column", self.name),
            )),
            (None, _) => Err(Problem::new(
                Kind::WrongShape,
                format!("name the vector column: {}", names().collect::<Vec<_>>().join(", ")),
            )
            .at(pointer)),
        }
    }

    pub fn index(&self, name: &str) -> Result<Arc<LiveIndex>> {
        let indexes = self.indexes.load();
        let found = indexes.iter().find(|i| i.model.name == name).cloned();
        found.ok_or_else(|| Problem::unknown("index", name, indexes.iter().map(|i| i.model.name.as_str())))
    }

    fn prepared(&self, vectors: Vec<Option<Vec<f32>>>) -> Vec<Option<Vec<f32>>> {
        let columns = self.columns().iter().zip(&self.metrics);
        vectors
            .into_iter()
            .zip(columns)
            .map(|(v, (c, m))| v.and_then(|v| m.prepare(&v, c.dimensions as usize).ok()))
            .collect()
    }

    /// Applies everything that the database has and this node has not.
    pub async fn follow(&self, catalog: &Catalog) -> Result<(), CatalogError> {
        let mut writer = self.writer.lock().await;
        self.follow_locked(catalog, &mut writer).await
    }

    async fn follow_locked(&self, catalog: &Catalog, writer: &mut Writer) -> Result<(), CatalogError> {
        let after = writer.revision();
        let revision = catalog
            .follow(self.id, &self.column_ids(), after, |portion| {
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
                        vectors: self.prepared(c.vectors),
                    })
                    .collect();
                // Not yet `revision`: a view that breaks off half-way is read again from `after`.
                writer.apply(after, &changes);
            })
            .await?;
        writer.apply(revision, &[]);
        self.table.store(Arc::new(writer.snapshot()));
        Ok(())
    }

    /// Writes a batch. It is in the database and searchable here when this returns; it also gets
    /// there when the caller goes away meanwhile.
    pub async fn write(self: &Arc<Self>, hub: &Arc<Hub>, writes: Vec<RecordWrite>) -> Result<Written> {
        let (live, catalog) = (self.clone(), hub.catalog.clone());
        let task = tokio::spawn(async move {
            let mut writer = live.writer.lock().await;
            let written = catalog.write(live.id, &live.column_ids(), &writes).await?;
            if written.before == writer.revision() {
                let changes: Vec<Change> = writes
                    .into_iter()
                    .zip(&written.numbers)
                    .filter_map(|(w, number)| {
                        Some(Change {
                            number: (*number)?,
                            key: w.key,
                            revision: written.revision,
                            body: w.body.as_object().cloned(),
                            vectors: live.prepared(w.vectors),
                        })
                    })
                    .collect();
                writer.apply(written.revision, &changes);
                live.table.store(Arc::new(writer.snapshot()));
            } else {
                live.follow_locked(&catalog, &mut writer).await?;
            }
            Ok::<_, CatalogError>(written)
        });
        Ok(task.await.map_err(|e| Problem::new(Kind::Internal, format!("the write stopped: {e}")))??)
    }

    /// Deletes records by key; returns how many there were.
    pub async fn delete(self: &Arc<Self>, hub: &Arc<Hub>, keys: Vec<String>) -> Result<(usize, u64)> {
        let (live, catalog) = (self.clone(), hub.catalog.clone());
        let task = tokio::spawn(async move {
            let mut writer = live.writer.lock().await;
            let written = catalog.delete(live.id, &live.column_ids(), &keys).await?;
            if written.revision > writer.revision() {
                live.follow_locked(&catalog, &mut writer).await?;
            }
            Ok::<_, CatalogError>((written.numbers.iter().flatten().count(), written.revision))
        });
        Ok(task.await.map_err(|e| Problem::new(Kind::Internal, format!("the deletion stopped: {e}")))??)
    }

    fn set_index(&self, index: LiveIndex) {
        let _held = self.indexing.lock();
        let mut all = Vec::clone(&self.indexes.load());
        let index = Arc::new(index);
        match all.iter_mut().find(|i| i.model.id == index.model.id) {
            Some(place) => *place = index,
            None => all.push(index),
        }
        self.indexes.store(Arc::new(all));
    }

    fn forget_index(&self, id: i64) {
        let _held = self.indexing.lock();
        let all = self.indexes.load().iter().filter(|i| i.model.id != id).cloned().collect();
        self.indexes.store(Arc::new(all));
    }

    /// Attaches an index from its file. A file that is lost, damaged or of another version is said
    /// so and rebuilt; searches are exact until then.
    async fn attach_file(self: &Arc<Self>, hub: &Arc<Hub>, model: index::Model) -> Result<(), CatalogError> {
        let Some(column) = self.columns().iter().position(|c| c.id == model.column_id) else {
            return Ok(());
        };
        let path = hub.index_path(model.id);
        let table = self.table.load_full();
        let opened =
            tokio::task::spawn_blocking(move || Index::open(&path).map(|i| Attached::new(i, &table))).await;
        let trouble = match opened {
            Ok(Ok(attached)) => {
                self.set_index(LiveIndex { model, column, attached: Some(attached) });
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
            column,
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
        self.set_index(LiveIndex { model: model.clone(), column, attached: None });
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
            let built = live.build(&hub, &model, threads, &job).await;
            if let Err(stop) = &built {
                live.abandon(&hub, &model, stop).await;
            }
            built
        })
        .await
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
                let column = self.columns().iter().position(|c| c.id == model.column_id).unwrap_or(0);
                let failed =
                    index::Model { state: "failed".into(), error: Some(why.clone()), ..model.clone() };
                self.set_index(LiveIndex { model: failed, column, attached: None });
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
        job.say(format!("building {recipe} on revision {revision} with {threads} threads"));
        let built = tokio::task::spawn_blocking(move || -> Result<(Attached, u64, usize), Stop> {
            let vectors = &table.vectors()[column].vectors;
            let mut source = Source {
                description: Description {
                    recipe: String::new(),
                    metric: live.metrics[column],
                    dimensions: vectors.dimensions(),
                    revision,
                    seed: seed as u64,
                },
                vectors: Aligned::with_capacity(table.n_records() * vectors.dimensions()),
                numbers: Vec::with_capacity(table.n_records()),
            };
            for row in table.alive().intersection(vectors.present()) {
                source.vectors.extend(vectors.row(row as u32));
                source.numbers.push(table.number(row as u32));
            }
            let rows = source.numbers.len();
            drop(table);
            let index = Index::build(source, recipe, threads, &progress).map_err(|e| match e {
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
            Ok((Attached::new(opened, &live.table.load()), bytes, rows))
        });
        let (attached, bytes, rows) = built.await.map_err(|e| Stop::Failed(e.to_string()))??;
        let seconds = start.elapsed().as_secs_f64();
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
        self.set_index(LiveIndex { model: ready, column, attached: Some(attached) });
        job.say(format!("{rows} rows in {seconds:.1} s, {:.1} MB on disk", bytes as f64 / 1e6));
        if self.serving.load()[column].is_none() {
            let serving = Serving { index: model.name.clone(), settings: Settings::default() };
            job.say(format!(
                "it is the first index of the column, so it answers searches from now on, with beam {}",
                serving.settings.beam
            ));
            self.set_serving(hub, column, Some(serving)).await?;
        }
        Ok(json!({"index": model.name, "recipe": recipe.to_string(), "rows": rows, "bytes": bytes,
            "seconds": seconds, "revision": revision}))
    }

    pub async fn set_serving(
        &self,
        hub: &Hub,
        column: usize,
        serving: Option<Serving>,
    ) -> Result<(), CatalogError> {
        let value = serving.as_ref().map(|s| json!(s));
        hub.catalog.set_serving(self.columns()[column].id, value).await?;
        let _held = self.indexing.lock();
        let mut all = Vec::clone(&self.serving.load());
        all[column] = serving;
        self.serving.store(Arc::new(all));
        Ok(())
    }

    pub async fn drop_index(&self, hub: &Hub, name: &str) -> Result<()> {
        let index = self.index(name)?;
        for (column, serving) in self.serving.load_full().iter().enumerate() {
            if serving.as_ref().is_some_and(|s| s.index == name) {
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
