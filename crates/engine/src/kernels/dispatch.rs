//! Choosing the kernels for the CPU at hand, and calling them safely: lengths are checked here, and a table of
//! functions can be had only for an instruction set that the CPU reports.

use crate::kernels::arch;
use crate::kernels::functions::Functions;
use crate::kernels::marks::Value;
use crate::kernels::tables::tables_len;
use std::sync::OnceLock;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Level {
    Plain,
    Neon,
    Avx2,
    Avx512,
    /// AVX-512 with dot products of small integers.
    Vnni,
}

/// The kernels of one instruction set. Cheap to copy; [`Kernels::best`] is what callers want.
#[derive(Clone, Copy)]
pub struct Kernels {
    level: Level,
    f: Functions,
}

#[cfg(target_arch = "x86_64")]
fn has_avx512() -> bool {
    is_x86_feature_detected!("avx512f")
        && is_x86_feature_detected!("avx512bw")
        && is_x86_feature_detected!("avx512vl")
        && is_x86_feature_detected!("avx512dq")
        && is_x86_feature_detected!("popcnt")
}

impl Kernels {
    /// The kernels for `level`, or `None` where the CPU lacks it.
    pub fn new(level: Level) -> Option<Self> {
        let f = match level {
            Level::Plain => arch::plain::FUNCTIONS,
            #[cfg(target_arch = "x86_64")]
            Level::Avx2
                if is_x86_feature_detected!("avx2")
                    && is_x86_feature_detected!("fma")
                    && is_x86_feature_detected!("f16c")
                    && is_x86_feature_detected!("popcnt") =>
            {
                arch::avx2::FUNCTIONS
            }
            #[cfg(target_arch = "x86_64")]
            Level::Avx512 if has_avx512() => arch::avx512::FUNCTIONS,
            #[cfg(target_arch = "x86_64")]
            Level::Vnni if has_avx512() && is_x86_feature_detected!("avx512vnni") => arch::vnni::FUNCTIONS,
            #[cfg(target_arch = "aarch64")]
            Level::Neon => arch::neon::FUNCTIONS,
            _ => return None,
        };
        Some(Kernels { level, f })
    }

    /// Every level this CPU has, slowest first.
    pub fn available() -> Vec<Kernels> {
        let all = [Level::Plain, Level::Neon, Level::Avx2, Level::Avx512, Level::Vnni];
        all.into_iter().filter_map(Kernels::new).collect()
    }

