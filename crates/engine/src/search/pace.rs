//! How fast this machine is at the pieces of a search: measured when an index is attached, and corrected by every
//! search since. What the planner's costs are made of.

use crate::chunked::Vectors;
use crate::index::{Index, Limit, Settings, Work};
use crate::recipe::Route;
use crate::scan::Allowed;
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

pub(crate) fn saw_consecutive(dimensions: usize, rows: usize, elapsed: Duration) {
    if rows >= LEAST_ROWS {
        CONSECUTIVE.saw((ns(elapsed, rows as f64) - 2.0).max(0.01) / dimensions as f64);
    }
}

pub(crate) fn saw_picked(dimensions: usize, rows: usize, elapsed: Duration) {
    if rows >= LEAST_ROWS {
        PICKED.saw((ns(elapsed, rows as f64) - 4.0).max(0.01) / dimensions as f64);
    }
}

/// Of one index.
#[derive(Debug)]
pub struct Pace {
    /// A distance of a walk, or in a visited cell, with everything around it.
    walk: Mean,
    /// An excluded node that a walk steps over.
    step_over: Mean,
    /// A distance to a stored row, of rows from a list.
    stored: Mean,
    /// What such a scan takes for each search, whatever its rows.
    overhead: Mean,
    /// A block of sketches.
    block: Mean,
    /// What walks from allowed node to allowed node took, in thousandths of what they were expected to.
    allowed: Mean,
}

impl Pace {
    /// Searches for a few of the rows it holds, and takes the time. `rows`: those of the table that are its nodes.
    pub fn measured(index: &Index, vectors: &Vectors, rows: &[u32]) -> Pace {
        let d = vectors.dimensions() as f64;
        let walk = index.cost_of_distance() * 0.13 * d;
        let pace = Pace {
            walk: Mean::new(walk as f32),
            step_over: Mean::new(60.0),
            stored: Mean::new(walk as f32),
            overhead: Mean::new(20_000.0),
            block: Mean::new((30.0 + 0.15 * d) as f32),
            allowed: Mean::new(1000.0),
        };
        let n = index.len();
        if n < 1000 || rows.len() < 1000 {
            return pace;
        }
        let (settings, k) = (Settings::default(), 10);
        let queries = || rows.iter().step_by(rows.len() / 12).map(|row| vectors.row(*row));
        let timed = |search: &mut dyn FnMut(&[f32]) -> Work| {
            let (mut work, mut elapsed) = (Work::default(), Duration::ZERO);
            for (i, query) in queries().enumerate() {
                let start = Instant::now();
                let done = search(query);
                // The first ones bring the index into the caches.
                if i >= 4 {
                    work = work.with(done);
                    elapsed += start.elapsed();
                }
            }
            (work, elapsed)
        };
        let every = |step: usize| {
            let mut set = FixedBitSet::with_capacity(n);
            (0..n).step_by(step).for_each(|node| set.insert(node));
            set
        };
        // Where every stored row is scanned there is nothing to walk, and much to read.
        if index.recipe().route != Route::Scan {
            let (work, elapsed) =
                timed(&mut |query| index.search(query, k, settings, Allowed::All, Limit::NONE).1);
            pace.walk.set(ns(elapsed, work.distances as f64));
            // An eighth of the nodes, for which walks step over others.
            let eighth = every(8);
            let (work, elapsed) =
                timed(&mut |query| index.search(query, k, settings, Allowed::Only(&eighth), Limit::NONE).1);
            if work.stepped_over > 0 {
                let rest = elapsed.as_secs_f64() * 1e9 - work.distances as f64 * pace.walk();
                pace.step_over.set((rest / work.stepped_over as f64).max(1.0));
            }
        }
        // Few enough for a scan.
        let some = every((n / 2048).max(1));
        let (work, elapsed) =
            timed(&mut |query| index.scan_stored(query, k, settings, Allowed::Only(&some), None).1);
        pace.stored.set(ns(elapsed, work.distances as f64));
        if index.has_sketches() {
            let half = every(2);
            let (work, elapsed) = timed(&mut |query| index.scan_sketches(query, k, settings, &half, None).1);
            let rest = elapsed.as_secs_f64() * 1e9 - work.distances as f64 * pace.stored();
            pace.block.set((rest / work.hops as f64).max(10.0));
        }
        pace
    }

    pub fn walk(&self) -> f64 {
        self.walk.get()
    }

    pub fn step_over(&self) -> f64 {
        self.step_over.get()
    }

    pub fn stored(&self) -> f64 {
        self.stored.get()
    }

    pub(crate) fn saw_walk(&self, work: Work, elapsed: Duration) {
        self.walk.saw(ns(elapsed, work.distances as f64));
    }

    /// What is more than the distances is the stepping over.
    pub(crate) fn saw_walk_allowed(&self, work: Work, elapsed: Duration) {
        if work.stepped_over < 100 {
            return self.saw_walk(work, elapsed);
        }
        let rest = elapsed.as_secs_f64() * 1e9 - work.distances as f64 * self.walk();
        self.step_over.saw((rest / work.stepped_over as f64).max(1.0));
    }

    /// `again`: distances to the finer vectors that re-ranked candidates, each of which takes `each_ns`.
    pub(crate) fn saw_stored(&self, work: Work, again: usize, each_ns: f64, elapsed: Duration) {
        let n = work.distances.saturating_sub(again);
        let own = elapsed.as_secs_f64() * 1e9 - again as f64 * each_ns;
        if n >= 10 * LEAST_ROWS {
            self.stored.saw((own - self.overhead.get()).max(1.0) / n as f64);
        } else {
            self.overhead.saw((own - n as f64 * self.stored()).max(100.0));
        }
    }

    /// By how much walks from allowed node to allowed node exceed what counts and paces make of them.
    pub fn allowed(&self) -> f64 {
        self.allowed.get() / 1e3
    }

    pub(crate) fn saw_allowed(&self, elapsed: Duration, expected_us: f64) {
        if expected_us > 0.0 {
            self.allowed.saw(elapsed.as_secs_f64() * 1e9 / expected_us * self.allowed());
        }
    }

    pub fn block(&self) -> f64 {
        self.block.get()
    }

    pub(crate) fn saw_sketches(&self, work: Work, elapsed: Duration) {
        let rest = elapsed.as_secs_f64() * 1e9 - work.distances as f64 * self.stored();
        self.block.saw((rest / work.hops.max(1) as f64).max(10.0));
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
