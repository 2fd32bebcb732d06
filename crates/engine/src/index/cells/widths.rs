//! How many cells a search visits under a filter to find as much as without one.
//!
//! Of rows that a filter allows, the nearest lie farther from the query, in more cells; and a search that missed some of
//! them is less often noticed: see `reach`. Both differ from one collection to the next. So searches of the index's own rows
//! are gone through, with what is known of each of their neighbours: in which of its nearest cells it lies.

use crate::index::build::crew::Crew;
use crate::index::progress::BuildError;
use crate::index::reach::{Answers, HITS, more_cells, place};
use crate::index::structure::Index;
use crate::scan::Neighbour;

/// Cells that a search visits without a filter.
pub(crate) const VISITS: [f64; 9] = [1.0, 2.0, 4.0, 8.0, 16.0, 32.0, 64.0, 128.0, 256.0];
/// Rows among which as many are allowed as hits are asked for. Of more the neighbours that are known are too few.
pub(crate) const SEEN: [f64; 7] = [10.0, 16.0, 32.0, 64.0, 128.0, 256.0, 512.0];
/// How many visits are tried between one and its double.
const STEPS: i32 = 4;
/// The power of the depth by which more cells are needed, where nothing is known.
pub(super) const USUAL: f64 = 0.3;

/// Widths where nothing could be learned.
pub(super) fn usual() -> Vec<f32> {
    let of = |visit: f64| SEEN.map(|seen| (visit * (seen / SEEN[0]).powf(USUAL)) as f32);
    VISITS.into_iter().flat_map(of).collect()
}

impl Index {
    /// Learns the widths of searches by so many cells. `places`: for each neighbour of each row the place of its nearest cell.
    pub(super) fn learn_widths(
        &self,
        crew: &Crew<'_>,
        n_cells: usize,
        answers: &Answers,
        places: &[Vec<u32>],
    ) -> Result<Vec<f32>, BuildError> {
        let mut tried: Vec<usize> = (0..)
            .map(|step| 2f64.powf(f64::from(step) / f64::from(STEPS)).round() as usize)
            .take_while(|visit| *visit < n_cells)
            .chain([n_cells])
            .collect();
        tried.dedup();
        crew.progress.begin("learning widths of searches", answers.len());
        let sums = crew.pieces(answers.len(), 16, |piece| {
            let mut sums = vec![0u32; SEEN.len() * tried.len()];
            for (answer, places) in answers[piece.clone()].iter().zip(&places[piece]) {
                for (seen, sums) in SEEN.into_iter().zip(sums.chunks_mut(tried.len())) {
                    let of = |visit: &usize| self.found(n_cells, answer, places, seen, *visit);
                    tried.iter().zip(sums).for_each(|(visit, sum)| *sum += of(visit) as u32);
                }
            }
            sums
        })?;
        let of_all: Vec<u32> =
            (0..SEEN.len() * tried.len()).map(|at| sums.iter().map(|some| some[at]).sum()).collect();
        let found = |seen: usize, at: usize| of_all[seen * tried.len() + at];
        let mut widths = usual();
        for (visit, widths) in VISITS.into_iter().zip(widths.chunks_mut(SEEN.len())) {
            let Some(first) = tried.iter().position(|tried| *tried as f64 >= visit) else { continue };
            let wanted = found(0, first);
            for (seen, width) in widths.iter_mut().enumerate().skip(1) {
                // A search of few cells may find more than one of some more, as it is repeated more often.
                let too_few = (first..tried.len()).rfind(|at| found(seen, *at) < wanted);
                let enough = too_few.map_or(first, |at| (at + 1).min(tried.len() - 1));
                *width = tried[enough] as f32;
            }
        }
        Ok(widths)
    }

