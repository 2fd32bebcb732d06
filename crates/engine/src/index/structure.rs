//! An index in memory: what it is made of, how large it is, and what searches of it are expected to take.

use crate::index::cells::beside::Beside;
use crate::index::cells::layout::Cells;
use crate::index::description::{Description, Settings};
use crate::index::graph::inline_codes::InlineCodes;
use crate::index::graph::walk::{Graph, Scratch};
use crate::index::store::rows::Rows;
use crate::index::store::transform::Transform;
use crate::lines::Aligned;
use crate::recipe::{Recipe, Store};
use crate::tensors::Tensor;
use fixedbitset::FixedBitSet;
use parking_lot::Mutex;
use std::sync::Arc;

pub struct Index {
    pub(crate) description: Description,
    pub(crate) recipe: Recipe,
    pub(crate) transform: Arc<Transform>,
    /// What candidates are found with.
    pub(crate) rows: Arc<Rows>,
    /// The finer vectors that re-rank candidates.
    pub(crate) finer: Option<Arc<Rows>>,
    pub(crate) numbers: Arc<Tensor<u64>>,
    /// A fingerprint of each node's prepared vector: see [`fingerprint`].
    pub(crate) prints: Arc<Tensor<u32>>,
    pub(crate) route: Structure,
    pub(crate) beside: Option<Arc<Beside>>,
    /// The ranks behind which hits are far, at some depths: see `reach`.
    pub(crate) reach: Tensor<f32>,
    /// How many cells hold the neighbours down to those: see `cells::depth`.
    pub(crate) depths: Tensor<f32>,
    /// How many cells searches under filters visit: see `cells::widths`.
    pub(crate) widths: Tensor<f32>,
    /// Nodes that are never found, as if they had not been inserted: see [`Index::without`].
    pub(crate) withheld: Option<FixedBitSet>,
    pub(crate) scratch: Mutex<Vec<Scratch>>,
    /// Bytes of its file that are copied into large pages.
    pub(crate) copied: usize,
}

/// How candidates are found.
pub(crate) enum Structure {
    Scan,
    Graph { graph: Box<Graph>, inline_codes: Option<InlineCodes> },
    Cells(Arc<Cells>),
}

/// What to build: the description, the prepared vectors in node order, the record of each.
pub struct Source {
    pub description: Description,
    pub vectors: Aligned<f32>,
    pub numbers: Vec<u64>,
}

impl Index {
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
        match (&*self.rows, self.finer.as_deref()) {
            (Rows::F32(vectors), _) | (_, Some(Rows::F32(vectors))) => Some(vectors),
            _ => None,
        }
    }

    /// Bytes of the structure without the vectors.
    pub fn n_bytes_structure(&self) -> usize {
        let route = match &self.route {
            Structure::Scan => 0,
            Structure::Graph { graph, inline_codes } => {
                graph.n_bytes() + inline_codes.as_ref().map_or(0, InlineCodes::n_bytes)
            }
            Structure::Cells(cells) => cells.n_bytes(),
        };
        let beside = self.beside.as_ref().map_or(0, |beside| beside.n_bytes());
        self.numbers.len() * (8 + 4) + self.transform.n_bytes() + route + beside
    }

    pub fn n_bytes_vectors(&self) -> usize {
        self.rows.n_bytes() + self.finer.as_ref().map_or(0, |rows| rows.n_bytes())
    }

    /// Bytes that searches read throughout: all but the finer vectors, of which a search reads little.
    pub fn n_bytes_memory(&self) -> usize {
        self.rows.n_bytes() + self.n_bytes_structure()
    }

    /// About how many distances a search with these settings evaluates when every node is allowed.
    pub fn expected_distances(&self, settings: Settings) -> usize {
        match &self.route {
            Structure::Scan => self.len(),
            // Of neighbours' codes only the nodes that are opened are ranked.
            Structure::Graph { inline_codes: Some(_), .. } => settings.beam.min(self.len()),
            // Every node of the beam is opened, and about half of its ground neighbours are fresh:
            // 14 to 23 distances a place with 16 links on real embeddings, fewer on clustered ones.
            Structure::Graph { graph, .. } => (settings.beam * graph.links + 4 * graph.links).min(self.len()),
            Structure::Cells(cells) => {
                let visited = settings.visit.min(cells.count());
                cells.n_compared() + (visited as f64 * cells.n_places()) as usize
            }
        }
    }

    /// Bytes of its file that lie in large pages of memory instead.
    pub fn n_bytes_copied(&self) -> usize {
        self.copied
    }

    /// Of those that are in no file, and so on the heap.
    pub fn n_bytes_held(&self) -> usize {
        self.beside.as_ref().map_or(0, |beside| beside.n_bytes_held())
    }

    /// Whether it compares codes of one bit a dimension, or a few.
    pub fn compares_short_codes(&self) -> bool {
        self.beside.is_some() || matches!(&*self.rows, Rows::Bits { .. })
    }

    /// Whether a filtered search compares blocks of codes.
    pub fn compares_blocks(&self) -> bool {
        self.beside.is_some() || self.rows.in_blocks()
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
            Structure::Graph { inline_codes: Some(_), .. } => (10.0 + 0.02 * d) / (0.13 * d),
            Structure::Graph { .. } => (20.0 + 0.4 * bytes) / (0.13 * d),
            _ => (2.0 + 0.13 * bytes) / (0.13 * d),
        }
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

    /// Nodes that were inserted into a graph after all others: see [`crate::index::held_out_share`].
    pub fn held_out(&self) -> FixedBitSet {
        let mut nodes = FixedBitSet::with_capacity(self.len());
        if let Structure::Graph { graph, .. } = &self.route
            && let Some(before) = &graph.before
        {
            before.held_out.iter().for_each(|node| nodes.insert(*node as usize));
        }
        nodes
    }

    /// Nodes that are never found.
    pub fn n_withheld(&self) -> usize {
        self.withheld.as_ref().map_or(0, |set| set.count_ones(..))
    }

    /// Nodes that a walk can reach at all.
    pub fn reachable(&self) -> usize {
        match &self.route {
            Structure::Graph { graph, .. } => graph.reachable().count_ones(..),
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
