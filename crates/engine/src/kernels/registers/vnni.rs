//! What processors with dot products of small integers (VNNI) add to AVX-512.

#![allow(unsafe_code)]

use crate::kernels::generic::Sums;
use crate::kernels::registers::x86::widen_512;
use std::arch::x86_64::*;

/// The sums of four numbers each, of whom every one is in another quarter.
#[inline(always)]
unsafe fn quarter(sums: __m512i) -> __m128i {
    unsafe {
        let half = _mm256_add_epi32(_mm512_castsi512_si256(sums), _mm512_extracti64x4_epi64::<1>(sums));
        _mm_add_epi32(_mm256_castsi256_si128(half), _mm256_extracti128_si256::<1>(half))
    }
}

/// What processors with dot products of small integers (VNNI) add to AVX-512.
pub(in crate::kernels) struct Vnni;

/// A bit for each of so many bytes, or for all.
#[inline(always)]
fn byte_lanes(n: usize) -> u64 {
    if n < 64 { (1 << n) - 1 } else { u64::MAX }
}

impl Sums for Vnni {
    #[inline(always)]
    unsafe fn short_by_byte(a: *const i16, b: *const i8, n: usize) -> i32 {
        unsafe {
            let mut sums = [_mm512_setzero_si512(); 2];
            let mut i = 0;
            while i + 64 <= n {
                let part = |i: usize| _mm512_loadu_si512(a.add(i).cast());
                sums[0] = _mm512_dpwssd_epi32(sums[0], widen_512(b.add(i)), part(i));
                sums[1] = _mm512_dpwssd_epi32(sums[1], widen_512(b.add(i + 32)), part(i + 32));
                i += 64;
            }
            while i < n {
                let some = byte_lanes(n - i) as u32;
                let values = _mm512_maskz_loadu_epi16(some, a.add(i));
                let bytes = _mm512_cvtepi8_epi16(_mm256_maskz_loadu_epi8(some, b.add(i)));
                sums[0] = _mm512_dpwssd_epi32(sums[0], bytes, values);
                i += 32;
            }
            _mm512_reduce_add_epi32(_mm512_add_epi32(sums[0], sums[1]))
        }
    }
    #[inline(always)]
    unsafe fn byte_by_byte(a: *const i8, b: *const i8, n: usize) -> i32 {
        unsafe {
            // One side must be positive: it is raised by 128, and so many times the other taken off.
            let raise = _mm512_set1_epi8(-128);
            let (mut sum, mut raised) = (_mm512_setzero_si512(), _mm512_setzero_si512());
            let mut i = 0;
            while i < n {
                let some = byte_lanes(n - i);
                let above = _mm512_xor_si512(_mm512_maskz_loadu_epi8(some, a.add(i)), raise);
                let bytes = _mm512_maskz_loadu_epi8(some, b.add(i));
                sum = _mm512_dpbusd_epi32(sum, above, bytes);
                raised = _mm512_dpbusd_epi32(raised, raise, bytes);
                i += 64;
            }
            _mm512_reduce_add_epi32(_mm512_sub_epi32(sum, raised))
        }
    }
    #[inline(always)]
    unsafe fn sum_where_set(values: *const u8, bits: *const u64, words: usize) -> i32 {
        unsafe {
            let (one, below) = (_mm512_set1_epi8(1), _mm512_set1_epi8(-128));
            let mut sum = _mm512_setzero_si512();
            for w in 0..words {
                let set = _mm512_maskz_mov_epi8(*bits.add(w), one);
                let value = _mm512_xor_si512(_mm512_loadu_si512(values.add(64 * w).cast()), below);
                sum = _mm512_dpbusd_epi32(sum, set, value);
            }
            _mm512_reduce_add_epi32(sum)
        }
    }
    #[inline(always)]
    unsafe fn ranks_where_set(
        values: *const u8,
        rows: [*const u64; 4],
        (before, words): (usize, usize),
        (step, shift): (f32, f32),
    ) -> [f32; 4] {
        unsafe {
            let (one, below) = (_mm512_set1_epi8(1), _mm512_set1_epi8(-128));
            let mut sums = [_mm512_setzero_si512(); 4];
            let mut w = 0;
            // No closures: what they hold would not be inlined.
            while w < words {
                let value = _mm512_xor_si512(_mm512_loadu_si512(values.add(64 * w).cast()), below);
                for i in 0..4 {
                    let set = _mm512_maskz_mov_epi8(*rows[i].add(before + w), one);
                    sums[i] = _mm512_dpbusd_epi32(sums[i], set, value);
                }
                w += 1;
                if w < words {
                    let value = _mm512_xor_si512(_mm512_loadu_si512(values.add(64 * w).cast()), below);
                    for i in 0..4 {
                        let set = _mm512_maskz_mov_epi8(*rows[i].add(before + w), one);
                        sums[i] = _mm512_dpbusd_epi32(sums[i], set, value);
                    }
                }
                w += 1;
            }
            let [a, b, c, d] = [quarter(sums[0]), quarter(sums[1]), quarter(sums[2]), quarter(sums[3])];
            let all = _mm_cvtepi32_ps(_mm_hadd_epi32(_mm_hadd_epi32(a, b), _mm_hadd_epi32(c, d)));
            let word = rows.map(|row| row.cast::<__m128i>());
            let low = _mm_unpacklo_epi64(_mm_loadl_epi64(word[0]), _mm_loadl_epi64(word[1]));
            let high = _mm_unpacklo_epi64(_mm_loadl_epi64(word[2]), _mm_loadl_epi64(word[3]));
            let (low, high) = (_mm_castsi128_ps(low), _mm_castsi128_ps(high));
            let (b, a) =
                (_mm_shuffle_ps::<0b10_00_10_00>(low, high), _mm_shuffle_ps::<0b11_01_11_01>(low, high));
            // Not fused: the same to the last bit as without these instructions.
            let product = _mm_sub_ps(_mm_mul_ps(_mm_set1_ps(step), all), _mm_set1_ps(shift));
            let mut out = [0.0; 4];
            _mm_storeu_ps(out.as_mut_ptr(), _mm_add_ps(a, _mm_mul_ps(b, product)));
            out
        }
    }
}
