//! Vectors as they were given, where searches compare them at unit length.
//!
//! The unit vector times the length that the given one had is the given one, but for a rounding of about one step of an
//! f32 in each component. So a row keeps that length, and the steps in 2 bits each: what was given comes back bit by bit,
//! and takes a fifteenth of its bytes. A vector whose numbers differ so much that the unit vector loses some is kept whole.

use crate::rows::matrix::Matrix;
use std::collections::BTreeMap;
use std::sync::Arc;

/// What leads from a unit vector to the vector that was given.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Away {
    /// The length, and a step for each component.
    Steps(Vec<u8>),
    Whole(Arc<[f32]>),
}

/// Bytes of a length.
const LENGTH: usize = size_of::<f64>();

/// Bytes of a row.
pub(super) fn width(dimensions: usize) -> usize {
    LENGTH + dimensions.div_ceil(4)
}

/// The bits of a component, but for a few steps. A length rounds in f64 only, on every machine alike.
fn about(unit: f32, length: f64) -> u32 {
    ((f64::from(unit) * length) as f32).to_bits()
}

impl Away {
    pub fn of(given: &[f32], unit: &[f32], length: f64) -> Away {
        let quarter = given.len().div_ceil(4);
        let mut bytes = vec![0; width(given.len())];
        bytes[..LENGTH].copy_from_slice(&length.to_le_bytes());
        let mut all = 0;
        // Each quarter of the components has 2 bits of every byte, so that neighbours are worked on together.
        for (i, (given, unit)) in given.chunks(quarter).zip(unit.chunks(quarter)).enumerate() {
            for ((byte, given), unit) in bytes[LENGTH..].iter_mut().zip(given).zip(unit) {
                let code = given.to_bits().wrapping_sub(about(*unit, length)).wrapping_add(1);
                all |= code;
                *byte |= (code as u8) << (2 * i);
            }
        }
        if all <= 3 { Away::Steps(bytes) } else { Away::Whole(given.into()) }
    }
}

/// For each row, what leads from its unit vector to what was given.
#[derive(Clone, Debug)]
pub(crate) struct Given {
    /// Of a row without a vector, or of one that is kept whole, the length is 0.
    pub(super) steps: Matrix<u8>,
    pub(super) whole: Arc<BTreeMap<u32, Arc<[f32]>>>,
}

impl Given {
    /// `len` rows without a vector.
    pub fn absent(dimensions: usize, len: usize) -> Given {
        Given { steps: Matrix::zeros(width(dimensions), len), whole: Arc::default() }
    }

    /// Appends a row.
    pub fn push(&mut self, away: Option<&Away>) {
        let row = self.steps.len() as u32;
        match away {
            Some(Away::Steps(steps)) => self.steps.push(steps),
            Some(Away::Whole(_)) | None => self.steps.extend_zeros(1),
        }
        if let Some(Away::Whole(vector)) = away {
            self.put_whole([(row, vector.clone())]);
        }
    }

    /// Replaces a row that exists.
    pub fn set(&mut self, row: u32, away: &Away) {
        match away {
            Away::Steps(steps) => {
                self.steps.set(row, steps);
                if self.whole.contains_key(&row) {
                    Arc::make_mut(&mut self.whole).remove(&row);
                }
            }
            Away::Whole(vector) => {
                self.steps.set(row, &vec![0; self.steps.width()]);
                self.put_whole([(row, vector.clone())]);
            }
        }
    }

    pub(super) fn put_whole(&mut self, rows: impl IntoIterator<Item = (u32, Arc<[f32]>)>) {
        let mut rows = rows.into_iter().peekable();
        if rows.peek().is_some() {
            Arc::make_mut(&mut self.whole).extend(rows);
        }
    }

    /// What a row that has this unit vector was given.
    pub fn row(&self, row: u32, unit: &[f32]) -> Vec<f32> {
        if let Some(whole) = self.whole.get(&row) {
            return whole.to_vec();
        }
        let (length, steps) = self.steps.row(row).split_at(LENGTH);
        let length = f64::from_le_bytes(length.try_into().expect("8 bytes"));
        let quarters = unit.chunks(unit.len().div_ceil(4)).enumerate();
        let component = |i: usize, unit: f32, step: u8| {
            let code = u32::from(step >> (2 * i) & 3);
            f32::from_bits(about(unit, length).wrapping_add(code).wrapping_sub(1))
        };
        quarters
            .flat_map(|(i, unit)| unit.iter().zip(steps).map(move |(unit, step)| component(i, *unit, *step)))
            .collect()
    }

