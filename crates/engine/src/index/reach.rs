//! Searches that end in the wrong place, and how they are known.
//!
//! A walk is greedy: it may end among records that are near each other and far from the query, and then it finds none of the
//! true neighbours, while nearly all other walks find nearly all. Its hits give it away: they are farther than the
//! neighbours of nearly all records. Such a search is repeated with wider settings. A visit to few cells fails by parts: it
//! finds some of the neighbours, and its last hits are farther than those of most records.

use crate::Metric;
use crate::index::build::crew::Crew;
use crate::index::description::{Description, Limit, Settings, Work};
use crate::index::held_out::{held_out_share, is_held_out};
use crate::index::progress::BuildError;
use crate::index::structure::{Index, Structure};
use crate::recipe::{Recipe, Route, Store};
use crate::scan::{Allowed, Nearest, Neighbour, Queries, scan_many};
use crate::tensors::Tensor;
use rand::SeedableRng;
use rand::seq::SliceRandom;
use std::sync::atomic::Ordering;

/// The neighbours whose ranks are known, counted from the nearest on.
pub(crate) const DEPTHS: [u32; 17] = [1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 16, 32, 64, 128, 256, 512, 1024];
/// The deepest of them, which few rows of a filter may come to.
const DEEPEST: usize = DEPTHS[DEPTHS.len() - 1] as usize;
/// So many of the first hits are looked at.
pub(crate) const HITS: usize = 10;
/// Records that tell them.
const RECORDS: usize = 1000;
/// Rows that are answered together; between two lots a cancel is heard.
const TOGETHER: usize = 100;
/// Fewer nodes are found with any settings.
const LEAST_NODES: usize = 2000;
/// What a repeated search opens at least.
const LEAST_BEAM: usize = 160;
const LEAST_VISIT: usize = 32;
/// How many times as much it may look at.
const WIDER: usize = 4;

/// How far hits may be: as far as the neighbours of so many records.
#[derive(Clone, Copy)]
pub(crate) enum Than {
    Of95In100,
    Of99In100,
    Of995In1000,
}

/// Of how many records the neighbours are nearer, in the order of [`Than`].
pub(crate) const SHARES: [f64; 3] = [0.95, 0.99, 0.995];

/// How many cells a search visits that is repeated with so many times as much.
pub(crate) fn more_cells(visit: usize, times: usize) -> usize {
    times.saturating_mul(visit).clamp(times / WIDER * LEAST_VISIT, Settings::MAX_VISIT)
}

impl Settings {
    /// Those of a search that is repeated: with so many times as much.
    fn wider(self, wanted: usize, times: usize) -> Settings {
        let least = times / WIDER;
        Settings {
            beam: (times * self.beam.max(wanted)).clamp(least * LEAST_BEAM, Settings::MAX_BEAM),
            visit: more_cells(self.visit, times),
            rescore: (WIDER * self.rescore).min(Settings::MAX_RESCORE),
        }
    }
}

/// The vectors of some rows, and the exact answer for each: its nearest others, nearest first.
pub(crate) type Answers = Vec<(Vec<f32>, Vec<Neighbour>)>;

/// Learns how far the neighbours of some rows are, by the exact answer: a walk that ends in the wrong place must not teach
/// that this is usual. None of the rows is held out. The ranks are those of prepared vectors, so that an index whose hits
/// carry estimates, or ranks of fewer dimensions, knows none.
pub(crate) fn learn(
    crew: &Crew<'_>,
    recipe: &Recipe,
    (numbers, plain): (&[u64], &[f32]),
    description: &Description,
) -> Result<(Tensor<f32>, Answers), BuildError> {
    let mut reach = vec![f32::INFINITY; SHARES.len() * DEPTHS.len()];
    let mut answers = Answers::new();
    let Description { metric, dimensions: d, seed, .. } = *description;
    let plain_ranks = recipe.rescore.is_some()
        || (matches!(recipe.store, Store::F32 | Store::F16 | Store::Int8) && recipe.prepare.reduce.is_none());
    if numbers.len() < LEAST_NODES || recipe.route == Route::Scan {
        return Ok((reach.into(), answers));
    }
    crew.progress.begin("learning distances", RECORDS);
    let share = held_out_share(numbers.len());
    let mut rows: Vec<u32> =
        (0..numbers.len() as u32).filter(|row| !is_held_out(numbers[*row as usize], share)).collect();
    let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
    let rows = rows.partial_shuffle(&mut rng, RECORDS).0.to_vec();
    let mut lists: Vec<Vec<f32>> = Vec::with_capacity(rows.len());
    answers.reserve(rows.len());
    for some in rows.chunks(TOGETHER) {
        crew.check()?;
        let values: Vec<f32> =
            some.iter().flat_map(|row| &plain[*row as usize * d..][..d]).copied().collect();
        let excluded: Vec<Option<u32>> = some.iter().copied().map(Some).collect();
        let queries = Queries { values: &values, dimensions: d, excluded: &excluded };
        let found = scan_many(&[(0, plain)], metric, queries, DEEPEST, Allowed::All, crew.threads);
        for (query, nearest) in values.chunks(d).zip(found) {
            let scale = if metric == Metric::Dot { length(query) } else { 1.0 };
            let at = |depth: &u32| nearest.get(*depth as usize - 1).map_or(f32::NAN, |n| n.rank / scale);
            lists.push(DEPTHS.iter().map(at).collect());
            answers.push((query.to_vec(), nearest));
        }
        crew.progress.done.fetch_add(some.len(), Ordering::Relaxed);
    }
    let known = if plain_ranks { SHARES.len() } else { 0 };
    for (share, limits) in SHARES.into_iter().zip(reach.chunks_mut(DEPTHS.len())).take(known) {
        for (depth, limit) in limits.iter_mut().enumerate() {
            let mut all: Vec<f32> =
                lists.iter().map(|list| list[depth]).filter(|rank| rank.is_finite()).collect();
            let at = (share * all.len() as f64) as usize;
            if at < all.len() {
                *limit = *all.select_nth_unstable_by(at, f32::total_cmp).1;
            }
        }
    }
    Ok((reach.into(), answers))
}

