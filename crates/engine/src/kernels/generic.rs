//! The loops, written once over a vector register type. Each instruction set supplies the register
//! (`Lanes`) and a thin wrapper compiled for it.
//!
//! Everything is `inline(always)`: a loop becomes real only inside a wrapper that carries
//! `#[target_feature]`, which is what lets the intrinsics inline.

#![allow(unsafe_code)]
#![allow(clippy::needless_range_loop)] // in register tiles the indices name registers

use crate::kernels::tables::{MOST_LOOKED_UP, table_at};

/// A vector register of `N` f32 lanes.
///
/// # Safety
/// Callers run these only where the instruction set is present, with pointers valid for `N` reads
/// (`load`) or `n` reads (`load_first`, `n < N`).
pub(super) trait Lanes: Copy {
    const N: usize;
    unsafe fn zero() -> Self;
    unsafe fn load(from: *const f32) -> Self;
    /// The first `n` lanes from memory, zeros above.
    unsafe fn load_first(from: *const f32, n: usize) -> Self;
    unsafe fn add(self, other: Self) -> Self;
    unsafe fn sub(self, other: Self) -> Self;
    /// `self + a * b`
    unsafe fn add_product(self, a: Self, b: Self) -> Self;
    unsafe fn sum(self) -> f32;
    unsafe fn prefetch(at: *const u8);
    /// Into the second-level cache.
    unsafe fn prefetch_far(at: *const u8);
    /// The transform of [`mix`] for sixteen values.
    #[inline(always)]
    unsafe fn mix(values: &mut [f32; 16]) {
        mix_rounds(values, 1);
    }
    /// `N` halves, widened.
    unsafe fn load_half(from: *const u16) -> Self;
    unsafe fn splat(value: f32) -> Self;
    unsafe fn store(self, to: *mut f32);
}

/// Sums of products of small integers. What is written here is right everywhere, and what wider registers must equal.
///
/// # Safety
/// As for [`Lanes`]; the lengths are those of the comments.
pub(super) trait Sums {
    /// `sum a * b` over `n` components. The sum must fit 32 bits in any order.
    #[inline(always)]
    unsafe fn short_by_byte(a: *const i16, b: *const i8, n: usize) -> i32 {
        (0..n).fold(0, |sum: i32, i| sum.wrapping_add(unsafe { i32::from(*a.add(i)) * i32::from(*b.add(i)) }))
    }

    #[inline(always)]
    unsafe fn byte_by_byte(a: *const i8, b: *const i8, n: usize) -> i32 {
        (0..n).fold(0, |sum: i32, i| sum.wrapping_add(unsafe { i32::from(*a.add(i)) * i32::from(*b.add(i)) }))
    }

    /// The sum of those of `64 * words` values whose bit is set; a value is how far its byte is above 128.
    #[inline(always)]
    unsafe fn sum_where_set(values: *const u8, bits: *const u64, words: usize) -> i32 {
        let mut sum = 0;
        for w in 0..words {
            let mut left = unsafe { *bits.add(w) };
            while left != 0 {
                sum += i32::from(unsafe { *values.add(64 * w + left.trailing_zeros() as usize) }) - 128;
                left &= left - 1;
            }
        }
        sum
    }

    /// `a + b * (step * sum - shift)` for the sums of four rows, whose bits come after so many words, of which the first holds
    /// b and a.
    #[inline(always)]
    unsafe fn ranks_where_set(
        values: *const u8,
        rows: [*const u64; 4],
        (before, words): (usize, usize),
        (step, shift): (f32, f32),
    ) -> [f32; 4] {
        let mut ranks = [0.0; 4];
        for (rank, row) in ranks.iter_mut().zip(rows) {
            let sum = unsafe { Self::sum_where_set(values, row.add(before), words) };
            *rank = rank_of_sum(sum, unsafe { *row }, (step, shift));
        }
        ranks
    }
}

/// `a + b * (step * sum - shift)`; b and a are the halves of a word.
#[inline(always)]
pub(super) fn rank_of_sum(sum: i32, word: u64, (step, shift): (f32, f32)) -> f32 {
    let (b, a) = (f32::from_bits(word as u32), f32::from_bits((word >> 32) as u32));
    a + b * (step * sum as f32 - shift)
}

