//! From what seems near by short codes to what is near: candidates are ranked in order, until those that come after cannot be
//! among the answers.

use crate::index::description::{Settings, Work};
use crate::index::pool::Pool;
use crate::index::store::prepared::PreparedQuery;
use crate::index::store::rows::Rows;
use crate::index::structure::{Index, Structure};
use crate::kernels::Kernels;
use crate::scan::{Nearest, Neighbour};

/// A query as it meets what a graph's index stores, and its finer vectors.
pub(crate) struct Judge<'a> {
    index: &'a Index,
    kernels: &'static Kernels,
    k: usize,
    settings: Settings,
    stored: PreparedQuery<'static>,
    finer: Option<(&'a Rows, PreparedQuery<'a>)>,
}

/// Candidates that are ranked at a time, after the first.
const SOME: usize = 64;
/// How many times as many candidates there are if the first were too few.
pub(crate) const MORE: usize = 5;
/// Standard deviations that an estimate may be off.
const DEVIATIONS: f64 = 2.0;

impl Index {
    /// Whether finer vectors decide at once: other codes of the same rows have little more to tell.
    pub(crate) fn finer_decide(&self) -> bool {
        self.finer.is_some() && self.recipe.store.is_code()
    }

    pub(crate) fn judge<'a>(&'a self, query: &'a [f32], k: usize, settings: Settings) -> Judge<'a> {
        let kernels = Kernels::best();
        let euclidean = self.description.metric == crate::Metric::Euclidean;
        let finer = self.ask_finer(kernels, query);
        let (turned, base) = self.transform.ask(kernels, query, euclidean);
        let stored = self.rows.ask(kernels, &turned, euclidean, base).into_owned();
        Judge { index: self, kernels, k, settings, stored, finer }
    }

    /// The `k` nearest of some nodes of a graph, or in cells, or those that may be among them, for the caller to rank: those
    /// that are not near by short codes, where there are such, are not ranked by more.
    pub fn rank_picked(
        &self,
        query: &[f32],
        k: usize,
        settings: Settings,
        nodes: &[u32],
    ) -> (Vec<Neighbour>, Work) {
        if let Structure::Cells(cells) = &self.route {
            return self.rank_picked_in_cells(cells, (query, k, settings), nodes);
        }
        let judge = self.judge(query, k, settings);
        let mut work = Work::default();
        let mut ranks = vec![0.0; nodes.len()];
        let mut wanted = self.coded_candidates(k, true);
        if (self.heads().is_some() || self.finer_decide()) && wanted < nodes.len() {
            // Short codes of all first.
            match self.heads() {
                Some(heads) => {
                    let asked = heads.ask(judge.kernels, query, judge.stored.euclidean);
                    heads.rank_picked(judge.kernels, &asked, nodes, &mut ranks);
                }
                None => self.rows.rank_picked(judge.kernels, &judge.stored, 0.0, nodes, &mut ranks),
            }
            work.distances += nodes.len();
            while wanted < nodes.len() {
                let (ranked, is_settled) =
                    judge.in_order(&mut judge.nearest(nodes, &ranks, wanted), &mut work);
                if is_settled {
                    return (judge.answer(ranked, &mut work), work);
                }
                wanted = wanted.saturating_mul(MORE);
            }
        }
        judge.rank(nodes, &mut ranks, &mut work);
        let ranked = nodes.iter().zip(ranks).map(|(row, rank)| Neighbour { row: *row, rank });
        (judge.answer(ranked.collect(), &mut work), work)
    }
}

impl Judge<'_> {
    fn rank(&self, nodes: &[u32], ranks: &mut [f32], work: &mut Work) {
        let (rows, asked) = match &self.finer {
            Some((rows, asked)) if self.index.finer_decide() => (*rows, asked),
            _ => (&*self.index.rows, &self.stored),
        };
        rows.rank_picked(self.kernels, asked, 0.0, nodes, ranks);
        work.distances += nodes.len();
    }

    /// So many of some nodes that seem nearest, in no order; all of them, where ranks are no numbers.
    fn nearest(&self, nodes: &[u32], ranks: &[f32], wanted: usize) -> Vec<Neighbour> {
        let mut pool = Pool::new(wanted, 1);
        pool.offer(self.kernels, nodes, ranks);
        match pool.len() < wanted.min(nodes.len()) {
            true => nodes.iter().map(|row| Neighbour { row: *row, rank: f32::NEG_INFINITY }).collect(),
            false => pool.into_places(self.kernels),
        }
    }

    /// Ranks candidates, those that seem nearest first, until what comes after is farther than the `k` nearest by more than
    /// estimates are off. How far that is, those that were ranked tell: the farther rows lie from the query, the less their
    /// codes tell. Those that were ranked, and whether there were enough candidates.
    pub(crate) fn in_order(&self, near: &mut [Neighbour], work: &mut Work) -> (Vec<Neighbour>, bool) {
        let mut nearest = Nearest::new(self.k);
        let (mut sum, mut squares) = (0.0f64, 0.0f64);
        let mut is_settled = false;
        let (mut from, mut some) = (0, 4 * self.k + 20);
        let (mut rows, mut ranks): (Vec<u32>, Vec<f32>) = (Vec::new(), Vec::new());
        while from < near.len() && !is_settled {
            let rest = &mut near[from..];
            some = some.min(rest.len());
            let next = (some < rest.len()).then(|| rest.select_nth_unstable(some).1.rank);
            rows.clear();
            rows.extend(rest[..some].iter().map(|at| at.row));
            ranks.resize(some, 0.0);
            self.rank(&rows, &mut ranks, work);
            for (at, &rank) in rest.iter_mut().zip(&ranks) {
                let off = f64::from(rank - at.rank);
                (sum, squares) = (sum + off, squares + off * off);
                at.rank = rank;
                nearest.offer(at.row, rank);
            }
            from += some;
            let n = from as f64;
            let deviation = (squares / n - (sum / n).powi(2)).max(0.0).sqrt();
            let limit = f64::from(nearest.worst()) + DEVIATIONS * deviation;
            // Of what is no number nothing can be said.
            is_settled = limit.is_finite() && next.is_some_and(|next| f64::from(next) > limit);
            some = SOME;
        }
        (near[..from].to_vec(), is_settled)
    }

    /// The `k` nearest of what was ranked; without finer vectors those that may be among them, for the caller to rank.
    pub(crate) fn answer(self, mut ranked: Vec<Neighbour>, work: &mut Work) -> Vec<Neighbour> {
        let index = self.index;
        ranked.sort_unstable();
        if self.index.finer_decide() {
            ranked.truncate(self.k);
            return ranked;
        }
        let wanted = match self.finer {
            // A walk re-ranks what it opens.
            Some(_) => self.k.saturating_mul(self.settings.rescore.max(1)).max(self.settings.beam),
            None => self.k.saturating_mul(index.spread()),
        };
        // Of what is no number nothing is known.
        if ranked.iter().all(|at| at.rank.is_finite()) {
            ranked.truncate(wanted);
        }
        match self.finer {
            Some(finer) => index.reranked(self.kernels, &self.stored, Some(finer), ranked, self.k, work),
            None => ranked,
        }
    }
}
