//! What a search asks ([`Request`]), what was decided ([`SearchPlan`]), and what it found ([`Answer`]).

use crate::filter::Test;
use crate::index::{Settings, Work};
use crate::recipe::{Recipe, Route};
use crate::scan::Neighbour;
use crate::search::attached::Attached;
use serde::{Deserialize, Serialize};
use std::time::Instant;

#[derive(Clone, Copy)]
pub struct Request<'a> {
    /// Which vector column of the table.
    pub column: usize,
    /// Prepared: see [`crate::Metric::prepare`].
    pub query: &'a [f32],
    pub k: usize,
    pub filter: Option<&'a Test>,
    /// Rows that never count, such as the record that the query came from.
    pub excluded: &'a [u32],
    /// `None` asks for the exact answer.
    pub index: Option<(&'a Attached, Settings)>,
    /// Takes this strategy whatever it costs, where it is possible at all: for measuring.
    pub only: Option<Strategy>,
    /// When to stop searching and answer with what was found.
    pub until: Option<Instant>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Strategy {
    /// Scans every row that has a vector.
    ScanAll,
    /// Scans the rows that the filter allows.
    ScanAllowed,
    /// Scans the index's codes of the allowed rows and re-ranks the nearest.
    ScanStored,
    /// Scans short codes of the allowed rows and re-ranks the nearest.
    ScanSketches,
    /// The graph is walked.
    Walk,
    /// The graph is walked from allowed node to allowed node.
    WalkAllowed,
    /// Visits the nearest cells.
    Visit,
    /// Visits the nearest cells that hold allowed rows.
    VisitAllowed,
    /// The index ran dry, or would have taken more than a scan; the allowed rows were scanned.
    ThenScan,
    /// As [`Strategy::ThenScan`], of what the index stores.
    ThenScanStored,
    /// As [`Strategy::ThenScan`], of sketches.
    ThenScanSketches,
}

impl Strategy {
    /// How an index of this recipe answers by its own structure.
    pub fn of_index(recipe: &Recipe, filter: Option<&Test>) -> Strategy {
        match (recipe.route, filter) {
            (Route::Scan, _) => Strategy::ScanStored,
            (Route::Graph { .. }, None) => Strategy::Walk,
            (Route::Graph { .. }, Some(_)) => Strategy::WalkAllowed,
            (_, None) => Strategy::Visit,
            (_, Some(_)) => Strategy::VisitAllowed,
        }
    }
}

/// A strategy that was possible and what it was expected to take.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Considered {
    pub strategy: Strategy,
    pub expected_us: f64,
    /// Distances it was expected to take.
    pub distances: usize,
    /// What one of them takes on this machine, as measured.
    pub ns_each: f64,
}

/// What was decided, and the numbers behind it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SearchPlan {
    pub strategy: Strategy,
    /// Rows that could be an answer before the filter.
    pub rows: usize,
    /// Rows that the filter allows; all of them when there is none.
    pub allowed: usize,
    /// Allowed rows that are newer than the index; they were scanned.
    pub unindexed: usize,
    /// The cheapest first.
    pub considered: Vec<Considered>,
}

#[derive(Clone, Debug)]
pub struct Answer {
    /// Nearest first; `row` is a row of the table.
    pub nearest: Vec<Neighbour>,
    pub plan: SearchPlan,
    pub work: Work,
    pub filter_us: f64,
    pub plan_us: f64,
    pub search_us: f64,
    /// Whether the time was up, so that rows may be missing that were not compared.
    pub cut: bool,
}
