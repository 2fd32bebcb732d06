//! Registers of AArch64.

#![allow(unsafe_code)]

use crate::kernels::generic::{Integers, Lanes, Sums};
use crate::kernels::marks::Marks;
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
        let lanes: [f32; 4] = std::array::from_fn(|i| half::f16::from_bits(unsafe { *from.add(i) }).to_f32());
        Neon(unsafe { vld1q_f32(lanes.as_ptr()) })
    }
    #[inline(always)]
    unsafe fn splat(value: f32) -> Self {
        Neon(unsafe { vdupq_n_f32(value) })
    }
    #[inline(always)]
    unsafe fn store(self, to: *mut f32) {
        unsafe { vst1q_f32(to, self.0) }
    }
    #[inline(always)]
    unsafe fn prefetch(_at: *const u8) {}
    #[inline(always)]
    unsafe fn prefetch_far(_at: *const u8) {}
}

impl Sums for Neon {}

impl Integers for Neon {}

impl<T: Copy + PartialOrd> Marks<T> for Neon {}
