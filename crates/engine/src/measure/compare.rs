//! Two ways of answering side by side: what both find, what only one finds, who ranks better, and who is faster.

use super::ask::timed;
use super::error::MeasureError;
use super::exact::{Known, step};
use super::recall::recall;
use super::set::{InPart, Parts};
use super::statistics::{Interval, interval_of_mean, mean, percentile};
use crate::filter::Test;
use crate::index::{Progress, Settings};
use crate::scan::Neighbour;
use crate::search::{Answer, Request};
use crate::until::Until;

/// One of two ways to answer.
#[derive(Clone, Copy)]
pub struct Side<'a> {
    /// The vector column of the table.
    pub column: usize,
    /// The prepared queries in that column, row-major.
    pub vectors: &'a [f32],
    /// The exact neighbours in that column, as many as k.
    pub known: &'a Known,
    /// As it is in every part; none answers exactly.
    pub index: Option<(&'a [InPart<'a>], Settings)>,
}

/// What to compare.
pub struct CompareSpec<'a> {
    /// Left and right.
    pub sides: [Side<'a>; 2],
    pub filters: Option<&'a [Option<Test>]>,
    /// For each query the rows that are known to be right, with their grades; empty where none is known of any.
    pub grades: &'a [Vec<(u32, f64)>],
    pub k: usize,
    pub rounds: usize,
    /// Of the bootstrap.
    pub seed: u64,
}

/// How well hits agree with grades.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Graded {
    /// Whether any graded row is among the hits.
    pub hit: bool,
    /// One over the rank of the first graded hit; 0 without one.
    pub reciprocal_rank: f64,
    /// Normalised discounted cumulative gain (Järvelin and Kekäläinen, 2002), with the grades as gains.
    pub ndcg: f64,
}

/// One query, answered by both sides.
#[derive(Clone, Debug, PartialEq)]
pub struct Pair {
    pub hits: [Vec<Neighbour>; 2],
    /// The share of the hits that both have.
    pub overlap: f64,
    /// Against the exact neighbours of each side's own column.
    pub recall: [f64; 2],
    /// None where no row is graded.
    pub graded: Option<[Graded; 2]>,
    pub elapsed_us: [f64; 2],
}

/// Hits of both sides by how far apart their ranks are, and hits of one side.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Moves {
    pub same_rank: usize,
    pub by_one: usize,
    pub by_two_or_three: usize,
    pub farther: usize,
    pub alone: [usize; 2],
}

/// True neighbours by who found them; only where both sides search one column.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Finders {
    pub both: usize,
    pub alone: [usize; 2],
    pub neither: usize,
}

/// A measure of both sides, query by query.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct PairedTest {
    /// Queries on which the left, or the right, side is better, and the others.
    pub better: [usize; 2],
    pub same: usize,
    /// The mean of left less right, and where it lies in 19 of 20 cases.
    pub difference: f64,
    pub interval: Interval,
    /// Of the sign test: see [`sign_test`].
    pub p: f64,
}

#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Latency {
    pub p50_us: f64,
    pub p95_us: f64,
    pub p99_us: f64,
}

/// What a comparison gave.
pub struct Compared {
    /// In the order of the queries.
    pub pairs: Vec<Pair>,
    /// The mean share of the first hits that both have, at 1 to k.
    pub overlap: Vec<f64>,
    pub moves: Moves,
    pub finders: Option<Finders>,
    /// By recall; the truth of each is that of its column.
    pub by_recall: PairedTest,
    /// By nDCG, of the queries with grades.
    pub by_grades: Option<PairedTest>,
    /// Mean distances by rank, and by whose hits are nearer in sum; only where both sides search one column.
    pub distances: Option<(Vec<[f64; 2]>, PairedTest)>,
    pub latency: [Latency; 2],
}

/// How likely so many wins of one side, or more, are where either wins by the toss of a coin: the two-sided sign test. Draws
/// do not count. 1 for no wins at all.
pub fn sign_test(left: usize, right: usize) -> f64 {
    let (n, fewer) = (left + right, left.min(right));
    // In logarithms: the chance of one outcome of a thousand tosses is no number otherwise.
    let mut log = -(n as f64) * std::f64::consts::LN_2;
    let mut sum = log.exp();
    for i in 0..fewer {
        log += ((n - i) as f64).ln() - ((i + 1) as f64).ln();
        sum += log.exp();
    }
    (2.0 * sum).min(1.0)
}

