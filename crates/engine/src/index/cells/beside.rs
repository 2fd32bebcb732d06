//! Cells that are kept beside a graph for searches under a filter.
//!
//! A walk cannot skip what a filter bars: where that is much, it finds some of the nearest allowed nodes at many times the
//! cost. So a graph keeps cells as well: learned centres, and for each of them one-bit codes of its rows, as
//! [`crate::index::cells::overlap`] keeps them, each row once. A filtered search goes from cell to cell.

use crate::Metric;
use crate::index::build::crew::Crew;
use crate::index::build::kmeans;
use crate::index::cells::layout::{Cells, Centers};
use crate::index::cells::overlap::Places;
use crate::index::description::Description;
use crate::index::progress::BuildError;
use crate::index::store::bits::Rotation;
use crate::index::store::encode::Plain;
use crate::recipe::{Recipe, Route};
use crate::scan::Lens;
use fixedbitset::FixedBitSet;
use rand::SeedableRng;
use std::sync::Arc;

pub(crate) struct Beside {
    /// Of the vectors as they were given; its codes are the places of what lies in several cells, but none does.
    pub(crate) cells: Cells,
    pub(crate) rotation: Arc<Rotation>,
    /// The cell of each node.
    cell_of: Vec<u16>,
}

/// Fewer rows are scanned as fast.
const LEAST_ROWS: usize = 1000;
/// Cells that 16 bits tell apart.
const MOST: usize = 1 << 16;
/// Rows for each centre that is learned.
const EACH: usize = 32;
/// Rounds that centres settle in: which rows lie together need not be known well.
const ROUNDS: usize = 6;

/// What cells beside a graph learn.
pub(crate) struct Learned {
    centers: Arc<Centers>,
    rotation: Arc<Rotation>,
}

impl Learned {
    pub(crate) fn of(beside: &Beside) -> Learned {
        Learned { centers: beside.cells.centers.clone(), rotation: beside.rotation.clone() }
    }

    pub(crate) fn learn(
        crew: &Crew<'_>,
        plain: &Plain<'_>,
        description: &Description,
    ) -> Result<Learned, BuildError> {
        let (n, d, seed) = (plain.len(), plain.dimensions, description.seed);
        let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
        let count = Recipe::cells_beside(n);
        let rows = rand::seq::index::sample(&mut rng, n, (EACH * count).min(n));
        let sample: Vec<f32> = rows.iter().flat_map(|row| plain.row(row)).copied().collect();
        let centers = kmeans::centers(crew, &sample, d, count, ROUNDS, seed)?;
        let centers = Centers::scanned(crew, centers, description, d)?;
        Ok(Learned { centers: Arc::new(centers), rotation: Arc::new(Rotation::random(d, seed)) })
    }
}

impl Beside {
    pub(crate) fn new(cells: Cells, rotation: Arc<Rotation>, n: usize) -> Beside {
        let mut cell_of = vec![u16::MAX; n];
        if let Some(overlap) = &cells.overlap {
            for cell in 0..cells.count() {
                overlap.taken(cell).for_each(|node| cell_of[node as usize] = cell as u16);
            }
        }
        Beside { cells, rotation, cell_of }
    }

    /// The nodes in some cells that may answer, of `n` that may.
    pub(crate) fn pick(&self, cells: &FixedBitSet, (allowed, n): (Lens<'_>, usize)) -> Vec<u32> {
        let cell_of = &self.cell_of[..];
        allowed.slots(cell_of.len(), n, |node| cells.contains(cell_of[node as usize].into()))
    }

    /// Bytes on the heap that are in no file.
    pub(crate) fn n_bytes_held(&self) -> usize {
        std::mem::size_of_val(&self.cell_of[..])
    }

    pub(crate) fn build(
        crew: &Crew<'_>,
        learned: Learned,
        plain: &Plain<'_>,
        metric: Metric,
    ) -> Result<Beside, BuildError> {
        let Learned { centers, rotation } = learned;
        let d = plain.dimensions;
        let gathered: Vec<f32>;
        let rows = match plain.order {
            Some(_) => {
                gathered = (0..plain.len()).flat_map(|node| plain.row(node)).copied().collect();
                &gathered
            }
            None => plain.rows,
        };
        let cell_of = centers.assign(crew, rows, d)?;
        let (starts, _) = Cells::sort(&cell_of, centers.count(d));
        let spread = Cells::spread(crew.kernels, &centers, (rows, d), &cell_of, |_| true);
        let mut cells = Cells::new((metric, d), centers, starts.into(), spread.into());
        let Centers::Whole { mean, .. } = &*cells.centers else { unreachable!("there is one codebook") };
        let all = cells.centers.plain(d);
        cells.overlap = Some(Places::once(crew, &rotation, plain, &cell_of, &all)?);
        cells.center_codes = Some(Places::of_centers(crew, &rotation, (&all, mean), plain.euclidean)?);
        Ok(Beside::new(cells, rotation, plain.len()))
    }

    pub(crate) fn n_bytes(&self) -> usize {
        self.cells.n_bytes() + 4 * self.rotation.signs.len()
    }
}

impl Recipe {
    /// Whether an index keeps such cells: with a graph, where scans are not as quick.
    pub(crate) fn has_cells_beside(&self, rows: usize) -> bool {
        matches!(self.route, Route::Graph(_)) && rows >= LEAST_ROWS
    }

    /// How many of them there are for so many rows.
    pub(crate) fn cells_beside(rows: usize) -> usize {
        (2 * rows.isqrt()).clamp(1, MOST)
    }
}
