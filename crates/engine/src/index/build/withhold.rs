//! An index as if some of its rows had never been inserted: what queries that were never indexed are measured on.

use crate::Metric;
use crate::index::build::crew::Crew;
use crate::index::progress::{BuildError, Progress};
use crate::index::store::rows::Rows;
use crate::index::structure::{Index, Structure};
use crate::kernels::Kernels;
use crate::recipe::{GraphRecipe, Route};
use fixedbitset::FixedBitSet;
use parking_lot::Mutex;
use std::collections::HashMap;

impl Index {
    /// The same index without some of its nodes, which keep their numbers: none of them is ever found. Of a graph the
    /// links are those that it would have if these held-out nodes had never been inserted, so that none leads there either.
    /// Rows, codes and what was learned are shared with the index itself. `vector` gives the prepared vector of a node.
    pub fn without<'v>(
        &self,
        withheld: FixedBitSet,
        vector: impl Fn(u32) -> Option<&'v [f32]> + Sync,
        threads: usize,
        progress: &Progress,
    ) -> Result<Index, BuildError> {
        let crew = Crew { threads, progress, kernels: Kernels::best() };
        let euclidean = self.description.metric == Metric::Euclidean;
        let route = match &self.route {
            Structure::Scan => Structure::Scan,
            Structure::Cells(cells) => Structure::Cells(cells.clone()),
            Structure::Graph { graph, inline_codes } => {
                let zeros = vec![0.0; self.description.dimensions];
                // A node whose record is gone tells nothing of its neighbours.
                let vector = |node: u32| vector(node).unwrap_or(&zeros);
                let build = match self.recipe.route {
                    Route::Graph(recipe) => recipe.build,
                    _ => GraphRecipe::default().build,
                };
                let ranks = || self.ranks(&crew, &vector);
                let (without, changed) = graph.without(&crew, build, &withheld, ranks)?;
                let inline_codes = match (inline_codes, &*self.rows) {
                    (Some(codes), Rows::Bits { rotation, .. }) => {
                        let nodes = (&changed[..], &withheld);
                        let turned = |node: u32| {
                            let asked = self.transform.ask(crew.kernels, vector(node), euclidean).0;
                            rotation.turn(crew.kernels, &asked)
                        };
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
            depths: self.depths.to_vec().into(),
            widths: self.widths.to_vec().into(),
            withheld: Some(withheld),
            scratch: Mutex::default(),
            copied: 0,
        })
    }

    /// The rank of two nodes as a graph links them: by what is stored, also where the record is gone, or by vectors.
    fn ranks<'v>(&self, crew: &Crew<'_>, vector: &impl Fn(u32) -> &'v [f32]) -> impl FnMut(u32, u32) -> f32 {
        let metric = self.description.metric;
        // What is made of a vector is kept, where something is.
        let mut made: HashMap<u32, Vec<f32>> = HashMap::new();
        move |a, b| {
            if matches!(&*self.rows, Rows::F32(_) | Rows::Int8 { .. }) {
                let euclidean = metric == Metric::Euclidean;
                return self.rows.rank_pair(crew.kernels, a, b, self.transform.to, euclidean);
            }
            if self.transform.is_identity() {
                return metric.rank(crew.kernels, vector(a), vector(b));
            }
            for node in [a, b] {
                made.entry(node).or_insert_with(|| match self.transform.apply(crew, vector(node)) {
                    Ok(made) => made.into_owned(),
                    // Cancelled: what comes of it is thrown away.
                    Err(_) => vec![0.0; self.transform.to],
                });
            }
            metric.rank(crew.kernels, &made[&a], &made[&b])
        }
    }
}
