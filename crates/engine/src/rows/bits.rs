//! A growing set of rows in shared chunks: a clone costs a list of pointers, and a writer that changes a
//! row copies one chunk of it.

use fixedbitset::FixedBitSet;
use std::sync::Arc;

const WORD: usize = usize::BITS as usize;
/// Words in one chunk: 4 KiB, what a single small write copies.
const WORDS: usize = 512;
/// Rows in one chunk.
const ROWS: usize = WORDS * WORD;

/// Which of the rows 0.. are in the set. Bits beyond the length are zero.
#[derive(Clone, Debug, Default)]
pub struct Bits {
    chunks: Vec<Arc<[usize; WORDS]>>,
    len: usize,
}

impl Bits {
    /// Rows that have been pushed, in the set or not.
    pub fn len(&self) -> usize {
        self.len
    }

    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// Appends a row.
    pub fn push(&mut self, is_in: bool) {
        if self.len.is_multiple_of(ROWS) {
            self.chunks.push(Arc::new([0; WORDS]));
        }
        self.len += 1;
        if is_in {
            self.set(self.len - 1, true);
        }
    }

    /// Puts a row that exists into the set, or takes it out.
    pub fn set(&mut self, row: usize, is_in: bool) {
        assert!(row < self.len, "row {row} of {}", self.len);
        let bit = 1 << (row % WORD);
        let word = &mut Arc::make_mut(&mut self.chunks[row / ROWS])[row % ROWS / WORD];
        if is_in {
            *word |= bit;
        } else {
            *word &= !bit;
        }
    }

    /// Whether a row that exists, or the next one, is in the set.
    pub fn put(&mut self, row: usize, is_in: bool) {
        match row < self.len {
            true => self.set(row, is_in),
            false => self.push(is_in),
        }
    }

    pub fn contains(&self, row: usize) -> bool {
        let chunk = self.chunks.get(row / ROWS);
        chunk.is_some_and(|c| c[row % ROWS / WORD] >> (row % WORD) & 1 == 1)
    }

    fn words(&self) -> impl Iterator<Item = usize> {
        let words = self.len.div_ceil(WORD);
        self.chunks.iter().flat_map(|c| c.iter().copied()).take(words)
    }

    pub fn count_ones(&self) -> usize {
        self.words().map(|w| w.count_ones() as usize).sum()
    }

    /// The rows of the set in order.
    pub fn ones(&self) -> impl Iterator<Item = usize> {
        self.words().enumerate().flat_map(|(i, mut word)| {
            std::iter::from_fn(move || {
                let bit = (word != 0).then(|| word.trailing_zeros() as usize)?;
                word &= word - 1;
                Some(i * WORD + bit)
            })
        })
    }

    /// A plain copy.
    pub fn to_set(&self) -> FixedBitSet {
        FixedBitSet::with_capacity_and_blocks(self.len, self.words())
    }

    /// How many rows are in both.
    pub fn intersection_count(&self, other: &Bits) -> usize {
        self.words().zip(other.words()).map(|(a, b)| (a & b).count_ones() as usize).sum()
    }

    /// The rows that are in both.
    pub fn and(&self, other: &Bits) -> FixedBitSet {
        let len = self.len.min(other.len);
        FixedBitSet::with_capacity_and_blocks(len, self.words().zip(other.words()).map(|(a, b)| a & b))
    }

    /// Takes the rows that are not here out of `set`.
    pub fn keep_in(&self, set: &mut FixedBitSet) {
        let words = set.as_mut_slice();
        let held = words.len().min(self.len.div_ceil(WORD));
        for (words, chunk) in words[..held].chunks_mut(WORDS).zip(&self.chunks) {
            words.iter_mut().zip(chunk.iter()).for_each(|(word, own)| *word &= own);
        }
        words[held..].fill(0);
    }

    /// Takes the rows that are here out of `set`.
    pub fn take_from(&self, set: &mut FixedBitSet) {
        for (words, chunk) in set.as_mut_slice().chunks_mut(WORDS).zip(&self.chunks) {
            words.iter_mut().zip(chunk.iter()).for_each(|(word, own)| *word &= !own);
        }
    }

    pub fn n_bytes(&self) -> usize {
        self.chunks.len() * WORDS * size_of::<usize>()
    }
}

impl FromIterator<bool> for Bits {
    fn from_iter<T: IntoIterator<Item = bool>>(rows: T) -> Bits {
        let mut bits = Bits::default();
        rows.into_iter().for_each(|is_in| bits.push(is_in));
        bits
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn plain(rows: &[bool]) -> FixedBitSet {
        let mut set = FixedBitSet::with_capacity(rows.len());
        rows.iter().enumerate().for_each(|(i, on)| set.set(i, *on));
        set
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn bits_do_what_a_plain_set_does(
            n in prop::sample::select(vec![0usize, 1, 63, 64, 65, ROWS - 1, ROWS, ROWS + 1, 2 * ROWS + 77]),
            m in 0usize..2000, seed in any::<u64>(),
        ) {
            let row = |i: usize, salt: u64| (i as u64 + 1).wrapping_mul(seed | salt).rotate_left(29).is_multiple_of(3);
            let a: Vec<bool> = (0..n).map(|i| row(i, 1)).collect();
            let b: Vec<bool> = (0..m).map(|i| row(i, 8)).collect();
            let (bits, other) = (a.iter().copied().collect::<Bits>(), b.iter().copied().collect::<Bits>());
            let (set, second) = (plain(&a), plain(&b));
            prop_assert_eq!(bits.to_set(), set.clone());
            prop_assert_eq!(bits.ones().collect::<Vec<_>>(), set.ones().collect::<Vec<_>>());
            prop_assert_eq!(bits.count_ones(), set.count_ones(..));
            prop_assert_eq!(bits.intersection_count(&other), set.intersection_count(&second));
            prop_assert_eq!(
                bits.and(&other).ones().collect::<Vec<_>>(), set.intersection(&second).collect::<Vec<_>>());
            let (mut kept, mut left) = (second.clone(), second.clone());
            bits.keep_in(&mut kept);
            bits.take_from(&mut left);
            prop_assert_eq!(kept.ones().collect::<Vec<_>>(), second.intersection(&set).collect::<Vec<_>>());
            prop_assert_eq!(left.ones().collect::<Vec<_>>(), second.difference(&set).collect::<Vec<_>>());
        }
    }

    #[test]
    fn a_clone_stays_and_shares_what_did_not_change() {
        let mut bits: Bits = (0..3 * ROWS).map(|i| i % 2 == 0).collect();
        let before = bits.clone();
        bits.set(ROWS, false);
        bits.push(true);
        assert!(before.contains(ROWS) && !bits.contains(ROWS) && bits.contains(3 * ROWS));
        assert!(!before.contains(3 * ROWS), "rows beyond the end are not in the set");
        let shared = bits.chunks.iter().zip(&before.chunks).filter(|(a, b)| Arc::ptr_eq(a, b)).count();
        assert_eq!(shared, 2, "one chunk of three was copied");
    }
}
