//! Drawing query sets from a collection, and how hard they are.

use super::error::MeasureError;
use super::exact::{Known, nearest_of};
use super::set::by_number;
use super::statistics::percentile;
use crate::index::{Progress, held_out_share, is_held_out};
use crate::rows::Table;
use rand::seq::SliceRandom;
use rand::{Rng, SeedableRng};
use rand_distr::{Distribution, StandardNormal};

/// Queries, in order.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Drawn {
    /// Prepared vectors, row-major.
    pub vectors: Vec<f32>,
    /// For each query the number of the record that it is, if it is one.
    pub records: Vec<Option<u64>>,
}

/// What to draw.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Draw {
    /// Records, of those that indexes hold out (see [`held_out_share`]).
    Sampled,
    /// Each component from one of so many random records: such queries lie far from every cluster.
    Blended { of: usize },
    /// A record's vector plus noise, whose length is this share of the distance to the record's 10th neighbour.
    Jittered { noise: f64 },
}

/// Draws up to `n` queries from the records of a column. The same seed and records give the same queries.
pub fn draw(
    table: &Table,
    column: usize,
    how: Draw,
    n: usize,
    seed: u64,
    (threads, progress): (usize, &Progress),
) -> Result<Drawn, MeasureError> {
    let (vectors, metric) = (&table.vectors()[column].vectors, table.vectors()[column].metric);
    let mut rows = by_number(table, column);
    if rows.len() < 2 {
        return Err(MeasureError::TooFewRows(rows.len()));
    }
    let d = vectors.dimensions();
    let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
    let mut drawn = Drawn::default();
    let prepared = |vector: &[f32]| metric.prepare(vector, d).ok();
    match how {
        Draw::Sampled => {
            let share = held_out_share(rows.len());
            rows.retain(|row| is_held_out(table.number(*row), share));
            if rows.is_empty() {
                return Err(MeasureError::NoneHeldOut);
            }
            for &row in &*rows.partial_shuffle(&mut rng, n).0 {
                drawn.vectors.extend(vectors.row(row));
                drawn.records.push(Some(table.number(row)));
            }
        }
        Draw::Blended { of } => {
            let mut tries = 0;
            while drawn.records.len() < n && tries < 2 * n {
                tries += 1;
                let from: Vec<u32> = (0..of.max(1)).map(|_| rows[rng.random_range(0..rows.len())]).collect();
                let blend: Vec<f32> =
                    (0..d).map(|i| vectors.row(from[rng.random_range(0..from.len())])[i]).collect();
                // Under cosine a blend of sparse records may be all zeros, and has no direction.
                if let Some(blend) = prepared(&blend) {
                    drawn.vectors.extend(blend);
                    drawn.records.push(None);
                }
            }
        }
        Draw::Jittered { noise } => {
            let rows = rows.partial_shuffle(&mut rng, n).0.to_vec();
            let own: Vec<f32> = rows.iter().flat_map(|row| vectors.row(*row).iter().copied()).collect();
            let excluded: Vec<Option<u32>> = rows.iter().copied().map(Some).collect();
            let near = nearest_of(table, column, (&own, &excluded), 10, (threads, progress))?;
            for (&row, near) in rows.iter().zip(near) {
                let own = vectors.row(row);
                let tenth = near.last().map_or(own, |tenth| vectors.row(tenth.row));
                let far = own.iter().zip(tenth).map(|(a, b)| f64::from(a - b).powi(2)).sum::<f64>().sqrt();
                let noises: Vec<f64> = (0..d).map(|_| StandardNormal.sample(&mut rng)).collect();
                let length = noises.iter().map(|x| x * x).sum::<f64>().sqrt().max(f64::MIN_POSITIVE);
                let moved: Vec<f32> = own
                    .iter()
                    .zip(&noises)
                    .map(|(x, e)| (f64::from(*x) + e / length * noise * far) as f32)
                    .collect();
                if let Some(moved) = prepared(&moved) {
                    drawn.vectors.extend(moved);
                    drawn.records.push(None);
                }
            }
        }
    }
    Ok(drawn)
}

/// How hard queries are, beside the collection's own records.
#[derive(Clone, Copy, Debug, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Difficulty {
    /// Median distances to the 1st, 10th and 100th neighbour; none where there are fewer.
    pub distances: [Option<f64>; 3],
    /// Median local intrinsic dimensionality (Levina and Bickel, 2004) at the 100th neighbour: how many directions the
    /// data takes around a query. None under `dot`, which is no distance.
    pub intrinsic: Option<f64>,
}

/// Neighbours that tell how hard a query is.
pub const NEIGHBOURHOOD: usize = 100;

/// How hard queries are whose exact neighbours are known, best 100 of them.
pub fn difficulty(known: &Known, metric: crate::Metric) -> Difficulty {
    let at = |rank: usize| {
        let all: Vec<f64> = known
            .nearest
            .iter()
            .filter_map(|list| list.get(rank).map(|n| f64::from(metric.distance(n.rank))))
            .collect();
        percentile(&all, 0.5)
    };
    let intrinsic: Vec<f64> = known.nearest.iter().filter_map(|list| intrinsic_of(list, metric)).collect();
    Difficulty { distances: [at(0), at(9), at(99)], intrinsic: percentile(&intrinsic, 0.5) }
}

/// The maximum likelihood estimate from one query's neighbours: the inverse of the mean logarithm of how much farther the
/// last is than each.
fn intrinsic_of(nearest: &[crate::scan::Neighbour], metric: crate::Metric) -> Option<f64> {
    let length = |rank: f32| match metric {
        // The chord between unit vectors.
        crate::Metric::Cosine => Some((2.0 + 2.0 * f64::from(rank)).max(0.0).sqrt()),
        crate::Metric::Euclidean => Some(f64::from(rank).max(0.0).sqrt()),
        crate::Metric::Dot => None,
    };
    let some = &nearest[..nearest.len().min(NEIGHBOURHOOD)];
    let last = length(some.last()?.rank)?;
    let logs: Vec<f64> = some[..some.len() - 1]
        .iter()
        .filter_map(|n| length(n.rank).filter(|r| *r > 0.0))
        .map(|r| (last / r).ln())
        .collect();
    let sum: f64 = logs.iter().sum();
    (logs.len() >= 5 && sum > 0.0).then(|| logs.len() as f64 / sum)
}
