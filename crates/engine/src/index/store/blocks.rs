//! 4-bit codes of 32 rows at a time, transposed so that registers look up many rows at once (André, Kermarrec and
//! Le Scouarnec, "Cache locality is not enough", VLDB 2015).

use crate::kernels::{Kernels, MOST_LOOKED_UP, put_table, tables_len};

/// Rows in a block.
pub(crate) const ROWS: usize = 32;

/// Bytes of a block of codes with so many places.
pub(crate) fn n_bytes(places: usize) -> usize {
    ROWS * places.div_ceil(2)
}

/// Writes the codes of one row into its block.
pub(crate) fn put(block: &mut [u8], row: usize, codes: &[u8]) {
    for (place, code) in codes.iter().enumerate() {
        block[place / 2 * ROWS + row] |= code << (place % 2 * 4);
    }
}

/// Tables of 16 values for each place, in bytes: `sum = step * looked up + base`.
pub(crate) struct Tables {
    bytes: Vec<u8>,
    places: usize,
    step: f32,
    base: f32,
}

/// What cuts so wide a range into the steps of a byte: a step, and how many there are to one. Zeros where it has no width.
fn steps(widest: f32) -> (f32, f32) {
    let step = widest / f32::from(MOST_LOOKED_UP);
    if step.is_normal() { (step, 1.0 / step) } else { (0.0, 0.0) }
}

impl Tables {
    /// Tables of the signs of four dimensions each: place g says `sum ±x[4 g + i] / 2`, plus where bit i is set.
    pub(crate) fn of_signs(kernels: &Kernels, rotated: &[f32]) -> Tables {
        // The least sum of a place is that of all wrong signs, the greatest its opposite.
        let (mut widest, mut reach) = (0.0f32, 0.0f32);
        for four in rotated.as_chunks::<4>().0 {
            let sum: f32 = four.iter().map(|x| x.abs()).sum();
            widest = widest.max(sum);
            reach += sum;
        }
        let (step, inverse) = steps(widest);
        let places = rotated.len() / 4;
        let mut bytes = vec![0; tables_len(places)];
        kernels.sign_tables(rotated, inverse, &mut bytes);
        Tables { bytes, places, step, base: -reach / 2.0 }
    }

    /// From 16 values for each place.
    pub(crate) fn new(values: &[f32]) -> Tables {
        let bounds = |table: &[f32]| {
            table
                .iter()
                .fold((f32::INFINITY, f32::NEG_INFINITY), |(low, high), v| (low.min(*v), high.max(*v)))
        };
        let (mut widest, mut base) = (0.0f32, 0.0f32);
        for table in values.chunks(16) {
            let (low, high) = bounds(table);
            widest = widest.max(high - low);
            base += low;
        }
        let (step, inverse) = steps(widest);
        let places = values.len() / 16;
        let mut bytes = vec![0; tables_len(places)];
        for (place, table) in values.as_chunks::<16>().0.iter().enumerate() {
            let low = bounds(table).0;
            let byte = |v: f32| ((v - low) * inverse + 0.5).min(f32::from(MOST_LOOKED_UP)) as u8;
            put_table(&mut bytes, place, table.map(byte));
        }
        Tables { bytes, places, step, base }
    }

    /// Bytes of a block that these tables look up.
    pub(crate) fn n_bytes(&self) -> usize {
        n_bytes(self.places)
    }

    /// For the 32 links of a block: `rank + a + b * sum`, and which of those are below `worst`, bit by bit. A word
    /// of `numbers` holds the upper halves of a and b. What is read next, `soon`, is called for meanwhile.
    #[inline]
    pub(crate) fn estimate(
        &self,
        kernels: &Kernels,
        block: &[u8],
        numbers: &[u32; ROWS],
        (rank, worst): (f32, f32),
        soon: &[u8],
        out: &mut [f32; ROWS],
    ) -> u32 {
        kernels.estimate(&self.bytes, block, numbers, [self.step, self.base, rank, worst], soon, out)
    }

    /// The sums of the 32 rows of a block.
    #[inline]
    pub(crate) fn sums(&self, kernels: &Kernels, block: &[u8], out: &mut [f32; ROWS]) {
        let mut looked = [0; ROWS];
        kernels.look_up(&self.bytes, block, &mut looked);
        out.iter_mut().zip(looked).for_each(|(o, l)| *o = self.step * l as f32 + self.base);
    }
}
