//! Registers of x86-64: AVX2 and AVX-512.

#![allow(unsafe_code)]

use crate::kernels::generic::{self, Integers, Lanes, Sums};
use crate::kernels::registers::plain::Plain;
use crate::kernels::tables::{MOST_LOOKED_UP, table_at};
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
        Avx512(unsafe { _mm512_maskz_loadu_ps(lanes(n), from) })
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
    unsafe fn splat(value: f32) -> Self {
        Avx512(unsafe { _mm512_set1_ps(value) })
    }
    #[inline(always)]
    unsafe fn store(self, to: *mut f32) {
        unsafe { _mm512_storeu_ps(to, self.0) }
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
    #[inline(always)]
    unsafe fn mix(values: &mut [f32; 16]) {
        unsafe {
            let mut x = _mm512_loadu_ps(values.as_ptr());
            let y = _mm512_permute_ps::<0b10_11_00_01>(x);
            x = _mm512_mask_sub_ps(_mm512_add_ps(x, y), 0xaaaa, y, x);
            let y = _mm512_permute_ps::<0b01_00_11_10>(x);
            x = _mm512_mask_sub_ps(_mm512_add_ps(x, y), 0xcccc, y, x);
            let y = _mm512_shuffle_f32x4::<0b10_11_00_01>(x, x);
            x = _mm512_mask_sub_ps(_mm512_add_ps(x, y), 0xf0f0, y, x);
            let y = _mm512_shuffle_f32x4::<0b01_00_11_10>(x, x);
            x = _mm512_mask_sub_ps(_mm512_add_ps(x, y), 0xff00, y, x);
            _mm512_storeu_ps(values.as_mut_ptr(), x);
        }
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
    unsafe fn splat(value: f32) -> Self {
        Avx2(unsafe { _mm256_set1_ps(value) })
    }
    #[inline(always)]
    unsafe fn store(self, to: *mut f32) {
        unsafe { _mm256_storeu_ps(to, self.0) }
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

/// A bit for each of so many lanes, or for all.
#[inline(always)]
fn lanes(n: usize) -> u16 {
    ((1u32 << n.min(16)) - 1) as u16
}

#[inline(always)]
pub(in crate::kernels) unsafe fn widen_512(from: *const i8) -> __m512i {
    unsafe { _mm512_cvtepi8_epi16(_mm256_loadu_si256(from.cast())) }
}

/// The sum of products of `a`, 32 shorts from a place on, with bytes; and how far that went.
#[inline(always)]
unsafe fn sum_products_512(n: usize, a: impl Fn(usize) -> __m512i, b: *const i8) -> (i32, usize) {
    unsafe {
        let mut sums = [_mm512_setzero_si512(); 2];
        let mut i = 0;
        let part = |i: usize| _mm512_madd_epi16(a(i), widen_512(b.add(i)));
        while i + 64 <= n {
            sums[0] = _mm512_add_epi32(sums[0], part(i));
            sums[1] = _mm512_add_epi32(sums[1], part(i + 32));
            i += 64;
        }
        if i + 32 <= n {
            sums[0] = _mm512_add_epi32(sums[0], part(i));
            i += 32;
        }
        (_mm512_reduce_add_epi32(_mm512_add_epi32(sums[0], sums[1])), i)
    }
}

impl Sums for Avx512 {
    #[inline(always)]
    unsafe fn short_by_byte(a: *const i16, b: *const i8, n: usize) -> i32 {
        unsafe {
            let (sum, i) = sum_products_512(n, |i| _mm512_loadu_si512(a.add(i).cast()), b);
            if i < n { sum + Plain::short_by_byte(a.add(i), b.add(i), n - i) } else { sum }
        }
    }
    #[inline(always)]
    unsafe fn byte_by_byte(a: *const i8, b: *const i8, n: usize) -> i32 {
        unsafe {
            let (sum, i) = sum_products_512(n, |i| widen_512(a.add(i)), b);
            if i < n { sum + Plain::byte_by_byte(a.add(i), b.add(i), n - i) } else { sum }
        }
    }
    #[inline(always)]
    unsafe fn sum_where_set(values: *const u8, bits: *const u64, words: usize) -> i32 {
        unsafe {
            let mut sum = _mm512_setzero_si512();
            let mut set = 0;
            for w in 0..words {
                set += (*bits.add(w)).count_ones();
                let some = _mm512_maskz_loadu_epi8(*bits.add(w), values.add(64 * w).cast());
                sum = _mm512_add_epi64(sum, _mm512_sad_epu8(some, _mm512_setzero_si512()));
            }
            _mm512_reduce_add_epi64(sum) as i32 - 128 * set as i32
        }
    }
}

impl Integers for Avx512 {
    #[inline(always)]
    unsafe fn look_up(
        tables: *const u8,
        codes: *const u8,
        pairs: usize,
        soon: *const u8,
        out: &mut [u32; 32],
    ) {
        *out = [0; 32];
        for from in (0..pairs).step_by(MOST_PAIRS) {
            unsafe {
                let (even, odd) = look_up_512(tables, codes, from..pairs.min(from + MOST_PAIRS), soon);
                add_interleaved(even, odd, out);
            }
        }
    }
    #[inline(always)]
    unsafe fn estimate(
        tables: *const u8,
        codes: *const u8,
        pairs: usize,
        links: &[u32; 32],
        numbers: [f32; 4],
        soon: *const u8,
        out: &mut [f32; 32],
    ) -> u32 {
        if pairs > MOST_PAIRS {
            return unsafe { generic::estimate::<Self>(tables, codes, pairs, links, numbers, soon, out) };
        }
        unsafe {
            let (even, odd) = look_up_512(tables, codes, 0..pairs, soon);
            let [step, base, rank, worst] = numbers.map(|x| _mm512_set1_ps(x));
            let upper = _mm512_set1_epi32(0xffff_0000_u32 as i32);
            let mut below = 0;
            for (half, sums) in interleaved(even, odd).into_iter().enumerate() {
                let link = _mm512_loadu_si512(links.as_ptr().add(16 * half).cast());
                let a = _mm512_castsi512_ps(_mm512_and_si512(link, upper));
                let b = _mm512_castsi512_ps(_mm512_slli_epi32::<16>(link));
                let looked = _mm512_cvtepi32_ps(_mm512_cvtepu16_epi32(sums));
                // Not fused: the same to the last bit as without these instructions.
                let product = _mm512_mul_ps(b, _mm512_add_ps(_mm512_mul_ps(step, looked), base));
                let ranks = _mm512_add_ps(_mm512_add_ps(rank, a), product);
                _mm512_storeu_ps(out.as_mut_ptr().add(16 * half), ranks);
                let mask = _mm512_cmp_ps_mask::<_CMP_LT_OQ>(ranks, worst);
                below |= u32::from(mask) << (16 * half);
            }
            below
        }
    }
    #[inline(always)]
    unsafe fn pick(
        set: u32,
        ranks: &[f32; 32],
        nodes: &[u32; 32],
        (to_ranks, to_nodes): (&mut [f32; 32], &mut [u32; 32]),
    ) -> usize {
        // Without a branch: the second sixteen are written over what the first did not fill.
        let n = (set as u16).count_ones() as usize;
        unsafe {
            for (half, from) in [0, n].into_iter().enumerate() {
                let mask = (set >> (16 * half)) as u16;
                let ranks = _mm512_loadu_ps(ranks.as_ptr().add(16 * half));
                let nodes = _mm512_loadu_si512(nodes.as_ptr().add(16 * half).cast());
                let (ranks, nodes) =
                    (_mm512_maskz_compress_ps(mask, ranks), _mm512_maskz_compress_epi32(mask, nodes));
                // At most 16 before, and 16 lanes: all within 32.
                _mm512_storeu_ps(to_ranks.as_mut_ptr().add(from), ranks);
                _mm512_storeu_si512(to_nodes.as_mut_ptr().add(from).cast(), nodes);
            }
        }
        set.count_ones() as usize
    }
    #[inline(always)]
    unsafe fn range(values: &[f32]) -> (f32, f32) {
        unsafe {
            let (mut low, mut high) = (_mm512_set1_ps(f32::INFINITY), _mm512_set1_ps(f32::NEG_INFINITY));
            for at in (0..values.len()).step_by(16) {
                let there = lanes(values.len() - at);
                let some = _mm512_maskz_loadu_ps(there, values.as_ptr().add(at));
                low = _mm512_mask_min_ps(low, there, low, some);
                high = _mm512_mask_max_ps(high, there, high, some);
            }
            (_mm512_reduce_min_ps(low), _mm512_reduce_max_ps(high))
        }
    }
    #[inline(always)]
    unsafe fn sign_table(four: &[f32; 4], base: f32, out: &mut [u8; 32]) {
        unsafe {
            let mut sums = _mm512_set1_ps(base);
            sums = _mm512_mask_add_ps(sums, 0xaaaa, sums, _mm512_set1_ps(four[0]));
            sums = _mm512_mask_add_ps(sums, 0xcccc, sums, _mm512_set1_ps(four[1]));
            sums = _mm512_mask_add_ps(sums, 0xf0f0, sums, _mm512_set1_ps(four[2]));
            sums = _mm512_mask_add_ps(sums, 0xff00, sums, _mm512_set1_ps(four[3]));
            // What is no number becomes the second of the two.
            sums = _mm512_max_ps(sums, _mm512_setzero_ps());
            sums = _mm512_min_ps(sums, _mm512_set1_ps(f32::from(MOST_LOOKED_UP)));
            let bytes = _mm512_cvtepi32_epi8(_mm512_cvttps_epi32(sums));
            _mm256_storeu_si256(out.as_mut_ptr().cast(), _mm256_broadcastsi128_si256(bytes));
        }
    }
    #[inline(always)]
    unsafe fn count_below(values: &[f32], limit: f32) -> usize {
        unsafe {
            let limit = _mm512_set1_ps(limit);
            let (mut sums, mut at) = (_mm512_setzero_si512(), 0);
            while at + 16 <= values.len() {
                let some = _mm512_loadu_ps(values.as_ptr().add(at));
                let below = _mm512_cmp_ps_mask::<_CMP_LT_OQ>(some, limit);
                sums = _mm512_mask_add_epi32(sums, below, sums, _mm512_set1_epi32(1));
                at += 16;
            }
            let there = lanes(values.len() - at);
            let some = _mm512_maskz_loadu_ps(there, values.as_ptr().add(at));
            let below = _mm512_mask_cmp_ps_mask::<_CMP_LT_OQ>(there, some, limit);
            _mm512_reduce_add_epi32(sums) as u32 as usize + below.count_ones() as usize
        }
    }
    #[inline(always)]
    unsafe fn below(values: &[f32; 32], limit: f32) -> u32 {
        unsafe {
            let limit = _mm512_set1_ps(limit);
            let half =
                |from| _mm512_cmp_ps_mask::<_CMP_LT_OQ>(_mm512_loadu_ps(values.as_ptr().add(from)), limit);
            u32::from(half(0)) | u32::from(half(16)) << 16
        }
    }
    #[inline(always)]
    unsafe fn members(rows: &[u32], set: &[usize], n: usize) -> u32 {
        let words: *const i32 = set.as_ptr().cast();
        let mut found = 0;
        for (i, some) in rows.chunks(16).enumerate() {
            unsafe {
                let rows = _mm512_maskz_loadu_epi32(lanes(some.len()), some.as_ptr().cast());
                let there =
                    _mm512_mask_cmplt_epu32_mask(lanes(some.len()), rows, _mm512_set1_epi32(n as i32));
                // Words of 32 bits lie in order, as on every x86.
                let at = _mm512_srli_epi32::<5>(rows);
                let word = _mm512_mask_i32gather_epi32::<4>(_mm512_setzero_si512(), there, at, words);
                let bit =
                    _mm512_sllv_epi32(_mm512_set1_epi32(1), _mm512_and_si512(rows, _mm512_set1_epi32(31)));
                found |= u32::from(_mm512_test_epi32_mask(word, bit)) << (16 * i);
            }
        }
        found
    }
    #[inline(always)]
    unsafe fn select(rows: &[u32], set: &[usize], n: usize, first: u32, out: &mut [u32]) -> usize {
        let words: *const i32 = set.as_ptr().cast();
        let mut len = 0;
        unsafe {
            let mut number = _mm512_add_epi32(
                _mm512_set1_epi32(first as i32),
                _mm512_set_epi32(15, 14, 13, 12, 11, 10, 9, 8, 7, 6, 5, 4, 3, 2, 1, 0),
            );
            for some in rows.chunks(16) {
                let rows = _mm512_maskz_loadu_epi32(lanes(some.len()), some.as_ptr().cast());
                let there =
                    _mm512_mask_cmplt_epu32_mask(lanes(some.len()), rows, _mm512_set1_epi32(n as i32));
                let at = _mm512_srli_epi32::<5>(rows);
                let word = _mm512_mask_i32gather_epi32::<4>(_mm512_setzero_si512(), there, at, words);
                let bit = _mm512_rorv_epi32(word, rows);
                let found = _mm512_test_epi32_mask(bit, _mm512_set1_epi32(1));
                // Fewer were written than rows were read, and behind as many there are 16 places.
                let to = out.as_mut_ptr().add(len);
                _mm512_storeu_si512(to.cast(), _mm512_maskz_compress_epi32(found, number));
                len += found.count_ones() as usize;
                number = _mm512_add_epi32(number, _mm512_set1_epi32(16));
            }
        }
        len
    }
    #[inline(always)]
    unsafe fn keep_below(ranks: &mut [f32], nodes: &mut [u32], limit: f32) -> usize {
        let n = ranks.len();
        let (ranks, nodes) = (ranks.as_mut_ptr(), nodes.as_mut_ptr());
        let mut kept = 0;
        let mut at = 0;
        unsafe {
            while at + 16 <= n {
                let rank = _mm512_loadu_ps(ranks.add(at));
                let node = _mm512_loadu_si512(nodes.add(at).cast());
                let mask = _mm512_cmp_ps_mask::<_CMP_LT_OQ>(rank, _mm512_set1_ps(limit));
                // What is kept lies no further on than what was just read.
                _mm512_storeu_ps(ranks.add(kept), _mm512_maskz_compress_ps(mask, rank));
                let node = _mm512_maskz_compress_epi32(mask, node);
                _mm512_storeu_si512(nodes.add(kept).cast(), node);
                kept += mask.count_ones() as usize;
                at += 16;
            }
            for at in at..n {
                let rank = *ranks.add(at);
                (*ranks.add(kept), *nodes.add(kept)) = (rank, *nodes.add(at));
                kept += usize::from(rank < limit);
            }
        }
        kept
    }
}

/// Sums of 16 bits hold what so many pairs look up.
const MOST_PAIRS: usize = 512;

/// What some pairs look up, for even rows and odd ones; see [`Integers::look_up`].
#[inline(always)]
unsafe fn look_up_512(
    tables: *const u8,
    codes: *const u8,
    pairs: std::ops::Range<usize>,
    soon: *const u8,
) -> (__m256i, __m256i) {
    unsafe {
        // Sums of even rows, with 256 times those of odd ones in the same places; and of odd ones.
        let mut sums = [_mm512_setzero_si512(); 2];
        let mut pair = pairs.start;
        // Two pairs at once, and four values fit a byte.
        while pair + 4 <= pairs.end {
            let first = looked_up(tables, codes, pair, soon);
            let second = looked_up(tables, codes, pair + 2, soon);
            add_bytes(_mm512_add_epi8(first, second), &mut sums);
            pair += 4;
        }
        if pair + 2 <= pairs.end {
            add_bytes(looked_up(tables, codes, pair, soon), &mut sums);
            pair += 2;
        }
        if pair < pairs.end {
            // The other half is no pair: its tables are zeros.
            let code = _mm512_maskz_loadu_epi8(0xffff_ffff, codes.add(32 * pair).cast());
            add_bytes(looked_up_by(code, tables.add(64 * pair)), &mut sums);
        }
        let [both, odd] = sums;
        let even = _mm512_sub_epi16(both, _mm512_slli_epi16::<8>(odd));
        (halves_of(even), halves_of(odd))
    }
}

/// What two pairs look up.
#[inline(always)]
unsafe fn looked_up(tables: *const u8, codes: *const u8, pair: usize, soon: *const u8) -> __m512i {
    unsafe {
        _mm_prefetch::<_MM_HINT_T0>(soon.wrapping_add(32 * pair).cast());
        looked_up_by(_mm512_loadu_si512(codes.add(32 * pair).cast()), tables.add(64 * pair))
    }
}

#[inline(always)]
unsafe fn looked_up_by(code: __m512i, tables: *const u8) -> __m512i {
    unsafe {
        let low = _mm512_set1_epi8(15);
        let (even, odd) = (_mm512_loadu_si512(tables.cast()), _mm512_loadu_si512(tables.add(64).cast()));
        let first = _mm512_shuffle_epi8(even, _mm512_and_si512(code, low));
        let code = _mm512_and_si512(_mm512_srli_epi16::<4>(code), low);
        _mm512_add_epi8(first, _mm512_shuffle_epi8(odd, code))
    }
}

#[inline(always)]
unsafe fn add_bytes(bytes: __m512i, [both, odd]: &mut [__m512i; 2]) {
    unsafe {
        *both = _mm512_add_epi16(*both, bytes);
        *odd = _mm512_add_epi16(*odd, _mm512_srli_epi16::<8>(bytes));
    }
}

#[inline(always)]
unsafe fn halves_of(sums: __m512i) -> __m256i {
    unsafe { _mm256_add_epi16(_mm512_castsi512_si256(sums), _mm512_extracti64x4_epi64::<1>(sums)) }
}

/// Sums of even rows and of odd ones as those of the first 16 rows and of the others.
#[inline(always)]
unsafe fn interleaved(even: __m256i, odd: __m256i) -> [__m256i; 2] {
    unsafe {
        let (low, high) = (_mm256_unpacklo_epi16(even, odd), _mm256_unpackhi_epi16(even, odd));
        [_mm256_permute2x128_si256::<0x20>(low, high), _mm256_permute2x128_si256::<0x31>(low, high)]
    }
}

/// Adds 16-bit sums of even and odd rows to those of all.
#[inline]
#[target_feature(enable = "avx2")]
unsafe fn add_interleaved(even: __m256i, odd: __m256i, out: &mut [u32; 32]) {
    let mut rows = [[0u16; 16]; 2];
    unsafe {
        _mm256_storeu_si256(rows[0].as_mut_ptr().cast(), even);
        _mm256_storeu_si256(rows[1].as_mut_ptr().cast(), odd);
    }
    for (i, sum) in out.iter_mut().enumerate() {
        *sum += u32::from(rows[i % 2][i / 2]);
    }
}

#[inline(always)]
unsafe fn widen_256(from: *const i8) -> __m256i {
    unsafe { _mm256_cvtepi8_epi16(_mm_loadu_si128(from.cast())) }
}

/// As [`sum_products_512`], 16 shorts at a time.
#[inline(always)]
unsafe fn sum_products_256(n: usize, a: impl Fn(usize) -> __m256i, b: *const i8) -> (i32, usize) {
    unsafe {
        let mut sum = _mm256_setzero_si256();
        let mut i = 0;
        while i + 16 <= n {
            sum = _mm256_add_epi32(sum, _mm256_madd_epi16(a(i), widen_256(b.add(i))));
            i += 16;
        }
        (sum_of(sum), i)
    }
}

impl Sums for Avx2 {
    #[inline(always)]
    unsafe fn short_by_byte(a: *const i16, b: *const i8, n: usize) -> i32 {
        unsafe {
            let (sum, i) = sum_products_256(n, |i| _mm256_loadu_si256(a.add(i).cast()), b);
            sum + Plain::short_by_byte(a.add(i), b.add(i), n - i)
        }
    }
    #[inline(always)]
    unsafe fn byte_by_byte(a: *const i8, b: *const i8, n: usize) -> i32 {
        unsafe {
            let (sum, i) = sum_products_256(n, |i| widen_256(a.add(i)), b);
            sum + Plain::byte_by_byte(a.add(i), b.add(i), n - i)
        }
    }
    #[inline(always)]
    unsafe fn sum_where_set(values: *const u8, bits: *const u64, words: usize) -> i32 {
        unsafe {
            // Byte j of a register looks at bit j % 8 of byte j / 8 of its 32 bits.
            let byte =
                _mm256_setr_epi64x(0, 0x0101_0101_0101_0101, 0x0202_0202_0202_0202, 0x0303_0303_0303_0303);
            let bit = _mm256_set1_epi64x(0x8040_2010_0804_0201_u64 as i64);
            let mut sum = _mm256_setzero_si256();
            let mut set = 0;
            for w in 0..words {
                set += (*bits.add(w)).count_ones();
                for half in 0..2 {
                    let bits = (*bits.add(w) >> (32 * half)) as i32;
                    let spread = _mm256_and_si256(_mm256_shuffle_epi8(_mm256_set1_epi32(bits), byte), bit);
                    let set = _mm256_cmpeq_epi8(spread, bit);
                    let some = _mm256_loadu_si256(values.add(64 * w + 32 * half).cast());
                    let some = _mm256_sad_epu8(_mm256_and_si256(some, set), _mm256_setzero_si256());
                    sum = _mm256_add_epi64(sum, some);
                }
            }
            // Sums of bytes fit the lower halves.
            sum_of(sum) - 128 * set as i32
        }
    }
}

impl Integers for Avx2 {
    #[inline(always)]
    unsafe fn look_up(
        tables: *const u8,
        codes: *const u8,
        pairs: usize,
        soon: *const u8,
        out: &mut [u32; 32],
    ) {
        *out = [0; 32];
        let mut pair = 0;
        unsafe {
            let low = _mm256_set1_epi8(15);
            let bytes = _mm256_set1_epi16(255);
            let table = |place: usize| _mm256_loadu_si256(tables.add(table_at(place)).cast());
            while pair < pairs {
                let until = pairs.min(pair + 256);
                let (mut even, mut odd) = (_mm256_setzero_si256(), _mm256_setzero_si256());
                while pair < until {
                    if pair % 2 == 0 {
                        _mm_prefetch::<_MM_HINT_T0>(soon.wrapping_add(32 * pair).cast());
                    }
                    let code = _mm256_loadu_si256(codes.add(32 * pair).cast());
                    let first = _mm256_shuffle_epi8(table(2 * pair), _mm256_and_si256(code, low));
                    let code = _mm256_and_si256(_mm256_srli_epi16::<4>(code), low);
                    let second = _mm256_shuffle_epi8(table(2 * pair + 1), code);
                    let sum = _mm256_add_epi8(first, second);
                    even = _mm256_add_epi16(even, _mm256_and_si256(sum, bytes));
                    odd = _mm256_add_epi16(odd, _mm256_srli_epi16::<8>(sum));
                    pair += 1;
                }
                add_interleaved(even, odd, out);
            }
        }
    }
}

#[inline]
#[target_feature(enable = "avx2")]
unsafe fn sum_of(values: __m256i) -> i32 {
    let mut lanes = [0i32; 8];
    unsafe { _mm256_storeu_si256(lanes.as_mut_ptr().cast(), values) };
    lanes.iter().fold(0, |sum, x| sum.wrapping_add(*x))
}
