//! A sweep: recall and latency of indexes at lists of settings, on one query set.
//!
//! All points are measured in turns, several rounds of them: a machine that is slow for a while is slow for all. Recall
//! does not change from round to round; of a query's latencies the middle one counts, and the spread of the rounds is told.

use super::ask::timed;
use super::error::MeasureError;
use super::exact::{Known, step};
use super::recall::{recall, recall_ties, score_gap, standout};
use super::set::{InPart, Parts, QuerySet};
use super::statistics::{Sample, Summary, differ, percentile, summarise};
use crate::index::{Progress, Settings};
use crate::search::{Answer, Request};
use crate::until::Until;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Instant;

/// Queries of the exact scan that are timed in a round, and of each point that warm it up.
const SOME: usize = 50;
/// Queries that are named because they fare worst.
const WORST: usize = 20;
/// Queries that every point is measured with before the next ones; between them a cancel is heard.
const BETWEEN: usize = 64;

/// One point to measure.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Trial {
    /// Which of the indexes.
    pub index: usize,
    pub settings: Settings,
    pub k: usize,
    /// Threads that search at the same time.
    pub clients: usize,
}

/// What to measure.
pub struct SweepSpec<'a> {
    /// The vector column of the table.
    pub column: usize,
    pub set: QuerySet<'a>,
    /// Exact neighbours, as many as the largest k of a trial.
    pub known: &'a Known,
    /// Each as it is in every part.
    pub indexes: &'a [&'a [InPart<'a>]],
    pub trials: &'a [Trial],
    pub rounds: usize,
    /// Of the bootstrap.
    pub seed: u64,
}

/// The exact scan on some of the queries, one at a time.
#[derive(Clone, Debug, PartialEq)]
pub struct ExactTiming {
    pub queries: usize,
    pub queries_per_s: f64,
    pub p50_us: f64,
    pub p99_us: f64,
}

/// One round of a point.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Round {
    pub queries_per_s: f64,
    pub p50_us: f64,
}

/// A query that fared badly.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Worst {
    pub query: usize,
    pub recall: f64,
    pub gap: f64,
}

/// One trial, measured.
#[derive(Clone, Debug, PartialEq)]
pub struct Point {
    pub trial: Trial,
    pub summary: Summary,
    /// The middle one of the rounds.
    pub queries_per_s: f64,
    pub rounds: Vec<Round>,
    /// Worst first.
    pub worst: Vec<Worst>,
    /// Other points that neither recall nor latency tells apart from this one, by their place.
    pub like: Vec<usize>,
}

/// A point with every query of it.
pub struct Measured {
    pub point: Point,
    pub samples: Vec<Sample>,
}

/// What a sweep gave.
pub struct Swept {
    /// In the order of the trials.
    pub points: Vec<Measured>,
    pub exact: Option<ExactTiming>,
    /// Whether it was cancelled; the points are those that were whole by then.
    pub cut: bool,
}

/// A trial on its way.
struct Course {
    samples: Vec<Sample>,
    /// For each query its latency in each round.
    times: Vec<Vec<f64>>,
    rounds: Vec<Round>,
    /// Of the round under way.
    round: Vec<f64>,
    wall_us: f64,
}

