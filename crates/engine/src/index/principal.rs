//! The two directions in which vectors differ most.

use crate::index::build::crew::Crew;
use crate::index::progress::{BuildError, Progress};
use crate::index::store::transform::{mean, principal};
use crate::kernels::Kernels;

pub struct Principal {
    mean: Vec<f32>,
    directions: [Vec<f32>; 2],
    /// The share of the variance along each, 0 to 1.
    pub explained: [f64; 2],
}

impl Principal {
    /// Those of some vectors, row-major. Vectors of one dimension have one direction; the other is nothing.
    pub fn of(
        values: &[f32],
        dimensions: usize,
        (threads, progress): (usize, &Progress),
    ) -> Result<Principal, BuildError> {
        let crew = Crew { threads, progress, kernels: Kernels::best() };
        let mean = mean(values, dimensions);
        let (rows, _) = principal(&crew, values, dimensions, &mean, dimensions.min(2))?;
        let direction = |i: usize| {
            let Some(of) = rows.chunks(dimensions).nth(i) else { return vec![0.0; dimensions] };
            // A direction and its opposite are one: the largest component points up, so that pictures agree.
            let largest = of.iter().copied().fold(0.0f32, |m, x| if x.abs() > m.abs() { x } else { m });
            of.iter().map(|x| x * largest.signum()).collect()
        };
        let mut found = Principal { mean, directions: [direction(0), direction(1)], explained: [0.0; 2] };
        let (mut all, mut along) = (0.0, [0.0; 2]);
        for vector in values.chunks(dimensions) {
            let place = found.place(vector);
            let apart = vector.iter().zip(&found.mean).map(|(x, m)| f64::from(x - m).powi(2));
            all += apart.sum::<f64>();
            along.iter_mut().zip(place).for_each(|(sum, x)| *sum += f64::from(x).powi(2));
        }
        found.explained = along.map(|sum| if all > 0.0 { (sum / all).min(1.0) } else { 0.0 });
        Ok(found)
    }

    /// Where a vector lies along both.
    pub fn place(&self, vector: &[f32]) -> [f32; 2] {
        let along = |direction: &[f32]| -> f32 {
            let parts = vector.iter().zip(&self.mean).zip(direction);
            parts.map(|((x, m), d)| (x - m) * d).sum()
        };
        [along(&self.directions[0]), along(&self.directions[1])]
    }
}
