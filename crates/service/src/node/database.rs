//! Whether the database answers. Everybody who asks it shares what the last one heard.

use parking_lot::Mutex;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Since when the database does not answer, if it did not when it was last asked. Clones share the answer.
#[derive(Clone, Default)]
pub struct Silence(Arc<Mutex<Option<Instant>>>);

impl Silence {
    pub fn is_on(&self) -> bool {
        self.0.lock().is_some()
    }

    /// How long it has not answered.
    pub fn since(&self) -> Option<Duration> {
        self.0.lock().map(|at| at.elapsed())
    }

    /// Notes what was heard; the log tells of a change.
    pub fn set(&self, silent: bool) {
        let mut since = self.0.lock();
        if since.is_some() != silent {
            *since = silent.then(Instant::now);
            match silent {
                true => tracing::warn!("the database does not answer"),
                false => tracing::info!("the database answers again"),
            }
        }
    }
}
