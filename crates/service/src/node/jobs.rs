//! Long work: with progress, a log, a result, and a way to stop it.
//!
//! The catalog keeps that a job was, and how it ended; progress lives in the node that runs it.

use crate::access::grant::{Grant, Scope};
use crate::node::lanes::Lane;
use crate::node::threads;
use crate::node::way::{GivingWay, giving_way};
use crate::problem::{Kind, Problem, Result};
use chrono::Utc;
use futures::{Stream, StreamExt};
use parking_lot::Mutex;
use serde_json::Value;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use tokio::sync::watch;
use zesty_catalog::{Catalog, CatalogError, Way, job};
use zesty_engine::index::Progress;
use zesty_wire as wire;
use zesty_wire::LogLine;

/// A job of this node.
pub struct Job {
    model: job::Model,
    pub progress: Arc<Progress>,
    /// Who goes before what the job has the database do.
    pub way: Arc<dyn Way>,
    start: Instant,
    log: Mutex<Vec<LogLine>>,
    counts: Mutex<Option<Value>>,
    end: watch::Sender<Option<job::Model>>,
}

impl Job {
    pub fn id(&self) -> i64 {
        self.model.id
    }

    pub fn say(&self, text: impl Into<String>) {
        let text = text.into();
        tracing::info!(job = self.model.id, "{text}");
        let mut log = self.log.lock();
        if log.len() == MOST_LINES {
            // The beginning and the end say more than the middle.
            log.remove(MOST_LINES / 2);
        }
        log.push(LogLine { at: Utc::now(), text });
    }

    /// Shows what has been counted so far.
    pub fn count(&self, counts: Value) {
        *self.counts.lock() = Some(counts);
    }

    pub fn ended(&self) -> watch::Receiver<Option<job::Model>> {
        self.end.subscribe()
    }

    pub fn view(&self) -> wire::Job {
        let end = self.end.borrow().clone();
        let model = end.clone().unwrap_or_else(|| self.model.clone());
        let total = self.progress.total.load(Ordering::Relaxed);
        // Learning takes as many rounds as it needs; its total is a guess.
        let done = self.progress.done.load(Ordering::Relaxed);
        let done = if total > 0 { done.min(total) } else { done };
        let stage = self.progress.stage().filter(|_| model.state == "running");
        let elapsed_s = match end.and_then(|e| e.finished_at) {
            Some(at) => (at - model.created_at).as_seconds_f64(),
            None => self.start.elapsed().as_secs_f64(),
        };
        let left_s = (model.state == "running" && done > 0 && total > done)
            .then(|| stage.map_or(elapsed_s, |(_, since)| since.elapsed().as_secs_f64()))
            .map(|elapsed| elapsed / done as f64 * (total - done) as f64);
        let stage = stage.map(|(name, _)| name.to_owned());
        let counts = self.counts.lock().clone();
        wire::Job {
            stage,
            done,
            total,
            elapsed_s,
            left_s,
            counts,
            log: self.log.lock().clone(),
            ..stored(model)
        }
    }
}

/// A job as the database has it.
pub fn stored(m: job::Model) -> wire::Job {
    let elapsed_s = m.finished_at.map_or(0.0, |at| (at - m.created_at).as_seconds_f64());
    wire::Job {
        id: m.id,
        kind: m.kind,
        collection: m.collection,
        subject: m.subject,
        state: m.state,
        stage: None,
        done: 0,
        total: 0,
        elapsed_s,
        left_s: None,
        counts: None,
        log: Vec::new(),
        result: m.result,
        error: m.error,
        created_at: m.created_at,
        finished_at: m.finished_at,
    }
}

/// How a job ends when it does not succeed.
pub enum Stop {
    Cancelled,
    Failed(String),
}

impl From<Problem> for Stop {
    fn from(problem: Problem) -> Self {
        Stop::Failed(problem.detail)
    }
}

impl From<zesty_catalog::CatalogError> for Stop {
    fn from(error: zesty_catalog::CatalogError) -> Self {
        Stop::Failed(error.to_string())
    }
}

