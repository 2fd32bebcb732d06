//! k-means for cells and for codebooks.
//!
//! The start is k-means++ (Arthur and Vassilvitskii, 2007) on part of the sample; large samples are first gone
//! through in mini-batches (Sculley, 2010); centres that attract next to nothing move into the largest cluster, so
//! that none stays empty and sizes stay within reason.

use crate::index::build::crew::Crew;
use crate::index::progress::BuildError;
use rand::seq::SliceRandom;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::ops::Range;

/// Above so many rows a sample is gone through in batches before it is used whole.
const BATCH: usize = 131_072;

/// Rounds that centres settle in.
pub(crate) const ROUNDS: usize = 12;

/// Some of the dimensions of each row.
pub(crate) fn part(rows: &[f32], dimensions: usize, of: Range<usize>) -> Vec<f32> {
    rows.chunks(dimensions).flat_map(|row| &row[of.clone()]).copied().collect()
}

/// Row-major centres, at most `k`: as many as there are rows if those are fewer.
pub(crate) fn centers(
    crew: &Crew<'_>,
    sample: &[f32],
    dimensions: usize,
    k: usize,
    rounds: usize,
    seed: u64,
) -> Result<Vec<f32>, BuildError> {
    let n = sample.len() / dimensions;
    let k = k.min(n);
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let mut centers = start(crew, sample, dimensions, k, &mut rng)?;
    if n > BATCH {
        let mut seen = vec![0.0f64; k];
        for _ in 0..rounds {
            let rows: Vec<usize> = (0..BATCH / 2).map(|_| rng.random_range(0..n)).collect();
            let batch: Vec<f32> =
                rows.iter().flat_map(|r| &sample[r * dimensions..][..dimensions]).copied().collect();
            let near = nearest(crew, &batch, dimensions, &centers)?;
            for (row, &(center, _)) in batch.chunks(dimensions).zip(&near) {
                let center = center as usize;
                seen[center] += 1.0;
                let rate = (1.0 / seen[center]) as f32;
                let to = &mut centers[center * dimensions..][..dimensions];
                to.iter_mut().zip(row).for_each(|(c, x)| *c += rate * (x - *c));
            }
        }
    }
    let whole = if n > BATCH { 2 } else { rounds };
    for round in 0..whole {
        let near = nearest(crew, sample, dimensions, &centers)?;
        let mut sums = vec![0.0f64; k * dimensions];
        let mut counts = vec![0usize; k];
        for (row, &(center, _)) in sample.chunks(dimensions).zip(&near) {
            let center = center as usize;
            counts[center] += 1;
            let sum = &mut sums[center * dimensions..][..dimensions];
            sum.iter_mut().zip(row).for_each(|(s, x)| *s += f64::from(*x));
        }
        for (c, &count) in counts.iter().enumerate() {
            if count > 0 {
                let sum = &sums[c * dimensions..][..dimensions];
                let to = &mut centers[c * dimensions..][..dimensions];
                to.iter_mut().zip(sum).for_each(|(c, s)| *c = (s / count as f64) as f32);
            }
        }
        // The last rounds only settle what is there.
        if round + 3 <= whole {
            spread(sample, dimensions, &near, &mut counts, &mut centers, &mut rng);
        }
    }
    Ok(centers)
}

/// Moves centres of next to nothing onto rows of the largest clusters.
fn spread(
    sample: &[f32],
    dimensions: usize,
    near: &[(u32, f32)],
    counts: &mut [usize],
    centers: &mut [f32],
    rng: &mut ChaCha8Rng,
) {
    let few = near.len() / counts.len() / 8;
    let mut order: Vec<usize> = (0..counts.len()).collect();
    order.sort_by_key(|c| counts[*c]);
    let poor: Vec<usize> = order.iter().copied().take_while(|c| counts[*c] <= few).collect();
    let mut members: Vec<Vec<u32>> = vec![Vec::new(); counts.len()];
    let rich: Vec<usize> = order.iter().rev().copied().take(poor.len()).collect();
    for (row, (center, _)) in near.iter().enumerate() {
        if rich.contains(&(*center as usize)) {
            members[*center as usize].push(row as u32);
        }
    }
    for (poor, rich) in poor.into_iter().zip(rich) {
        if counts[rich] < 4 * few.max(1) {
            break;
        }
        let row = members[rich][rng.random_range(0..members[rich].len())] as usize;
        centers[poor * dimensions..][..dimensions].copy_from_slice(&sample[row * dimensions..][..dimensions]);
    }
}

