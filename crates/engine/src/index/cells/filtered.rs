//! Searches under a filter: from cell to cell, over codes that lie cell by cell.
//!
//! Which of 32 rows are allowed is told as the bits of a word, so that codes are compared block by block, whatever the
//! filter. Where few are allowed, that is asked first, and blocks without an allowed row are not read. The nearest cells
//! come first. Beside a graph that keeps one-bit codes row by row, those of the few allowed rows are compared instead of
//! blocks. Where the allowed rows of the nearest are far fewer than elsewhere, they lie on all sides of the query, and
//! every cell is gone through.

use crate::index::cells::beside::Beside;
use crate::index::cells::layout::{Cells, Visit};
use crate::index::cells::overlap::{MOST_PLACES, Places};
use crate::index::description::{Settings, Work};
use crate::index::pool::Pool;
use crate::index::store::blocks;
use crate::index::store::blocks::Tables;
use crate::index::store::prepared::PreparedQuery;
use crate::index::structure::{Index, Structure};
use crate::kernels::Kernels;
use crate::recipe::Store;
use crate::scan::{Allowed, Lens, Nearest, Neighbour, ones};
use crate::until::Until;
use fixedbitset::FixedBitSet;
use std::borrow::Cow;
use std::ops::Range;
use std::time::{Duration, Instant};

/// A filtered search that knows its nearest cells, and has not looked into them.
pub struct Filtered<'a> {
    index: &'a Index,
    kernels: &'static Kernels,
    query: &'a [f32],
    /// The query as it meets centres.
    turned: Cow<'a, [f32]>,
    /// The query as it meets what is stored.
    asked: PreparedQuery<'a>,
    /// The query as it meets codes relative to cells, where that is not how it meets what is stored.
    tables: Option<Tables>,
    k: usize,
    settings: Settings,
    /// Of nodes.
    lens: Lens<'a>,
    n_allowed: usize,
    cells: &'a Cells,
    source: Source<'a>,
    /// The nearest cells, in order.
    list: Vec<Visit>,
    /// Cells that are visited where all that is near is allowed.
    visit: usize,
    /// Of some rows in those: how many are allowed, and how many they are.
    near: (usize, usize),
    /// Whether blocks are held against the filter before they are compared, because many have no allowed row.
    is_eager: bool,
    /// Whether no blocks are read, but codes of allowed rows that lie row by row.
    is_picked: bool,
    seen: Looked,
    work: Work,
    /// How long it took to get here.
    pub(crate) took: Duration,
}

/// What is compared.
enum Source<'a> {
    /// Codes relative to cells, in which a row lies once or twice.
    Places(&'a Places),
    /// What the index stores of its rows, which lie cell by cell.
    Own,
}

/// What a filtered search looks at, or is expected to.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Looked {
    pub cells: usize,
    /// Blocks of 32 whose rows are held against the filter.
    pub blocks: f64,
    /// Blocks, or where codes lie row by row rows, that are compared.
    pub compared: f64,
    /// Rows whose finer vectors are compared.
    pub candidates: usize,
}

/// Cells that are visited beside a graph for each node of the beam of a walk: measured with `examples/filtered`, like all
/// that follows.
const CELLS_TO_BEAM: f64 = 2.1;
/// The same where the graph's own answers are ranked by codes.
const CELLS_TO_CODED_BEAM: f64 = 1.55;
/// Where there were so many cells.
const MEASURED_CELLS: f64 = 444.0;
/// By which power of the share of what is allowed more cells are visited: cells beside a graph are many already.
const WIDER_BESIDE_GRAPH: f64 = 0.18;
const WIDER_CELLS: f64 = 0.45;
/// By which power of it the beam is wider.
const WIDER_BEAM: f64 = 0.8;
/// Cells that tell how much of what is near is allowed.
const PROBED: usize = 16;
/// Where fewer are, walks would see few of them.
const LEAST_TO_WALK: f64 = 0.05;
/// Where fewer of the rows near a query are allowed, many blocks hold none of them.
const EAGER_BELOW: f64 = 0.1;
/// Where fewer are, codes that lie row by row are read sooner than blocks.
const PICKED_BELOW: f64 = 0.12;
/// How many times as many cells are visited there, if codes are all that the index stores of a row.
const WIDER_PICKED: f64 = 1.3;
/// How many times as many candidates there are if the first were too few.
const MORE: usize = 5;
/// Candidates that are ranked at a time.
const SOME: usize = 64;
/// Standard deviations that an estimate may be off.
const DEVIATIONS: f64 = 2.0;

