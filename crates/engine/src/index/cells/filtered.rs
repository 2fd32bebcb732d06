//! Searches under a filter: from cell to cell, over codes that lie cell by cell.
//!
//! The nearest cells come first. Where much is allowed, codes are compared block by block, whatever the filter, and which of 32
//! rows are allowed is told as the bits of a word; where many blocks have no allowed row, that is asked first. Where less is
//! allowed, codes that lie row by row are compared instead, of allowed rows only. Where the allowed rows of the nearest
//! cells are far fewer than elsewhere, they lie on all sides of the query, and every cell is gone through.

use crate::index::cells::beside::Beside;
use crate::index::cells::layout::{Cells, Centers, Visit};
use crate::index::cells::overlap::{MOST_PLACES, Places};
use crate::index::cells::settle::MORE;
use crate::index::description::{Settings, Work};
use crate::index::picks::{Picks, runs};
use crate::index::pool::Pool;
use crate::index::reach::more_cells;
use crate::index::store::blocks::{self, Tables};
use crate::index::store::prepared::{Form, PreparedQuery};
use crate::index::store::rows::Rows;
use crate::index::structure::{Index, Structure};
use crate::kernels::Kernels;
use crate::recipe::Store;
use crate::scan::{Allowed, Lens, Neighbour};
use crate::until::Until;
use fixedbitset::FixedBitSet;
use std::time::{Duration, Instant};

/// A filtered search that knows its nearest cells, and has not looked into them.
pub struct Filtered<'a> {
    index: &'a Index,
    kernels: &'static Kernels,
    query: &'a [f32],
    /// The query as it meets centres, and what is compared.
    asked: PreparedQuery<'a>,
    k: usize,
    settings: Settings,
    /// Of nodes.
    lens: Lens<'a>,
    n_allowed: usize,
    cells: &'a Cells,
    source: Source<'a>,
    /// The ranks of the cells' centres, as their codes tell; none where there are no codes.
    estimates: Vec<f32>,
    /// The nearest cells, in order.
    list: Vec<Visit>,
    /// Cells that are visited where all that is near is allowed.
    visit: usize,
    /// Of some rows in those: how many are allowed, and how many they are.
    near: (usize, usize),
    /// Whether blocks are held against the filter before they are compared, because many have no allowed row.
    is_eager: bool,
    seen: Looked,
    work: Work,
    /// How long it took to get here.
    pub(crate) took: Duration,
}

/// What is compared.
#[derive(Clone, Copy)]
enum Source<'a> {
    /// Codes relative to cells, in which a row lies once or twice.
    Places(&'a Places),
    /// What the index stores of its rows, which lie cell by cell.
    Own,
    /// What a graph's index keeps of its rows in a bit a dimension, of those in some cells.
    Short(&'a Beside),
}

/// What a filtered search looks at, or is expected to.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Looked {
    pub cells: usize,
    /// Times that up to 32 rows are held against the filter.
    pub blocks: f64,
    /// Blocks that are compared.
    pub compared: f64,
    /// Rows that are compared one by one.
    pub rows: f64,
    /// Rows whose finer vectors are compared.
    pub candidates: usize,
}

/// The beam of a walk that finds what the cells hold which are known to hold nearly all neighbours: measured with
/// `examples/filtered`, like all that follows.
const BEAM_OF_CELLS: f64 = 56.0;
/// The same where the graph's own answers are ranked by codes.
const CODED_BEAM_OF_CELLS: f64 = 76.0;
/// A walk may find more than nearly all: cells that are visited at least for each node of its beam,
const CELLS_TO_BEAM: f64 = 2.1;
/// where the graph's own answers are ranked by codes,
const CELLS_TO_CODED_BEAM: f64 = 1.55;
/// and where there are so many cells.
const MEASURED_CELLS: f64 = 444.0;
/// By which power of the share of what is allowed those are more.
const WIDER_BESIDE_GRAPH: f64 = 0.18;
/// By which power of the share of what is allowed more candidates are compared by finer vectors: at a million rows it
/// matters more than here.
const WIDER_RESCORE: f64 = 0.5;
/// By which power of it the beam of a walk is wider,
const WIDER_BEAM: f64 = 0.62;
/// and by which power of how many times as many cells hold the farther neighbours: at a million rows it matters more than here.
const DEEPER_BEAM: f64 = 1.12;
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

