//! How long a search may go on: until a time, or until nobody waits for it any more.

use parking_lot::Mutex;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;

/// When a search ends with what it has. Copied into every part of it.
#[derive(Clone, Copy, Debug, Default)]
pub struct Until {
    at: Option<Instant>,
    given_up: Option<&'static AtomicBool>,
}

/// Flags that no search uses now. There are as many as there have been searches at the same time.
static FREE: Mutex<Vec<&'static AtomicBool>> = Mutex::new(Vec::new());

struct Slot(&'static AtomicBool);

impl Drop for Slot {
    fn drop(&mut self) {
        self.0.store(false, Ordering::Relaxed);
        FREE.lock().push(self.0);
    }
}

/// Who waits for a search. The search and its caller hold a clone each; the caller can give it up.
#[derive(Clone)]
pub struct Caller(Arc<Slot>);

impl Default for Caller {
    fn default() -> Caller {
        let flag = FREE.lock().pop().unwrap_or_else(|| Box::leak(Box::default()));
        Caller(Arc::new(Slot(flag)))
    }
}

impl Caller {
    /// The search ends soon, with whatever it has.
    pub fn give_up(&self) {
        self.0.0.store(true, Ordering::Relaxed);
    }
}

impl Until {
    /// Without end.
    pub const NONE: Until = Until { at: None, given_up: None };

    pub fn at(at: Instant) -> Until {
        Until { at: Some(at), given_up: None }
    }

    /// Until the caller gives it up, too. The caller's clone has to be held while this is used.
    pub fn wanted_by(self, caller: &Caller) -> Until {
        Until { given_up: Some(caller.0.0), ..self }
    }

    /// Whether the time is up, or nobody waits any more.
    pub(crate) fn is_over(self) -> bool {
        self.given_up.is_some_and(|flag| flag.load(Ordering::Relaxed))
            || self.at.is_some_and(|at| Instant::now() >= at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_search_that_was_given_up_is_over_and_the_next_one_is_not() {
        let caller = Caller::default();
        let until = Until::NONE.wanted_by(&caller);
        assert!(!until.is_over());
        caller.clone().give_up();
        assert!(until.is_over());
        drop(caller);
        let flags: Vec<Caller> = (0..10).map(|_| Caller::default()).collect();
        assert!(flags.iter().all(|caller| !Until::NONE.wanted_by(caller).is_over()), "flags are used again");
    }
}