impl Index {
    /// Cells that codes lie in.
    fn cells(&self) -> Option<&Cells> {
        match (&self.route, self.beside.as_deref()) {
            (Structure::Cells(cells), _) => Some(cells),
            (_, beside) => beside.map(|beside| &beside.cells),
        }
    }

    /// Whether a filtered search goes from cell to cell.
    pub fn has_cells(&self) -> bool {
        self.cells().is_some()
    }

    /// Whether a graph keeps one bit a dimension for each row.
    fn has_codes_by_row(&self) -> bool {
        self.beside.is_some()
            && (self.heads().is_some() || matches!(self.recipe.store, Store::Bits { planes: 1 }))
    }

    /// Cells that a filtered search visits where all that is near is allowed.
    fn filtered_cells(&self, k: usize, settings: Settings) -> usize {
        let coded = self.recipe.store.is_code();
        let each = if coded { CELLS_TO_CODED_BEAM } else { CELLS_TO_BEAM };
        let visit = match &self.beside {
            // Of more rows, and so more cells, the nearest rows lie in more.
            Some(beside) => {
                let more = (beside.cells.count() as f64 / MEASURED_CELLS).max(0.25);
                (each * more * settings.beam.max(k) as f64).ceil() as usize
            }
            None => settings.visit,
        };
        visit.clamp(1, self.cells().map_or(1, Cells::count).max(1))
    }

    /// Blocks that a filtered search compares at least, or rows where codes do not lie in blocks.
    pub fn least_compared(&self, k: usize, settings: Settings) -> f64 {
        let Some(cells) = self.cells() else { return 0.0 };
        let each = cells.n_places() / if self.compares_blocks() { blocks::ROWS as f64 } else { 1.0 };
        self.filtered_cells(k, settings) as f64 * each
    }

    /// A search for the `k` nearest of the allowed nodes, of which there are so many. Nothing where the index has no cells.
    pub fn filtered<'a>(
        &'a self,
        query: &'a [f32],
        k: usize,
        settings: Settings,
        (lens, n_allowed): (Lens<'a>, usize),
    ) -> Option<Filtered<'a>> {
        assert_eq!(query.len(), self.description.dimensions, "query has the index's dimensions");
        let cells = self.cells()?;
        let start = Instant::now();
        let kernels = Kernels::best();
        let euclidean = self.description.metric == crate::Metric::Euclidean;
        let (turned, base) = self.transform.ask(kernels, query, euclidean);
        let asked = self.rows.ask(kernels, &turned, euclidean, base).into_owned();
        let mut tables = None;
        let (source, to_cells) = match (self.beside.as_deref(), &cells.overlap) {
            (Some(beside), Some(overlap)) => {
                tables = Some(Tables::of_signs(kernels, &beside.rotation.turn(kernels, query)));
                (Source::Places(&overlap.rows), Cow::Borrowed(query))
            }
            (_, Some(overlap)) => (Source::Places(&overlap.rows), turned),
            (_, None) => (Source::Own, turned),
        };
        let mut search = Filtered {
            index: self,
            kernels,
            query,
            turned: to_cells,
            asked,
            tables,
            k,
            settings,
            lens,
            n_allowed,
            cells,
            source,
            list: Vec::new(),
            visit: self.filtered_cells(k, settings),
            near: (0, 0),
            is_eager: false,
            is_picked: false,
            seen: Looked::default(),
            work: Work::default(),
            took: Duration::ZERO,
        };
        for cell in search.around(PROBED) {
            // Some of its rows tell of the others.
            let (n_allowed, n) = match &search.source {
                Source::Places(places) => places.allowed_of_first(kernels, cell, lens),
                Source::Own => {
                    let nodes = cells.run(cell).0;
                    let some = nodes.start..nodes.end.min(nodes.start + blocks::ROWS);
                    (lens.mask(kernels, some.clone()).count_ones() as usize, some.len())
                }
            };
            search.near.0 += n_allowed;
            search.near.1 += n;
        }
        // Rows that lie in two cells are gone through where they lie once, if all are.
        if search.lies_far() && self.beside.is_none() {
            search.source = Source::Own;
        }
        let share = search.share_of_visited();
        search.is_picked = self.has_codes_by_row() && share < PICKED_BELOW;
        search.is_eager = share < EAGER_BELOW;
        search.took = start.elapsed();
        Some(search)
    }
}