impl Index {
    /// Cells that codes lie in.
    pub(super) fn cells(&self) -> Option<&Cells> {
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
        let visit = match &self.beside {
            Some(beside) => self.cells_beside_graph(&beside.cells, k, settings, 1.0) as usize,
            None => settings.visit,
        };
        visit.clamp(1, self.cells().map_or(1, Cells::count).max(1))
    }

    /// Cells beside a graph that are visited where this share of what is near is allowed.
    fn cells_beside_graph(&self, cells: &Cells, k: usize, settings: Settings, share: f64) -> f64 {
        let (of_cells, each) = match self.recipe.store.is_code() {
            true => (CODED_BEAM_OF_CELLS, CELLS_TO_CODED_BEAM),
            false => (BEAM_OF_CELLS, CELLS_TO_BEAM),
        };
        let known = self.cells_of(k as f64 / share) / of_cells;
        let least =
            each * (cells.count() as f64 / MEASURED_CELLS).max(0.25) * share.powf(-WIDER_BESIDE_GRAPH);
        (known.max(least) * settings.beam.max(k) as f64).ceil()
    }

    /// Blocks that a filtered search compares at least, or what takes as long.
    pub fn least_compared(&self, k: usize, settings: Settings) -> f64 {
        let Some(cells) = self.cells() else { return 0.0 };
        let (n, visited) = (self.len().max(1) as f64, self.filtered_cells(k, settings) as f64);
        let rows = visited * n / cells.count().max(1) as f64;
        rows / blocks::ROWS as f64
    }

    /// Whether what is stored of rows in cells can be compared row by row, those of a few cells.
    fn is_picked_in_cells(&self) -> bool {
        match (&self.route, &*self.rows) {
            (Structure::Cells(_), Rows::Product { .. }) => false,
            (Structure::Cells(cells), rows) => {
                !rows.in_blocks() && matches!(&*cells.centers, Centers::Whole { .. })
            }
            _ => false,
        }
    }

    /// Whether some rows can be compared by themselves: see [`Index::rank_picked`].
    pub fn ranks_picked(&self) -> bool {
        matches!(self.route, Structure::Graph { .. }) || self.is_picked_in_cells()
    }

    /// Ranks the rows that were picked.
    fn rank_rows(&self, cells: &Cells, asked: &PreparedQuery<'_>, picks: &mut Picks) {
        let (kernels, rows) = (Kernels::best(), &*self.rows);
        let Picks { nodes, ranks, cells: visited } = picks;
        ranks.clear();
        ranks.resize(nodes.len(), 0.0);
        match rows {
            Rows::Product { .. } => {
                for (run, cell, rank) in runs(visited) {
                    let offset = cells.offset(kernels, (rows, asked), Visit { cell, rank });
                    rows.rank_picked(kernels, asked, offset, &nodes[run.clone()], &mut ranks[run]);
                }
            }
            // All at once, so that memory is asked for many at a time.
            Rows::Bits { .. } => {
                rows.rank_lines(kernels, asked, nodes, ranks);
                for (run, cell, rank) in runs(visited) {
                    asked.add(cells.rank_of(asked, Visit { cell, rank }), &mut ranks[run]);
                }
            }
            _ => rows.rank_picked(kernels, asked, 0.0, nodes, ranks),
        }
    }

