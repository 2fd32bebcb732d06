//! An index over the prepared vectors of one column: built from a recipe, kept in one file,
//! searched with settings.
//!
//! Nodes are numbered 0.. in the order they were given; `numbers` says which record each one is.
//! An index knows nothing of later writes: whoever owns the live rows masks and adds to it.

mod build;
mod file;
mod graph;
mod tensor;

pub use file::{FORMAT_VERSION, FileError};
pub use graph::Scratch;

use crate::Metric;
use crate::chunked::Aligned;
use crate::kernels::Kernels;
use crate::recipe::Recipe;
use crate::scan::{self, Allowed, Neighbour};
use fixedbitset::FixedBitSet;
use graph::Graph;
use parking_lot::Mutex;
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
}

impl Settings {
    pub const MAX_BEAM: usize = 10_000;
}

impl Default for Settings {
    fn default() -> Self {
        Settings { beam: 64 }
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
    vectors: Tensor<f32>,
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
        let graph = match recipe {
            Recipe::Scan => None,
            Recipe::Graph(graph_recipe) => {
                Some(build::graph(vectors.as_slice(), &description, graph_recipe, threads, progress)?)
            }
        };
        Ok(Index {
            description,
            recipe,
            vectors: Tensor::from(vectors),
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

    /// The prepared vectors, row-major, in node order.
    pub fn vectors(&self) -> &[f32] {
        &self.vectors
    }

    /// Bytes of the structure beside the vectors.
    pub fn n_bytes_structure(&self) -> usize {
        self.numbers.len() * 8 + self.graph.as_ref().map_or(0, Graph::n_bytes)
    }

    pub fn n_bytes_vectors(&self) -> usize {
        self.vectors.len() * 4
    }

    /// About how many distances a walk with this beam evaluates when every node is allowed.
    pub fn expected_distances(&self, settings: Settings) -> usize {
        match self.recipe {
            Recipe::Scan => self.len(),
            // Every node of the beam is opened, and about half of its ground neighbours are fresh:
            // 14 to 23 distances a place with 16 links on real embeddings, fewer on clustered ones.
            Recipe::Graph(g) => (settings.beam * g.links + 4 * g.links).min(self.len()),
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
        let Some(graph) = &self.graph else {
            let blocks = std::iter::once((0, &*self.vectors));
            let found = scan::scan(blocks, self.description.metric, query, k, allowed);
            return (found, Work { distances: self.len(), hops: 0 }, true);
        };
        if self.is_empty() {
            return (Vec::new(), Work::default(), true);
        }
        let mut scratch = self.scratch.lock().pop().unwrap_or_default();
        let space = graph::Space {
            kernels: Kernels::best(),
            euclidean: self.description.metric == Metric::Euclidean,
            vectors: &self.vectors,
            dimensions: self.description.dimensions,
        };
        let beam = settings.beam.max(k);
        let walker = graph::Walker { space: &space, query, scratch: &mut scratch, work: Work::default() };
        let answer = match allowed {
            Allowed::All => {
                let (found, work) = graph.walk(walker, k, beam);
                (found, work, true)
            }
            Allowed::Only(set) => graph.walk_within(walker, k, beam, set, max_distances),
        };
        self.scratch.lock().push(scratch);
        answer
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
