//! Cells: rows sorted by the nearest of many learned centres, so that a query need look only into the nearest cells.
//!
//! One codebook (k-means), or two crossed ones: a centre for each half of the dimensions, every pair of which is a
//! cell (the inverted multi-index of Babenko and Lempitsky, CVPR 2012). Rows of a cell lie one after the other.
//! Codes of a row may lie in further cells too: see [`crate::index::cells::overlap`].

use crate::Metric;
use crate::index::build::crew::Crew;
use crate::index::build::kmeans;
use crate::index::build::link as build;
use crate::index::cells::overlap::Places;
use crate::index::description::Description;
use crate::index::description::Work;
use crate::index::graph::walk::Graph;
use crate::index::graph::walk::Scratch;
use crate::index::graph::walk::Space;
use crate::index::graph::walk::Walker;
use crate::index::pool::least_of;
use crate::index::progress::BuildError;
use crate::index::store::blocks;
use crate::index::store::blocks::Tables;
use crate::index::store::encode::Coder;
use crate::index::store::encode::LEAST_IN_BYTES;
use crate::index::store::encode::Plain;
use crate::index::store::prepared::PreparedQuery;
use crate::index::store::rows::Rows;
use crate::index::store::transform;
use crate::kernels::Kernels;
use crate::recipe::{CellsRecipe, GraphRecipe, Recipe, Route, Router, Store};
use crate::scan::Neighbour;
use crate::tensors::Tensor;
use fixedbitset::FixedBitSet;
use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashSet};
use std::sync::Arc;

pub(crate) struct Cells {
    pub(crate) dimensions: usize,
    pub(crate) centers: Arc<Centers>,
    /// `[cells + 1]`: the first node of each.
    pub(crate) starts: Tensor<u32>,
    /// `[cells]`: how far the rows of each lie from its centre, as the root of the mean square; of crossed cells not told.
    pub(crate) spread: Tensor<f32>,
    /// By how many times its spread the rows of a cell count as nearer than its centre, for a query of length 1.
    nearer: f32,
    /// Where the codes of each begin, where they lie in blocks.
    first_block: Vec<u32>,
    /// Codes of rows, in several cells each.
    pub(crate) overlap: Option<Places>,
    /// Codes of the centres, which lead to the nearest of them.
    pub(crate) center_codes: Option<Places>,
}

// There is one to an index.
#[allow(clippy::large_enum_variant)]
pub(crate) enum Centers {
    Whole {
        mean: Tensor<f32>,
        /// What centres differ by from their mean, as int8; of few dimensions as f32, and from nothing. What is told
        /// from a centre is relative to these, so that their coarseness loses nothing.
        rows: Rows,
        graph: Option<Graph>,
    },
    Crossed {
        left: Tensor<f32>,
        right: Tensor<f32>,
    },
}

/// A product with a centre tells how near the rows of its cell are on average. The nearest of them are nearer, the more so
/// the farther they lie from each other: with their spread in the order of visits, two thirds of the visits found as much
/// in a million rows. Measured on seven sets of vectors; under Euclidean distance it helped on few, and harmed on others.
const NEARER_COSINE: f32 = 0.4;
const NEARER_DOT: f32 = 0.2;

/// A cell and the rank of its centre; for crossed ones up to what is the same for all.
#[derive(Clone, Copy)]
pub(crate) struct Visit {
    pub(crate) cell: usize,
    pub(crate) rank: f32,
}

impl CellsRecipe {
    /// How centres are kept.
    pub(crate) fn store(d: usize) -> Store {
        if d >= LEAST_IN_BYTES { Store::Int8 } else { Store::F32 }
    }
}

