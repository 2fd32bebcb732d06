//! Loads: files read as a job, written in steps, each step noted with what it wrote.
//!
//! A thread of its own reads and checks ahead by one batch; encoding and writing follow in order, and what was committed
//! becomes searchable while the next batch is written. So memory is bounded by a few batches. The position of a load is in
//! the database, committed with the records: after a crash it goes on with the next row.

use crate::access::grant::Grant;
use crate::collections::registry::Registry;
use crate::collections::writer::Committed;
use crate::loads::batch::{Batch, read_ahead};
use crate::loads::check::{Checked, Checker};
use crate::loads::counts::Counts;
use crate::loads::encode::pause;
use crate::loads::line::{Line, MOST};
use crate::loads::rejects::Rejects;
use crate::loads::spec::kept;
use crate::node::encoders::Encoders;
use crate::node::jobs::{Job, Stop};
use crate::node::threads::{background, blocking};
use crate::node::uploads::Uploads;
use crate::problem::Result;
use crate::records::references::dangling;
use serde_json::{Value, json};
use std::io;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Instant;
use tokio::sync::mpsc;
use zesty_catalog::{Ahead, CatalogError, LoadStep, load};
use zesty_files::Rows;
use zesty_wire::{BadRows, Known, LoadRequest, LoadResult};

/// Records committed together unless a load says otherwise.
pub const BATCH: usize = 1000;

/// What loads work with.
#[derive(Clone)]
pub struct LoadTools {
    pub registry: Arc<Registry>,
    pub encoders: Arc<Encoders>,
    pub uploads: Arc<Uploads>,
}

/// Starts a load, or lets one go on, as a job. `revision` is that of the collection when its records were counted.
pub async fn start(
    grant: &Grant,
    tools: &LoadTools,
    model: load::Model,
    request: LoadRequest,
    rows: Rows,
    revision: Option<u64>,
) -> Result<Arc<Job>> {
    let LoadTools { registry, encoders, uploads } = tools.clone();
    let (jobs, catalog) = (registry.jobs.clone(), registry.catalog.clone());
    let (id, name, subject) = (model.id, model.collection.clone(), rows.file.clone());
    let spec = kept(&request, &uploads);
    let ready = Arc::new(tokio::sync::Notify::new());
    let (go, grant) = (ready.clone(), grant.clone());
    let work = move |job: Arc<Job>| async move {
        go.notified().await;
        let mut load = Load {
            grant,
            registry,
            encoders,
            uploads,
            job,
            collection: model.collection_id,
            id: model.id,
            position: model.position as u64,
            rejects_bytes: model.rejects_bytes as u64,
            others_wrote: model.position > 0,
            revision,
            start: Instant::now(),
            began_at: model.position as u64,
            counts: Counts::of(&model),
            line: Line::default(),
            request,
            last: None,
        };
        let done = load.run(rows).await;
        load.end(done).await
    };
    let job = jobs.start("load", &name, &subject, work).await?;
    // The job's number is kept with the load before it does anything.
    let noted = catalog.load_runs(id, job.id(), spec).await;
    if noted.is_err() {
        job.progress.cancel();
    }
    ready.notify_one();
    noted?;
    Ok(job)
}

/// A load that runs.
pub struct Load {
    grant: Grant,
    pub(super) registry: Arc<Registry>,
    pub(super) encoders: Arc<Encoders>,
    uploads: Arc<Uploads>,
    pub(super) job: Arc<Job>,
    /// The collection's id.
    pub(super) collection: i64,
    pub(super) id: i64,
    request: LoadRequest,
    /// Rows behind it, committed.
    pub(super) position: u64,
    rejects_bytes: u64,
    /// Others wrote to the collection too, so that its count cannot be foretold.
    pub(super) others_wrote: bool,
    pub(super) revision: Option<u64>,
    pub(super) counts: Counts,
    pub(super) line: Line,
    start: Instant,
    began_at: u64,
    /// The step that was committed last, until it is searchable here.
    pub(super) last: Option<Committed>,
}

fn no_rejects(error: &io::Error) -> Stop {
    Stop::Failed(match error.kind() {
        io::ErrorKind::StorageFull => {
            "the disk is full, so rows cannot be set aside; free some space and resume the load".into()
        }
        _ => format!("the rejects file cannot be written: {error}"),
    })
}

impl Load {
    async fn run(&mut self, rows: Rows) -> Result<(), Stop> {
        self.job.progress.total.store(rows.total_bytes as usize, Ordering::Relaxed);
        if self.position > 0 {
            self.job.say(format!("continues after {} committed rows", self.position));
        }
        let mut rejects = self.rejects()?;
        let (send, mut batches) = mpsc::channel(MOST);
        let (position, size) = (self.position, self.request.batch.unwrap_or(BATCH));
        let checker = Checker {
            registry: self.registry.clone(),
            collection: self.collection,
            merges: self.merges(),
            set_aside: rejects.is_some(),
            file: rows.file.clone(),
            unit: rows.unit,
        };
        let reading = tokio::spawn(background(move || read_ahead(rows, position, size, &checker, send)));
        let written = self.write_all(&mut batches, &mut rejects).await;
        self.line.give_up().await;
        written?;
        let read = reading.await.map_err(|e| e.to_string()).and_then(|read| read);
        read.map_err(|why| Stop::Failed(format!("reading stopped: {why}")))
    }