    /// The `k` nearest of some nodes that lie in cells, or those that may be among them, for the caller to rank.
    pub(crate) fn rank_picked_in_cells(
        &self,
        cells: &Cells,
        (query, k, settings): (&[f32], usize, Settings),
        nodes: &[u32],
    ) -> (Vec<Neighbour>, Work) {
        let kernels = Kernels::best();
        let asked = self.ask_cells(kernels, query);
        let mut scratch = self.scratch.lock().pop().unwrap_or_default();
        let picks = &mut scratch.picks;
        picks.clear();
        picks.nodes.extend(nodes);
        picks.nodes.sort_unstable();
        // The cells that they lie in, and up to where.
        let mut to = 0;
        for (cell, end) in cells.starts[1..].iter().enumerate() {
            let from = to;
            while picks.nodes.get(to).is_some_and(|node| node < end) {
                to += 1;
            }
            if to > from {
                picks.cells.push((cell, 0.0, to));
            }
        }
        let of: Vec<u32> = picks.cells.iter().map(|at| at.0 as u32).collect();
        let ranks = cells.ranks_of(kernels, asked.vector(), asked.euclidean, &of).expect("centres are whole");
        picks.cells.iter_mut().zip(ranks).for_each(|(at, rank)| at.1 = rank);
        self.rank_rows(cells, &asked, picks);
        let mut work = Work { distances: nodes.len() + of.len(), ..Work::default() };
        let nearest = |wanted: usize| {
            let mut pool = Pool::new(wanted, 1);
            pool.offer(kernels, &picks.nodes, &picks.ranks);
            pool.into_places(kernels)
        };
        let found = if self.finer_decide() {
            let judge = self.judge(query, k, settings);
            let mut wanted = k.saturating_mul(settings.rescore.max(1)).max(self.coded_candidates(k, false));
            loop {
                let (ranked, is_settled) = judge.in_order(&mut nearest(wanted), &mut work);
                if is_settled || wanted >= nodes.len() {
                    break judge.answer(ranked, &mut work);
                }
                wanted = wanted.saturating_mul(MORE);
            }
        } else {
            let times = if self.finer.is_some() { settings.rescore.max(1) } else { self.spread() };
            self.ranked_by_finer((query, &asked), k, nearest(k.saturating_mul(times)), &mut work)
        };
        self.scratch.lock().push(scratch);
        (found, work)
    }

