//! An index as if some of its rows had never been inserted: what queries that were never indexed are measured on.

use crate::Metric;
use crate::index::build::crew::Crew;
use crate::index::progress::{BuildError, Progress};
use crate::index::store::rows::Rows;
use crate::index::structure::{Index, Structure};
use crate::kernels::Kernels;
use fixedbitset::FixedBitSet;
use parking_lot::Mutex;

impl Index {
    /// The same index without some of its nodes, which keep their numbers: none of them is ever found. Of a graph the
    /// links are those from before the held-out nodes were inserted, so that these lead nowhere either. Rows, codes and
    /// what was learned are shared with the index itself. `vector` gives the prepared vector of a node.
    pub fn without<'v>(
        &self,
        withheld: FixedBitSet,
        vector: impl Fn(u32) -> Option<&'v [f32]> + Sync,
        threads: usize,
        progress: &Progress,
    ) -> Result<Index, BuildError> {
        let crew = Crew { threads, progress, kernels: Kernels::best() };
        let route = match &self.route {
            Structure::Scan => Structure::Scan,
            Structure::Cells(cells) => Structure::Cells(cells.clone()),
            Structure::Graph { graph, inline_codes } => {
                let without = match graph.without_held_out() {
                    Some(graph) => graph,
                    None => graph.copied(),
                };
                let changed: &[u32] = graph.before.as_ref().map_or(&[], |before| &before.nodes);
                let inline_codes = match (inline_codes, &*self.rows) {
                    (Some(codes), Rows::Bits { rotation, .. }) => {
                        let euclidean = self.description.metric == Metric::Euclidean;
                        let zeros = vec![0.0; self.description.dimensions];
                        // A node whose record is gone tells nothing of its neighbours.
                        let turned = |node: u32| {
                            let vector = vector(node).unwrap_or(&zeros);
                            rotation
                                .turn(crew.kernels, &self.transform.ask(crew.kernels, vector, euclidean).0)
                        };
                        let nodes = (changed, &withheld);
                        Some(codes.relinked(&crew, &without, &self.rows, nodes, turned, euclidean)?)
                    }
                    _ => None,
                };
                Structure::Graph { graph: Box::new(without), inline_codes }
            }
        };
        Ok(Index {
            description: self.description.clone(),
            recipe: self.recipe,
            transform: self.transform.clone(),
            rows: self.rows.clone(),
            finer: self.finer.clone(),
            numbers: self.numbers.clone(),
            prints: self.prints.clone(),
            route,
            beside: self.beside.clone(),
            reach: self.reach.to_vec().into(),
            withheld: Some(withheld),
            scratch: Mutex::default(),
        })
    }

    /// Bytes that an index without some nodes takes beside the one it was made from.
    pub fn n_bytes_without(&self) -> usize {
        match &self.route {
            Structure::Graph { graph, inline_codes } => {
                graph.n_bytes() + inline_codes.as_ref().map_or(0, |codes| codes.n_bytes())
            }
            _ => self.len() / 8,
        }
    }
}
