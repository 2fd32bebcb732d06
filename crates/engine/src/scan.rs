//! Exact answers: every allowed row is compared. Approximate answers are measured against them.

use crate::Metric;
use crate::kernels::Kernels;
use crate::rows::Vectors;
use fixedbitset::FixedBitSet;
use std::collections::BinaryHeap;

/// A row and its rank (lower is closer). Ordered by rank, then by row, so that equal ranks always
/// come out in the same order.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Neighbour {
    pub rank: f32,
    pub row: u32,
}

impl Eq for Neighbour {}
impl Ord for Neighbour {
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        self.rank.total_cmp(&other.rank).then(self.row.cmp(&other.row))
    }
}
impl PartialOrd for Neighbour {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}

/// The `k` nearest of what was offered.
pub struct Nearest {
    k: usize,
    heap: BinaryHeap<Neighbour>,
}

impl Nearest {
    pub fn new(k: usize) -> Self {
        Nearest { k, heap: BinaryHeap::with_capacity(k + 1) }
    }

    #[inline]
    pub fn offer(&mut self, row: u32, rank: f32) {
        let offered = Neighbour { rank, row };
        if self.heap.len() < self.k {
            self.heap.push(offered);
        } else if let Some(mut worst) = self.heap.peek_mut()
            && offered < *worst
        {
            *worst = offered;
        }
    }

    /// The rank that a newcomer must beat; infinity while there is room.
    #[inline]
    pub fn worst(&self) -> f32 {
        if self.heap.len() < self.k {
            f32::INFINITY
        } else {
            self.heap.peek().map_or(f32::NEG_INFINITY, |n| n.rank)
        }
    }

    pub fn len(&self) -> usize {
        self.heap.len()
    }

    pub fn is_empty(&self) -> bool {
        self.heap.is_empty()
    }

    /// Nearest first.
    pub fn into_sorted(self) -> Vec<Neighbour> {
        self.heap.into_sorted_vec()
    }
}

/// Which slots may answer: those whose row is in a set. Slots are rows themselves, or nodes of an index.
#[derive(Clone, Copy)]
pub struct Lens<'a> {
    rows: &'a FixedBitSet,
    /// The row of each slot; a slot without one has a number beyond all rows. Slots are rows where this is absent.
    row_of: Option<&'a [u32]>,
    /// The slot of each row, where that is another number.
    slot_of: &'a [u32],
}

/// So many slots are put in order: fewer are read sooner than ordered.
const MANY: usize = 4096;