    /// Ranks candidates by finer vectors, where there are any.
    fn ranked_by_finer(
        &self,
        (query, asked): (&[f32], &PreparedQuery<'_>),
        k: usize,
        mut near: Vec<Neighbour>,
        work: &mut Work,
    ) -> Vec<Neighbour> {
        let kernels = Kernels::best();
        let finer = self.ask_finer(kernels, query);
        if finer.is_none() {
            near.sort_unstable();
        }
        self.reranked(kernels, asked, finer, near, k, work)
    }

    /// A query as it meets what a filtered search compares.
    fn ask_cells<'a>(&'a self, kernels: &Kernels, query: &'a [f32]) -> PreparedQuery<'a> {
        let euclidean = self.description.metric == crate::Metric::Euclidean;
        if let Some(beside) = self.beside.as_deref() {
            let tables = Some(Tables::of_signs(kernels, &beside.rotation.turn(kernels, query)));
            let squared = if euclidean { kernels.dot(query, query) } else { 0.0 };
            let how = Form::Bits { bytes: None, tables, length: f32::INFINITY };
            return PreparedQuery { vector: query.into(), euclidean, squared, base: 0.0, how };
        }
        let (turned, base) = self.transform.ask(kernels, query, euclidean);
        let asked = match &*self.rows {
            rows @ Rows::Bits { .. } => {
                rows.ask_bits(kernels, &turned, euclidean, base, (!rows.in_blocks(), true))
            }
            rows => rows.ask(kernels, &turned, euclidean, base),
        };
        asked.into_owned()
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
        let mut search = Filtered {
            index: self,
            kernels,
            query,
            asked: self.ask_cells(kernels, query),
            k,
            settings,
            lens,
            n_allowed,
            cells,
            source: cells.overlap.as_ref().map_or(Source::Own, Source::Places),
            estimates: Vec::new(),
            list: Vec::new(),
            visit: self.filtered_cells(k, settings),
            near: (0, 0),
            is_eager: false,
            seen: Looked::default(),
            work: Work::default(),
            took: Duration::ZERO,
        };
        search.estimates = cells.estimated(kernels, search.asked.tables());
        for cell in search.around(PROBED) {
            // Some of its rows tell of the others.
            let (n_allowed, n) = match &search.source {
                Source::Places(places) => places.allowed_of_first(kernels, cell, lens),
                _ => {
                    let nodes = cells.run(cell).0;
                    let some = nodes.start..nodes.end.min(nodes.start + blocks::ROWS);
                    (lens.mask(kernels, some.clone()).count_ones() as usize, some.len())
                }
            };
            search.near.0 += n_allowed;
            search.near.1 += n;
        }
        let share = search.share_of_visited();
        match self.beside.as_deref() {
            Some(beside) if self.has_codes_by_row() && share < PICKED_BELOW => {
                search.source = Source::Short(beside);
            }
            // Rows that lie in two cells are gone through where they lie once, if all are.
            None if search.lies_far() => search.source = Source::Own,
            _ => {}
        }
        search.is_eager = share < EAGER_BELOW;
        search.took = start.elapsed();
        Some(search)
    }
}

impl<'a> Filtered<'a> {
    /// About so many of the nearest cells.
    fn nearest(&mut self, wanted: usize) -> Vec<Visit> {
        let wanted = wanted.min(self.cells.count());
        let mut scratch = self.index.scratch.lock().pop().unwrap_or_default();
        let (query, euclidean) = ((self.asked.vector(), &self.estimates[..]), self.asked.euclidean);
        let list = self.cells.nearest(self.kernels, query, euclidean, wanted, &mut scratch, &mut self.work);
        self.index.scratch.lock().push(scratch);
        list
    }

    /// As [`Filtered::nearest`], in no order, and with less care where that is quicker.
    fn around(&mut self, wanted: usize) -> Vec<usize> {
        if self.estimates.is_empty() {
            return self.nearest(wanted).iter().map(|at| at.cell).collect();
        }
        let query = (self.asked.vector(), &self.estimates[..]);
        self.cells.around(self.kernels, query, wanted.min(self.cells.count()))
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
        let (index, share) = (self.index, self.share().min(1.0));
        let visit = self.visit as f64;
        let cells = match &index.beside {
            Some(_) => {
                let is_picked = matches!(self.source, Source::Short(_)) && index.recipe.store.is_code();
                let wider = if is_picked { WIDER_PICKED } else { 1.0 };
                let cells = |share| index.cells_beside_graph(self.cells, self.k, self.settings, share);
                wider * visit * cells(share) / cells(1.0)
            }
            None => index.as_much_in(visit, self.k, share),
        };
        (cells.ceil() as usize).min(self.cells.count())
    }

    /// How many times as many candidates as hits are compared by finer vectors: of fewer rows near by, those that are allowed
    /// lie farther from the query, where codes tell less.
    fn rescore(&self) -> usize {
        let wide = self.settings.rescore.max(1) as f64 * self.share().min(1.0).powf(-WIDER_RESCORE);
        (wide.round() as usize).min(Settings::MAX_RESCORE.max(self.settings.rescore))
    }

    /// How many candidates are compared by what the index stores, or its finer vectors.
    fn wanted(&self) -> usize {
        let index = self.index;
        if index.beside.is_some() {
            let wanted = 20 * self.k + 50;
            // What is far seems to lie at much the same distance.
            if self.lies_far() { MORE * wanted } else { wanted }
        } else if index.finer.is_some() {
            let wanted = self.k.saturating_mul(self.rescore());
            if self.lies_far() { wanted.max(index.coded_candidates(self.k, false)) } else { wanted }
        } else {
            self.k.saturating_mul(index.spread())
        }
    }