impl<'a> Filtered<'a> {
    /// About so many of the nearest cells.
    fn nearest(&mut self, wanted: usize) -> Vec<Visit> {
        let (kernels, euclidean) = (self.kernels, self.asked.euclidean);
        let wanted = wanted.min(self.cells.count());
        let mut scratch = self.index.scratch.lock().pop().unwrap_or_default();
        let query = (&self.turned[..], self.tables.as_ref().or(self.asked.tables()));
        let list = self.cells.nearest(kernels, query, euclidean, wanted, &mut scratch, &mut self.work);
        self.index.scratch.lock().push(scratch);
        list
    }

    /// As [`Filtered::nearest`], in no order, and with less care where that is quicker.
    fn around(&mut self, wanted: usize) -> Vec<usize> {
        let query = (&self.turned[..], self.tables.as_ref().or(self.asked.tables()));
        match self.cells.around(self.kernels, query, wanted.min(self.cells.count())) {
            Some(cells) => cells,
            None => self.nearest(wanted).iter().map(|at| at.cell).collect(),
        }
    }

    /// The blocks of some nodes, and which of 32 may be allowed.
    fn blocks_of(&self, nodes: Range<usize>) -> impl Iterator<Item = (usize, u32)> {
        let (kernels, lens, is_eager) = (self.kernels, self.lens, self.is_eager);
        nodes.clone().step_by(blocks::ROWS).map(move |first| {
            let some = first..nodes.end.min(first + blocks::ROWS);
            let all = ((1u64 << some.len()) - 1) as u32;
            (first, if is_eager { lens.mask(kernels, some) } else { all })
        })
    }

    /// Whether the nearest cells hold clearly fewer allowed rows than others.
    fn lies_far(&self) -> bool {
        3 * self.near.0 * self.index.len() < 2 * self.near.1 * self.n_allowed
    }

    /// Of the rows near the query, how many are allowed.
    pub(crate) fn share(&self) -> f64 {
        (self.near.0 as f64 / self.near.1.max(1) as f64).max(1.0 / self.index.len().max(1) as f64)
    }

    /// Of the rows in the cells that it visits, how many are allowed.
    fn share_of_visited(&self) -> f64 {
        if self.lies_far() { self.n_allowed as f64 / self.index.len().max(1) as f64 } else { self.share() }
    }

    /// Cells that are looked into at least.
    fn least(&self) -> usize {
        if self.lies_far() {
            return self.cells.count();
        }
        let power = if self.index.beside.is_some() { WIDER_BESIDE_GRAPH } else { WIDER_CELLS };
        let wider = if self.is_picked && self.index.recipe.store.is_code() { WIDER_PICKED } else { 1.0 };
        ((wider * self.visit as f64 * self.share().powf(-power)) as usize).min(self.cells.count())
    }

