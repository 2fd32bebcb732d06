//! Which indexes this node works on: one job at a time has the right to.

use parking_lot::Mutex;
use std::collections::HashSet;
use std::sync::Arc;

/// The indexes that jobs have claimed.
#[derive(Default)]
pub struct Claims(Arc<Mutex<HashSet<i64>>>);

/// The right to work on an index, until this is dropped.
pub struct Claim {
    index: i64,
    all: Arc<Mutex<HashSet<i64>>>,
}

impl Drop for Claim {
    fn drop(&mut self) {
        self.all.lock().remove(&self.index);
    }
}

impl Claims {
    /// The right to work on an index, unless a job has it.
    pub fn claim(&self, index: i64) -> Option<Claim> {
        let is_free = self.0.lock().insert(index);
        // Made only where it is right: dropping it would give up the claim of another.
        is_free.then(|| Claim { index, all: self.0.clone() })
    }

    pub fn has(&self, index: i64) -> bool {
        self.0.lock().contains(&index)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_has_a_claim_and_keeps_it_while_others_are_refused() {
        let claims = Claims::default();
        let first = claims.claim(1).unwrap();
        assert!(claims.claim(1).is_none() && claims.claim(1).is_none());
        assert!(claims.has(1) && !claims.has(2));
        let other = claims.claim(2).unwrap();
        drop(first);
        assert!(!claims.has(1) && claims.has(2));
        drop((other, claims.claim(1).unwrap()));
        assert!(!claims.has(1) && !claims.has(2));
    }
}