    /// How many of the ten nearest a search finds that begins with so many cells, where ten are allowed of so many rows
    /// near the query. It is repeated as searches are.
    fn found(
        &self,
        n_cells: usize,
        (query, nearest): &(Vec<f32>, Vec<Neighbour>),
        places: &[u32],
        seen: f64,
        visit: usize,
    ) -> usize {
        let share = HITS as f64 / seen;
        let allowed = || {
            let at = |nth: usize| (nth as f64 / share).ceil() as usize - 1;
            (1..).map(at).take_while(|at| *at < places.len())
        };
        let hits = |visit: usize| {
            let mut hits: Vec<Neighbour> = allowed()
                .filter(|at| places[*at] as usize <= visit)
                .map(|at| nearest[at])
                .take(HITS)
                .collect();
            // What lies deeper is farther than all of them.
            hits.resize(HITS, Neighbour { row: u32::MAX, rank: f32::INFINITY });
            hits
        };
        let mut found = hits(visit);
        for &(than, times) in self.tries() {
            if !self.is_far(than, &found, query, share) {
                break;
            }
            found = hits(more_cells(visit, times).min(n_cells));
        }
        let last = allowed().nth(HITS - 1).map_or(f32::NEG_INFINITY, |at| nearest[at].rank);
        found.iter().filter(|hit| hit.rank <= last).count()
    }

    /// How many cells find as many of the `k` nearest rows that a filter allows as so many cells find of the `k` nearest of
    /// all, where it allows this share of what is near.
    pub(crate) fn as_much_in(&self, visit: f64, k: usize, share: f64) -> f64 {
        visit * wider(&self.widths, visit, k, share)
    }
}

/// How many times as many cells that are.
fn wider(widths: &[f32], visit: f64, k: usize, share: f64) -> f64 {
    let (at, part) = place(&VISITS, visit);
    let [first, deepest] = [SEEN[0], SEEN[SEEN.len() - 1]];
    let usual = (k as f64).clamp(first, deepest);
    let width = |visit: usize, seen: f64| {
        let known = &widths[visit * SEEN.len()..][..SEEN.len()];
        let (at, part) = place(&SEEN, seen);
        let [less, more] = [known[at], known[at + 1]].map(f64::from);
        less.powf(1.0 - part) * more.powf(part) * (seen / deepest).max(1.0).powf(USUAL)
    };
    let times = |visit: usize| width(visit, usual / share.min(1.0)) / width(visit, usual);
    (times(at).powf(1.0 - part) * times(at + 1).powf(part)).max(1.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn searches_are_as_wide_as_was_learned_and_in_between_wherever_nothing_was() {
        let mut widths = usual();
        // 16 cells find as much as 40 where one of 1.6 rows is allowed, and 80 where it is one of 3.2.
        widths[4 * SEEN.len()..][..3].copy_from_slice(&[16.0, 40.0, 80.0]);
        let of = |visit, k, share| visit * wider(&widths, visit, k, share);
        let near = |a: f64, b: f64| assert!((a / b - 1.0).abs() < 1e-6, "{a} {b}");
        for visit in [1.0, 3.0, 16.0, 300.0] {
            near(of(visit, 10, 1.0), visit);
            near(of(visit, 1, 1.5), visit);
        }
        near(of(16.0, 10, 10.0 / 16.0), 40.0);
        near(of(16.0, 10, 10.0 / 32.0), 80.0);
        // One of five is asked for as ten of fifty are.
        near(of(16.0, 1, 0.5), of(16.0, 10, 0.5));
        // Of sixteen the wider search is known as well.
        near(of(16.0, 16, 0.5), 32.0);
        assert!((41.0..79.0).contains(&of(16.0, 10, 0.45)));
        assert!(of(23.0, 10, 0.5) / 23.0 < of(16.0, 10, 0.5) / 16.0);
        near(of(8.0, 10, 10.0 / 32.0), 8.0 * 3.2f64.powf(USUAL));
        near(of(1000.0, 10, 10.0 / 5120.0), 1000.0 * 512f64.powf(USUAL));
    }
}