    /// How many candidates are compared by what the index stores, or its finer vectors.
    fn wanted(&self) -> usize {
        let index = self.index;
        if index.beside.is_some() {
            20 * self.k + 50
        } else if index.finer.is_some() {
            let wanted = self.k.saturating_mul(self.settings.rescore.max(1));
            if self.lies_far() { wanted.max(index.coded_candidates(self.k, false)) } else { wanted }
        } else {
            self.k.saturating_mul(index.spread())
        }
    }

    /// With which settings a walk of the graph may answer as well: where much of what is near is allowed.
    pub fn walks_with(&self, settings: Settings) -> Option<Settings> {
        let share = self.share().min(1.0);
        (share > LEAST_TO_WALK && !self.lies_far()).then(|| {
            let beam = settings.beam.max(self.k) as f64 * share.powf(-WIDER_BEAM);
            Settings { beam: (beam.ceil() as usize).min(Settings::MAX_BEAM), ..settings }
        })
    }

    /// How many cells it visits, where the settings say how many those are.
    pub fn visits_with(&self, settings: Settings) -> Option<Settings> {
        self.index.beside.is_none().then(|| Settings { visit: self.least(), ..settings })
    }

    /// What it will look at.
    pub fn ahead(&self) -> Looked {
        let n = self.index.len() as f64;
        let cells = self.cells.count();
        let each = match &self.source {
            Source::Places(places) => places.n_places() as f64,
            Source::Own => n,
        } / cells.max(1) as f64;
        let (n_cells, share) = (self.least(), self.share_of_visited());
        let rows = n_cells as f64 * each;
        let allowed = ((rows * share) as usize).min(self.n_allowed);
        // The last block of a cell is filled in part.
        let blocks = rows / blocks::ROWS as f64
            + if matches!(self.source, Source::Own) { 0.5 * n_cells as f64 } else { 0.0 };
        let compared = match (self.in_blocks(), self.is_eager) {
            (true, true) => blocks * (1.0 - (1.0 - share).powi(blocks::ROWS as i32)),
            (true, false) => blocks,
            (false, _) => rows * share,
        };
        if self.is_picked {
            return Looked { cells: n_cells, candidates: allowed, ..Looked::default() };
        }
        let blocks = if self.is_eager { blocks } else { 0.0 };
        Looked { cells: n_cells, blocks, compared, candidates: self.wanted().min(allowed) }
    }

    fn in_blocks(&self) -> bool {
        matches!(self.source, Source::Places(..)) || self.index.rows.in_blocks()
    }

    /// The answer, nearest first; without finer vectors those that may be among the `k` nearest, for the caller to rank.
    ///
    /// As without a filter (see [`Index::tries`]), a search whose hits are far visits more cells, but once only: what a filter
    /// allows may rightly be far.
    pub fn run(mut self, until: Until) -> (Vec<Neighbour>, Work, Looked) {
        let mut found = self.run_once(until);
        let is_all = self.least() == self.cells.count();
        let (than, times) = self.index.tries()[0];
        if !is_all && self.index.is_far(than, &found, self.query, self.share()) && !until.is_over() {
            self.visit = self.visit.saturating_mul(times).min(self.cells.count());
            self.work.again += 1;
            found = self.run_once(until);
        }
        self.work.hops += self.seen.cells;
        let compared = self.seen.compared as usize;
        *(if self.in_blocks() { &mut self.work.blocks } else { &mut self.work.distances }) += compared;
        (found, self.work, self.seen)
    }

    fn run_once(&mut self, until: Until) -> Vec<Neighbour> {
        if let Some(beside) = self.index.beside.as_deref().filter(|_| self.is_picked) {
            return self.run_picked(beside, until);
        }
        if self.index.beside.is_some() {
            return self.run_beside_graph(until);
        }
        // Most rows that lie in several cells are found in two; few enough of them may take all the places there are.
        let is_once = matches!(self.source, Source::Own);
        let mut pool = Pool::new(self.wanted(), if is_once { 1 } else { 2 });
        self.gather(&mut pool, is_once, until);
        if !is_once && pool.is_full() && !pool.holds(self.k) {
            pool = Pool::new(self.wanted(), MOST_PLACES);
            self.gather(&mut pool, is_once, until);
        }
        self.finish(pool, is_once)
    }

