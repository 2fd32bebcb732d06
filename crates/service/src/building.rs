//! Indexes of a live collection: built, attached, absorbed into, dropped, and followed when another node
//! did so.
//!
//! The catalogue has the description of an index, which all nodes share. Each node has a copy of its own in a
//! file: a cache that is made again when it is lost, damaged or not this index's.

use crate::hub::{Claim, Hub};
use crate::jobs::{Job, Stop};
use crate::live::{Live, LiveIndex, Serving};
use crate::problem::{Kind, Problem, Result};
use crate::routes::SettingsInput;
use serde_json::{Value, json};
use std::io;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use zesty_catalog::{CatalogError, Ready, index};
use zesty_engine::Recipe;
use zesty_engine::index::{BuildError, Description, FileError, Index, Settings, Source};
use zesty_engine::lines::Aligned;
use zesty_engine::search::{Attached, Foreign};

/// What a build is for.
#[derive(Clone)]
enum Purpose {
    /// The first of this index anywhere.
    First,
    /// This node's copy of an index that the catalogue has as ready.
    Copy,
    /// What was written since the index was made.
    Absorb(Arc<LiveIndex>),
}

/// Whose index it is: ids come again when a database is restored from a dump, so the time goes with them.
fn owner(model: &index::Model) -> String {
    format!(
        "collection {}, column {}, index {}, made {}",
        model.collection_id,
        model.column_id,
        model.id,
        model.created_at.timestamp_millis()
    )
}

/// An index file of this index, whole and sound; or what is wrong with it.
fn open_file(path: &Path, model: &index::Model) -> Result<Arc<Index>, String> {
    let index = Index::open(path).map_err(|e| e.to_string())?;
    let said = index.description();
    if said.owner != owner(model) {
        return Err(format!("the index file {} belongs to another index ({})", path.display(), said.owner));
    }
    if said.recipe != model.recipe || said.seed != model.seed as u64 {
        return Err(format!(
            "the index file {} was made by another recipe ({})",
            path.display(),
            said.recipe
        ));
    }
    Ok(Arc::new(index))
}

/// Waits for a database that does not answer: what has been built must not be lost because MariaDB was away.
#[derive(Default)]
struct Patience {
    waited: bool,
}

impl Patience {
    async fn again(&mut self, job: &Job, error: &CatalogError) -> bool {
        if !matches!(error, CatalogError::Unavailable(_) | CatalogError::Unsure(_) | CatalogError::Busy(_)) {
            return false;
        }
        if !std::mem::replace(&mut self.waited, true) {
            job.say("MariaDB does not answer; what was done is recorded when it is back");
        }
        tokio::time::sleep(Duration::from_secs(1)).await;
        true
    }
}

/// Tries until the database has taken it, or refuses.
macro_rules! patiently {
    ($job:expr, $attempt:expr) => {{
        let mut patience = Patience::default();
        loop {
            match $attempt.await {
                Err(e) if patience.again($job, &e).await => {}
                other => break other,
            }
        }
    }};
}

