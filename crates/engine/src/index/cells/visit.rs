//! Searches by cells: visits the nearest ones.

use crate::index::cells::layout::Cells;
use crate::index::cells::overlap::MOST_PLACES;
use crate::index::description::Limit;
use crate::index::description::Work;
use crate::index::graph::walk::Scratch;
use crate::index::pool::Pool;
use crate::index::store::blocks;
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
    /// All, or all but a few.
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
    /// The candidates from the cells, nearest first if they are not re-ranked.
    pub(crate) fn visit(
        &self,
        visits: &Visits<'_>,
        asked: (&[f32], &PreparedQuery<'_>),
        scratch: &mut Scratch,
        work: &mut Work,
    ) -> Vec<Neighbour> {
        // Most rows that are found are found in two cells; few enough of them may take all the places there are.
        let (rows, full) = self.look(visits, 2, asked, scratch, work);
        if full && rows.len() < visits.k {
            return self.look(visits, MOST_PLACES, asked, scratch, work).0;
        }
        rows
    }

    /// As [`Index::visit`], with room for so many places of each row; and whether that was all taken.
    fn look(
        &self,
        visits: &Visits<'_>,
        places: usize,
        (query, asked): (&[f32], &PreparedQuery<'_>),
        scratch: &mut Scratch,
        work: &mut Work,
    ) -> (Vec<Neighbour>, bool) {
        let Visits { cells, k, wanted, visit, allowed, limit } = *visits;
        let (kernels, euclidean) = (Kernels::best(), asked.euclidean);
        let overlap = cells.overlap.as_ref().zip(asked.tables());
        let mut found = match overlap {
            Some(_) => Structure::Places(Pool::new(wanted, places)),
            None => Structure::Rows(Nearest::new(wanted)),
        };
        // A wider look for cells may put them in another order; none is visited twice.
        let mut visited = FixedBitSet::with_capacity(cells.count());
        let (mut want, mut looked_into) = (visit, 0);
        let estimates = cells.estimated(kernels, asked.tables());
        loop {
            let list = cells.nearest(kernels, (query, &estimates), euclidean, want, scratch, work);
            if let (Some((overlap, _)), Some(first)) = (overlap, list.first()) {
                overlap.prefetch(kernels, first.cell);
            }
            for (i, &at) in list.iter().enumerate() {
                if looked_into >= visit && found.holds(k) {
                    break;
                }
                if visited.put(at.cell) {
                    continue;
                }
                let (nodes, first_block) = cells.run(at.cell);
                looked_into += 1;
                work.hops += 1;
                work.distances += match (overlap, &mut found) {
                    (Some((overlap, tables)), Structure::Places(pool)) => {
                        if looked_into % 16 == 0 && limit.until.is_over() {
                            break;
                        }
                        let rank = at.rank + asked.rank_of_all();
                        let next = list.get(i + 1).map(|next| next.cell);
                        overlap.look_into((kernels, tables), (at.cell, rank), next, (allowed, false), pool)
                            * blocks::ROWS
                    }
                    (_, Structure::Rows(nearest)) => {
                        // What codes in cells do not tell; rows kept whole tell all of it themselves.
                        let offset = if self.recipe.store.is_code() {
                            cells.offset(kernels, (&self.rows, asked), at)
                        } else {
                            0.0
                        };
                        let run = Run { nodes, first_block, offset, until: limit.until };
                        self.rank_allowed(kernels, asked, run, allowed, nearest)
                    }
                    _ => unreachable!("places are of cells with spilled rows"),
                };
            }
            if looked_into >= visit && found.holds(k) || want >= cells.count() || limit.until.is_over() {
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
        (found, full)
    }
}
