//! How fast this machine is at the pieces of a search: measured when an index is attached, and corrected by every
//! search since. What the planner's costs are made of.

use crate::index::{Index, Limit, Looked, Settings, Work};
use crate::recipe::Route;
use crate::rows::Vectors;
use crate::scan::{Allowed, Lens};
use crate::until::Until;
use fixedbitset::FixedBitSet;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

/// Nanoseconds of something, as a running mean: a newer measurement counts for a sixteenth, and one that is
/// far off (the process was suspended, say) for no more than twice or half of what was known.
#[derive(Debug)]
struct Mean(AtomicU32);

impl Mean {
    const fn new(ns: f32) -> Mean {
        Mean(AtomicU32::new(ns.to_bits()))
    }

    fn get(&self) -> f64 {
        f32::from_bits(self.0.load(Ordering::Relaxed)).into()
    }

    fn set(&self, ns: f64) {
        if ns.is_finite() && ns > 0.0 {
            self.0.store((ns as f32).to_bits(), Ordering::Relaxed);
        }
    }

    /// Two searches at once may lose one of their measurements, which is no harm.
    fn saw(&self, ns: f64) {
        let known = self.get();
        self.set(known + (ns.clamp(known / 2.0, known * 2.0) - known) / 16.0);
    }
}

fn ns(elapsed: Duration, units: f64) -> f64 {
    elapsed.as_secs_f64() * 1e9 / units.max(1.0)
}

/// A component of a row among consecutive ones, and of rows picked from a list; for every collection, since the
/// machine is the same. The first values are those of a common server.
static CONSECUTIVE: Mean = Mean::new(0.12);
static PICKED: Mean = Mean::new(0.24);
/// What a scan takes whatever its rows.
static SCAN: Mean = Mean::new(1000.0);
/// Fewer rows tell more of the clock than of the machine.
const LEAST_ROWS: usize = 200;

/// Nanoseconds for a distance to the next of consecutive rows.
pub fn consecutive(dimensions: usize) -> f64 {
    CONSECUTIVE.get() * dimensions as f64 + 2.0
}

/// Nanoseconds for a distance to a row from a list.
pub fn picked(dimensions: usize) -> f64 {
    (PICKED.get() * dimensions as f64).max(CONSECUTIVE.get() * dimensions as f64) + 4.0
}

/// Nanoseconds that an exact scan takes whatever its rows.
pub fn scan() -> f64 {
    SCAN.get()
}

pub(crate) fn saw_consecutive(dimensions: usize, rows: usize, elapsed: Duration) {
    if rows >= LEAST_ROWS {
        CONSECUTIVE.saw((ns(elapsed, rows as f64) - 2.0).max(0.01) / dimensions as f64);
    }
}

pub(crate) fn saw_picked(dimensions: usize, rows: usize, elapsed: Duration) {
    if rows >= LEAST_ROWS {
        PICKED.saw((ns(elapsed, rows as f64) - 4.0).max(0.01) / dimensions as f64);
    } else {
        SCAN.saw((elapsed.as_secs_f64() * 1e9 - rows as f64 * picked(dimensions)).max(100.0));
    }
}

/// Of one index.
#[derive(Debug)]
pub struct Pace {
    /// A distance of a walk, or in a visited cell, with everything around it.
    walk: Mean,
    /// A distance to a stored row, of rows from a list: of an eighth of all or less, which lie here and there in memory.
    stored: Mean,
    /// The same of half of all rows or more, which are read one after the other.
    dense: Mean,
    /// Rows that the index holds.
    n: f64,
    /// What such a scan takes for each search, whatever its rows.
    overhead: Mean,
    /// What a filtered search from cell to cell takes, whatever it looks at.
    fixed: Mean,
    /// A block of rows that is held against the filter.
    checked: Mean,
    /// A block of codes that is compared under a filter.
    compared: Mean,
    /// A row that is compared by itself there.
    row: Mean,
}

/// Rows of all that are scanned to learn what few take.
const FEW: usize = 2048;
/// One of so many rows lies here and there in memory, and one of so many beside the next.
const SPARSE: usize = 8;
const DENSE: usize = 2;
/// Among so many rows at most.
const MOST: usize = 1 << 20;

