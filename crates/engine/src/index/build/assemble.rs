//! Assembling an index: learn, order, code, link.

use crate::Metric;
use crate::index::build::crew::Crew;
use crate::index::build::{kmeans, link};
use crate::index::cells::beside::{Beside, Learned};
use crate::index::cells::layout::{Cells, Centers};
use crate::index::cells::overlap::Places;
use crate::index::description::Description;
use crate::index::graph::heads::Heads;
use crate::index::graph::inline_codes::InlineCodes;
use crate::index::graph::walk::{Graph, NONE};
use crate::index::held_out::{held_out_share, is_held_out};
use crate::index::progress::{BuildError, Progress};
use crate::index::reach;
use crate::index::store::encode::{CenterOf, Coder, LEAST_IN_BYTES, Plain};
use crate::index::store::rows::Rows;
use crate::index::store::transform::{self, Transform};
use crate::index::structure::{Index, Source, Structure};
use crate::kernels::Kernels;
use crate::metric::fingerprint;
use crate::recipe::{CellsRecipe, DataShape, GraphRecipe, Recipe, Route, Store};
use crate::tensors::Tensor;
use fixedbitset::FixedBitSet;
use parking_lot::Mutex;
use rand::SeedableRng;
use rand::seq::SliceRandom;
use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::Arc;

/// Rows as a graph is linked by: in bytes, which is four times less to wait for, unless they are short. Distances do
/// not see a mean, so it is taken off first where distances are what counts.
pub(crate) fn linkable(crew: &Crew<'_>, given: &Plain<'_>) -> Result<Rows, BuildError> {
    if given.dimensions < LEAST_IN_BYTES {
        return Rows::encode(crew, Store::F32, &Coder::Plain, given);
    }
    let mean = given.euclidean.then(|| transform::mean(given.rows, given.dimensions));
    let center = mean.as_ref().map(|mean| move |_: usize, out: &mut [f32]| out.copy_from_slice(mean));
    let center = center.as_ref().map(|c| c as CenterOf<'_>);
    Rows::encode(crew, Store::Int8, &Coder::Plain, &Plain { center, ..*given })
}

impl Index {
    /// Builds on `threads` threads. With one thread the result depends only on source and seed.
    pub fn build(
        source: Source,
        recipe: Recipe,
        threads: usize,
        progress: &Progress,
    ) -> Result<Index, BuildError> {
        Index::assemble(source, recipe, threads, progress, None)
    }

    /// The index of other rows, made from this one: what was learned is kept, and of a graph all that still holds.
    /// `alive` are the nodes whose record is unchanged; `source` holds those, found again by number, and new rows.
    pub fn renew(
        &self,
        source: Source,
        alive: &FixedBitSet,
        threads: usize,
        progress: &Progress,
    ) -> Result<Index, BuildError> {
        Index::assemble(source, self.recipe, threads, progress, Some((self, alive)))
    }

    /// Makes an index; from `old`, where there is one, what was learned is kept, and of a graph all that still holds.
    fn assemble(
        source: Source,
        recipe: Recipe,
        threads: usize,
        progress: &Progress,
        old: Option<(&Index, &FixedBitSet)>,
    ) -> Result<Index, BuildError> {
        let Source { mut description, vectors, numbers } = source;
        description.recipe = recipe.to_string();
        let (n, d) = (numbers.len(), description.dimensions);
        description.rows_at_build = old.map_or(n, |(index, _)| index.description.rows_at_build);
        if n >= u32::MAX as usize {
            return Err(BuildError::TooMany { rows: n });
        }
        assert_eq!(vectors.as_slice().len(), n * d);
        let shape = DataShape { rows: n, dimensions: d, metric: description.metric };
        recipe.check(shape).map_err(BuildError::Data)?;
        let crew = Crew { threads, progress, kernels: Kernels::best() };
        crew.check()?;
        let plain = vectors.as_slice();
        let assembly = Assembly { crew: &crew, recipe, description: &description, plain, n, old };
        let Assembled { transform, rows, finer, order, structure, beside, prints } =
            assembly.run(&numbers)?;
        let (reach, answers) = match old {
            Some((old, _)) => (old.reach.to_vec().into(), Vec::new()),
            None => reach::learn(&crew, &recipe, (&numbers, plain), &description)?,
        };
        let numbers: Vec<u64> = (0..n).map(|node| numbers[order.row(node)]).collect();
        // Plain vectors in the order they came need no copy.
        let mut given = Some(vectors);
        let mut plain_rows = || Rows::F32(Tensor::from(given.take().expect("vectors are kept once")));
        let rows = rows.unwrap_or_else(&mut plain_rows);
        let finer = recipe.rescore.map(|_| finer.unwrap_or_else(&mut plain_rows));
        let mut index = Index {
            description,
            recipe,
            transform,
            rows: Arc::new(rows),
            finer: finer.map(Arc::new),
            numbers: Arc::new(Tensor::from(numbers)),
            prints: Arc::new(Tensor::from(prints)),
            route: structure,
            beside: beside.map(Arc::new),
            reach,
            depths: Vec::new().into(),
            widths: Vec::new().into(),
            withheld: None,
            scratch: Mutex::default(),
            copied: 0,
        };
        let (depths, widths) = match old {
            Some((old, _)) => (old.depths.to_vec(), old.widths.to_vec()),
            None => index.learn_depths(&crew, &answers, |node| order.row(node))?,
        };
        (index.depths, index.widths) = (depths.into(), widths.into());
        Ok(index)
    }
}

/// What assembling works with.
struct Assembly<'a> {
    crew: &'a Crew<'a>,
    recipe: Recipe,
    description: &'a Description,
    /// Prepared vectors, row-major, as they were given.
    plain: &'a [f32],
    n: usize,
    /// The index that this one is made from, and its nodes whose record is unchanged.
    old: Option<(&'a Index, &'a FixedBitSet)>,
}

