//! An index over the prepared vectors of one column: built from a recipe, kept in one file,
//! searched with settings.
//!
//! Nodes are numbered 0.. in the order they were given; `numbers` says which record each one is.
//! An index knows nothing of later writes: whoever owns the live rows masks and adds to it.

mod beside;
mod bits;
mod blocks;
mod build;
mod cells;
mod file;
mod graph;
mod heads;
mod kmeans;
mod parallel;
mod product;
mod rows;
mod sketch;
mod spill;
mod tensor;
mod transform;
mod visit;

pub use file::{FORMAT_VERSION, FileError};
pub use graph::Scratch;

use crate::Metric;
use crate::kernels::Kernels;
use crate::lines::Aligned;
use crate::recipe::{CellsRecipe, DataShape, Recipe, Route, Store};
use crate::scan::{Allowed, Nearest, Neighbour};
use beside::Beside;
use cells::{Cells, Centers};
use fixedbitset::FixedBitSet;
use graph::{Graph, NONE};
use heads::Heads;
use parallel::Crew;
use parking_lot::Mutex;
use rand::SeedableRng;
use rows::{Asked, CenterOf, Coder, Plain, Rows};
use serde::{Deserialize, Serialize};
use sketch::Sketch;
use spill::Spill;
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Instant;
use tensor::Tensor;
use transform::Transform;
use visit::{Visits, wider};

/// What an index was made of; stored with it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Description {
    pub recipe: String,
    pub metric: Metric,
    pub dimensions: usize,
    /// The revision of the collection that the index covers.
    pub revision: u64,
    pub seed: u64,
    /// Whose index it is, in the words of whoever owns the rows; a file of another owner is not theirs to use.
    #[serde(default)]
    pub owner: String,
    /// Rows there were when means, centres and links were last made from nothing.
    #[serde(default)]
    pub rows_at_build: usize,
}

/// Search-time numbers that trade recall for speed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Settings {
    /// How many candidates a walk of the graph keeps open. 1 to [`Settings::MAX_BEAM`].
    pub beam: usize,
    /// How many cells are visited. 1 to [`Settings::MAX_VISIT`].
    pub visit: usize,
    /// How many times k candidates are ranked anew, where the recipe says so. 1 to [`Settings::MAX_RESCORE`].
    pub rescore: usize,
}

impl Settings {
    pub const MAX_BEAM: usize = 10_000;
    pub const MAX_VISIT: usize = 100_000;
    pub const MAX_RESCORE: usize = 100;

    /// A beam, with the usual numbers beside it.
    pub fn beam(beam: usize) -> Settings {
        Settings { beam, ..Settings::default() }
    }
}

impl Default for Settings {
    fn default() -> Self {
        Settings { beam: 64, visit: 16, rescore: 3 }
    }
}

/// Work done by one search.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Work {
    /// Distances evaluated.
    pub distances: usize,
    /// Nodes whose neighbours were looked at, or cells.
    pub hops: usize,
    /// Nodes that a filter bars and whose neighbours were looked through for allowed ones.
    #[serde(default)]
    pub stepped_over: usize,
}

impl Work {
    pub(crate) fn with(self, other: Work) -> Work {
        Work {
            distances: self.distances + other.distances,
            hops: self.hops + other.hops,
            stepped_over: self.stepped_over + other.stepped_over,
        }
    }
}

/// What a search may take before it gives up.
#[derive(Clone, Copy, Debug)]
pub struct Limit {
    pub max_distances: usize,
    /// When it ends with what it has.
    pub until: Option<Instant>,
}

impl Limit {
    pub const NONE: Limit = Limit { max_distances: usize::MAX, until: None };
}

/// Whether the time is up.
pub(crate) fn late(until: Option<Instant>) -> bool {
    until.is_some_and(|until| Instant::now() >= until)
}

