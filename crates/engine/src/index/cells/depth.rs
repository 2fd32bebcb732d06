//! How many cells hold the neighbours of a record, down to how many of them.
//!
//! Of a filter that allows a tenth by chance the ten nearest are ten of the hundred nearest, and those lie in more cells. How
//! many more is learned from the rows of the index: it differs from one collection to the next, and grows with its size.

use crate::index::build::crew::Crew;
use crate::index::cells::layout::Cells;
use crate::index::cells::widths::{self, USUAL};
use crate::index::progress::BuildError;
use crate::index::reach::{Answers, DEPTHS, between};
use crate::index::structure::{Index, Structure};

/// So many of the neighbours the cells are to hold: about as many as walks with usual settings find.
const HELD: f64 = 0.99;

/// How many cells are needed where nothing could be learned: of few rows, a good part.
fn usual(cells: usize) -> Vec<f32> {
    let of = |depth: u32| (0.27 * cells as f64 * (f64::from(depth) / 10.0).powf(USUAL)) as f32;
    DEPTHS.iter().map(|depth| of(*depth).clamp(1.0, cells.max(1) as f32)).collect()
}

/// The cells that each node lies in.
struct Homes {
    starts: Vec<u32>,
    cells: Vec<u32>,
}

impl Homes {
    fn of(cells: &Cells, n: usize) -> Homes {
        let each = |look: &mut dyn FnMut(usize, u32)| {
            for cell in 0..cells.count() {
                match &cells.overlap {
                    Some(places) => places.taken(cell).for_each(|node| look(node as usize, cell as u32)),
                    None => cells.run(cell).0.for_each(|node| look(node, cell as u32)),
                }
            }
        };
        let mut starts = vec![0u32; n + 1];
        each(&mut |node, _| starts[node + 1] += 1);
        (0..n).for_each(|node| starts[node + 1] += starts[node]);
        let mut all = vec![0; starts[n] as usize];
        let mut next = starts.clone();
        each(&mut |node, cell| {
            all[next[node] as usize] = cell;
            next[node] += 1;
        });
        Homes { starts, cells: all }
    }

    fn of_node(&self, node: usize) -> &[u32] {
        &self.cells[self.starts[node] as usize..self.starts[node + 1] as usize]
    }
}

impl Index {
    /// Learns how many of the cells nearest to a record hold its neighbours, beside a graph; of cells, how wide searches under
    /// filters are. `row_of`: the row of each node.
    pub(crate) fn learn_depths(
        &self,
        crew: &Crew<'_>,
        answers: &Answers,
        row_of: impl Fn(usize) -> usize,
    ) -> Result<(Vec<f32>, Vec<f32>), BuildError> {
        // Near the limits of f32 distances may be no numbers, and then there are no neighbours.
        let is_known = answers.iter().any(|(_, nearest)| !nearest.is_empty());
        let usual = (usual(self.cells().map_or(1, Cells::count)), widths::usual());
        let Some(cells) = self.cells().filter(|_| is_known) else {
            return Ok(usual);
        };
        crew.progress.begin("learning cells of neighbours", answers.len());
        let homes = Homes::of(cells, self.len());
        let mut node_of = vec![0; self.len()];
        (0..self.len()).for_each(|node| node_of[row_of(node)] = node);
        let kernels = crew.kernels;
        let euclidean = self.description.metric == crate::Metric::Euclidean;
        // For each neighbour of each row the place of its nearest cell in their order.
        let found = crew.pieces(answers.len(), 16, |piece| {
            let each = answers[piece].iter().map(|(vector, nearest)| {
                let turned;
                let query = match self.beside {
                    Some(_) => &vector[..],
                    None => {
                        turned = self.transform.ask(kernels, vector, euclidean).0;
                        &turned[..]
                    }
                };
                let mut order = cells.ranked(kernels, query, euclidean);
                order.sort_unstable_by(|a, b| a.rank.total_cmp(&b.rank));
                let mut place = vec![u32::MAX; cells.count()];
                order.iter().zip(1..).for_each(|(at, nth)| place[at.cell] = nth);
                let of = |node: usize| homes.of_node(node).iter().map(|cell| place[*cell as usize]).min();
                nearest.iter().map(|at| of(node_of[at.row as usize]).unwrap_or(u32::MAX)).collect()
            });
            each.collect::<Vec<Vec<u32>>>()
        })?;
        let found = found.concat();
        if let Structure::Cells(_) = self.route {
            return Ok((usual.0, self.learn_widths(crew, cells.count(), answers, &found)?));
        }
        let mut needed = Vec::with_capacity(DEPTHS.len());
        for depth in DEPTHS {
            let mut places: Vec<u32> = found
                .iter()
                .flat_map(|places| &places[..places.len().min(depth as usize)])
                .copied()
                .collect();
            let at = ((HELD * places.len() as f64) as usize).min(places.len() - 1);
            let own = places.select_nth_unstable(at).1;
            needed.push((*own).min(cells.count() as u32).max(1) as f32);
        }
        Ok((needed, usual.1))
    }

    /// How many cells hold nearly all of the nearest rows, down to this depth.
    pub(crate) fn cells_of(&self, depth: f64) -> f64 {
        let deepest = f64::from(DEPTHS[DEPTHS.len() - 1]);
        let known = f64::from(between(&self.depths, depth.clamp(1.0, deepest)));
        known * (depth / deepest).max(1.0).powf(USUAL)
    }

    /// How many times as many cells hold the `k` nearest rows that a filter allows as hold the `k` nearest of all, where it
    /// allows this share of what is near.
    pub(crate) fn deeper(&self, k: usize, share: f64) -> f64 {
        let k = k.max(1) as f64;
        (self.cells_of(k / share.min(1.0)) / self.cells_of(k)).max(1.0)
    }
}