/// Compares a measure of both sides; more is better.
pub fn paired(values: &[[f64; 2]], seed: u64) -> PairedTest {
    let differences: Vec<f64> = values.iter().map(|[left, right]| left - right).collect();
    let better =
        [differences.iter().filter(|d| **d > 0.0).count(), differences.iter().filter(|d| **d < 0.0).count()];
    PairedTest {
        better,
        same: values.len() - better[0] - better[1],
        difference: mean(&differences),
        interval: interval_of_mean(&differences, &[], seed),
        p: sign_test(better[0], better[1]),
    }
}

/// How well hits agree with graded rows; `k` is how many hits were asked for.
pub fn graded(hits: &[Neighbour], grades: &[(u32, f64)], k: usize) -> Graded {
    let gain = |row: u32| grades.iter().find(|(r, _)| *r == row).map_or(0.0, |(_, grade)| *grade);
    let discount = |rank: usize| 1.0 / ((rank + 2) as f64).log2();
    let sum = |gains: &[f64]| gains.iter().enumerate().map(|(i, g)| g * discount(i)).sum::<f64>();
    let gains: Vec<f64> = hits.iter().take(k).map(|n| gain(n.row)).collect();
    let mut ideal: Vec<f64> = grades.iter().map(|(_, grade)| *grade).collect();
    ideal.sort_by(|a, b| b.total_cmp(a));
    ideal.truncate(k);
    let first = gains.iter().position(|g| *g > 0.0);
    Graded {
        hit: first.is_some(),
        reciprocal_rank: first.map_or(0.0, |rank| 1.0 / (rank + 1) as f64),
        ndcg: if ideal.is_empty() { 0.0 } else { sum(&gains) / sum(&ideal) },
    }
}

/// Answers every query by both sides in turns, and compares. Each part has its table, and its indexes, without
/// the rows that it leaves out: see [`super::hold_out`] and [`Parts::index`]. `progress` counts queries.
pub fn compare(parts: &Parts, spec: &CompareSpec<'_>, progress: &Progress) -> Result<Compared, MeasureError> {
    if !spec.sides.iter().filter_map(|s| s.index).all(|(index, _)| parts.fit(index)) {
        return Err(MeasureError::RowsChanged);
    }
    let n = spec.sides[0].known.nearest.len();
    let rounds = spec.rounds.max(1);
    progress.begin("comparing", n * rounds);
    let mut hits: [Vec<Vec<Neighbour>>; 2] = [Vec::with_capacity(n), Vec::with_capacity(n)];
    // For each query the microseconds of each round.
    let mut times: Vec<[Vec<f64>; 2]> = vec![[Vec::new(), Vec::new()]; n];
    for round in 0..rounds {
        for (query, times) in times.iter_mut().enumerate() {
            // Each side goes first as often as the other: the second finds rows in the caches.
            let first = (round + query) % 2;
            for side in [first, 1 - first] {
                let (answer, elapsed_us) = ask(parts, spec, &spec.sides[side], query);
                times[side].push(elapsed_us);
                if round == 0 {
                    hits[side].push(answer.nearest);
                }
            }
            step(progress, 1)?;
        }
    }
    let [left, right] = hits;
    let pairs = left.into_iter().zip(right).zip(times).enumerate().map(|(query, ((left, right), times))| {
        let elapsed = |side: usize| percentile(&times[side], 0.5).unwrap_or(0.0);
        pair(spec, query, [left, right], [elapsed(0), elapsed(1)])
    });
    Ok(summed(parts, spec, pairs.collect()))
}

fn ask(parts: &Parts, spec: &CompareSpec<'_>, side: &Side<'_>, query: usize) -> (Answer, f64) {
    let table = parts.table(query);
    let d = table.vectors()[side.column].vectors.dimensions();
    let request = Request {
        column: side.column,
        query: &side.vectors[query * d..][..d],
        k: spec.k,
        filter: spec.filters.and_then(|all| all[query].as_ref()),
        excluded: &[],
        index: side.index.map(|(index, settings)| (&*index[parts.of(query)], settings)),
        only: None,
        until: Until::NONE,
    };
    timed(table, request)
}