/// Between which of some growing numbers another lies, and how far on the way from one to the next by its logarithm.
pub(crate) fn place(among: &[f64], at: f64) -> (usize, f64) {
    let after = among.partition_point(|known| *known < at).clamp(1, among.len() - 1);
    let (from, to) = (among[after - 1], among[after]);
    (after - 1, ((at / from).ln() / (to / from).ln()).clamp(0.0, 1.0))
}

/// What is known at some depths, in between: ranks grow with the logarithm of how many rows lie nearer.
pub(crate) fn between(known: &[f32], depth: f64) -> f32 {
    let (at, part) = place(&DEPTHS.map(f64::from), depth);
    match part as f32 {
        0.0 => known[at],
        1.0 => known[at + 1],
        // Where one is not known, neither is this.
        part => known[at] + part * (known[at + 1] - known[at]),
    }
}

impl Index {
    /// How far the hits of a first, a second search are when another one follows, and how many times as much that looks at.
    pub(crate) fn tries(&self) -> &'static [(Than, usize)] {
        match self.route {
            Structure::Cells(_) => &[(Than::Of95In100, WIDER), (Than::Of99In100, WIDER * WIDER)],
            _ => &[(Than::Of995In1000, WIDER)],
        }
    }

    /// The rank behind which a neighbour of a query is far that so many rows are nearer than, or as near as: infinity where
    /// nothing is known. Under dot it grows with the length of the query, so it is told for length 1.
    fn limit(&self, than: Than, depth: f64, query: &[f32]) -> f32 {
        let limit = between(&self.reach[than as usize * DEPTHS.len()..][..DEPTHS.len()], depth);
        if self.description.metric == Metric::Dot { limit * length(query) } else { limit }
    }

    /// Whether hits, nearest first, are farther than the neighbours of so many records, where a filter allows this share
    /// of what is near: the tenth of a half is about the twentieth of all.
    pub(crate) fn is_far(&self, than: Than, hits: &[Neighbour], query: &[f32], share: f64) -> bool {
        let share = share.min(1.0);
        let last = hits.len().min(HITS).min((DEEPEST as f64 * share) as usize);
        last > 0 && hits[last - 1].rank > self.limit(than, last as f64 / share, query)
    }

    /// The `k` nearest allowed nodes to a prepared query, nearest first; their `row` is the node's
    /// number. The second value tells the work done.
    ///
    /// A search whose hits are farther than the neighbours of 995 of 1,000 records is repeated with four
    /// times the beam, visits and rescore: either its query lies far from all records, or it ended in the wrong place. By
    /// cells, one with hits farther than those of 95 of 100 is repeated, and if they are farther than those of 99 of 100
    /// even then, with sixteen times as many visits.
    pub fn search(
        &self,
        query: &[f32],
        k: usize,
        settings: Settings,
        allowed: Allowed<'_>,
        limit: Limit,
    ) -> (Vec<Neighbour>, Work) {
        if let Allowed::Only(nodes) = allowed {
            let n = nodes.count(self.len());
            let (mut found, work) = self.search_only(query, k, settings, (nodes, n), limit.until);
            found.truncate(k);
            return (found, work);
        }
        self.search_again(query, k, settings, (allowed, 1.0), limit)
    }

    /// As [`Index::search`], by the index's own structure: under a filter a walk goes as without one, and some of its nodes
    /// may be hits; the share is that of what is near the query.
    pub(crate) fn search_again(
        &self,
        query: &[f32],
        k: usize,
        settings: Settings,
        (allowed, share): (Allowed<'_>, f64),
        limit: Limit,
    ) -> (Vec<Neighbour>, Work) {
        let wanted = if self.recipe.rescore.is_some() { k.saturating_mul(settings.rescore) } else { k };
        let (mut found, mut work) = self.search_once(query, k, settings, allowed, limit);
        for &(than, times) in self.tries() {
            if !self.is_far(than, &found, query, share) || limit.until.is_over() {
                break;
            }
            let (more, further) = self.search_once(query, k, settings.wider(wanted, times), allowed, limit);
            // Each may have what the other missed.
            let mut nearest = Nearest::new(k);
            let missed =
                found.into_iter().filter(|n| more.iter().all(|f| f.row != n.row)).collect::<Vec<_>>();
            more.iter().chain(&missed).for_each(|n| nearest.offer(n.row, n.rank));
            found = nearest.into_sorted();
            work = work.with(further).with(Work { again: 1, ..Work::default() });
        }
        (found, work)
    }
}

fn length(vector: &[f32]) -> f32 {
    vector.iter().map(|x| x * x).sum::<f32>().sqrt()
}
