//! How a collection's segments stand: what is saved, what failed, when it is time for more.

use parking_lot::Mutex;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};
use zesty_engine::rows::Writer;
use zesty_engine::rows::segments::Segment;

/// How long a collection is left alone after a write, before little is written out.
const PAUSE: Duration = Duration::from_secs(2);
/// How long little waits at most.
const PATIENCE: Duration = Duration::from_secs(30);
/// How long what failed waits.
const AFTER_FAILURE: Duration = Duration::from_secs(10);

/// How a collection's segments stand.
#[derive(Default)]
pub struct SegmentState {
    /// Held while they are saved or merged.
    pub(super) working: tokio::sync::Mutex<()>,
    /// Every change up to this revision is in them.
    pub(super) saved: AtomicU64,
    /// A file was found damaged: the collection is to be read again.
    pub(super) damaged: AtomicBool,
    /// Why they could not be written the last time.
    pub(super) trouble: Mutex<Option<String>>,
    /// Files whose vectors and bodies have not been checked since they were opened.
    pub(super) unverified: Mutex<Vec<Arc<Segment>>>,
    pub(super) clock: Mutex<Clock>,
}

impl SegmentState {
    /// They were opened, or there were none.
    pub(super) fn is_opened(&self, writer: &Writer) {
        self.saved.store(writer.revision(), Ordering::Relaxed);
        *self.unverified.lock() = writer.snapshot().segments().cloned().collect();
    }
}

#[derive(Default)]
pub struct Clock {
    revision: u64,
    /// Since when the collection is at that revision.
    since: Option<Instant>,
    /// Since when something is in no segment.
    pub(super) unsaved: Option<Instant>,
    pub(super) failed: Option<Instant>,
    /// The revision at which there was nothing to merge.
    pub(super) merged: Option<u64>,
}

impl Clock {
    /// Whether it is time to save, now that the collection is at a revision.
    pub(super) fn is_time(&mut self, revision: u64, is_unsaved: bool, is_much: bool) -> bool {
        let now = Instant::now();
        if self.revision != revision {
            (self.revision, self.since) = (revision, Some(now));
        }
        self.unsaved = is_unsaved.then(|| self.unsaved.unwrap_or(now));
        let for_at_least = |at: Option<Instant>, time| at.is_some_and(|at: Instant| at.elapsed() >= time);
        if self.failed.is_some() && !for_at_least(self.failed, AFTER_FAILURE) {
            return false;
        }
        is_unsaved && (is_much || for_at_least(self.since, PAUSE) || for_at_least(self.unsaved, PATIENCE))
    }
}
