//! Whether the database answers. Everybody who asks it shares what the last one heard.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Whether the database did not answer when it was last asked. Clones share the answer.
#[derive(Clone, Default)]
pub struct Silence(Arc<AtomicBool>);

impl Silence {
    pub fn is_on(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }

    /// Notes what was heard; the log tells of a change.
    pub fn set(&self, silent: bool) {
        if self.0.swap(silent, Ordering::Relaxed) != silent {
            match silent {
                true => tracing::warn!("the database does not answer"),
                false => tracing::info!("the database answers again"),
            }
        }
    }
}
