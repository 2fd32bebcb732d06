//! An index over the prepared vectors of one column: built from a recipe, kept in one file,
//! searched with settings.
//!
//! Nodes are numbered 0.. in the order they were given; `numbers` says which record each one is.
//! An index knows nothing of later writes: whoever owns the live rows masks and adds to it.

mod build;
mod file;
mod graph;
mod rows;
mod tensor;

pub use file::{FORMAT_VERSION, FileError};
pub use graph::Scratch;

use crate::Metric;
use crate::chunked::Aligned;
use crate::kernels::Kernels;
use crate::recipe::{Recipe, Route, Store};
use crate::scan::{Allowed, Nearest, Neighbour};
use fixedbitset::FixedBitSet;
use graph::Graph;
use parking_lot::Mutex;
use rows::{Query, Rows};
use serde::{Deserialize, Serialize};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use tensor::Tensor;

/// What an index was made of; stored with it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Description {
    pub recipe: String,
    pub metric: Metric,
    pub dimensions: usize,
    /// The revision of the collection that the index covers.
    pub revision: u64,
    pub seed: u64,
}

/// Search-time numbers that trade recall for speed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Settings {
    /// How many candidates a walk of the graph keeps open. 1 to [`Settings::MAX_BEAM`].
    pub beam: usize,
    /// How many times k candidates are ranked anew, where the recipe says so. 1 to [`Settings::MAX_RESCORE`].
    #[serde(default = "Settings::usual_rescore")]
    pub rescore: usize,
}

impl Settings {
    pub const MAX_BEAM: usize = 10_000;
    pub const MAX_RESCORE: usize = 100;

    fn usual_rescore() -> usize {
        3
    }

    /// A beam, with the usual numbers beside it.
    pub fn beam(beam: usize) -> Settings {
        Settings { beam, rescore: Settings::usual_rescore() }
    }
}

impl Default for Settings {
    fn default() -> Self {
        Settings::beam(64)
    }
}

/// Work done by one search.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Work {
    /// Distances evaluated.
    pub distances: usize,
    /// Nodes whose neighbours were looked at.
    pub hops: usize,
}

/// How far a build has come, and the way to stop it. Shared between the builder and whoever waits.
#[derive(Debug, Default)]
pub struct Progress {
    pub done: AtomicUsize,
    pub total: AtomicUsize,
    pub cancelled: AtomicBool,
}

