//! Recall: the share of the true nearest neighbours that a search found.

use crate::scan::Neighbour;

/// The share of the true `k` nearest that were found, by row.
pub fn recall(found: &[Neighbour], truth: &[Neighbour]) -> f64 {
    if truth.is_empty() {
        return 1.0;
    }
    let hit = truth.iter().filter(|t| found.iter().any(|f| f.row == t.row)).count();
    hit as f64 / truth.len() as f64
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
}
