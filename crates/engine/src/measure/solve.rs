//! The settings that reach a target: searched on one half of the queries, verified on the other, which did not choose them.

use super::error::MeasureError;
use super::exact::Known;
use super::set::{InPart, Parts, QuerySet};
use super::statistics::{Sample, Summary, mean, percentile, summarise};
use super::sweep::{SweepSpec, Trial, samples, sweep};
use crate::index::{Index, Progress, Settings};

/// What must reach the target.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Aim {
    Mean,
    /// The 5th percentile: 19 of 20 queries reach it.
    P5,
}

#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Target {
    pub aim: Aim,
    pub recall: f64,
    pub k: usize,
}

/// What some settings gave on the queries that did not choose them.
#[derive(Clone, Debug, PartialEq)]
pub struct Reached {
    /// Of all query sets together, each query alike.
    pub overall: Summary,
    /// Of each query set, in order.
    pub sets: Vec<Summary>,
    pub queries_per_s: f64,
}

#[derive(Clone, Debug, PartialEq)]
pub struct Solved {
    pub settings: Settings,
    /// Whether the half that chose reached the target; if not, the settings are the best there are.
    pub chosen: bool,
    /// What the half that chose had.
    pub chosen_recall: f64,
    pub verified: Reached,
    /// Searches for the settings that were tried, in order: settings, and the recall on the half that chose.
    pub tried: Vec<(Settings, f64)>,
}

impl Solved {
    /// Whether the half that did not choose reached the target.
    pub fn is_reached(&self, target: Target) -> bool {
        self.chosen && of(target.aim, &self.verified.overall) >= target.recall
    }
}

fn of(aim: Aim, summary: &Summary) -> f64 {
    match aim {
        Aim::Mean => summary.recall_mean,
        Aim::P5 => summary.recall_p5,
    }
}

/// A query set, and what it is asked of: see [`super::hold_out`] and [`Parts::index`].
#[derive(Clone, Copy)]
pub struct Stage<'a> {
    pub parts: &'a Parts,
    /// The index as it is in every part.
    pub index: &'a [InPart<'a>],
    pub set: QuerySet<'a>,
    pub known: &'a Known,
}

/// Half of a query set: every second query.
struct Half<'a> {
    parts: Parts,
    index: [&'a [InPart<'a>]; 1],
    vectors: Vec<f32>,
    records: Vec<Option<u64>>,
    filters: Option<Vec<Option<crate::filter::Test>>>,
    known: Known,
}

impl<'a> Half<'a> {
    fn of(stage: &Stage<'a>, first: usize) -> Half<'a> {
        let Stage { parts, index, set, known } = *stage;
        let picks = || (first..set.len()).step_by(2);
        Half {
            parts: parts.only(picks()),
            index: [index],
            vectors: picks().flat_map(|q| set.vector(q)).copied().collect(),
            records: picks().map(|q| set.records[q]).collect(),
            filters: set.filters.map(|all| picks().map(|q| all[q].clone()).collect()),
            known: Known {
                nearest: picks().map(|q| known.nearest[q].clone()).collect(),
                typical: picks().map(|q| known.typical[q]).collect(),
                ..*known
            },
        }
    }

    fn spec<'s>(&'s self, column: usize, trials: &'s [Trial]) -> SweepSpec<'s> {
        let filters = self.filters.as_deref();
        let set = QuerySet { vectors: &self.vectors, records: &self.records, filters };
        SweepSpec { column, set, known: &self.known, indexes: &self.index, trials, rounds: 1, seed: 1 }
    }
}

/// Rescores that are tried where none is given.
const RESCORES: [usize; 6] = [3, 6, 12, 25, 50, 100];
/// Rounds that verify.
const ROUNDS: usize = 3;

struct Solver<'a> {
    column: usize,
    index: &'a Index,
    target: Target,
    choosing: Vec<Half<'a>>,
    progress: &'a Progress,
    tried: Vec<(Settings, f64)>,
}

/// What one probe of the settings gave.
#[derive(Clone, Copy)]
struct Probe {
    settings: Settings,
    recall: f64,
    /// The recall less what chance may have added.
    sure: f64,
    /// Of all queries together.
    distances: usize,
}

