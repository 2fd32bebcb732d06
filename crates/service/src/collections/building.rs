//! Building indexes of a live collection, and absorbing into them what was written since.
//!
//! The catalogue has the description of an index, which all nodes share. Each node has a copy of its own in a
//! file: a cache that is made again when it is lost, damaged or not this index's.

use crate::collections::claims::Claim;
use crate::collections::index_files;
use crate::collections::live::{Live, LiveIndex, Serving};
use crate::collections::recipes::{build_takes, data_shape, explained};
use crate::collections::registry::Registry;
use crate::node::jobs::{Job, Stop};
use crate::node::threads::background;
use crate::problem::{Kind, Problem, Result};
use crate::search::settings::settings_of;
use serde_json::{Value, json};
use std::io;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};
use zesty_catalog::{CatalogError, Ready, index};
use zesty_engine::Recipe;
use zesty_engine::index::{BuildError, Description, FileError, Index, Settings};
use zesty_engine::search::{Attached, Foreign, source_of};

/// What a build is for.
#[derive(Clone)]
pub enum Purpose {
    /// The first of this index anywhere.
    First,
    /// This node's copy of an index that the catalogue has as ready.
    Copy,
    /// What was written since the index was made.
    Absorb(Arc<LiveIndex>),
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
            job.say("MariaDB does not answer; the result is recorded when it is back");
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
        registry: &Arc<Registry>,
        column: usize,
        name: &str,
        recipe: Recipe,
        seed: u64,
        threads: usize,
    ) -> Result<Arc<Job>> {
        let column_id = self.columns()[column].id;
        let recipe = recipe.to_string();
        let describing = self.kept.describing.lock().await;
        let model = registry
            .catalog
            .add_index(self.id, column_id, name, &recipe, seed as i64, &registry.node)
            .await?;
        let claim = registry.claims.claim(model.id).ok_or_else(|| busy(name))?;
        self.set_index(LiveIndex { model: model.clone(), attached: None });
        drop(describing);
        let started =
            self.clone().start_build(registry, model.clone(), Purpose::First, threads, None, claim).await;
        if started.is_err() {
            // Nobody builds it, so it must not look as if somebody did. Nor is it taken from the database again meanwhile.
            let _describing = self.kept.describing.lock().await;
            self.forget_index(model.id);
            if let Err(e) = registry.catalog.remove_index(&model).await {
                tracing::warn!(index = name, "an index that was not begun stays described: {e}");
            }
        }
        started
    }

    async fn start_build(
        self: Arc<Self>,
        registry: &Arc<Registry>,
        model: index::Model,
        purpose: Purpose,
        threads: usize,
        why: Option<String>,
        claim: Claim,
    ) -> Result<Arc<Job>> {
        let subject = model.name.clone();
        let (registry, live) = (registry.clone(), self.clone());
        let kind = if matches!(purpose, Purpose::Absorb(_)) { "absorb" } else { "build" };
        let jobs = registry.jobs.clone();
        jobs.start(kind, &self.name, &subject, move |job| async move {
            let _claim = claim;
            if let Some(why) = why {
                job.say(why);
            }
            let built = live.build(&registry, &model, &purpose, threads, &job).await;
            if let Err(stop) = &built {
                live.abandon(&registry, &model, &purpose, stop, &job).await;
            }
            built
        })
        .await
    }

    /// Takes into an index what was written since it was made: new rows are folded in, what led over dead ones is
    /// repaired; if too much has changed, it is made from all rows. It answers as before until that is done. An index
    /// that is not on this node is built.
    pub async fn absorb(
        self: &Arc<Self>,
        registry: &Arc<Registry>,
        index: Arc<LiveIndex>,
    ) -> Result<Arc<Job>> {
        let model = index.model.clone();
        let claim = registry.claims.claim(model.id).ok_or_else(|| busy(&model.name))?;
        let purpose = if index.attached.is_some() { Purpose::Absorb(index) } else { Purpose::Copy };
        self.clone().start_build(registry, model, purpose, registry.threads, None, claim).await
    }

    pub(super) async fn rebuild(
        self: &Arc<Self>,
        registry: &Arc<Registry>,
        model: index::Model,
        purpose: Purpose,
        why: String,
    ) {
        let Some(claim) = registry.claims.claim(model.id) else { return };
        tracing::warn!(collection = self.name, index = model.name, "{why}");
        let building = index::Model { state: "building".into(), ..model.clone() };
        self.set_index(LiveIndex { model: building, attached: None });
        let started = self
            .clone()
            .start_build(registry, model.clone(), purpose, registry.threads, Some(why), claim)
            .await;
        if let Err(problem) = started {
            tracing::error!(collection = self.name, "cannot start a rebuild: {}", problem.detail);
            let error = Some(format!("its rebuild could not be started: {}", problem.detail));
            let failed = index::Model { state: "failed".into(), error, ..model };
            self.set_index(LiveIndex { model: failed, attached: None });
        }
    }

    /// Attaches an index to the rows as they are numbered now, and again when a change of shape came between.
    pub(super) async fn attach(
        self: &Arc<Self>,
        registry: &Arc<Registry>,
        index: Arc<Index>,
        model: index::Model,
    ) -> Result<(), String> {
        loop {
            let live = registry.by_id(self.id).unwrap_or_else(|| self.clone());
            let Some(column) = live.position_of(model.column_id) else {
                return Ok(());
            };
            let (table, index) = (live.table.load_full(), index.clone());
            let attached = background(move || Attached::new(index, &table, column)).await?;
            let attached = attached.map_err(|foreign: Foreign| format!("the index file: {foreign}"))?;
            let ready = index::Model { state: "ready".into(), error: None, ..model.clone() };
            live.set_index(LiveIndex { model: ready, attached: Some(attached) });
            let now = registry.by_id(self.id).unwrap_or(live);
            let (table, indexes) = (now.table.load_full(), now.kept.indexes.load());
            let mine = indexes.iter().find(|i| i.model.id == model.id);
            if mine.and_then(|i| i.attached.as_ref()).is_none_or(|a| a.fits(&table)) {
                return Ok(());
            }
        }
    }

    /// A build that did not succeed leaves nothing behind when it was the first and was cancelled; the description
    /// with its error stays when there is something to learn from it. Of an index that is ready elsewhere, or was
    /// here before, nothing but this node's copy is at stake.
    async fn abandon(
        &self,
        registry: &Registry,
        model: &index::Model,
        purpose: &Purpose,
        stop: &Stop,
        job: &Job,
    ) {
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
                registry.folder.remove_index(model.id);
                patiently!(job, registry.catalog.remove_index(model))
            }
            (Purpose::First, Stop::Failed(why)) => {
                failed(why.clone());
                patiently!(job, registry.catalog.index_failed(model, why)).map(drop)
            }
        };
        match told {
            // With its collection, everything there was to tell is gone.
            Ok(()) | Err(CatalogError::Missing { .. }) => {}
            Err(e) => tracing::warn!("cannot record a failed build: {e}"),
        }
    }

    /// Builds, writes, attaches and records an index.
    async fn build(
        self: &Arc<Self>,
        registry: &Arc<Registry>,
        model: &index::Model,
        purpose: &Purpose,
        threads: usize,
        job: &Arc<Job>,
    ) -> Result<Value, Stop> {
        let start = Instant::now();
        let live = registry.by_id(self.id).unwrap_or_else(|| self.clone());
        let recipe: Recipe = model.recipe.parse().map_err(|e| Stop::Failed(format!("recipe: {e}")))?;
        let Made { index, revision, rows, bytes } =
            live.make(registry, model, purpose, (recipe, threads), job).await?;
        let elapsed_s = start.elapsed().as_secs_f64();
        // An index that was dropped meanwhile stays dropped.
        let dropped = || {
            registry.folder.remove_index(model.id);
            Stop::Cancelled
        };
        let live = registry.by_id(self.id).ok_or_else(dropped)?;
        if !live.kept.indexes.load().iter().any(|i| i.model.id == model.id) {
            return Err(dropped());
        }
        let seconds = if matches!(purpose, Purpose::Absorb(_)) { model.build_seconds } else { elapsed_s };
        let ready = index::Model {
            state: "ready".into(),
            revision: revision as i64,
            n_rows: rows as i64,
            n_bytes: bytes as i64,
            build_seconds: seconds,
            error: None,
            ..model.clone()
        };
        live.attach(registry, index, ready).await.map_err(Stop::Failed)?;
        let told = Ready { revision, rows: rows as u64, bytes, seconds };
        if !matches!(purpose, Purpose::Copy) {
            let there = patiently!(job, registry.catalog.index_ready(model, told));
            if !matches!(there, Ok(true)) {
                live.forget_index(model.id);
                return Err(match there {
                    Ok(_) | Err(CatalogError::Missing { .. }) => dropped(),
                    Err(e) => e.into(),
                });
            }
        }
        job.say(format!("{rows} rows in {elapsed_s:.1} s, {:.1} MB on disk", bytes as f64 / 1e6));
        if matches!(purpose, Purpose::First) {
            live.serve_first(registry, model, job).await?;
        }
        Ok(json!({"index": model.name, "recipe": recipe.to_string(), "rows": rows, "bytes": bytes,
            "seconds": elapsed_s, "revision": revision}))
    }

    /// Makes the structure and its file from the rows as they are now.
    async fn make(
        self: &Arc<Self>,
        registry: &Registry,
        model: &index::Model,
        purpose: &Purpose,
        (recipe, threads): (Recipe, usize),
        job: &Arc<Job>,
    ) -> Result<Made, Stop> {
        let gone = || Stop::Failed("its vector column is gone".into());
        let column = self.position_of(model.column_id).ok_or_else(gone)?;
        let table = self.table.load_full();
        let revision = table.revision();
        let verb = if matches!(purpose, Purpose::Absorb(_)) { "absorbing into" } else { "building" };
        let shape = data_shape(self, column);
        let wanted = build_takes(&explained(recipe, shape)?, shape);
        let reserved = registry.reserve(&wanted)?;
        job.say(format!("{verb} {recipe} on revision {revision} with {threads} threads"));
        let (path, job, purpose) = (registry.folder.index(model.id), job.clone(), purpose.clone());
        let pages = registry.pages.clone();
        let about = Description {
            recipe: String::new(),
            metric: self.metrics[column],
            dimensions: self.columns()[column].dimensions as usize,
            revision,
            seed: model.seed as u64,
            owner: index_files::owner(model),
            rows_at_build: 0,
        };
        let work = move || -> Result<Made, Stop> {
            let _reserved = reserved;
            let source = source_of(&table, column, about);
            let rows = source.numbers.len();
            let old = match &purpose {
                Purpose::Absorb(index) => index.attached.as_ref(),
                _ => None,
            };
            let pages = pages.instead_of(old.map_or(0, |a| a.index.n_bytes_copied()));
            let old = old.filter(|a| a.fits(&table)).map(|a| (&a.index, a.living(&table, column)));
            drop(table);
            let made = match old {
                Some((index, alive)) if !index.is_outgrown(alive.count_ones(..), rows) => {
                    let n = alive.count_ones(..);
                    let (come, go) = (rows.saturating_sub(n), index.len() - n);
                    job.say(format!("{n} rows stay, {come} come, {go} go"));
                    index.renew(source, &alive, threads, &job.progress)
                }
                old => {
                    if old.is_some() {
                        job.say(
                            "too much has changed since it was built, so it is built again from all rows",
                        );
                    }
                    Index::build(source, recipe, threads, &job.progress)
                }
            };
            let index = made.map_err(|e| match e {
                BuildError::Cancelled => Stop::Cancelled,
                other => Stop::Failed(other.to_string()),
            })?;
            if job.progress.is_cancelled() {
                return Err(Stop::Cancelled);
            }
            let failed = |e: FileError| Stop::Failed(not_written(&e, &index, &path));
            let bytes = index.write(&path).map_err(failed)?;
            // From here on the file is the index: one way to serve it, built now or long ago.
            drop(index);
            let unread = |e: FileError| Stop::Failed(e.to_string());
            let opened = Index::open_into(&path, &pages).map_err(unread)?;
            Ok(Made { index: Arc::new(opened), revision, rows, bytes })
        };
        background(work).await.map_err(Stop::Failed)?
    }

    /// The first index of a column answers its searches.
    async fn serve_first(
        self: &Arc<Self>,
        registry: &Arc<Registry>,
        model: &index::Model,
        job: &Job,
    ) -> Result<(), Stop> {
        let Some(column) = self.position_of(model.column_id) else { return Ok(()) };
        if self.serving(column).is_some() {
            return Ok(());
        }
        let serving = Serving { index: model.name.clone(), settings: Settings::default(), recall: None };
        let shown = settings_of(&model.recipe, serving.settings).to_string();
        let with = if shown.is_empty() { String::new() } else { format!(", with {shown}") };
        let set = patiently!(job, self.set_serving(registry, column, Some(serving.clone())));
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
}

/// An index that was made, and written to its file.
struct Made {
    index: Arc<Index>,
    revision: u64,
    rows: usize,
    bytes: u64,
}

/// Why an index file could not be written.
fn not_written(error: &FileError, index: &Index, path: &Path) -> String {
    match error {
        FileError::Io(io) if io.kind() == io::ErrorKind::StorageFull => format!(
            "the disk is full: {} needs {} MB; free some space, then `zesty index absorb` builds it",
            path.display(),
            (index.n_bytes_vectors() + index.n_bytes_structure()) / 1_000_000 + 1
        ),
        _ => error.to_string(),
    }
}

fn busy(name: &str) -> Problem {
    Problem::new(Kind::StillUsed, format!("index \"{name}\" is being worked on already; wait for that job"))
}
