//! Query sets: lists of vectors that ask, and the rows that are held out for them.

use crate::filter::Test;
use crate::index::is_held_out;
use crate::rows::Table;
use std::collections::HashSet;

/// Queries to measure with. Filters are one a query, or none at all.
#[derive(Clone, Copy)]
pub struct QuerySet<'a> {
    pub vectors: &'a [f32],
    pub records: &'a [Option<u64>],
    pub filters: Option<&'a [Option<Test>]>,
}

impl QuerySet<'_> {
    pub fn len(&self) -> usize {
        self.records.len()
    }

    pub fn is_empty(&self) -> bool {
        self.records.is_empty()
    }

    pub fn filter(&self, query: usize) -> Option<&Test> {
        self.filters.and_then(|all| all[query].as_ref())
    }
}

/// Living rows with a vector in a column, in the order of their record numbers: the same for every node and restart.
pub(super) fn by_number(table: &Table, column: usize) -> Vec<u32> {
    let mut rows: Vec<u32> =
        table.alive().and(table.vectors()[column].vectors.present()).ones().map(|row| row as u32).collect();
    rows.sort_unstable_by_key(|row| table.number(*row));
    rows
}

/// Rows that are held out of what is measured: those of the records that indexes insert last, and exact copies of them
/// where a copy does not count as a neighbour.
pub(super) fn held_out_rows(table: &Table, column: usize, share: f64, copies: bool) -> Vec<u32> {
    let rows = by_number(table, column);
    let (mut out, others): (Vec<u32>, Vec<u32>) =
        rows.into_iter().partition(|row| is_held_out(table.number(*row), share));
    if !copies {
        let vectors = &table.vectors()[column].vectors;
        let bytes = |row: &u32| bytemuck::cast_slice::<f32, u8>(vectors.row(*row));
        let known: HashSet<&[u8]> = out.iter().map(bytes).collect();
        let same: Vec<u32> = others.into_iter().filter(|row| known.contains(bytes(row))).collect();
        out.extend(same);
    }
    out
}
