//! How far a build has come, and why one ends without an index.

use parking_lot::Mutex;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Instant;

/// What is done before each piece of work.
type Before = Box<dyn Fn() + Send + Sync>;

/// How far a build has come, and the way to stop it. Shared between the builder and whoever waits.
#[derive(Default)]
pub struct Progress {
    pub done: AtomicUsize,
    pub total: AtomicUsize,
    pub cancelled: AtomicBool,
    /// What is being done, and since when.
    stage: Mutex<Option<(&'static str, Instant)>>,
    before: Option<Before>,
}

impl Progress {
    /// Of a build that calls `before` ahead of each piece of its work, on the thread that does it: a wait there lets
    /// others go first.
    pub fn pausing(before: impl Fn() + Send + Sync + 'static) -> Progress {
        Progress { before: Some(Box::new(before)), ..Progress::default() }
    }

    /// Whether the next piece is to be done.
    pub(crate) fn goes_on(&self) -> bool {
        if self.is_cancelled() {
            return false;
        }
        if let Some(before) = &self.before {
            before();
        }
        true
    }

    pub fn begin(&self, stage: &'static str, total: usize) {
        *self.stage.lock() = Some((stage, Instant::now()));
        self.done.store(0, Ordering::Relaxed);
        self.total.store(total, Ordering::Relaxed);
    }

    /// What is being done, if the work has stages, and since when: `done` and `total` count the rows of it.
    pub fn stage(&self) -> Option<(&'static str, Instant)> {
        *self.stage.lock()
    }

    pub fn cancel(&self) {
        self.cancelled.store(true, Ordering::Relaxed);
    }
    pub fn is_cancelled(&self) -> bool {
        self.cancelled.load(Ordering::Relaxed)
    }
}

#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BuildError {
    #[error("the build was cancelled")]
    Cancelled,
    #[error("{rows} rows are more than an index can number (4,294,967,294)")]
    TooMany { rows: usize },
    #[error(
        "{rows} rows have more than the 4,294,967,295 links an index can number; fewer links a node would do"
    )]
    TooManyLinks { rows: usize },
    /// The recipe does not fit the data.
    #[error("{0}")]
    Data(String),
}
