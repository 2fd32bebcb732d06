//! Memory in large pages that parts of index files are copied into.
//!
//! Walks read an index at random. From a mapped file, which lies in pages of 4 kB, nearly each read asks the page tables
//! first; a copy in pages of 2 MB does not. Visits to cells read on and on, and are no faster from a copy.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// How much may be copied in all. Clones share it.
#[derive(Clone, Debug, Default)]
pub struct LargePages {
    most: usize,
    taken: Arc<AtomicUsize>,
}

/// Memory that nobody else takes until this is dropped.
#[derive(Debug)]
pub(crate) struct Taken {
    bytes: usize,
    taken: Arc<AtomicUsize>,
}

impl LargePages {
    /// Room for so many bytes.
    pub fn new(most: usize) -> LargePages {
        LargePages { most, taken: Arc::default() }
    }

    /// Whether the system has large pages.
    pub fn are_there() -> bool {
        let setting = std::fs::read_to_string("/sys/kernel/mm/transparent_hugepage/enabled");
        setting.is_ok_and(|setting| !setting.contains("[never]"))
    }

    /// The same, with more room by what goes once the new is there.
    pub fn instead_of(&self, bytes: usize) -> LargePages {
        LargePages { most: self.most.saturating_add(bytes), taken: self.taken.clone() }
    }

    /// Bytes that are taken now.
    pub fn taken(&self) -> usize {
        self.taken.load(Ordering::Relaxed)
    }

    pub(crate) fn take(&self, bytes: usize) -> Option<Taken> {
        let add = |now: usize| now.checked_add(bytes).filter(|sum| *sum <= self.most);
        self.taken.fetch_update(Ordering::Relaxed, Ordering::Relaxed, add).ok()?;
        Some(Taken { bytes, taken: self.taken.clone() })
    }
}

impl Drop for Taken {
    fn drop(&mut self) {
        self.taken.fetch_sub(self.bytes, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_taken_comes_back_and_no_more_is_given_than_there_is() {
        let pages = LargePages::new(100);
        let first = pages.take(60).unwrap();
        assert!(pages.take(41).is_none() && pages.take(usize::MAX).is_none());
        let second = pages.instead_of(60).take(100).unwrap();
        assert_eq!(pages.taken(), 160);
        drop(first);
        assert!(pages.take(1).is_none());
        drop(second);
        assert!(pages.clone().take(100).is_some());
        assert_eq!(pages.taken(), 0);
    }
}
