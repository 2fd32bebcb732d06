//! Arrays: registers for any CPU.

#![allow(unsafe_code)]

use crate::kernels::generic::{Integers, Lanes, Sums};
use crate::kernels::marks::Marks;

/// Plain arrays: what any compiler can vectorise with the instructions every CPU has.
#[derive(Clone, Copy)]
pub(in crate::kernels) struct Plain([f32; 8]);

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
    unsafe fn splat(value: f32) -> Self {
        Plain([value; 8])
    }
    #[inline(always)]
    unsafe fn store(self, to: *mut f32) {
        unsafe { to.cast::<[f32; 8]>().write_unaligned(self.0) };
    }
    #[inline(always)]
    unsafe fn prefetch(_at: *const u8) {}
    #[inline(always)]
    unsafe fn prefetch_far(_at: *const u8) {}
}

impl Sums for Plain {}

impl Integers for Plain {}

impl<T: Copy + PartialOrd> Marks<T> for Plain {}
