//! Committing a step of a load, with other writers and a database that may go away.

use crate::collections::live::Live;
use crate::collections::writer::{Committed, Step};
use crate::loads::counts::Counts;
use crate::loads::encode::{PATIENCE, encode_patiently, pause};
use crate::loads::merge::{merged, move_columns};
use crate::loads::run::Load;
use crate::node::jobs::Stop;
use crate::problem::{Kind, Problem, Result};
use std::sync::Arc;
use std::time::Instant;
use zesty_catalog::{Ahead, CatalogError, Conflicts, LoadStep, RecordWrite};

impl Load {
    /// Commits rows as a step. If the database does not answer, it is waited for. If others write to the same records
    /// at the same time, rows that are merged are merged again. If they were inserted ahead of their turn and cannot be
    /// committed so, they are written as others are, and so are those behind them.
    pub(super) async fn commit(
        &mut self,
        (rows, columns): (Arc<Vec<RecordWrite>>, Vec<i64>),
        mut ahead: Option<Ahead>,
        step: LoadStep,
    ) -> Result<(), Stop> {
        let mut given = Given { rows, columns };
        let waiting = Instant::now();
        let (mut attempt, mut conflicts) = (0, 0);
        let mut ready: Option<Arc<Vec<RecordWrite>>> = None;
        loop {
            let live = self.registry.get(self.collection)?;
            if given.follow(&live) {
                ready = None;
                if let Some(ahead) = ahead.take() {
                    let _ = ahead.undo().await;
                }
            }
            let prepared = match ready.take() {
                Some(writes) => Ok(writes),
                None => self.prepare(&live, &given.rows).await,
            };
            let writes = match prepared {
                Err(p) if is_passing(p.kind) && waiting.elapsed() < PATIENCE => {
                    self.wait(&mut attempt).await?;
                    continue;
                }
                writes => encode_patiently(&self.encoders, &live, writes?, &self.job).await?,
            };
            let was_ahead = ahead.is_some();
            let tried = self.try_to_write(&live, &writes, &step, ahead.take()).await;
            if was_ahead && tried.is_err() {
                self.line.give_up().await;
            }
            match tried {
                Ok(committed) => {
                    if let Some(committed) = committed {
                        let w = &committed.written;
                        self.others_wrote |= self.revision.is_some_and(|r| r != w.before);
                        self.revision = Some(w.revision);
                        self.counts.new += w.n_new as i64;
                        self.counts.replaced += w.n_replaced as i64 + step.n_superseded as i64;
                        self.counts.unchanged += w.n_unchanged as i64;
                        self.counts.unencoded +=
                            writes.iter().filter(|w| !w.unencoded.is_empty()).count() as i64;
                        // The step before it is searchable by now, or waits for MariaDB as this one will.
                        self.last = Some(committed);
                    }
                    self.counts.rejected += step.n_rejected as i64;
                    self.position = step.position;
                    return Ok(());
                }
                // Others hold what it needs, and may wait for its keys.
                Err(p) if p.kind == Kind::Busy && was_ahead => {}
                // The schema changed between the look above and the write.
                Err(p) if p.kind == Kind::Reshaped => {}
                // Somebody else wrote one of the records: what it is merged into is read again.
                Err(p) if p.kind == Kind::Conflict && self.merges() && conflicts < CONFLICTS => {
                    self.others_wrote = true;
                    conflicts += 1;
                }
                Err(p) if is_passing(p.kind) && waiting.elapsed() < PATIENCE => {
                    self.wait(&mut attempt).await?;
                    if self.was_kept(&live, &step).await? {
                        return Ok(());
                    }
                    ready = Some(writes);
                }
                Err(p) => return Err(p.into()),
            }
        }
    }

    /// What is to be written: the rows, or what they make of the records that are stored now.
    async fn prepare(&self, live: &Live, given: &Arc<Vec<RecordWrite>>) -> Result<Arc<Vec<RecordWrite>>> {
        match self.merges() {
            true => merged(&self.registry.catalog, live, given).await.map(Arc::new),
            false => Ok(given.clone()),
        }
    }

    async fn try_to_write(
        &self,
        live: &Arc<Live>,
        writes: &Arc<Vec<RecordWrite>>,
        step: &LoadStep,
        ahead: Option<Ahead>,
    ) -> Result<Option<Committed>> {
        if writes.is_empty() {
            return self.registry.catalog.pass_step(step).await.map(|()| None).map_err(Problem::from);
        }
        let step = Step { noted: step.clone(), way: self.job.way.clone(), ahead };
        live.commit(&self.registry, writes.clone(), Conflicts::Refuse, Some(step)).await.map(Some)
    }

    /// Waits until everything that was committed is searchable here.
    pub(super) async fn settle(&mut self) -> Result<(), Stop> {
        let Some(last) = self.last.take() else { return Ok(()) };
        let Err(problem) = last.searchable().await else { return Ok(()) };
        if !is_passing(problem.kind) {
            return Err(problem.into());
        }
        let (waiting, mut attempt) = (Instant::now(), 0);
        loop {
            let live = self.registry.get(self.collection)?;
            match self.registry.follow(&live).await {
                Err(CatalogError::Unavailable(_)) if waiting.elapsed() < PATIENCE => {
                    self.wait(&mut attempt).await?;
                }
                followed => return Ok(followed?),
            }
        }
    }

    /// Whether a step was committed and only its answer was lost; then it is taken up.
    async fn was_kept(&mut self, live: &Live, step: &LoadStep) -> Result<bool, Stop> {
        match self.registry.catalog.load(self.id).await {
            Ok(Some(now)) if now.position as u64 >= step.position => {
                self.registry.follow(live).await?;
                self.counts = Counts::of(&now);
                self.others_wrote = true;
                self.position = step.position;
                Ok(true)
            }
            _ => Ok(false),
        }
    }

    /// Waits for a database that does not answer.
    async fn wait(&self, attempt: &mut u32) -> Result<(), Stop> {
        if *attempt == 0 {
            self.job.say("MariaDB does not answer; waiting for it");
        }
        *attempt += 1;
        pause(*attempt).await;
        if self.job.progress.is_cancelled() {
            return Err(Stop::Cancelled);
        }
        Ok(())
    }
}

/// Rows as they were checked, and the columns that their vectors stand for.
struct Given {
    rows: Arc<Vec<RecordWrite>>,
    columns: Vec<i64>,
}

impl Given {
    /// Takes up columns that came or went since the rows were checked; says whether any did.
    fn follow(&mut self, live: &Live) -> bool {
        let now = live.target().columns;
        if now == self.columns {
            return false;
        }
        let old = std::mem::replace(&mut self.columns, now);
        Arc::make_mut(&mut self.rows).iter_mut().for_each(|write| move_columns(write, &old, &self.columns));
        true
    }
}

/// How often a batch is merged again because others wrote to the same records.
const CONFLICTS: u32 = 100;

/// Whether a refusal may pass by waiting.
fn is_passing(kind: Kind) -> bool {
    matches!(kind, Kind::NoDatabase | Kind::Busy | Kind::Unsure)
}