/// The jobs that this node runs, or ran lately.
pub struct Jobs {
    catalog: Catalog,
    /// This node's name.
    node: String,
    searches: Arc<Lane>,
    known: Mutex<BTreeMap<i64, Arc<Job>>>,
}

/// How often a watched job is shown.
const WATCH: Duration = Duration::from_millis(200);
/// Lines that a job's log keeps.
const MOST_LINES: usize = 1000;
/// Jobs that run at the same time, besides those that absorb: each takes threads and memory.
const MOST_RUNNING: usize = 16;
/// Jobs that ended and whose logs this node still has; of older ones the database keeps how they ended.
const MOST_ENDED: usize = 200;

impl Jobs {
    /// The builds of jobs give way to searches.
    pub fn new(catalog: Catalog, node: String, searches: Arc<Lane>) -> Jobs {
        Jobs { catalog, node, searches, known: Mutex::default() }
    }

    /// Starts `work` as a job. It goes on whoever stops watching.
    pub async fn start<F>(
        self: &Arc<Self>,
        kind: &str,
        collection: &str,
        subject: &str,
        work: impl FnOnce(Arc<Job>) -> F,
    ) -> Result<Arc<Job>>
    where
        F: Future<Output = Result<Value, Stop>> + Send + 'static,
    {
        // What keeps an index level with its records may not be held up by what people start.
        if kind != "absorb" {
            let running =
                self.busy_kinds().iter().filter(|(k, _)| *k != "absorb").map(|(_, n)| n).sum::<usize>();
            if running >= MOST_RUNNING {
                let detail = format!(
                    "{running} jobs run on this node, as many as it takes; nothing was started: wait until one ends, or \
                     cancel one"
                );
                return Err(Problem::new(Kind::Overloaded, detail).with("limit", MOST_RUNNING));
            }
        }
        let model = self.catalog.add_job(kind, collection, subject, &self.node).await?;
        let job = Arc::new(Job {
            model,
            progress: Arc::new(Progress::pausing(giving_way(self.searches.clone()))),
            way: Arc::new(GivingWay(self.searches.clone())),
            start: Instant::now(),
            log: Mutex::default(),
            counts: Mutex::default(),
            end: watch::Sender::new(None),
        });
        {
            let mut known = self.known.lock();
            known.insert(job.id(), job.clone());
            let ended: Vec<i64> =
                known.values().filter(|j| j.end.borrow().is_some()).map(|j| j.id()).collect();
            for id in &ended[..ended.len().saturating_sub(MOST_ENDED)] {
                known.remove(id);
            }
        }
        let running = threads::jobs().spawn(work(job.clone()));
        let (catalog, ending) = (self.catalog.clone(), job.clone());
        threads::jobs().spawn(async move {
            let (state, result, error) = match running.await {
                Ok(Ok(result)) => ("done", Some(result), None),
                Ok(Err(Stop::Cancelled)) => ("cancelled", None, None),
                Ok(Err(Stop::Failed(why))) => ("failed", None, Some(why)),
                Err(panic) => ("failed", None, Some(format!("the job stopped unexpectedly: {panic}"))),
            };
            if let Some(why) = &error {
                ending.say(format!("failed: {why}"));
            }
            let told = catalog.end_job(ending.id(), state, result.clone(), error.clone()).await;
            let finished_at = Some(Utc::now());
            let end = job::Model {
                state: state.into(),
                result: result.clone(),
                error: error.clone(),
                finished_at,
                ..ending.model.clone()
            };
            // The end is shown even when the database cannot be told yet.
            ending.end.send_replace(Some(end));
            let mut told = told;
            while let Err(e) = told {
                tracing::warn!(job = ending.id(), "the end of a job is recorded later: {e}");
                if matches!(e, CatalogError::Internal(_)) {
                    return;
                }
                tokio::time::sleep(Duration::from_secs(2)).await;
                told = catalog.end_job(ending.id(), state, result.clone(), error.clone()).await;
            }
        });
        Ok(job)
    }

    /// The newest jobs of all nodes, at most 100.
    pub async fn list(&self, grant: &Grant) -> Result<wire::JobList> {
        grant.require_anywhere(Scope::Read)?;
        grant.require_wide()?;
        let newest = self.catalog.jobs(100).await?.into_iter().filter(|m| grant.covers(&m.collection));
        let jobs = newest.map(|m| self.get(m.id).map_or_else(|| stored(m), |j| j.view())).collect();
        Ok(wire::JobList { jobs })
    }