impl Live {
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
        let recipe = recipe.to_string();
        let describing = self.kept.describing.lock().await;
        let model = hub.catalog.add_index(self.id, column_id, name, &recipe, seed as i64, &hub.node).await?;
        let claim = hub.claim(model.id).ok_or_else(|| busy(name))?;
        self.set_index(LiveIndex { model: model.clone(), attached: None });
        drop(describing);
        let started =
            self.clone().start_build(hub, model.clone(), Purpose::First, threads, None, claim).await;
        if started.is_err() {
            // Nobody builds it, so it must not look as if somebody did.
            self.forget_index(model.id);
            if let Err(e) = hub.catalog.remove_index(&model).await {
                tracing::warn!(index = name, "an index that was not begun stays described: {e}");
            }
        }
        started
    }

    async fn start_build(
        self: Arc<Self>,
        hub: &Arc<Hub>,
        model: index::Model,
        purpose: Purpose,
        threads: usize,
        why: Option<String>,
        claim: Claim,
    ) -> Result<Arc<Job>> {
        let (node, jobs, catalog) = (hub.node.clone(), hub.jobs.clone(), hub.catalog.clone());
        let subject = model.name.clone();
        let (hub, live) = (hub.clone(), self.clone());
        let kind = if matches!(purpose, Purpose::Absorb(_)) { "absorb" } else { "build" };
        jobs.start(&catalog, &node, kind, &self.name, &subject, move |job| async move {
            let _claim = claim;
            if let Some(why) = why {
                job.say(why);
            }
            let built = live.build(&hub, &model, &purpose, threads, &job).await;
            if let Err(stop) = &built {
                live.abandon(&hub, &model, &purpose, stop, &job).await;
            }
            built
        })
        .await
    }

    /// Takes into an index what was written since it was made: new rows are folded in, what led over dead ones is
    /// mended; when too much has changed it is made from nothing. It answers as before until that is done. An index
    /// that is not on this node is built.
    pub async fn absorb(self: &Arc<Self>, hub: &Arc<Hub>, index: Arc<LiveIndex>) -> Result<Arc<Job>> {
        let model = index.model.clone();
        let claim = hub.claim(model.id).ok_or_else(|| busy(&model.name))?;
        let purpose = if index.attached.is_some() { Purpose::Absorb(index) } else { Purpose::Copy };
        self.clone().start_build(hub, model, purpose, hub.threads, None, claim).await
    }

    /// Indexes that much was written beside: a quarter of their rows, or a twentieth once writing has paused.
    pub fn stale(&self, paused: bool) -> Vec<Arc<LiveIndex>> {
        let table = self.table.load();
        let all = self.kept.indexes.load();
        let is_stale = |index: &&Arc<LiveIndex>| {
            let (Some(attached), Some(column)) = (&index.attached, self.position(index)) else {
                return false;
            };
            if !attached.fits(&table) {
                return false;
            }
            let changed = attached.uncovered(&table, column).count_ones(..) + attached.n_dead(&table);
            let nodes = attached.index.len();
            changed >= 256 && changed >= nodes / if paused { 20 } else { 4 }
        };
        all.iter().filter(is_stale).cloned().collect()
    }

    /// Reads which indexes there are and what serves each column, and makes this node's copies follow.
    pub async fn follow_choices(self: &Arc<Self>, hub: &Arc<Hub>) -> Result<(), CatalogError> {
        let _describing = self.kept.describing.lock().await;
        let choices = hub.catalog.choices(self.id).await?;
        let known = self.kept.indexes.load_full();
        for gone in known.iter().filter(|k| !choices.indexes.iter().any(|m| m.id == k.model.id)) {
            if let Some(job) = hub.jobs.running(&self.name, &gone.model.name) {
                job.progress.cancel();
            }
            self.forget_index(gone.model.id);
            let _ = std::fs::remove_file(hub.index_path(gone.model.id));
        }
        for model in choices.indexes {
            if self.position_of(model.column_id).is_some() {
                let known = known.iter().find(|k| k.model.id == model.id);
                self.follow_index(hub, model, known).await;
            }
        }
        let serving = choices.serving.into_iter().filter_map(|s| {
            let choice = s.choice?;
            match serde_json::from_value::<Serving>(choice) {
                Ok(serving) => Some((s.column, serving)),
                Err(e) => {
                    tracing::warn!(collection = self.name, "a serving choice cannot be read: {e}");
                    None
                }
            }
        });
        let serving = serving.collect();
        self.edit_serving(|all| *all = serving);
        self.kept.choices.store(choices.version, Ordering::Relaxed);
        Ok(())
    }

    async fn follow_index(
        self: &Arc<Self>,
        hub: &Arc<Hub>,
        model: index::Model,
        known: Option<&Arc<LiveIndex>>,
    ) {
        if known.is_some_and(|k| k.attached.is_some()) || hub.is_claimed(model.id) {
            return;
        }
        // What failed here is tried again when somebody asks for it, or at the next start.
        let failed_here = known.is_some_and(|k| k.model.state == "failed" && model.state == "ready");
        match model.state.as_str() {
            "ready" if failed_here => {}
            "ready" => self.attach_file(hub, model).await,
            "building" if known.is_none() && (model.node == hub.node || model.node.is_empty()) => {
                let why = "the service stopped while it was built; building again".to_owned();
                self.rebuild(hub, model, Purpose::First, why).await;
            }
            // Another node builds it, or it failed there.
            _ => self.set_index(LiveIndex { model, attached: None }),
        }
    }

    /// Takes over builds whose node is gone.
    pub async fn take_over_builds(self: &Arc<Self>, hub: &Arc<Hub>) -> Result<(), CatalogError> {
        for index in self.kept.indexes.load_full().iter() {
            let model = &index.model;
            let elsewhere = model.state == "building" && model.node != hub.node && !hub.is_claimed(model.id);
            if elsewhere && hub.catalog.take_over_build(model.id, &hub.node).await? {
                let why = format!("node {} is gone; building here", model.node);
                let model = index::Model { node: hub.node.clone(), ..model.clone() };
                self.rebuild(hub, model, Purpose::First, why).await;
            }
        }
        Ok(())
    }

    /// Attaches an index from its file. A file that is lost, damaged, of another version or of another index is said
    /// so and made again; searches are exact until then.
    async fn attach_file(self: &Arc<Self>, hub: &Arc<Hub>, model: index::Model) {
        let (path, of) = (hub.index_path(model.id), model.clone());
        let opened = tokio::task::spawn_blocking(move || open_file(&path, &of)).await;
        let trouble = match opened {
            Ok(Ok(index)) => match self.attach(hub, index, model.clone()).await {
                Ok(()) => return,
                Err(trouble) => trouble,
            },
            Ok(Err(trouble)) => trouble,
            Err(stopped) => stopped.to_string(),
        };
        self.rebuild(hub, model, Purpose::Copy, format!("{trouble}; rebuilding")).await;
    }

    async fn rebuild(self: &Arc<Self>, hub: &Arc<Hub>, model: index::Model, purpose: Purpose, why: String) {
        let Some(claim) = hub.claim(model.id) else { return };
        tracing::warn!(collection = self.name, index = model.name, "{why}");
        let building = index::Model { state: "building".into(), ..model.clone() };
        self.set_index(LiveIndex { model: building, attached: None });
        let started =
            self.clone().start_build(hub, model.clone(), purpose, hub.threads, Some(why), claim).await;
        if let Err(problem) = started {
            tracing::error!(collection = self.name, "cannot start a rebuild: {}", problem.detail);
            let error = Some(format!("its rebuild could not be started: {}", problem.detail));
            let failed = index::Model { state: "failed".into(), error, ..model };
            self.set_index(LiveIndex { model: failed, attached: None });
        }
    }

    /// Attaches an index to the rows as they are numbered now, and again when a change of shape came between.
    async fn attach(
        self: &Arc<Self>,
        hub: &Arc<Hub>,
        index: Arc<Index>,
        model: index::Model,
    ) -> Result<(), String> {
        loop {
            let live = hub.by_id(self.id).unwrap_or_else(|| self.clone());
            let Some(column) = live.position_of(model.column_id) else {
                return Ok(());
            };
            let (table, index) = (live.table.load_full(), index.clone());
            let attached = tokio::task::spawn_blocking(move || Attached::new(index, &table, column)).await;
            let attached = attached
                .map_err(|e| e.to_string())?
                .map_err(|foreign: Foreign| format!("the index file: {foreign}"))?;
            let ready = index::Model { state: "ready".into(), error: None, ..model.clone() };
            live.set_index(LiveIndex { model: ready, attached: Some(attached) });
            let now = hub.by_id(self.id).unwrap_or(live);
            let (table, indexes) = (now.table.load_full(), now.kept.indexes.load());
            let mine = indexes.iter().find(|i| i.model.id == model.id);
            if mine.and_then(|i| i.attached.as_ref()).is_none_or(|a| a.fits(&table)) {
                return Ok(());
            }
        }
    }

    /// Attaches indexes again that speak of rows as they were numbered before.
    pub async fn attach_again(self: &Arc<Self>, hub: &Arc<Hub>) {
        for old in self.kept.indexes.load_full().iter() {
            let Some(attached) = old.attached.as_ref().filter(|a| !a.fits(&self.table.load())) else {
                continue;
            };
            if let Err(trouble) = self.attach(hub, attached.index.clone(), old.model.clone()).await {
                self.rebuild(hub, old.model.clone(), Purpose::Copy, format!("{trouble}; rebuilding")).await;
            }
        }
    }

    /// A build that did not succeed leaves nothing behind when it was the first and was cancelled; the description
    /// with its error stays when there is something to learn from it. Of an index that is ready elsewhere, or was
    /// here before, nothing but this node's copy is at stake.
    async fn abandon(&self, hub: &Hub, model: &index::Model, purpose: &Purpose, stop: &Stop, job: &Job) {
        let failed = |why: String| {
            let failed = index::Model { state: "failed".into(), error: Some(why), ..model.clone() };
            self.set_index(LiveIndex { model: failed, attached: None });
        };
        let told = match (purpose, stop) {
            (Purpose::Absorb(_), _) => return,
            (Purpose::Copy, stop) => {
                let why = match stop {
                    Stop::Cancelled => "the build of this node's copy was cancelled".to_owned(),
                    Stop::Failed(why) => format!("this node's copy could not be built: {why}"),
                };
                if self.index(&model.name).is_ok_and(|i| i.model.id == model.id) {
                    failed(why);
                }
                return;
            }
            (Purpose::First, Stop::Cancelled) => {
                self.forget_index(model.id);
                let _ = std::fs::remove_file(hub.index_path(model.id));
                patiently!(job, hub.catalog.remove_index(model))
            }
            (Purpose::First, Stop::Failed(why)) => {
                failed(why.clone());
                patiently!(job, hub.catalog.index_failed(model, why)).map(drop)
            }
        };
        match told {
            // With its collection, everything there was to tell is gone.
            Ok(()) | Err(CatalogError::Missing { .. }) => {}
            Err(e) => tracing::warn!("cannot record a failed build: {e}"),
        }
    }

    async fn build(
        self: &Arc<Self>,
        hub: &Arc<Hub>,
        model: &index::Model,
        purpose: &Purpose,
        threads: usize,
        job: &Arc<Job>,
    ) -> Result<Value, Stop> {
        let live = hub.by_id(self.id).unwrap_or_else(|| self.clone());
        let gone = || Stop::Failed("its vector column is gone".into());
        let column = live.position_of(model.column_id).ok_or_else(gone)?;
        let recipe: Recipe = model.recipe.parse().map_err(|e| Stop::Failed(format!("recipe: {e}")))?;
        let start = Instant::now();
        let (path, progress) = (hub.index_path(model.id), job.progress.clone());
        let table = live.table.load_full();
        let revision = table.revision();
        let verb = if matches!(purpose, Purpose::Absorb(_)) { "absorbing into" } else { "building" };
        job.say(format!("{verb} {recipe} on revision {revision} with {threads} threads"));
        let (old, said, of) = (purpose.clone(), job.clone(), model.clone());
        let metric = live.metrics[column];
        let built = tokio::task::spawn_blocking(move || -> Result<(Arc<Index>, u64, usize), Stop> {
            let vectors = &table.vectors()[column].vectors;
            let mut source = Source {
                description: Description {
                    recipe: String::new(),
                    metric,
                    dimensions: vectors.dimensions(),
                    revision,
                    seed: of.seed as u64,
                    owner: owner(&of),
                    rows_at_build: 0,
                },
                vectors: Aligned::with_capacity(table.n_records() * vectors.dimensions()),
                numbers: Vec::with_capacity(table.n_records()),
            };
            for row in table.alive().and(vectors.present()).ones() {
                source.vectors.extend(vectors.row(row as u32));
                source.numbers.push(table.number(row as u32));
            }
            let rows = source.numbers.len();
            let old = match &old {
                Purpose::Absorb(index) => index.attached.as_ref(),
                _ => None,
            };
            let old = old.filter(|a| a.fits(&table)).map(|a| (&a.index, a.living(&table, column)));
            drop(table);
            let made = match old {
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
            let index = made.map_err(|e| match e {
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
            if progress.is_cancelled() {
                return Err(Stop::Cancelled);
            }
            let bytes = index.write(&path).map_err(failed)?;
            // From here on the file is the index: one way to serve it, built now or long ago.
            let opened = Index::open(&path).map_err(failed)?;
            Ok((Arc::new(opened), bytes, rows))
        });
        let (index, bytes, rows) = built.await.map_err(|e| Stop::Failed(e.to_string()))??;
        let took = start.elapsed().as_secs_f64();
        // An index that was dropped meanwhile stays dropped.
        let dropped = || {
            let _ = std::fs::remove_file(hub.index_path(model.id));
            Stop::Cancelled
        };
        let live = hub.by_id(self.id).ok_or_else(dropped)?;
        if !live.kept.indexes.load().iter().any(|i| i.model.id == model.id) {
            return Err(dropped());
        }
        let seconds = if matches!(purpose, Purpose::Absorb(_)) { model.build_seconds } else { took };
        let ready = index::Model {
            state: "ready".into(),
            revision: revision as i64,
            n_rows: rows as i64,
            n_bytes: bytes as i64,
            build_seconds: seconds,
            error: None,
            ..model.clone()
        };
        live.attach(hub, index, ready).await.map_err(Stop::Failed)?;
        let told = Ready { revision, rows: rows as u64, bytes, seconds };
        if !matches!(purpose, Purpose::Copy) {
            let there = patiently!(job, hub.catalog.index_ready(model, told));
            if !matches!(there, Ok(true)) {
                live.forget_index(model.id);
                return Err(match there {
                    Ok(_) | Err(CatalogError::Missing { .. }) => dropped(),
                    Err(e) => e.into(),
                });
            }
        }
        job.say(format!("{rows} rows in {took:.1} s, {:.1} MB on disk", bytes as f64 / 1e6));
        if matches!(purpose, Purpose::First) {
            live.serve_first(hub, model, job).await?;
        }
        Ok(json!({"index": model.name, "recipe": recipe.to_string(), "rows": rows, "bytes": bytes,
            "seconds": took, "revision": revision}))
    }

    /// The first index of a column answers its searches.
    async fn serve_first(
        self: &Arc<Self>,
        hub: &Arc<Hub>,
        model: &index::Model,
        job: &Job,
    ) -> Result<(), Stop> {
        let Some(column) = self.position_of(model.column_id) else { return Ok(()) };
        if self.serving(column).is_some() {
            return Ok(());
        }
        let serving = Serving { index: model.name.clone(), settings: Settings::default() };
        let shown = SettingsInput::of(&model.recipe, serving.settings).to_string();
        let with = if shown.is_empty() { String::new() } else { format!(", with {shown}") };
        let set = patiently!(job, self.set_serving(hub, column, Some(serving.clone())));
        match set {
            Ok(()) => {
                job.say(format!(
                    "it is the first index of the column, so it answers searches from now on{with}"
                ));
                Ok(())
            }
            Err(CatalogError::Missing { .. }) => Ok(()),
            Err(e) => Err(e.into()),
        }
    }

    pub async fn set_serving(
        &self,
        hub: &Hub,
        column: usize,
        serving: Option<Serving>,
    ) -> Result<(), CatalogError> {
        let value = serving.as_ref().map(|s| json!(s));
        let id = self.columns()[column].id;
        hub.catalog.set_serving(self.id, id, value).await?;
        self.edit_serving(|all| match serving {
            Some(serving) => drop(all.insert(id, serving)),
            None => drop(all.remove(&id)),
        });
        Ok(())
    }

    /// Drops an index on all nodes, and the serving choices that name it.
    pub async fn drop_index(&self, hub: &Hub, name: &str) -> Result<()> {
        let index = self.index(name)?;
        hub.catalog.remove_index(&index.model).await?;
        self.edit_serving(|all| all.retain(|_, s| s.index != name));
        self.forget_index(index.model.id);
        // Searches that hold the index keep its mapped file until they end.
        let _ = std::fs::remove_file(hub.index_path(index.model.id));
        Ok(())
    }
}

fn busy(name: &str) -> Problem {
    Problem::new(Kind::StillUsed, format!("index \"{name}\" is being worked on already; wait for that job"))
}
