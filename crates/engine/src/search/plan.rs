//! Planning a search: what each strategy is expected to cost.

use crate::index::{Filtered, Settings};
use crate::recipe::Route;
use crate::rows::Table;
use crate::search::attached::Attached;
use crate::search::pace;
use crate::search::passed::Passed;
use crate::search::request::{Considered, Cost, CostOf, Request, Strategy};
use std::sync::Arc;

/// So few allowed rows are compared before other ways have been weighed up.
const FEW: usize = 64;

/// How many times as long a filtered search may take that looks at all allowed rows, and finds what others may pass by.
const WORTH_ALL: f64 = 1.4;

/// What a strategy is expected to take, and more if it may pass by allowed rows that are near.
fn weighed(considered: &Considered) -> f64 {
    match considered.strategy {
        Strategy::WalkAllowed | Strategy::VisitAllowed => WORTH_ALL * considered.expected_us,
        _ => considered.expected_us,
    }
}

/// The search after the filter ran.
pub(super) struct Search<'a> {
    pub(super) table: &'a Table,
    pub(super) request: Request<'a>,
    pub(super) allowed: Arc<Passed>,
}

/// What is possible, and what was found out about it.
pub(super) struct Plan<'a> {
    /// The first is taken: see [`weighed`].
    pub(super) considered: Vec<Considered>,
    /// Allowed rows that the index does not hold.
    pub(super) unindexed: Vec<u32>,
    /// A search from cell to cell that has its nearest cells.
    pub(super) filtered: Option<Filtered<'a>>,
}

fn considered(strategy: Strategy, costs: impl IntoIterator<Item = (CostOf, f64, f64)>) -> Considered {
    let costs = costs.into_iter().filter(|(_, n, _)| *n > 0.0);
    let costs: Vec<Cost> = costs.map(|(of, n, ns_each)| Cost { of, n: n.ceil() as usize, ns_each }).collect();
    let expected_us = costs.iter().map(|cost| cost.n as f64 * cost.ns_each).sum::<f64>() / 1e3;
    Considered { strategy, expected_us, costs }
}

