//! What is done to vectors before they are coded: `center`, `reduce` and `rotate`, as one affine map.
//!
//! `y = matrix (x - mean)`. Under cosine and dot the query is not centred: `q.x = q.mean + q.(x - mean)`, where the
//! first part is the same for every row. So centring never changes an order; it takes from codes what they need not
//! tell. `reduce` keeps principal directions; `rotate` is the optimised rotation of Ge, He, Ke and Sun (CVPR 2013),
//! begun from principal directions dealt out so that each part of a code gets its share of the variance.

use crate::Metric;
use crate::index::build::crew::Crew;
use crate::index::progress::BuildError;
use crate::index::store::product;
use crate::kernels::Kernels;
use crate::recipe::{Recipe, Store};
use crate::tensors::Tensor;
use faer::{Mat, Side};
use std::borrow::Cow;

pub(crate) struct Transform {
    pub(crate) mean: Option<Tensor<f32>>,
    /// `[to, from]`, row-major.
    pub(crate) matrix: Option<Tensor<f32>>,
    pub(crate) from: usize,
    pub(crate) to: usize,
}

/// Principal directions of more dimensions are found from so many rows instead.
const MOST_SIDE: usize = 4096;

impl Transform {
    pub(crate) fn learn(
        crew: &Crew<'_>,
        recipe: &Recipe,
        metric: Metric,
        sample: &[f32],
        from: usize,
        seed: u64,
    ) -> Result<Transform, BuildError> {
        let to = recipe.dimensions(from);
        let mut transform = Transform { mean: None, matrix: None, from, to };
        if recipe.prepare.center {
            transform.mean = Some(mean(sample, from).into());
        }
        let Some(reduce) = recipe.prepare.reduce else {
            if recipe.prepare.rotate {
                let sample = transform.apply(crew, sample)?;
                transform.matrix = Some(rotation(crew, recipe.store, &sample, from, seed)?.into());
            }
            return Ok(transform);
        };
        // Distances do not see the mean, so the directions under the euclidean metric are those about it.
        let about = if recipe.prepare.center || metric == Metric::Euclidean {
            mean(sample, from)
        } else {
            vec![0.0; from]
        };
        let (directions, _) = principal(crew, sample, from, &about, reduce)?;
        transform.matrix = Some(directions.into());
        if recipe.prepare.rotate {
            let reduced = transform.apply(crew, sample)?;
            let rotation = rotation(crew, recipe.store, &reduced, to, seed)?;
            let directions = transform.matrix.as_deref().expect("just found");
            let both = scaled(&rotation, to, 1.0) * scaled(directions, from, 1.0);
            let both = row_major(&both);
            transform.matrix = Some(both.into());
        }
        Ok(transform)
    }

    pub(crate) fn identity(dimensions: usize) -> Transform {
        Transform { mean: None, matrix: None, from: dimensions, to: dimensions }
    }

    pub(crate) fn is_identity(&self) -> bool {
        self.mean.is_none() && self.matrix.is_none()
    }

    /// Rows, ready to be coded.
    pub(crate) fn apply<'a>(&self, crew: &Crew<'_>, rows: &'a [f32]) -> Result<Cow<'a, [f32]>, BuildError> {
        let centered = match &self.mean {
            None => Cow::Borrowed(rows),
            Some(mean) => Cow::Owned(
                rows.chunks(self.from)
                    .flat_map(|row| row.iter().zip(mean.iter()).map(|(x, m)| x - m))
                    .collect(),
            ),
        };
        match &self.matrix {
            None => Ok(centered),
            Some(matrix) => Ok(Cow::Owned(self.turn(crew, matrix, &centered)?)),
        }
    }