fn pair(spec: &CompareSpec<'_>, query: usize, hits: [Vec<Neighbour>; 2], elapsed_us: [f64; 2]) -> Pair {
    let truth = |side: usize| {
        let known = &spec.sides[side].known.nearest[query];
        &known[..known.len().min(spec.k)]
    };
    let grades = spec.grades.get(query).filter(|grades| !grades.is_empty());
    Pair {
        overlap: overlap(&hits, spec.k),
        // The exact scan is the truth, also where rounding lets equals change places.
        recall: [0, 1].map(|i| if spec.sides[i].index.is_none() { 1.0 } else { recall(&hits[i], truth(i)) }),
        graded: grades.map(|g| [graded(&hits[0], g, spec.k), graded(&hits[1], g, spec.k)]),
        hits,
        elapsed_us,
    }
}

/// The ranks, from 0, of hits that both sides have.
fn common([left, right]: &[Vec<Neighbour>; 2]) -> impl Iterator<Item = (usize, usize)> {
    let on_right = |hit: &Neighbour| right.iter().position(|r| r.row == hit.row);
    left.iter().enumerate().filter_map(move |(i, hit)| Some((i, on_right(hit)?)))
}

/// The share of the first 1, 2, ... k hits that both have; where either has fewer, of the longer list.
fn overlaps(hits: &[Vec<Neighbour>; 2], k: usize) -> Vec<f64> {
    // A hit is among the first n of both from the larger of its ranks on.
    let mut come = vec![0; k];
    common(hits).map(|(i, j)| i.max(j)).filter(|rank| *rank < k).for_each(|rank| come[rank] += 1);
    let longer = hits[0].len().max(hits[1].len());
    let mut both = 0;
    let share = |(i, n): (usize, usize)| {
        both += n;
        f64::from(both as u32) / longer.min(i + 1).max(1) as f64
    };
    come.into_iter().enumerate().map(share).collect()
}

fn overlap(hits: &[Vec<Neighbour>; 2], k: usize) -> f64 {
    overlaps(hits, k).last().copied().unwrap_or(0.0)
}

fn summed(parts: &Parts, spec: &CompareSpec<'_>, pairs: Vec<Pair>) -> Compared {
    let one_column = spec.sides[0].column == spec.sides[1].column;
    let of = |f: &dyn Fn(&Pair) -> [f64; 2]| pairs.iter().map(f).collect::<Vec<_>>();
    let ndcg: Vec<[f64; 2]> =
        pairs.iter().filter_map(|p| p.graded.map(|[left, right]| [left.ndcg, right.ndcg])).collect();
    let latency = |side: usize| {
        let times: Vec<f64> = pairs.iter().map(|p| p.elapsed_us[side]).collect();
        let at = |p| percentile(&times, p).unwrap_or(0.0);
        Latency { p50_us: at(0.5), p95_us: at(0.95), p99_us: at(0.99) }
    };
    let mut overlap = vec![0.0; spec.k];
    for pair in &pairs {
        let shares = overlaps(&pair.hits, spec.k);
        overlap.iter_mut().zip(shares).for_each(|(sum, share)| *sum += share / pairs.len() as f64);
    }
    Compared {
        overlap,
        moves: moves(&pairs),
        finders: one_column.then(|| finders(spec, &pairs)),
        by_recall: paired(&of(&|p| p.recall), spec.seed),
        by_grades: (!ndcg.is_empty()).then(|| paired(&ndcg, spec.seed)),
        distances: one_column.then(|| distances(parts, spec, &pairs)),
        latency: [latency(0), latency(1)],
        pairs,
    }
}

fn moves(pairs: &[Pair]) -> Moves {
    let mut moves = Moves::default();
    for Pair { hits, .. } in pairs {
        let mut both = 0;
        for (i, j) in common(hits) {
            both += 1;
            match i.abs_diff(j) {
                0 => moves.same_rank += 1,
                1 => moves.by_one += 1,
                2 | 3 => moves.by_two_or_three += 1,
                _ => moves.farther += 1,
            }
        }
        moves.alone[0] += hits[0].len() - both;
        moves.alone[1] += hits[1].len() - both;
    }
    moves
}

fn finders(spec: &CompareSpec<'_>, pairs: &[Pair]) -> Finders {
    let mut finders = Finders::default();
    for (pair, known) in pairs.iter().zip(&spec.sides[0].known.nearest) {
        for truth in known.iter().take(spec.k) {
            let has = |side: usize| pair.hits[side].iter().any(|n| n.row == truth.row);
            match (has(0), has(1)) {
                (true, true) => finders.both += 1,
                (true, false) => finders.alone[0] += 1,
                (false, true) => finders.alone[1] += 1,
                (false, false) => finders.neither += 1,
            }
        }
    }
    finders
}

