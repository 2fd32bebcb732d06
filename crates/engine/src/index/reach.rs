//! Searches that end in the wrong place, and how they are known.
//!
//! A walk is greedy: it may end among records that are near each other and far from the query, and then it finds none of the
//! true neighbours, while nearly all other walks find nearly all. Its hits give it away: they are farther than the
//! neighbours of nearly all records. Such a search is repeated with wider settings.

use crate::Metric;
use crate::index::build::crew::Crew;
use crate::index::description::{Limit, Settings, Work, late};
use crate::index::held_out::{held_out_share, is_held_out};
use crate::index::progress::BuildError;
use crate::index::store::tensor::Tensor;
use crate::index::structure::{Index, Structure};
use crate::scan::{Allowed, Nearest, Neighbour};
use rand::SeedableRng;
use rand::seq::SliceRandom;

/// Ranks that are known, from the nearest on.
pub(crate) const RANKS: usize = 10;
/// Records that tell them.
const RECORDS: usize = 1000;
/// Fewer nodes are found with any settings.
const LEAST_NODES: usize = 2000;
/// The share of records whose neighbours are nearer.
const SHARE: f64 = 0.995;
/// What a repeated search opens at least.
const LEAST_BEAM: usize = 160;
const LEAST_VISIT: usize = 32;
/// How many times as much it may look at.
const WIDER: usize = 4;

impl Settings {
    /// Those of a search that is repeated.
    fn wider(self, wanted: usize) -> Settings {
        Settings {
            beam: (WIDER * self.beam.max(wanted)).clamp(LEAST_BEAM, Settings::MAX_BEAM),
            visit: (WIDER * self.visit).clamp(LEAST_VISIT, Settings::MAX_VISIT),
            rescore: (WIDER * self.rescore).min(Settings::MAX_RESCORE),
        }
    }
}

/// Rows that an index learns the reach from, and their vectors, row-major: none of them held out.
pub(crate) fn sample(numbers: &[u64], plain: &[f32], d: usize, seed: u64) -> (Vec<u32>, Vec<f32>) {
    if numbers.len() < LEAST_NODES {
        return (Vec::new(), Vec::new());
    }
    let share = held_out_share(numbers.len());
    let mut rows: Vec<u32> =
        (0..numbers.len() as u32).filter(|row| !is_held_out(numbers[*row as usize], share)).collect();
    let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
    let rows = rows.partial_shuffle(&mut rng, RECORDS).0.to_vec();
    let vectors = rows.iter().flat_map(|row| &plain[*row as usize * d..][..d]).copied().collect();
    (rows, vectors)
}

impl Index {
    /// The rank behind which hits of a query are far: infinity where nothing is known. Under dot it grows with the
    /// length of the query, so it is told for length 1.
    fn limit(&self, n_hits: usize, query: &[f32]) -> f32 {
        let limit = self.reach[n_hits.clamp(1, RANKS) - 1];
        if self.description.metric == Metric::Dot { limit * length(query) } else { limit }
    }

    /// Learns how far the neighbours of some records are. `nodes` are theirs, `vectors` row-major.
    pub(crate) fn learn_reach(
        &self,
        crew: &Crew<'_>,
        nodes: &[u32],
        vectors: &[f32],
    ) -> Result<Tensor<f32>, BuildError> {
        let mut reach = vec![f32::INFINITY; RANKS];
        if nodes.is_empty() || matches!(self.route, Structure::Scan) {
            return Ok(reach.into());
        }
        let d = self.description.dimensions;
        let settings = Settings::default().wider(0);
        crew.progress.begin("learning distances", nodes.len());
        let of = |i: usize| {
            let query = &vectors[i * d..][..d];
            let scale = if self.description.metric == Metric::Dot { length(query) } else { 1.0 };
            let (found, ..) = self.search_once(query, RANKS + 1, settings, Allowed::All, Limit::NONE);
            let others = found.into_iter().filter(|n| n.row != nodes[i]).take(RANKS);
            others.map(|n| n.rank / scale).filter(|rank| rank.is_finite()).collect::<Vec<f32>>()
        };
        let lists = crew.pieces(nodes.len(), 16, |some| some.map(of).collect::<Vec<_>>())?;
        for (rank, limit) in reach.iter_mut().enumerate() {
            let mut all: Vec<f32> =
                lists.iter().flatten().filter_map(|list| list.get(rank).copied()).collect();
            let at = (SHARE * all.len() as f64) as usize;
            if at < all.len() {
                *limit = *all.select_nth_unstable_by(at, f32::total_cmp).1;
            }
        }
        Ok(reach.into())
    }

    /// The `k` nearest allowed nodes to a prepared query, nearest first; their `row` is the node's
    /// number. Fewer come back when the walk ran dry or gave up at its limit, or
    /// at once where what is allowed lies too scattered for it (never without a limit of distances): the second
    /// value tells the work done, the third whether the answer is as good as the settings promise.
    ///
    /// Without a filter, a search whose hits are farther than the neighbours of 995 of 1,000 records is repeated with four
    /// times the beam, visits and rescore: either its query lies far from all records, or it ended in the wrong place.
    pub fn search(
        &self,
        query: &[f32],
        k: usize,
        settings: Settings,
        allowed: Allowed<'_>,
        limit: Limit,
    ) -> (Vec<Neighbour>, Work, bool) {
        let first = self.search_once(query, k, settings, allowed, limit);
        let hits = &first.0[..first.0.len().min(RANKS)];
        let is_far = hits.last().is_some_and(|last| last.rank > self.limit(hits.len(), query));
        if !is_far || matches!(allowed, Allowed::Only(_)) || late(limit.until) {
            return first;
        }
        let wanted = if self.recipe.rescore.is_some() { k.saturating_mul(settings.rescore) } else { k };
        let (found, work, complete) = self.search_once(query, k, settings.wider(wanted), allowed, limit);
        // Each may have what the other missed.
        let mut nearest = Nearest::new(k);
        let missed = first.0.into_iter().filter(|n| found.iter().all(|f| f.row != n.row)).collect::<Vec<_>>();
        found.iter().chain(&missed).for_each(|n| nearest.offer(n.row, n.rank));
        (nearest.into_sorted(), work.with(first.1).with(Work { again: 1, ..Work::default() }), complete)
    }
}

fn length(vector: &[f32]) -> f32 {
    vector.iter().map(|x| x * x).sum::<f32>().sqrt()
}
