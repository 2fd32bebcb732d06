//! Cells: rows sorted by the nearest of many learned centres, so that a query need look only into the nearest cells.
//!
//! One codebook (k-means), or two crossed ones: a centre for each half of the dimensions, every pair of which is a
//! cell (the inverted multi-index of Babenko and Lempitsky, CVPR 2012). Rows of a cell lie one after the other.

use super::BuildError;
use super::graph::{Graph, Scratch, Space, Walker};
use super::parallel::Crew;
use super::rows::Rows;
use super::tensor::Tensor;
use super::{Description, Work, blocks, build, kmeans};
use crate::Metric;
use crate::kernels::Kernels;
use crate::recipe::{GraphRecipe, Recipe, Route, Router};
use crate::scan::Neighbour;
use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashSet};
use std::sync::Arc;

pub(super) struct Cells {
    pub(super) dimensions: usize,
    pub(super) centers: Arc<Centers>,
    /// `[cells + 1]`: the first node of each.
    pub(super) starts: Tensor<u32>,
    /// Where the codes of each begin, where they lie in blocks.
    first_block: Vec<u32>,
}

// There is one to an index.
#[allow(clippy::large_enum_variant)]
pub(super) enum Centers {
    Whole {
        /// f32.
        rows: Rows,
        graph: Option<Graph>,
    },
    Crossed {
        left: Tensor<f32>,
        right: Tensor<f32>,
    },
}

/// A cell and the query's product with its centre.
#[derive(Clone, Copy)]
pub(super) struct Visit {
    pub(super) cell: usize,
    pub(super) offset: f32,
}

impl Centers {
    pub(super) fn learn(
        crew: &Crew<'_>,
        recipe: &Recipe,
        description: &Description,
        sample: &[f32],
        n_rows: usize,
    ) -> Result<Centers, BuildError> {
        let d = recipe.dimensions(description.dimensions);
        let seed = description.seed;
        match recipe.route {
            Route::Cells(cells) => {
                let centers =
                    kmeans::centers(crew, sample, d, cells.count_for(n_rows), kmeans::ROUNDS, seed)?;
                Centers::whole(crew, centers, cells.router, description, d)
            }
            Route::Crossed(crossed) => {
                let half = d / 2;
                let part = |from: usize, to: usize, count: usize, seed: u64| {
                    let rows = kmeans::part(sample, d, from..to);
                    kmeans::centers(crew, &rows, to - from, count, kmeans::ROUNDS, seed)
                };
                Ok(Centers::Crossed {
                    left: part(0, half, crossed.left, seed)?.into(),
                    right: part(half, d, crossed.right, seed ^ 1)?.into(),
                })
            }
            _ => unreachable!("only cells have centres"),
        }
    }

    fn whole(
        crew: &Crew<'_>,
        centers: Vec<f32>,
        router: Router,
        description: &Description,
        d: usize,
    ) -> Result<Centers, BuildError> {
        let rows = Rows::F32(centers.into());
        let graph = match router {
            Router::Scan => None,
            Router::Graph => {
                let quiet = super::Progress::default();
                let crew = Crew { progress: &quiet, ..*crew };
                let metric =
                    if description.metric == Metric::Euclidean { Metric::Euclidean } else { Metric::Dot };
                Some(build::graph(&crew, &rows, d, metric, GraphRecipe::default(), description.seed, None)?)
            }
        };
        Ok(Centers::Whole { rows, graph })
    }

    pub(super) fn count(&self, d: usize) -> usize {
        match self {
            Centers::Whole { rows: Rows::F32(rows), .. } => rows.len() / d,
            Centers::Whole { .. } => unreachable!("centres are f32"),
            Centers::Crossed { left, right } => (left.len() / (d / 2)) * (right.len() / (d - d / 2)),
        }
    }

