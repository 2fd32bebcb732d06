//! One search as it is measured.

use crate::rows::Table;
use crate::search::{Answer, Request, Strategy, run};
use std::time::Instant;

/// A search and its microseconds. It is the index that is measured, not what a plan would put in its place; with a filter
/// the plan is part of it.
pub(super) fn timed(table: &Table, request: Request<'_>) -> (Answer, f64) {
    let index = request.index.filter(|_| request.filter.is_none());
    let only = index.map(|(attached, _)| Strategy::of_index(&attached.index.recipe(), None));
    let start = Instant::now();
    let answer = run(table, Request { only, ..request });
    (answer, start.elapsed().as_secs_f64() * 1e6)
}
