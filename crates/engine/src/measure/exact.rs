//! Exact answers: the truth that searches are measured against, computed in blocks on all cores.

use super::error::MeasureError;
use super::set::{Parts, QuerySet, by_number};
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
    /// Nearest first; rows of the table that each asked.
    pub nearest: Vec<Vec<Neighbour>>,
    /// For each query the rank of the row of median distance.
    pub typical: Vec<f32>,
    /// Records that could be a neighbour of any query.
    pub n_rows: usize,
}

/// The exact neighbours of every query, each in its part, with the filter of each.
pub fn exact(
    parts: &Parts,
    column: usize,
    set: QuerySet<'_>,
    k: usize,
    (threads, progress): (usize, &Progress),
) -> Result<Known, MeasureError> {
    let n_rows = parts.n_rows(column);
    if n_rows == 0 {
        return Err(MeasureError::TooFewRows(0));
    }
    progress.begin("exact answers", set.len());
    let mut known = Known { k, nearest: vec![Vec::new(); set.len()], typical: vec![0.0; set.len()], n_rows };
    for (part, queries) in parts.all().iter().zip(parts.queries()) {
        let vectors: Vec<f32> = queries.iter().flat_map(|query| set.vector(*query)).copied().collect();
        let nearest = match set.filters {
            Some(_) => filtered(&part.table, column, (set, &queries), k, progress)?,
            None => {
                let nobody = vec![None; queries.len()];
                nearest_of(&part.table, column, (&vectors, &nobody), k, (threads, progress))?
            }
        };
        let typical = typical(&part.table, column, &vectors);
        for ((query, nearest), typical) in queries.into_iter().zip(nearest).zip(typical) {
            known.nearest[query] = nearest;
            known.typical[query] = typical;
        }
    }
    Ok(known)
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

/// As [`nearest_of`], some queries of a set, each with its own filter.
fn filtered(
    table: &Table,
    column: usize,
    (set, queries): (QuerySet<'_>, &[usize]),
    k: usize,
    progress: &Progress,
) -> Result<Vec<Vec<Neighbour>>, MeasureError> {
    let mut nearest = Vec::with_capacity(queries.len());
    for &i in queries {
        let (query, filter) = (set.vector(i), set.filter(i));
        let request =
            Request { column, query, k, filter, excluded: &[], index: None, only: None, until: Until::NONE };
        nearest.push(run(table, request).nearest);
        step(progress, 1)?;
    }
    Ok(nearest)
}

/// For each query the rank of the row of median distance, of some rows.
fn typical(table: &Table, column: usize, queries: &[f32]) -> Vec<f32> {
    let (vectors, metric) = (&table.vectors()[column].vectors, table.vectors()[column].metric);
    let mut rows = by_number(table, column);
    let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(1);
    let some = rows.partial_shuffle(&mut rng, TYPICAL_ROWS).0;
    let kernels = crate::kernels::Kernels::best();
    let of = |query: &[f32]| {
        let mut ranks: Vec<f32> =
            some.iter().map(|row| metric.rank(kernels, query, vectors.row(*row))).collect();
        ranks.sort_by(f32::total_cmp);
        ranks[ranks.len() / 2]
    };
    queries.chunks(vectors.dimensions()).map(of).collect()
}

/// Counts what was done, and hears a cancel.
pub(super) fn step(progress: &Progress, n: usize) -> Result<(), MeasureError> {
    progress.done.fetch_add(n, Ordering::Relaxed);
    if progress.is_cancelled() { Err(MeasureError::Cancelled) } else { Ok(()) }
}