    /// The cell of each row.
    pub(super) fn assign(&self, crew: &Crew<'_>, rows: &[f32], d: usize) -> Result<Vec<u32>, BuildError> {
        match self {
            Centers::Whole { rows: Rows::F32(centers), .. } => {
                Ok(kmeans::nearest(crew, rows, d, centers)?.into_iter().map(|(cell, _)| cell).collect())
            }
            Centers::Whole { .. } => unreachable!("centres are f32"),
            Centers::Crossed { left, right } => {
                let half = d / 2;
                let n_right = (right.len() / (d - half)) as u32;
                let part = |from: usize, to: usize, centers: &[f32]| {
                    let rows = kmeans::part(rows, d, from..to);
                    kmeans::nearest(crew, &rows, to - from, centers)
                };
                let (left, right) = (part(0, half, left)?, part(half, d, right)?);
                Ok(left.into_iter().zip(right).map(|((l, _), (r, _))| l * n_right + r).collect())
            }
        }
    }

    /// The centre of a cell.
    pub(super) fn center(&self, cell: usize, out: &mut [f32]) {
        let d = out.len();
        match self {
            Centers::Whole { rows: Rows::F32(rows), .. } => out.copy_from_slice(&rows[cell * d..][..d]),
            Centers::Whole { .. } => unreachable!("centres are f32"),
            Centers::Crossed { left, right } => {
                let half = d / 2;
                let n_right = right.len() / (d - half);
                out[..half].copy_from_slice(&left[cell / n_right * half..][..half]);
                out[half..].copy_from_slice(&right[cell % n_right * (d - half)..][..d - half]);
            }
        }
    }
}

impl Cells {
    pub(super) fn new(dimensions: usize, centers: Arc<Centers>, starts: Tensor<u32>) -> Cells {
        let mut at = 0;
        let first_block = starts
            .windows(2)
            .map(|run| {
                let first = at;
                at += (run[1] - run[0]).div_ceil(blocks::ROWS as u32);
                first
            })
            .collect();
        Cells { dimensions, centers, starts, first_block }
    }

    /// Sorts rows by cell: the cells' starts, and the row of each node.
    pub(super) fn sort(cell_of: &[u32], n_cells: usize) -> (Vec<u32>, Vec<u32>) {
        let mut starts = vec![0u32; n_cells + 1];
        cell_of.iter().for_each(|c| starts[*c as usize + 1] += 1);
        (0..n_cells).for_each(|c| starts[c + 1] += starts[c]);
        let mut next = starts.clone();
        let mut order = vec![0; cell_of.len()];
        for (row, cell) in cell_of.iter().enumerate() {
            order[next[*cell as usize] as usize] = row as u32;
            next[*cell as usize] += 1;
        }
        (starts, order)
    }

    pub(super) fn count(&self) -> usize {
        self.starts.len() - 1
    }

    /// Centres that a query is compared with.
    pub(super) fn n_compared(&self) -> usize {
        match &*self.centers {
            Centers::Whole { graph: None, .. } => self.count(),
            Centers::Whole { .. } => self.count().isqrt(),
            Centers::Crossed { .. } => self.count().isqrt(),
        }
    }

    pub(super) fn run(&self, cell: usize) -> (std::ops::Range<usize>, usize) {
        (self.starts[cell] as usize..self.starts[cell + 1] as usize, self.first_block[cell] as usize)
    }

    pub(super) fn n_bytes(&self) -> usize {
        let centers = match &*self.centers {
            Centers::Whole { rows, graph } => rows.n_bytes() + graph.as_ref().map_or(0, Graph::n_bytes),
            Centers::Crossed { left, right } => 4 * (left.len() + right.len()),
        };
        centers + 4 * self.starts.len()
    }