impl Pace {
    /// Searches for a few of the rows it holds, and takes the time. `rows`: those of the table that are its nodes.
    pub fn measured(index: &Index, vectors: &Vectors, rows: &[u32]) -> Pace {
        let d = vectors.dimensions() as f64;
        let walk = index.cost_of_distance() * 0.13 * d;
        let pace = Pace {
            walk: Mean::new(walk as f32),
            stored: Mean::new(walk as f32),
            dense: Mean::new(walk as f32),
            n: index.len() as f64,
            overhead: Mean::new(20_000.0),
            fixed: Mean::new(20_000.0),
            checked: Mean::new(15.0),
            compared: Mean::new(30.0 + 0.1 * d as f32),
            row: Mean::new(if index.compares_short_codes() { 15.0 + 0.02 * d as f32 } else { walk as f32 }),
        };
        let n = index.len();
        if n < 1000 || rows.len() < 1000 {
            return pace;
        }
        let (settings, k) = (Settings::default(), 10);
        let queries: Vec<&[f32]> =
            rows.iter().step_by(rows.len() / 12).map(|row| vectors.row(*row)).collect();
        // The middle of what a distance took, in nanoseconds: a machine that just starts stalls now and then.
        let timed = |search: &mut dyn FnMut(&[f32]) -> Work| {
            let mut each: Vec<f64> = queries
                .iter()
                .map(|query| {
                    let start = Instant::now();
                    let work = search(query);
                    ns(start.elapsed(), work.distances as f64)
                })
                // The first ones bring the index into the caches.
                .skip(4)
                .collect();
            each.sort_by(f64::total_cmp);
            each[each.len() / 2]
        };
        // One of so many among the first.
        let every = |step: usize, most: usize| {
            let mut set = FixedBitSet::with_capacity(n);
            (0..n.min(most)).step_by(step).for_each(|node| set.insert(node));
            set
        };
        // Where every stored row is scanned there is nothing to walk, and much to read.
        if index.recipe().route != Route::Scan {
            pace.walk.set(timed(&mut |query| index.search(query, k, settings, Allowed::All, Limit::NONE).1));
        }
        if index.recipe().route == Route::Scan {
            let some = every((n / FEW).max(1), n);
            pace.stored.set(timed(&mut |query| {
                index.scan_stored(query, k, settings, (&some).into(), Until::NONE).1
            }));
            pace.dense.set(pace.stored());
        } else if index.ranks_picked() {
            let ranked = |step: usize, most: usize| {
                let some = every(step.max(1), most);
                let n_some = some.count_ones(..);
                let took = timed(&mut |query| {
                    let nodes = Lens::plain(&some).slots(n, n_some, |_| true);
                    let work = index.rank_picked(query, k, settings, &nodes).1;
                    // Of each row there is one, whatever finds it.
                    Work { distances: n_some, ..work }
                });
                (n_some as f64, took)
            };
            // What each takes shows among many, and what all take together among few.
            let (few, among_few) = ranked(n / FEW, n);
            let (many, among_many) = ranked(SPARSE, MOST);
            let is_many = many >= 4.0 * few;
            pace.stored.set(if is_many { among_many } else { among_few });
            pace.dense.set(if is_many { ranked(DENSE, MOST).1 } else { among_few });
            if is_many {
                pace.overhead.set(((among_few - among_many) * few).max(1000.0));
            }
        }
        if index.has_cells() {
            pace.measure_cells(index, &queries, k);
        }
        pace
    }

    /// What looking from cell to cell takes: with filters that bar all, most, and nothing.
    fn measure_cells(&self, index: &Index, queries: &[&[f32]], k: usize) {
        let (n, settings) = (index.len(), Settings::default());
        let every = |step: usize| {
            let mut rows = FixedBitSet::with_capacity(n);
            rows.extend((0..n).step_by(step));
            rows
        };
        for rows in [FixedBitSet::with_capacity(n), every(1), every(8), every(1)] {
            for query in queries {
                let (start, n_allowed) = (Instant::now(), rows.count_ones(..));
                let lens = (Lens::plain(&rows), n_allowed);
                let Some(search) = index.filtered(query, k, settings, lens) else { return };
                let began = Instant::now();
                let (_, _, looked) = search.run(Until::NONE);
                if n_allowed == 0 && looked.blocks > 0.0 {
                    self.checked.set(ns(began.elapsed(), looked.blocks));
                } else if n_allowed == n {
                    let rest = start.elapsed().as_secs_f64() * 1e9 - self.of(looked);
                    self.fixed.set(rest.max(2000.0));
                } else if looked.rows > 0.0 {
                    let of_rows = looked.rows * self.row();
                    let rest = start.elapsed().as_secs_f64() * 1e9 - self.fixed() - self.of(looked) + of_rows;
                    self.row.saw((rest / looked.rows).max(1.0));
                }
            }
        }
    }