/// Finds the fastest settings of an index whose recall reaches the target over all query sets together; all stages are of
/// one index. `rescore` fixes that setting. The half that chooses must reach it by a standard error more, so that the
/// other half reaches it too.
pub fn solve(
    column: usize,
    stages: &[Stage<'_>],
    target: Target,
    rescore: Option<usize>,
    progress: &Progress,
) -> Result<Solved, MeasureError> {
    let first = stages.first().and_then(|stage| stage.index.first()).ok_or(MeasureError::TooFewRows(0))?;
    let index = &*first.index;
    let half = |first: usize| stages.iter().map(move |stage| Half::of(stage, first));
    let choosing: Vec<Half<'_>> = half(0).collect();
    let mut solver = Solver { column, index, target, choosing, progress, tried: Vec::new() };
    let rescores: Vec<usize> = match (index.recipe().rescore, rescore) {
        (None, _) => vec![Settings::default().rescore],
        (_, Some(one)) => vec![one],
        _ => RESCORES.to_vec(),
    };
    let mut best: Option<(Probe, f64)> = None;
    let mut nearest: Option<Probe> = None;
    for rescore in rescores {
        let (found, highest) = solver.search(rescore)?;
        if nearest.is_none_or(|n| highest.recall > n.recall) {
            nearest = Some(highest);
        }
        let Some(found) = found else {
            // Nothing but rescore can be set.
            if best.is_some() {
                break;
            }
            continue;
        };
        let found = solver.cheapest_from(found)?;
        let p50_us = solver.p50_us(found.settings)?;
        if best.is_some_and(|(_, so_far_us)| p50_us >= so_far_us) {
            break;
        }
        best = Some((found, p50_us));
        if best.is_some() && index.recipe().setting().is_none() {
            break;
        }
    }
    let chosen = best.map(|(found, _)| found).or(nearest).ok_or(MeasureError::TooFewRows(0))?;
    let verifying: Vec<Half<'_>> = half(1).filter(|half| !half.records.is_empty()).collect();
    let tried = solver.tried.clone();
    let verified = solver.verify(chosen.settings, &verifying)?;
    Ok(Solved {
        settings: chosen.settings,
        chosen: best.is_some(),
        chosen_recall: chosen.recall,
        verified,
        tried,
    })
}

/// Settings with a beam or visit, whichever the recipe has.
fn with(index: &Index, n: usize, rescore: usize) -> Settings {
    match index.recipe().setting() {
        Some("visit") => Settings { visit: n, rescore, ..Settings::default() },
        Some(_) => Settings { beam: n, rescore, ..Settings::default() },
        None => Settings { rescore, ..Settings::default() },
    }
}

impl Solver<'_> {
    /// The smallest beam or visit with which the target is reached, if any is, and the best recall seen.
    fn search(&mut self, rescore: usize) -> Result<(Option<Probe>, Probe), MeasureError> {
        let index = self.index;
        let with = |n: usize| with(index, n, rescore);
        let most = self.most();
        // Up by doubling to where it is reached, then down by halving what lies between.
        // A beam below k is one of k.
        let least = if self.index.recipe().setting() == Some("beam") { self.target.k.min(most) } else { 1 };
        let (mut low, mut high) = (least - 1, least);
        let mut probe = self.probe(with(high))?;
        let mut highest = probe;
        while probe.sure < self.target.recall {
            if high == most {
                return Ok((None, highest));
            }
            (low, high) = (high, (high * 2).min(most));
            probe = self.probe(with(high))?;
            if probe.recall > highest.recall {
                highest = probe;
            }
        }
        let mut found = probe;
        while high - low > (high / 50).max(1) {
            let middle = low + (high - low) / 2;
            let probe = self.probe(with(middle))?;
            if probe.sure >= self.target.recall {
                (high, found) = (middle, probe);
            } else {
                low = middle;
            }
        }
        Ok((Some(found), highest))
    }

    /// The largest beam or visit that differs from smaller ones.
    fn most(&self) -> usize {
        let (index, recipe) = (self.index, self.index.recipe());
        match recipe.setting() {
            Some("visit") => recipe.n_cells(index.len()).unwrap_or(1).min(Settings::MAX_VISIT),
            Some(_) => index.len().clamp(1, Settings::MAX_BEAM),
            None => 1,
        }
    }

    /// Recall on the half that chooses, on all cores.
    fn probe(&mut self, settings: Settings) -> Result<Probe, MeasureError> {
        let clients = std::thread::available_parallelism().map_or(1, usize::from);
        let trial = Trial { index: 0, settings, k: self.target.k, clients };
        let n = self.choosing.iter().map(|half| half.records.len()).sum();
        self.progress.begin("trying settings", n);
        let (mut recalls, mut distances) = (Vec::with_capacity(n), 0);
        for half in &self.choosing {
            let spec = half.spec(self.column, &[]);
            for sample in samples(&half.parts, &spec, &trial, self.progress)? {
                recalls.push(sample.recall);
                distances += sample.distances;
            }
        }
        let (recall, sure) = match self.target.aim {
            Aim::P5 => {
                let p5 = percentile(&recalls, 0.05).unwrap_or(0.0);
                (p5, p5)
            }
            Aim::Mean => {
                let (n, mean) = (recalls.len().max(2) as f64, mean(&recalls));
                let squares: f64 = recalls.iter().map(|r| (r - mean).powi(2)).sum();
                (mean, mean - (squares / (n - 1.0) / n).sqrt())
            }
        };
        self.tried.push((settings, recall));
        Ok(Probe { settings, recall, sure, distances })
    }

    /// The smallest settings that reach a target need not be the cheapest: of small ones many searches are repeated. So they
    /// are doubled as long as that takes fewer distances, which no noise of the machine changes.
    fn cheapest_from(&mut self, mut found: Probe) -> Result<Probe, MeasureError> {
        let most = self.most();
        let Settings { beam, visit, rescore } = found.settings;
        let mut n = 2 * if self.index.recipe().setting() == Some("visit") { visit } else { beam };
        while n <= most {
            let wider = self.probe(with(self.index, n, rescore))?;
            if wider.distances >= found.distances || wider.sure < self.target.recall {
                break;
            }
            (found, n) = (wider, 2 * n);
        }
        Ok(found)
    }

    /// The median latency on the half that chooses, one query at a time.
    fn p50_us(&self, settings: Settings) -> Result<f64, MeasureError> {
        let trial = Trial { index: 0, settings, k: self.target.k, clients: 1 };
        let mut times = Vec::new();
        for half in &self.choosing {
            let spec = half.spec(self.column, &[]);
            let all = samples(&half.parts, &spec, &trial, self.progress)?;
            times.extend(all.iter().map(|s| s.elapsed_us));
        }
        Ok(percentile(&times, 0.5).unwrap_or(0.0))
    }

    fn measured(
        &self,
        settings: Settings,
        half: &Half<'_>,
        rounds: usize,
    ) -> Result<(Vec<Sample>, f64), MeasureError> {
        let trials = [Trial { index: 0, settings, k: self.target.k, clients: 1 }];
        let spec = SweepSpec { rounds, ..half.spec(self.column, &trials) };
        let swept = sweep(&half.parts, &spec, self.progress, |_| {})?;
        if swept.cut {
            return Err(MeasureError::Cancelled);
        }
        let measured = swept.points.into_iter().next();
        Ok(measured.map_or((Vec::new(), 0.0), |m| (m.samples, m.point.queries_per_s)))
    }

    fn verify(&self, settings: Settings, halves: &[Half<'_>]) -> Result<Reached, MeasureError> {
        let (mut all, mut sets, mut seconds) = (Vec::new(), Vec::new(), 0.0);
        for half in halves {
            let (samples, per_s) = self.measured(settings, half, ROUNDS)?;
            seconds += samples.len() as f64 / per_s.max(f64::MIN_POSITIVE);
            sets.push(summarise(&samples, self.target.k, 1));
            all.extend(samples);
        }
        let queries_per_s = all.len() as f64 / seconds.max(f64::MIN_POSITIVE);
        Ok(Reached { overall: summarise(&all, self.target.k, 1), sets, queries_per_s })
    }
}
