//! Integers and lists by row, in shared chunks as [`crate::rows::chunked`], but packed: a full chunk of integers keeps
//! how far each lies above the smallest, in as few bytes as the widest needs.

use crate::kernels::{Kernels, mark};
use crate::rows::bits::Bits;
use crate::rows::chunked;
use fixedbitset::FixedBitSet;
use std::sync::Arc;

const BITS: usize = usize::BITS as usize;
/// Integers in a chunk. Chunks lie anywhere in memory, and the first bytes of each are waited for; a write copies one.
const ROWS: usize = 8192;

#[derive(Clone, Debug)]
enum Chunk {
    Same(i64),
    Bytes(i64, Arc<[u8]>),
    Shorts(i64, Arc<[u16]>),
    Words(i64, Arc<[u32]>),
    Whole(Arc<[i64]>),
}

impl Chunk {
    fn new(values: &[i64]) -> Chunk {
        let (mut low, mut high) = (i64::MAX, i64::MIN);
        for &v in values {
            (low, high) = (low.min(v), high.max(v));
        }
        fn above<T: TryFrom<u64>>(values: &[i64], low: i64) -> Arc<[T]> {
            let above = values.iter().map(|v| T::try_from(v.abs_diff(low)).ok().expect("the widest fits"));
            above.collect()
        }
        match high.abs_diff(low) {
            0 => Chunk::Same(low),
            1..=0xff => Chunk::Bytes(low, above(values, low)),
            0x100..=0xffff => Chunk::Shorts(low, above(values, low)),
            0x1_0000..=0xffff_ffff => Chunk::Words(low, above(values, low)),
            _ => Chunk::Whole(values.into()),
        }
    }

    fn get(&self, at: usize) -> i64 {
        match self {
            Chunk::Same(v) => *v,
            Chunk::Bytes(low, v) => low + i64::from(v[at]),
            Chunk::Shorts(low, v) => low + i64::from(v[at]),
            Chunk::Words(low, v) => low + i64::from(v[at]),
            Chunk::Whole(v) => v[at],
        }
    }

    /// Replaces a value, when it fits in as few bytes as the others; whether it does.
    fn set(&mut self, at: usize, value: i64) -> bool {
        fn put<T: TryFrom<u64> + Clone>(values: &mut Arc<[T]>, at: usize, value: i64, low: i64) -> bool {
            let above = (value >= low).then(|| T::try_from(value.abs_diff(low)).ok()).flatten();
            above.map(|v| Arc::make_mut(values)[at] = v).is_some()
        }
        match self {
            Chunk::Same(v) => *v == value,
            Chunk::Bytes(low, v) => put(v, at, value, *low),
            Chunk::Shorts(low, v) => put(v, at, value, *low),
            Chunk::Words(low, v) => put(v, at, value, *low),
            Chunk::Whole(v) => {
                Arc::make_mut(v)[at] = value;
                true
            }
        }
    }

    /// Appends a bit a row: whether it lies from `low` to `high`.
    fn mark(&self, kernels: &Kernels, low: i64, high: i64, words: &mut Vec<usize>) {
        // The bounds as they lie above the smallest.
        let bounds = |least: i64, widest: u64| {
            let to = i128::from(high) - i128::from(least);
            let from = (i128::from(low) - i128::from(least)).max(0);
            (from <= to && from <= i128::from(widest))
                .then(|| (from as u64, to.min(i128::from(widest)) as u64))
        };
        let all = |words: &mut Vec<usize>, holds: bool| {
            words.resize(words.len() + ROWS / BITS, if holds { usize::MAX } else { 0 });
        };
        macro_rules! narrow {
            ($least:expr, $values:expr, $t:ty) => {
                match bounds(*$least, <$t>::MAX.into()) {
                    None => all(words, false),
                    Some((from, to)) => kernels.mark($values, from as $t, to as $t, words),
                }
            };
        }
        match self {
            Chunk::Same(v) => all(words, low <= *v && *v <= high),
            Chunk::Bytes(least, v) => narrow!(least, v, u8),
            Chunk::Shorts(least, v) => narrow!(least, v, u16),
            Chunk::Words(least, v) => narrow!(least, v, u32),
            Chunk::Whole(v) => kernels.mark(v, low, high, words),
        }
    }