    /// As [`Filtered::run_once`], where the allowed rows of the nearest cells are compared by codes that lie row by row.
    fn run_picked(&mut self, beside: &Beside, until: Until) -> Vec<Neighbour> {
        let (mut cells, n) = (FixedBitSet::with_capacity(self.cells.count()), self.k.min(self.n_allowed));
        let mut least = self.least();
        let picks = loop {
            let is_all = least == self.cells.count();
            if is_all {
                cells.insert_range(..);
            } else {
                self.around(least).into_iter().for_each(|cell| cells.insert(cell));
            }
            let picks = beside.pick(&cells, (self.lens, self.n_allowed));
            if picks.len() >= n || is_all || until.is_over() {
                break picks;
            }
            least = (2 * least).min(self.cells.count());
        };
        self.seen.cells += cells.count_ones(..);
        self.seen.candidates += picks.len();
        let (found, work) = self.index.rank_picked(self.query, self.k, self.settings, picks);
        self.work = self.work.with(work);
        found
    }

    /// As [`Filtered::run_once`], where codes only lead to what the graph's index stores.
    fn run_beside_graph(&mut self, until: Until) -> Vec<Neighbour> {
        let (index, kernels) = (self.index, self.kernels);
        let mut wanted = self.wanted();
        loop {
            let mut pool = Pool::new(wanted, 1);
            self.gather(&mut pool, true, until);
            let is_all = pool.worst() == f32::INFINITY;
            let mut near = pool.into_places(kernels);
            near.sort_unstable();
            let (ranked, is_settled) = self.rank_in_order(&near);
            if is_settled || is_all || wanted >= self.n_allowed || until.is_over() {
                return index.reranked_by_finer(
                    self.query,
                    self.k,
                    self.settings,
                    ranked,
                    &self.asked,
                    &mut self.work,
                );
            }
            wanted = wanted.saturating_mul(MORE);
        }
    }

    /// Ranks candidates by what the index stores, those that seem nearest first, until what comes after is farther than the
    /// `k` nearest by more than codes are off. How far that is, those that were ranked tell: the farther rows lie from the
    /// query, the less their codes tell. The nodes and their ranks, and whether there were enough candidates.
    fn rank_in_order(&mut self, near: &[Neighbour]) -> ((Vec<u32>, Vec<f32>), bool) {
        let mut nodes: Vec<u32> = Vec::with_capacity(near.len());
        let mut ranks: Vec<f32> = Vec::with_capacity(near.len());
        let mut nearest = Nearest::new(self.k);
        let (mut sum, mut squares) = (0.0f64, 0.0f64);
        let mut is_settled = false;
        let mut some = 4 * self.k + 20;
        while nodes.len() < near.len() && !is_settled {
            let from = nodes.len();
            let more = &near[from..near.len().min(from + some)];
            nodes.extend(more.iter().map(|at| at.row));
            ranks.resize(nodes.len(), 0.0);
            self.index.rows.rank_picked(self.kernels, &self.asked, 0.0, &nodes[from..], &mut ranks[from..]);
            for (at, &rank) in more.iter().zip(&ranks[from..]) {
                let off = f64::from(rank - at.rank);
                (sum, squares) = (sum + off, squares + off * off);
                nearest.offer(at.row, rank);
            }
            let n = nodes.len() as f64;
            let deviation = (squares / n - (sum / n).powi(2)).max(0.0).sqrt();
            let limit = f64::from(nearest.worst()) + DEVIATIONS * deviation;
            // Of what is no number nothing can be said.
            is_settled =
                near.get(nodes.len()).is_some_and(|next| f64::from(next.rank) > limit) || !limit.is_finite();
            some = SOME;
        }
        self.work.distances += nodes.len();
        self.seen.candidates += nodes.len();
        ((nodes, ranks), is_settled)
    }