/// Other integer arithmetic on codes, as [`Sums`] is told.
pub(super) trait Integers {
    /// For each of 32 rows the sum of what its 4-bit codes look up: `pairs` times 32 bytes, in each the code of an
    /// even place below and of the next place above; tables of 16 values for each place (see
    /// [`crate::kernels::Kernels::look_up`]). Meanwhile as many bytes from `soon` on are called into the caches.
    #[inline(always)]
    unsafe fn look_up(
        tables: *const u8,
        codes: *const u8,
        pairs: usize,
        _soon: *const u8,
        out: &mut [u32; 32],
    ) {
        *out = [0; 32];
        for pair in 0..pairs {
            let (even, odd) = (table_at(2 * pair), table_at(2 * pair + 1));
            for (row, sum) in out.iter_mut().enumerate() {
                unsafe {
                    let code = *codes.add(32 * pair + row);
                    *sum += u32::from(*tables.add(even + usize::from(code & 15)))
                        + u32::from(*tables.add(odd + usize::from(code >> 4)));
                }
            }
        }
    }

    /// See [`estimate`].
    #[inline(always)]
    unsafe fn estimate(
        tables: *const u8,
        codes: *const u8,
        pairs: usize,
        links: &[u32; 32],
        numbers: [f32; 4],
        soon: *const u8,
        out: &mut [f32; 32],
    ) -> u32
    where
        Self: Sized,
    {
        unsafe { estimate::<Self>(tables, codes, pairs, links, numbers, soon, out) }
    }

    /// See [`pick`].
    #[inline(always)]
    unsafe fn pick(
        set: u32,
        ranks: &[f32; 32],
        nodes: &[u32; 32],
        to: (&mut [f32; 32], &mut [u32; 32]),
    ) -> usize {
        pick(set, ranks, nodes, to)
    }

    /// A bit for each value that is below a limit.
    #[inline(always)]
    unsafe fn below(values: &[f32; 32], limit: f32) -> u32 {
        values.iter().enumerate().fold(0, |all, (i, value)| all | u32::from(*value < limit) << i)
    }

    /// See [`members`].
    #[inline(always)]
    unsafe fn members(rows: &[u32], set: &[usize], n: usize) -> u32 {
        members(rows, set, n)
    }

    /// Writes `first` + i for each row i that is among the first `n` of a set; how many those are. `out` has 16 places more than
    /// there are rows.
    #[inline(always)]
    unsafe fn select(rows: &[u32], set: &[usize], n: usize, first: u32, out: &mut [u32]) -> usize {
        // Without a branch for each, which nobody could foresee: what is not selected is written over.
        let mut len = 0;
        for (some, first) in rows.chunks(32).zip((first..).step_by(32)) {
            let there = members(some, set, n);
            for i in 0..some.len() as u32 {
                out[len] = first + i;
                len += (there >> i & 1) as usize;
            }
        }
        len
    }

    /// The 16 sums of a base and some of four values, cut down to bytes, twice over.
    #[inline(always)]
    #[allow(clippy::manual_clamp)] // which would let through what is no number
    unsafe fn sign_table(four: &[f32; 4], base: f32, out: &mut [u8; 32]) {
        for set in 0..16 {
            let sum = (0..4).fold(base, |sum, i| sum + if set >> i & 1 == 1 { four[i] } else { 0.0 });
            let sum = sum.max(0.0).min(MOST_LOOKED_UP as f32);
            // SAFETY: bounds were just set, below 2^31, and what is no number became the lower one.
            out[set] = unsafe { sum.to_int_unchecked::<i32>() } as u8;
        }
        out.copy_within(..16, 16);
    }

    /// The least and the greatest of some numbers.
    #[inline(always)]
    unsafe fn range(values: &[f32]) -> (f32, f32) {
        values.iter().fold((f32::INFINITY, f32::NEG_INFINITY), |(low, high), x| (low.min(*x), high.max(*x)))
    }

    /// How many values are below a limit.
    #[inline(always)]
    unsafe fn count_below(values: &[f32], limit: f32) -> usize {
        // Of 32 bits, as the values are.
        values
            .chunks(1 << 20)
            .map(|some| some.iter().map(|x| u32::from(*x < limit)).sum::<u32>() as usize)
            .sum()
    }