    fn n_bytes(&self) -> usize {
        size_of::<Chunk>()
            + 16
            + match self {
                Chunk::Same(_) => 0,
                Chunk::Bytes(_, v) => v.len(),
                Chunk::Shorts(_, v) => 2 * v.len(),
                Chunk::Words(_, v) => 4 * v.len(),
                Chunk::Whole(v) => 8 * v.len(),
            }
    }
}

/// A set of so many rows, of its words.
fn set_of(n: usize, words: &[usize]) -> FixedBitSet {
    let mut set = FixedBitSet::with_capacity(n);
    set.as_mut_slice()[..words.len()].copy_from_slice(words);
    set
}

/// A growing list of integers whose clones share everything but what is appended later.
#[derive(Clone, Debug, Default)]
pub struct Packed {
    chunks: Vec<Chunk>,
    /// Less than a chunk.
    tail: Arc<Vec<i64>>,
}

impl Packed {
    pub fn push(&mut self, value: i64) {
        let tail = Arc::make_mut(&mut self.tail);
        tail.push(value);
        if tail.len() == ROWS {
            self.chunks.push(Chunk::new(tail));
            self.tail = Arc::default();
        }
    }

    /// Replaces the value of a row that exists.
    pub fn set(&mut self, row: u32, value: i64) {
        let (chunk, at) = (row as usize / ROWS, row as usize % ROWS);
        let Some(chunk) = self.chunks.get_mut(chunk) else {
            Arc::make_mut(&mut self.tail)[at] = value;
            return;
        };
        if chunk.get(at) != value && !chunk.set(at, value) {
            let mut values: Vec<i64> = (0..ROWS).map(|at| chunk.get(at)).collect();
            values[at] = value;
            *chunk = Chunk::new(&values);
        }
    }

    /// Keeps the values of chunks that many rows were replaced in by as few bytes as they need.
    pub fn repack(&mut self, rows: std::ops::Range<usize>) {
        let end = rows.end.div_ceil(ROWS).min(self.chunks.len());
        for chunk in &mut self.chunks[(rows.start / ROWS).min(end)..end] {
            let values: Vec<i64> = (0..ROWS).map(|at| chunk.get(at)).collect();
            *chunk = Chunk::new(&values);
        }
    }

    /// The values of some rows.
    pub fn gathered(&self, rows: &[u32]) -> Packed {
        let mut next = Packed::default();
        rows.iter().for_each(|row| next.push(self.get(*row).unwrap_or_default()));
        next
    }

    pub fn len(&self) -> usize {
        self.chunks.len() * ROWS + self.tail.len()
    }

    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    pub fn get(&self, row: u32) -> Option<i64> {
        let (chunk, at) = (row as usize / ROWS, row as usize % ROWS);
        match self.chunks.get(chunk) {
            Some(chunk) => Some(chunk.get(at)),
            None if chunk == self.chunks.len() => self.tail.get(at).copied(),
            None => None,
        }
    }

    /// What `push` would repeat in the place of a missing value, so that it widens no chunk.
    pub fn last(&self) -> i64 {
        self.tail.last().copied().unwrap_or_default()
    }

    pub fn iter(&self) -> impl Iterator<Item = i64> {
        let packed = self.chunks.iter().flat_map(|chunk| (0..ROWS).map(|at| chunk.get(at)));
        packed.chain(self.tail.iter().copied())
    }

    pub fn n_bytes(&self) -> usize {
        self.chunks.iter().map(Chunk::n_bytes).sum::<usize>() + 8 * self.tail.capacity()
    }

    /// Rows from `low` to `high`, both inclusive.
    pub fn between(&self, low: i64, high: i64) -> FixedBitSet {
        self.within(&[(low, high)])
    }

    /// Rows that lie in any of the ranges, whose bounds are inclusive. Each chunk is read from memory once.
    pub fn within(&self, ranges: &[(i64, i64)]) -> FixedBitSet {
        let kernels = Kernels::best();
        let mut words = Vec::with_capacity(self.len().div_ceil(BITS));
        let mut more = Vec::with_capacity(ROWS / BITS);
        for chunk in &self.chunks {
            let start = words.len();
            words.resize(start + ROWS / BITS, 0);
            for (low, high) in ranges {
                more.clear();
                chunk.mark(kernels, *low, *high, &mut more);
                words[start..].iter_mut().zip(&more).for_each(|(word, more)| *word |= more);
            }
        }
        mark(&self.tail, |v| ranges.iter().any(|(low, high)| (*low..=*high).contains(&v)), &mut words);
        set_of(self.len(), &words)
    }

