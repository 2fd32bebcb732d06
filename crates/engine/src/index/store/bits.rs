//! Bit codes: signs after a random rotation, or a few bits a dimension.
//!
//! After Gao and Long (SIGMOD 2024), and for several bits Gao et al. (SIGMOD 2025).
//! A vector `r` is rotated and rounded to `v`, whose components are half-integers. `(q.v) |r|^2 / (v.r)` estimates
//! `q.r` without bias, and its error falls with the square root of the dimensions:
//! at most `|q| |r| sqrt((1 - c^2) / (c^2 (d - 1)))` times 1.9 but for one in some dozens, with `c = cos(v, r)`.
//!
//! The rotation is not a matrix but four rounds of random signs and a Walsh-Hadamard transform, over the first and
//! the last power of two of the dimensions in turn: `d log d` additions, and 4 d signs to keep.

use crate::kernels::Kernels;
use crate::tensors::Tensor;
use rand::{Rng, SeedableRng};

/// Standard deviations that the bound of an error covers.
const DEVIATIONS: f32 = 1.9;
const ROUNDS: usize = 4;

pub(crate) struct Rotation {
    /// `[4, padded]`, 1 or -1.
    pub(crate) signs: Tensor<f32>,
    pub(crate) padded: usize,
}

impl Rotation {
    /// Dimensions after the rotation: whole words of bits.
    pub(crate) fn padded(dimensions: usize) -> usize {
        dimensions.next_multiple_of(64)
    }

    pub(crate) fn random(dimensions: usize, seed: u64) -> Rotation {
        let padded = Rotation::padded(dimensions);
        let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
        let signs: Vec<f32> =
            (0..ROUNDS * padded).map(|_| if rng.random::<bool>() { 1.0 } else { -1.0 }).collect();
        Rotation { signs: signs.into(), padded }
    }

    /// Rotates a vector, filled up with zeros.
    pub(crate) fn turn(&self, kernels: &Kernels, vector: &[f32]) -> Vec<f32> {
        let mut x = vector.to_vec();
        x.resize(self.padded, 0.0);
        let power = 1 << self.padded.ilog2();
        let scale = 1.0 / (power as f32).sqrt();
        for (round, signs) in self.signs.chunks(self.padded).enumerate() {
            let (from, rest) = if round % 2 == 0 {
                (0, power..self.padded)
            } else {
                (self.padded - power, 0..self.padded - power)
            };
            x[rest.clone()].iter_mut().zip(&signs[rest]).for_each(|(x, s)| *x *= s);
            let x = &mut x[from..from + power];
            kernels.mix(x, &signs[from..from + power]);
            x.iter_mut().for_each(|x| *x *= scale);
        }
        x
    }
}

/// A rotated vector as bits, and the numbers that turn products with them into estimates.
pub(crate) struct Coded {
    /// One code of `planes` bits for each dimension.
    pub(crate) codes: Vec<u8>,
    /// Times `q.v` estimates `q.r`.
    pub(crate) factor: f32,
    /// Times `|q|` bounds the error of that.
    pub(crate) error: f32,
}

/// The values of a code of this many bits: half-integers around zero.
#[inline]
pub(crate) fn value(code: u8, planes: usize) -> f32 {
    f32::from(code) - ((1 << planes) - 1) as f32 / 2.0
}

pub(crate) fn encode(rotated: &[f32], planes: usize) -> Coded {
    let squared: f64 = rotated.iter().map(|x| f64::from(*x) * f64::from(*x)).sum();
    let largest = rotated.iter().fold(0.0f32, |m, x| m.max(x.abs()));
    let most = ((1u32 << planes) - 1) as f32;
    let round = |step: f32| -> Vec<u8> {
        let inverse = 1.0 / step;
        rotated.iter().map(|x| (x * inverse + (most + 1.0) / 2.0).clamp(0.0, most) as u8).collect()
    };
    // The step under which the code points best along the vector; signs alone need none.
    let along = |codes: &[u8]| {
        let (mut dot, mut length) = (0.0f64, 0.0f64);
        for (x, c) in rotated.iter().zip(codes) {
            let v = f64::from(value(*c, planes));
            dot += v * f64::from(*x);
            length += v * v;
        }
        (dot, dot / (length * squared).sqrt())
    };
    let step = 2.0 * largest / (most + 1.0);
    if largest == 0.0 || !step.is_normal() {
        return Coded { codes: round(1.0), factor: 0.0, error: 0.0 };
    }
    let codes = if planes == 1 {
        round(1.0)
    } else {
        let tries = (1..=16).map(|i| round(step * i as f32 / 16.0));
        tries.max_by(|a, b| along(a).1.total_cmp(&along(b).1)).expect("16 were tried")
    };
    let (dot, cosine) = along(&codes);
    if dot <= 0.0 || cosine <= 0.0 {
        return Coded { codes, factor: 0.0, error: squared.sqrt() as f32 };
    }
    let spread =
        ((1.0 - cosine * cosine).max(0.0) / (cosine * cosine * (rotated.len().max(2) - 1) as f64)).sqrt();
    Coded { codes, factor: (squared / dot) as f32, error: (squared.sqrt() * spread) as f32 * DEVIATIONS }
}