/// How far a build has come, and the way to stop it. Shared between the builder and whoever waits.
#[derive(Debug, Default)]
pub struct Progress {
    pub done: AtomicUsize,
    pub total: AtomicUsize,
    pub cancelled: AtomicBool,
    /// What is being done, and since when.
    stage: Mutex<Option<(&'static str, Instant)>>,
}

impl Progress {
    fn begin(&self, stage: &'static str, total: usize) {
        *self.stage.lock() = Some((stage, Instant::now()));
        self.done.store(0, Ordering::Relaxed);
        self.total.store(total, Ordering::Relaxed);
    }

    /// What is being done, if the work has stages, and since when: `done` and `total` count the rows of it.
    pub fn stage(&self) -> Option<(&'static str, Instant)> {
        *self.stage.lock()
    }

    pub fn cancel(&self) {
        self.cancelled.store(true, Ordering::Relaxed);
    }
    pub fn is_cancelled(&self) -> bool {
        self.cancelled.load(Ordering::Relaxed)
    }
}

#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BuildError {
    #[error("the build was cancelled")]
    Cancelled,
    #[error("{rows} rows are more than an index can number (4,294,967,294)")]
    TooMany { rows: usize },
    #[error(
        "{rows} rows have more than the 4,294,967,295 links an index can number; fewer links a node would do"
    )]
    TooManyLinks { rows: usize },
    /// The recipe does not fit the data.
    #[error("{0}")]
    Data(String),
}

pub struct Index {
    description: Description,
    recipe: Recipe,
    transform: Arc<Transform>,
    /// What candidates are found with.
    rows: Rows,
    /// What they are ranked with anew.
    finer: Option<Rows>,
    numbers: Tensor<u64>,
    /// A fingerprint of each node's prepared vector: see [`fingerprint`].
    prints: Tensor<u32>,
    route: Found,
    sketch: Option<Sketch>,
    scratch: Mutex<Vec<Scratch>>,
}

/// What tells a prepared vector from another, code or no code: the CRC-32 of its little-endian bytes.
pub fn fingerprint(vector: &[f32]) -> u32 {
    crc32fast::hash(bytemuck::cast_slice(vector))
}

/// How candidates are found.
enum Found {
    Scan,
    Graph { graph: Graph, beside: Option<Beside> },
    Cells(Cells),
}

/// What to build: the description, the prepared vectors in node order, the record of each.
pub struct Source {
    pub description: Description,
    pub vectors: Aligned<f32>,
    pub numbers: Vec<u64>,
}

