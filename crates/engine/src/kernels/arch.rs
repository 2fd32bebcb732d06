//! The functions compiled for each instruction set.

#![allow(unsafe_code)]

use crate::kernels::functions::Functions;
use crate::kernels::generic::{self, Integers, Product, SquaredDifference, Sums};
use crate::kernels::marks::Marks;
use crate::kernels::picked;
#[cfg(target_arch = "aarch64")]
use crate::kernels::registers::neon as neon_registers;
use crate::kernels::registers::plain::Plain;
#[cfg(target_arch = "x86_64")]
use crate::kernels::registers::{vnni as vnni_registers, x86};

/// Makes the table of functions for one register type, and what adds up small integers.
macro_rules! functions {
    ($name:ident, $lanes:ty, $sums:ty, rows $r:literal, queries $q:literal $(, $feature:literal)?) => {
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
                let n = query.len();
                let one = |row| unsafe { generic::pair::<$lanes, Product, f32>(query.as_ptr(), row, n) };
                unsafe { picked::each::<$lanes, f32, f32>(rows, n, picks, out, one) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn euclid_picked(query: &[f32], rows: &[f32], picks: &[u32], out: &mut [f32]) {
                let n = query.len();
                let one = |row| unsafe { generic::pair::<$lanes, SquaredDifference, f32>(query.as_ptr(), row, n) };
                unsafe { picked::each::<$lanes, f32, f32>(rows, n, picks, out, one) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn half_dot(query: &[f32], rows: &[u16], picks: &[u32], out: &mut [f32]) {
                let n = query.len();
                let one = |row| unsafe { generic::pair::<$lanes, Product, u16>(query.as_ptr(), row, n) };
                unsafe { picked::each::<$lanes, u16, f32>(rows, n, picks, out, one) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn half_euclid(query: &[f32], rows: &[u16], picks: &[u32], out: &mut [f32]) {
                let n = query.len();
                let one = |row| unsafe { generic::pair::<$lanes, SquaredDifference, u16>(query.as_ptr(), row, n) };
                unsafe { picked::each::<$lanes, u16, f32>(rows, n, picks, out, one) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn byte_dot(query: &[i16], rows: &[i8], picks: &[u32], out: &mut [i32]) {
                let n = query.len();
                let one = |row| unsafe { <$sums>::short_by_byte(query.as_ptr(), row, n) };
                unsafe { picked::each::<$lanes, i8, i32>(rows, n, picks, out, one) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn byte_pair(a: *const i8, b: *const i8, n: usize) -> i32 {
                unsafe { <$sums>::byte_by_byte(a, b, n) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn rank_bits(
                values: &[u8],
                rows: &[u64],
                (stride, before, planes): (usize, usize, usize),
                picks: &[u32],
                (step, shift): (f32, f32),
                out: &mut [f32],
            ) {
                let words = values.len() / 64;
                if planes == 1 {
                    let four = |rows: [*const u64; 4]| unsafe {
                        <$sums>::ranks_where_set(values.as_ptr(), rows, (before, words), (step, shift))
                    };
                    return unsafe {
                        picked::together::<$lanes, u64, f32, 4>(rows, stride, picks, out, four)
                    };
                }
                let one = |row: *const u64| {
                    let mut sum = 0;
                    for plane in 0..planes {
                        let bits = row.wrapping_add(before + plane * words);
                        sum += unsafe { <$sums>::sum_where_set(values.as_ptr(), bits, words) } << plane;
                    }
                    generic::rank_of_sum(sum, unsafe { *row }, (step, shift))
                };
                unsafe { picked::each::<$lanes, u64, f32>(rows, stride, picks, out, one) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn look_up(tables: &[u8], codes: &[u8], out: &mut [u32; 32]) {
                // Blocks follow each other, so the next one is called for.
                let (n, soon) = (codes.len(), codes.as_ptr_range().end);
                unsafe { <$lanes>::look_up(tables.as_ptr(), codes.as_ptr(), n / 32, soon, out) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn estimate(
                tables: &[u8],
                codes: &[u8],
                links: &[u32; 32],
                numbers: [f32; 4],
                soon: &[u8],
                out: &mut [f32; 32],
            ) -> u32 {
                let (n, soon) = (codes.len(), soon.as_ptr());
                unsafe {
                    <$lanes>::estimate(tables.as_ptr(), codes.as_ptr(), n / 32, links, numbers, soon, out)
                }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn pick(
                set: u32,
                ranks: &[f32; 32],
                nodes: &[u32; 32],
                to: (&mut [f32; 32], &mut [u32; 32]),
            ) -> usize {
                unsafe { <$lanes>::pick(set, ranks, nodes, to) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn members(rows: &[u32], set: &[usize], n: usize) -> u32 {
                unsafe { <$lanes>::members(rows, set, n) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn select(rows: &[u32], set: &[usize], n: usize, first: u32, out: &mut [u32]) -> usize {
                unsafe { <$lanes>::select(rows, set, n, first, out) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn below(values: &[f32; 32], limit: f32) -> u32 {
                unsafe { <$lanes>::below(values, limit) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn limit(values: &[f32], wanted: usize, most: usize) -> (f32, usize) {
                unsafe { generic::limit::<$lanes>(values, wanted, most) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn keep_below(ranks: &mut [f32], nodes: &mut [u32], limit: f32) -> usize {
                unsafe { <$lanes>::keep_below(ranks, nodes, limit) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn columns(x: &[f32], columns: &[f32], out: &mut [f32]) {
                unsafe { generic::columns::<$lanes>(x, columns, out) }
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
            $(#[target_feature(enable = $feature)])?
            unsafe fn mark_bytes(values: &[u8], low: u8, high: u8, out: &mut Vec<usize>) {
                unsafe { <$lanes as Marks<_>>::mark(values, low, high, out) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn mark_shorts(values: &[u16], low: u16, high: u16, out: &mut Vec<usize>) {
                unsafe { <$lanes as Marks<_>>::mark(values, low, high, out) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn mark_words(values: &[u32], low: u32, high: u32, out: &mut Vec<usize>) {
                unsafe { <$lanes as Marks<_>>::mark(values, low, high, out) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn mark_longs(values: &[i64], low: i64, high: i64, out: &mut Vec<usize>) {
                unsafe { <$lanes as Marks<_>>::mark(values, low, high, out) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn mark_reals(values: &[f64], low: f64, high: f64, out: &mut Vec<usize>) {
                unsafe { <$lanes as Marks<_>>::mark(values, low, high, out) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn mix(values: &mut [f32], signs: &[f32]) {
                unsafe { generic::mix::<$lanes>(values, signs) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn sign_tables(values: &[f32], inverse: f32, out: &mut [u8]) {
                unsafe { generic::sign_tables::<$lanes>(values, inverse, out) }
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn magnitudes(values: &[f32]) -> (f32, f32) {
                generic::magnitudes(values)
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn shorts(values: &[f32], scale: f32, out: &mut [i16]) {
                generic::shorts(values, scale, out);
            }
            $(#[target_feature(enable = $feature)])?
            unsafe fn bytes(values: &[f32], scale: f32, out: &mut [u8]) -> i32 {
                generic::bytes(values, scale, out)
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
                byte_pair,
                rank_bits,
                look_up,
                estimate,
                pick,
                members,
                select,
                below,
                limit,
                keep_below,
                columns,
                dot_block,
                euclid_block,
                read,
                mark_bytes,
                mark_shorts,
                mark_words,
                mark_longs,
                mark_reals,
                mix,
                sign_tables,
                magnitudes,
                shorts,
                bytes,
            };
        }
    };
}

functions!(plain, Plain, Plain, rows 2, queries 2);

#[cfg(target_arch = "x86_64")]
functions!(avx512, x86::Avx512, x86::Avx512, rows 4, queries 6, "avx512f,avx512bw,avx512vl,avx512dq,popcnt");
#[cfg(target_arch = "x86_64")]
functions!(
    vnni, x86::Avx512, vnni_registers::Vnni, rows 4, queries 6, "avx512f,avx512bw,avx512vl,avx512dq,avx512vnni,popcnt"
);
#[cfg(target_arch = "x86_64")]
functions!(avx2, x86::Avx2, x86::Avx2, rows 3, queries 4, "avx2,fma,f16c,popcnt");

#[cfg(target_arch = "aarch64")]
functions!(neon, neon_registers::Neon, neon_registers::Neon, rows 4, queries 4, "neon");
