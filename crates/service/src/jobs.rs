//! Long work: with progress, a log, a result, and a way to stop it.
//!
//! The catalog keeps that a job was, and how it ended; progress lives in the node that runs it.

use crate::problem::{Problem, Result};
use chrono::{DateTime, Utc};
use parking_lot::Mutex;
use serde::Serialize;
use serde_json::Value;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use tokio::sync::watch;
use utoipa::ToSchema;
use zesty_catalog::{Catalog, CatalogError, job};
use zesty_engine::index::Progress;

#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct LogLine {
    pub at: DateTime<Utc>,
    pub text: String,
}

/// A job as it is shown.
#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct JobView {
    pub id: i64,
    /// `build`, `absorb`, `sweep`, `load` or `fill`
    pub kind: String,
    pub collection: String,
    /// What it works on, such as the name of an index
    pub subject: String,
    /// `running`, `done`, `failed` or `cancelled`
    pub state: String,
    /// What it is doing, where it has stages: of a build, such as `learning cells` or `linking`
    pub stage: Option<String>,
    /// Of the stage, where there is one
    pub done: usize,
    /// 0 while it is not known
    pub total: usize,
    pub elapsed_s: f64,
    /// Estimated from the pace so far
    pub left_s: Option<f64>,
    /// What it has counted so far; of a load: read, new, replaced, unchanged, rejected, unencoded
    #[schema(value_type = Option<Object>)]
    pub counts: Option<Value>,
    pub log: Vec<LogLine>,
    #[schema(value_type = Option<Object>)]
    pub result: Option<Value>,
    pub error: Option<String>,
    pub created_at: DateTime<Utc>,
    pub finished_at: Option<DateTime<Utc>>,
}

pub struct Job {
    model: job::Model,
    pub progress: Arc<Progress>,
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
            // How it began and how it stands tell more than the middle.
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

    pub fn view(&self) -> JobView {
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
        JobView {
            stage,
            done,
            total,
            elapsed_s,
            left_s,
            counts,
            log: self.log.lock().clone(),
            ..model.into()
        }
    }
}

impl From<job::Model> for JobView {
    fn from(m: job::Model) -> Self {
        let elapsed_s = m.finished_at.map_or(0.0, |at| (at - m.created_at).as_seconds_f64());
        JobView {
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

#[derive(Default)]
pub struct Jobs {
    known: Mutex<BTreeMap<i64, Arc<Job>>>,
}

/// Lines that a job's log keeps.
const MOST_LINES: usize = 1000;
/// Jobs that ended and whose logs this node still has; of older ones the database keeps how they ended.
const MOST_ENDED: usize = 200;

impl Jobs {
    /// Starts `work` as a job. It goes on whoever stops watching.
    pub async fn start<F>(
        self: &Arc<Self>,
        catalog: &Catalog,
        node: &str,
        kind: &str,
        collection: &str,
        subject: &str,
        work: impl FnOnce(Arc<Job>) -> F,
    ) -> Result<Arc<Job>>
    where
        F: Future<Output = Result<Value, Stop>> + Send + 'static,
    {
        let model = catalog.add_job(kind, collection, subject, node).await?;
        let job = Arc::new(Job {
            model,
            progress: Arc::default(),
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
        let running = tokio::spawn(work(job.clone()));
        let (catalog, ending) = (catalog.clone(), job.clone());
        tokio::spawn(async move {
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

    /// Cancels whatever still runs on a collection.
    pub fn cancel_for(&self, collection: &str) {
        for job in self.known.lock().values().filter(|j| j.model.collection == collection) {
            job.progress.cancel();
        }
    }
}