/// Measures every trial in turns. Each part has its table, and its indexes, without the rows that it leaves out: see
/// [`super::hold_out`] and [`Parts::index`]. `progress` counts queries; `each` hears of every point that is whole.
pub fn sweep(
    parts: &Parts,
    spec: &SweepSpec<'_>,
    progress: &Progress,
    mut each: impl FnMut(&Point),
) -> Result<Swept, MeasureError> {
    if !spec.indexes.iter().all(|index| parts.fit(index)) {
        return Err(MeasureError::RowsChanged);
    }
    let (n, rounds) = (spec.set.len(), spec.rounds.max(1));
    progress.begin("measuring", n * rounds * spec.trials.len());
    let mut courses: Vec<Course> = spec
        .trials
        .iter()
        .map(|_| Course {
            samples: Vec::with_capacity(n),
            times: vec![Vec::new(); n],
            rounds: Vec::new(),
            round: Vec::new(),
            wall_us: 0.0,
        })
        .collect();
    let mut exact_times = Vec::new();
    let mut cut = false;
    'rounds: for round in 0..rounds {
        exact_times.extend((0..n.min(SOME)).map(|q| ask(parts, spec, None, q).1));
        // Some queries at a time, by every trial: whatever the machine does meanwhile, it does to all.
        for (block, from) in (0..n).step_by(BETWEEN).enumerate() {
            let some = from..n.min(from + BETWEEN);
            for i in 0..courses.len() {
                // Each time begins with another one.
                let at = (i + round + block) % courses.len();
                let trial = &spec.trials[at];
                if round == 0 && block == 0 {
                    (0..n.min(SOME)).for_each(|q| drop(ask(parts, spec, Some(trial), q)));
                }
                courses[at].turn(parts, spec, trial, some.clone());
                if step(progress, some.len()).is_err() {
                    cut = true;
                    break 'rounds;
                }
            }
        }
        courses.iter_mut().for_each(Course::end_round);
    }
    let mut points: Vec<Measured> = spec
        .trials
        .iter()
        .zip(courses)
        .filter(|(_, course)| course.samples.len() == n && !course.rounds.is_empty())
        .map(|(trial, course)| finished(*trial, course, spec.seed))
        .collect();
    if cut && points.is_empty() {
        return Err(MeasureError::Cancelled);
    }
    tell_apart(&mut points);
    points.iter().for_each(|measured| each(&measured.point));
    let exact = (!exact_times.is_empty()).then(|| ExactTiming {
        queries: n.min(SOME),
        queries_per_s: exact_times.len() as f64 / exact_times.iter().sum::<f64>() * 1e6,
        p50_us: percentile(&exact_times, 0.5).unwrap_or(0.0),
        p99_us: percentile(&exact_times, 0.99).unwrap_or(0.0),
    });
    Ok(Swept { points, exact, cut })
}

impl Course {
    /// Some queries of a round.
    fn turn(&mut self, parts: &Parts, spec: &SweepSpec<'_>, trial: &Trial, queries: std::ops::Range<usize>) {
        let start = Instant::now();
        let answers = together(parts, spec, trial, queries.clone());
        self.wall_us += start.elapsed().as_secs_f64() * 1e6;
        for (query, (answer, elapsed_us)) in queries.zip(&answers) {
            self.times[query].push(*elapsed_us);
            self.round.push(*elapsed_us);
            if self.rounds.is_empty() {
                self.samples.push(sample(parts, spec, trial, query, answer));
            }
        }
    }

    fn end_round(&mut self) {
        let times = std::mem::take(&mut self.round);
        let wall_us = std::mem::take(&mut self.wall_us);
        self.rounds.push(Round {
            queries_per_s: times.len() as f64 / wall_us * 1e6,
            p50_us: percentile(&times, 0.5).unwrap_or(0.0),
        });
    }
}

/// Recall of every query, on as many threads as the trial has clients, with the time that each took meanwhile. A cancel
/// is heard between some of them.
pub(super) fn samples(
    parts: &Parts,
    spec: &SweepSpec<'_>,
    trial: &Trial,
    progress: &Progress,
) -> Result<Vec<Sample>, MeasureError> {
    let mut all = Vec::with_capacity(spec.set.len());
    for from in (0..spec.set.len()).step_by(BETWEEN * trial.clients.max(1)) {
        let some = from..spec.set.len().min(from + BETWEEN * trial.clients.max(1));
        for (query, (answer, elapsed_us)) in some.clone().zip(together(parts, spec, trial, some.clone())) {
            all.push(Sample { elapsed_us, ..sample(parts, spec, trial, query, &answer) });
        }
        step(progress, some.len())?;
    }
    Ok(all)
}