impl<'a> Lens<'a> {
    pub fn plain(rows: &'a FixedBitSet) -> Lens<'a> {
        Lens { rows, row_of: None, slot_of: &[] }
    }

    /// `row_of` and `slot_of`: the row of each slot and the slot of each row, beyond all others where there is none.
    pub fn through(rows: &'a FixedBitSet, row_of: &'a [u32], slot_of: &'a [u32]) -> Lens<'a> {
        Lens { rows, row_of: Some(row_of), slot_of }
    }

    /// Those of the first `n` slots that may answer and of which something holds; there are no more than `most`. Where they
    /// are many they come in order, so that what is read of them is read as it lies in memory.
    pub(crate) fn slots(&self, n: usize, most: usize, holds: impl Fn(u32) -> bool) -> Vec<u32> {
        // Without a branch for each, which nobody could foresee: what is not picked is written over.
        let mut picked = vec![0; most + 1];
        let mut len = 0;
        let mut offer = |slot: u32| {
            picked[len] = slot;
            len += usize::from((slot as usize) < n && holds(slot.min(n as u32 - 1)));
        };
        match self.row_of {
            _ if n == 0 => {}
            None => self.rows.ones().for_each(|row| offer(row as u32)),
            Some(_) => {
                let slots = self.rows.ones().map(|row| self.slot_of.get(row).copied().unwrap_or(u32::MAX));
                match most < MANY {
                    true => slots.for_each(offer),
                    false => {
                        let mut found = FixedBitSet::with_capacity(n + 1);
                        slots.for_each(|slot| found.insert(n.min(slot as usize)));
                        found.ones().for_each(|slot| offer(slot as u32));
                    }
                }
            }
        }
        picked.truncate(len);
        picked
    }

    #[inline]
    pub fn contains(&self, slot: u32) -> bool {
        let row = match self.row_of {
            Some(row_of) => row_of.get(slot as usize).copied().unwrap_or(u32::MAX),
            None => slot,
        };
        self.rows.contains(row as usize)
    }

    /// A bit for each of some slots, 32 at most, that may answer.
    #[inline]
    pub(crate) fn mask(&self, kernels: &Kernels, slots: std::ops::Range<usize>) -> u32 {
        let words = self.rows.as_slice();
        if let Some(row_of) = self.row_of {
            return kernels.members(&row_of[slots], words, self.rows.len());
        }
        let word = |at: usize| words.get(at).map_or(0, |word| *word as u64);
        let (at, shift) = (slots.start / 64, slots.start % 64);
        let low = word(at) >> shift;
        let high = if shift > 32 { word(at + 1) << (64 - shift) } else { 0 };
        (low | high) as u32 & ((1u64 << slots.len()) - 1) as u32
    }

    /// Those of a set of slots, counted from `first`, that may answer.
    #[inline]
    pub(crate) fn only(&self, kernels: &Kernels, first: usize, set: u32) -> u32 {
        if set.count_ones() <= FEW {
            return where_set(set, |slot| self.contains(first as u32 + slot));
        }
        let (low, last) = (set.trailing_zeros() as usize, 32 - set.leading_zeros() as usize);
        set & (self.mask(kernels, first + low..first + last) << low)
    }

    /// Those of some nodes, of whom a set is asked for, that may answer.
    #[inline]
    pub(crate) fn among(&self, kernels: &Kernels, nodes: &[u32; 32], set: u32) -> u32 {
        if set.count_ones() <= FEW {
            return where_set(set, |slot| self.contains(nodes[slot as usize & 31]));
        }
        let (words, n) = (self.rows.as_slice(), self.rows.len());
        match self.row_of {
            None => set & kernels.members(nodes, words, n),
            Some(row_of) => {
                let rows: [u32; 32] =
                    nodes.map(|node| row_of.get(node as usize).copied().unwrap_or(u32::MAX));
                set & kernels.members(&rows, words, n)
            }
        }
    }

    /// Appends those of some slots that may answer.
    #[inline]
    pub(crate) fn select(&self, kernels: &Kernels, slots: std::ops::Range<usize>, out: &mut Vec<u32>) {
        if let Some(row_of) = self.row_of {
            let set = (self.rows.as_slice(), self.rows.len());
            return kernels.select(&row_of[slots.clone()], set, slots.start as u32, out);
        }
        for from in slots.clone().step_by(32) {
            let mask = self.mask(kernels, from..slots.end.min(from + 32));
            out.extend(ones(mask).map(|slot| from as u32 + slot));
        }
    }

    /// Calls what tells of some slots into the caches.
    #[inline]
    pub(crate) fn prefetch(&self, kernels: &Kernels, slots: std::ops::Range<usize>) {
        if let Some(rows) = self.row_of.and_then(|row_of| row_of.get(slots)) {
            kernels.prefetch(rows);
        }
    }

    /// How many of the first `n` slots may answer.
    pub(crate) fn count(&self, n: usize) -> usize {
        (0..n as u32).filter(|slot| self.contains(*slot)).count()
    }
}

/// So many are told one by one.
const FEW: u32 = 6;

/// The bits of a word that are set, the lowest first.
pub(crate) fn ones(mut set: u32) -> impl Iterator<Item = u32> {
    std::iter::from_fn(move || {
        let slot = (set != 0).then(|| set.trailing_zeros())?;
        set &= set - 1;
        Some(slot)
    })
}

/// Those bits of a set of which something holds.
fn where_set(set: u32, holds: impl Fn(u32) -> bool) -> u32 {
    ones(set).fold(0, |all, slot| all | u32::from(holds(slot)) << slot)
}

/// What may answer: all rows, or those in a set.
#[derive(Clone, Copy)]
pub enum Allowed<'a> {
    All,
    Only(Lens<'a>),
    /// All but a few. A search goes on as if they were not there: it takes no other way for their sake.
    Except(&'a FixedBitSet),
}

impl<'a> From<&'a FixedBitSet> for Allowed<'a> {
    fn from(rows: &'a FixedBitSet) -> Allowed<'a> {
        Allowed::Only(Lens::plain(rows))
    }
}

impl Allowed<'_> {
    /// Those of some nodes, of whom a set is asked for, that may answer.
    #[inline]
    pub(crate) fn among(&self, kernels: &Kernels, nodes: &[u32; 32], set: u32) -> u32 {
        match self {
            Allowed::All => set,
            Allowed::Only(lens) => lens.among(kernels, nodes, set),
            Allowed::Except(_) => where_set(set, |slot| self.contains(nodes[slot as usize & 31])),
        }
    }

    #[inline]
    pub fn contains(&self, row: u32) -> bool {
        match self {
            Allowed::All => true,
            Allowed::Only(lens) => lens.contains(row),
            Allowed::Except(set) => !set.contains(row as usize),
        }
    }
}

/// One prepared query against every allowed row of `blocks` (first row number, values). Returns
/// the `k` nearest, nearest first, fewer when fewer are allowed.
pub fn scan<'a>(
    blocks: impl Iterator<Item = (u32, &'a [f32])>,
    metric: Metric,
    query: &[f32],
    k: usize,
    allowed: Allowed<'_>,
) -> Vec<Neighbour> {
    let kernels = Kernels::best();
    let euclidean = metric == Metric::Euclidean;
    let mut nearest = Nearest::new(k);
    // Few enough rows that their ranks stay in the first-level cache.
    const STRIP: usize = 512;
    let mut ranks = [0.0; STRIP];
    for (first, values) in blocks {
        for (i, rows) in values.chunks(STRIP * query.len()).enumerate() {
            let ranks = &mut ranks[..rows.len() / query.len()];
            kernels.rank_rows(euclidean, query, rows, ranks);
            let mut worst = nearest.worst();
            for (j, &rank) in ranks.iter().enumerate() {
                if rank <= worst {
                    let row = first + (i * STRIP + j) as u32;
                    if allowed.contains(row) {
                        nearest.offer(row, rank);
                        worst = nearest.worst();
                    }
                }
            }
        }
    }
    nearest.into_sorted()
}

/// One prepared query against the listed rows only.
pub fn scan_rows(
    vectors: &Vectors,
    metric: Metric,
    query: &[f32],
    k: usize,
    rows: impl Iterator<Item = u32>,
) -> (Vec<Neighbour>, usize) {
    let kernels = Kernels::best();
    let euclidean = metric == Metric::Euclidean;
    let mut nearest = Nearest::new(k);
    let mut n_looked = 0;
    // Rows of one chunk at a time: the kernel calls the next ones into the caches while it works.
    const STRIP: usize = 128;
    let (mut picks, mut ranks) = (Vec::with_capacity(STRIP), [0.0; STRIP]);
    let mut rows = rows.peekable();
    while let Some(&first) = rows.peek() {
        let (start, values) = vectors.chunk_of(first);
        let n = (values.len() / vectors.dimensions().max(1)) as u32;
        picks.clear();
        while let Some(row) = rows.next_if(|r| (start..start + n).contains(r) && picks.len() < STRIP) {
            picks.push(row - start);
        }
        let ranks = &mut ranks[..picks.len()];
        kernels.rank_picked(euclidean, query, values, &picks, ranks);
        picks.iter().zip(&*ranks).for_each(|(pick, rank)| nearest.offer(start + pick, *rank));
        n_looked += picks.len();
    }
    (nearest.into_sorted(), n_looked)
}

/// Several prepared queries, row-major.
#[derive(Clone, Copy)]
pub struct Queries<'a> {
    pub values: &'a [f32],
    pub dimensions: usize,
    /// One for each query: a row that never counts as its answer, such as the query's own.
    pub excluded: &'a [Option<u32>],
}

/// Many queries at once, in tiles that reuse each row for several queries. Returns one list per
/// query, nearest first.
pub fn scan_many(
    blocks: &[(u32, &[f32])],
    metric: Metric,
    queries: Queries<'_>,
    k: usize,
    allowed: Allowed<'_>,
    threads: usize,
) -> Vec<Vec<Neighbour>> {
    let n_queries = queries.excluded.len();
    assert_eq!(queries.values.len(), n_queries * queries.dimensions);
    let per_thread = n_queries.div_ceil(threads.max(1)).max(1);
    let mut lists: Vec<Vec<Neighbour>> = vec![Vec::new(); n_queries];
    std::thread::scope(|scope| {
        for (t, out) in lists.chunks_mut(per_thread).enumerate() {
            let from = t * per_thread;
            scope.spawn(move || {
                let d = queries.dimensions;
                let some = Queries {
                    values: &queries.values[from * d..][..out.len() * d],
                    excluded: &queries.excluded[from..][..out.len()],
                    ..queries
                };
                scan_part(blocks, metric, some, k, allowed, out);
            });
        }
    });
    lists
}

fn scan_part(
    blocks: &[(u32, &[f32])],
    metric: Metric,
    queries: Queries<'_>,
    k: usize,
    allowed: Allowed<'_>,
    out: &mut [Vec<Neighbour>],
) {
    let Queries { values: queries, dimensions, excluded } = queries;
    let kernels = Kernels::best();
    let euclidean = metric == Metric::Euclidean;
    // A strip of rows that stays in the second-level cache while all queries pass over it.
    let strip = (131_072 / dimensions).clamp(4, 1024) / 4 * 4;
    let batch = 24;
    let mut ranks = vec![0.0f32; strip * batch];
    let mut nearest: Vec<Nearest> = out.iter().map(|_| Nearest::new(k)).collect();
    for &(first, values) in blocks {
        for (i, rows) in values.chunks(strip * dimensions).enumerate() {
            let n_rows = rows.len() / dimensions;
            for (b, some) in queries.chunks(batch * dimensions).enumerate() {
                let ranks = &mut ranks[..n_rows * (some.len() / dimensions)];
                kernels.rank_block(euclidean, some, rows, dimensions, ranks);
                for (j, line) in ranks.chunks(n_rows).enumerate() {
                    let q = b * batch + j;
                    let mut worst = nearest[q].worst();
                    for (r, &rank) in line.iter().enumerate() {
                        if rank <= worst {
                            let row = first + (i * strip + r) as u32;
                            if excluded[q] != Some(row) && allowed.contains(row) {
                                nearest[q].offer(row, rank);
                                worst = nearest[q].worst();
                            }
                        }
                    }
                }
            }
        }
    }
    for (list, nearest) in out.iter_mut().zip(nearest) {
        *list = nearest.into_sorted();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rand::{Rng, SeedableRng};

    /// The oracle: rank every row in f64, sort, cut.
    fn naive(metric: Metric, rows: &[Vec<f32>], query: &[f32], k: usize) -> Vec<f64> {
        let mut all: Vec<f64> = rows
            .iter()
            .map(|row| {
                row.iter()
                    .zip(query)
                    .map(|(&a, &b)| {
                        let (a, b) = (f64::from(a), f64::from(b));
                        if metric == Metric::Euclidean { (a - b).powi(2) } else { -a * b }
                    })
                    .sum()
            })
            .collect();
        all.sort_by(f64::total_cmp);
        all.truncate(k);
        all
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(60))]
        #[test]
        fn scans_return_the_nearest_allowed_rows(
            n in 1usize..700, d in 1usize..40, k in 1usize..20, seed in any::<u64>(),
            metric in prop_oneof![Just(Metric::Cosine), Just(Metric::Euclidean), Just(Metric::Dot)],
            keep in 0.0f64..1.0,
        ) {
            let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
            let rows: Vec<Vec<f32>> =
                (0..n).map(|_| (0..d).map(|_| rng.random_range(-1.0..1.0)).collect()).collect();
            let queries: Vec<f32> = (0..5 * d).map(|_| rng.random_range(-1.0..1.0)).collect();
            let mut vectors = Vectors::new(d);
            vectors.extend(rows.iter().map(|r| Some(r.as_slice())));
            let mut allowed = FixedBitSet::with_capacity(n);
            (0..n).for_each(|i| allowed.set(i, rng.random_bool(keep)));
            let kept: Vec<Vec<f32>> = allowed.ones().map(|i| rows[i].clone()).collect();
            let blocks: Vec<_> = vectors.blocks().collect();
            let all = Queries { values: &queries, dimensions: d, excluded: &[None; 5] };
            let many = scan_many(&blocks, metric, all, k, Allowed::from(&allowed), 2);
            for (q, many) in queries.chunks(d).zip(&many) {
                let want = naive(metric, &kept, q, k);
                let one = scan(vectors.blocks(), metric, q, k, Allowed::from(&allowed));
                let picked = scan_rows(&vectors, metric, q, k, allowed.ones().map(|r| r as u32)).0;
                for got in [&one, many, &picked] {
                    prop_assert_eq!(got.len(), want.len());
                    for (got, want) in got.iter().zip(&want) {
                        prop_assert!((f64::from(got.rank) - want).abs() < 1e-4);
                        prop_assert!(allowed.contains(got.row as usize));
                    }
                }
            }
        }
    }

