//! Which of many values lie in a range: a bit for each.

#![allow(unsafe_code)]

use crate::kernels::functions::{Functions, Mark};

/// A bit for each value from a lowest to a highest, both inclusive; a last word may be part of one. See [`mark`].
pub(super) trait Marks<T: Copy + PartialOrd> {
    #[inline(always)]
    unsafe fn mark(values: &[T], low: T, high: T, out: &mut Vec<usize>) {
        mark(values, |v| low <= v && v <= high, out);
    }
}

/// One bit for each value. Values are compared 64 at a time into bytes, which compilers turn into wide
/// instructions, and the bytes are gathered into bits.
#[inline(always)]
pub(crate) fn mark<T: Copy>(values: &[T], holds: impl Fn(T) -> bool, words: &mut Vec<usize>) {
    const GATHER: u64 = 0x0102_0408_1020_4080;
    let (full, rest) = values.as_chunks::<64>();
    for some in full {
        let mut bytes = [0u8; 64];
        for (byte, value) in bytes.iter_mut().zip(some) {
            *byte = holds(*value).into();
        }
        let mut word = 0;
        for (i, eight) in bytes.as_chunks::<8>().0.iter().enumerate() {
            word |= (u64::from_le_bytes(*eight).wrapping_mul(GATHER) >> 56) << (8 * i);
        }
        words.push(word as usize);
    }
    if !rest.is_empty() {
        words.push(rest.iter().enumerate().fold(0, |word, (i, v)| word | usize::from(holds(*v)) << i));
    }
}

/// What columns hold.
pub(crate) trait Value: Copy {
    fn kernel(functions: &Functions) -> Mark<Self>;
}

macro_rules! values {
    ($($value:ty: $kernel:ident,)*) => {
        $(impl Value for $value {
            fn kernel(functions: &Functions) -> Mark<Self> {
                functions.$kernel
            }
        })*
    };
}

values! { u8: mark_bytes, u16: mark_shorts, u32: mark_words, i64: mark_longs, f64: mark_reals, }

#[cfg(test)]
mod tests {
    use super::*;
    use crate::kernels::Kernels;
    use proptest::prelude::*;
    use std::fmt::Debug;

    fn is_marked<T: Value + PartialOrd + Debug>(values: &[T], low: T, high: T) {
        let plain = |v: &T| low <= *v && *v <= high;
        for kernels in Kernels::available() {
            let mut words = vec![7];
            kernels.mark(values, low, high, &mut words);
            assert_eq!(words.len(), 1 + values.len().div_ceil(64));
            for (i, v) in values.iter().enumerate() {
                let bit = words[1 + i / 64] >> (i % 64) & 1 == 1;
                assert_eq!(bit, plain(v), "{:?}: {v:?} of {low:?} to {high:?}", kernels.level());
            }
            let beyond =
                words.last().map_or(0, |last| last.checked_shr(values.len() as u32 % 64).unwrap_or(0));
            assert!(values.len().is_multiple_of(64) || beyond == 0, "bits of no value");
        }
    }

    proptest! {
        #[test]
        fn marks_equal_plain_comparisons(
            bytes in prop::collection::vec(any::<u8>(), 0..700), seed in any::<[u64; 2]>(),
        ) {
            let (low, high) = (seed[0], seed[1]);
            let wide = |b: &u8| u64::from(*b).wrapping_mul(0x9E37_79B9_7F4A_7C15);
            is_marked(&bytes, low as u8, high as u8);
            is_marked(&bytes.iter().map(|b| wide(b) as u16).collect::<Vec<_>>(), low as u16, high as u16);
            is_marked(&bytes.iter().map(|b| wide(b) as u32).collect::<Vec<_>>(), low as u32, high as u32);
            let longs: Vec<i64> = bytes.iter().map(|b| wide(b) as i64).collect();
            is_marked(&longs, low as i64, high as i64);
            is_marked(&longs, i64::MIN, longs.first().copied().unwrap_or(i64::MAX));
            let reals: Vec<f64> = bytes.iter().map(|b| f64::from(*b) / 7.0 - 18.0).collect();
            is_marked(&reals, f64::from(low as u8) / 7.0 - 18.0, f64::from(high as u8) / 7.0 - 18.0);
            is_marked(&reals, -0.0, f64::INFINITY);
        }
    }
}
