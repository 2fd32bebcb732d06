//! One budget of memory for collections, indexes, builds and absorbs: what is about to be taken is reserved first.

use crate::problem::{Kind, Problem};
use parking_lot::Mutex;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// What is in memory now.
#[derive(Clone, Copy, Debug, Default)]
pub struct Held {
    /// Bytes that collections hold.
    pub collections: u64,
    /// Bytes of indexes that searches read throughout. They are mapped, and slow when they are not in memory.
    pub indexes: u64,
}

impl Held {
    pub fn total(self) -> u64 {
        self.collections + self.indexes
    }
}

impl std::ops::AddAssign for Held {
    fn add_assign(&mut self, more: Held) {
        self.collections += more.collections;
        self.indexes += more.indexes;
    }
}

/// What somebody is about to take.
#[derive(Clone, Debug)]
pub struct Wanted {
    /// For the message: `building graph`.
    pub what: String,
    /// Parts of it, with their names.
    pub parts: Vec<(&'static str, u64)>,
}

/// The budget of a node. Clones share it.
#[derive(Clone, Default)]
pub struct Memory {
    budget: Option<u64>,
    reserved: Arc<Mutex<u64>>,
    /// What collections and indexes took when it was last counted.
    counted: Arc<AtomicU64>,
}

/// Memory that nobody else takes until this is dropped.
pub struct Reserved {
    bytes: u64,
    reserved: Arc<Mutex<u64>>,
}

impl Drop for Reserved {
    fn drop(&mut self) {
        *self.reserved.lock() -= self.bytes;
    }
}

fn mb(bytes: u64) -> u64 {
    bytes.div_ceil(1_000_000)
}

impl Memory {
    pub fn new(budget: Option<u64>) -> Memory {
        Memory { budget, ..Memory::default() }
    }

    pub fn budget(&self) -> Option<u64> {
        self.budget
    }

    /// Remembers what is in memory, for those who take little at a time. It is counted only where there is a budget.
    pub fn count(&self, held: impl FnOnce() -> Held) {
        if self.budget.is_none() {
            return;
        }
        let held = held();
        self.counted.store(held.total(), Ordering::Relaxed);
    }

    /// Reserves memory, or says how much is missing.
    pub fn reserve(&self, held: Held, wanted: &Wanted) -> Result<Reserved, Problem> {
        let bytes: u64 = wanted.parts.iter().map(|(_, bytes)| bytes).sum();
        let mut reserved = self.reserved.lock();
        let others = *reserved;
        if let Some(budget) = self.budget
            && held.total() + others + bytes > budget
        {
            let parts: Vec<String> =
                wanted.parts.iter().map(|(name, bytes)| format!("{} MB for {name}", mb(*bytes))).collect();
            let detail = format!(
                "{} would not fit: collections hold {} MB, indexes are read in {} MB, work that runs has reserved {} MB, \
                 this takes {}, and the budget is {} MB; choose a smaller store, drop an index, or raise --memory-mb",
                wanted.what,
                mb(held.collections),
                mb(held.indexes),
                mb(others),
                parts.join(" and "),
                mb(budget)
            );
            return Err(Problem::new(Kind::NoMemory, detail));
        }
        *reserved += bytes;
        Ok(Reserved { bytes, reserved: self.reserved.clone() })
    }

    /// Refuses a write when there is no memory for it. Its bytes are counted only where there is a budget.
    pub fn check_write(&self, bytes: impl FnOnce() -> u64) -> Result<(), Problem> {
        let Some(budget) = self.budget else { return Ok(()) };
        let (held, bytes) = (self.counted.load(Ordering::Relaxed), bytes());
        let reserved = *self.reserved.lock();
        if held + reserved + bytes <= budget {
            return Ok(());
        }
        let detail = format!(
            "nothing was written: collections and indexes take {} MB, work that runs has reserved {} MB, these records \
             take {} MB, and the budget is {} MB; drop an index, or raise --memory-mb",
            mb(held),
            mb(reserved),
            mb(bytes),
            mb(budget)
        );
        Err(Problem::new(Kind::NoMemory, detail))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_reserved_is_not_given_twice_and_comes_back() {
        let memory = Memory::new(Some(10_000_000));
        let held = Held { collections: 2_000_000, indexes: 1_000_000 };
        let wanted =
            |bytes| Wanted { what: "it".into(), parts: vec![("a copy", bytes), ("a file", 1_000_000)] };
        let first = memory.reserve(held, &wanted(3_000_000)).unwrap();
        let refused = memory.reserve(held, &wanted(3_000_000)).err().unwrap().detail;
        for part in
            ["hold 2 MB", "in 1 MB", "reserved 4 MB", "3 MB for a copy and 1 MB for a file", "is 10 MB"]
        {
            assert!(refused.contains(part), "{refused}");
        }
        drop(first);
        assert!(memory.reserve(held, &wanted(6_000_000)).is_ok());
        memory.count(|| held);
        assert!(memory.check_write(|| 7_000_000).is_ok());
        assert!(memory.check_write(|| 7_000_001).is_err());
        assert!(Memory::new(None).check_write(|| u64::MAX / 2).is_ok());
    }
}