    /// Rows of which something holds.
    pub fn rows_where(&self, holds: impl Fn(i64) -> bool) -> FixedBitSet {
        let mut words = Vec::with_capacity(self.len().div_ceil(BITS));
        for chunk in &self.chunks {
            match chunk {
                Chunk::Same(v) => {
                    let word = if holds(*v) { usize::MAX } else { 0 };
                    words.resize(words.len() + ROWS / BITS, word);
                }
                Chunk::Bytes(low, v) => mark(v, |v| holds(low + i64::from(v)), &mut words),
                Chunk::Shorts(low, v) => mark(v, |v| holds(low + i64::from(v)), &mut words),
                Chunk::Words(low, v) => mark(v, |v| holds(low + i64::from(v)), &mut words),
                Chunk::Whole(v) => mark(v, &holds, &mut words),
            }
        }
        mark(&self.tail, &holds, &mut words);
        set_of(self.len(), &words)
    }
}

#[derive(Clone, Debug)]
struct ListChunk<T> {
    ends: Vec<u32>,
    items: Vec<T>,
}

/// A growing list of lists. A missing list differs from an empty one.
#[derive(Clone, Debug)]
pub struct Lists<T> {
    chunks: Vec<Arc<ListChunk<T>>>,
    missing: Bits,
    len: usize,
}

impl<T> Default for Lists<T> {
    fn default() -> Self {
        Lists { chunks: Vec::new(), missing: Bits::default(), len: 0 }
    }
}

impl<T: Clone> Lists<T> {
    /// The list of a row that exists, or of the next one.
    pub fn put(&mut self, row: u32, list: Option<impl IntoIterator<Item = T>>) {
        match (row as usize) < self.len {
            true => self.set(row, list),
            false => self.push(list),
        }
    }

    /// Replaces the list of a row that exists.
    pub fn set(&mut self, row: u32, list: Option<impl IntoIterator<Item = T>>) {
        let (chunk, at) = (row as usize / chunked::ROWS, row as usize % chunked::ROWS);
        self.missing.set(row as usize, list.is_none());
        let chunk = Arc::make_mut(&mut self.chunks[chunk]);
        let start = if at == 0 { 0 } else { chunk.ends[at - 1] as usize };
        let end = chunk.ends[at] as usize;
        let before = chunk.items.len();
        chunk.items.splice(start..end, list.into_iter().flatten());
        let now = chunk.items.len();
        chunk.ends[at..].iter_mut().for_each(|e| *e = (*e as usize + now - before) as u32);
    }

    pub fn push(&mut self, list: Option<impl IntoIterator<Item = T>>) {
        if self.len.is_multiple_of(chunked::ROWS) {
            self.chunks
                .push(Arc::new(ListChunk { ends: Vec::with_capacity(chunked::ROWS), items: Vec::new() }));
        }
        self.missing.push(list.is_none());
        let chunk = Arc::make_mut(self.chunks.last_mut().expect("a chunk was just made"));
        chunk.items.extend(list.into_iter().flatten());
        chunk.ends.push(chunk.items.len() as u32);
        self.len += 1;
        if self.len.is_multiple_of(chunked::ROWS) {
            chunk.items.shrink_to_fit();
        }
    }

    pub fn get(&self, row: u32) -> Option<&[T]> {
        let row = row as usize;
        if row >= self.len || self.missing.contains(row) {
            return None;
        }
        let (chunk, at) = (&self.chunks[row / chunked::ROWS], row % chunked::ROWS);
        let start = if at == 0 { 0 } else { chunk.ends[at - 1] as usize };
        Some(&chunk.items[start..chunk.ends[at] as usize])
    }

    pub fn missing(&self) -> &Bits {
        &self.missing
    }

