//! What this machine can do: the bounds that searches are measured against.

use crate::kernels::Kernels;
use rand::{Rng, SeedableRng};
use std::hint::black_box;
use std::time::Instant;

#[derive(Clone, Copy, Debug, serde::Serialize)]
pub struct Limit {
    /// Bytes one thread reads per second from consecutive memory, in units of 10^9.
    pub stream_gb_per_s: f64,
    /// Nanoseconds for one distance to a row chosen at random.
    pub random_distance_ns: f64,
}

/// Units of 10^9 bytes that so many threads together read per second, each its own part of the rows.
pub fn stream(rows: &[f32], threads: usize) -> f64 {
    let kernels = Kernels::best();
    let repeats = (50_000_000 / rows.len().max(1)).clamp(1, 1000);
    let part = rows.len().div_ceil(threads.max(1)).max(1);
    let mut best = f64::INFINITY;
    for _ in 0..9 {
        let start = Instant::now();
        std::thread::scope(|scope| {
            for rows in rows.chunks(part) {
                scope.spawn(move || {
                    for _ in 0..repeats {
                        black_box(kernels.read(black_box(rows)));
                    }
                });
            }
        });
        best = best.min(start.elapsed().as_secs_f64() / repeats as f64);
    }
    (rows.len() * 4) as f64 / best / 1e9
}

/// Measures on the rows themselves, so that caches help here exactly as much as they help a scan.
pub fn measure(rows: &[f32], dimensions: usize) -> Limit {
    let kernels = Kernels::best();
    let n_rows = rows.len() / dimensions;
    if n_rows == 0 {
        return Limit { stream_gb_per_s: 0.0, random_distance_ns: 0.0 };
    }
    // Enough work per turn that the clock is not what is measured; the best turn is the limit.
    let repeats = (50_000_000 / rows.len().max(1)).clamp(1, 1000);
    let mut best = f64::INFINITY;
    for _ in 0..9 {
        let start = Instant::now();
        for _ in 0..repeats {
            black_box(kernels.read(black_box(rows)));
        }
        best = best.min(start.elapsed().as_secs_f64() / repeats as f64);
    }
    let stream_gb_per_s = (rows.len() * 4) as f64 / best / 1e9;

    let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(1);
    let query = &rows[..dimensions];
    let picks: Vec<u32> = (0..32_768).map(|_| rng.random_range(0..n_rows as u32)).collect();
    let mut out = [0.0; 32];
    let mut best = f64::INFINITY;
    for _ in 0..5 {
        let start = Instant::now();
        for some in picks.chunks(32) {
            kernels.rank_picked(false, query, rows, some, &mut out);
            black_box(&out);
        }
        best = best.min(start.elapsed().as_secs_f64());
    }
    Limit { stream_gb_per_s, random_distance_ns: best * 1e9 / picks.len() as f64 }
}