    /// What leads to the vector that a row was given.
    pub fn away(&self, row: u32) -> Away {
        match self.whole.get(&row) {
            Some(whole) => Away::Whole(whole.clone()),
            None => Away::Steps(self.steps.row(row).to_vec()),
        }
    }

    /// The rows of some rows before, whose steps are these.
    pub(super) fn gathered(&self, steps: Matrix<u8>, from_before: &[u32]) -> Given {
        let rows = (0..).zip(from_before);
        let whole = rows.filter_map(|(row, before)| Some((row, self.whole.get(before)?.clone())));
        Given { whole: Arc::new(whole.collect()), steps }
    }

    /// Bytes on the heap.
    pub fn n_bytes(&self) -> usize {
        // All of them are of the same length.
        let whole = self.whole.values().next().map_or(0, |v| size_of_val(&**v) + 64);
        self.steps.n_bytes() + self.whole.len() * whole
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Metric;
    use crate::rows::vectors::Prepared;
    use proptest::prelude::*;

    fn there_and_back(given: &[f32]) -> Option<bool> {
        let prepared = Prepared::new(Metric::Cosine, given, given.len())?;
        let away = prepared.away.as_ref()?;
        let mut rows = Given::absent(given.len(), 1);
        rows.push(prepared.away.as_ref());
        rows.set(0, &rows.away(1));
        for row in [0, 1] {
            let back = rows.row(row, &prepared.prepared);
            let bits = |v: &[f32]| v.iter().map(|x| x.to_bits()).collect::<Vec<_>>();
            assert_eq!(bits(&back), bits(given));
        }
        Some(matches!(away, Away::Steps(_)))
    }

    proptest! {
        #[test]
        fn vectors_of_any_bits_come_back(
            bits in prop::collection::vec(any::<u32>(), 1..70),
            near in prop::collection::vec((-1e3f32..1e3, 0u32..40), 1..70),
        ) {
            let any: Vec<f32> = bits.iter().map(|b| f32::from_bits(*b)).filter(|x| x.is_finite()).collect();
            there_and_back(&any);
            // Numbers within 2^40 of each other are never kept whole.
            let near: Vec<f32> = near.iter().map(|(x, small)| x * 0.5f32.powi(*small as i32)).collect();
            prop_assert_ne!(there_and_back(&near), Some(false));
        }
    }

    #[test]
    fn what_a_unit_vector_loses_is_kept_whole() {
        assert_eq!(there_and_back(&[3e30, 1e-20, -0.0, 0.0, 1.0]), Some(false));
        assert_eq!(there_and_back(&[f32::MAX, f32::MAX, 1e-7]), Some(false));
        assert_eq!(there_and_back(&[f32::MIN_POSITIVE, -1e-45]), Some(true));
        assert_eq!(there_and_back(&[-0.0, 0.0, 1e-45]), Some(true));
        let long: Vec<f32> = (0..16_384).map(|i| ((i * 37) % 1001) as f32 - 500.5).collect();
        assert_eq!(there_and_back(&long), Some(true));
    }

    #[test]
    fn a_row_can_be_replaced_by_one_of_the_other_kind_and_snapshots_stay() {
        let prepared = |v: &[f32]| Prepared::new(Metric::Cosine, v, 3).unwrap();
        let (short, wide) = ([1.5, -2.0, 7.0], [3e30, 1e-20, 1.0]);
        let mut rows = Given::absent(3, 2);
        rows.push(prepared(&wide).away.as_ref());
        let before = rows.clone();
        rows.set(2, prepared(&short).away.as_ref().unwrap());
        rows.set(0, prepared(&wide).away.as_ref().unwrap());
        assert_eq!(rows.row(2, &prepared(&short).prepared), short);
        assert_eq!(rows.row(0, &prepared(&wide).prepared), wide);
        assert_eq!(before.row(2, &prepared(&wide).prepared), wide);
        assert_eq!((before.whole.len(), rows.whole.len()), (1, 1));
    }
}
