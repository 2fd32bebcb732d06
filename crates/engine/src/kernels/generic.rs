//! The loops, written once over a vector register type. Each instruction set supplies the register
//! (`Lanes`) and a thin wrapper compiled for it.
//!
//! Everything is `inline(always)`: a loop becomes real only inside a wrapper that carries
//! `#[target_feature]`, which is what lets the intrinsics inline.

#![allow(unsafe_code)]
#![allow(clippy::needless_range_loop)] // in register tiles the indices name registers

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
    /// `N` halves, widened.
    unsafe fn load_half(from: *const u16) -> Self;
    /// `N` signed bytes, widened.
    unsafe fn load_byte(from: *const i8) -> Self;
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

impl Element for i8 {
    #[inline(always)]
    unsafe fn load<V: Lanes>(from: *const i8) -> V {
        unsafe { V::load_byte(from) }
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

/// One query against rows picked by number. Rows come from anywhere in memory: the second-level cache
/// takes many more misses at once than the first, so rows are called there a few ahead, and into the
/// first while the one before is computed.
#[inline(always)]
pub(super) unsafe fn picked<V: Lanes, T: Term, E: Element>(
    query: &[f32],
    rows: &[E],
    picks: &[u32],
    out: &mut [f32],
) {
    const AHEAD: usize = 4;
    let n = query.len();
    let bytes = n * size_of::<E>();
    unsafe {
        let start = |pick: u32| rows.as_ptr().add(pick as usize * n).cast::<u8>();
        let far = |i: usize| {
            if let Some(&pick) = picks.get(i) {
                let mut at = 0;
                while at < bytes {
                    V::prefetch_far(start(pick).add(at));
                    at += 64;
                }
            }
        };
        (1..AHEAD).for_each(far);
        for (i, value) in out.iter_mut().enumerate() {
            far(i + AHEAD);
            if let Some(&next) = picks.get(i + 1) {
                let mut at = 0;
                while at < bytes {
                    V::prefetch(start(next).add(at));
                    at += 64;
                }
            }
            *value = pair::<V, T, E>(query.as_ptr(), start(picks[i]).cast(), n);
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