    fn gather(&mut self, pool: &mut Pool, is_once: bool, until: Until) {
        let mut all = self.lies_far();
        let (n_cells, least) = (self.cells.count(), self.least());
        if !all && self.list.len() <= least {
            self.list = self.nearest(least + 1);
        }
        let mut looked_into = 0;
        let mut visited = FixedBitSet::with_capacity(n_cells);
        while !all {
            for i in 0..self.list.len() {
                let at = self.list[i];
                if looked_into >= least && if is_once { pool.len() >= self.k } else { pool.holds(self.k) } {
                    return;
                }
                if visited.put(at.cell) {
                    continue;
                }
                let next = self.list.get(i + 1).map(|next| next.cell);
                self.look_into(at, next, pool);
                looked_into += 1;
                if looked_into.is_multiple_of(16) && until.is_over() {
                    return;
                }
            }
            // Past half of them, the order in which the others come matters less than that it is that of memory.
            all = 2 * self.list.len() >= n_cells;
            if !all {
                self.list = self.nearest(2 * self.list.len().max(1));
            }
        }
        self.look_into_rest(&visited, pool, until);
    }

    /// Looks into all cells that were not visited.
    fn look_into_rest(&mut self, visited: &FixedBitSet, pool: &mut Pool, until: Until) {
        let n_cells = self.cells.count();
        // Codes tell how rows differ from the centre of their cell.
        let residual = matches!(self.source, Source::Places(..)) || self.index.recipe.store.is_code();
        let mut rest = match residual {
            true => self.cells.ranked(self.kernels, &self.turned, self.asked.euclidean),
            false => (0..n_cells).map(|cell| Visit { cell, rank: 0.0 }).collect(),
        };
        rest.retain(|at| !visited.contains(at.cell));
        for (i, at) in rest.iter().enumerate() {
            if i.is_multiple_of(16) && until.is_over() {
                return;
            }
            self.look_into(*at, rest.get(i + 1).map(|next| next.cell), pool);
        }
    }

    fn look_into(&mut self, at: Visit, next: Option<usize>, pool: &mut Pool) {
        self.seen.cells += 1;
        match &self.source {
            Source::Places(places) => {
                let tables =
                    self.tables.as_ref().or(self.asked.tables()).expect("codes in blocks are looked up");
                let base = if self.index.beside.is_some() { 0.0 } else { self.asked.rank_of_all() };
                let allowed = (Allowed::Only(self.lens), self.is_eager);
                let cell = (at.cell, at.rank + base);
                let n = places.look_into((self.kernels, tables), cell, next, allowed, pool);
                self.seen.compared += n as f64;
                self.seen.blocks += if self.is_eager { places.blocks(at.cell).len() as f64 } else { 0.0 };
            }
            Source::Own => {
                if let Some(next) = next {
                    self.lens.prefetch(self.kernels, self.cells.run(next).0.start);
                }
                let offset = if self.index.recipe.store.is_code() {
                    self.cells.offset(self.kernels, &self.turned, self.asked.euclidean, at)
                } else {
                    0.0
                };
                self.compare(at.cell, offset, pool);
            }
        }
    }

    /// Compares the allowed rows of a cell, by what the index stores.
    #[inline]
    fn compare(&mut self, cell: usize, offset: f32, pool: &mut Pool) {
        let (kernels, rows, asked) = (self.kernels, &self.index.rows, &self.asked);
        let (nodes, first_block) = self.cells.run(cell);
        let (mut n_checked, mut n_compared) = (0, 0);
        let mut ranks = [0.0; blocks::ROWS];
        let mut picks = Vec::new();
        let end = nodes.end;
        for (i, (first, mut mask)) in self.blocks_of(nodes).enumerate() {
            n_checked += 1;
            if mask == 0 {
                continue;
            }
            let some = first..end.min(first + blocks::ROWS);
            if rows.in_blocks() {
                n_compared += 1;
                let limits = (offset, pool.worst());
                mask &= rows.rank_block(kernels, asked, (some, first_block + i), limits, &mut ranks);
                if mask == 0 {
                    continue;
                }
                if !self.is_eager {
                    mask = self.lens.only(kernels, first, mask);
                }
            } else {
                if !self.is_eager {
                    mask = self.lens.only(kernels, first, mask);
                }
                picks.clear();
                picks.extend(ones(mask).map(|slot| first as u32 + slot));
                let mut near = [0.0; blocks::ROWS];
                rows.rank_picked(kernels, asked, offset, &picks, &mut near[..picks.len()]);
                picks.iter().zip(near).for_each(|(pick, rank)| ranks[*pick as usize - first] = rank);
                n_compared += picks.len();
            }
            pool.enter(kernels, mask, &std::array::from_fn(|i| (first + i) as u32), &ranks);
        }
        self.seen.blocks += if self.is_eager { f64::from(n_checked) } else { 0.0 };
        self.seen.compared += n_compared as f64;
    }

