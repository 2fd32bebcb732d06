//! Batches of a load in line: while the first is committed, those behind it are inserted already, so that the database is
//! at work on several cores and waits for nobody.

use crate::loads::batch::Batch;
use std::collections::VecDeque;
use tokio::task::JoinHandle;
use zesty_catalog::{Ahead, Claimed};

/// Batches in line, the first among them.
pub const MOST: usize = 3;
/// What came of reading a batch.
pub type Read = Result<Batch, String>;

/// A batch, and its records if they are being inserted.
pub struct Waiting {
    pub batch: Read,
    pub ahead: Option<JoinHandle<Option<Ahead>>>,
}

/// The records, when they are inserted; `None` if they could not be.
pub async fn inserted(ahead: Option<JoinHandle<Option<Ahead>>>) -> Option<Ahead> {
    ahead?.await.ok().flatten()
}

/// Batches whose turn comes.
#[derive(Default)]
pub struct Line {
    pub waiting: VecDeque<Waiting>,
    pub claimed: Claimed,
}

impl Line {
    /// Takes back what was inserted, so that nobody waits for it; the batches are written when it is their turn.
    pub async fn give_up(&mut self) {
        for waiting in &mut self.waiting {
            if let Some(ahead) = inserted(waiting.ahead.take()).await {
                // If the database does not answer, it undoes the transaction by itself.
                let _ = ahead.undo().await;
            }
        }
    }

    /// Whether one of the batches has a record of this key.
    pub fn has(&self, key: &str) -> bool {
        let batches = self.waiting.iter().filter_map(|waiting| waiting.batch.as_ref().ok());
        batches.into_iter().any(|batch| batch.checked.places.contains_key(key))
    }
}