/// The bits of codes, plane by plane.
pub(crate) fn planes_of(codes: &[u8], planes: usize, out: &mut Vec<u64>) {
    for plane in 0..planes {
        for some in codes.chunks(64) {
            out.push(some.iter().enumerate().fold(0, |word, (i, c)| word | u64::from(c >> plane & 1) << i));
        }
    }
}

/// A rotated query in bytes: `value = (byte - 128) * step`.
pub(crate) struct Bytes {
    pub(crate) bytes: Vec<u8>,
    pub(crate) step: f32,
    /// Half the greatest code times the sum of all values: what makes codes of half-integers out of sums of bits.
    pub(crate) shift: f32,
}

impl Bytes {
    pub(crate) fn new(kernels: &Kernels, rotated: &[f32], planes: usize) -> Bytes {
        let step = kernels.magnitudes(rotated).0 / 127.0;
        let inverse = if step.is_normal() { 1.0 / step } else { 0.0 };
        let (bytes, sum) = kernels.bytes(rotated, inverse);
        let shift = ((1 << planes) - 1) as f32 / 2.0 * sum as f32 * step;
        Bytes { bytes, step, shift }
    }
}

/// The 4-bit places of sign codes.
pub(crate) fn places_of(codes: &[u8]) -> Vec<u8> {
    codes
        .chunks(4)
        .map(|four| four.iter().enumerate().fold(0, |place, (i, c)| place | (c & 1) << i))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn vector(n: usize, rng: &mut impl Rng) -> Vec<f32> {
        (0..n).map(|_| rng.random_range(-1.0f32..1.0)).collect()
    }

    #[test]
    fn the_rotation_keeps_lengths_and_spreads_what_stands_out() {
        let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(1);
        for n in [1usize, 64, 100, 384, 1000] {
            let rotation = Rotation::random(n, 7);
            let x = vector(n, &mut rng);
            let length = |x: &[f32]| x.iter().map(|x| x * x).sum::<f32>();
            let turned = rotation.turn(Kernels::best(), &x);
            assert!((length(&turned) - length(&x)).abs() < 1e-3 * length(&x), "{n}");
            let mut spike = vec![0.0; n];
            spike[n / 2] = 1.0;
            let turned = rotation.turn(Kernels::best(), &spike);
            let most = turned.iter().fold(0.0f32, |m, x| m.max(x.abs()));
            assert!(most < 6.0 / (turned.len() as f32).sqrt(), "{n}: {most}");
        }
    }

    #[test]
    fn estimates_are_unbiased_and_the_bound_holds_for_nearly_all() {
        let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(2);
        let d = 192;
        for planes in 1..=4 {
            let (mut sum, mut beyond, mut gaps) = (0.0f64, 0, 0.0f64);
            let n = 2000;
            for seed in 0..n {
                let rotation = Rotation::random(d, seed);
                let (q, r) = (vector(d, &mut rng), vector(d, &mut rng));
                let coded = encode(&rotation.turn(Kernels::best(), &r), planes);
                let turned = rotation.turn(Kernels::best(), &q);
                let dot: f32 = turned.iter().zip(&coded.codes).map(|(q, c)| q * value(*c, planes)).sum();
                let length = q.iter().map(|x| x * x).sum::<f32>().sqrt();
                let truth: f32 = q.iter().zip(&r).map(|(a, b)| a * b).sum();
                let gap = coded.factor * dot - truth;
                sum += f64::from(gap);
                gaps += f64::from(gap * gap);
                beyond += usize::from(gap.abs() > coded.error * length);
            }
            let deviation = (gaps / n as f64).sqrt();
            assert!((sum / n as f64).abs() < 4.0 * deviation / (n as f64).sqrt(), "{planes}: biased");
            assert!(beyond < n as usize / 12, "{planes}: {beyond} of {n} beyond the bound");
        }
    }

    #[test]
    fn bytes_and_tables_say_the_product_with_the_code() {
        let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(3);
        let (q, r) = (vector(128, &mut rng), vector(128, &mut rng));
        for planes in 1..=4 {
            let codes = encode(&r, planes).codes;
            let want: f32 = q.iter().zip(&codes).map(|(q, c)| q * value(*c, planes)).sum();
            let mut words = Vec::new();
            planes_of(&codes, planes, &mut words);
            let bytes = Bytes::new(Kernels::best(), &q, planes);
            // a = 0 and b = 1: the product itself.
            words.insert(0, u64::from(1.0f32.to_bits()));
            let (shape, mut found) = ((words.len(), 1, planes), [0.0]);
            Kernels::best().rank_bits(
                &bytes.bytes,
                &words,
                shape,
                &[0],
                (bytes.step, bytes.shift),
                &mut found,
            );
            assert!((found[0] - want).abs() < 0.02 * (1 << planes) as f32, "{planes}");
            if planes == 1 {
                let mut block = vec![0; crate::index::store::blocks::n_bytes(32)];
                crate::index::store::blocks::put(&mut block, 5, &places_of(&codes));
                let mut sums = [0.0; 32];
                let kernels = Kernels::best();
                crate::index::store::blocks::Tables::of_signs(kernels, &q).sums(kernels, &block, &mut sums);
                assert!((sums[5] - want).abs() < 0.15, "{} for {want}", sums[5]);
            }
        }
    }
}
