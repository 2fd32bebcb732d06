//! Statistics of a list of measured queries: the distributions that a mean would hide.

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

/// What one setting of an index gave on a list of queries.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Summary {
    pub recall_mean: f64,
    pub recall_p5: f64,
    pub recall_min: f64,
    pub recall_ties_mean: f64,
    pub p50_us: f64,
    pub p95_us: f64,
    pub p99_us: f64,
    pub distances_per_query: f64,
    /// How many queries had each recall: `k + 1` counts, from 0 found to all `k`.
    pub histogram: Vec<usize>,
}

/// One measured query.
pub struct Sample {
    pub recall: f64,
    pub recall_ties: f64,
    pub elapsed_us: f64,
    pub distances: usize,
}

pub fn summarise(samples: &[Sample], k: usize) -> Summary {
    let of = |f: &dyn Fn(&Sample) -> f64| samples.iter().map(f).collect::<Vec<f64>>();
    let recalls = of(&|s| s.recall);
    let times = of(&|s| s.elapsed_us);
    let mut histogram = vec![0; k + 1];
    for r in &recalls {
        histogram[((r * k as f64).round() as usize).min(k)] += 1;
    }
    Summary {
        recall_mean: mean(&recalls),
        recall_p5: percentile(&recalls, 0.05).unwrap_or(1.0),
        recall_min: percentile(&recalls, 0.0).unwrap_or(1.0),
        recall_ties_mean: mean(&of(&|s| s.recall_ties)),
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
        let sample = |recall| Sample { recall, recall_ties: recall, elapsed_us: 1.0, distances: 2 };
        let samples: Vec<_> = (0..19).map(|_| sample(1.0)).chain([sample(0.0)]).collect();
        let s = summarise(&samples, 10);
        assert_eq!((s.recall_mean, s.recall_p5, s.recall_min), (0.95, 0.0, 0.0));
        assert_eq!((s.histogram[0], s.histogram[10]), (1, 19));
    }
}
