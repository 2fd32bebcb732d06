//! The registers of each instruction set, and the functions compiled for it.

#![allow(unsafe_code)]

use super::Functions;
use super::generic::{self, Lanes, Product, SquaredDifference};

/// Makes the table of functions for one register type.
macro_rules! functions {
    ($name:ident, $lanes:ty, rows $r:literal, queries $q:literal $(, $feature:literal)?) => {
        pub(super) mod $name {
            use super::*;
            $(#[target_feature(enable = $feature)])?
            unsafe fn dot(a: *const f32, b: *const f32, n: usize) -> f32 {
                unsafe { generic::pair::<$lanes, Product, f32>(a, b, n) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn euclid(a: *const f32, b: *const f32, n: usize) -> f32 {
                unsafe { generic::pair::<$lanes, SquaredDifference, f32>(a, b, n) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn dot_rows(query: &[f32], rows: &[f32], out: &mut [f32]) {
                unsafe { generic::rows::<$lanes, Product>(query, rows, out) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn euclid_rows(query: &[f32], rows: &[f32], out: &mut [f32]) {
                unsafe { generic::rows::<$lanes, SquaredDifference>(query, rows, out) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn dot_picked(query: &[f32], rows: &[f32], picks: &[u32], out: &mut [f32]) {
                unsafe { generic::picked::<$lanes, Product, f32>(query, rows, picks, out) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn euclid_picked(query: &[f32], rows: &[f32], picks: &[u32], out: &mut [f32]) {
                unsafe { generic::picked::<$lanes, SquaredDifference, f32>(query, rows, picks, out) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn half_dot(query: &[f32], rows: &[u16], picks: &[u32], out: &mut [f32]) {
                unsafe { generic::picked::<$lanes, Product, u16>(query, rows, picks, out) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn half_euclid(query: &[f32], rows: &[u16], picks: &[u32], out: &mut [f32]) {
                unsafe { generic::picked::<$lanes, SquaredDifference, u16>(query, rows, picks, out) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn byte_dot(query: &[f32], rows: &[i8], picks: &[u32], out: &mut [f32]) {
                unsafe { generic::picked::<$lanes, Product, i8>(query, rows, picks, out) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn dot_block(queries: &[f32], rows: &[f32], n: usize, out: &mut [f32]) {
                unsafe { generic::block::<$lanes, Product, $r, $q>(queries, rows, n, out) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn euclid_block(queries: &[f32], rows: &[f32], n: usize, out: &mut [f32]) {
                unsafe { generic::block::<$lanes, SquaredDifference, $r, $q>(queries, rows, n, out) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn read(values: &[f32]) -> f32 {
                unsafe { generic::read::<$lanes>(values) }
            }
            pub(in crate::kernels) const FUNCTIONS: Functions = Functions {
                dot,
                euclid,
                dot_rows,
                euclid_rows,
                dot_picked,
                euclid_picked,
                half_dot,
                half_euclid,
                byte_dot,
                dot_block,
                euclid_block,
                read,
            };
        }
    };
}

/// Plain arrays: what any compiler can vectorise with the instructions every CPU has.
#[derive(Clone, Copy)]
pub(super) struct Plain([f32; 8]);

impl Lanes for Plain {
    const N: usize = 8;
    #[inline(always)]
    unsafe fn zero() -> Self {
        Plain([0.0; 8])
    }
    #[inline(always)]
    unsafe fn load(from: *const f32) -> Self {
        Plain(unsafe { from.cast::<[f32; 8]>().read_unaligned() })
    }
    #[inline(always)]
    unsafe fn load_first(from: *const f32, n: usize) -> Self {
        let mut lanes = [0.0; 8];
        unsafe { std::ptr::copy_nonoverlapping(from, lanes.as_mut_ptr(), n) };
        Plain(lanes)
    }
    #[inline(always)]
    unsafe fn add(self, other: Self) -> Self {
        Plain(std::array::from_fn(|i| self.0[i] + other.0[i]))
    }
    #[inline(always)]
    unsafe fn sub(self, other: Self) -> Self {
        Plain(std::array::from_fn(|i| self.0[i] - other.0[i]))
    }
    #[inline(always)]
    unsafe fn add_product(self, a: Self, b: Self) -> Self {
        Plain(std::array::from_fn(|i| self.0[i] + a.0[i] * b.0[i]))
    }
    #[inline(always)]
    unsafe fn sum(self) -> f32 {
        let [a, b, c, d, e, f, g, h] = self.0;
        ((a + e) + (b + f)) + ((c + g) + (d + h))
    }
    #[inline(always)]
    unsafe fn load_half(from: *const u16) -> Self {
        Plain(std::array::from_fn(|i| half::f16::from_bits(unsafe { *from.add(i) }).to_f32()))
    }
    #[inline(always)]
    unsafe fn load_byte(from: *const i8) -> Self {
        Plain(std::array::from_fn(|i| f32::from(unsafe { *from.add(i) })))
    }
    #[inline(always)]
    unsafe fn prefetch(_at: *const u8) {}
    #[inline(always)]
    unsafe fn prefetch_far(_at: *const u8) {}
}

functions!(plain, Plain, rows 2, queries 2);

#[cfg(target_arch = "x86_64")]
mod x86 {
    use super::*;
    use std::arch::x86_64::*;

    #[derive(Clone, Copy)]
    pub(in crate::kernels) struct Avx512(__m512);

    impl Lanes for Avx512 {
        const N: usize = 16;
        #[inline(always)]
        unsafe fn zero() -> Self {
            Avx512(unsafe { _mm512_setzero_ps() })
        }
        #[inline(always)]
        unsafe fn load(from: *const f32) -> Self {
            Avx512(unsafe { _mm512_loadu_ps(from) })
        }
        #[inline(always)]
        unsafe fn load_first(from: *const f32, n: usize) -> Self {
            Avx512(unsafe { _mm512_maskz_loadu_ps(((1u32 << n) - 1) as u16, from) })
        }
        #[inline(always)]
        unsafe fn add(self, other: Self) -> Self {
            Avx512(unsafe { _mm512_add_ps(self.0, other.0) })
        }
        #[inline(always)]
        unsafe fn sub(self, other: Self) -> Self {
            Avx512(unsafe { _mm512_sub_ps(self.0, other.0) })
        }
        #[inline(always)]
        unsafe fn add_product(self, a: Self, b: Self) -> Self {
            Avx512(unsafe { _mm512_fmadd_ps(a.0, b.0, self.0) })
        }
        #[inline(always)]
        unsafe fn load_half(from: *const u16) -> Self {
            Avx512(unsafe { _mm512_cvtph_ps(_mm256_loadu_si256(from.cast())) })
        }
        #[inline(always)]
        unsafe fn load_byte(from: *const i8) -> Self {
            Avx512(unsafe { _mm512_cvtepi32_ps(_mm512_cvtepi8_epi32(_mm_loadu_si128(from.cast()))) })
        }
        #[inline(always)]
        unsafe fn sum(self) -> f32 {
            unsafe { _mm512_reduce_add_ps(self.0) }
        }
        #[inline(always)]
        unsafe fn prefetch(at: *const u8) {
            unsafe { _mm_prefetch::<_MM_HINT_T0>(at.cast()) }
        }
        #[inline(always)]
        unsafe fn prefetch_far(at: *const u8) {
            unsafe { _mm_prefetch::<_MM_HINT_T1>(at.cast()) }
        }
    }

    #[derive(Clone, Copy)]
    pub(in crate::kernels) struct Avx2(__m256);

    impl Lanes for Avx2 {
        const N: usize = 8;
        #[inline(always)]
        unsafe fn zero() -> Self {
            Avx2(unsafe { _mm256_setzero_ps() })
        }
        #[inline(always)]
        unsafe fn load(from: *const f32) -> Self {
            Avx2(unsafe { _mm256_loadu_ps(from) })
        }
        #[inline(always)]
        unsafe fn load_first(from: *const f32, n: usize) -> Self {
            let mut lanes = [0.0f32; 8];
            unsafe {
                std::ptr::copy_nonoverlapping(from, lanes.as_mut_ptr(), n);
                Avx2(_mm256_loadu_ps(lanes.as_ptr()))
            }
        }
        #[inline(always)]
        unsafe fn add(self, other: Self) -> Self {
            Avx2(unsafe { _mm256_add_ps(self.0, other.0) })
        }
        #[inline(always)]
        unsafe fn sub(self, other: Self) -> Self {
            Avx2(unsafe { _mm256_sub_ps(self.0, other.0) })
        }
        #[inline(always)]
        unsafe fn add_product(self, a: Self, b: Self) -> Self {
            Avx2(unsafe { _mm256_fmadd_ps(a.0, b.0, self.0) })
        }
        #[inline(always)]
        unsafe fn load_half(from: *const u16) -> Self {
            Avx2(unsafe { _mm256_cvtph_ps(_mm_loadu_si128(from.cast())) })
        }
        #[inline(always)]
        unsafe fn load_byte(from: *const i8) -> Self {
            Avx2(unsafe { _mm256_cvtepi32_ps(_mm256_cvtepi8_epi32(_mm_loadl_epi64(from.cast()))) })
        }
        #[inline(always)]
        unsafe fn sum(self) -> f32 {
            unsafe {
                let half = _mm_add_ps(_mm256_castps256_ps128(self.0), _mm256_extractf128_ps::<1>(self.0));
                let quarter = _mm_add_ps(half, _mm_movehl_ps(half, half));
                let last = _mm_add_ss(quarter, _mm_shuffle_ps::<1>(quarter, quarter));
                _mm_cvtss_f32(last)
            }
        }
        #[inline(always)]
        unsafe fn prefetch(at: *const u8) {
            unsafe { _mm_prefetch::<_MM_HINT_T0>(at.cast()) }
        }
        #[inline(always)]
        unsafe fn prefetch_far(at: *const u8) {
            unsafe { _mm_prefetch::<_MM_HINT_T1>(at.cast()) }
        }
    }
}

#[cfg(target_arch = "x86_64")]
functions!(avx512, x86::Avx512, rows 4, queries 6, "avx512f");
#[cfg(target_arch = "x86_64")]
functions!(avx2, x86::Avx2, rows 3, queries 4, "avx2,fma,f16c");

#[cfg(target_arch = "aarch64")]
mod arm {
    use super::*;
    use std::arch::aarch64::*;

    #[derive(Clone, Copy)]
    pub(in crate::kernels) struct Neon(float32x4_t);

    impl Lanes for Neon {
        const N: usize = 4;
        #[inline(always)]
        unsafe fn zero() -> Self {
            Neon(unsafe { vdupq_n_f32(0.0) })
        }
        #[inline(always)]
        unsafe fn load(from: *const f32) -> Self {
            Neon(unsafe { vld1q_f32(from) })
        }
        #[inline(always)]
        unsafe fn load_first(from: *const f32, n: usize) -> Self {
            let mut lanes = [0.0f32; 4];
            unsafe {
                std::ptr::copy_nonoverlapping(from, lanes.as_mut_ptr(), n);
                Neon(vld1q_f32(lanes.as_ptr()))
            }
        }
        #[inline(always)]
        unsafe fn add(self, other: Self) -> Self {
            Neon(unsafe { vaddq_f32(self.0, other.0) })
        }
        #[inline(always)]
        unsafe fn sub(self, other: Self) -> Self {
            Neon(unsafe { vsubq_f32(self.0, other.0) })
        }
        #[inline(always)]
        unsafe fn add_product(self, a: Self, b: Self) -> Self {
            Neon(unsafe { vfmaq_f32(self.0, a.0, b.0) })
        }
        #[inline(always)]
        unsafe fn sum(self) -> f32 {
            unsafe { vaddvq_f32(self.0) }
        }
        #[inline(always)]
        unsafe fn load_half(from: *const u16) -> Self {
            let lanes: [f32; 4] =
                std::array::from_fn(|i| half::f16::from_bits(unsafe { *from.add(i) }).to_f32());
            Neon(unsafe { vld1q_f32(lanes.as_ptr()) })
        }
        #[inline(always)]
        unsafe fn load_byte(from: *const i8) -> Self {
            let lanes: [f32; 4] = std::array::from_fn(|i| f32::from(unsafe { *from.add(i) }));
            Neon(unsafe { vld1q_f32(lanes.as_ptr()) })
        }
        #[inline(always)]
        unsafe fn prefetch(_at: *const u8) {}
        #[inline(always)]
        unsafe fn prefetch_far(_at: *const u8) {}
    }
}

#[cfg(target_arch = "aarch64")]
functions!(neon, arm::Neon, rows 4, queries 4, "neon");
