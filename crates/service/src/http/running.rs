//! Requests under an Idempotency-Key that this node is answering.

use parking_lot::Mutex;
use std::collections::BTreeSet;
use zesty_catalog::Once;

/// All of them.
#[derive(Default)]
pub struct Running(Mutex<BTreeSet<Once>>);

/// One of them, until it is answered.
pub struct Runs<'a> {
    all: &'a Running,
    of: Once,
}

impl Running {
    /// Notes that a request runs, unless it does already.
    pub fn begin(&self, of: &Once) -> Option<Runs<'_>> {
        self.0.lock().insert(of.clone()).then(|| Runs { all: self, of: of.clone() })
    }
}

impl Drop for Runs<'_> {
    fn drop(&mut self) {
        self.all.0.lock().remove(&self.of);
    }
}