    /// With which settings a walk of the graph may answer as well: where much of what is near is allowed.
    pub fn walks_with(&self, settings: Settings) -> Option<Settings> {
        let share = self.share().min(1.0);
        (share > LEAST_TO_WALK && !self.lies_far()).then(|| {
            let wider = share.powf(-WIDER_BEAM) * self.index.deeper(self.k, share).powf(DEEPER_BEAM);
            let beam = settings.beam.max(self.k) as f64 * wider;
            Settings { beam: (beam.ceil() as usize).min(Settings::MAX_BEAM), ..settings }
        })
    }

    /// How many cells it visits, where the settings say how many those are.
    pub fn visits_with(&self, settings: Settings) -> Option<Settings> {
        self.index.beside.is_none().then(|| {
            let rescore = if self.index.finer.is_some() { self.rescore() } else { settings.rescore };
            Settings { visit: self.least(), rescore, ..settings }
        })
    }

    /// What it will look at.
    pub fn ahead(&self) -> Looked {
        let (n, cells) = (self.index.len() as f64, self.least());
        let each = match &self.source {
            Source::Places(places) => places.n_places() as f64,
            _ => n,
        } / self.cells.count().max(1) as f64;
        let (rows, share) = (cells as f64 * each, self.share_of_visited());
        let allowed = ((rows * share) as usize).min(self.n_allowed);
        // The last block of a cell is filled in part.
        let blocks = rows / blocks::ROWS as f64
            + if matches!(self.source, Source::Places(_)) { 0.0 } else { 0.5 * cells as f64 };
        let seen = Looked { cells, candidates: self.wanted().min(allowed), ..Looked::default() };
        match &self.source {
            Source::Short(_) => Looked { candidates: allowed, ..seen },
            _ if !self.in_blocks() => Looked { blocks, rows: allowed as f64, ..seen },
            _ if self.is_eager => {
                Looked { blocks, compared: blocks * (1.0 - (1.0 - share).powi(blocks::ROWS as i32)), ..seen }
            }
            _ => Looked { compared: blocks, ..seen },
        }
    }

    fn in_blocks(&self) -> bool {
        match self.source {
            Source::Places(_) => true,
            Source::Own => self.index.rows.in_blocks(),
            Source::Short(_) => false,
        }
    }

    /// The answer, nearest first; without finer vectors those that may be among the `k` nearest, for the caller to rank.
    ///
    /// As without a filter (see [`Index::tries`]), a search whose hits are far visits more cells.
    pub fn run(mut self, until: Until) -> (Vec<Neighbour>, Work, Looked) {
        let mut found = self.run_once(until);
        let visit = self.visit;
        for &(than, times) in self.index.tries() {
            let is_all = self.least() == self.cells.count();
            if is_all || !self.index.is_far(than, &found, self.query, self.share()) || until.is_over() {
                break;
            }
            self.visit = more_cells(visit, times).min(self.cells.count());
            self.work.again += 1;
            found = self.run_once(until);
        }
        self.work.hops += self.seen.cells;
        self.work.blocks += self.seen.compared as usize;
        self.work.distances += self.seen.rows as usize;
        (found, self.work, self.seen)
    }

    fn run_once(&mut self, until: Until) -> Vec<Neighbour> {
        match self.source {
            Source::Short(beside) => self.run_short(beside, until),
            _ if self.index.beside.is_some() => self.run_beside_graph(until),
            Source::Places(_) => {
                // Most rows that lie in several cells are found in two; few enough of them may take all the places there are.
                let mut pool = self.compare_blocks((self.wanted(), 2), until);
                if pool.is_full() && !pool.holds(self.k) {
                    pool = self.compare_blocks((self.wanted(), MOST_PLACES), until);
                }
                let near = pool.into_rows(self.kernels, self.wanted());
                self.finish(near)
            }
            Source::Own if self.in_blocks() => {
                let pool = self.compare_blocks((self.wanted(), 1), until);
                self.finish(pool.into_places(self.kernels))
            }
            Source::Own => {
                let mut scratch = self.index.scratch.lock().pop().unwrap_or_default();
                let pool = self.compare_rows(&mut scratch.picks, until);
                self.index.scratch.lock().push(scratch);
                self.finish(pool.into_places(self.kernels))
            }
        }
    }

