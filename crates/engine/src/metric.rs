//! Metrics, and the two numbers every hit shows: `distance` (lower is closer) and `score` (higher
//! is closer).
//!
//! | metric      | distance                | score              |
//! |-------------|-------------------------|--------------------|
//! | `cosine`    | `1 - cos(a, b)`, 0 to 2 | `cos(a, b)`        |
//! | `euclidean` | `sqrt(sum (a - b)^2)`   | `1 / (1 + distance)` |
//! | `dot`       | `-(a . b)`              | `a . b`            |
//!
//! Inside, searches compare *ranks*: cheaper numbers in the same order (`-dot` of unit vectors for
//! cosine, the squared distance for euclidean).

use crate::kernels::Kernels;
use serde::{Deserialize, Serialize};
use std::fmt;

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Metric {
    Cosine,
    Euclidean,
    Dot,
}

impl fmt::Display for Metric {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Metric::Cosine => "cosine",
            Metric::Euclidean => "euclidean",
            Metric::Dot => "dot",
        })
    }
}

impl std::str::FromStr for Metric {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "cosine" => Ok(Metric::Cosine),
            "euclidean" => Ok(Metric::Euclidean),
            "dot" => Ok(Metric::Dot),
            _ => Err(format!("unknown metric \"{text}\"; the metrics are cosine, euclidean, dot")),
        }
    }
}

/// Why a vector cannot be stored or searched for.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
pub enum VectorError {
    #[error("has {got} dimensions, and the column takes {expected}")]
    Dimensions { expected: usize, got: usize },
    #[error("holds {value} at position {position}; every component must be a finite number")]
    NotFinite { position: usize, value: String },
    #[error(
        "is all zeros, which has no direction: cosine cannot compare it; leave the vector out, \
         or use a column with the euclidean or dot metric"
    )]
    Zero,
    #[error("is too long for 32-bit arithmetic (its squared length overflows); scale the vectors down")]
    TooLong,
}

/// What tells a prepared vector from another, code or no code: the CRC-32 of its little-endian bytes.
pub fn fingerprint(vector: &[f32]) -> u32 {
    crc32fast::hash(bytemuck::cast_slice(vector))
}

/// The square of a vector's length, summed in lanes, so that no addition waits for the one before it.
fn squared(vector: &[f32]) -> f64 {
    let (some, rest) = vector.as_chunks::<8>();
    let mut lanes = [0.0f64; 8];
    for x in some {
        lanes.iter_mut().zip(x).for_each(|(lane, &x)| *lane += f64::from(x) * f64::from(x));
    }
    lanes.into_iter().chain(rest.iter().map(|&x| f64::from(x) * f64::from(x))).sum()
}

impl Metric {
    /// Checks a vector as a caller gave it; returns the square of its length.
    pub fn check(self, vector: &[f32], dimensions: usize) -> Result<f64, VectorError> {
        if vector.len() != dimensions {
            return Err(VectorError::Dimensions { expected: dimensions, got: vector.len() });
        }
        // In f64, where no sum of squares of f32 overflows: it is finite if all numbers are.
        let squared = squared(vector);
        if !squared.is_finite()
            && let Some(position) = vector.iter().position(|x| !x.is_finite())
        {
            let value = vector[position].to_string();
            return Err(VectorError::NotFinite { position, value });
        }
        match self {
            Metric::Cosine if squared == 0.0 => Err(VectorError::Zero),
            // Sums of squares of differences reach four times this.
            Metric::Dot | Metric::Euclidean if squared > f64::from(f32::MAX) / 4.0 => {
                Err(VectorError::TooLong)
            }
            _ => Ok(squared),
        }
    }

    /// Checks a vector as a caller gave it and turns it into the form that is stored for searching:
    /// unit length under cosine, unchanged otherwise.
    pub fn prepare(self, vector: &[f32], dimensions: usize) -> Result<Vec<f32>, VectorError> {
        self.prepare_with_length(vector, dimensions).map(|(prepared, _)| prepared)
    }