    /// Writes batches in their order, until there are no more.
    async fn write_all(
        &mut self,
        batches: &mut mpsc::Receiver<Result<Batch, String>>,
        rejects: &mut Option<Rejects>,
    ) -> Result<(), Stop> {
        while let Some((batch, ahead)) = self.next(batches).await? {
            if self.job.progress.is_cancelled() {
                return Err(Stop::Cancelled);
            }
            let stepped = self.step(batch.checked, ahead, rejects).await;
            // What was committed before a bad row counts too.
            self.job.count(self.counts.view(self.pace()));
            stepped?;
            self.job.progress.done.store(batch.bytes as usize, Ordering::Relaxed);
        }
        Ok(())
    }

    /// Whether rows are merged into records that exist.
    pub(super) fn merges(&self) -> bool {
        match self.request.known {
            Some(known) => known == Known::Merge,
            None => self.request.records.is_none(),
        }
    }

    fn pace(&self) -> f64 {
        (self.position - self.began_at) as f64 / self.start.elapsed().as_secs_f64().max(1e-6)
    }

    /// The file for rows that are set aside, where they are.
    fn rejects(&self) -> Result<Option<Rejects>, Stop> {
        if self.request.bad_rows == BadRows::Stop {
            return Ok(None);
        }
        let path = self.registry.folder.rejects(self.id);
        Rejects::open(&path, self.rejects_bytes).map(Some).map_err(|e| no_rejects(&e))
    }

    /// Encodes and commits rows that belong together.
    async fn step(
        &mut self,
        checked: Checked,
        ahead: Option<Ahead>,
        rejects: &mut Option<Rejects>,
    ) -> Result<(), Stop> {
        let Checked { writes, columns, bad, passed, n_superseded, stop, .. } = checked;
        if let Some(rejects) = rejects {
            rejects.add(&bad).map_err(|e| no_rejects(&e))?;
            self.rejects_bytes = rejects.bytes;
        }
        if passed > 0 {
            let step = LoadStep {
                load: self.id,
                position: self.position + passed,
                n_rejected: bad.len() as u64,
                n_superseded,
                rejects_bytes: self.rejects_bytes,
            };
            self.commit((writes, columns), ahead, step).await?;
        }
        stop.map_or(Ok(()), |why| Err(Stop::Failed(why)))
    }

    /// Notes how it ended, and reconciles what was written with what is there.
    async fn end(&mut self, done: Result<(), Stop>) -> Result<Value, Stop> {
        // However it ends, what it committed is found then.
        let settled = self.settle().await;
        let done = done.and(settled);
        let state = match &done {
            Ok(()) => "done",
            Err(Stop::Cancelled) => "cancelled",
            Err(Stop::Failed(_)) => "stopped",
        };
        let why = match &done {
            Err(Stop::Failed(why)) => Some(why.clone()),
            _ => None,
        };
        let mut attempt = 0;
        while let Err(e) = self.registry.catalog.load_ends(self.id, state, why.clone()).await {
            tracing::warn!("cannot record the end of load {} yet: {e}", self.id);
            if matches!(e, CatalogError::Internal(_)) {
                break;
            }
            attempt += 1;
            pause(attempt).await;
        }
        done?;
        self.reconcile().await
    }

    async fn reconcile(&self) -> Result<Value, Stop> {
        let model = self.registry.catalog.load(self.id).await?;
        let model =
            model.ok_or_else(|| Stop::Failed("the load is gone: its collection was deleted".into()))?;
        for file in self.request.files() {
            self.uploads.remove(file);
        }
        let live = self.registry.get(self.collection)?;
        let (in_database, _) = self.registry.catalog.record_bytes(live.id).await?;
        let on_node = live.table.load().n_records() as u64;
        let counts = Counts::of(&model);
        let read = model.position;
        let sum = counts.new + counts.replaced + counts.unchanged + counts.rejected;
        let foretold = (model.n_before + counts.new) as u64 == in_database;
        let adds_up = read == sum && (foretold || self.others_wrote);
        let (grant, registry, looking) = (self.grant.clone(), self.registry.clone(), live.clone());
        let mut notices = blocking(move || Ok(dangling(&grant, &registry, &looking))).await?;
        if !adds_up {
            notices.push(format!(
                "the counts do not add up: {read} read, {sum} accounted for; {} records before, {in_database} now",
                model.n_before
            ));
        }
        if counts.unencoded > 0 {
            notices.push(format!(
                "{} records have no vector because the encoder refused their text; `zesty column unencoded {}` \
                 says why, and `zesty column backfill` tries again",
                counts.unencoded, live.name
            ));
        }
        notices.iter().for_each(|n| self.job.say(n.clone()));
        let result = LoadResult {
            load: self.id,
            read: read as u64,
            new: counts.new as u64,
            replaced: counts.replaced as u64,
            unchanged: counts.unchanged as u64,
            rejected: counts.rejected as u64,
            unencoded: counts.unencoded as u64,
            rows_per_s: self.pace().round(),
            before: model.n_before as u64,
            in_database,
            on_node,
            others_wrote: self.others_wrote && !foretold,
            adds_up,
            notices,
            revision: live.table.load().revision(),
        };
        Ok(json!(result))
    }
}