    /// As [`Filtered::run_once`], where short codes of allowed rows in the nearest cells lead to what the graph's index stores.
    fn run_short(&mut self, beside: &Beside, until: Until) -> Vec<Neighbour> {
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
        let (found, work) = self.index.rank_picked(self.query, self.k, self.settings, &picks);
        self.work = self.work.with(work);
        found
    }

    /// The same, where it is codes in blocks.
    fn run_beside_graph(&mut self, until: Until) -> Vec<Neighbour> {
        let judge = self.index.judge(self.query, self.k, self.settings);
        let mut wanted = self.wanted();
        loop {
            let pool = self.compare_blocks((wanted, 1), until);
            let is_all = pool.worst() == f32::INFINITY;
            let mut near = pool.into_places(self.kernels);
            let (ranked, is_settled) = judge.in_order(&mut near, &mut self.work);
            self.seen.candidates += ranked.len();
            if is_settled || is_all || wanted >= self.n_allowed || until.is_over() {
                return judge.answer(ranked, &mut self.work);
            }
            wanted = wanted.saturating_mul(MORE);
        }
    }

    /// The cells to look into, in order: `look` is told each and the one after it, and whether those are as many as there are to
    /// be at least. If so, it says whether more are wanted.
    fn visit(&mut self, until: Until, mut look: impl FnMut(&mut Self, (Visit, Option<usize>), bool) -> bool) {
        let mut all = self.lies_far();
        let (n_cells, least) = (self.cells.count(), self.least());
        if !all && self.list.len() <= least {
            self.list = self.nearest(least + 1);
        }
        let (mut is_enough, mut n_visited) = (false, 0);
        let mut visited = FixedBitSet::with_capacity(n_cells);
        while !all {
            for i in 0..self.list.len() {
                let at = self.list[i];
                if is_enough || n_visited % 16 == 15 && until.is_over() {
                    return;
                }
                if visited.put(at.cell) {
                    continue;
                }
                let next = self.list.get(i + 1).map(|next| next.cell);
                n_visited += 1;
                let is_last = n_visited >= least;
                is_enough = !look(self, (at, next), is_last) && is_last;
            }
            // Past half of them, the order in which the others come matters less than that it is that of memory.
            let n_listed = self.list.len();
            all = 2 * n_listed >= n_cells;
            if !all {
                self.list = self.nearest(2 * n_listed.max(1));
                // Where most cells are empty there are no more.
                all = self.list.len() <= n_listed;
            }
        }
        // Codes tell how rows differ from the centre of their cell.
        let residual = matches!(self.source, Source::Places(_)) || self.index.recipe.store.is_code();
        let mut rest = match residual {
            true => self.cells.ranked(self.kernels, self.asked.vector(), self.asked.euclidean),
            false => (0..n_cells).map(|cell| Visit { cell, rank: 0.0 }).collect(),
        };
        rest.retain(|at| !visited.contains(at.cell));
        for (i, at) in rest.iter().enumerate() {
            if i % 16 == 15 && until.is_over() {
                return;
            }
            look(self, (*at, rest.get(i + 1).map(|next| next.cell)), false);
        }
    }

    /// What seems nearest in the cells that are visited, where codes lie in blocks: of so many rows, in so many cells each.
    fn compare_blocks(&mut self, (wanted, each): (usize, usize), until: Until) -> Pool {
        let mut pool = Pool::new(wanted, each);
        self.visit(until, |search, (at, next), is_last| {
            search.seen.cells += 1;
            match search.source {
                Source::Places(places) => search.compare_places(places, at, next, &mut pool),
                _ => search.compare_cell(at, next, &mut pool),
            }
            is_last && if each == 1 { pool.len() < search.k } else { !pool.holds(search.k) }
        });
        pool
    }

