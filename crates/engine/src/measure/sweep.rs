//! A sweep: the recall and latency of an index at a list of settings, on sampled records of its own collection.

use super::recall::{recall, recall_ties};
use super::statistics::{Sample, Summary, percentile, summarise};
use crate::Metric;
use crate::index::{Progress, Settings};
use crate::scan::{Allowed, Neighbour, Queries, scan_many};
use crate::search::{Answer, Attached, Request, Strategy, run};
use crate::table::Table;
use rand::SeedableRng;
use rand::seq::SliceRandom;
use std::sync::atomic::Ordering;
use std::time::Instant;

/// Queries of the exact scan that are timed, and of each setting that warm it up.
const TIMED_EXACT: usize = 50;
/// Queries whose exact neighbours are found together; between two lots a cancel is heard.
const TOGETHER: usize = 64;

/// What to measure.
pub struct SweepSpec<'a> {
    /// The vector column of the table.
    pub column: usize,
    pub metric: Metric,
    /// Records sampled as queries; all of them when there are fewer.
    pub queries: usize,
    /// Hits of a search.
    pub k: usize,
    /// Decides which records are sampled.
    pub seed: u64,
    /// The settings to measure, one point each.
    pub settings: &'a [Settings],
}

/// The exact scan on some of the queries.
#[derive(Clone, Debug, PartialEq)]
pub struct ExactTiming {
    pub queries: usize,
    pub queries_per_s: f64,
    pub p50_us: f64,
    pub p99_us: f64,
}

/// One setting, measured.
#[derive(Clone, Debug, PartialEq)]
pub struct Point {
    pub settings: Settings,
    pub queries_per_s: f64,
    pub summary: Summary,
}

/// What a sweep gave.
#[derive(Clone, Debug, PartialEq)]
pub struct Sweep {
    pub points: Vec<Point>,
    pub exact: ExactTiming,
    /// Records that could be a neighbour.
    pub n_rows: usize,
    /// Queries that were sampled.
    pub n_queries: usize,
    pub revision: u64,
}

/// Why a sweep has no result.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SweepError {
    #[error("it was cancelled")]
    Cancelled,
    #[error("{0} records have a vector; recall needs at least 2")]
    TooFewRows(usize),
    #[error("the rows have just been read again; start the sweep once more")]
    RowsChanged,
}

/// Queries and their exact neighbours.
struct Truth {
    rows: Vec<u32>,
    nearest: Vec<Vec<Neighbour>>,
}

/// Measures an index, one query at a time on one thread. A sampled record never counts as its own neighbour.
/// `progress` counts queries; `each` hears of every point.
pub fn sweep(
    table: &Table,
    attached: &Attached,
    spec: &SweepSpec<'_>,
    progress: &Progress,
    mut each: impl FnMut(&Point),
) -> Result<Sweep, SweepError> {
    if !attached.fits(table) {
        return Err(SweepError::RowsChanged);
    }
    let vectors = &table.vectors()[spec.column].vectors;
    let mut rows: Vec<u32> = table.alive().and(vectors.present()).ones().map(|r| r as u32).collect();
    let n_rows = rows.len();
    if n_rows < 2 {
        return Err(SweepError::TooFewRows(n_rows));
    }
    let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(spec.seed);
    let sample = rows.partial_shuffle(&mut rng, spec.queries).0.to_vec();
    let n_queries = sample.len();
    progress.total.store(n_queries * (spec.settings.len() + 1), Ordering::Relaxed);
    let truth = truth_of(table, spec, sample, progress)?;
    let ask = |row: u32, settings: Option<Settings>| ask(table, attached, spec, row, settings);
    let timed = &truth.rows[..n_queries.min(TIMED_EXACT)];
    let times: Vec<f64> = timed.iter().map(|&r| ask(r, None).1).collect();
    let exact = ExactTiming {
        queries: timed.len(),
        queries_per_s: timed.len() as f64 / times.iter().sum::<f64>() * 1e6,
        p50_us: percentile(&times, 0.5).unwrap_or(0.0),
        p99_us: percentile(&times, 0.99).unwrap_or(0.0),
    };
    let mut points = Vec::with_capacity(spec.settings.len());
    for &settings in spec.settings {
        timed.iter().for_each(|&r| drop(ask(r, Some(settings)))); // warm up
        let mut samples = Vec::with_capacity(n_queries);
        for (&row, nearest) in truth.rows.iter().zip(&truth.nearest) {
            let (answer, elapsed_us) = ask(row, Some(settings));
            samples.push(Sample {
                recall: recall(&answer.nearest, nearest),
                recall_ties: recall_ties(&answer.nearest, nearest),
                elapsed_us,
                distances: answer.work.distances,
            });
            step(progress, 1)?;
        }
        let total_us: f64 = samples.iter().map(|s| s.elapsed_us).sum();
        let queries_per_s = n_queries as f64 / total_us * 1e6;
        let point = Point { settings, queries_per_s, summary: summarise(&samples, spec.k) };
        each(&point);
        points.push(point);
    }
    Ok(Sweep { points, exact, n_rows, n_queries, revision: table.revision() })
}

fn step(progress: &Progress, n: usize) -> Result<(), SweepError> {
    progress.done.fetch_add(n, Ordering::Relaxed);
    if progress.is_cancelled() { Err(SweepError::Cancelled) } else { Ok(()) }
}

/// The exact neighbours of sampled rows, without the rows themselves.
fn truth_of(
    table: &Table,
    spec: &SweepSpec<'_>,
    rows: Vec<u32>,
    progress: &Progress,
) -> Result<Truth, SweepError> {
    let vectors = &table.vectors()[spec.column].vectors;
    let allowed = table.alive().and(vectors.present());
    let dimensions = vectors.dimensions();
    let queries: Vec<f32> = rows.iter().flat_map(|&r| vectors.row(r).iter().copied()).collect();
    let blocks: Vec<(u32, &[f32])> = vectors.blocks().collect();
    let mut nearest = Vec::with_capacity(rows.len());
    for (values, rows) in queries.chunks(TOGETHER * dimensions).zip(rows.chunks(TOGETHER)) {
        let excluded: Vec<Option<u32>> = rows.iter().map(|r| Some(*r)).collect();
        let queries = Queries { values, dimensions, excluded: &excluded };
        nearest.extend(scan_many(&blocks, spec.metric, queries, spec.k, Allowed::Only(&allowed), 2));
        step(progress, rows.len())?;
    }
    Ok(Truth { rows, nearest })
}

/// One search by a record's own vector, and its microseconds; exact without settings.
fn ask(
    table: &Table,
    attached: &Attached,
    spec: &SweepSpec<'_>,
    row: u32,
    settings: Option<Settings>,
) -> (Answer, f64) {
    let request = Request {
        column: spec.column,
        query: table.vectors()[spec.column].vectors.row(row),
        k: spec.k,
        filter: None,
        excluded: &[row],
        index: settings.map(|s| (attached, s)),
        // It is the index that is measured, not what a plan would put in its place.
        only: settings.map(|_| Strategy::of_index(&attached.index.recipe())),
        until: None,
    };
    let start = Instant::now();
    let answer = run(table, request);
    (answer, start.elapsed().as_secs_f64() * 1e6)
}