    /// See [`keep_below`].
    #[inline(always)]
    unsafe fn keep_below(ranks: &mut [f32], nodes: &mut [u32], limit: f32) -> usize {
        keep_below(ranks, nodes, limit)
    }
}

/// A component as it is stored; it is widened to f32 while it is read.
pub(super) trait Element: Copy + Default {
    unsafe fn load<V: Lanes>(from: *const Self) -> V;
    #[inline(always)]
    unsafe fn load_first<V: Lanes>(from: *const Self, n: usize) -> V {
        // No register is wider than this.
        let mut lanes = [Self::default(); 16];
        unsafe {
            std::ptr::copy_nonoverlapping(from, lanes.as_mut_ptr(), n);
            Self::load(lanes.as_ptr())
        }
    }
}

impl Element for f32 {
    #[inline(always)]
    unsafe fn load<V: Lanes>(from: *const f32) -> V {
        unsafe { V::load(from) }
    }
    #[inline(always)]
    unsafe fn load_first<V: Lanes>(from: *const f32, n: usize) -> V {
        unsafe { V::load_first(from, n) }
    }
}

/// The bits of an IEEE half.
impl Element for u16 {
    #[inline(always)]
    unsafe fn load<V: Lanes>(from: *const u16) -> V {
        unsafe { V::load_half(from) }
    }
}

/// What is accumulated over the components of two vectors.
pub(super) trait Term {
    unsafe fn add<V: Lanes>(total: V, a: V, b: V) -> V;
}

pub(super) struct Product;
impl Term for Product {
    #[inline(always)]
    unsafe fn add<V: Lanes>(total: V, a: V, b: V) -> V {
        unsafe { total.add_product(a, b) }
    }
}

pub(super) struct SquaredDifference;
impl Term for SquaredDifference {
    #[inline(always)]
    unsafe fn add<V: Lanes>(total: V, a: V, b: V) -> V {
        unsafe {
            let difference = a.sub(b);
            total.add_product(difference, difference)
        }
    }
}

/// One pair. Four independent sums hide the latency of the multiply-add.
#[inline(always)]
pub(super) unsafe fn pair<V: Lanes, T: Term, E: Element>(a: *const f32, b: *const E, n: usize) -> f32 {
    unsafe {
        let mut sums = [V::zero(); 4];
        let mut i = 0;
        while i + 4 * V::N <= n {
            for (lane, sum) in sums.iter_mut().enumerate() {
                let at = i + lane * V::N;
                *sum = T::add(*sum, V::load(a.add(at)), E::load(b.add(at)));
            }
            i += 4 * V::N;
        }
        while i + V::N <= n {
            sums[0] = T::add(sums[0], V::load(a.add(i)), E::load(b.add(i)));
            i += V::N;
        }
        if i < n {
            let left = n - i;
            sums[1] = T::add(sums[1], V::load_first(a.add(i), left), E::load_first(b.add(i), left));
        }
        sums[0].add(sums[1]).add(sums[2].add(sums[3])).sum()
    }
}

/// One query against consecutive rows.
#[inline(always)]
pub(super) unsafe fn rows<V: Lanes, T: Term>(query: &[f32], rows: &[f32], out: &mut [f32]) {
    let n = query.len();
    // Far enough ahead to cover memory latency, near enough to stay in the first-level cache.
    const AHEAD: usize = 1024;
    for (i, value) in out.iter_mut().enumerate() {
        unsafe {
            let row = rows.as_ptr().add(i * n);
            let mut at = 0;
            while at < n {
                V::prefetch(row.wrapping_add(at + AHEAD).cast());
                at += 16;
            }
            *value = pair::<V, T, f32>(query.as_ptr(), row, n);
        }
    }
}

/// Ranks of 32 links from what their codes look up, and which of them are below the worst; see [`Integers::look_up`].
#[inline(always)]
pub(super) unsafe fn estimate<I: Integers>(
    tables: *const u8,
    codes: *const u8,
    pairs: usize,
    links: &[u32; 32],
    [step, base, rank, worst]: [f32; 4],
    soon: *const u8,
    out: &mut [f32; 32],
) -> u32 {
    let mut looked = [0u32; 32];
    unsafe { I::look_up(tables, codes, pairs, soon, &mut looked) };
    for i in 0..32 {
        // Sums of looked up bytes are far below 2^31, and signed conversions are one instruction everywhere.
        let (a, b) = (f32::from_bits(links[i] & 0xffff_0000), f32::from_bits(links[i] << 16));
        out[i] = rank + a + b * (step * looked[i] as i32 as f32 + base);
    }
    let mut below = 0;
    for i in 0..32 {
        below |= u32::from(out[i] < worst) << i;
    }
    below
}