    #[test]
    fn the_excluded_row_is_left_out_and_ties_come_in_row_order() {
        let mut vectors = Vectors::new(2);
        vectors.extend((0..6).map(|_| Some([1.0f32, 0.0].as_slice())));
        let blocks: Vec<_> = vectors.blocks().collect();
        let query = Queries { values: &[1.0, 0.0], dimensions: 2, excluded: &[Some(1)] };
        let lists = scan_many(&blocks, Metric::Dot, query, 3, Allowed::All, 1);
        assert_eq!(lists[0].iter().map(|n| n.row).collect::<Vec<_>>(), [0, 2, 3]);
    }

    #[test]
    fn slots_are_those_whose_rows_may_answer() {
        // Few, and so many that they are put in order.
        for n_rows in [200, 8 * MANY] {
            let (n, most) = (n_rows - 10, n_rows / 3 + 1);
            let mut rows = FixedBitSet::with_capacity(n_rows);
            rows.extend((0..n_rows).filter(|row| row % 3 == 0));
            // Every row but the last ten has a slot: the other way round.
            let slot_of: Vec<u32> =
                (0..n_rows).map(|row| if row < n { (n - 1 - row) as u32 } else { u32::MAX }).collect();
            let row_of: Vec<u32> = (0..n as u32).rev().collect();
            let even = |slot: u32| slot.is_multiple_of(2);
            for lens in [Lens::plain(&rows), Lens::through(&rows, &row_of, &slot_of)] {
                let mut found = lens.slots(n, most, even);
                assert!(most < MANY || found.is_sorted());
                found.sort();
                let naive: Vec<u32> =
                    (0..n as u32).filter(|slot| lens.contains(*slot) && even(*slot)).collect();
                assert_eq!(found, naive);
            }
            assert!(Lens::plain(&rows).slots(0, most, |_| true).is_empty());
        }
    }
}