    /// About so many of the cells nearest to a query that are not empty, nearest first; fewer when there are no more.
    pub(super) fn nearest(
        &self,
        kernels: &Kernels,
        query: &[f32],
        euclidean: bool,
        wanted: usize,
        scratch: &mut Scratch,
        work: &mut Work,
    ) -> Vec<Visit> {
        let filled = |cell: usize| self.starts[cell] < self.starts[cell + 1];
        match &*self.centers {
            Centers::Whole { rows, graph: Some(graph) } => {
                let n = self.count();
                let asked = rows.ask(kernels, query, euclidean, 0.0);
                let space = Space { kernels, rows, nodes: n };
                let mut walker = Walker { space: &space, query: &asked, scratch, work: Work::default() };
                let beam = (wanted + wanted / 2 + 8).min(n);
                let found = graph.walk(&mut walker, beam, beam);
                *work = work.with(walker.work);
                let Rows::F32(values) = rows else { unreachable!("centres are f32") };
                let d = self.dimensions;
                let offset = |cell: usize| kernels.dot(query, &values[cell * d..][..d]);
                let found = found.into_iter().map(|n| n.row as usize).filter(|c| filled(*c)).take(wanted);
                found.map(|cell| Visit { cell, offset: offset(cell) }).collect()
            }
            Centers::Whole { rows: Rows::F32(values), graph: None } => {
                let n = self.count();
                work.distances += n;
                let mut ranks = vec![0.0; n];
                kernels.rank_rows(euclidean, query, values, &mut ranks);
                let mut all: Vec<Neighbour> = ranks
                    .into_iter()
                    .enumerate()
                    .filter(|(cell, _)| filled(*cell))
                    .map(|(cell, rank)| Neighbour { rank, row: cell as u32 })
                    .collect();
                if wanted < all.len() {
                    all.select_nth_unstable(wanted);
                    all.truncate(wanted);
                }
                all.sort_unstable();
                let offset = |at: &Neighbour| {
                    if !euclidean {
                        return -at.rank;
                    }
                    kernels.dot(query, &values[at.row as usize * self.dimensions..][..self.dimensions])
                };
                all.iter().map(|at| Visit { cell: at.row as usize, offset: offset(at) }).collect()
            }
            Centers::Whole { .. } => unreachable!("centres are f32"),
            Centers::Crossed { left, right } => {
                let half = self.dimensions / 2;
                let side = |query: &[f32], centers: &[f32]| {
                    let mut dots = vec![0.0; centers.len() / query.len()];
                    kernels.rank_rows(false, query, centers, &mut dots);
                    let mut all: Vec<(f32, f32, u32)> = dots
                        .iter()
                        .zip(centers.chunks(query.len()))
                        .enumerate()
                        .map(|(i, (dot, c))| {
                            let gap = if euclidean { kernels.dot(c, c) + 2.0 * dot } else { *dot };
                            (gap, -dot, i as u32)
                        })
                        .collect();
                    all.sort_unstable_by(|a, b| a.0.total_cmp(&b.0));
                    all
                };
                let (left, right) = (side(&query[..half], left), side(&query[half..], right));
                work.distances += (left.len() + right.len()) / 2;
                let rank = |l: usize, r: usize| left[l].0 + right[r].0;
                // Pairs leave the heap in order; each brings the next of its row and, from the first, of its column.
                let mut heap = BinaryHeap::from([Reverse((Neighbour { rank: rank(0, 0), row: 0 }, 0usize))]);
                let mut seen = HashSet::from([(0u32, 0usize)]);
                let mut found = Vec::with_capacity(wanted);
                while let Some(Reverse((at, r))) = heap.pop() {
                    let l = at.row as usize;
                    let cell = left[l].2 as usize * right.len() + right[r].2 as usize;
                    if filled(cell) {
                        found.push(Visit { cell, offset: left[l].1 + right[r].1 });
                        if found.len() == wanted {
                            break;
                        }
                    }
                    for (l, r) in [(l + 1, r), (l, r + 1)] {
                        if l < left.len() && r < right.len() && seen.insert((l as u32, r)) {
                            heap.push(Reverse((Neighbour { rank: rank(l, r), row: l as u32 }, r)));
                        }
                    }
                }
                found
            }
        }
    }
}
