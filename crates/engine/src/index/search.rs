//! Searching an index: candidates by its structure or by a scan of its codes, then re-ranking.

use crate::Metric;
use crate::index::cells::visit::Visits;
use crate::index::description::{Limit, Settings, Work};
use crate::index::graph::heads::Heads;
use crate::index::graph::walk::{Space, Walker};
use crate::index::store::blocks;
use crate::index::store::prepared::PreparedQuery;
use crate::index::store::rows::Rows;
use crate::index::store::runs::Run;
use crate::index::structure::{Index, Structure};
use crate::kernels::Kernels;
use crate::scan::{Allowed, Lens, Nearest, Neighbour, ones};
use crate::until::Until;

impl Index {
    /// One search with these settings: see [`Index::search`].
    pub(crate) fn search_once(
        &self,
        query: &[f32],
        k: usize,
        settings: Settings,
        allowed: Allowed<'_>,
        limit: Limit,
    ) -> (Vec<Neighbour>, Work) {
        assert_eq!(query.len(), self.description.dimensions, "query has the index's dimensions");
        if self.is_empty() {
            return (Vec::new(), Work::default());
        }

        let kernels = Kernels::best();
        let euclidean = self.description.metric == Metric::Euclidean;
        let (turned, base) = self.transform.ask(kernels, query, euclidean);
        let finer = self.ask_finer(kernels, query);
        let wanted = if finer.is_some() { k.saturating_mul(settings.rescore.max(1)) } else { k };
        let mut scratch = self.scratch.lock().pop().unwrap_or_default();
        scratch.until = limit.until;
        if let Structure::Graph { inline_codes: Some(inline_codes), .. } = &self.route {
            let own = self.rows.ask_bits(kernels, &turned, euclidean, base, (false, true));
            let rows;
            let (finer, finer_asked) = match &finer {
                Some((finer, asked)) => (*finer, asked),
                None => {
                    rows = self.rows.ask(kernels, &turned, euclidean, base);
                    (&*self.rows, &rows)
                }
            };
            let space = Space { kernels, rows: &self.rows, nodes: self.len() };
            let mut walker = Walker {
                space: &space,
                query: &own,
                heads: None,
                scratch: &mut scratch,
                work: Work::default(),
            };
            let beam = settings.beam.max(k);
            let found = inline_codes.walk(&mut walker, (finer, finer_asked), (k, allowed), beam, wanted);
            let work = walker.work;
            self.scratch.lock().push(scratch);
            return (found, work);
        }
        let allowed = self.but_withheld(allowed);
        let asked = match &self.route {
            // What is stored of rows in several cells is asked under a filter only.
            Structure::Cells(cells) if cells.overlap.is_some() => {
                self.rows.ask_bits(kernels, &turned, euclidean, base, (false, true))
            }
            _ => self.rows.ask(kernels, &turned, euclidean, base),
        };
        let mut work = Work::default();
        let found = match &self.route {
            Structure::Scan => {
                let mut nearest = Nearest::new(wanted);
                let run = Run { nodes: 0..self.len(), first_block: 0, offset: 0.0, until: limit.until };
                work.distances += self.rank_allowed(kernels, &asked, run, allowed, &mut nearest);
                nearest.into_sorted()
            }
            Structure::Cells(cells) => {
                let visits = Visits { cells, k, wanted, visit: settings.visit.max(1), allowed, limit };
                self.visit(&visits, (&turned, &asked), &mut scratch, &mut work)
            }
            Structure::Graph { graph, .. } => {
                let space = Space { kernels, rows: &self.rows, nodes: self.len() };
                let beam = settings.beam.max(wanted);
                let question = graph.heads().map(|heads| (heads, heads.ask(kernels, query, euclidean)));
                let mut walker = Walker {
                    space: &space,
                    query: &asked,
                    heads: question.as_ref().map(|(heads, question)| (*heads, question)),
                    scratch: &mut scratch,
                    work: Work::default(),
                };
                let found = match allowed {
                    Allowed::Only(nodes) => {
                        let mut found = graph.walk(&mut walker, beam, beam);
                        found.retain(|n| nodes.contains(n.row));
                        found.truncate(wanted);
                        found
                    }
                    _ => graph.walk(&mut walker, wanted, beam),
                };
                work = work.with(walker.work);
                found
            }
        };
        self.scratch.lock().push(scratch);
        (self.reranked(kernels, &asked, finer, found, k, &mut work), work)
    }

