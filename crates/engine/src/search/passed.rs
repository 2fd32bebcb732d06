//! Rows that filters allow, kept for the next search with the same filter.
//!
//! Applications repeat their filters: a tenant, a kind, a language. What a filter allows of a snapshot never changes, so the
//! last ones are kept, up to some bytes, and the one that was used longest ago makes room.

use crate::filter::Test;
use crate::rows::{Snapshot, Table};
use fixedbitset::FixedBitSet;
use parking_lot::Mutex;
use std::sync::Arc;

/// The living rows that a filter allows, or that no filter bars; of a vector column, those that have a vector.
pub struct Passed {
    pub rows: FixedBitSet,
    pub n: usize,
}

/// Of all snapshots together.
const MOST_BYTES: usize = 32 << 20;
/// Each is compared with the filter of a search.
const MOST: usize = 256;
/// Filters of more values are not kept: comparing them would take as long as running them.
const MOST_VALUES: usize = 10_000;

struct Kept {
    snapshot: Snapshot,
    column: Option<usize>,
    test: Option<Test>,
    passed: Arc<Passed>,
}

/// The last used comes last.
static KEPT: Mutex<Vec<Kept>> = Mutex::new(Vec::new());

fn n_bytes(passed: &Passed) -> usize {
    size_of_val(passed.rows.as_slice()) + 256
}

/// The living rows that a filter allows, with a vector or without.
pub fn allowed(table: &Table, test: &Test) -> Arc<Passed> {
    passed(table, None, Some(test)).0
}

/// What a filter allows, or all rows without one, and whether that had to be found out.
pub(super) fn passed(table: &Table, column: Option<usize>, test: Option<&Test>) -> (Arc<Passed>, bool) {
    let snapshot = table.snapshot();
    let is_it =
        |kept: &Kept| kept.snapshot == snapshot && kept.column == column && kept.test.as_ref() == test;
    let mut kept = KEPT.lock();
    if let Some(at) = kept.iter().rposition(is_it) {
        let found = kept.remove(at);
        let passed = found.passed.clone();
        kept.push(found);
        return (passed, false);
    }
    drop(kept);
    let present = column.map(|column| table.vectors()[column].vectors.present());
    let rows = match (test, present) {
        (Some(test), present) => {
            let mut rows = test.run(table);
            if let Some(present) = present {
                present.keep_in(&mut rows);
            }
            rows
        }
        (None, Some(present)) => table.alive().and(present),
        (None, None) => table.alive().to_set(),
    };
    let n = rows.count_ones(..);
    let passed = Arc::new(Passed { rows, n });
    if n_bytes(&passed) <= MOST_BYTES / 4 && test.is_none_or(|test| test.n_values() <= MOST_VALUES) {
        let mut kept = KEPT.lock();
        kept.push(Kept { snapshot, column, test: test.cloned(), passed: passed.clone() });
        let mut bytes: usize = kept.iter().map(|kept| n_bytes(&kept.passed)).sum();
        let mut spare = 0;
        while bytes > MOST_BYTES || kept.len() - spare > MOST {
            bytes -= n_bytes(&kept[spare].passed);
            spare += 1;
        }
        kept.drain(..spare);
    }
    (passed, true)
}
