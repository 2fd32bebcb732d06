//! Searches by cells: visits the nearest ones, and more of them if a filter leaves few rows in each.

use crate::index::cells::layout::{Cells, wider};
use crate::index::cells::overlap::MOST_PLACES;
use crate::index::cells::overlap::Pool;
use crate::index::description::Limit;
use crate::index::description::Work;
use crate::index::description::late;
use crate::index::graph::walk as graph;
use crate::index::graph::walk::Scratch;
use crate::index::store::prepared::PreparedQuery;
use crate::index::store::runs::Run;
use crate::index::structure::Index;
use crate::kernels::Kernels;
use crate::scan::{Allowed, Nearest, Neighbour};
use fixedbitset::FixedBitSet;

/// What a search by cells looks for.
pub(crate) struct Visits<'a> {
    pub(crate) cells: &'a Cells,
    pub(crate) k: usize,
    /// How many candidates are wanted.
    pub(crate) wanted: usize,
    /// How many cells are visited.
    pub(crate) visit: usize,
    pub(crate) allowed: Allowed<'a>,
    pub(crate) limit: Limit,
}

/// Candidates on their way.
enum Structure {
    /// Of rows that lie in one cell each.
    Rows(Nearest),
    /// Of rows that may lie in several.
    Places(Pool),
}

impl Structure {
    fn holds(&self, rows: usize) -> bool {
        match self {
            Structure::Rows(nearest) => nearest.len() >= rows,
            Structure::Places(pool) => pool.holds(rows),
        }
    }
}

impl Index {
    /// The candidates from the cells, nearest first if they are not re-ranked, and whether they are as good as the
    /// settings promise.
    pub(crate) fn visit(
        &self,
        visits: &Visits<'_>,
        (query, asked): (&[f32], &PreparedQuery<'_>),
        scratch: &mut Scratch,
        work: &mut Work,
    ) -> (Vec<Neighbour>, bool) {
        // Most rows that are found are found in two cells; few enough of them may take all the places there are.
        let free = !matches!(visits.allowed, Allowed::Only(_));
        let (rows, complete, full) =
            self.look(visits, if free { 2 } else { MOST_PLACES }, (query, asked), scratch, work);
        if free && full && rows.len() < visits.k {
            let (rows, complete, _) = self.look(visits, MOST_PLACES, (query, asked), scratch, work);
            return (rows, complete);
        }
        (rows, complete)
    }

    /// As [`Index::visit`], with room for so many places of each row; and whether that was all taken.
    // Long because: one loop over cells, whose state would be passed on as a whole.
    fn look(
        &self,
        visits: &Visits<'_>,
        places: usize,
        (query, asked): (&[f32], &PreparedQuery<'_>),
        scratch: &mut Scratch,
        work: &mut Work,
    ) -> (Vec<Neighbour>, bool, bool) {
        let Visits { cells, k, wanted, visit, allowed, limit } = *visits;
        let (kernels, euclidean) = (Kernels::best(), asked.euclidean);
        let overlap = cells.overlap.as_ref().zip(asked.tables());
        let mut found = match overlap {
            Some(_) => Structure::Places(Pool::new(wanted, places)),
            None => Structure::Rows(Nearest::new(wanted)),
        };
        // A wider look for cells may put them in another order; none is visited twice.
        let mut visited = FixedBitSet::with_capacity(cells.count());
        let mut want = visit;
        if let Allowed::Only(_) = allowed {
            // Cells without an allowed row are skipped, and further ones are visited.
            want = (2 * want).min(cells.count());
        }
        // Where few rows of a cell are allowed the k nearest allowed ones lie farther apart.
        let (enough, mut looked_at, mut looked_into) = match allowed {
            Allowed::All | Allowed::Except(_) => (0, 0, 0),
            Allowed::Only(set) => {
                let share = set.count_ones(..) as f64 / self.len() as f64;
                let usual = visit.min(cells.count()) * self.len() / cells.count().max(1);
                ((usual as f64 * share * wider(share)) as usize, 0, 0)
            }
        };
        let mut complete = true;
        loop {
            let list = cells.nearest(kernels, (query, asked.tables()), euclidean, want, scratch, work);
            if let (Allowed::Only(set), true, 0) = (allowed, limit.max_distances < usize::MAX, looked_into) {
                let near = list.iter().map(|at| cells.run(at.cell).0);
                let (n_allowed, n_near) =
                    near.fold((0, 0), |n, run| (n.0 + set.count_ones(run.clone()), n.1 + run.len()));
                if graph::lies_far(set, n_allowed, n_near) {
                    complete = false;
                    break;
                }
            }
            if let (Some((overlap, _)), Some(first)) = (overlap, list.first()) {
                overlap.rows.prefetch(kernels, first.cell);
            }
            for (i, &at) in list.iter().enumerate() {
                if looked_into >= visit && looked_at >= enough && found.holds(k) {
                    break;
                }
                if visited.put(at.cell) {
                    continue;
                }
                let (nodes, first_block) = cells.run(at.cell);
                if let Allowed::Only(set) = allowed {
                    let n = set.count_ones(nodes.clone());
                    if n == 0 {
                        continue;
                    }
                    looked_at += n;
                }
                looked_into += 1;
                work.hops += 1;
                work.distances += match (overlap, &mut found) {
                    (Some((overlap, tables)), Structure::Places(pool)) => {
                        if looked_into % 16 == 0 && late(limit.until) {
                            break;
                        }
                        let rank = at.rank + asked.rank_of_all();
                        let next = list.get(i + 1).map(|next| next.cell);
                        overlap.rows.look_into((kernels, tables), (at.cell, rank), next, allowed, pool)
                    }
                    (_, Structure::Rows(nearest)) => {
                        // What codes in cells do not tell; rows kept whole tell all of it themselves.
                        let offset = if self.recipe.store.tells_residual() {
                            cells.offset(kernels, query, euclidean, at)
                        } else {
                            0.0
                        };
                        let run = Run { nodes, first_block, offset, until: limit.until };
                        self.rank_allowed(kernels, asked, run, allowed, nearest)
                    }
                    _ => unreachable!("places are of cells with spilled rows"),
                };
            }
            let reached = looked_into >= visit && looked_at >= enough;
            if reached && found.holds(k) || want >= cells.count() || late(limit.until) {
                break;
            }
            if work.distances > limit.max_distances {
                complete = false;
                break;
            }
            want = (2 * want).min(cells.count());
        }
        let full = matches!(&found, Structure::Places(pool) if pool.is_full());
        let found = match found {
            Structure::Rows(nearest) => nearest.into_sorted(),
            Structure::Places(pool) => {
                let mut rows = pool.into_rows(kernels, wanted);
                if self.finer.is_none() {
                    rows.sort_unstable();
                }
                rows
            }
        };
        (found, complete, full)
    }
}
