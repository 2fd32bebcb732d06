//! Statistics of a list of measured queries: the distributions that a mean would hide, and how sure they are.

use rand::{Rng, SeedableRng};
use serde::{Deserialize, Serialize};

/// The value below which a share `p` (0 to 1) of the values lies, by nearest rank: always a value
/// that occurred. `None` for no values.
pub fn percentile(values: &[f64], p: f64) -> Option<f64> {
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    let at = ((p * sorted.len() as f64).ceil() as usize).clamp(1, sorted.len().max(1)) - 1;
    sorted.get(at).copied()
}

pub fn mean(values: &[f64]) -> f64 {
    values.iter().sum::<f64>() / values.len().max(1) as f64
}

/// A range that holds the true value in 19 of 20 cases.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Interval {
    pub low: f64,
    pub high: f64,
}

impl Interval {
    pub fn contains(&self, value: f64) -> bool {
        (self.low..=self.high).contains(&value)
    }
}

const RESAMPLES: usize = 1000;

/// Where the mean of all queries of this kind lies, by the bootstrap (Efron, 1979): queries are drawn again with
/// replacement, and the middle 95% of the means are told. Imaginary ones are drawn among them.
pub fn interval_of_mean(values: &[f64], imaginary: &[f64], seed: u64) -> Interval {
    let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
    let n = values.len();
    let mut draw = || match rng.random_range(0..n + imaginary.len()) {
        i if i < n => values[i],
        i => imaginary[i - n],
    };
    let mean_of_draws = |_| if n == 0 { f64::NAN } else { (0..n).map(|_| draw()).sum::<f64>() / n as f64 };
    let means: Vec<f64> = (0..RESAMPLES).map(mean_of_draws).collect();
    let at = |p| percentile(&means, p).unwrap_or(f64::NAN);
    Interval { low: at(0.025), high: at(0.975) }
}

/// As [`interval_of_mean`], of recalls. One imaginary query finds all and one finds nothing: where every query found
/// all, others may not.
pub fn recall_interval(recalls: &[f64], seed: u64) -> Interval {
    interval_of_mean(recalls, &[1.0, 0.0], seed)
}

/// Whether two lists of recalls, of the same queries in the same order, have means that differ by more than chance:
/// by two standard errors of the differences query by query.
pub fn differ(a: &[f64], b: &[f64]) -> bool {
    let differences: Vec<f64> = a.iter().zip(b).map(|(a, b)| a - b).collect();
    let mean = mean(&differences);
    let n = differences.len() as f64;
    let squares: f64 = differences.iter().map(|d| (d - mean).powi(2)).sum();
    let error = (squares / (n - 1.0).max(1.0) / n.max(1.0)).sqrt();
    mean.abs() > 1.96 * error && mean != 0.0
}

/// What one setting of an index gave on a list of queries.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Summary {
    pub recall_mean: f64,
    pub recall_interval: Interval,
    pub recall_p5: f64,
    pub recall_min: f64,
    pub recall_ties_mean: f64,
    /// Of the true neighbours that stand out, the share that was found; none where none stands out.
    pub standout_recall: Option<f64>,
    /// True neighbours that stand out, of all queries.
    pub standouts: usize,
    pub gap_mean: f64,
    pub gap_p95: f64,
    pub p50_us: f64,
    pub p95_us: f64,
    pub p99_us: f64,
    pub distances_per_query: f64,
    /// How many queries had each recall: `k + 1` counts, from 0 found to all `k`.
    pub histogram: Vec<usize>,
}

/// One measured query.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Sample {
    pub recall: f64,
    pub recall_ties: f64,
    pub gap: f64,
    /// Of the true neighbours that stand out, how many were found, and how many there are.
    pub standout: (usize, usize),
    pub elapsed_us: f64,
    pub distances: usize,
}