    /// The same, and the length that the vector had.
    pub(crate) fn prepare_with_length(
        self,
        vector: &[f32],
        dimensions: usize,
    ) -> Result<(Vec<f32>, f64), VectorError> {
        let length = self.check(vector, dimensions)?.sqrt();
        if self != Metric::Cosine {
            return Ok((vector.to_vec(), length));
        }
        // In f64, so that vectors near the ends of the f32 range keep their direction.
        let scale = 1.0 / length;
        Ok((vector.iter().map(|&x| (f64::from(x) * scale) as f32).collect(), length))
    }

    /// The rank of two prepared vectors: lower is closer.
    pub fn rank(self, kernels: &Kernels, a: &[f32], b: &[f32]) -> f32 {
        match self {
            Metric::Euclidean => kernels.squared_euclidean(a, b),
            Metric::Cosine | Metric::Dot => -kernels.dot(a, b),
        }
    }

    /// The distance that is shown for a rank.
    pub fn distance(self, rank: f32) -> f32 {
        match self {
            Metric::Cosine => (1.0 + rank).clamp(0.0, 2.0),
            Metric::Euclidean => rank.max(0.0).sqrt(),
            Metric::Dot => rank,
        }
    }

    /// The score that is shown for a rank.
    pub fn score(self, rank: f32) -> f32 {
        match self {
            Metric::Cosine => (-rank).clamp(-1.0, 1.0),
            Metric::Euclidean => 1.0 / (1.0 + self.distance(rank)),
            Metric::Dot => -rank,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn refusals_name_the_numbers() {
        let m = Metric::Cosine;
        assert_eq!(m.prepare(&[1.0], 2).unwrap_err().to_string(), "has 1 dimensions, and the column takes 2");
        assert!(m.prepare(&[1.0, f32::NAN], 2).unwrap_err().to_string().contains("NaN at position 1"));
        assert!(m.prepare(&[f32::INFINITY, 0.0], 2).is_err());
        assert_eq!(m.prepare(&[0.0, 0.0], 2), Err(VectorError::Zero));
        assert!(Metric::Dot.prepare(&[0.0, 0.0], 2).is_ok());
        assert_eq!(Metric::Euclidean.prepare(&[3e38, 0.0], 2), Err(VectorError::TooLong));
        // Wherever it stands, and however large the others are.
        for at in 0..19 {
            let mut vector = [f32::MAX; 19];
            assert!(m.check(&vector, 19).is_ok());
            vector[at] = f32::NEG_INFINITY;
            assert!(
                matches!(m.check(&vector, 19), Err(VectorError::NotFinite { position, .. }) if position == at)
            );
        }
    }

    #[test]
    fn cosine_keeps_direction_at_the_ends_of_the_range() {
        for scale in [1e-38f32, 1e-20, 1.0, 1e20, 1e38] {
            let unit = Metric::Cosine.prepare(&[3.0 * scale, 0.0, -scale], 3).unwrap();
            let length: f32 = unit.iter().map(|x| x * x).sum();
            assert!((length - 1.0).abs() < 1e-5, "{scale}: {length}");
            assert!((unit[0] / unit[2] + 3.0).abs() < 1e-4);
        }
    }

    #[test]
    fn scores_fall_as_distances_rise() {
        for metric in [Metric::Cosine, Metric::Euclidean, Metric::Dot] {
            let ranks: &[f32] = match metric {
                Metric::Cosine => &[-1.0, -0.5, 0.0, 0.9],
                Metric::Euclidean => &[0.0, 0.5, 4.0],
                Metric::Dot => &[-7.0, 0.0, 2.0],
            };
            for pair in ranks.windows(2) {
                assert!(metric.distance(pair[0]) < metric.distance(pair[1]));
                assert!(metric.score(pair[0]) > metric.score(pair[1]));
            }
        }
    }
}