/// The parts of an index; rows that are absent are the vectors as they were given.
struct Assembled {
    transform: Arc<Transform>,
    rows: Option<Rows>,
    finer: Option<Rows>,
    order: Order,
    structure: Structure,
    beside: Option<Beside>,
    prints: Vec<u32>,
}

/// The order of the nodes: as given; by cell; or those first that a previous graph knows.
#[derive(Default)]
struct Order {
    /// For each node its row; as given when absent.
    rows: Option<Vec<u32>>,
    /// For each node of the previous graph the node it is now, and how many stay.
    previous: Option<(Vec<u32>, usize)>,
    /// Cells, and the cell of each row.
    cells: Option<(Cells, Vec<u32>)>,
}

impl Order {
    fn row(&self, node: usize) -> usize {
        self.rows.as_ref().map_or(node, |rows| rows[node] as usize)
    }
}

impl Assembly<'_> {
    fn learned(&self) -> Option<&Index> {
        self.old.map(|(index, _)| index)
    }

    fn euclidean(&self) -> bool {
        self.description.metric == Metric::Euclidean
    }

    fn run(&self, numbers: &[u64]) -> Result<Assembled, BuildError> {
        let (crew, d) = (self.crew, self.description.dimensions);
        let sample = self.sample(numbers);
        let transform = self.transform(&sample)?;
        let prepared = transform.apply(crew, self.plain)?;
        let sample = transform.apply(crew, &sample)?;
        let to = transform.to;
        let mut order = self.order(numbers, &prepared, &sample, to)?;
        let coder = self.coder(sample, &order, to)?;
        crew.progress.begin("encoding", self.n);
        let tells_residual = self.recipe.store.is_code();
        let center_of = order.cells.as_ref().filter(|_| tells_residual).map(|(cells, cell_of)| {
            let order = &order;
            move |node: usize, out: &mut [f32]| cells.centers.center(cell_of[order.row(node)] as usize, out)
        });
        let whole = [0, self.n as u32];
        let runs = order.cells.as_ref().map_or(&whole[..], |(cells, _)| &cells.starts);
        let runs = self.recipe.store.in_blocks(self.recipe.route).then_some(runs);
        let coded = Plain {
            rows: &prepared,
            dimensions: to,
            order: order.rows.as_deref(),
            center: center_of.as_ref().map(|c| c as CenterOf<'_>),
            runs,
            euclidean: self.euclidean(),
        };
        let given = Plain { rows: self.plain, dimensions: d, center: None, runs: None, ..coded };
        let as_given = order.rows.is_none();
        let rows = match self.recipe.store {
            Store::F32 if as_given && transform.is_identity() => None,
            store => Some(Rows::encode(crew, store, &coder, &coded)?),
        };
        let finer = match self.recipe.rescore {
            Some(Store::F32) if as_given => None,
            Some(store) => Some(Rows::encode(crew, store, &Coder::Plain, &given)?),
            None => None,
        };
        let print = |node: usize| fingerprint(&self.plain[order.row(node) * d..][..d]);
        let prints: Vec<u32> = (0..self.n).map(print).collect();
        let beside = self.beside(&given)?;
        let structure = match self.recipe.route {
            Route::Scan => Structure::Scan,
            Route::Cells(_) | Route::Crossed(_) => {
                let codes = self.overlap(&coder, &coded, &order)?;
                let (mut cells, _) = order.cells.take().expect("cells were made");
                (cells.overlap, cells.center_codes) = codes;
                Structure::Cells(Arc::new(cells))
            }
            Route::Graph(recipe) => {
                let made;
                let linked = match &rows {
                    Some(rows @ Rows::Int8 { .. })
                        if !self.euclidean() && transform.is_identity() && d >= LEAST_IN_BYTES =>
                    {
                        rows
                    }
                    _ => {
                        made = linkable(crew, &given)?;
                        &made
                    }
                };
                let graph = self.graph(recipe, linked, &given, &order, numbers)?;
                let mut inline_codes = None;
                if let (Coder::Bits(rotation), true) = (&coder, recipe.inline_codes) {
                    crew.progress.begin("placing codes", 2 * self.n);
                    // As queries are turned: under cosine and dot they are not centred.
                    let turned = match self.euclidean() {
                        true => Cow::Borrowed(&*prepared),
                        false => transform.apply_matrix(crew, self.plain)?,
                    };
                    let joined = Plain { rows: &turned, center: None, ..coded };
                    let rows = rows.as_ref().expect("bits are encoded");
                    inline_codes = Some(InlineCodes::build(crew, &graph, rotation, &joined, rows)?);
                }
                Structure::Graph { graph: Box::new(graph), inline_codes }
            }
        };
        Ok(Assembled { transform, rows, finer, order, structure, beside, prints })
    }

    /// Rows to learn from, none of them held out; nothing where nothing is learned, or all is known.
    fn sample(&self, numbers: &[u64]) -> Vec<f32> {
        let d = self.description.dimensions;
        match self.recipe.sample(self.n, d) {
            Some(rows) if self.old.is_none() => {
                let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(self.description.seed);
                let known = self.known(numbers);
                let mut others: Vec<usize> = (0..self.n).filter(|row| known(*row)).collect();
                let rows = rows.min(others.len());
                let mut rows = others.partial_shuffle(&mut rng, rows).0.to_vec();
                rows.sort_unstable();
                rows.into_iter().flat_map(|r| &self.plain[r * d..][..d]).copied().collect()
            }
            _ => Vec::new(),
        }
    }

    /// Whether a row may teach: it is not held out.
    fn known(&self, numbers: &[u64]) -> impl Fn(usize) -> bool {
        // Of few rows all are needed.
        let share = if self.n < 1000 { 0.0 } else { held_out_share(self.n) };
        move |row| !is_held_out(numbers[row], share)
    }

    fn transform(&self, sample: &[f32]) -> Result<Arc<Transform>, BuildError> {
        let Description { metric, dimensions: d, seed, .. } = *self.description;
        match self.learned() {
            Some(index) => Ok(index.transform.clone()),
            None if self.recipe.prepare.is_empty() => Ok(Arc::new(Transform::identity(d))),
            None => {
                self.crew.progress.begin("preparing", self.n);
                Ok(Arc::new(Transform::learn(self.crew, &self.recipe, metric, sample, d, seed)?))
            }
        }
    }

    fn order(
        &self,
        numbers: &[u64],
        prepared: &[f32],
        sample: &[f32],
        to: usize,
    ) -> Result<Order, BuildError> {
        let progress = self.crew.progress;
        match self.recipe.route {
            Route::Scan => Ok(Order::default()),
            Route::Graph(_) => Ok(self.order_of_graph(numbers)),
            Route::Cells(_) | Route::Crossed(_) => {
                let centers = match self.learned().map(|index| &index.route) {
                    Some(Structure::Cells(cells)) => cells.centers.clone(),
                    _ => {
                        progress.begin("learning cells", kmeans::ROUNDS * sample.len() / to);
                        let centers =
                            Centers::learn(self.crew, &self.recipe, self.description, sample, self.n)?;
                        Arc::new(centers)
                    }
                };
                progress.begin("assigning cells", self.n);
                let cell_of = centers.assign(self.crew, prepared, to)?;
                let (starts, rows) = Cells::sort(&cell_of, centers.count(to));
                let known = self.known(numbers);
                let spread = Cells::spread(self.crew.kernels, &centers, (prepared, to), &cell_of, known);
                let space = (self.description.metric, to);
                let cells = Some((Cells::new(space, centers, starts.into(), spread.into()), cell_of));
                Ok(Order { rows: Some(rows), cells, ..Order::default() })
            }
        }
    }

    /// Nodes of the previous graph whose record is unchanged come first, in order; then the others.
    fn order_of_graph(&self, numbers: &[u64]) -> Order {
        let Some((index, alive)) = self.old else { return Order::default() };
        let row_of: HashMap<u64, u32> = numbers.iter().zip(0..).map(|(n, row)| (*n, row)).collect();
        let mut now = vec![NONE; index.len()];
        let held_out = index.held_out();
        let (mut rows, mut known) = (Vec::with_capacity(self.n), FixedBitSet::with_capacity(self.n));
        // Those that are inserted last are inserted again.
        for node in alive.ones().filter(|node| !held_out.contains(*node)) {
            if let Some(&row) = row_of.get(&index.numbers[node])
                && !known.put(row as usize)
            {
                now[node] = rows.len() as u32;
                rows.push(row);
            }
        }
        let previous = Some((now, rows.len()));
        rows.extend(known.zeroes().map(|row| row as u32));
        Order { rows: Some(rows), previous, cells: None }
    }

    /// What codes are made with: known, or learned from the sample minus the centres.
    fn coder(&self, sample: Cow<'_, [f32]>, order: &Order, to: usize) -> Result<Coder, BuildError> {
        let (crew, store, seed) = (self.crew, self.recipe.store, self.description.seed);
        if let Some(index) = self.learned() {
            return Ok(index.rows.coder());
        }
        let Store::Pq { .. } = store else { return Coder::learn(crew, store, &[], to, seed) };
        crew.progress.begin("learning codes", kmeans::ROUNDS * sample.len() / to);
        let mut residual = sample.into_owned();
        if let Some((cells, _)) = &order.cells {
            let cell_of = cells.centers.assign(crew, &residual, to)?;
            let mut center = vec![0.0; to];
            for (row, cell) in residual.chunks_mut(to).zip(cell_of) {
                cells.centers.center(cell as usize, &mut center);
                row.iter_mut().zip(&center).for_each(|(x, c)| *x -= c);
            }
        }
        Coder::learn(crew, store, &residual, to, seed)
    }

    fn beside(&self, given: &Plain<'_>) -> Result<Option<Beside>, BuildError> {
        if !self.recipe.has_cells_beside(self.n) {
            return Ok(None);
        }
        self.crew.progress.begin("making short codes", self.n);
        let learned = match self.learned().and_then(|index| index.beside.as_ref()) {
            Some(beside) => Learned::of(beside),
            None => Learned::learn(self.crew, given, self.description)?,
        };
        Beside::build(self.crew, learned, given, self.description.metric).map(Some)
    }

    /// Codes of rows in further cells, and of the centres where no graph leads to them.
    fn overlap(
        &self,
        coder: &Coder,
        coded: &Plain<'_>,
        order: &Order,
    ) -> Result<(Option<Places>, Option<Places>), BuildError> {
        let (Route::Cells(CellsRecipe { overlap: true, .. }), Coder::Bits(rotation), Some((cells, cell_of))) =
            (self.recipe.route, coder, &order.cells)
        else {
            return Ok((None, None));
        };
        self.crew.progress.begin("placing codes in further cells", self.n + cells.count());
        let cell_of: Vec<u32> = (0..self.n).map(|node| cell_of[order.row(node)]).collect();
        let plain = Plain { center: None, ..*coded };
        let mean = match &*cells.centers {
            Centers::Whole { mean, graph: None, .. } => Some(&mean[..]),
            _ => None,
        };
        let centers = cells.centers.plain(coded.dimensions);
        let of_centers = |mean| Places::of_centers(self.crew, rotation, (&centers, mean), plain.euclidean);
        let rows = Places::overlapping(self.crew, rotation, &plain, &cell_of, &centers)?;
        Ok((Some(rows), mean.map(of_centers).transpose()?))
    }

    /// The nodes that are inserted last.
    fn held_out(&self, numbers: &[u64], order: &Order) -> FixedBitSet {
        let share = held_out_share(self.description.rows_at_build);
        let mut nodes = FixedBitSet::with_capacity(self.n);
        (0..self.n).for_each(|node| nodes.set(node, is_held_out(numbers[order.row(node)], share)));
        // There is something to lead to.
        if nodes.is_full() { FixedBitSet::with_capacity(self.n) } else { nodes }
    }

    fn graph(
        &self,
        recipe: GraphRecipe,
        linked: &Rows,
        given: &Plain<'_>,
        order: &Order,
        numbers: &[u64],
    ) -> Result<Graph, BuildError> {
        let Description { metric, dimensions: d, seed, .. } = *self.description;
        let old = match self.learned().map(|index| &index.route) {
            Some(Structure::Graph { graph, .. }) => Some(&**graph),
            _ => None,
        };
        let without = old.and_then(|graph| graph.without_held_out());
        let previous = order
            .previous
            .as_ref()
            .zip(without.as_ref().or(old))
            .map(|((now, kept), graph)| link::Previous { graph, now, kept: *kept });
        let mut heads = None;
        if self.recipe.head(self.n, d).is_some() {
            self.crew.progress.begin("making heads", self.n);
            let learned = previous.as_ref().and_then(|p| p.graph.heads());
            heads = Some(Heads::build(self.crew, given, seed, learned)?);
        }
        let held_out = self.held_out(numbers, order);
        let mut graph = link::graph(self.crew, linked, d, metric, (recipe, seed), previous, &held_out)?;
        heads.iter().for_each(|heads| graph.adorn(heads));
        Ok(graph)
    }
}