fn start(
    crew: &Crew<'_>,
    sample: &[f32],
    dimensions: usize,
    k: usize,
    rng: &mut ChaCha8Rng,
) -> Result<Vec<f32>, BuildError> {
    let n = sample.len() / dimensions;
    let row = |r: u32| &sample[r as usize * dimensions..][..dimensions];
    let mut some: Vec<u32> = (0..n as u32).collect();
    some.shuffle(rng);
    // Each new centre is compared with every row: for very many centres chance is good enough.
    if k > 2048 {
        return Ok(some[..k].iter().flat_map(|r| row(*r)).copied().collect());
    }
    some.truncate((8 * k).max(1024).min(n));
    let mut chosen = vec![some[0]];
    let mut gap = vec![f32::INFINITY; some.len()];
    let mut ranks = vec![0.0; some.len()];
    while chosen.len() < k {
        crew.check()?;
        let last = row(*chosen.last().expect("one was chosen"));
        crew.kernels.rank_picked(true, last, sample, &some, &mut ranks);
        gap.iter_mut().zip(&ranks).for_each(|(g, r)| *g = g.min(*r));
        let total: f64 = gap.iter().map(|g| f64::from(*g)).sum();
        let mut left = rng.random::<f64>() * total;
        let picked = gap.iter().position(|g| {
            left -= f64::from(*g);
            left < 0.0
        });
        // Only copies are left when all gaps are zero.
        chosen.push(some[picked.unwrap_or_else(|| rng.random_range(0..some.len()))]);
    }
    Ok(chosen.iter().flat_map(|r| row(*r)).copied().collect())
}

/// For each row its nearest centre, and half the squared distance to it less half its own squared length.
pub(crate) fn nearest(
    crew: &Crew<'_>,
    rows: &[f32],
    dimensions: usize,
    centers: &[f32],
) -> Result<Vec<(u32, f32)>, BuildError> {
    let k = centers.len() / dimensions;
    let half: Vec<f32> = centers.chunks(dimensions).map(|c| crew.kernels.dot(c, c) / 2.0).collect();
    // Few enough centres at a time that they stay in the second-level cache.
    let strip = (131_072 / dimensions).clamp(4, 1024) / 4 * 4;
    let n = rows.len() / dimensions;
    let found = crew.pieces(n, 240, |piece| {
        let rows = &rows[piece.start * dimensions..piece.end * dimensions];
        let mut best = vec![(0u32, f32::INFINITY); piece.len()];
        let mut ranks = vec![0.0; 24 * strip.min(k)];
        for (s, some) in centers.chunks(strip * dimensions).enumerate() {
            let first = s * strip;
            let half = &half[first..][..some.len() / dimensions];
            for (rows, best) in rows.chunks(24 * dimensions).zip(best.chunks_mut(24)) {
                let ranks = &mut ranks[..best.len() * half.len()];
                crew.kernels.rank_block(false, rows, some, dimensions, ranks);
                for (line, best) in ranks.chunks_mut(half.len()).zip(best) {
                    line.iter_mut().zip(half).for_each(|(r, h)| *r += h);
                    let (at, least) = least(line);
                    if least < best.1 {
                        *best = ((first + at) as u32, least);
                    }
                }
            }
        }
        best
    })?;
    Ok(found.concat())
}

/// The first of the smallest values, in two passes that the compiler can do in registers.
#[inline]
pub(crate) fn least(values: &[f32]) -> (usize, f32) {
    let mut lanes = [f32::INFINITY; 16];
    let (whole, rest) = values.as_chunks::<16>();
    for chunk in whole {
        for (lane, value) in lanes.iter_mut().zip(chunk) {
            *lane = if *value < *lane { *value } else { *lane };
        }
    }
    let least = lanes.iter().chain(rest).fold(f32::INFINITY, |least, v| if *v < least { *v } else { least });
    (values.iter().position(|v| *v == least).unwrap_or(0), least)
}