/// Mean distances by rank, of the queries that have that rank on both sides; and whose hits are nearer in sum.
fn distances(parts: &Parts, spec: &CompareSpec<'_>, pairs: &[Pair]) -> (Vec<[f64; 2]>, PairedTest) {
    let metric = parts.all()[0].table.vectors()[spec.sides[0].column].metric;
    let distance = |n: &Neighbour| f64::from(metric.distance(n.rank));
    let at = |rank: usize| {
        let both = pairs.iter().filter_map(|p| Some([p.hits[0].get(rank)?, p.hits[1].get(rank)?]));
        let both: Vec<[f64; 2]> = both.map(|[l, r]| [distance(l), distance(r)]).collect();
        let side = |i: usize| mean(&both.iter().map(|d| d[i]).collect::<Vec<_>>());
        (!both.is_empty()).then(|| [side(0), side(1)])
    };
    // Less is better, so the signs are turned.
    let sums = pairs.iter().map(|p| {
        let n = p.hits[0].len().min(p.hits[1].len());
        let sum = |side: usize| -p.hits[side].iter().take(n).map(distance).sum::<f64>();
        // What rounding leaves is no difference.
        let (left, right) = (sum(0), sum(1));
        if (left - right).abs() <= 1e-6 * left.abs().max(right.abs()) { [left, left] } else { [left, right] }
    });
    ((0..spec.k).map_while(at).collect(), paired(&sums.collect::<Vec<_>>(), spec.seed))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn list(rows: &[u32]) -> Vec<Neighbour> {
        rows.iter().enumerate().map(|(i, row)| Neighbour { row: *row, rank: i as f32 }).collect()
    }

    #[test]
    fn the_sign_test_counts_tosses() {
        assert_eq!(sign_test(0, 0), 1.0);
        assert_eq!(sign_test(3, 3), 1.0);
        // Five of five: two of 32 outcomes are as far out.
        assert!((sign_test(5, 0) - 2.0 / 32.0).abs() < 1e-12);
        // One of eight: 1 + 8 of 256, on either side.
        assert!((sign_test(1, 7) - 18.0 / 256.0).abs() < 1e-12);
        assert_eq!(sign_test(7, 1), sign_test(1, 7));
        let p = sign_test(5200, 4800);
        assert!((6e-5..7e-5).contains(&p), "four standard deviations: {p}");
        assert!(sign_test(0, 5000) < 1e-300);
    }

    #[test]
    fn grades_are_gained_by_rank() {
        let grades = [(7, 3.0), (8, 1.0), (9, 2.0)];
        let perfect = graded(&list(&[7, 9, 8]), &grades, 10);
        assert!(perfect.hit && perfect.reciprocal_rank == 1.0 && (perfect.ndcg - 1.0).abs() < 1e-12);
        // By hand: 1 at rank 2, 3 at rank 4; ideal 3, 2, 1.
        let found = graded(&list(&[1, 8, 2, 7]), &grades, 4);
        let gain = 1.0 / 3f64.log2() + 3.0 / 5f64.log2();
        let ideal = 3.0 + 2.0 / 3f64.log2() + 1.0 / 4f64.log2();
        assert_eq!(found.reciprocal_rank, 0.5);
        assert!((found.ndcg - gain / ideal).abs() < 1e-12);
        // Only k of the graded can be among k hits.
        assert!((graded(&list(&[7]), &grades, 1).ndcg - 1.0).abs() < 1e-12);
        let none = graded(&list(&[1, 2]), &grades, 2);
        assert!(!none.hit && none.reciprocal_rank == 0.0 && none.ndcg == 0.0);
        // What lies behind k does not count.
        assert!(!graded(&list(&[1, 7]), &grades, 1).hit);
    }

    #[test]
    fn overlap_is_that_of_the_longer_list() {
        assert_eq!(overlap(&[list(&[1, 2, 3, 4]), list(&[4, 3, 9, 8])], 4), 0.5);
        assert_eq!(overlap(&[list(&[1, 2, 3, 4]), list(&[4, 3, 9, 8])], 1), 0.0);
        assert_eq!(overlap(&[list(&[1, 2]), list(&[1])], 10), 0.5);
        assert_eq!(overlap(&[list(&[]), list(&[])], 10), 0.0);
    }
}