pub fn summarise(samples: &[Sample], k: usize, seed: u64) -> Summary {
    let of = |f: &dyn Fn(&Sample) -> f64| samples.iter().map(f).collect::<Vec<f64>>();
    let recalls = of(&|s| s.recall);
    let times = of(&|s| s.elapsed_us);
    let gaps = of(&|s| s.gap);
    let (found, standouts) = samples.iter().fold((0, 0), |n, s| (n.0 + s.standout.0, n.1 + s.standout.1));
    let mut histogram = vec![0; k + 1];
    for r in &recalls {
        histogram[((r * k as f64).round() as usize).min(k)] += 1;
    }
    Summary {
        recall_mean: mean(&recalls),
        recall_interval: recall_interval(&recalls, seed),
        recall_p5: percentile(&recalls, 0.05).unwrap_or(1.0),
        recall_min: percentile(&recalls, 0.0).unwrap_or(1.0),
        recall_ties_mean: mean(&of(&|s| s.recall_ties)),
        standout_recall: (standouts > 0).then(|| found as f64 / standouts as f64),
        standouts,
        gap_mean: mean(&gaps),
        gap_p95: percentile(&gaps, 0.95).unwrap_or(0.0),
        p50_us: percentile(&times, 0.50).unwrap_or(0.0),
        p95_us: percentile(&times, 0.95).unwrap_or(0.0),
        p99_us: percentile(&times, 0.99).unwrap_or(0.0),
        distances_per_query: mean(&of(&|s| s.distances as f64)),
        histogram,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn percentiles_are_values_that_occurred() {
        let values = [5.0, 1.0, 3.0, 2.0, 4.0];
        assert_eq!(percentile(&values, 0.0), Some(1.0));
        assert_eq!(percentile(&values, 0.2), Some(1.0));
        assert_eq!(percentile(&values, 0.5), Some(3.0));
        assert_eq!(percentile(&values, 0.99), Some(5.0));
        assert_eq!(percentile(&[], 0.5), None);
    }

    #[test]
    fn a_summary_shows_the_queries_that_fail() {
        let sample = |recall| Sample {
            recall,
            recall_ties: recall,
            gap: 0.0,
            standout: (1, 2),
            elapsed_us: 1.0,
            distances: 2,
        };
        let samples: Vec<_> = (0..19).map(|_| sample(1.0)).chain([sample(0.0)]).collect();
        let s = summarise(&samples, 10, 1);
        assert_eq!((s.recall_mean, s.recall_p5, s.recall_min), (0.95, 0.0, 0.0));
        assert_eq!((s.histogram[0], s.histogram[10]), (1, 19));
        assert_eq!((s.standout_recall, s.standouts), (Some(0.5), 40));
        assert!(s.recall_interval.contains(0.95) && s.recall_interval.low < 0.9, "{:?}", s.recall_interval);
    }

    #[test]
    fn intervals_hold_the_true_mean_about_as_often_as_they_say() {
        // Of queries that find all, nine of ten, eight of ten, or (one of fifty) nothing.
        let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(3);
        let truth = 0.7 + 0.18 * 0.9 + 0.1 * 0.8;
        let held = (0..200)
            .filter(|i| {
                let recalls: Vec<f64> = (0..300)
                    .map(|_| match rng.random_range(0..50) {
                        0..35 => 1.0,
                        35..44 => 0.9,
                        44..49 => 0.8,
                        _ => 0.0,
                    })
                    .collect();
                recall_interval(&recalls, *i).contains(truth)
            })
            .count();
        assert!((180..=200).contains(&held), "{held} of 200");
        let all = recall_interval(&[1.0; 500], 1);
        assert!(all.high == 1.0 && (0.98..0.999).contains(&all.low), "{all:?}");
        assert_eq!(recall_interval(&[0.5, 1.0], 7), recall_interval(&[0.5, 1.0], 7));
    }

    #[test]
    fn settings_that_differ_by_chance_are_not_told_apart() {
        let a: Vec<f64> = (0..100).map(|i| f64::from(i % 2)).collect();
        let mut b = a.clone();
        assert!(!differ(&a, &b));
        (b[0], b[1]) = (b[1], b[0]);
        assert!(!differ(&a, &b), "one up, one down");
        let better: Vec<f64> = a.iter().enumerate().map(|(i, r)| if i < 12 { 1.0 } else { *r }).collect();
        assert!(differ(&a, &better));
    }
}
