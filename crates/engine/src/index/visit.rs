//! Searches by cells: the nearest ones are looked into, and more of them where a filter leaves few rows in each.

use super::cells::Cells;
use super::graph::{self, Scratch};
use super::rows::Asked;
use super::spill::{MOST_PLACES, Pool};
use super::{Index, Limit, Run, Work, late};
use crate::kernels::Kernels;
use crate::scan::{Allowed, Nearest, Neighbour};
use fixedbitset::FixedBitSet;

/// What a search by cells looks for.
pub(super) struct Visits<'a> {
    pub(super) cells: &'a Cells,
    pub(super) k: usize,
    /// How many candidates are wanted.
    pub(super) wanted: usize,
    /// How many cells are looked into.
    pub(super) visit: usize,
    pub(super) allowed: Allowed<'a>,
    pub(super) limit: Limit,
}

/// How many times the usual cells are looked into where a filter allows this share of the rows: few allowed rows lie
/// farther apart. Measured with `examples/filtered`: recall stays what it is without a filter.
pub(super) fn wider(share: f64) -> f64 {
    share.max(1e-9).powf(-0.25)
}

/// Candidates on their way.
enum Found {
    /// Of rows that lie in one cell each.
    Rows(Nearest),
    /// Of rows that may lie in several.
    Places(Pool),
}

impl Found {
    fn holds(&self, rows: usize) -> bool {
        match self {
            Found::Rows(nearest) => nearest.len() >= rows,
            Found::Places(pool) => pool.holds(rows),
        }
    }
}

impl Index {
    /// The candidates that cells tell, nearest first where they are not ranked anew, and whether they are as good as the
    /// settings promise.
    pub(super) fn visit(
        &self,
        visits: &Visits<'_>,
        (query, asked): (&[f32], &Asked<'_>),
        scratch: &mut Scratch,
        work: &mut Work,
    ) -> (Vec<Neighbour>, bool) {
        // Most rows that are found are found in two cells; few enough of them may take all the places there are.
        let free = matches!(visits.allowed, Allowed::All);
        let (rows, complete, full) =
            self.look(visits, if free { 2 } else { MOST_PLACES }, (query, asked), scratch, work);
        if free && full && rows.len() < visits.k {
            let (rows, complete, _) = self.look(visits, MOST_PLACES, (query, asked), scratch, work);
            return (rows, complete);
        }
        (rows, complete)
    }

    /// As [`Index::visit`], with room for so many places of each row; and whether that was all taken.
    fn look(
        &self,
        visits: &Visits<'_>,
        places: usize,
        (query, asked): (&[f32], &Asked<'_>),
        scratch: &mut Scratch,
        work: &mut Work,
    ) -> (Vec<Neighbour>, bool, bool) {
        let Visits { cells, k, wanted, visit, allowed, limit } = *visits;
        let (kernels, euclidean) = (Kernels::best(), asked.euclidean);
        let spill = cells.spill.as_ref().zip(asked.tables());
        let mut found = match spill {
            Some(_) => Found::Places(Pool::new(wanted, places)),
            None => Found::Rows(Nearest::new(wanted)),
        };
        // A wider look for cells may put them in another order; none is looked into twice.
        let mut visited = FixedBitSet::with_capacity(cells.count());
        let mut want = visit;
        if let Allowed::Only(_) = allowed {
            // Cells without an allowed row are passed over, and more of them are looked into.
            want = (2 * want).min(cells.count());
        }
        // Where few rows of a cell are allowed the k nearest allowed ones lie farther apart.
        let (enough, mut looked_at, mut looked_into) = match allowed {
            Allowed::All => (0, 0, 0),
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
            if let (Some((spill, _)), Some(first)) = (spill, list.first()) {
                spill.rows.call(kernels, first.cell);
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
                work.distances += match (spill, &mut found) {
                    (Some((spill, tables)), Found::Places(pool)) => {
                        if looked_into % 16 == 0 && late(limit.until) {
                            break;
                        }
                        let rank = at.rank + asked.rank_of_all();
                        let next = list.get(i + 1).map(|next| next.cell);
                        spill.rows.look_into((kernels, tables), (at.cell, rank), next, allowed, pool)
                    }
                    (_, Found::Rows(nearest)) => {
                        // What codes in cells do not tell; rows kept whole tell all of it themselves.
                        let offset = if self.recipe.store.tells_rest() {
                            cells.offset(kernels, query, euclidean, at)
                        } else {
                            0.0
                        };
                        let run = Run { nodes, first_block, offset, until: limit.until };
                        self.look_into(kernels, asked, run, allowed, nearest)
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
        let full = matches!(&found, Found::Places(pool) if pool.is_full());
        let found = match found {
            Found::Rows(nearest) => nearest.into_sorted(),
            Found::Places(pool) => {
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