    /// Rows turned as the matrix says, not centred.
    pub(crate) fn apply_matrix<'a>(
        &self,
        crew: &Crew<'_>,
        rows: &'a [f32],
    ) -> Result<Cow<'a, [f32]>, BuildError> {
        match &self.matrix {
            None => Ok(Cow::Borrowed(rows)),
            Some(matrix) => Ok(Cow::Owned(self.turn(crew, matrix, rows)?)),
        }
    }

    fn turn(&self, crew: &Crew<'_>, matrix: &[f32], rows: &[f32]) -> Result<Vec<f32>, BuildError> {
        let n = rows.len() / self.from;
        let parts = crew.pieces(n, 96, |piece| {
            let mut out = vec![0.0; piece.len() * self.to];
            let rows = &rows[piece.start * self.from..piece.end * self.from];
            crew.kernels.rank_block(false, rows, matrix, self.from, &mut out);
            out.iter_mut().for_each(|x| *x = -*x);
            out
        })?;
        Ok(parts.concat())
    }

    /// A query for transformed rows, and what its dot products lack.
    pub(crate) fn ask<'q>(
        &self,
        kernels: &Kernels,
        query: &'q [f32],
        euclidean: bool,
    ) -> (Cow<'q, [f32]>, f32) {
        let mut base = 0.0;
        let mut query = Cow::Borrowed(query);
        if let Some(mean) = &self.mean {
            if euclidean {
                query = Cow::Owned(query.iter().zip(mean.iter()).map(|(x, m)| x - m).collect());
            } else {
                base = kernels.dot(&query, mean);
            }
        }
        (self.turn_one(kernels, query), base)
    }

    fn turn_one<'q>(&self, kernels: &Kernels, query: Cow<'q, [f32]>) -> Cow<'q, [f32]> {
        match &self.matrix {
            None => query,
            Some(matrix) => {
                let mut out = vec![0.0; self.to];
                kernels.rank_rows(false, &query, matrix, &mut out);
                out.iter_mut().for_each(|x| *x = -*x);
                Cow::Owned(out)
            }
        }
    }

    pub(crate) fn n_bytes(&self) -> usize {
        4 * (self.mean.as_ref().map_or(0, |t| t.len()) + self.matrix.as_ref().map_or(0, |t| t.len()))
    }
}

pub(crate) fn mean(rows: &[f32], dimensions: usize) -> Vec<f32> {
    let mut sum = vec![0.0f64; dimensions];
    for row in rows.chunks(dimensions) {
        sum.iter_mut().zip(row).for_each(|(s, x)| *s += f64::from(*x));
    }
    let n = (rows.len() / dimensions).max(1) as f64;
    sum.iter().map(|s| (s / n) as f32).collect()
}

/// What brings values into the middle of the range, so that sums of their squares stay in it. Directions and
/// rotations do not depend on it.
fn unit(values: &[f32]) -> f32 {
    let largest = values.iter().fold(0.0f32, |m, x| m.max(x.abs()));
    if largest.is_normal() { 1.0 / largest } else { 1.0 }
}

/// Rows of so many columns as a matrix, times a scale.
fn scaled(rows: &[f32], columns: usize, scale: f32) -> Mat<f32> {
    Mat::from_fn(rows.len() / columns, columns, |r, c| rows[r * columns + c] * scale)
}

fn row_major(matrix: &Mat<f32>) -> Vec<f32> {
    let columns = matrix.ncols();
    (0..matrix.nrows()).flat_map(|r| (0..columns).map(move |c| matrix[(r, c)])).collect()
}

fn decomposed<T, E: std::fmt::Debug>(result: Result<T, E>) -> Result<T, BuildError> {
    result.map_err(|e| BuildError::Data(format!("the principal directions could not be found ({e:?})")))
}

