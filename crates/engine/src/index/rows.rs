//! The vectors of an index as its recipe keeps them.
//!
//! `int8`: each vector is scaled so that its largest component is 127, and rounded; the query stays f32, so that
//! only one side of a distance is coarse. `f16`: IEEE halves.

use super::tensor::Tensor;
use crate::chunked::Aligned;
use crate::kernels::Kernels;
use crate::recipe::Store;
use half::f16;

pub(super) enum Rows {
    F32(Tensor<f32>),
    /// Bits of halves.
    F16(Tensor<u16>),
    /// A component is `code * scale`; `squared` is the squared length of the vector that the codes stand for.
    Int8 {
        codes: Tensor<i8>,
        scale: Tensor<f32>,
        squared: Tensor<f32>,
    },
}

/// A query, and what is the same for every row.
#[derive(Clone, Copy)]
pub(super) struct Query<'a> {
    pub(super) vector: &'a [f32],
    pub(super) euclidean: bool,
    squared: f32,
}

impl<'a> Query<'a> {
    pub(super) fn new(kernels: &Kernels, vector: &'a [f32], euclidean: bool) -> Self {
        Query { vector, euclidean, squared: if euclidean { kernels.dot(vector, vector) } else { 0.0 } }
    }
}

impl Rows {
    pub(super) fn encode(store: Store, vectors: &[f32], dimensions: usize) -> Rows {
        match store {
            Store::F32 => {
                let mut all = Aligned::with_capacity(vectors.len());
                all.extend(vectors);
                Rows::F32(Tensor::from(all))
            }
            Store::F16 => {
                let bits: Vec<u16> = vectors.iter().map(|x| f16::from_f32(*x).to_bits()).collect();
                Rows::F16(Tensor::from(bits))
            }
            Store::Int8 => {
                let n = vectors.len() / dimensions;
                let mut codes = Vec::with_capacity(vectors.len());
                let (mut scale, mut squared) = (Vec::with_capacity(n), Vec::with_capacity(n));
                for row in vectors.chunks(dimensions) {
                    let largest = row.iter().fold(0.0f32, |m, x| m.max(x.abs()));
                    // A vector of zeros, or one too small to divide by, has codes of zero.
                    let step = largest / 127.0;
                    let inverse = if step > 0.0 { 1.0 / step } else { 0.0 };
                    let inverse = if inverse.is_finite() { inverse } else { 0.0 };
                    let start = codes.len();
                    codes.extend(row.iter().map(|x| (x * inverse).round().clamp(-127.0, 127.0) as i8));
                    let sum: i64 = codes[start..].iter().map(|c| i64::from(*c) * i64::from(*c)).sum();
                    scale.push(step);
                    squared.push((sum as f64 * f64::from(step) * f64::from(step)) as f32);
                }
                Rows::Int8 { codes: codes.into(), scale: scale.into(), squared: squared.into() }
            }
        }
    }

    pub(super) fn n_bytes(&self) -> usize {
        match self {
            Rows::F32(v) => v.len() * 4,
            Rows::F16(v) => v.len() * 2,
            Rows::Int8 { codes, scale, squared } => codes.len() + 4 * (scale.len() + squared.len()),
        }
    }

    /// Ranks of the query against the rows numbered in `picks`, one output each: exact for f32, close for codes.
    #[inline]
    pub(super) fn rank_picked(&self, kernels: &Kernels, query: &Query<'_>, picks: &[u32], out: &mut [f32]) {
        match self {
            Rows::F32(rows) => kernels.rank_picked(query.euclidean, query.vector, rows, picks, out),
            Rows::F16(rows) => kernels.rank_halves(query.euclidean, query.vector, rows, picks, out),
            Rows::Int8 { codes, scale, squared } => {
                kernels.dot_bytes(query.vector, codes, picks, out);
                for (rank, &pick) in out.iter_mut().zip(picks) {
                    let dot = *rank * scale[pick as usize];
                    *rank = if query.euclidean {
                        (query.squared - 2.0 * dot + squared[pick as usize]).max(0.0)
                    } else {
                        -dot
                    };
                }
            }
        }
    }
}