    pub fn best() -> &'static Kernels {
        static BEST: OnceLock<Kernels> = OnceLock::new();
        BEST.get_or_init(|| *Kernels::available().last().expect("plain kernels always exist"))
    }

    pub fn level(&self) -> Level {
        self.level
    }

    /// `sum a*b`. Both slices must have the same length.
    #[inline]
    #[allow(unsafe_code)]
    pub fn dot(&self, a: &[f32], b: &[f32]) -> f32 {
        assert_eq!(a.len(), b.len());
        // SAFETY: equal lengths; `new` checked the instruction set. The same holds below.
        unsafe { (self.f.dot)(a.as_ptr(), b.as_ptr(), a.len()) }
    }

    /// `sum (a-b)^2`. Both slices must have the same length.
    #[inline]
    #[allow(unsafe_code)]
    pub fn squared_euclidean(&self, a: &[f32], b: &[f32]) -> f32 {
        assert_eq!(a.len(), b.len());
        // SAFETY: as above.
        unsafe { (self.f.euclid)(a.as_ptr(), b.as_ptr(), a.len()) }
    }

    /// Ranks (lower is closer) of one query against consecutive rows: `out.len()` rows.
    #[allow(unsafe_code)]
    pub fn rank_rows(&self, euclidean: bool, query: &[f32], rows: &[f32], out: &mut [f32]) {
        assert_eq!(rows.len(), query.len() * out.len());
        // SAFETY: as above; `rows` holds exactly `out.len()` rows.
        unsafe {
            if euclidean {
                (self.f.euclid_rows)(query, rows, out);
            } else {
                (self.f.dot_rows)(query, rows, out);
                negate(out);
            }
        }
    }

    /// Ranks of one query against the rows numbered in `picks`, one output each.
    #[inline]
    #[allow(unsafe_code)]
    pub fn rank_picked(&self, euclidean: bool, query: &[f32], rows: &[f32], picks: &[u32], out: &mut [f32]) {
        check_picks(query.len(), rows.len(), picks, out);
        // SAFETY: as above; every pick was just checked.
        unsafe {
            if euclidean {
                (self.f.euclid_picked)(query, rows, picks, out);
            } else {
                (self.f.dot_picked)(query, rows, picks, out);
                negate(out);
            }
        }
    }

    /// As [`Kernels::rank_picked`], for rows of IEEE halves, given by their bits.
    #[allow(unsafe_code)]
    pub fn rank_halves(&self, euclidean: bool, query: &[f32], rows: &[u16], picks: &[u32], out: &mut [f32]) {
        check_picks(query.len(), rows.len(), picks, out);
        // SAFETY: as above; every pick was just checked.
        unsafe {
            if euclidean {
                (self.f.half_euclid)(query, rows, picks, out);
            } else {
                (self.f.half_dot)(query, rows, picks, out);
                negate(out);
            }
        }
    }

    /// `sum query * row` for rows of signed bytes, numbered in `picks`. The caller has scaled the query so that
    /// `127 * sum |query|` fits 32 bits; sums wrap otherwise.
    #[inline]
    #[allow(unsafe_code)]
    pub fn dot_bytes(&self, query: &[i16], rows: &[i8], picks: &[u32], out: &mut [i32]) {
        check_picks(query.len(), rows.len(), picks, out);
        // SAFETY: as above; every pick was just checked.
        unsafe { (self.f.byte_dot)(query, rows, picks, out) }
    }

    /// `sum a * b` of signed bytes, at most 2^16 of them.
    #[inline]
    #[allow(unsafe_code)]
    pub fn dot_byte_pair(&self, a: &[i8], b: &[i8]) -> i32 {
        assert!(a.len() == b.len() && a.len() <= 1 << 16);
        // SAFETY: as above.
        unsafe { (self.f.byte_pair)(a.as_ptr(), b.as_ptr(), a.len()) }
    }

    /// For each picked row of so many words (first of `shape`): `a + b * (step * sum - shift)`. A row begins with b and a, as
    /// two f32 in a word, b below; the bits come after so many words (second): `planes` (third) times `values.len()` of them.
    /// Summed are the values whose bit is set, those of plane p counted 2^p times; a value is how far its byte is above
    /// 128. `values.len()` is a multiple of 64 and at most 2^16.
    #[inline]
    #[allow(unsafe_code)]
    pub fn rank_bits(
        &self,
        values: &[u8],
        rows: &[u64],
        shape: (usize, usize, usize),
        picks: &[u32],
        (step, shift): (f32, f32),
        out: &mut [f32],
    ) {
        let (words, before, planes) = shape;
        assert!(values.len().is_multiple_of(64) && values.len() <= 1 << 16 && planes <= 8);
        assert!(1 <= before && before <= words && planes * values.len() / 64 <= words - before);
        check_picks(words, rows.len(), picks, out);
        // SAFETY: as above; every pick was just checked.
        unsafe { (self.f.rank_bits)(values, rows, shape, picks, (step, shift), out) }
    }

    /// What 4-bit codes of 32 rows look up, summed for each row: 32 bytes for each pair of places, a row's code of
    /// the even place in the lower half of its byte. `tables`: 16 values for each place, at most [`MOST_LOOKED_UP`],
    /// each table twice over, as registers take them: of every four places first those of the even ones.
    #[inline]
    #[allow(unsafe_code)]
    pub fn look_up(&self, tables: &[u8], codes: &[u8], out: &mut [u32; 32]) {
        assert!(tables.len() == tables_len(codes.len() / 16) && codes.len().is_multiple_of(32));
        // SAFETY: as above.
        unsafe { (self.f.look_up)(tables, codes, out) }
    }

    /// From what codes of 32 rows look up (see [`Kernels::look_up`]), with `numbers` = step, base, rank and worst, and
    /// a and b the upper halves of two f32 in a word of `links`: `out = rank + a + b * (step * looked up + base)`; and a bit for each that is below `worst`.
    /// Meanwhile `soon`, about as long as the codes, is called into the caches.
    #[inline]
    #[allow(unsafe_code)]
    pub fn estimate(
        &self,
        tables: &[u8],
        codes: &[u8],
        links: &[u32; 32],
        numbers: [f32; 4],
        soon: &[u8],
        out: &mut [f32; 32],
    ) -> u32 {
        assert!(tables.len() == tables_len(codes.len() / 16) && codes.len().is_multiple_of(32));
        // SAFETY: as above.
        unsafe { (self.f.estimate)(tables, codes, links, numbers, soon, out) }
    }

    /// The ranks and nodes whose bit is set, put at the beginning of `to` in their order; how many those are. What comes
    /// after them in `to` may be anything.
    #[inline]
    #[allow(unsafe_code)]
    pub fn pick(
        &self,
        set: u32,
        ranks: &[f32; 32],
        nodes: &[u32; 32],
        to: (&mut [f32; 32], &mut [u32; 32]),
    ) -> usize {
        // SAFETY: as above.
        unsafe { (self.f.pick)(set, ranks, nodes, to) }
    }

    /// A bit for each of up to 32 rows that is among the first `n` of a set, given by its words; a row beyond those is in
    /// none.
    #[inline]
    #[allow(unsafe_code)]
    pub fn members(&self, rows: &[u32], set: &[usize], n: usize) -> u32 {
        assert!(rows.len() <= 32 && n <= set.len() * usize::BITS as usize);
        // SAFETY: as above; words that are looked at hold one of the first `n`.
        unsafe { (self.f.members)(rows, set, n) }
    }

    /// Appends `first` + i for each row i that is among the first `n` of a set, as [`Kernels::members`] tells.
    #[inline]
    #[allow(unsafe_code)]
    pub fn select(&self, rows: &[u32], (set, n): (&[usize], usize), first: u32, out: &mut Vec<u32>) {
        assert!(n <= set.len() * usize::BITS as usize);
        let len = out.len();
        out.resize(len + rows.len() + 16, 0);
        // SAFETY: as above, and there is as much room as rows, and 16 places.
        let found = unsafe { (self.f.select)(rows, set, n, first, &mut out[len..]) };
        out.truncate(len + found);
    }

    /// A bit for each value that is below a limit.
    #[inline]
    #[allow(unsafe_code)]
    pub fn below(&self, values: &[f32; 32], limit: f32) -> u32 {
        // SAFETY: as above.
        unsafe { (self.f.below)(values, limit) }
    }

    /// Where to cut values, fewer than 2^32 numbers below infinity, so that the least stay: a value that at least
    /// `wanted` and at most `most` of them are below, and 0; or, where so many are equal that there is none, the value that
    /// these have, and how many of them are to stay besides those below. There are more values than `most`.
    #[allow(unsafe_code)]
    pub fn limit(&self, values: &[f32], wanted: usize, most: usize) -> (f32, usize) {
        assert!(wanted <= most && most < values.len());
        // SAFETY: as above.
        unsafe { (self.f.limit)(values, wanted, most) }
    }

    /// Leaves those ranks, and their nodes, that are below a limit, in their order; how many those are. What comes after
    /// them may be anything.
    #[allow(unsafe_code)]
    pub fn keep_below(&self, ranks: &mut [f32], nodes: &mut [u32], limit: f32) -> usize {
        assert_eq!(ranks.len(), nodes.len());
        // SAFETY: as above.
        unsafe { (self.f.keep_below)(ranks, nodes, limit) }
    }

    /// The Walsh-Hadamard transform of values times their signs, unscaled. There is a power of two of them.
    #[allow(unsafe_code)]
    pub fn mix(&self, values: &mut [f32], signs: &[f32]) {
        assert!(values.len().is_power_of_two() && signs.len() == values.len());
        // SAFETY: as above.
        unsafe { (self.f.mix)(values, signs) }
    }

    /// The largest magnitude among values, and the sum of all magnitudes: infinite where f32 cannot tell it.
    #[allow(unsafe_code)]
    pub fn magnitudes(&self, values: &[f32]) -> (f32, f32) {
        // SAFETY: as above.
        unsafe { (self.f.magnitudes)(values) }
    }

    /// Values times a scale, rounded, half away from zero, at most 32,767 either way. Values are numbers, not NaN.
    #[allow(unsafe_code)]
    pub fn shorts(&self, values: &[f32], scale: f32) -> Vec<i16> {
        assert!(scale.is_finite());
        let mut out = vec![0; values.len()];
        // SAFETY: as above.
        unsafe { (self.f.shorts)(values, scale, &mut out) }
        out
    }

    /// Values times a scale, rounded, at most 127 either way, told as bytes above 128; and the sum of what was rounded.
    #[allow(unsafe_code)]
    pub fn bytes(&self, values: &[f32], scale: f32) -> (Vec<u8>, i32) {
        assert!(scale.is_finite());
        let mut out = vec![0; values.len()];
        // SAFETY: as above.
        let sum = unsafe { (self.f.bytes)(values, scale, &mut out) };
        (out, sum)
    }

    /// For each four values the 16 sums of some of them (bit i says whether value i is among them), told as
    /// `(sum - least sum) * inverse`, rounded, in bytes up to [`MOST_LOOKED_UP`]: tables for [`Kernels::look_up`].
    #[allow(unsafe_code)]
    pub fn sign_tables(&self, values: &[f32], inverse: f32, out: &mut [u8]) {
        assert!(out.len() >= tables_len(values.len() / 4));
        // SAFETY: as above.
        unsafe { (self.f.sign_tables)(values, inverse, out) }
    }

    /// `out[c] = sum x[d] * columns[d * out.len() + c]`.
    #[inline]
    #[allow(unsafe_code)]
    pub fn dot_columns(&self, x: &[f32], columns: &[f32], out: &mut [f32]) {
        assert_eq!(columns.len(), x.len() * out.len());
        // SAFETY: as above.
        unsafe { (self.f.columns)(x, columns, out) }
    }

    /// Calls values into the caches before they are needed. Changes nothing else.
    #[inline(always)]
    #[allow(unsafe_code)]
    pub fn prefetch<T>(&self, values: &[T]) {
        #[cfg(target_arch = "x86_64")]
        {
            use std::arch::x86_64::{_MM_HINT_T0, _mm_prefetch};
            let start = values.as_ptr().cast::<i8>();
            let within = start.addr() % 64;
            for line in 0..(within + std::mem::size_of_val(values)).div_ceil(64) {
                // SAFETY: every x86-64 CPU has this, and it touches nothing that can be seen.
                unsafe { _mm_prefetch::<_MM_HINT_T0>(start.wrapping_sub(within).wrapping_add(64 * line)) };
            }
        }
    }

    /// The sum of all values, read at the pace of memory; for measuring that pace.
    #[allow(unsafe_code)]
    pub fn read(&self, values: &[f32]) -> f32 {
        // SAFETY: `new` checked the instruction set.
        unsafe { (self.f.read)(values) }
    }

    /// Ranks of every query against every row: `out[q * n_rows + r]`.
    #[allow(unsafe_code)]
    pub fn rank_block(
        &self,
        euclidean: bool,
        queries: &[f32],
        rows: &[f32],
        dimensions: usize,
        out: &mut [f32],
    ) {
        assert!(dimensions > 0);
        assert!(queries.len().is_multiple_of(dimensions) && rows.len().is_multiple_of(dimensions));
        assert_eq!(out.len(), (queries.len() / dimensions) * (rows.len() / dimensions));
        // SAFETY: as above; shapes were just checked.
        unsafe {
            if euclidean {
                (self.f.euclid_block)(queries, rows, dimensions, out);
            } else {
                (self.f.dot_block)(queries, rows, dimensions, out);
                negate(out);
            }
        }
    }

    /// A bit for each value from `low` to `high`, both inclusive; a last word may be part of one.
    #[allow(unsafe_code)]
    pub(crate) fn mark<T: Value>(&self, values: &[T], low: T, high: T, out: &mut Vec<usize>) {
        // SAFETY: as above.
        unsafe { T::kernel(&self.f)(values, low, high, out) }
    }
}