/// Some queries, on as many threads as the trial has clients; the answers are in order.
fn together(
    parts: &Parts,
    spec: &SweepSpec<'_>,
    trial: &Trial,
    queries: std::ops::Range<usize>,
) -> Vec<(Answer, f64)> {
    if trial.clients <= 1 {
        return queries.map(|query| ask(parts, spec, Some(trial), query)).collect();
    }
    let next = AtomicUsize::new(queries.start);
    let work = || {
        let mut mine = Vec::new();
        loop {
            let query = next.fetch_add(1, Ordering::Relaxed);
            if query >= queries.end {
                return mine;
            }
            mine.push((query, ask(parts, spec, Some(trial), query)));
        }
    };
    let mut all: Vec<(usize, (Answer, f64))> = std::thread::scope(|scope| {
        let workers: Vec<_> = (0..trial.clients).map(|_| scope.spawn(work)).collect();
        workers.into_iter().flat_map(|w| w.join().expect("a search does not panic")).collect()
    });
    all.sort_by_key(|(query, _)| *query);
    all.into_iter().map(|(_, answer)| answer).collect()
}

/// One search and its microseconds; exact without a trial.
fn ask(parts: &Parts, spec: &SweepSpec<'_>, trial: Option<&Trial>, query: usize) -> (Answer, f64) {
    let filter = spec.set.filter(query);
    let request = Request {
        column: spec.column,
        query: spec.set.vector(query),
        k: trial.map_or(10, |t| t.k),
        filter,
        excluded: &[],
        index: trial.map(|t| (&*spec.indexes[t.index][parts.of(query)], t.settings)),
        only: None,
        until: Until::NONE,
    };
    timed(parts.table(query), request)
}

fn sample(parts: &Parts, spec: &SweepSpec<'_>, trial: &Trial, query: usize, answer: &Answer) -> Sample {
    let metric = parts.table(query).vectors()[spec.column].metric;
    let known = &spec.known.nearest[query];
    let truth = &known[..known.len().min(trial.k)];
    let found = &answer.nearest;
    Sample {
        recall: recall(found, truth),
        recall_ties: recall_ties(found, truth),
        gap: score_gap(found, truth, metric),
        standout: standout(found, truth, spec.known.typical[query], metric),
        elapsed_us: 0.0,
        distances: answer.work.distances,
    }
}

fn finished(trial: Trial, course: Course, seed: u64) -> Measured {
    let mut samples = course.samples;
    for (sample, times) in samples.iter_mut().zip(&course.times) {
        sample.elapsed_us = percentile(times, 0.5).unwrap_or(0.0);
    }
    let per_s: Vec<f64> = course.rounds.iter().map(|r| r.queries_per_s).collect();
    let mut order: Vec<usize> = (0..samples.len()).collect();
    let by = |a: &usize, b: &usize| {
        let (a, b) = (&samples[*a], &samples[*b]);
        a.recall.total_cmp(&b.recall).then(b.gap.total_cmp(&a.gap))
    };
    order.sort_by(by);
    let worst = order.iter().take(WORST).map(|&query| Worst {
        query,
        recall: samples[query].recall,
        gap: samples[query].gap,
    });
    let worst = worst.filter(|w| w.recall < 1.0).collect();
    let point = Point {
        trial,
        summary: summarise(&samples, trial.k, seed),
        queries_per_s: percentile(&per_s, 0.5).unwrap_or(0.0),
        rounds: course.rounds,
        worst,
        like: Vec::new(),
    };
    Measured { point, samples }
}

/// Notes which points of the same k and clients cannot be told apart.
fn tell_apart(points: &mut [Measured]) {
    let span = |m: &Measured| {
        let p50 = m.point.rounds.iter().map(|r| r.p50_us);
        (p50.clone().fold(f64::INFINITY, f64::min), p50.fold(0.0, f64::max))
    };
    let recalls: Vec<Vec<f64>> =
        points.iter().map(|m| m.samples.iter().map(|s| s.recall).collect()).collect();
    for i in 0..points.len() {
        for j in 0..i {
            let (a, b) = (&points[i], &points[j]);
            let ((a_low, a_high), (b_low, b_high)) = (span(a), span(b));
            let comparable =
                (a.point.trial.k, a.point.trial.clients) == (b.point.trial.k, b.point.trial.clients);
            if comparable && a_low <= b_high && b_low <= a_high && !differ(&recalls[i], &recalls[j]) {
                points[i].point.like.push(j);
                points[j].point.like.push(i);
            }
        }
    }
}
