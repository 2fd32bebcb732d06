//! Values of columns compared by registers of 512 bits.

#![allow(unsafe_code)]

use crate::kernels::marks::{Marks, mark};
use crate::kernels::registers::x86::{Avx2, Avx512};
use std::arch::x86_64::*;

/// A word for 64 values: one register after the other is compared, and its mask is put beside those before. A loop, and
/// no closures that are handed on: those would not be compiled for these registers.
macro_rules! marks {
    ($($value:ty: $load:expr, $set:expr, $from:expr, $to:expr;)*) => {
        $(impl Marks<$value> for Avx512 {
            #[inline(always)]
            unsafe fn mark(values: &[$value], low: $value, high: $value, out: &mut Vec<usize>) {
                const EACH: usize = 64 / size_of::<$value>();
                let (full, rest) = values.as_chunks::<64>();
                out.reserve(full.len() + 1);
                // SAFETY: registers are read of 64 values.
                unsafe {
                    let bounds = ($set(low as _), $set(high as _));
                    for some in full {
                        let (mut word, mut done) = (0, 0);
                        while done < 64 {
                            let values = $load(some.as_ptr().add(done).cast());
                            let mask = $to($from(values, bounds.0), values, bounds.1);
                            word |= u64::from(mask) << done;
                            done += EACH;
                        }
                        out.push(word as usize);
                    }
                }
                mark(rest, |v| low <= v && v <= high, out);
            }
        })*
    };
}

marks! {
    u8: _mm512_loadu_si512, _mm512_set1_epi8, _mm512_cmpge_epu8_mask, _mm512_mask_cmple_epu8_mask;
    u16: _mm512_loadu_si512, _mm512_set1_epi16, _mm512_cmpge_epu16_mask, _mm512_mask_cmple_epu16_mask;
    u32: _mm512_loadu_si512, _mm512_set1_epi32, _mm512_cmpge_epu32_mask, _mm512_mask_cmple_epu32_mask;
    i64: _mm512_loadu_si512, _mm512_set1_epi64, _mm512_cmpge_epi64_mask, _mm512_mask_cmple_epi64_mask;
    f64: _mm512_loadu_pd, _mm512_set1_pd, _mm512_cmp_pd_mask::<_CMP_GE_OQ>, _mm512_mask_cmp_pd_mask::<_CMP_LE_OQ>;
}

impl<T: Copy + PartialOrd> Marks<T> for Avx2 {}
