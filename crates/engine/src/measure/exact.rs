//! Exact answers: the truth that searches are measured against, computed in blocks on all cores.

use super::error::MeasureError;
use super::set::{QuerySet, held_out_rows};
use crate::index::Progress;
use crate::rows::Table;
use crate::scan::{Neighbour, Queries, scan_many};
use crate::search::{Request, run};
use crate::until::Until;
use rand::SeedableRng;
use rand::seq::SliceRandom;
use std::sync::atomic::Ordering;

/// Queries answered together; between two lots a cancel is heard.
const TOGETHER: usize = 128;
/// Rows that tell how far a typical one is.
const TYPICAL_ROWS: usize = 255;

/// The exact neighbours of a query set.
#[derive(Clone, Debug, PartialEq)]
pub struct Known {
    /// How many neighbours were asked for; a list is shorter only where there are fewer.
    pub k: usize,
    /// Nearest first; rows of the table that was asked.
    pub nearest: Vec<Vec<Neighbour>>,
    /// For each query the rank of the row of median distance.
    pub typical: Vec<f32>,
    /// Records that could be a neighbour.
    pub n_rows: usize,
}

/// What is left of a table while it is measured.
pub struct Remaining {
    /// The table without the rows that are held out.
    pub table: Table,
    /// The rows that are held out.
    pub rows: Vec<u32>,
}

/// Holds rows out where a query set asks with records: a record that asks is no answer, and no index may have seen it.
/// `share` is that of the records which indexes insert last; `copies` tells whether exact copies of them count.
pub fn hold_out(table: &Table, column: usize, set: QuerySet<'_>, share: f64, copies: bool) -> Remaining {
    let rows = if set.records.iter().any(Option::is_some) {
        held_out_rows(table, column, share, copies)
    } else {
        Vec::new()
    };
    Remaining { table: table.without(&rows), rows }
}

/// The exact neighbours of every query, with the filter of each.
pub fn exact(
    table: &Table,
    column: usize,
    set: QuerySet<'_>,
    k: usize,
    (threads, progress): (usize, &Progress),
) -> Result<Known, MeasureError> {
    let vectors = &table.vectors()[column].vectors;
    let rows: Vec<u32> = table.alive().and(vectors.present()).ones().map(|row| row as u32).collect();
    if rows.is_empty() {
        return Err(MeasureError::TooFewRows(0));
    }
    progress.begin("exact answers", set.len());
    let nearest = if set.filters.is_some() {
        filtered(table, column, set, k, progress)?
    } else {
        nearest_of(table, column, (set.vectors, &vec![None; set.len()]), k, (threads, progress))?
    };
    let typical = typical(table, column, set, rows.clone());
    Ok(Known { k, nearest, typical, n_rows: rows.len() })
}

/// The exact neighbours of several vectors, each but for one row.
pub(super) fn nearest_of(
    table: &Table,
    column: usize,
    (values, excluded): (&[f32], &[Option<u32>]),
    k: usize,
    (threads, progress): (usize, &Progress),
) -> Result<Vec<Vec<Neighbour>>, MeasureError> {
    let (vectors, metric) = (&table.vectors()[column].vectors, table.vectors()[column].metric);
    let allowed = table.alive().and(vectors.present());
    let dimensions = vectors.dimensions();
    let blocks: Vec<(u32, &[f32])> = vectors.blocks().collect();
    let together = TOGETHER * threads.max(1);
    let mut nearest = Vec::with_capacity(excluded.len());
    for (values, excluded) in values.chunks(together * dimensions).zip(excluded.chunks(together)) {
        let queries = Queries { values, dimensions, excluded };
        nearest.extend(scan_many(&blocks, metric, queries, k, (&allowed).into(), threads));
        step(progress, excluded.len())?;
    }
    Ok(nearest)
}

/// As [`nearest_of`], each query with its own filter.
fn filtered(
    table: &Table,
    column: usize,
    set: QuerySet<'_>,
    k: usize,
    progress: &Progress,
) -> Result<Vec<Vec<Neighbour>>, MeasureError> {
    let d = table.vectors()[column].vectors.dimensions();
    let mut nearest = Vec::with_capacity(set.len());
    for (i, query) in set.vectors.chunks(d).enumerate() {
        let filter = set.filter(i);
        let request =
            Request { column, query, k, filter, excluded: &[], index: None, only: None, until: Until::NONE };
        nearest.push(run(table, request).nearest);
        step(progress, 1)?;
    }
    Ok(nearest)
}

/// For each query the rank of the row of median distance, of some rows.
fn typical(table: &Table, column: usize, set: QuerySet<'_>, mut rows: Vec<u32>) -> Vec<f32> {
    let (vectors, metric) = (&table.vectors()[column].vectors, table.vectors()[column].metric);
    rows.sort_unstable_by_key(|row| table.number(*row));
    let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(1);
    let some = rows.partial_shuffle(&mut rng, TYPICAL_ROWS).0;
    let kernels = crate::kernels::Kernels::best();
    let of = |query: &[f32]| {
        let mut ranks: Vec<f32> =
            some.iter().map(|row| metric.rank(kernels, query, vectors.row(*row))).collect();
        ranks.sort_by(f32::total_cmp);
        ranks[ranks.len() / 2]
    };
    set.vectors.chunks(vectors.dimensions()).map(of).collect()
}

/// Counts what was done, and hears a cancel.
pub(super) fn step(progress: &Progress, n: usize) -> Result<(), MeasureError> {
    progress.done.fetch_add(n, Ordering::Relaxed);
    if progress.is_cancelled() { Err(MeasureError::Cancelled) } else { Ok(()) }
}
