//! A column in two dimensions: along the two directions in which its vectors differ most.

use super::error::MeasureError;
use super::set::by_number;
use crate::index::{BuildError, Principal, Progress};
use crate::rows::Table;
use fixedbitset::FixedBitSet;
use rand::SeedableRng;
use rand::seq::SliceRandom;

/// Rows that directions are found from; fewer where vectors are long, since the time grows with the cube of the smaller.
const ROWS: usize = 4000;
const ROWS_OF_LONG: usize = 512;

/// Some rows in two dimensions, and how others are placed among them.
pub struct Map {
    pub rows: Vec<u32>,
    /// Of each row where it lies.
    pub places: Vec<[f32; 2]>,
    /// The share of the variance along each direction, 0 to 1.
    pub explained: [f64; 2],
    /// Rows that could have been picked.
    pub n_rows: usize,
    principal: Principal,
}

impl Map {
    /// Where a prepared vector of the column lies.
    pub fn place(&self, vector: &[f32]) -> [f32; 2] {
        self.principal.place(vector)
    }
}

/// Places up to `n` rows of a column, the same for every node and restart; of `allowed` where that is given. The
/// directions are those of all rows (Pearson, 1901), so that maps of different filters can be laid over each other.
pub fn map(
    table: &Table,
    column: usize,
    allowed: Option<&FixedBitSet>,
    n: usize,
    (threads, progress): (usize, &Progress),
) -> Result<Map, MeasureError> {
    let all = by_number(table, column);
    if all.len() < 2 {
        return Err(MeasureError::TooFewRows(all.len()));
    }
    let vectors = &table.vectors()[column].vectors;
    let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(1);
    let mut shuffled = all;
    shuffled.shuffle(&mut rng);
    let rows = if vectors.dimensions() <= ROWS_OF_LONG { ROWS } else { ROWS_OF_LONG };
    let some = &shuffled[..shuffled.len().min(rows)];
    let values: Vec<f32> = some.iter().flat_map(|row| vectors.row(*row).iter().copied()).collect();
    let principal = Principal::of(&values, vectors.dimensions(), (threads, progress))?;
    shuffled.retain(|row| allowed.is_none_or(|set| set.contains(*row as usize)));
    let n_rows = shuffled.len();
    shuffled.truncate(n);
    let mut places = Vec::with_capacity(shuffled.len());
    for some in shuffled.chunks(1024) {
        if progress.is_cancelled() {
            return Err(MeasureError::Build(BuildError::Cancelled));
        }
        places.extend(some.iter().map(|row| principal.place(vectors.row(*row))));
    }
    Ok(Map { rows: shuffled, places, explained: principal.explained, n_rows, principal })
}