/// Rows of fewer dimensions than this are linked as they are: bytes are too coarse to tell near from nearer.
const LEAST_IN_BYTES: usize = 32;

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
        let euclidean = description.metric == Metric::Euclidean;
        let shape = DataShape { rows: n, dimensions: d, metric: description.metric };
        recipe.check(shape).map_err(BuildError::Data)?;
        let crew = Crew { threads, progress, kernels: Kernels::best() };
        crew.check()?;
        let plain = vectors.as_slice();
        let learned = old.map(|(index, _)| index);

        let sample: Vec<f32> = match recipe.sample(n, d) {
            Some(rows) if learned.is_none() => {
                let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(description.seed);
                let mut rows = rand::seq::index::sample(&mut rng, n, rows).into_vec();
                rows.sort_unstable();
                rows.into_iter().flat_map(|r| &plain[r * d..][..d]).copied().collect()
            }
            _ => Vec::new(),
        };
        let transform = match learned {
            Some(index) => index.transform.clone(),
            None if recipe.prepare.is_empty() => Arc::new(Transform::identity(d)),
            None => {
                progress.begin("preparing", n);
                Arc::new(Transform::learn(&crew, &recipe, description.metric, &sample, d, description.seed)?)
            }
        };
        let prepared = transform.apply(&crew, plain)?;
        let sample = transform.apply(&crew, &sample)?;
        let to = transform.to;

        // The order of the nodes: by cell; or those that a previous graph knows first.
        let mut previous: Option<(Vec<u32>, usize)> = None;
        let mut cells = None;
        let order: Option<Vec<u32>> = match recipe.route {
            Route::Scan => None,
            Route::Graph(_) => old.map(|(index, alive)| {
                let row_of: HashMap<u64, u32> = numbers.iter().zip(0..).map(|(n, row)| (*n, row)).collect();
                let mut now = vec![NONE; index.len()];
                let (mut order, mut known) = (Vec::with_capacity(n), FixedBitSet::with_capacity(n));
                for node in alive.ones() {
                    if let Some(&row) = row_of.get(&index.numbers[node])
                        && !known.put(row as usize)
                    {
                        now[node] = order.len() as u32;
                        order.push(row);
                    }
                }
                previous = Some((now, order.len()));
                order.extend(known.zeroes().map(|row| row as u32));
                order
            }),
            Route::Cells(_) | Route::Crossed(_) => {
                let centers = match learned.map(|index| &index.route) {
                    Some(Found::Cells(cells)) => cells.centers.clone(),
                    _ => {
                        progress.begin("learning cells", kmeans::ROUNDS * sample.len() / to);
                        Arc::new(Centers::learn(&crew, &recipe, &description, &sample, n)?)
                    }
                };
                progress.begin("assigning cells", n);
                let cell_of = centers.assign(&crew, &prepared, to)?;
                let (starts, order) = Cells::sort(&cell_of, centers.count(to));
                cells = Some((Cells::new(to, centers, starts.into()), cell_of));
                Some(order)
            }
        };
        let node_row = |node: usize| order.as_ref().map_or(node, |order| order[node] as usize);

        let coder = match (learned, recipe.store) {
            (Some(index), _) => index.rows.coder(),
            (None, Store::Pq { .. }) => {
                progress.begin("learning codes", kmeans::ROUNDS * sample.len() / to);
                let mut rest = sample.into_owned();
                if let Some((cells, _)) = &cells {
                    let cell_of = cells.centers.assign(&crew, &rest, to)?;
                    let mut center = vec![0.0; to];
                    for (row, cell) in rest.chunks_mut(to).zip(cell_of) {
                        cells.centers.center(cell as usize, &mut center);
                        row.iter_mut().zip(&center).for_each(|(x, c)| *x -= c);
                    }
                }
                Coder::learn(&crew, recipe.store, &rest, to, description.seed)?
            }
            (None, _) => Coder::learn(&crew, recipe.store, &[], to, description.seed)?,
        };
        progress.begin("encoding", n);
        let center_of = cells.as_ref().filter(|_| recipe.store.tells_rest()).map(|(cells, cell_of)| {
            move |node: usize, out: &mut [f32]| cells.centers.center(cell_of[node_row(node)] as usize, out)
        });
        let whole = [0, n as u32];
        let runs = match &cells {
            Some((cells, _)) => Some(&cells.starts[..]),
            None => (recipe.route == Route::Scan).then_some(&whole[..]),
        };
        let coded = Plain {
            rows: &prepared,
            dimensions: to,
            order: order.as_deref(),
            center: center_of.as_ref().map(|c| c as CenterOf<'_>),
            runs,
            euclidean,
        };
        let given = Plain { rows: plain, dimensions: d, center: None, runs: None, ..coded };
        // Plain vectors in the order they came need no copy.
        let as_given = order.is_none();
        let rows = match recipe.store {
            Store::F32 if as_given && transform.is_identity() => None,
            store => Some(Rows::encode(&crew, store, &coder, &coded)?),
        };
        let finer = match recipe.rescore {
            Some(Store::F32) if as_given => None,
            Some(store) => Some(Rows::encode(&crew, store, &Coder::Plain, &given)?),
            None => None,
        };
        let prints: Vec<u32> = (0..n).map(|node| fingerprint(&plain[node_row(node) * d..][..d])).collect();
        let numbers: Vec<u64> = (0..n).map(|node| numbers[node_row(node)]).collect();

        let sketch = match recipe.sketch(n, d) {
            Some(parts) => {
                progress.begin("sketching", n);
                let known =
                    learned.and_then(|index| index.sketch.as_ref()).map(|sketch| sketch.books.clone());
                let books = match known {
                    Some(books) => books,
                    None => Sketch::learn(&crew, parts, &given, description.seed)?,
                };
                Some(Sketch::build(&crew, books, &given)?)
            }
            None => None,
        };

        let route = match recipe.route {
            Route::Scan => Found::Scan,
            Route::Cells(_) | Route::Crossed(_) => {
                let mut spill = None;
                if let (Route::Cells(CellsRecipe { spill: true, .. }), Coder::Bits(rotation), Some(cells)) =
                    (recipe.route, &coder, &cells)
                {
                    let (cells, cell_of) = cells;
                    progress.begin("spilling", n + cells.count());
                    let cell_of: Vec<u32> = (0..n).map(|node| cell_of[node_row(node)]).collect();
                    let plain = Plain { center: None, ..coded };
                    let mean = match &*cells.centers {
                        Centers::Whole { mean, graph: None, .. } => Some(&mean[..]),
                        _ => None,
                    };
                    let centers = cells.centers.plain(to);
                    spill = Some(Spill::build(&crew, rotation, &plain, &cell_of, &centers, mean)?);
                }
                let (mut cells, _) = cells.expect("cells were made");
                cells.spill = spill;
                Found::Cells(cells)
            }
            Route::Graph(g) => {
                let made;
                let linked = match &rows {
                    Some(rows @ Rows::Int8 { .. })
                        if !euclidean && transform.is_identity() && d >= LEAST_IN_BYTES =>
                    {
                        rows
                    }
                    _ => {
                        made = linkable(&crew, &given)?;
                        &made
                    }
                };
                let previous = match (&previous, learned.map(|index| &index.route)) {
                    (Some((now, kept)), Some(Found::Graph { graph, .. })) => {
                        Some(build::Previous { graph, now, kept: *kept })
                    }
                    _ => None,
                };
                let learned_heads = previous.as_ref().and_then(|p| p.graph.heads());
                let heads = match recipe.head(n, d) {
                    Some(_) => {
                        progress.begin("making heads", n);
                        Some(Heads::build(&crew, &given, description.seed, learned_heads)?)
                    }
                    None => None,
                };
                let (metric, seed) = (description.metric, description.seed);
                let mut graph = build::graph(&crew, linked, d, metric, g, seed, previous)?;
                heads.into_iter().for_each(|heads| graph.adorn(heads));
                let beside = match (&coder, g.beside) {
                    (Coder::Bits(rotation), true) => {
                        progress.begin("placing codes", 2 * n);
                        // As queries are turned: under cosine and dot they are not centred.
                        let turned =
                            if euclidean { &prepared } else { &transform.apply_matrix(&crew, plain)? };
                        let joined = Plain { rows: turned, center: None, ..coded };
                        let rows = rows.as_ref().expect("bits are encoded");
                        Some(Beside::build(&crew, &graph, rotation, &joined, rows)?)
                    }
                    _ => None,
                };
                Found::Graph { graph, beside }
            }
        };
        drop(prepared);
        let mut given = Some(vectors);
        let mut plain_rows = || Rows::F32(Tensor::from(given.take().expect("vectors are kept once")));
        let rows = rows.unwrap_or_else(&mut plain_rows);
        let finer = recipe.rescore.map(|_| finer.unwrap_or_else(&mut plain_rows));
        Ok(Index {
            description,
            recipe,
            transform,
            rows,
            finer,
            numbers: Tensor::from(numbers),
            prints: Tensor::from(prints),
            route,
            sketch,
            scratch: Mutex::default(),
        })
    }

    pub fn description(&self) -> &Description {
        &self.description
    }

    /// Whether so much has changed that it should be made from nothing rather than renewed: most of it died, or
    /// what was learned was learned from less than half or more than twice the rows.
    pub fn is_outgrown(&self, alive: usize, rows: usize) -> bool {
        let learned = self.description.rows_at_build;
        2 * alive < self.len() || rows > 2 * learned || 2 * rows < learned
    }

    pub fn recipe(&self) -> Recipe {
        self.recipe
    }

    /// Nodes.
    pub fn len(&self) -> usize {
        self.numbers.len()
    }

    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The record number of each node.
    pub fn numbers(&self) -> &[u64] {
        &self.numbers
    }

    /// The fingerprint of each node's vector.
    pub fn prints(&self) -> &[u32] {
        &self.prints
    }

    /// The prepared vectors, row-major, in node order; `None` when only codes of them are kept.
    pub fn vectors(&self) -> Option<&[f32]> {
        match (&self.rows, &self.finer) {
            (Rows::F32(vectors), _) | (_, Some(Rows::F32(vectors))) => Some(vectors),
            _ => None,
        }
    }

    /// Bytes of the structure beside the vectors.
    pub fn n_bytes_structure(&self) -> usize {
        let route = match &self.route {
            Found::Scan => 0,
            Found::Graph { graph, beside } => graph.n_bytes() + beside.as_ref().map_or(0, Beside::n_bytes),
            Found::Cells(cells) => cells.n_bytes(),
        };
        let sketch = self.sketch.as_ref().map_or(0, Sketch::n_bytes);
        self.numbers.len() * (8 + 4) + self.transform.n_bytes() + route + sketch
    }

    pub fn n_bytes_vectors(&self) -> usize {
        self.rows.n_bytes() + self.finer.as_ref().map_or(0, Rows::n_bytes)
    }

    /// Bytes that searches read throughout: all but what candidates are ranked with anew, of which a search reads little.
    pub fn n_bytes_memory(&self) -> usize {
        self.rows.n_bytes() + self.n_bytes_structure()
    }

    /// About how many distances a search with these settings evaluates when every node is allowed.
    pub fn expected_distances(&self, settings: Settings) -> usize {
        match &self.route {
            Found::Scan => self.len(),
            // Every node of the beam is opened, and about half of its ground neighbours are fresh:
            // 14 to 23 distances a place with 16 links on real embeddings, fewer on clustered ones.
            Found::Graph { graph, .. } => (settings.beam * graph.links + 4 * graph.links).min(self.len()),
            Found::Cells(cells) => {
                let visited = settings.visit.min(cells.count());
                cells.n_compared() + (visited as f64 * cells.n_places()) as usize
            }
        }
    }

    /// As [`Index::expected_distances`], where a filter allows this share of the nodes (above 0): the distances, and
    /// barred nodes that a walk steps over, or cells that are looked into.
    pub fn expected_of_allowed(&self, settings: Settings, share: f64) -> (f64, f64) {
        match &self.route {
            Found::Graph { graph, .. } => graph.expected_of_allowed(settings.beam, share),
            Found::Cells(cells) => {
                let n = cells.count().max(1) as f64;
                let visited = (settings.visit as f64 * wider(share)).min(n);
                let each = cells.n_places() * if self.rows.in_blocks() { 1.0 } else { share };
                (cells.n_compared() as f64 + visited * each, visited)
            }
            Found::Scan => (self.len() as f64, 0.0),
        }
    }

    /// Distances that [`Index::scan_stored`] takes for so many allowed nodes.
    pub fn distances_to_stored(&self, n: usize) -> usize {
        // Blocks of 32 rows are looked up together, and strips of them as a whole.
        if self.rows.in_blocks() { self.len().min(n.saturating_mul(512)) } else { n }
    }

    /// What one of those distances costs against one to the next of consecutive f32 rows. A walk waits for memory
    /// and keeps its books (about 20 ns and 0.4 ns a dimension measured, where a scan takes 0.13 ns a dimension), so
    /// on short vectors it must save far more distances to be worth it.
    pub fn cost_of_distance(&self) -> f64 {
        let d = self.description.dimensions as f64;
        let bytes = self.recipe.store.n_bytes(self.transform.to, self.description.metric) as f64 / 4.0;
        match &self.route {
            Found::Graph { beside: Some(_), .. } => (10.0 + 0.02 * d) / (0.13 * d),
            Found::Graph { .. } => (20.0 + 0.4 * bytes) / (0.13 * d),
            _ => (2.0 + 0.13 * bytes) / (0.13 * d),
        }
    }

    /// The `k` nearest allowed nodes to a prepared query, nearest first; their `row` is the node's
    /// number. Fewer come back when the walk ran dry or gave up at its limit, or
    /// at once where what is allowed lies too scattered for it (never without a limit of distances): the second
    /// value tells the work done, the third whether the answer is as good as the settings promise.
    pub fn search(
        &self,
        query: &[f32],
        k: usize,
        settings: Settings,
        allowed: Allowed<'_>,
        limit: Limit,
    ) -> (Vec<Neighbour>, Work, bool) {
        assert_eq!(query.len(), self.description.dimensions, "query has the index's dimensions");
        if self.is_empty() {
            return (Vec::new(), Work::default(), true);
        }
        let kernels = Kernels::best();
        let euclidean = self.description.metric == Metric::Euclidean;
        let (turned, base) = self.transform.ask(kernels, query, euclidean);
        let finer = self.finer.as_ref().map(|rows| (rows, rows.ask(kernels, query, euclidean, 0.0)));
        let wanted = if finer.is_some() { k.saturating_mul(settings.rescore.max(1)) } else { k };
        let mut scratch = self.scratch.lock().pop().unwrap_or_default();
        scratch.until = limit.until;
        if let (Found::Graph { beside: Some(beside), .. }, Allowed::All) = (&self.route, allowed) {
            let (own, tables) = self.rows.ask_signs(kernels, &turned, euclidean, base);
            let rows;
            let (finer, finer_asked) = match &finer {
                Some((finer, asked)) => (*finer, asked),
                None => {
                    rows = self.rows.ask(kernels, &turned, euclidean, base);
                    (&self.rows, &rows)
                }
            };
            let space = graph::Space { kernels, rows: &self.rows, nodes: self.len() };
            let mut walker = graph::Walker {
                space: &space,
                query: &own,
                heads: None,
                scratch: &mut scratch,
                work: Work::default(),
            };
            let beam = settings.beam.max(k);
            let found = beside.walk(&mut walker, &tables, (finer, finer_asked), k, beam, wanted);
            let work = walker.work;
            self.scratch.lock().push(scratch);
            return (found, work, true);
        }
        let asked = self.rows.ask(kernels, &turned, euclidean, base);
        let mut work = Work::default();
        let mut complete = true;
        let found = match &self.route {
            Found::Scan => {
                let mut nearest = Nearest::new(wanted);
                let run = Run { nodes: 0..self.len(), first_block: 0, offset: 0.0, until: limit.until };
                work.distances += self.look_into(kernels, &asked, run, allowed, &mut nearest);
                nearest.into_sorted()
            }
            Found::Cells(cells) => {
                let visits = Visits { cells, k, wanted, visit: settings.visit.max(1), allowed, limit };
                let found;
                (found, complete) = self.visit(&visits, (&turned, &asked), &mut scratch, &mut work);
                found
            }
            Found::Graph { graph, .. } => {
                let space = graph::Space { kernels, rows: &self.rows, nodes: self.len() };
                let beam = settings.beam.max(wanted);
                let question = graph.heads().map(|heads| (heads, heads.ask(kernels, query, euclidean)));
                let mut walker = graph::Walker {
                    space: &space,
                    query: &asked,
                    heads: question.as_ref().map(|(heads, question)| (*heads, question)),
                    scratch: &mut scratch,
                    work: Work::default(),
                };
                let found = match allowed {
                    Allowed::All => graph.walk(&mut walker, wanted, beam),
                    Allowed::Only(set) => {
                        let (found, whole) =
                            graph.walk_allowed(&mut walker, wanted, k, beam, set, limit.max_distances);
                        complete = whole;
                        found
                    }
                };
                work = work.with(walker.work);
                found
            }
        };
        self.scratch.lock().push(scratch);
        (self.ranked_anew(kernels, &asked, finer, found, k, &mut work), work, complete)
    }

    /// The `k` nearest allowed nodes by a scan of what is stored of them, re-ranked as the settings say; without
    /// finer vectors those that may be among the `k` nearest, for the caller to rank.
    pub fn scan_stored(
        &self,
        query: &[f32],
        k: usize,
        settings: Settings,
        allowed: Allowed<'_>,
        until: Option<Instant>,
    ) -> (Vec<Neighbour>, Work) {
        assert_eq!(query.len(), self.description.dimensions, "query has the index's dimensions");
        let kernels = Kernels::best();
        let euclidean = self.description.metric == Metric::Euclidean;
        let (turned, base) = self.transform.ask(kernels, query, euclidean);
        let asked = self.rows.ask(kernels, &turned, euclidean, base);
        let finer = self.finer.as_ref().map(|rows| (rows, rows.ask(kernels, query, euclidean, 0.0)));
        let wanted = k.saturating_mul(if finer.is_some() { settings.rescore.max(1) } else { self.spread() });
        let mut nearest = Nearest::new(wanted.min(self.len()));
        let mut work = Work::default();
        let whole = [(0..self.len(), 0)];
        let cells = match &self.route {
            Found::Cells(cells) if self.recipe.store.tells_rest() => Some(cells),
            _ => None,
        };
        match cells {
            // Codes tell how rows differ from their cell's centre, so each cell has an offset of its own.
            Some(cells) => {
                let mut center = vec![0.0; self.transform.to];
                for cell in 0..cells.count() {
                    let (nodes, first_block) = cells.run(cell);
                    let any = match allowed {
                        Allowed::All => !nodes.is_empty(),
                        Allowed::Only(set) => set.contains_any_in_range(nodes.clone()),
                    };
                    if any {
                        cells.centers.center(cell, &mut center);
                        let run = Run { nodes, first_block, offset: kernels.dot(&turned, &center), until };
                        work.distances += 1 + self.look_into(kernels, &asked, run, allowed, &mut nearest);
                    }
                }
            }
            None => {
                for (nodes, first_block) in match &self.route {
                    Found::Cells(cells) => (0..cells.count()).map(|cell| cells.run(cell)).collect(),
                    _ => whole.to_vec(),
                } {
                    let run = Run { nodes, first_block, offset: 0.0, until };
                    work.distances += self.look_into(kernels, &asked, run, allowed, &mut nearest);
                }
            }
        }
        let found = nearest.into_sorted();
        if finer.is_none() {
            return (found, work);
        }
        (self.ranked_anew(kernels, &asked, finer, found, k, &mut work), work)
    }

    /// Whether [`Index::scan_sketches`] can answer.
    pub fn has_sketches(&self) -> bool {
        self.sketch.is_some()
    }

    fn heads(&self) -> Option<&Heads> {
        match &self.route {
            Found::Graph { graph, .. } => graph.heads(),
            _ => None,
        }
    }

    /// How many of the nearest by their sketches, and by their heads where there are any, are ranked by what is stored,
    /// for `k` answers: signs tell better than sketches, so fewer rows need be read.
    pub fn sketched_candidates(&self, k: usize) -> usize {
        if self.heads().is_some() { 15 * k + 50 } else { 40 * k + 100 }
    }

    /// The `k` nearest allowed nodes by a scan of sketches: the candidates are ranked by what is stored, and the best
    /// of those anew as the settings say; without finer vectors those that may be among the `k` nearest, for the
    /// caller to rank. The work counts a block of 32 sketches as one hop. Nothing where there are no sketches.
    pub fn scan_sketches(
        &self,
        query: &[f32],
        k: usize,
        settings: Settings,
        allowed: &FixedBitSet,
        until: Option<Instant>,
    ) -> (Vec<Neighbour>, Work) {
        assert_eq!(query.len(), self.description.dimensions, "query has the index's dimensions");
        let Some(sketch) = &self.sketch else { return (Vec::new(), Work::default()) };
        let kernels = Kernels::best();
        let euclidean = self.description.metric == Metric::Euclidean;
        let (mut picks, hops) = sketch.nearest(kernels, query, euclidean, allowed, 40 * k + 100, until);
        if let Some(heads) = self.heads() {
            heads.nearest(kernels, query, euclidean, self.sketched_candidates(k), &mut picks);
        }
        let (turned, base) = self.transform.ask(kernels, query, euclidean);
        let asked = self.rows.ask(kernels, &turned, euclidean, base);
        let mut ranks = vec![0.0; picks.len()];
        self.rows.rank_picked(kernels, &asked, 0.0, &picks, &mut ranks);
        let finer = self.finer.as_ref().map(|rows| (rows, rows.ask(kernels, query, euclidean, 0.0)));
        let wanted = k.saturating_mul(if finer.is_some() { settings.rescore.max(1) } else { self.spread() });
        let mut nearest = Nearest::new(wanted.min(self.len()));
        picks.iter().zip(&ranks).for_each(|(row, rank)| nearest.offer(*row, *rank));
        let mut work = Work { distances: picks.len(), hops, ..Work::default() };
        let found = nearest.into_sorted();
        if finer.is_none() {
            return (found, work);
        }
        (self.ranked_anew(kernels, &asked, finer, found, k, &mut work), work)
    }

    /// How many times `k` stored rows may have to be ranked by the vectors themselves to find the `k` nearest.
    pub fn spread(&self) -> usize {
        match self.recipe.store {
            _ if self.transform.to < self.description.dimensions => 10,
            Store::F32 => 1,
            Store::F16 | Store::Int8 => 2,
            Store::Pq { .. } | Store::Bits { .. } => 10,
        }
    }

    /// The best of what was found, by finer vectors.
    fn ranked_anew(
        &self,
        kernels: &Kernels,
        asked: &Asked<'_>,
        finer: Option<(&Rows, Asked<'_>)>,
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
        found.iter().skip(k).for_each(|n| self.rows.call_error(kernels, n.row));
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
    fn look_into(
        &self,
        kernels: &Kernels,
        asked: &Asked<'_>,
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
            if late(run.until) {
                break;
            }
            let mut whole = true;
            if let Allowed::Only(set) = allowed {
                if !set.contains_any_in_range(strip.clone()) {
                    continue;
                }
                picks.clear();
                if !self.rows.in_blocks() {
                    picks.extend(strip.clone().filter(|node| set.contains(*node)).map(|node| node as u32));
                }
                whole = self.rows.in_blocks() || 2 * picks.len() > strip.len();
            }
            if whole {
                let ranks = &mut ranks[..strip.len()];
                let block = run.first_block + i * (STRIP / blocks::ROWS);
                self.rows.rank_run(kernels, asked, run.offset, strip.clone(), block, ranks);
                distances += strip.len();
                let mut worst = nearest.worst();
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

    /// Nodes that a walk can reach at all.
    pub fn reachable(&self) -> usize {
        match &self.route {
            Found::Graph { graph, .. } => graph.reachable().count_ones(..),
            _ => self.len(),
        }
    }

    /// A set over nodes from a test on each.
    pub fn nodes_where(&self, test: impl Fn(u32) -> bool) -> FixedBitSet {
        let mut set = FixedBitSet::with_capacity(self.len());
        (0..self.len()).filter(|&n| test(n as u32)).for_each(|n| set.insert(n));
        set
    }
}

/// Consecutive nodes that are compared as a whole.
struct Run {
    nodes: std::ops::Range<usize>,
    first_block: usize,
    /// The query's product with the centre that their codes are told from.
    offset: f32,
    /// When to stop looking.
    until: Option<Instant>,
}

/// Rows as a graph is linked by: in bytes, which is four times less to wait for, unless they are short. Distances do
/// not see a mean, so it is taken off first where distances are what counts.
fn linkable(crew: &Crew<'_>, given: &Plain<'_>) -> Result<Rows, BuildError> {
    if given.dimensions < LEAST_IN_BYTES {
        return Rows::encode(crew, Store::F32, &Coder::Plain, given);
    }
    let mean = given.euclidean.then(|| transform::mean(given.rows, given.dimensions));
    let center = mean.as_ref().map(|mean| move |_: usize, out: &mut [f32]| out.copy_from_slice(mean));
    let center = center.as_ref().map(|c| c as CenterOf<'_>);
    Rows::encode(crew, Store::Int8, &Coder::Plain, &Plain { center, ..*given })
}