    /// What looking at so much takes.
    fn of(&self, looked: Looked) -> f64 {
        looked.blocks * self.checked()
            + looked.compared * self.compared()
            + looked.rows * self.row()
            + looked.candidates as f64 * self.stored()
    }

    pub fn walk(&self) -> f64 {
        self.walk.get()
    }

    /// A stored row of few.
    pub fn stored(&self) -> f64 {
        self.stored.get()
    }

    /// A stored row of so many: the more of all those are, the less memory is waited for.
    pub fn stored_among(&self, rows: f64) -> f64 {
        let (sparse, dense) = (1.0 / SPARSE as f64, 1.0 / DENSE as f64);
        let is_dense = ((rows / self.n.max(1.0) - sparse) / (dense - sparse)).clamp(0.0, 1.0);
        self.stored() + is_dense * (self.dense.get() - self.stored())
    }

    pub(crate) fn saw_walk(&self, work: Work, elapsed: Duration) {
        self.walk.saw(ns(elapsed, work.distances as f64));
    }

    /// So many allowed rows were ranked by what is stored of them.
    pub(crate) fn saw_stored(&self, n: usize, elapsed: Duration) {
        let own = elapsed.as_secs_f64() * 1e9;
        if n >= 10 * LEAST_ROWS {
            // Both are off as far as what was expected is.
            let off = (own - self.overhead.get()).max(1.0) / (n as f64 * self.stored_among(n as f64));
            let is_dense = n as f64 * DENSE as f64 > self.n * 0.6;
            let mean = if is_dense { &self.dense } else { &self.stored };
            mean.saw(mean.get() * off);
        } else {
            self.overhead.saw((own - n as f64 * self.stored()).max(100.0));
        }
    }

    pub fn fixed(&self) -> f64 {
        self.fixed.get()
    }

    pub fn checked(&self) -> f64 {
        self.checked.get()
    }

    pub fn compared(&self) -> f64 {
        self.compared.get()
    }

    pub fn row(&self) -> f64 {
        self.row.get()
    }

    pub(crate) fn saw_filtered(&self, looked: Looked, elapsed: Duration) {
        let rest = elapsed.as_secs_f64() * 1e9 - self.of(looked);
        let each = |mean: &Mean, n: f64| mean.saw((mean.get() + (rest - self.fixed()) / n).max(1.0));
        if looked.compared >= 500.0 {
            each(&self.compared, looked.compared);
        } else if looked.rows >= 2000.0 {
            each(&self.row, looked.rows);
        } else {
            self.fixed.saw(rest.max(2000.0));
        }
    }

    /// Nanoseconds that a scan of stored rows takes whatever their number.
    pub fn overhead(&self) -> f64 {
        self.overhead.get()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_stored_row_takes_what_it_takes_among_as_many() {
        let mean = || Mean::new(10.0);
        let pace = Pace {
            stored: Mean::new(30.0),
            dense: Mean::new(20.0),
            overhead: Mean::new(1000.0),
            n: 80_000.0,
            walk: mean(),
            fixed: mean(),
            checked: mean(),
            compared: mean(),
            row: mean(),
        };
        for (rows, ns) in
            [(10.0, 30.0), (10_000.0, 30.0), (25_000.0, 25.0), (40_000.0, 20.0), (80_000.0, 20.0)]
        {
            assert_eq!(pace.stored_among(rows), ns, "{rows}");
        }
        // A scan tells of as many rows as it saw; one of few rows, of what every scan takes.
        let saw = |n: usize, ns: f64| {
            (0..200).for_each(|_| pace.saw_stored(n, Duration::from_secs_f64(ns / 1e9)));
            [pace.stored_among(8000.0), pace.stored_among(60_000.0), pace.overhead()].map(f64::round)
        };
        assert_eq!(saw(60_000, 1000.0 + 60_000.0 * 15.0), [30.0, 15.0, 1000.0]);
        assert_eq!(saw(8000, 1000.0 + 8000.0 * 40.0), [40.0, 15.0, 1000.0]);
        assert_eq!(saw(100, 3000.0 + 100.0 * 40.0), [40.0, 15.0, 3000.0]);
    }

    #[test]
    fn a_mean_follows_the_machine_and_not_one_outlier() {
        let mean = Mean::new(100.0);
        mean.saw(1e9);
        assert!(mean.get() < 107.0, "{}", mean.get());
        (0..200).for_each(|_| mean.saw(40.0));
        assert!((mean.get() - 40.0).abs() < 1.0, "{}", mean.get());
        mean.saw(f64::NAN);
        assert!(mean.get().is_finite());
    }
}