    /// Ranks the candidates by finer vectors, where there are any.
    fn finish(&mut self, pool: Pool, is_once: bool) -> Vec<Neighbour> {
        let (index, kernels) = (self.index, self.kernels);
        let mut near = match is_once {
            true => pool.into_places(kernels),
            false => pool.into_rows(kernels, self.wanted()),
        };
        self.seen.candidates += near.len();
        let finer = index.ask_finer(kernels, self.query);
        if finer.is_none() {
            near.sort_unstable();
        }
        index.reranked(kernels, &self.asked, finer, near, self.k, &mut self.work)
    }
}

impl Index {
    /// The `k` nearest of some nodes by finer vectors; without those the nodes that may be among them by their ranks, for
    /// the caller to rank.
    fn reranked_by_finer(
        &self,
        query: &[f32],
        k: usize,
        settings: Settings,
        (nodes, ranks): (Vec<u32>, Vec<f32>),
        asked: &PreparedQuery<'_>,
        work: &mut Work,
    ) -> Vec<Neighbour> {
        let kernels = Kernels::best();
        let finer = self.ask_finer(kernels, query);
        let wanted = match finer {
            // A walk re-ranks what it opens. One-bit codes have told all they know.
            Some(_) if self.recipe.store.is_code() => self.coded_candidates(k, true).max(settings.beam),
            Some(_) => k.saturating_mul(settings.rescore.max(1)).max(settings.beam),
            None => k.saturating_mul(self.spread()),
        };
        let mut pool = Pool::new(wanted, 1);
        pool.offer(kernels, &nodes, &ranks);
        // Of what is no number nothing is known.
        let mut found = if pool.len() < wanted.min(nodes.len()) {
            nodes.iter().zip(&ranks).map(|(&row, &rank)| Neighbour { rank, row }).collect()
        } else {
            pool.into_places(kernels)
        };
        found.sort_unstable();
        found.truncate(wanted);
        if finer.is_none() {
            return found;
        }
        self.reranked(kernels, asked, finer, found, k, work)
    }

    /// The `k` nearest of some nodes of a graph: those that are not near by their heads are not ranked.
    pub fn rank_picked(
        &self,
        query: &[f32],
        k: usize,
        settings: Settings,
        mut nodes: Vec<u32>,
    ) -> (Vec<Neighbour>, Work) {
        let kernels = Kernels::best();
        let euclidean = self.description.metric == crate::Metric::Euclidean;
        let mut work = Work::default();
        if let Some(heads) = self.heads() {
            work.distances += nodes.len();
            nodes = heads.nearest(kernels, query, euclidean, self.coded_candidates(k, true), &nodes);
        }
        let (turned, base) = self.transform.ask(kernels, query, euclidean);
        let asked = self.rows.ask(kernels, &turned, euclidean, base);
        let mut ranks = vec![0.0; nodes.len()];
        self.rows.rank_picked(kernels, &asked, 0.0, &nodes, &mut ranks);
        work.distances += nodes.len();
        let near = self.reranked_by_finer(query, k, settings, (nodes, ranks), &asked, &mut work);
        (near, work)
    }
}
