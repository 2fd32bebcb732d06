//! A query prepared for the codec that it is compared with.

use crate::index::store::bits::Bytes;
use crate::index::store::blocks::Tables;
use crate::kernels::Kernels;
use std::borrow::Cow;

/// A query, and what is the same for every row.
pub(crate) struct PreparedQuery<'q> {
    pub(crate) vector: Cow<'q, [f32]>,
    pub(crate) euclidean: bool,
    pub(crate) squared: f32,
    /// What all dot products lack: the part of a mean.
    pub(crate) base: f32,
    pub(crate) how: Form,
}

pub(crate) enum Form {
    Plain,
    Bytes { codes: Vec<i16>, scale: f32, length: f32 },
    Looked { table: Vec<f32>, tables: Option<Tables> },
    Bits { bytes: Option<Bytes>, tables: Option<Tables>, length: f32 },
}

impl PreparedQuery<'_> {
    pub(crate) fn into_owned(self) -> PreparedQuery<'static> {
        PreparedQuery { vector: self.vector.into_owned().into(), ..self }
    }

    pub(crate) fn vector(&self) -> &[f32] {
        &self.vector
    }

    /// The rank of a row of zeros, as far as the metric tells lengths.
    pub(crate) fn rank_of_nothing(&self) -> f32 {
        if self.euclidean { self.squared } else { -self.base }
    }

    /// What the ranks of all rows share, apart from their vectors.
    pub(crate) fn rank_of_all(&self) -> f32 {
        if self.euclidean { 0.0 } else { -self.base }
    }

    /// Adds to ranks what they share.
    #[inline]
    pub(crate) fn add(&self, shared: f32, ranks: &mut [f32]) {
        match self.euclidean {
            true => ranks.iter_mut().for_each(|rank| *rank = (*rank + shared).max(0.0)),
            false => ranks.iter_mut().for_each(|rank| *rank += shared),
        }
    }

    /// The tables for codes in blocks, where rows are such.
    pub(crate) fn tables(&self) -> Option<&Tables> {
        match &self.how {
            Form::Looked { tables, .. } | Form::Bits { tables, .. } => tables.as_ref(),
            _ => None,
        }
    }

    /// A rank from a dot product.
    #[inline]
    pub(crate) fn rank(&self, dot: f32, squared: f32) -> f32 {
        if self.euclidean { (self.squared - 2.0 * dot + squared).max(0.0) } else { -(dot + self.base) }
    }
}

/// A query in 16 bits for rows of signed bytes. Scaled so that no sum leaves 32 bits.
pub(crate) fn shorts(kernels: &Kernels, vector: &[f32]) -> Form {
    let (largest, sum) = kernels.magnitudes(vector);
    // Beyond what f32 can tell, at most this.
    let sum = f64::from(sum).min(f64::from(largest) * vector.len() as f64);
    let scale = (32_767.0 / f64::from(largest))
        .min(f64::from(i32::MAX - 1024) / (127.0 * (sum * 1.001 + f64::from(largest))));
    let scale = if scale.is_finite() && scale > 0.0 { scale } else { 0.0 };
    let codes = if scale < f64::from(f32::MAX) {
        kernels.shorts(vector, scale as f32)
    } else {
        vector.iter().map(|x| (f64::from(*x) * scale).round() as i16).collect()
    };
    let length = kernels.dot(vector, vector).sqrt();
    Form::Bytes { codes, scale: if scale > 0.0 { (1.0 / scale) as f32 } else { 0.0 }, length }
}

impl PreparedQuery<'_> {
    /// Takes the part of the mean from ranks that were computed without.
    pub(crate) fn lower(&self, ranks: &mut [f32]) {
        if self.base != 0.0 {
            ranks.iter_mut().for_each(|r| *r -= self.base);
        }
    }
}
