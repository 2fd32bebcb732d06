//! What a search asks ([`Request`]), what was decided ([`SearchPlan`]), and what it found ([`Answer`]).

use crate::filter::Test;
use crate::index::{Settings, Work};
use crate::recipe::{Recipe, Route};
use crate::scan::Neighbour;
use crate::search::attached::Attached;
use crate::until::Until;
use serde::{Deserialize, Serialize};

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
    pub until: Until,
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
    /// The graph is walked.
    Walk,
    /// The graph is walked, and only some of its nodes may be hits.
    WalkAllowed,
    /// Visits the nearest cells.
    Visit,
    /// Visits the nearest cells that hold allowed rows: those of the index, or those that are kept with a graph.
    VisitAllowed,
}

impl Strategy {
    /// How an index of this recipe answers by its own structure.
    pub fn of_index(recipe: &Recipe, filter: Option<&Test>) -> Strategy {
        match (recipe.route, filter) {
            (Route::Scan, _) => Strategy::ScanStored,
            (Route::Graph { .. }, None) => Strategy::Walk,
            (_, None) => Strategy::Visit,
            (_, Some(_)) => Strategy::VisitAllowed,
        }
    }
}

/// What a search spends its time on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CostOf {
    /// What it takes whatever it looks at.
    Search,
    /// Distances.
    Distance,
    /// Rows that are compared by what the index stores of them.
    Stored,
    /// Blocks of 32 rows that are held against the filter.
    Checked,
    /// Blocks of 32 codes that are compared.
    Compared,
    /// Rows that are compared one by one.
    Picked,
    /// Rows newer than the index.
    Newer,
}

#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Cost {
    pub of: CostOf,
    /// How many were expected.
    pub n: usize,
    /// What one of them takes on this machine, as measured.
    pub ns_each: f64,
}

/// A strategy that was possible and what it was expected to take.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Considered {
    pub strategy: Strategy,
    /// The sum of its costs.
    pub expected_us: f64,
    pub costs: Vec<Cost>,
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
    /// The settings that were taken instead of those asked for, because the filter leaves less of what is near.
    pub widened: Option<Settings>,
    /// The preferred first.
    pub considered: Vec<Considered>,
}

#[derive(Clone, Debug)]
pub struct Answer {
    /// Nearest first; `row` is a row of the table.
    pub nearest: Vec<Neighbour>,
    pub plan: SearchPlan,
    pub work: Work,
    /// Whether the filter had to be run: what it allows may be known from an earlier search.
    pub filter_ran: bool,
    pub filter_us: f64,
    pub plan_us: f64,
    pub search_us: f64,
    /// Whether the time was up, so that rows may be missing that were not compared.
    pub cut: bool,
}