impl Centers {
    pub(crate) fn learn(
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

    /// Of one codebook, all of which are compared.
    pub(crate) fn scanned(
        crew: &Crew<'_>,
        centers: Vec<f32>,
        description: &Description,
        d: usize,
    ) -> Result<Centers, BuildError> {
        Centers::whole(crew, centers, Router::Scan, description, d)
    }

    fn whole(
        crew: &Crew<'_>,
        centers: Vec<f32>,
        router: Router,
        description: &Description,
        d: usize,
    ) -> Result<Centers, BuildError> {
        let quiet = crate::index::progress::Progress::default();
        let crew = &Crew { progress: &quiet, ..*crew };
        let in_bytes = d >= LEAST_IN_BYTES;
        let mean = if in_bytes { transform::mean(&centers, d) } else { vec![0.0; d] };
        let rest: Vec<f32> =
            centers.chunks(d).flat_map(|c| c.iter().zip(&mean).map(|(x, m)| x - m)).collect();
        let euclidean = description.metric == Metric::Euclidean;
        let plain = Plain { rows: &rest, dimensions: d, order: None, center: None, runs: None, euclidean };
        let rows = Rows::encode(crew, CellsRecipe::store(d), &Coder::Plain, &plain)?;
        let metric = if euclidean { Metric::Euclidean } else { Metric::Dot };
        let graph = match router {
            Router::Scan => None,
            Router::Graph => Some(build::graph(
                crew,
                &rows,
                d,
                metric,
                (GraphRecipe::default(), description.seed),
                None,
                &FixedBitSet::new(),
            )?),
        };
        Ok(Centers::Whole { mean: mean.into(), rows, graph })
    }

    pub(crate) fn count(&self, d: usize) -> usize {
        match self {
            Centers::Whole { rows, .. } => rows.n_rows(d),
            Centers::Crossed { left, right } => (left.len() / (d / 2)) * (right.len() / (d - d / 2)),
        }
    }

    /// All centres of one codebook, row-major.
    pub(crate) fn plain(&self, d: usize) -> Vec<f32> {
        let mut all = vec![0.0; self.count(d) * d];
        all.chunks_mut(d).enumerate().for_each(|(cell, out)| self.center(cell, out));
        all
    }

    /// The cell of each row.
    pub(crate) fn assign(&self, crew: &Crew<'_>, rows: &[f32], d: usize) -> Result<Vec<u32>, BuildError> {
        match self {
            Centers::Whole { .. } => {
                let near = kmeans::nearest(crew, rows, d, &self.plain(d))?;
                Ok(near.into_iter().map(|(cell, _)| cell).collect())
            }
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
    pub(crate) fn center(&self, cell: usize, out: &mut [f32]) {
        let d = out.len();
        match self {
            Centers::Whole { mean, rows, .. } => {
                rows.decode(cell, out);
                out.iter_mut().zip(mean.iter()).for_each(|(x, m)| *x += m);
            }
            Centers::Crossed { left, right } => {
                let half = d / 2;
                let n_right = right.len() / (d - half);
                out[..half].copy_from_slice(&left[cell / n_right * half..][..half]);
                out[half..].copy_from_slice(&right[cell % n_right * (d - half)..][..d - half]);
            }
        }
    }
}

/// A query as it meets centres that lack their mean: distances do not see one that both sides lack, and products lack the
/// same for all rows.
fn ask<'q>(
    kernels: &Kernels,
    (mean, rows): (&[f32], &Rows),
    query: &'q [f32],
    euclidean: bool,
) -> PreparedQuery<'q> {
    if !euclidean {
        return rows.ask(kernels, query, false, kernels.dot(query, mean));
    }
    let rest: Vec<f32> = query.iter().zip(mean).map(|(x, m)| x - m).collect();
    rows.ask(kernels, &rest, true, 0.0).into_owned()
}

/// Half of a query against the halves of crossed centres, up to what is the same for all.
fn gaps(kernels: &Kernels, query: &[f32], centers: &[f32], euclidean: bool) -> impl Iterator<Item = f32> {
    let mut dots = vec![0.0; centers.len() / query.len()];
    kernels.rank_rows(false, query, centers, &mut dots);
    let centers = centers.chunks(query.len());
    dots.into_iter()
        .zip(centers)
        .map(move |(dot, c)| if euclidean { kernels.dot(c, c) + 2.0 * dot } else { dot })
}

impl Cells {
    pub(crate) fn new(
        (metric, dimensions): (Metric, usize),
        centers: Arc<Centers>,
        starts: Tensor<u32>,
        spread: Tensor<f32>,
    ) -> Cells {
        let nearer = match metric {
            Metric::Cosine => NEARER_COSINE,
            Metric::Dot => NEARER_DOT,
            Metric::Euclidean => 0.0,
        };
        let mut at = 0;
        let first_block = starts
            .windows(2)
            .map(|run| {
                let first = at;
                at += (run[1] - run[0]).div_ceil(blocks::ROWS as u32);
                first
            })
            .collect();
        Cells { dimensions, centers, starts, spread, nearer, first_block, overlap: None, center_codes: None }
    }

