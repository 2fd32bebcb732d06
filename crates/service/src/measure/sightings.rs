//! Notes of live searches, until they are checked and written down: bounded, and never waited for.

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use parking_lot::Mutex;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};
use zesty_catalog::{Caught, Observation};
use zesty_engine::Table;
use zesty_engine::filter::Test;
use zesty_engine::measure::recall;
use zesty_engine::scan::Neighbour;
use zesty_engine::search::{Request, run};
use zesty_engine::until::Until;

/// Captured searches that wait to be kept; further ones are passed over.
const MOST_CAUGHT: usize = 256;
/// Searches that wait to be answered exactly; a newer one takes the place of one of them.
const MOST_WAITING: usize = 4;
/// A search that was answered by an index, as it is checked.
pub struct Sighting {
    pub collection: i64,
    pub index: String,
    /// The saved search that was asked; empty for others.
    pub saved: String,
    /// The snapshot that was searched.
    pub table: Arc<Table>,
    pub column: usize,
    pub query: Vec<f32>,
    pub test: Option<Test>,
    pub excluded: Vec<u32>,
    pub k: usize,
    pub found: Vec<Neighbour>,
    /// The share of processor time that may be taken.
    pub budget: f64,
}

/// A minute of an index of a collection, and of a saved search or none.
type Minute = (i64, String, String, DateTime<Utc>);
/// Searches, the sum of their recalls, and of the squares.
type Sums = (u64, f64, f64);

/// What waits to be written down or checked, and what checking took.
#[derive(Default)]
pub struct Watcher {
    caught: Mutex<Vec<Caught>>,
    waiting: Mutex<Vec<Sighting>>,
    seen: Mutex<BTreeMap<Minute, Sums>>,
    /// Seconds of exact answers, since when, and until when the rest after the last one goes.
    spent: Mutex<Option<(f64, Instant, Instant)>>,
}

impl Watcher {
    pub fn capture(&self, caught: Caught) {
        let mut all = self.caught.lock();
        if all.len() < MOST_CAUGHT {
            all.push(caught);
        }
    }

    /// Leaves a search to be checked. Of more than can be checked, each has the same chance.
    pub fn sight(&self, sighting: Sighting) {
        let mut waiting = self.waiting.lock();
        if waiting.len() < MOST_WAITING {
            waiting.push(sighting);
        } else {
            let place = rand::random_range(0..4 * MOST_WAITING);
            if let Some(old) = waiting.get_mut(place) {
                *old = sighting;
            }
        }
    }

    /// The share of the processor time of all cores that exact answers took so far.
    pub fn spent(&self) -> Option<f64> {
        let (seconds, since, until) = (*self.spent.lock())?;
        let elapsed = until.max(Instant::now()) - since;
        Some(seconds / elapsed.as_secs_f64().max(1e-3) / cores())
    }

    /// Checks one search; returns how long to rest so that the budget is kept.
    pub fn check(&self) -> Duration {
        let Some(one) = self.waiting.lock().pop() else { return Duration::from_millis(100) };
        let start = Instant::now();
        let request = Request {
            column: one.column,
            query: &one.query,
            k: one.k,
            filter: one.test.as_ref(),
            excluded: &one.excluded,
            index: None,
            only: None,
            until: Until::NONE,
        };
        let truth = run(&one.table, request).nearest;
        let seconds = start.elapsed().as_secs_f64();
        let found = recall(&one.found, &truth);
        let minute = Utc::now().duration_trunc(TimeDelta::minutes(1)).unwrap_or_else(|_| Utc::now());
        let mut seen = self.seen.lock();
        let (n, sum, squares) = seen.entry((one.collection, one.index, one.saved, minute)).or_default();
        (*n, *sum, *squares) = (*n + 1, *sum + found, *squares + found * found);
        drop(seen);
        let rest = (seconds / (one.budget * cores()) - seconds).max(0.0);
        let rest = Duration::from_secs_f64(rest);
        let mut spent = self.spent.lock();
        let (all, _, until) = spent.get_or_insert((0.0, start, start));
        (*all, *until) = (*all + seconds, Instant::now() + rest);
        rest
    }

    /// What was captured and observed since the last time.
    pub fn take(&self) -> (Vec<Caught>, Vec<Observation>) {
        let caught = std::mem::take(&mut *self.caught.lock());
        let seen = std::mem::take(&mut *self.seen.lock());
        let one = |((collection, index, saved, at), (n, sum, squares))| Observation {
            collection,
            index,
            saved,
            at,
            n,
            sum,
            squares,
        };
        (caught, seen.into_iter().map(one).collect())
    }
}

fn cores() -> f64 {
    std::thread::available_parallelism().map_or(1, usize::from) as f64
}