    /// The finer vectors, and a query that meets them.
    pub(crate) fn ask_finer<'q>(
        &'q self,
        kernels: &Kernels,
        query: &'q [f32],
    ) -> Option<(&'q Rows, PreparedQuery<'q>)> {
        let euclidean = self.description.metric == Metric::Euclidean;
        self.finer.as_deref().map(|rows| (rows, rows.ask(kernels, query, euclidean, 0.0)))
    }

    /// The `k` nearest of so many nodes; without finer vectors those that may be among them, for the caller to rank.
    pub(crate) fn search_only(
        &self,
        query: &[f32],
        k: usize,
        settings: Settings,
        (nodes, n): (Lens<'_>, usize),
        until: Until,
    ) -> (Vec<Neighbour>, Work) {
        match self.filtered(query, k, settings, (nodes, n)).map(|search| search.run(until)) {
            Some((found, work, _)) => (found, work),
            None => self.scan_stored(query, k, settings, Allowed::Only(nodes), until),
        }
    }

    /// The `k` nearest allowed nodes by a scan of what is stored of them, re-ranked as the settings say; without
    /// finer vectors those that may be among the `k` nearest, for the caller to rank. Not where codes lie in cells.
    pub fn scan_stored(
        &self,
        query: &[f32],
        k: usize,
        settings: Settings,
        allowed: Allowed<'_>,
        until: Until,
    ) -> (Vec<Neighbour>, Work) {
        assert_eq!(query.len(), self.description.dimensions, "query has the index's dimensions");
        let kernels = Kernels::best();
        let euclidean = self.description.metric == Metric::Euclidean;
        let (turned, base) = self.transform.ask(kernels, query, euclidean);
        let asked = self.rows.ask(kernels, &turned, euclidean, base);
        let finer = self.ask_finer(kernels, query);
        let wanted = k.saturating_mul(if finer.is_some() { settings.rescore.max(1) } else { self.spread() });
        let allowed = self.but_withheld(allowed);
        let mut nearest = Nearest::new(wanted.min(self.len()));
        let mut work = Work::default();
        let run = Run { nodes: 0..self.len(), first_block: 0, offset: 0.0, until };
        work.distances += self.rank_allowed(kernels, &asked, run, allowed, &mut nearest);
        let found = nearest.into_sorted();
        if finer.is_none() {
            return (found, work);
        }
        (self.reranked(kernels, &asked, finer, found, k, &mut work), work)
    }

    /// All nodes are all but those that are withheld; a filter has left those out.
    fn but_withheld<'a>(&'a self, allowed: Allowed<'a>) -> Allowed<'a> {
        match (&self.withheld, allowed) {
            (Some(withheld), Allowed::All) => Allowed::Except(withheld),
            _ => allowed,
        }
    }

    pub(crate) fn heads(&self) -> Option<&Heads> {
        match &self.route {
            Structure::Graph { graph, .. } => graph.heads(),
            _ => None,
        }
    }

    /// How many of the nearest by one-bit codes are ranked by what is stored, for `k` answers: more where they are picked
    /// from all rows, of which many lie equally far.
    pub(crate) fn coded_candidates(&self, k: usize, of_all: bool) -> usize {
        if of_all { k.saturating_mul(15) + 50 } else { k.saturating_mul(7) + 30 }
    }

    /// The best of what was found, by finer vectors.
    pub(crate) fn reranked(
        &self,
        kernels: &Kernels,
        asked: &PreparedQuery<'_>,
        finer: Option<(&Rows, PreparedQuery<'_>)>,
        mut found: Vec<Neighbour>,
        k: usize,
        work: &mut Work,
    ) -> Vec<Neighbour> {
        let Some((finer, finer_asked)) = finer else { return found };
        let mut nearest = Nearest::new(k);
        let (mut picks, mut ranks) = (Vec::with_capacity(found.len()), vec![0.0; found.len()]);
        // Where the error of an estimate is bounded, rows that cannot come among the k nearest are not read. That of
        // fewer dimensions is not: what was left out is never zero.
        let bounded = self.transform.to == self.description.dimensions;
        let error = |row: u32| self.rows.error(asked, row).filter(|_| bounded).unwrap_or(f32::INFINITY);
        found.iter().skip(k).for_each(|n| self.rows.prefetch_error(kernels, n.row));
        // The nearest first, and what they leave in question after them.
        let in_order = found.is_sorted();
        let (mut rest, mut some) = (&mut found[..], if in_order { k.max(8) } else { 2 * k.max(8) });
        while !rest.is_empty() {
            some = some.min(rest.len());
            if !in_order && some < rest.len() {
                rest.select_nth_unstable(some);
            }
            let (first, later) = rest.split_at_mut(some);
            let worst = nearest.worst();
            picks.clear();
            // Near the limits of f32 a difference may be no number, and then nothing is known.
            let near = |n: &&Neighbour| {
                (n.rank - error(n.row)).partial_cmp(&worst) != Some(std::cmp::Ordering::Greater)
            };
            picks.extend(first.iter().filter(near).map(|n| n.row));
            finer.rank_picked(kernels, &finer_asked, 0.0, &picks, &mut ranks[..picks.len()]);
            work.distances += picks.len();
            picks.iter().zip(&ranks).for_each(|(row, rank)| nearest.offer(*row, *rank));
            (rest, some) = (later, 2 * some);
        }
        nearest.into_sorted()
    }

    /// Looks at every allowed node of a run; returns how many distances that took.
    pub(crate) fn rank_allowed(
        &self,
        kernels: &Kernels,
        asked: &PreparedQuery<'_>,
        run: Run,
        allowed: Allowed<'_>,
        nearest: &mut Nearest,
    ) -> usize {
        // A whole number of blocks, and few enough ranks for the first-level cache.
        const STRIP: usize = 512;
        let mut ranks = [0.0; STRIP];
        let mut distances = 0;
        let mut picks = Vec::new();
        for (i, from) in run.nodes.clone().step_by(STRIP).enumerate() {
            let strip = from..run.nodes.end.min(from + STRIP);
            if run.until.is_over() {
                break;
            }
            let mut whole = true;
            if let Allowed::Only(nodes) = allowed {
                picks.clear();
                for from in strip.clone().step_by(32) {
                    let mask = nodes.mask(kernels, from..strip.end.min(from + 32));
                    picks.extend(ones(mask).map(|slot| from as u32 + slot));
                }
                if picks.is_empty() {
                    continue;
                }
                whole = self.rows.in_blocks() || 2 * picks.len() > strip.len();
            }
            if whole {
                let ranks = &mut ranks[..strip.len()];
                let block = run.first_block + i * (STRIP / blocks::ROWS);
                self.rows.rank_run(kernels, asked, run.offset, strip.clone(), block, ranks);
                distances += strip.len();
                let mut worst = nearest.worst();
                if matches!(allowed, Allowed::Only(_)) {
                    picks.iter().for_each(|node| nearest.offer(*node, ranks[*node as usize - from]));
                    continue;
                }
                for (node, &rank) in strip.zip(ranks.iter()) {
                    if rank <= worst && allowed.contains(node as u32) {
                        nearest.offer(node as u32, rank);
                        worst = nearest.worst();
                    }
                }
            } else {
                let ranks = &mut ranks[..picks.len()];
                self.rows.rank_picked(kernels, asked, run.offset, &picks, ranks);
                distances += picks.len();
                picks.iter().zip(ranks).for_each(|(node, rank)| nearest.offer(*node, *rank));
            }
        }
        distances
    }
}
