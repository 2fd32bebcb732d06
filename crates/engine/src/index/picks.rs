//! Nodes to be compared cell by cell.

use std::ops::Range;

/// Nodes, in the order of their cells: kept from one search to the next, for the room they take.
#[derive(Default)]
pub(crate) struct Picks {
    pub(crate) nodes: Vec<u32>,
    pub(crate) ranks: Vec<f32>,
    /// Each cell, the rank of its centre, and how many nodes there are up to its end.
    pub(crate) cells: Vec<(usize, f32, usize)>,
}

impl Picks {
    pub(crate) fn clear(&mut self) {
        self.nodes.clear();
        self.cells.clear();
    }
}

/// Which of the nodes are those of each cell; the cell, and the rank of its centre.
pub(crate) fn runs(cells: &[(usize, f32, usize)]) -> impl Iterator<Item = (Range<usize>, usize, f32)> {
    cells.iter().scan(0, |from, &(cell, rank, to)| Some((std::mem::replace(from, to)..to, cell, rank)))
}