/// One vector against columns: `out[c] = sum x[d] * columns[d * out.len() + c]`.
#[inline(always)]
pub(super) unsafe fn columns<V: Lanes>(x: &[f32], columns: &[f32], out: &mut [f32]) {
    let n = out.len();
    let mut c = 0;
    unsafe {
        while c + 4 * V::N <= n {
            let mut sums = [V::zero(); 4];
            for (d, &x) in x.iter().enumerate() {
                let x = V::splat(x);
                let line = columns.as_ptr().add(d * n + c);
                for (lane, sum) in sums.iter_mut().enumerate() {
                    *sum = sum.add_product(x, V::load(line.add(lane * V::N)));
                }
            }
            for (lane, sum) in sums.iter().enumerate() {
                sum.store(out.as_mut_ptr().add(c + lane * V::N));
            }
            c += 4 * V::N;
        }
        while c + V::N <= n {
            let mut sum = V::zero();
            for (d, &x) in x.iter().enumerate() {
                sum = sum.add_product(V::splat(x), V::load(columns.as_ptr().add(d * n + c)));
            }
            sum.store(out.as_mut_ptr().add(c));
            c += V::N;
        }
        for c in c..n {
            out[c] = x.iter().enumerate().map(|(d, x)| x * columns[d * n + c]).sum();
        }
    }
}

/// A tile of `R` rows by `Q` queries, all sums in registers. `out[q * stride + r]`.
#[inline(always)]
unsafe fn tile<V: Lanes, T: Term, const R: usize, const Q: usize>(
    queries: *const f32,
    rows: *const f32,
    n: usize,
    out: *mut f32,
    stride: usize,
) {
    unsafe {
        let mut sums = [[V::zero(); Q]; R];
        let mut i = 0;
        while i + V::N <= n {
            let mut held = [V::zero(); R];
            for r in 0..R {
                held[r] = V::load(rows.add(r * n + i));
            }
            for q in 0..Q {
                let query = V::load(queries.add(q * n + i));
                for r in 0..R {
                    sums[r][q] = T::add(sums[r][q], held[r], query);
                }
            }
            i += V::N;
        }
        if i < n {
            for r in 0..R {
                let row = V::load_first(rows.add(r * n + i), n - i);
                for q in 0..Q {
                    let query = V::load_first(queries.add(q * n + i), n - i);
                    sums[r][q] = T::add(sums[r][q], row, query);
                }
            }
        }
        for r in 0..R {
            for q in 0..Q {
                *out.add(q * stride + r) = sums[r][q].sum();
            }
        }
    }
}

/// Every query against every row, in register tiles: `out[q * n_rows + r]`.
#[inline(always)]
pub(super) unsafe fn block<V: Lanes, T: Term, const R: usize, const Q: usize>(
    queries: &[f32],
    rows: &[f32],
    n: usize,
    out: &mut [f32],
) {
    let (n_queries, n_rows) = (queries.len() / n, rows.len() / n);
    unsafe {
        let mut q = 0;
        while q + Q <= n_queries {
            let query = queries.as_ptr().add(q * n);
            let mut r = 0;
            while r + R <= n_rows {
                let to = out.as_mut_ptr().add(q * n_rows + r);
                tile::<V, T, R, Q>(query, rows.as_ptr().add(r * n), n, to, n_rows);
                r += R;
            }
            while r < n_rows {
                let to = out.as_mut_ptr().add(q * n_rows + r);
                tile::<V, T, 1, Q>(query, rows.as_ptr().add(r * n), n, to, n_rows);
                r += 1;
            }
            q += Q;
        }
        while q < n_queries {
            for r in 0..n_rows {
                out[q * n_rows + r] =
                    pair::<V, T, f32>(queries.as_ptr().add(q * n), rows.as_ptr().add(r * n), n);
            }
            q += 1;
        }
    }
}

