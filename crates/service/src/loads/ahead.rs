//! Inserting batches of a load that wait in line.

use crate::collections::live::Live;
use crate::loads::batch::Batch;
use crate::loads::line::{MOST, Read, Waiting, inserted};
use crate::loads::run::Load;
use crate::node::jobs::Stop;
use crate::problem::Result;
use std::ops::Range;
use tokio::sync::mpsc::Receiver;
use tokio::task::JoinHandle;
use zesty_catalog::{Ahead, RecordWrite, Target, VectorWrite};

/// Batches for which numbers are claimed at a time.
const CLAIMED: usize = 16;

impl Load {
    /// The batch whose turn it is, with its records if they are inserted; `None` when all have had theirs.
    pub(super) async fn next(
        &mut self,
        batches: &mut Receiver<Read>,
    ) -> Result<Option<(Batch, Option<Ahead>)>, Stop> {
        while self.line.waiting.len() < MOST {
            let read = match self.line.waiting.is_empty() {
                true => batches.recv().await,
                false => batches.try_recv().ok(),
            };
            let Some(batch) = read else { break };
            let ahead = match &batch {
                Ok(batch) => self.insert_ahead(batch).await,
                Err(_) => None,
            };
            self.line.waiting.push_back(Waiting { batch, ahead });
        }
        let Some(Waiting { batch, ahead }) = self.line.waiting.pop_front() else { return Ok(None) };
        Ok(Some((batch.map_err(Stop::Failed)?, inserted(ahead).await)))
    }

    /// Begins to insert a batch at the end of the line, if it is to be written as it is, under new keys.
    async fn insert_ahead(&mut self, batch: &Batch) -> Option<JoinHandle<Option<Ahead>>> {
        let live = self.registry.get(self.collection).ok()?;
        let (writes, way, target) = (&batch.checked.writes, self.job.way.clone(), live.target());
        let is_first = self.line.waiting.is_empty();
        if is_first || writes.is_empty() || self.merges() || way.is_taken() {
            return None;
        }
        // Not two transactions of the same key: the later one would hold what the earlier one waits for.
        let are_new = live.are_new(writes) && !writes.iter().any(|w| self.line.has(&w.key));
        if !are_new || batch.checked.columns != target.columns || is_encoded(&live, writes) {
            return None;
        }
        let numbers = self.numbers(&target, writes.len()).await?;
        let newest = self.revision.unwrap_or_else(|| live.table.load().revision());
        let revision = newest + self.line.waiting.len() as u64 + 1;
        let (catalog, writes) = (self.registry.catalog.clone(), writes.clone());
        Some(tokio::spawn(async move {
            let inserted = catalog.insert_ahead(&target, &writes, numbers, revision, Some(&*way)).await;
            // Whatever is wrong is said when it is written in its turn.
            inserted.inspect_err(|e| tracing::debug!("a batch is not inserted ahead: {e}")).ok().flatten()
        }))
    }

    /// Numbers for so many records that nobody else gives away.
    async fn numbers(&mut self, target: &Target, n: usize) -> Option<Range<i64>> {
        if let Some(numbers) = self.line.claimed.take(n) {
            return Some(numbers);
        }
        self.line.claimed = self.registry.catalog.claim(target, CLAIMED * n).await.ok()?;
        self.line.claimed.take(n)
    }
}

/// Whether an encoder makes vectors of some of the records.
fn is_encoded(live: &Live, writes: &[RecordWrite]) -> bool {
    live.columns().iter().enumerate().any(|(c, column)| {
        column.encoder.is_some() && writes.iter().any(|w| w.vectors[c] == VectorWrite::Clear)
    })
}
