//! Planning a search: what each strategy is expected to cost.

use crate::recipe::{Route, Store};
use crate::search::pace::{self};
use crate::search::request::{Considered, Request, Strategy};
use crate::table::Table;
use fixedbitset::FixedBitSet;

/// The search after the filter ran.
pub(super) struct Search<'a> {
    pub(super) table: &'a Table,
    pub(super) request: Request<'a>,
    pub(super) allowed: FixedBitSet,
    pub(super) n_allowed: usize,
}

impl Search<'_> {
    pub(super) fn vectors(&self) -> &crate::chunked::Vectors {
        &self.table.vectors()[self.request.column].vectors
    }

    /// What is possible, cheapest first; and the allowed rows that an index does not hold.
    pub(super) fn consider(&self) -> (Vec<Considered>, FixedBitSet) {
        let dimensions = self.vectors().dimensions();
        let mut all = Vec::with_capacity(4);
        let mut add = |strategy, distances: f64, ns_each: f64, overhead_us: f64| {
            all.push(Considered {
                strategy,
                expected_us: distances * ns_each / 1e3 + overhead_us,
                distances: distances as usize,
                ns_each,
            });
        };
        let exact = if self.request.filter.is_some() { Strategy::ScanAllowed } else { Strategy::ScanAll };
        let (scan, picked) = (pace::consecutive(dimensions), pace::picked(dimensions));
        let (n, n_allowed) = (self.vectors().len() as f64, self.n_allowed as f64);
        if n_allowed * picked < n * scan {
            add(exact, n_allowed, picked, 0.0);
        } else {
            add(exact, n, scan, 0.0);
        }
        let mut unindexed = FixedBitSet::new();
        if let Some((attached, settings)) = self.request.index {
            unindexed = self.allowed.clone();
            unindexed.difference_with(&attached.covered);
            let n_unindexed = unindexed.count_ones(..);
            let in_index = n_allowed - n_unindexed as f64;
            let index = &attached.index;
            let nodes = index.len().max(1) as f64;
            let share = (in_index / nodes).max(1e-9);
            let overhead = n_unindexed as f64 * picked / 1e3;
            let expected = index.expected_distances(settings) as f64;
            let pace = &attached.pace;
            let filtered = share < 1.0 && self.request.filter.is_some();
            match index.recipe().route {
                Route::Scan => {}
                Route::Graph { .. } if filtered => {
                    let (distances, over) = index.expected_of_allowed(settings, share);
                    let (distances, each) = (distances.min(in_index), pace.walk() * pace.allowed());
                    let us = over * pace.step_over() * pace.allowed() / 1e3;
                    add(Strategy::WalkAllowed, distances, each, overhead + us);
                }
                Route::Graph { .. } => add(Strategy::Walk, expected, pace.walk(), overhead),
                _ if filtered => {
                    let (distances, cells) = index.expected_of_allowed(settings, share);
                    add(Strategy::VisitAllowed, distances, pace.walk(), overhead + cells * 0.05);
                }
                _ => add(Strategy::Visit, expected, pace.walk(), overhead),
            }
            if index.recipe().store != Store::F32 || index.recipe().route == Route::Scan {
                let k = self.request.k;
                let again = if index.recipe().rescore.is_some() { settings.rescore } else { index.spread() };
                let distances = index.distances_to_stored(in_index as usize) as f64;
                let again = (again * k).min(in_index as usize) as f64 * picked / 1e3;
                add(Strategy::ScanStored, distances, pace.stored(), overhead + again + pace.overhead() / 1e3);
            }
            if index.has_sketches() && filtered {
                let candidates = index.sketched_candidates(self.request.k);
                // Blocks in which no row is allowed are passed over.
                let blocks = nodes / 32.0 * (1.0 - (1.0 - share).powi(32));
                let us = blocks * pace.block() / 1e3;
                add(Strategy::ScanSketches, candidates as f64, pace.stored(), overhead + us);
            }
        }
        all.sort_by(|a, b| a.expected_us.total_cmp(&b.expected_us));
        (all, unindexed)
    }
}