/// Reads everything once and returns its sum: the pace at which memory can be read at all.
#[inline(always)]
pub(super) unsafe fn read<V: Lanes>(values: &[f32]) -> f32 {
    unsafe {
        let mut sums = [V::zero(); 4];
        let mut i = 0;
        while i + 4 * V::N <= values.len() {
            for (lane, sum) in sums.iter_mut().enumerate() {
                let at = values.as_ptr().add(i + lane * V::N);
                V::prefetch(at.wrapping_add(1024).cast());
                *sum = sum.add(V::load(at));
            }
            i += 4 * V::N;
        }
        let rest: f32 = values[i..].iter().sum();
        rest + sums[0].add(sums[1]).add(sums[2].add(sums[3])).sum()
    }
}

/// The Walsh-Hadamard transform of values times their signs, unscaled; a power of two of them.
#[inline(always)]
pub(super) unsafe fn mix<V: Lanes>(values: &mut [f32], signs: &[f32]) {
    let n = values.len();
    values.iter_mut().zip(signs).for_each(|(x, s)| *x *= s);
    // The first rounds within sixteen values, the others across them in whole registers.
    let (sixteens, few) = values.as_chunks_mut::<16>();
    sixteens.iter_mut().for_each(|some| unsafe { V::mix(some) });
    mix_rounds(few, 1);
    mix_rounds(values, 16.min(n));
}

/// The rounds in which the partner of a value lies `apart` values or more away.
#[inline(always)]
fn mix_rounds(values: &mut [f32], mut apart: usize) {
    while apart < values.len() {
        for both in values.chunks_exact_mut(2 * apart) {
            let (first, second) = both.split_at_mut(apart);
            for (x, y) in first.iter_mut().zip(second) {
                (*x, *y) = (*x + *y, *x - *y);
            }
        }
        apart *= 2;
    }
}

/// The largest magnitude, and the sum of all; sixteen of each at once, so that no addition waits for the one before.
#[inline(always)]
pub(super) fn magnitudes(values: &[f32]) -> (f32, f32) {
    let (mut largest, mut sums) = ([0.0f32; 16], [0.0f32; 16]);
    let (whole, rest) = values.as_chunks::<16>();
    for some in whole {
        for i in 0..16 {
            let x = some[i].abs();
            largest[i] = if x > largest[i] { x } else { largest[i] };
            sums[i] += x;
        }
    }
    let rest = rest.iter().map(|x| x.abs());
    (largest.into_iter().chain(rest.clone()).fold(0.0, f32::max), sums.into_iter().chain(rest).sum())
}

/// Values times a scale, rounded to the nearest and at most 127 either way, told as bytes above 128; and their sum.
#[inline(always)]
#[allow(clippy::manual_clamp)] // which would let through what is no number
pub(super) fn bytes(values: &[f32], scale: f32, out: &mut [u8]) -> i32 {
    let mut sum = 0;
    for (byte, x) in out.iter_mut().zip(values) {
        // SAFETY: bounds are set first, and what is no number becomes the lower one.
        let value = unsafe { (x * scale + 128.5).max(1.0).min(255.0).to_int_unchecked::<i32>() };
        *byte = value as u8;
        sum += value - 128;
    }
    sum
}

/// Values times a scale, rounded to the nearest; the caller sees to it that they fit.
#[inline(always)]
#[allow(clippy::manual_clamp)] // which would let through what is no number
pub(super) fn shorts(values: &[f32], scale: f32, out: &mut [i16]) {
    for (short, x) in out.iter_mut().zip(values) {
        let x = (x * scale).max(-32_767.0).min(32_767.0);
        // SAFETY: bounds were just set, and what is no number became the lower one.
        *short = unsafe { (x + 0.5f32.copysign(x)).to_int_unchecked::<i32>() } as i16;
    }
}

/// The ranks and nodes that a bit is set for, put at the beginning of `to`; how many those are.
#[inline(always)]
pub(super) fn pick(
    mut set: u32,
    ranks: &[f32; 32],
    nodes: &[u32; 32],
    (to_ranks, to_nodes): (&mut [f32; 32], &mut [u32; 32]),
) -> usize {
    let mut n = 0;
    while set != 0 {
        let slot = set.trailing_zeros() as usize;
        set &= set - 1;
        (to_ranks[n], to_nodes[n]) = (ranks[slot], nodes[slot]);
        n += 1;
    }
    n
}