    /// Sorts rows by cell: the cells' starts, and the row of each node.
    pub(crate) fn sort(cell_of: &[u32], n_cells: usize) -> (Vec<u32>, Vec<u32>) {
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

    /// How far rows lie from the centres of their cells; those that do not tell are passed over. Nothing of crossed cells.
    pub(crate) fn spread(
        kernels: &Kernels,
        centers: &Centers,
        (rows, d): (&[f32], usize),
        cell_of: &[u32],
        tells: impl Fn(usize) -> bool,
    ) -> Vec<f32> {
        if matches!(centers, Centers::Crossed { .. }) {
            return Vec::new();
        }
        let plain = centers.plain(d);
        let mut sums = vec![(0.0f64, 0u32); plain.len() / d];
        let mut rank = [0.0];
        for (row, &cell) in cell_of.iter().enumerate().filter(|(row, _)| tells(*row)) {
            let center = &plain[cell as usize * d..][..d];
            kernels.rank_rows(true, &rows[row * d..][..d], center, &mut rank);
            let (sum, n) = &mut sums[cell as usize];
            (*sum, *n) = (*sum + f64::from(rank[0]), *n + 1);
        }
        sums.into_iter().map(|(sum, n)| (sum / f64::from(n.max(1))).sqrt() as f32).collect()
    }

    pub(crate) fn count(&self) -> usize {
        self.starts.len() - 1
    }

    /// Places of rows in a cell, and what fills its blocks.
    pub(crate) fn n_places(&self) -> f64 {
        let n = match &self.overlap {
            Some(overlap) => overlap.n_places(),
            None => self.starts.last().map_or(0, |n| *n as usize),
        };
        n as f64 / self.count().max(1) as f64
    }

    /// Centres that a query is compared with, or as many as that takes the time of.
    pub(crate) fn n_compared(&self) -> usize {
        match &*self.centers {
            // Codes take an eighth of the time.
            Centers::Whole { graph: None, .. } if self.center_codes.is_some() => self.count() / 8,
            Centers::Whole { graph: None, .. } => self.count(),
            Centers::Whole { .. } => self.count().isqrt(),
            Centers::Crossed { .. } => self.count().isqrt(),
        }
    }

    pub(crate) fn run(&self, cell: usize) -> (std::ops::Range<usize>, usize) {
        (self.starts[cell] as usize..self.starts[cell + 1] as usize, self.first_block[cell] as usize)
    }

    pub(crate) fn n_bytes(&self) -> usize {
        let centers = match &*self.centers {
            Centers::Whole { mean, rows, graph } => {
                4 * mean.len() + rows.n_bytes() + graph.as_ref().map_or(0, Graph::n_bytes)
            }
            Centers::Crossed { left, right } => 4 * (left.len() + right.len()),
        };
        centers
            + 4 * (self.starts.len() + self.spread.len())
            + self.overlap.as_ref().map_or(0, Places::n_bytes)
            + self.center_codes.as_ref().map_or(0, Places::n_bytes)
    }

    /// The rank of a cell's centre, with all that ranks of rows have.
    pub(crate) fn rank_of(&self, asked: &PreparedQuery<'_>, visit: Visit) -> f32 {
        match &*self.centers {
            // Theirs lack what is the same for all.
            Centers::Crossed { .. } => visit.rank + asked.rank_of_nothing(),
            Centers::Whole { .. } => visit.rank + asked.rank_of_all(),
        }
    }

    /// The query's product with the centre of a cell, or what stands for it where codes lie row by row (see
    /// [`Rows::rank_lines`]): those are told from the rank of the centre.
    pub(crate) fn offset(
        &self,
        kernels: &Kernels,
        (rows, asked): (&Rows, &PreparedQuery<'_>),
        visit: Visit,
    ) -> f32 {
        if !asked.euclidean {
            return -visit.rank;
        }
        if rows.in_lines() {
            return (asked.rank_of_nothing() - self.rank_of(asked, visit)) / 2.0;
        }
        let mut center = vec![0.0; self.dimensions];
        self.centers.center(visit.cell, &mut center);
        kernels.dot(asked.vector(), &center)
    }

    /// The cells that are not empty, in their order.
    pub(crate) fn ranked(&self, kernels: &Kernels, query: &[f32], euclidean: bool) -> Vec<Visit> {
        let ranks = match &*self.centers {
            Centers::Whole { mean, rows, .. } => {
                let mut ranks = vec![0.0; self.count()];
                let asked = ask(kernels, (mean, rows), query, euclidean);
                rows.rank_run(kernels, &asked, 0.0, 0..self.count(), 0, &mut ranks);
                ranks
            }
            Centers::Crossed { left, right } => {
                let half = self.dimensions / 2;
                let right: Vec<f32> = gaps(kernels, &query[half..], right, euclidean).collect();
                let left = gaps(kernels, &query[..half], left, euclidean);
                left.flat_map(|left| right.iter().map(move |right| left + right)).collect()
            }
        };
        let cells =
            ranks.into_iter().enumerate().filter(|(cell, _)| self.starts[*cell] < self.starts[cell + 1]);
        cells.map(|(cell, rank)| Visit { cell, rank }).collect()
    }

    /// The ranks of the centres of some cells; nothing where each is made of two.
    pub(crate) fn ranks_of(
        &self,
        kernels: &Kernels,
        query: &[f32],
        euclidean: bool,
        cells: &[u32],
    ) -> Option<Vec<f32>> {
        let Centers::Whole { mean, rows, .. } = &*self.centers else { return None };
        let mut ranks = vec![0.0; cells.len()];
        rows.rank_picked(kernels, &ask(kernels, (mean, rows), query, euclidean), 0.0, cells, &mut ranks);
        Some(ranks)
    }

    /// The ranks of all centres as their codes tell, relative to that of their mean; none where there are no codes.
    pub(crate) fn estimated(&self, kernels: &Kernels, tables: Option<&Tables>) -> Vec<f32> {
        match (&self.center_codes, tables) {
            (Some(codes), Some(tables)) => codes.estimated(kernels, tables, self.count()),
            _ => Vec::new(),
        }
    }

    /// So many of the cells that are likely to hold what is nearest to a query, in no order, as the codes of their centres
    /// tell: good enough to look around.
    pub(crate) fn around(
        &self,
        kernels: &Kernels,
        (query, estimates): (&[f32], &[f32]),
        wanted: usize,
    ) -> Vec<usize> {
        let nearer = self.nearer * kernels.dot(query, query).sqrt();
        let spread: &[f32] = &self.spread;
        let ranks: Vec<f32> =
            estimates.iter().zip(spread).map(|(rank, spread)| rank - nearer * spread).collect();
        let mut near = least_of(kernels, &ranks, wanted);
        near.retain(|cell| self.starts[*cell as usize] < self.starts[*cell as usize + 1]);
        near.into_iter().map(|cell| cell as usize).collect()
    }

    /// About so many of the cells that are not empty and are likely to hold what is nearest to a query, the likeliest first;
    /// fewer when there are no more.
    /// `estimates`: see [`Cells::estimated`].
    // Long because: one loop over centres, whose state would be passed on as a whole.
    pub(crate) fn nearest(
        &self,
        kernels: &Kernels,
        (query, estimates): (&[f32], &[f32]),
        euclidean: bool,
        wanted: usize,
        scratch: &mut Scratch,
        work: &mut Work,
    ) -> Vec<Visit> {
        let starts: &[u32] = &self.starts;
        let filled = |cell: usize| starts[cell] < starts[cell + 1];
        match &*self.centers {
            Centers::Whole { mean, rows, graph } => {
                let n = self.count();
                let asked = ask(kernels, (mean, rows), query, euclidean);
                // More than are wanted: some are empty, and what is found is not quite in order.
                let some = (wanted + (wanted / 2).min(16) + 8).min(n);
                let mut all: Vec<Neighbour> = if let Some(graph) = graph {
                    let space = Space { kernels, rows, nodes: n };
                    let mut walker =
                        Walker { space: &space, query: &asked, heads: None, scratch, work: Work::default() };
                    let found = graph.walk(&mut walker, some, some);
                    *work = work.with(walker.work);
                    found
                } else {
                    let picks: Vec<u32> = if !estimates.is_empty() && 3 * some < 2 * n {
                        least_of(kernels, estimates, some)
                    } else {
                        (0..n as u32).collect()
                    };
                    let mut ranks = vec![0.0; picks.len()];
                    rows.rank_picked(kernels, &asked, 0.0, &picks, &mut ranks);
                    work.distances += picks.len();
                    picks.into_iter().zip(ranks).map(|(row, rank)| Neighbour { rank, row }).collect()
                };
                all.retain(|at| filled(at.row as usize));
                let nearer = self.nearer * kernels.dot(query, query).sqrt();
                let mut all: Vec<(Neighbour, f32)> = all
                    .into_iter()
                    .map(|at| (at.rank - nearer * self.spread[at.row as usize], at))
                    .map(|(rank, at)| (Neighbour { rank, ..at }, at.rank))
                    .collect();
                let nearer = |a: &(Neighbour, f32), b: &(Neighbour, f32)| a.0.cmp(&b.0);
                if wanted < all.len() {
                    all.select_nth_unstable_by(wanted, nearer);
                    all.truncate(wanted);
                }
                all.sort_unstable_by(nearer);
                all.into_iter().map(|(at, rank)| Visit { cell: at.row as usize, rank }).collect()
            }
            Centers::Crossed { left, right } => {
                let half = self.dimensions / 2;
                let side = |query: &[f32], centers: &[f32]| {
                    let mut all: Vec<(f32, u32)> =
                        gaps(kernels, query, centers, euclidean).zip(0..).collect();
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
                    let cell = left[l].1 as usize * right.len() + right[r].1 as usize;
                    if filled(cell) {
                        found.push(Visit { cell, rank: at.rank });
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::index::description::{Limit, Settings};
    use crate::index::structure::{Index, Structure};
    use crate::index::{Progress, Source};
    use crate::lines::Aligned;
    use crate::scan::{Allowed, Lens};
    use crate::until::Until;
    use rand::{Rng, SeedableRng};

    /// Tight and loose groups of rows in all directions.
    fn rows(n: usize, d: usize, metric: Metric) -> Vec<Vec<f32>> {
        let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(3);
        let groups: Vec<(Vec<f32>, f32)> = (0..24)
            .map(|g| ((0..d).map(|_| rng.random_range(-1.0f32..1.0)).collect(), [0.1, 0.6, 1.5][g % 3]))
            .collect();
        let mut row = |g: usize| -> Vec<f32> {
            let (center, spread) = &groups[g % groups.len()];
            center.iter().map(|c| c + spread * rng.random_range(-1.0f32..1.0)).collect()
        };
        (0..n).map(|i| metric.prepare(&row(i), d).unwrap()).collect()
    }

    fn index(rows: &[Vec<f32>], metric: Metric, recipe: &str) -> Index {
        let d = rows[0].len();
        let description = Description {
            recipe: String::new(),
            metric,
            dimensions: d,
            revision: 0,
            seed: 1,
            rows_at_build: 0,
            owner: String::new(),
        };
        let mut vectors = Aligned::with_capacity(rows.len() * d);
        rows.iter().for_each(|row| vectors.extend(row));
        let source = Source { description, vectors, numbers: (0..rows.len() as u64).collect() };
        Index::build(source, recipe.parse().unwrap(), 2, &Progress::default()).unwrap()
    }

    #[test]
    fn cells_are_visited_in_the_order_of_their_centre_less_a_share_of_their_spread() {
        // Few rows: none is held out of what cells know.
        let (n, d) = (900, 24);
        for (metric, share) in [(Metric::Cosine, 0.4), (Metric::Dot, 0.2), (Metric::Euclidean, 0.0)] {
            let rows = rows(n, d, metric);
            for recipe in ["cells(30)", "cells(30, router=graph)"] {
                let index = index(&rows, metric, recipe);
                let Structure::Cells(cells) = &index.route else { panic!("it is of cells") };
                for query in rows.iter().step_by(61) {
                    let query: Vec<f32> = query.iter().map(|x| 3.0 * x).collect();
                    let length = query.iter().map(|x| x * x).sum::<f32>().sqrt();
                    let mut scratch = Scratch::default();
                    let euclidean = metric == Metric::Euclidean;
                    let found = cells.nearest(
                        Kernels::best(),
                        (&query, &[]),
                        euclidean,
                        cells.count(),
                        &mut scratch,
                        &mut Work::default(),
                    );
                    let key = |cell: usize| {
                        let mut center = vec![0.0; d];
                        cells.centers.center(cell, &mut center);
                        let own: Vec<f32> = cells
                            .run(cell)
                            .0
                            .map(|node| &rows[index.numbers[node] as usize])
                            .map(|row| row.iter().zip(&center).map(|(x, c)| (x - c).powi(2)).sum())
                            .collect();
                        let spread = (own.iter().sum::<f32>() / own.len() as f32).sqrt();
                        metric.rank(Kernels::best(), &query, &center) - share * length * spread
                    };
                    let keys: Vec<f32> = found.iter().map(|at| key(at.cell)).collect();
                    let filled = (0..cells.count()).filter(|cell| !cells.run(*cell).0.is_empty()).count();
                    assert_eq!(found.len(), filled, "{metric} {recipe}");
                    let in_order = keys.windows(2).all(|two| two[0] <= two[1] + 1e-4 * two[1].abs().max(1.0));
                    assert!(in_order, "{metric} {recipe}: {keys:?}");
                }
            }
        }
    }

    #[test]
    fn all_cells_in_their_own_order_are_ranked_as_the_nearest_are() {
        for metric in [Metric::Cosine, Metric::Dot, Metric::Euclidean] {
            let rows = rows(900, 24, metric);
            for recipe in ["cells(30)", "cells(30, overlap=on) | bits", "cells(6x5)"] {
                let index = index(&rows, metric, recipe);
                let Structure::Cells(cells) = &index.route else { panic!("it is of cells") };
                for query in rows.iter().step_by(97) {
                    let euclidean = metric == Metric::Euclidean;
                    let (mut scratch, mut work) = (Scratch::default(), Work::default());
                    let (kernels, n) = (Kernels::best(), cells.count());
                    let mut near =
                        cells.nearest(kernels, (query, &[]), euclidean, n, &mut scratch, &mut work);
                    near.sort_by_key(|at| at.cell);
                    let ranked = cells.ranked(kernels, query, euclidean);
                    assert_eq!(ranked.len(), near.len(), "{metric} {recipe}");
                    for (a, b) in ranked.iter().zip(&near) {
                        assert_eq!(a.cell, b.cell, "{metric} {recipe}");
                        assert!((a.rank - b.rank).abs() <= 1e-4 * b.rank.abs().max(1.0), "{metric} {recipe}");
                    }
                }
            }
        }
    }

    #[test]
    fn codes_in_cells_tell_distances_with_and_without_a_filter() {
        let (n, d) = (900, 64);
        for metric in [Metric::Cosine, Metric::Dot, Metric::Euclidean] {
            // Far from the origin, so that centres matter.
            let mut rows = rows(n, d, metric);
            rows.iter_mut().flatten().step_by(3).for_each(|x| *x += 0.2);
            let prepared = |v: &[f32]| metric.prepare(v, d).unwrap();
            let rows: Vec<Vec<f32>> = rows.iter().map(|row| prepared(row)).collect();
            for recipe in ["cells(20) | bits(4)", "cells(5x4) | bits(4)"] {
                let index = index(&rows, metric, recipe);
                let settings = Settings { visit: 20, ..Settings::default() };
                let mut all = FixedBitSet::with_capacity(n);
                all.insert_range(..);
                for query in rows.iter().step_by(53) {
                    let query: Vec<f32> = query.iter().map(|x| 1.5 * x).collect();
                    let searched = index.search(&query, n, settings, Allowed::All, Limit::NONE).0;
                    let lens = (Lens::plain(&all), n);
                    let filtered = index.filtered(&query, n, settings, lens).unwrap().run(Until::NONE).0;
                    for found in [searched, filtered] {
                        assert_eq!(found.len(), n);
                        let truth = |at: &Neighbour| {
                            let row = &rows[index.numbers()[at.row as usize] as usize];
                            metric.rank(Kernels::best(), &query, row)
                        };
                        let off: f32 = found.iter().map(|at| (at.rank - truth(at)).abs()).sum();
                        // Of the lengths, as errors of codes are; all rows are found.
                        let length = |v: &[f32]| v.iter().map(|x| x * x).sum::<f32>().sqrt();
                        let all: f32 = rows.iter().map(|row| length(&query) * length(row)).sum();
                        assert!(off < 0.02 * all, "{metric} {recipe}: {}", off / all);
                    }
                }
            }
        }
    }

    #[test]
    fn a_block_by_itself_is_ranked_as_in_a_run() {
        for metric in [Metric::Cosine, Metric::Dot, Metric::Euclidean] {
            let rows = rows(900, 24, metric);
            for recipe in ["cells(7) | bits", "cells(7) | pq(6, bits=4)"] {
                let index = index(&rows, metric, recipe);
                let Structure::Cells(cells) = &index.route else { panic!("it is of cells") };
                let (kernels, euclidean) = (Kernels::best(), metric == Metric::Euclidean);
                let (turned, base) = index.transform.ask(kernels, &rows[5], euclidean);
                let asked = index.rows.ask(kernels, &turned, euclidean, base);
                for cell in 0..cells.count() {
                    let (nodes, first_block) = cells.run(cell);
                    let mut whole = vec![0.0; nodes.len()];
                    index.rows.rank_run(kernels, &asked, 0.25, nodes.clone(), first_block, &mut whole);
                    for (i, whole) in whole.chunks(blocks::ROWS).enumerate() {
                        let first = nodes.start + i * blocks::ROWS;
                        let some = first..first + whole.len();
                        let mut ranks = [0.0; blocks::ROWS];
                        let (worst, block) = (whole[0], (some, first_block + i));
                        let below = index.rows.rank_block(kernels, &asked, block, (0.25, worst), &mut ranks);
                        assert_eq!(u64::from(below) >> whole.len(), 0, "{metric} {recipe}");
                        for (slot, (own, want)) in ranks.iter().zip(whole).enumerate() {
                            // Factors are told by eight bits.
                            assert!(
                                (own - want).abs() <= 0.01 * want.abs().max(1.0),
                                "{metric} {recipe}: {own} {want}"
                            );
                            assert_eq!(below >> slot & 1 == 1, *own < worst, "{metric} {recipe}");
                        }
                    }
                }
            }
        }
    }
}