impl Progress {
    pub fn cancel(&self) {
        self.cancelled.store(true, Ordering::Relaxed);
    }
    pub fn is_cancelled(&self) -> bool {
        self.cancelled.load(Ordering::Relaxed)
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BuildError {
    #[error("the build was cancelled")]
    Cancelled,
    #[error("{rows} rows are more than an index can number (4,294,967,294)")]
    TooMany { rows: usize },
}

pub struct Index {
    description: Description,
    recipe: Recipe,
    /// What candidates are found with.
    rows: Rows,
    /// What they are ranked with anew.
    finer: Option<Rows>,
    numbers: Tensor<u64>,
    graph: Option<Graph>,
    scratch: Mutex<Vec<Scratch>>,
}

/// What to build: the description, the prepared vectors in node order, the record of each.
pub struct Source {
    pub description: Description,
    pub vectors: Aligned,
    pub numbers: Vec<u64>,
}

/// The vectors in a store; nothing for f32, which is what they are.
fn encode_unless_plain(store: Store, encode: impl Fn(Store) -> Rows) -> Option<Rows> {
    (store != Store::F32).then(|| encode(store))
}

impl Index {
    /// Builds on `threads` threads. With one thread the result depends only on source and seed.
    pub fn build(
        source: Source,
        recipe: Recipe,
        threads: usize,
        progress: &Progress,
    ) -> Result<Index, BuildError> {
        let Source { mut description, vectors, numbers } = source;
        description.recipe = recipe.to_string();
        if numbers.len() >= u32::MAX as usize {
            return Err(BuildError::TooMany { rows: numbers.len() });
        }
        assert_eq!(vectors.as_slice().len(), numbers.len() * description.dimensions);
        let plain = Tensor::from(vectors);
        let dimensions = description.dimensions;
        let encode = |store| Rows::encode(store, &plain, dimensions);
        let rows = encode_unless_plain(recipe.store, encode);
        let finer = recipe.rescore.map(|store| encode_unless_plain(store, encode));
        let plain = Rows::F32(plain);
        let graph = match recipe.route {
            Route::Scan => None,
            // On the vectors as they are: neighbours are chosen once, and what a code blurs would stay so.
            Route::Graph(graph) => Some(build::graph(&plain, &description, graph, threads, progress)?),
        };
        let (rows, finer) = match (rows, finer) {
            (None, _) => (plain, None),
            (Some(rows), Some(None)) => (rows, Some(plain)),
            (Some(rows), finer) => (rows, finer.flatten()),
        };
        Ok(Index {
            description,
            recipe,
            rows,
            finer,
            numbers: Tensor::from(numbers),
            graph,
            scratch: Mutex::default(),
        })
    }

    pub fn description(&self) -> &Description {
        &self.description
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

    /// The prepared vectors, row-major, in node order; `None` when only codes of them are kept.
    pub fn vectors(&self) -> Option<&[f32]> {
        match (&self.rows, &self.finer) {
            (Rows::F32(vectors), _) | (_, Some(Rows::F32(vectors))) => Some(vectors),
            _ => None,
        }
    }

    /// Bytes of the structure beside the vectors.
    pub fn n_bytes_structure(&self) -> usize {
        self.numbers.len() * 8 + self.graph.as_ref().map_or(0, Graph::n_bytes)
    }

    pub fn n_bytes_vectors(&self) -> usize {
        self.rows.n_bytes() + self.finer.as_ref().map_or(0, Rows::n_bytes)
    }

    /// About how many distances a walk with this beam evaluates when every node is allowed.
    pub fn expected_distances(&self, settings: Settings) -> usize {
        match self.recipe.route {
            Route::Scan => self.len(),
            // Every node of the beam is opened, and about half of its ground neighbours are fresh:
            // 14 to 23 distances a place with 16 links on real embeddings, fewer on clustered ones.
            Route::Graph(g) => (settings.beam * g.links + 4 * g.links).min(self.len()),
        }
    }

    /// The `k` nearest allowed nodes to a prepared query, nearest first; their `row` is the node's
    /// number. Fewer come back when the walk ran dry or gave up after `max_distances`: the second
    /// value tells the work done, the third whether the answer is as good as the settings promise.
    pub fn search(
        &self,
        query: &[f32],
        k: usize,
        settings: Settings,
        allowed: Allowed<'_>,
        max_distances: usize,
    ) -> (Vec<Neighbour>, Work, bool) {
        assert_eq!(query.len(), self.description.dimensions, "query has the index's dimensions");
        if self.is_empty() {
            return (Vec::new(), Work::default(), true);
        }
        let kernels = Kernels::best();
        let query = Query::new(kernels, query, self.description.metric == Metric::Euclidean);
        let wanted = if self.finer.is_some() { k.saturating_mul(settings.rescore.max(1)) } else { k };
        let (found, mut work, complete) = match &self.graph {
            None => {
                let (found, distances) = self.scan(kernels, &query, wanted, allowed);
                (found, Work { distances, hops: 0 }, true)
            }
            Some(graph) => {
                let mut scratch = self.scratch.lock().pop().unwrap_or_default();
                let space = graph::Space { kernels, rows: &self.rows, nodes: self.len() };
                let beam = settings.beam.max(wanted);
                let walker =
                    graph::Walker { space: &space, query, scratch: &mut scratch, work: Work::default() };
                let answer = match allowed {
                    Allowed::All => {
                        let (found, work) = graph.walk(walker, wanted, beam);
                        (found, work, true)
                    }
                    Allowed::Only(set) => graph.walk_within(walker, wanted, k, beam, set, max_distances),
                };
                self.scratch.lock().push(scratch);
                answer
            }
        };
        let Some(finer) = &self.finer else { return (found, work, complete) };
        let picks: Vec<u32> = found.iter().map(|n| n.row).collect();
        let mut ranks = vec![0.0; picks.len()];
        finer.rank_picked(kernels, &query, &picks, &mut ranks);
        work.distances += picks.len();
        let mut nearest = Nearest::new(k);
        picks.iter().zip(ranks).for_each(|(row, rank)| nearest.offer(*row, rank));
        (nearest.into_sorted(), work, complete)
    }

    /// Looks at every allowed node, a few at a time.
    fn scan(
        &self,
        kernels: &Kernels,
        query: &Query<'_>,
        k: usize,
        allowed: Allowed<'_>,
    ) -> (Vec<Neighbour>, usize) {
        let mut nearest = Nearest::new(k);
        let (mut picks, mut ranks, mut distances) = (Vec::with_capacity(256), vec![0.0; 256], 0);
        let mut some = |picks: &mut Vec<u32>| {
            let ranks = &mut ranks[..picks.len()];
            self.rows.rank_picked(kernels, query, picks, ranks);
            picks.iter().zip(ranks).for_each(|(row, rank)| nearest.offer(*row, *rank));
            distances += picks.len();
            picks.clear();
        };
        for node in 0..self.len() as u32 {
            if let Allowed::Only(set) = allowed
                && !set.contains(node as usize)
            {
                continue;
            }
            picks.push(node);
            if picks.len() == 256 {
                some(&mut picks);
            }
        }
        some(&mut picks);
        (nearest.into_sorted(), distances)
    }

    /// Nodes that a walk can reach at all.
    pub fn reachable(&self) -> usize {
        self.graph.as_ref().map_or(self.len(), |g| g.reachable().count_ones(..))
    }

    /// A set over nodes from a test on each.
    pub fn nodes_where(&self, test: impl Fn(u32) -> bool) -> FixedBitSet {
        let mut set = FixedBitSet::with_capacity(self.len());
        (0..self.len()).filter(|&n| test(n as u32)).for_each(|n| set.insert(n));
        set
    }
}