    pub fn len(&self) -> usize {
        self.len
    }

    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    pub fn n_bytes(&self) -> usize {
        let chunk = |c: &Arc<ListChunk<T>>| 72 + 4 * c.ends.capacity() + size_of::<T>() * c.items.capacity();
        self.chunks.iter().map(chunk).sum::<usize>() + self.missing.n_bytes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn packed_integers_come_back_and_are_found_by_range(
            runs in prop::collection::vec((any::<i64>(), 0u32..64, 1usize..9000), 0..5),
            low in any::<i64>(), width in 0u32..64,
        ) {
            let mut packed = Packed::default();
            let mut plain = Vec::new();
            for (start, width, n) in runs {
                for i in 0..n as i64 {
                    let v = start.wrapping_add(i.wrapping_mul(0x9E37_79B9_7F4A_7C15u64 as i64) >> (63 - width));
                    packed.push(v);
                    plain.push(v);
                }
            }
            prop_assert_eq!(packed.iter().collect::<Vec<_>>(), plain.clone());
            let near = plain.first().copied().unwrap_or(low);
            let bounds = [(low, low.saturating_add(1 << width.min(62))), (i64::MIN, low), (i64::MIN, i64::MAX),
                (near, near.saturating_add(300)), (5, 4), (near, near)];
            for (low, high) in bounds {
                let want: Vec<usize> = (0..plain.len()).filter(|i| low <= plain[*i] && plain[*i] <= high).collect();
                prop_assert_eq!(packed.between(low, high).ones().collect::<Vec<_>>(), want.clone());
                let by_test = packed.rows_where(|v| low <= v && v <= high);
                prop_assert_eq!(by_test.ones().collect::<Vec<_>>(), want);
            }
            for ranges in [&[][..], &bounds[3..], &bounds[..2]] {
                let want: Vec<usize> = (0..plain.len())
                    .filter(|i| ranges.iter().any(|(low, high)| *low <= plain[*i] && plain[*i] <= *high)).collect();
                prop_assert_eq!(packed.within(ranges).ones().collect::<Vec<_>>(), want);
            }
            for (i, v) in plain.iter().enumerate() {
                prop_assert_eq!(packed.get(i as u32), Some(*v));
            }
            prop_assert_eq!(packed.get(plain.len() as u32), None);
        }
    }

    proptest! {
        #[test]
        fn values_and_lists_are_replaced_in_place_and_snapshots_stay(
            n in 1usize..20_000,
            edits in prop::collection::vec((any::<prop::sample::Index>(), any::<i64>(), 0u32..64, 0usize..4), 0..40),
        ) {
            let mut plain: Vec<i64> = (0..n as i64).map(|i| i % 200).collect();
            let mut packed = Packed::default();
            let mut lists = Lists::default();
            plain.iter().for_each(|v| {
                packed.push(*v);
                lists.push(Some([*v]));
            });
            let mut listed: Vec<Option<Vec<i64>>> = plain.iter().map(|v| Some(vec![*v])).collect();
            let (before, first) = (packed.clone(), lists.clone());
            for (row, value, narrow, len) in edits {
                let (row, value) = (row.index(n), value >> narrow);
                packed.set(row as u32, value);
                plain[row] = value;
                listed[row] = (len > 0).then(|| vec![value; len - 1]);
                lists.set(row as u32, listed[row].clone());
            }
            prop_assert_eq!(packed.iter().collect::<Vec<_>>(), plain);
            for (row, list) in listed.iter().enumerate() {
                prop_assert_eq!(lists.get(row as u32), list.as_deref());
                prop_assert_eq!(before.get(row as u32), Some(row as i64 % 200));
                prop_assert_eq!(first.get(row as u32), Some(&[row as i64 % 200][..]));
            }
        }
    }

    #[test]
    fn narrow_integers_take_few_bytes_and_snapshots_stay() {
        let mut packed = Packed::default();
        (0..32_768).for_each(|i| packed.push(1900 + i % 90));
        let before = packed.clone();
        packed.push(-7);
        assert_eq!((before.len(), before.get(32_768), packed.get(32_768)), (32_768, None, Some(-7)));
        assert!(before.n_bytes() < 2 * 32_768, "{}", before.n_bytes());
    }

    #[test]
    fn lists_tell_empty_from_missing() {
        let mut lists = Lists::default();
        for i in 0..2050u32 {
            lists.push((i % 3 != 0).then(|| 0..i % 3 - 1));
        }
        let before = lists.clone();
        lists.push(Some([9, 9]));
        assert_eq!((before.len(), before.get(2050), lists.get(2050)), (2050, None, Some(&[9, 9][..])));
        assert_eq!((lists.get(3), lists.get(4), lists.get(5)), (None, Some(&[][..]), Some(&[0][..])));
    }
}
