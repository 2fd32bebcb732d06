//! Distance kernels for f32, chosen once for the CPU at hand.
//!
//! Safe to call: lengths are checked here, and a table of functions can be had only for an
//! instruction set that the CPU reports. The loops are in `generic`, the registers in `arch`.

mod arch;
mod generic;

use std::sync::OnceLock;

type Pair = unsafe fn(*const f32, *const f32, usize) -> f32;
type Rows = unsafe fn(&[f32], &[f32], &mut [f32]);
/// One query against rows of `E` picked by number.
type Picked<E> = unsafe fn(&[f32], &[E], &[u32], &mut [f32]);
type Block = unsafe fn(&[f32], &[f32], usize, &mut [f32]);

#[derive(Clone, Copy)]
struct Functions {
    dot: Pair,
    euclid: Pair,
    dot_rows: Rows,
    euclid_rows: Rows,
    dot_picked: Picked<f32>,
    euclid_picked: Picked<f32>,
    half_dot: Picked<u16>,
    half_euclid: Picked<u16>,
    byte_dot: Picked<i8>,
    dot_block: Block,
    euclid_block: Block,
    read: unsafe fn(&[f32]) -> f32,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Level {
    Plain,
    Neon,
    Avx2,
    Avx512,
}

/// The kernels of one instruction set. Cheap to copy; [`Kernels::best`] is what callers want.
#[derive(Clone, Copy)]
pub struct Kernels {
    level: Level,
    f: Functions,
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
                    && is_x86_feature_detected!("f16c") =>
            {
                arch::avx2::FUNCTIONS
            }
            #[cfg(target_arch = "x86_64")]
            Level::Avx512 if is_x86_feature_detected!("avx512f") => arch::avx512::FUNCTIONS,
            #[cfg(target_arch = "aarch64")]
            Level::Neon => arch::neon::FUNCTIONS,
            _ => return None,
        };
        Some(Kernels { level, f })
    }

    /// Every level this CPU has, slowest first.
    pub fn available() -> Vec<Kernels> {
        [Level::Plain, Level::Neon, Level::Avx2, Level::Avx512].into_iter().filter_map(Kernels::new).collect()
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

    /// `sum query * row` for rows of signed bytes, numbered in `picks`.
    #[allow(unsafe_code)]
    pub fn dot_bytes(&self, query: &[f32], rows: &[i8], picks: &[u32], out: &mut [f32]) {
        check_picks(query.len(), rows.len(), picks, out);
        // SAFETY: as above; every pick was just checked.
        unsafe { (self.f.byte_dot)(query, rows, picks, out) }
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
}

#[inline]
fn check_picks(dimensions: usize, values: usize, picks: &[u32], out: &[f32]) {
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
                    let bytes: Vec<i8> = rows.iter().map(|x| (x * 60.0) as i8).collect();
                    k.dot_bytes(&queries[..n], &bytes, &picks, &mut some);
                    for (i, &got) in some.iter().enumerate() {
                        let row: Vec<f32> = bytes[picks[i] as usize * n..][..n].iter().map(|b| f32::from(*b)).collect();
                        let (a, b) = (&queries[..n], &row[..]);
                        prop_assert!(close(got, dot_f64(a, b), magnitude(a, b), n), "{:?} bytes", k.level());
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

    #[test]
    #[should_panic(expected = "row number beyond")]
    fn a_row_number_beyond_the_rows_is_refused() {
        let mut out = [0.0];
        Kernels::best().rank_picked(false, &[1.0; 4], &[1.0; 8], &[2], &mut out);
    }
}