/// A bit for each row that is among the first `n` of a set; every word up to that of the last one is there.
#[inline(always)]
pub(super) fn members(rows: &[u32], set: &[usize], n: usize) -> u32 {
    let mut found = 0;
    for (i, row) in rows.iter().enumerate() {
        let row = *row as usize;
        let word = if row < n { set[row / usize::BITS as usize] } else { 0 };
        found |= ((word >> (row % usize::BITS as usize)) as u32 & 1) << i;
    }
    found
}

/// An integer that is in the order of floats.
#[inline(always)]
pub(super) fn ordered(x: f32) -> u32 {
    let bits = x.to_bits();
    bits ^ (((bits as i32 >> 31) as u32) | 1 << 31)
}

#[inline(always)]
pub(super) fn unordered(x: u32) -> f32 {
    f32::from_bits(if x >> 31 == 1 { x ^ 1 << 31 } else { !x })
}

/// A value that at least `wanted` and at most `most` of all are below, and 0; or, where so many are equal that there is
/// none, the value that they have, and how many of them are wanted.
#[inline(always)]
pub(super) unsafe fn limit<I: Integers>(values: &[f32], wanted: usize, most: usize) -> (f32, usize) {
    let (least, greatest) = unsafe { I::range(values) };
    // A zero below zero equals one above it, which is the greater integer.
    let (mut low, high) = (ordered(least), ordered(greatest + 0.0));
    // So few values are below `low`, and too many below `high`.
    let (mut below, mut high, mut above) = (0, high + 1, values.len());
    let target = (wanted + most) as f32 / 2.0;
    for step in 1.. {
        let width = high - low;
        if width <= 1 {
            break;
        }
        // Where the limit would lie if values lay evenly; now and then the middle, which always comes to an end.
        let share = if step % 4 == 0 { 0.5 } else { (target - below as f32) / (above - below) as f32 };
        let at = low + ((width as f32 * share) as u32).clamp(1, width - 1);
        let limit = unordered(at);
        let n = unsafe { I::count_below(values, limit) };
        if n < wanted {
            (low, below) = (at, n);
        } else if n > most {
            (high, above) = (at, n);
        } else {
            return (limit, 0);
        }
    }
    (unordered(low), wanted - below)
}

/// Leaves those ranks, and their nodes, that are below a limit, in their order; how many those are. What comes after
/// them may be anything.
#[inline(always)]
pub(super) fn keep_below(ranks: &mut [f32], nodes: &mut [u32], limit: f32) -> usize {
    let (ranks, nodes) = (ranks.as_mut_ptr(), &mut nodes[..ranks.len()]);
    let mut kept = 0;
    for at in 0..nodes.len() {
        // SAFETY: there are as many ranks as nodes, and no more are kept than were compared.
        unsafe {
            let rank = *ranks.add(at);
            *ranks.add(kept) = rank;
            *nodes.get_unchecked_mut(kept) = *nodes.get_unchecked(at);
            kept += usize::from(rank < limit);
        }
    }
    kept
}

/// For each four values the 16 sums of some of them, over the least such sum, in steps.
#[inline(always)]
pub(super) unsafe fn sign_tables<I: Integers>(values: &[f32], inverse: f32, out: &mut [u8]) {
    // Sixteen places at a time: what is the same for all of a place is computed in wide registers, too.
    for (first, some) in (0..).step_by(16).zip(values.chunks(64)) {
        let (mut scaled, mut base) = ([0.0f32; 64], [0.0f32; 16]);
        scaled.iter_mut().zip(some).for_each(|(s, x)| *s = x * inverse);
        for (base, four) in base.iter_mut().zip(scaled.as_chunks::<4>().0) {
            // The least sum is that of all that are below zero.
            let below = four.map(|x| if x < 0.0 { x } else { 0.0 });
            *base = 0.5 - ((below[0] + below[1]) + (below[2] + below[3]));
        }
        let places = (first..).zip(scaled.as_chunks::<4>().0).zip(&base);
        for ((place, four), base) in places.take(some.len() / 4) {
            let out = out[table_at(place)..].first_chunk_mut().expect("a table for each place");
            unsafe { I::sign_table(four, *base, out) };
        }
    }
}
