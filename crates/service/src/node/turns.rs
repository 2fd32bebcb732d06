//! Measurements one at a time: two at once would spoil each other.

use crate::node::jobs::{Job, Stop};
use parking_lot::Mutex;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::OwnedMutexGuard;

/// Whose turn it is.
#[derive(Default)]
pub struct Turns {
    turn: Arc<tokio::sync::Mutex<()>>,
    /// What is measured now.
    current: Arc<Mutex<Option<String>>>,
}

/// The right to measure.
pub struct Turn {
    current: Arc<Mutex<Option<String>>>,
    _turn: OwnedMutexGuard<()>,
}

impl Drop for Turn {
    fn drop(&mut self) {
        *self.current.lock() = None;
    }
}

impl Turns {
    /// Waits until no other measurement runs; says what it waits for.
    pub async fn wait(&self, job: &Job, what: String) -> Result<Turn, Stop> {
        let turn = match self.turn.clone().try_lock_owned() {
            Ok(turn) => turn,
            Err(_) => {
                let current = self.current.lock().clone().unwrap_or_else(|| "another measurement".into());
                job.say(format!("waiting for {current}: two measurements at once would spoil each other"));
                let mut next = std::pin::pin!(self.turn.clone().lock_owned());
                loop {
                    // A job that waits can be cancelled.
                    match tokio::time::timeout(Duration::from_millis(200), &mut next).await {
                        Ok(turn) => break turn,
                        Err(_) if job.progress.is_cancelled() => return Err(Stop::Cancelled),
                        Err(_) => {}
                    }
                }
            }
        };
        *self.current.lock() = Some(format!("job {} ({what})", job.id()));
        Ok(Turn { current: self.current.clone(), _turn: turn })
    }
}