#[inline]
fn check_picks<T>(dimensions: usize, values: usize, picks: &[u32], out: &[T]) {
    assert_eq!(picks.len(), out.len());
    let n_rows = values / dimensions.max(1);
    assert!(picks.iter().all(|&p| (p as usize) < n_rows), "row number beyond the rows");
}

fn negate(values: &mut [f32]) {
    values.iter_mut().for_each(|v| *v = -*v);
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::kernels::generic::{ordered, unordered};
    use crate::kernels::tables::{MOST_LOOKED_UP, put_table, table_at};
    use proptest::prelude::*;

    fn dot_f64(a: &[f32], b: &[f32]) -> f64 {
        a.iter().zip(b).map(|(&x, &y)| f64::from(x) * f64::from(y)).sum()
    }
    fn euclid_f64(a: &[f32], b: &[f32]) -> f64 {
        a.iter().zip(b).map(|(&x, &y)| (f64::from(x) - f64::from(y)).powi(2)).sum()
    }
    /// Rounding grows with the sum of magnitudes, not with the (possibly cancelled) result.
    fn close(got: f32, want: f64, magnitude: f64, n: usize) -> bool {
        (f64::from(got) - want).abs() <= 1e-6 * magnitude * (n as f64).sqrt().max(1.0) + 1e-30
    }
    fn magnitude(a: &[f32], b: &[f32]) -> f64 {
        a.iter().zip(b).map(|(&x, &y)| (f64::from(x).abs() + f64::from(y).abs()).powi(2)).sum()
    }

    /// Lengths around every lane and unrolling boundary, and well beyond.
    fn lengths() -> impl Strategy<Value = usize> {
        prop_oneof![1usize..=20, 28usize..=36, 60usize..=70, 124usize..=132, 380usize..=390, Just(1536)]
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(200))]

        #[test]
        fn every_level_equals_the_plain_f64_loop(
            (a, b) in lengths().prop_flat_map(|n| (
                prop::collection::vec(-100.0f32..100.0, n), prop::collection::vec(-100.0f32..100.0, n)))
        ) {
            for k in Kernels::available() {
                let m = magnitude(&a, &b);
                prop_assert!(close(k.dot(&a, &b), dot_f64(&a, &b), m, a.len()), "{:?} dot", k.level());
                prop_assert!(close(k.squared_euclidean(&a, &b), euclid_f64(&a, &b), m, a.len()),
                    "{:?} euclid", k.level());
            }
        }

        #[test]
        fn rows_picks_and_blocks_equal_pairs(
            n in lengths(), n_rows in 1usize..12, n_queries in 1usize..15, seed in any::<u64>()
        ) {
            use rand::{Rng, SeedableRng};
            let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
            let rows: Vec<f32> = (0..n * n_rows).map(|_| rng.random_range(-2.0..2.0)).collect();
            let queries: Vec<f32> = (0..n * n_queries).map(|_| rng.random_range(-2.0..2.0)).collect();
            let picks: Vec<u32> = (0..7).map(|_| rng.random_range(0..n_rows as u32)).collect();
            for k in Kernels::available() {
                for euclidean in [false, true] {
                    let want = |q: usize, r: usize| {
                        let (a, b) = (&queries[q * n..][..n], &rows[r * n..][..n]);
                        let value = if euclidean { euclid_f64(a, b) } else { -dot_f64(a, b) };
                        (value, magnitude(a, b))
                    };
                    let mut block = vec![0.0; n_rows * n_queries];
                    k.rank_block(euclidean, &queries, &rows, n, &mut block);
                    for q in 0..n_queries {
                        for r in 0..n_rows {
                            let (value, m) = want(q, r);
                            prop_assert!(close(block[q * n_rows + r], value, m, n), "{:?} block", k.level());
                        }
                    }
                    let mut line = vec![0.0; n_rows];
                    k.rank_rows(euclidean, &queries[..n], &rows, &mut line);
                    for (r, &got) in line.iter().enumerate() {
                        let (value, m) = want(0, r);
                        prop_assert!(close(got, value, m, n), "{:?} rows", k.level());
                    }
                    let mut some = vec![0.0; picks.len()];
                    let halves: Vec<u16> = rows.iter().map(|x| half::f16::from_f32(*x).to_bits()).collect();
                    k.rank_halves(euclidean, &queries[..n], &halves, &picks, &mut some);
                    for (i, &got) in some.iter().enumerate() {
                        let row: Vec<f32> = halves[picks[i] as usize * n..][..n].iter()
                            .map(|b| half::f16::from_bits(*b).to_f32()).collect();
                        let (a, b) = (&queries[..n], &row[..]);
                        let value = if euclidean { euclid_f64(a, b) } else { -dot_f64(a, b) };
                        prop_assert!(close(got, value, magnitude(a, b), n), "{:?} halves", k.level());
                    }
                    k.rank_picked(euclidean, &queries[..n], &rows, &picks, &mut some);
                    for (i, &got) in some.iter().enumerate() {
                        let (value, m) = want(0, picks[i] as usize);
                        prop_assert!(close(got, value, m, n), "{:?} picked", k.level());
                    }
                }
            }
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(200))]

        #[test]
        fn integer_kernels_equal_plain_sums_to_the_last_bit(
            n in lengths(), words in 1usize..9, planes in 1usize..5, pairs in 1usize..300, seed in any::<u64>()
        ) {
            use rand::{Rng, SeedableRng};
            let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
            let rows: Vec<i8> = (0..5 * n).map(|_| rng.random_range(-127..=127)).collect();
            let query: Vec<i16> = (0..n).map(|_| rng.random_range(-10_000..10_000)).collect();
            let picks = [4u32, 0, 4, 2, 1, 3];
            let values: Vec<u8> = (0..64 * words).map(|_| rng.random()).collect();
            let before = rng.random_range(1..3);
            let mut stride = before + planes * words + rng.random_range(0..3);
            // Rows of whole lines are gone through in another way.
            if rng.random() {
                stride = stride.next_multiple_of(8);
            }
            let mut bits: Vec<u64> = (0..5 * stride + 7).map(|_| rng.random()).collect();
            let aligned = bits.as_ptr().align_offset(64);
            let bits = &mut bits[aligned..][..5 * stride];
            let numbers: Vec<f32> = (0..10).map(|_| rng.random_range(-1.0..1.0)).collect();
            for (row, two) in bits.chunks_mut(stride).zip(numbers.chunks(2)) {
                row[0] = u64::from(two[1].to_bits()) << 32 | u64::from(two[0].to_bits());
            }
            let of_bits: Vec<u32> = (0..rng.random_range(0..40)).map(|_| rng.random_range(0..5)).collect();
            let mut tables = vec![0; tables_len(2 * pairs)];
            for place in 0..2 * pairs {
                put_table(&mut tables, place, std::array::from_fn(|_| rng.random_range(0..=MOST_LOOKED_UP)));
            }
            let codes: Vec<u8> = (0..32 * pairs).map(|_| rng.random()).collect();
            let shorts: Vec<u16> = codes.chunks(2).map(|c| u16::from_le_bytes([c[0], c[1]])).collect();
            let longs: Vec<u32> = shorts.iter().map(|s| u32::from(*s) * 0x9E37).collect();
            for k in Kernels::available() {
                let bit = |words: &[usize], i: usize| words[i / 64] >> (i % 64) & 1 == 1;
                let set: Vec<usize> = longs.iter().map(|l| *l as usize * 0x1_0001_0001).collect();
                let among = rng.random_range(0..=64 * set.len());
                let mut some: Vec<u32> = (0..rng.random_range(0..=32)).map(|_| rng.random_range(0..80 * set.len() as u32)).collect();
                some.iter_mut().step_by(7).for_each(|row| *row = u32::MAX);
                let got = k.members(&some, &set, among);
                let is_in = |row: u32| (row as usize) < among && bit(&set, row as usize);
                let want = some.iter().enumerate().fold(0, |all, (i, row)| all | u32::from(is_in(*row)) << i);
                prop_assert_eq!(got, want, "{:?} members", k.level());
                let many: Vec<u32> = (0..rng.random_range(0..100)).map(|_| rng.random_range(0..80 * set.len() as u32)).collect();
                let mut selected = vec![3];
                k.select(&many, (&set, among), 11, &mut selected);
                let in_order = many.iter().zip(11..).filter(|(row, _)| is_in(**row)).map(|(_, number)| number);
                prop_assert_eq!(selected, [3].into_iter().chain(in_order).collect::<Vec<u32>>(), "{:?} select", k.level());
                let mixed: [f32; 32] = std::array::from_fn(|i| if i == 7 { f32::NAN } else { (longs[i % longs.len()] % 9) as f32 });
                let want = mixed.iter().enumerate().fold(0, |all, (i, v)| all | u32::from(*v < 4.0) << i);
                prop_assert_eq!(k.below(&mixed, 4.0), want, "{:?} below", k.level());
                let mut out = [0i32; 6];
                k.dot_bytes(&query, &rows, &picks, &mut out);
                for (&pick, &got) in picks.iter().zip(&out) {
                    let row = &rows[pick as usize * n..][..n];
                    let want: i32 = query.iter().zip(row).map(|(&q, &r)| i32::from(q) * i32::from(r)).sum();
                    prop_assert_eq!(got, want, "{:?} bytes", k.level());
                }
                let want: i32 = rows[..n].iter().zip(&rows[n..2 * n]).map(|(&a, &b)| i32::from(a) * i32::from(b)).sum();
                prop_assert_eq!(k.dot_byte_pair(&rows[..n], &rows[n..2 * n]), want, "{:?} pair", k.level());
                let mut out = vec![0.0f32; of_bits.len()];
                k.rank_bits(&values, bits, (stride, before, planes), &of_bits, (0.01, 0.3), &mut out);
                for (&pick, &got) in of_bits.iter().zip(&out) {
                    let row = &bits[pick as usize * stride + before..][..planes * words];
                    let bit = |plane: usize, i: usize| i32::from(row[plane * words + i / 64] >> (i % 64) & 1 == 1);
                    let value = |i: usize| i32::from(values[i]) - 128;
                    let sum: i32 = (0..planes)
                        .map(|p| (0..64 * words).map(|i| bit(p, i) * value(i)).sum::<i32>() << p).sum();
                    let (b, a) = (numbers[2 * pick as usize], numbers[2 * pick as usize + 1]);
                    prop_assert_eq!(got, a + b * (0.01 * sum as f32 - 0.3), "{:?} bits", k.level());
                }
                let mut out = [0u32; 32];
                k.look_up(&tables, &codes, &mut out);
                let numbers: Vec<f32> = (0..64).map(|i| (i as f32 - 30.0) / 8.0).collect();
                // Numbers that the upper half of an f32 holds.
                let links: [u32; 32] =
                    std::array::from_fn(|i| numbers[i].to_bits() | numbers[32 + i].to_bits() >> 16);
                let (a, b) = numbers.split_at(32);
                let mut ranks = [0.0; 32];
                let below = k.estimate(&tables, &codes, &links, [0.01, -1.0, 0.5, 2.0], &codes, &mut ranks);
                for row in 0..32 {
                    let want = 0.5 + a[row] + b[row] * (0.01 * out[row] as f32 - 1.0);
                    prop_assert!((ranks[row] - want).abs() <= 1e-4 * (1.0 + want.abs()), "{:?} estimate", k.level());
                    prop_assert_eq!(below >> row & 1 == 1, ranks[row] < 2.0);
                }
                let (mut picked, mut picks) = ([0.0; 32], [0; 32]);
                let n = k.pick(below, &ranks, &links, (&mut picked, &mut picks));
                let want = (0..32).filter(|row| below >> row & 1 == 1).map(|row| (ranks[row], links[row]));
                prop_assert!(picked.into_iter().zip(picks).take(n).eq(want), "{:?} pick", k.level());
                for (row, &got) in out.iter().enumerate() {
                    let want: u32 = (0..pairs).map(|p| {
                        let code = codes[32 * p + row] as usize;
                        let of = |place: usize, code: usize| u32::from(tables[table_at(place) + code]);
                        of(2 * p, code % 16) + of(2 * p + 1, code / 16)
                    }).sum();
                    prop_assert_eq!(got, want, "{:?} look up", k.level());
                }
            }
        }

        #[test]
        fn a_limit_leaves_as_many_as_are_wanted(
            values in proptest::collection::vec(prop_oneof![-2i8..2, any::<i8>()], 2..200),
            scale in prop_oneof![Just(0.5f32), Just(1e-42), Just(2e36)],
            share in 0.0f64..1.0, slack in 0usize..20
        ) {
            let mut values: Vec<f32> = values.iter().map(|x| f32::from(*x) * scale).collect();
            values[0] = -0.0;
            let wanted = 1 + (share * (values.len() - 2) as f64) as usize;
            let most = (wanted + slack).min(values.len() - 1);
            for k in Kernels::available() {
                let (limit, equal) = k.limit(&values, wanted, most);
                let below = values.iter().filter(|x| **x < limit).count();
                let same = values.iter().filter(|x| **x == limit).count();
                let (mut ranks, mut nodes) = (values.clone(), (0..values.len() as u32).collect::<Vec<_>>());
                let kept = k.keep_below(&mut ranks, &mut nodes, limit);
                let want = (0..values.len()).filter(|i| values[*i] < limit);
                prop_assert!(nodes[..kept].iter().map(|n| *n as usize).eq(want), "{:?} keep", k.level());
                prop_assert!(nodes[..kept].iter().zip(&ranks).all(|(n, x)| *x == values[*n as usize]));
                if equal == 0 {
                    prop_assert!((wanted..=most).contains(&below), "{:?} {below}", k.level());
                } else {
                    prop_assert!(below + equal == wanted && below + same > most, "{:?} {below} {same}", k.level());
                }
            }
        }

        #[test]
        fn integers_are_in_the_order_of_floats(a in any::<f32>(), b in any::<f32>()) {
            prop_assert_eq!(ordered(a).cmp(&ordered(b)), a.total_cmp(&b));
            prop_assert_eq!(unordered(ordered(a)).to_bits(), a.to_bits());
        }

        #[test]
        fn what_makes_queries_ready_is_the_same_at_every_level(
            power in 0u32..10, fours in 1usize..40, seed in any::<u64>(), large in -110i32..110
        ) {
            use rand::{Rng, SeedableRng};
            let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
            let size = 2.0f32.powi(large);
            let mut values = |n: usize| -> Vec<f32> { (0..n).map(|_| rng.random_range(-1.0f32..1.0) * size).collect() };
            let (mixed, some) = (values(1 << power), values(4 * fours));
            let signs: Vec<f32> = (0..1usize << power).map(|i| if i * 7 % 3 == 0 { -1.0 } else { 1.0 }).collect();
            let total: f64 = some.iter().map(|x| f64::from(x.abs())).sum();
            let largest = some.iter().fold(0.0f32, |m, x| m.max(x.abs()));
            let inverse = f32::from(MOST_LOOKED_UP) / (4.0 * largest);
            for k in Kernels::available() {
                let mut got = mixed.clone();
                k.mix(&mut got, &signs);
                for (i, got) in got.iter().enumerate() {
                    let sign = |j: usize| if (i & j).count_ones().is_multiple_of(2) { signs[j] } else { -signs[j] };
                    let want: f64 = mixed.iter().enumerate().map(|(j, x)| f64::from(x * sign(j))).sum();
                    let bound = 1e-5 * f64::from(size) * f64::from(1 << power);
                    prop_assert!((f64::from(*got) - want).abs() <= bound, "{:?} mix", k.level());
                }
                let (most, sum) = k.magnitudes(&some);
                prop_assert_eq!(most, largest);
                prop_assert!((f64::from(sum) - total).abs() <= 1e-5 * total, "{:?} sum", k.level());
                let scale = 1000.0 / size;
                for (short, x) in k.shorts(&some, scale).iter().zip(&some) {
                    prop_assert!((f32::from(*short) - x * scale).abs() <= 0.501, "{:?} shorts", k.level());
                }
                let (bytes, sum) = k.bytes(&some, 100.0 / size);
                let values = bytes.iter().map(|byte| i32::from(*byte) - 128);
                prop_assert_eq!(sum, values.clone().sum::<i32>(), "{:?} sum of bytes", k.level());
                for (value, x) in values.zip(&some) {
                    prop_assert!((value as f32 - x * 100.0 / size).abs() <= 0.501, "{:?} bytes", k.level());
                }
                let mut tables = vec![0; tables_len(fours)];
                k.sign_tables(&some, inverse, &mut tables);
                for (place, four) in some.chunks(4).enumerate() {
                    let (table, again) = tables[table_at(place)..][..32].split_at(16);
                    prop_assert_eq!(table, again);
                    let sum = |set: usize| -> f32 { (0..4).filter(|i| set >> i & 1 == 1).map(|i| four[i]).sum() };
                    let least = (0..16).map(sum).fold(0.0, f32::min);
                    for (set, got) in table.iter().enumerate() {
                        let want = (sum(set) - least) * inverse;
                        prop_assert!((f32::from(*got) - want).abs() <= 0.51, "{:?} {got} {want}", k.level());
                    }
                }
            }
        }

        #[test]
        fn columns_equal_pairs(n in 1usize..150, d in 1usize..20, seed in any::<u64>()) {
            use rand::{Rng, SeedableRng};
            let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
            let columns: Vec<f32> = (0..n * d).map(|_| rng.random_range(-2.0..2.0)).collect();
            let x: Vec<f32> = (0..d).map(|_| rng.random_range(-2.0..2.0)).collect();
            for k in Kernels::available() {
                let mut out = vec![0.0; n];
                k.dot_columns(&x, &columns, &mut out);
                for (c, &got) in out.iter().enumerate() {
                    let column: Vec<f32> = (0..d).map(|i| columns[i * n + c]).collect();
                    prop_assert!(close(got, dot_f64(&x, &column), magnitude(&x, &column), d), "{:?}", k.level());
                }
            }
        }
    }

    #[test]
    #[should_panic(expected = "row number beyond")]
    fn a_row_number_beyond_the_rows_is_refused() {
        let mut out = [0.0];
        Kernels::best().rank_picked(false, &[1.0; 4], &[1.0; 8], &[2], &mut out);
    }
}