impl<'a> Search<'a> {
    pub(super) fn vectors(&self) -> &'a crate::rows::Vectors {
        &self.table.vectors()[self.request.column].vectors
    }

    /// Whether nearly all rows of the index may answer, so that a search goes as if all did, and leaves out a few.
    pub(super) fn is_free(&self, attached: &Attached, n_in_index: usize) -> bool {
        let n_barred = attached.index.len() - attached.index.n_withheld() - n_in_index;
        self.request.filter.is_none() && n_barred <= attached.index.len() / 8
    }

    pub(super) fn consider(&'a self) -> Plan<'a> {
        let d = self.vectors().dimensions();
        let exact = if self.request.filter.is_some() { Strategy::ScanAllowed } else { Strategy::ScanAll };
        let (scan, picked) = (pace::consecutive(d), pace::picked(d));
        let (n, n_allowed) = (self.vectors().len() as f64, self.allowed.n as f64);
        let (rows, each) = if n_allowed * picked < n * scan { (n_allowed, picked) } else { (n, scan) };
        let mut all =
            vec![considered(exact, [(CostOf::Search, 1.0, pace::scan()), (CostOf::Distance, rows, each)])];
        let (mut unindexed, mut filtered) = (Vec::new(), None);
        let is_few = self.allowed.n <= FEW && self.request.only.is_none();
        if let Some((attached, settings)) = self.request.index.filter(|_| !is_few) {
            unindexed = attached.not_covered(&self.allowed.rows);
            let (more, found) = self.of_index(attached, settings, unindexed.len());
            all.extend(more);
            filtered = found;
        }
        all.sort_by(|a, b| weighed(a).total_cmp(&weighed(b)));
        Plan { considered: all, unindexed, filtered }
    }

    /// How the index may answer, where so many allowed rows are newer than it; and a search from cell to cell, if that is one
    /// of the ways.
    fn of_index(
        &'a self,
        attached: &'a Attached,
        settings: Settings,
        n_newer: usize,
    ) -> (Vec<Considered>, Option<Filtered<'a>>) {
        let (index, pace, request) = (&*attached.index, &attached.pace, &self.request);
        let n_in_index = self.allowed.n - n_newer;
        let picked = pace::picked(self.vectors().dimensions());
        let newer = (CostOf::Newer, n_newer as f64, picked);
        let fixed = |ns: f64| (CostOf::Search, 1.0, ns);
        let route = index.recipe().route;
        let mut all = Vec::with_capacity(2);
        let k = request.k;
        if self.is_free(attached, n_in_index) && route != Route::Scan {
            let strategy = Strategy::of_index(&index.recipe(), None);
            let distances = index.expected_distances(settings) as f64;
            all.push(considered(strategy, [(CostOf::Distance, distances, pace.walk()), newer]));
            return (all, None);
        }
        match route {
            Route::Scan => {
                let again = if index.recipe().rescore.is_some() { settings.rescore } else { index.spread() };
                let again = (again * k).min(n_in_index) as f64;
                let distances = index.distances_to_stored(n_in_index) as f64;
                let stored = (CostOf::Stored, distances, pace.stored_among(distances));
                let costs = [fixed(pace.overhead()), stored, (CostOf::Distance, again, picked), newer];
                all.push(considered(Strategy::ScanStored, costs));
            }
            // A path over memory at random, which no more than a few rows are worth.
            _ if index.ranks_picked() => {
                let n = n_in_index as f64;
                let stored = (CostOf::Stored, n, pace.stored_among(n));
                all.push(considered(Strategy::ScanStored, [fixed(pace.overhead()), stored, newer]));
            }
            _ => {}
        }
        // Where few rows are allowed they are compared one by one sooner than any cells are looked for.
        let cheapest = all.iter().map(|c| c.expected_us).fold(self.allowed.n as f64 * picked / 1e3, f64::min);
        let least_us = (pace.fixed() + index.least_compared(k, settings) * pace.compared()) / 1e3;
        let is_worth = request.only.is_some() || cheapest > least_us;
        if n_in_index == 0 || !is_worth {
            return (all, None);
        }
        let nodes = attached.nodes(&self.allowed.rows);
        let Some(search) = index.filtered(request.query, k, settings, (nodes, n_in_index)) else {
            return (all, None);
        };
        if let Route::Graph { .. } = route
            && let Some(wide) = search.walks_with(settings)
        {
            let distances = index.expected_distances(wide) as f64;
            let looked = fixed(search.took.as_secs_f64() * 1e9);
            all.push(considered(
                Strategy::WalkAllowed,
                [looked, (CostOf::Distance, distances, pace.walk()), newer],
            ));
        }
        let ahead = search.ahead();
        let costs = [
            fixed(pace.fixed()),
            (CostOf::Checked, ahead.blocks, pace.checked()),
            (CostOf::Compared, ahead.compared, pace.compared()),
            (CostOf::Picked, ahead.rows, pace.row()),
            (CostOf::Stored, ahead.candidates as f64, pace.stored()),
            newer,
        ];
        all.push(considered(Strategy::VisitAllowed, costs));
        (all, Some(search))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_scan_of_all_that_is_allowed_is_taken_before_what_may_pass_by_some_of_it() {
        let of = |strategy, us: f64| considered(strategy, [(CostOf::Search, 1.0, 1e3 * us)]);
        for (scan_us, may_pass_by, is_scanned) in [
            (139.0, Strategy::VisitAllowed, true),
            (139.0, Strategy::WalkAllowed, true),
            (141.0, Strategy::WalkAllowed, false),
            // Without a filter that would be every search of few rows.
            (101.0, Strategy::Walk, false),
        ] {
            let (scan, other) = (of(Strategy::ScanStored, scan_us), of(may_pass_by, 100.0));
            assert_eq!(weighed(&scan) < weighed(&other), is_scanned, "{scan_us} {may_pass_by:?}");
        }
    }
}
