//! What of the truth a search found: by row, with ties, by distance, and of the neighbours that stand out.

use crate::Metric;
use crate::scan::Neighbour;

/// The share of the true `k` nearest that were found, by row.
pub fn recall(found: &[Neighbour], truth: &[Neighbour]) -> f64 {
    if truth.is_empty() {
        return 1.0;
    }
    n_found(found, truth) as f64 / truth.len() as f64
}

fn n_found(found: &[Neighbour], truth: &[Neighbour]) -> usize {
    truth.iter().filter(|t| found.iter().any(|f| f.row == t.row)).count()
}

/// As [`recall`], but a returned row that is as near as the farthest true one counts as found:
/// among equally near rows no choice is a mistake.
///
/// Ranks of equal vectors may differ by rounding, which grows with the terms of the sum and not with
/// the sum: a rank near zero may be what is left of large terms. The largest true rank represents them.
pub fn recall_ties(found: &[Neighbour], truth: &[Neighbour]) -> f64 {
    let Some(last) = truth.last() else { return 1.0 };
    let scale = truth.iter().map(|t| t.rank.abs()).fold(0.0, f32::max);
    let limit = last.rank + 2e-6 * scale;
    let hit = found.iter().take(truth.len()).filter(|f| f.rank <= limit).count();
    hit as f64 / truth.len() as f64
}

/// How much farther the returned rows are than the true ones: the sum of their distances over that of the true ones,
/// rank by rank, less one. Nothing is missed at 0; at 0.1 the answer is a tenth farther away. Ranks that returned
/// nothing are left out: recall tells of them. Under `dot` distances are negative, and the sum of their sizes divides.
pub fn score_gap(found: &[Neighbour], truth: &[Neighbour], metric: Metric) -> f64 {
    let distance = |n: &Neighbour| f64::from(metric.distance(n.rank));
    let (mut more, mut all) = (0.0, 0.0);
    for (found, truth) in found.iter().zip(truth) {
        more += distance(found) - distance(truth);
        all += distance(truth).abs();
    }
    // Where all true ones are copies of the query, a distance is measured against one.
    more.max(0.0) / if all > 1e-6 * truth.len() as f64 { all } else { 1.0 }
}

/// How far below the k-th distance a neighbour that stands out lies, as a share of the way from there to a typical row.
pub const STANDS_OUT: f32 = 0.1;

/// Of the true neighbours that stand out, how many were found, and how many there are.
///
/// A true neighbour stands out when it is nearer than the k-th by a tenth of the way from the k-th to a typical row
/// of the collection (`typical`: the median distance of rows to the query). Where distances hardly grow towards
/// rank k, none does: a row just behind the k-th is as good an answer, and a miss says little. A near group of fewer than
/// k rows stands out as a whole, and a miss among them is a loss. The measure does not change when distances are
/// scaled or shifted, so it means the same under every metric.
pub fn standout(found: &[Neighbour], truth: &[Neighbour], typical: f32, metric: Metric) -> (usize, usize) {
    let Some(last) = truth.last() else { return (0, 0) };
    let distance = |rank: f32| metric.distance(rank);
    let last = distance(last.rank);
    let limit = last - STANDS_OUT * (distance(typical) - last).max(0.0);
    let n = truth.iter().take_while(|t| distance(t.rank) <= limit && distance(t.rank) < last).count();
    (n_found(found, &truth[..n]), n)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn list(of: &[(u32, f32)]) -> Vec<Neighbour> {
        of.iter().map(|&(row, rank)| Neighbour { row, rank }).collect()
    }

    #[test]
    fn an_equally_near_row_is_a_miss_by_row_and_found_by_ties() {
        let truth = list(&[(1, 0.1), (2, 0.5)]);
        let found = list(&[(1, 0.1), (9, 0.5)]);
        assert_eq!(recall(&found, &truth), 0.5);
        assert_eq!(recall_ties(&found, &truth), 1.0);
        assert_eq!(recall_ties(&list(&[(1, 0.1), (9, 0.6)]), &truth), 0.5);
        assert_eq!(recall(&[], &[]), 1.0);
        // Rounding of a rank near zero is that of the larger ones around it.
        let truth = list(&[(1, -0.9), (2, -1e-7)]);
        assert_eq!(recall_ties(&list(&[(1, -0.9), (3, 0.0)]), &truth), 1.0);
        assert_eq!(recall_ties(&list(&[(1, -0.9), (3, 1e-5)]), &truth), 0.5);
    }

    #[test]
    fn a_miss_in_a_flat_tail_and_a_miss_in_a_near_group_are_told_apart() {
        // Cosine ranks are minus the cosine. A group of three, then a tail at 0.30, in a collection around 0.95.
        let (typical, metric) = (-0.05, Metric::Cosine);
        let truth = list(&[(1, -0.95), (2, -0.94), (3, -0.93), (4, -0.701), (5, -0.700)]);
        let tail = list(&[(1, -0.95), (2, -0.94), (3, -0.93), (4, -0.701), (9, -0.699)]);
        let group = list(&[(1, -0.95), (2, -0.94), (4, -0.701), (5, -0.700), (9, -0.699)]);
        // By recall they are the same.
        assert_eq!(recall(&tail, &truth), recall(&group, &truth));
        assert_eq!(standout(&tail, &truth, typical, metric), (3, 3));
        assert_eq!(standout(&group, &truth, typical, metric), (2, 3));
        let (of_tail, of_group) = (score_gap(&tail, &truth, metric), score_gap(&group, &truth, metric));
        assert!(of_tail < 0.01 && of_group > 0.2, "{of_tail} {of_group}");
        // Where all is flat, or all the same, nothing stands out.
        assert_eq!(standout(&[], &list(&[(1, -0.71), (2, -0.70)]), typical, metric), (0, 0));
        assert_eq!(standout(&[], &list(&[(1, -0.7), (2, -0.7)]), -0.7, metric), (0, 0));
    }

    #[test]
    fn the_gap_is_relative_and_never_below_zero() {
        let truth = list(&[(1, 1.0), (2, 4.0)]);
        // Euclidean ranks are squares: 1 + 3 over 1 + 2, less one.
        let gap = score_gap(&list(&[(1, 1.0), (3, 9.0)]), &truth, Metric::Euclidean);
        assert!((gap - 1.0 / 3.0).abs() < 1e-9, "{gap}");
        assert_eq!(score_gap(&truth, &truth, Metric::Euclidean), 0.0);
        let dot = list(&[(1, -10.0), (2, -8.0)]);
        let gap = score_gap(&list(&[(1, -10.0), (3, -6.2)]), &dot, Metric::Dot);
        assert!((gap - 0.1).abs() < 1e-6, "{gap}");
        let copies = list(&[(1, -1.0), (2, -1.0)]);
        assert!(score_gap(&list(&[(1, -1.0), (2, -0.5)]), &copies, Metric::Cosine) < 1.0);
    }
}