    fn compare_places(&mut self, places: &Places, at: Visit, next: Option<usize>, pool: &mut Pool) {
        let tables = self.asked.tables().expect("codes in blocks are looked up");
        let cell = (at.cell, at.rank + self.asked.rank_of_all());
        let allowed = (Allowed::Only(self.lens), self.is_eager);
        self.seen.compared += places.look_into((self.kernels, tables), cell, next, allowed, pool) as f64;
        self.seen.blocks += if self.is_eager { places.blocks(at.cell).len() as f64 } else { 0.0 };
    }

    #[inline]
    fn compare_cell(&mut self, at: Visit, next: Option<usize>, pool: &mut Pool) {
        let (kernels, rows, asked) = (self.kernels, &self.index.rows, &self.asked);
        if let Some(next) = next {
            self.lens.prefetch(kernels, self.cells.run(next).0);
        }
        let offset = self.cells.offset(kernels, (rows, asked), at);
        let (nodes, first_block) = self.cells.run(at.cell);
        let (mut n_checked, mut n_compared) = (0, 0);
        let mut ranks = [0.0; blocks::ROWS];
        for (i, first) in nodes.clone().step_by(blocks::ROWS).enumerate() {
            let some = first..nodes.end.min(first + blocks::ROWS);
            let mut mask = if self.is_eager { self.lens.mask(kernels, some.clone()) } else { u32::MAX };
            n_checked += 1;
            if mask == 0 {
                continue;
            }
            n_compared += 1;
            let limits = (offset, pool.worst());
            mask &= rows.rank_block(kernels, asked, (some, first_block + i), limits, &mut ranks);
            if mask != 0 && !self.is_eager {
                mask = self.lens.only(kernels, first, mask);
            }
            pool.enter(kernels, mask, &std::array::from_fn(|i| (first + i) as u32), &ranks);
        }
        self.seen.blocks += if self.is_eager { f64::from(n_checked) } else { 0.0 };
        self.seen.compared += f64::from(n_compared);
    }

    /// What seems nearest of the allowed rows in the cells that are visited, where what is stored of them lies row by row.
    fn compare_rows(&mut self, picks: &mut Picks, until: Until) -> Pool {
        // Few enough to stay in the caches, and enough for memory to be asked for many at a time.
        const SOME: usize = 1024;
        let (kernels, cells, enough) = (self.kernels, self.cells, self.k.min(self.n_allowed));
        let mut pool = Pool::new(self.wanted(), 1);
        let mut n_seen = 0;
        picks.clear();
        self.visit(until, |search, (at, next), _| {
            let (run, _) = cells.run(at.cell);
            if let Some(next) = next {
                search.lens.prefetch(kernels, cells.run(next).0);
            }
            search.seen.cells += 1;
            search.seen.blocks += run.len().div_ceil(blocks::ROWS) as f64;
            let before = picks.nodes.len();
            search.lens.select(kernels, run, &mut picks.nodes);
            n_seen += picks.nodes.len() - before;
            picks.cells.push((at.cell, at.rank, picks.nodes.len()));
            if picks.nodes.len() >= SOME {
                search.index.rank_rows(cells, &search.asked, picks);
                pool.offer(kernels, &picks.nodes, &picks.ranks);
                picks.clear();
            }
            n_seen < enough
        });
        self.index.rank_rows(cells, &self.asked, picks);
        pool.offer(kernels, &picks.nodes, &picks.ranks);
        self.seen.rows += n_seen as f64;
        pool
    }

    /// Ranks the candidates by finer vectors, where there are any.
    fn finish(&mut self, near: Vec<Neighbour>) -> Vec<Neighbour> {
        self.seen.candidates += near.len();
        self.index.ranked_by_finer((self.query, &self.asked), self.k, near, &mut self.work)
    }
}