/// The `keep` directions in which rows differ most from `about`, row-major, the strongest first; and the variance
/// along each, in some unit.
pub(crate) fn principal(
    crew: &Crew<'_>,
    sample: &[f32],
    d: usize,
    about: &[f32],
    keep: usize,
) -> Result<(Vec<f32>, Vec<f32>), BuildError> {
    let n = sample.len() / d;
    crew.check()?;
    let scale = unit(sample);
    let centered = |r: usize, c: usize| (sample[r * d + c] - about[c]) * scale;
    if d <= MOST_SIDE && (n >= d || keep > n) {
        let rows = Mat::from_fn(n, d, centered);
        let covariance = rows.transpose() * &rows;
        crew.check()?;
        let eigen = decomposed(covariance.self_adjoint_eigen(Side::Lower))?;
        let (vectors, values) = (eigen.U(), eigen.S().column_vector());
        // Rising order.
        let strongest = |i: usize| d - 1 - i;
        let directions = (0..keep).flat_map(|i| (0..d).map(move |c| (c, i)));
        let directions = directions.map(|(c, i)| vectors[(c, strongest(i))]).collect();
        return Ok((directions, (0..keep).map(|i| values[strongest(i)].max(0.0) / n as f32).collect()));
    }
    // More dimensions than rows: the same directions, from the products of rows.
    let m = n.min(MOST_SIDE);
    let rows = Mat::from_fn(m, d, |r, c| centered(r * (n / m), c));
    let products = &rows * rows.transpose();
    crew.check()?;
    let eigen = decomposed(products.self_adjoint_eigen(Side::Lower))?;
    let (vectors, values) = (eigen.U(), eigen.S().column_vector());
    if keep > m {
        return Err(BuildError::Data(format!(
            "reduce({keep}) needs {keep} rows or more to learn from, and at most {MOST_SIDE}; there are {m}: use reduce({m}) or less"
        )));
    }
    let turned = vectors.transpose() * &rows;
    let mut directions = Vec::with_capacity(keep * d);
    let mut variances = Vec::with_capacity(keep);
    for i in (m - keep..m).rev() {
        let value = values[i].max(0.0);
        let scale = if value > 0.0 { 1.0 / value.sqrt() } else { 0.0 };
        directions.extend((0..d).map(|c| turned[(i, c)] * scale));
        variances.push(value / m as f32);
    }
    Ok((directions, variances))
}

/// The rotation under which product codes lose least, `[d, d]` row-major.
fn rotation(
    crew: &Crew<'_>,
    store: Store,
    sample: &[f32],
    d: usize,
    seed: u64,
) -> Result<Vec<f32>, BuildError> {
    let Store::Pq { parts, bits } = store else {
        unreachable!("the parser asks for product codes after rotate")
    };
    const ROWS: usize = 16_384;
    const ROUNDS: usize = 10;
    let n = (sample.len() / d).min(ROWS);
    let sample = &sample[..n * d];
    let (directions, variances) = principal(crew, sample, d, &mean(sample, d), d)?;
    // Each direction goes to the part whose product of variances is least so far.
    let mut dealt: Vec<Vec<usize>> = vec![Vec::new(); parts];
    let mut logs = vec![0.0f64; parts];
    for (i, variance) in variances.iter().enumerate() {
        let open = (0..parts).filter(|p| dealt[*p].len() < d / parts);
        let part = open
            .min_by(|a, b| logs[*a].total_cmp(&logs[*b]))
            .expect("there are as many places as directions");
        dealt[part].push(i);
        logs[part] += f64::from(variance.max(1e-12)).ln();
    }
    let mut rotation: Vec<f32> =
        dealt.concat().into_iter().flat_map(|i| directions[i * d..][..d].to_vec()).collect();
    let scale = unit(sample);
    let given = scaled(sample, d, scale);
    let mut codebooks: Option<product::Codebooks> = None;
    for _ in 0..ROUNDS {
        let turn = Transform { mean: None, matrix: Some(rotation.clone().into()), from: d, to: d };
        let turned = turn.apply(crew, sample)?;
        let learned = match codebooks.take() {
            None => product::Codebooks::learn(crew, &turned, d, parts, bits, 4, seed)?,
            Some(before) => before.refine(crew, &turned, 1)?,
        };
        let told = learned.decode_all(crew, &turned)?;
        let told = scaled(&told, d, scale);
        // The rotation that takes rows nearest to what their codes tell (orthogonal Procrustes).
        let svd = decomposed((told.transpose() * &given).svd())?;
        rotation = row_major(&(svd.U() * svd.V().transpose()));
        codebooks = Some(learned);
    }
    Ok(rotation)
}