    /// A job of any node.
    pub async fn show(&self, grant: &Grant, id: i64) -> Result<wire::Job> {
        grant.require_anywhere(Scope::Read)?;
        grant.require_wide()?;
        self.find(grant, id).await
    }

    /// A job of a collection that the key is good for.
    async fn find(&self, grant: &Grant, id: i64) -> Result<wire::Job> {
        let known = match self.get(id) {
            Some(job) => Some(job.view()),
            None => self.catalog.job(id).await?.map(stored),
        };
        let known = known.filter(|job| grant.covers(&job.collection));
        known.ok_or_else(|| Problem::unknown("job", &id.to_string(), []))
    }

    /// A job again and again while it runs on this node; the last one is how it ended, or how the database has it.
    pub async fn watch(
        self: &Arc<Self>,
        grant: &Grant,
        id: i64,
    ) -> Result<impl Stream<Item = wire::Job> + use<>> {
        let first = self.show(grant, id).await?;
        let job = self.get(id);
        let ended = job.as_ref().map(|j| j.ended());
        let stream = futures::stream::unfold((Some(first), job, ended), |(next, job, ended)| async move {
            let view = next?;
            // What runs on another node cannot be watched here.
            let (false, Some(job), Some(mut ended)) = (view.state != "running", job, ended) else {
                return Some((view, (None, None, None)));
            };
            let _ = tokio::time::timeout(WATCH, ended.wait_for(Option::is_some)).await;
            let after = job.view();
            Some((view, (Some(after), Some(job), Some(ended))))
        });
        Ok(stream.fuse())
    }

    /// Asks a job of this node to stop; returns how it is now.
    pub async fn cancel(&self, grant: &Grant, id: i64) -> Result<wire::Job> {
        let of_writers = |kind: &str| matches!(kind, "load" | "backfill");
        if grant.require_anywhere(Scope::Write).is_err() {
            grant.require_anywhere(Scope::Tune)?;
        }
        grant.require_wide()?;
        let job = self.find(grant, id).await?;
        let scope = if of_writers(&job.kind) { Scope::Write } else { Scope::Tune };
        grant.require(scope, Some(&job.collection))?;
        if let Some(job) = self.get(id) {
            job.progress.cancel();
        }
        self.find(grant, id).await
    }

    pub fn get(&self, id: i64) -> Option<Arc<Job>> {
        self.known.lock().get(&id).cloned()
    }

    /// A job that builds or absorbs into an index and still runs.
    pub fn running(&self, collection: &str, index: &str) -> Option<Arc<Job>> {
        let known = self.known.lock();
        let works = |j: &&Arc<Job>| {
            let m = &j.model;
            j.end.borrow().is_none()
                && matches!(m.kind.as_str(), "build" | "absorb")
                && (m.collection.as_str(), m.subject.as_str()) == (collection, index)
        };
        known.values().find(works).cloned()
    }

    /// Which of these kinds of jobs run on this node, each with its collection.
    pub fn busy(&self, kinds: &[&str]) -> Vec<String> {
        let known = self.known.lock();
        let runs = |j: &&Arc<Job>| j.end.borrow().is_none() && kinds.contains(&j.model.kind.as_str());
        known.values().filter(runs).map(|j| format!("a {} of {}", j.model.kind, j.model.collection)).collect()
    }

    /// How many jobs of each kind run on this node.
    pub fn busy_kinds(&self) -> BTreeMap<String, usize> {
        let known = self.known.lock();
        let mut kinds = BTreeMap::new();
        for job in known.values().filter(|j| j.end.borrow().is_none()) {
            *kinds.entry(job.model.kind.clone()).or_default() += 1;
        }
        kinds
    }

    /// Cancels whatever still runs on a collection.
    pub fn cancel_for(&self, collection: &str) {
        for job in self.known.lock().values().filter(|j| j.model.collection == collection) {
            job.progress.cancel();
        }
    }
}
