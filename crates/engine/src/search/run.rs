//! Running a search: the filter, the plan, candidates, and rows that the index does not know.

use crate::index::{Limit, Settings, Work};
use crate::recipe::Store;
use crate::rows::Table;
use crate::scan::{self, Allowed, Nearest, Neighbour};
use crate::search::attached::{Attached, NO_ROW};
use crate::search::pace;
use crate::search::passed::{Passed, passed};
use crate::search::plan::{Plan, Search};
use crate::search::request::{Answer, Request, SearchPlan, Strategy};
use std::sync::Arc;
use std::time::Instant;

pub fn run(table: &Table, mut request: Request<'_>) -> Answer {
    let start = Instant::now();
    // An index that speaks of other rows would answer with other records' distances.
    request.index = request.index.filter(|(attached, _)| attached.fits(table));
    let (mut allowed, filter_ran) = passed(table, Some(request.column), request.filter);
    let filter_ran = filter_ran && request.filter.is_some();
    let is_in = |row: &u32| allowed.rows.contains(*row as usize);
    if request.excluded.iter().any(is_in) {
        let mut rows = allowed.rows.clone();
        request.excluded.iter().filter(|row| is_in(row)).for_each(|row| rows.set(*row as usize, false));
        let n = rows.count_ones(..);
        allowed = Arc::new(Passed { rows, n });
    }
    let n_allowed = allowed.n;
    let n_rows =
        if request.filter.is_some() { passed(table, Some(request.column), None).0.n } else { n_allowed };
    let search = Search { table, request, allowed };
    let filter_us = start.elapsed().as_secs_f64() * 1e6;

    let start = Instant::now();
    let plan = search.consider();
    let first = request.only.and_then(|only| plan.considered.iter().find(|c| c.strategy == only));
    let strategy = first.or(plan.considered.first()).map_or(Strategy::ScanAllowed, |c| c.strategy);
    let plan_us = start.elapsed().as_secs_f64() * 1e6;

    let start = Instant::now();
    let scanned = matches!(strategy, Strategy::ScanAll | Strategy::ScanAllowed);
    let unindexed = if scanned { 0 } else { plan.unindexed.len() };
    let considered = plan.considered.clone();
    let widened = search.widened(strategy, &plan);
    // What looks for the nearest cells is a part of the search that goes there.
    let of_plan =
        plan.filtered.as_ref().filter(|_| matches!(strategy, Strategy::VisitAllowed | Strategy::WalkAllowed));
    let of_plan_us = of_plan.map_or(0.0, |search| search.took.as_secs_f64() * 1e6);
    let (nearest, work) = search.take(strategy, plan);
    let search_us = start.elapsed().as_secs_f64() * 1e6 + of_plan_us;
    let plan_us = plan_us - of_plan_us;
    let plan = SearchPlan { strategy, rows: n_rows, allowed: n_allowed, unindexed, widened, considered };
    let cut = request.until.is_over();
    Answer { nearest, plan, work, filter_ran, filter_us, plan_us, search_us, cut }
}

impl<'a> Search<'a> {
    /// The exact answer.
    fn scan(&self) -> (Vec<Neighbour>, usize) {
        let (vectors, request) = (self.vectors(), &self.request);
        let metric = self.table.vectors()[request.column].metric;
        let d = vectors.dimensions();
        let start = Instant::now();
        if self.allowed.n as f64 * pace::picked(d) < vectors.len() as f64 * pace::consecutive(d) {
            // The clock is asked now and then.
            let rows = self.allowed.rows.ones().enumerate();
            let rows = rows.take_while(|(i, _)| !(i.is_multiple_of(256) && request.until.is_over()));
            let rows = rows.map(|(_, r)| r as u32);
            let found = scan::scan_rows(vectors, metric, request.query, request.k, rows);
            pace::saw_picked(d, found.1, start.elapsed());
            return found;
        }
        let mut n = 0;
        let blocks = vectors.blocks().take_while(|_| !request.until.is_over());
        let blocks = blocks.inspect(|(_, values)| n += values.len() / d.max(1));
        let found = scan::scan(blocks, metric, request.query, request.k, (&self.allowed.rows).into());
        pace::saw_consecutive(d, n, start.elapsed());
        (found, n)
    }

    /// The settings of a search that looks at more than it was asked to.
    fn widened(&self, strategy: Strategy, plan: &Plan<'a>) -> Option<Settings> {
        let (settings, search) = (self.request.index?.1, plan.filtered.as_ref()?);
        let wide = match strategy {
            Strategy::WalkAllowed => search.walks_with(settings)?,
            Strategy::VisitAllowed => search.visits_with(settings)?,
            _ => return None,
        };
        (wide != settings).then_some(wide)
    }

    fn take(&'a self, strategy: Strategy, plan: Plan<'a>) -> (Vec<Neighbour>, Work) {
        let request = &self.request;
        let Some((attached, settings)) =
            request.index.filter(|_| !matches!(strategy, Strategy::ScanAll | Strategy::ScanAllowed))
        else {
            let (nearest, distances) = self.scan();
            return (nearest, Work { distances, ..Work::default() });
        };
        let (index, pace) = (&*attached.index, &attached.pace);
        let (query, k, until) = (request.query, request.k, request.until);
        let n_in_index = self.allowed.n - plan.unindexed.len();
        let start = Instant::now();
        let (found, work) = match strategy {
            Strategy::Walk | Strategy::Visit => {
                // A few nodes that may not answer, such as the query's own or dead ones, are best found and left out.
                let n_barred = index.len() - index.n_withheld() - n_in_index;
                let spare = n_barred.min(8 + k / 4);
                let limit = Limit { until };
                let (mut found, mut work) = index.search(query, k + spare, settings, Allowed::All, limit);
                pace.saw_walk(work, start.elapsed());
                let may = |row: u32| row != NO_ROW && self.allowed.rows.contains(row as usize);
                found.retain(|n| may(attached.node_row[n.row as usize]));
                found.truncate(k);
                // Many nodes of those that are left out may lie together.
                if found.len() < k.min(n_in_index) && n_barred > spare && !until.is_over() {
                    let nodes = attached.nodes(&self.allowed.rows);
                    let (again, more) = index.search_only(query, k, settings, (nodes, n_in_index), until);
                    (found, work) = (again, work.with(more));
                }
                (found, work)
            }
            Strategy::WalkAllowed => {
                let search = plan.filtered.expect("it was considered");
                let wide = search.walks_with(settings).unwrap_or(settings);
                let nodes = attached.nodes(&self.allowed.rows);
                let (found, work) = index.search_again(
                    query,
                    k,
                    wide,
                    (Allowed::Only(nodes), search.share()),
                    Limit { until },
                );
                pace.saw_walk(work, start.elapsed());
                // What lies near was not as the nearest cells told.
                if found.len() < k.min(n_in_index) && !until.is_over() {
                    let (found, more, _) = search.run(until);
                    (found, work.with(more))
                } else {
                    (found, work)
                }
            }
            Strategy::VisitAllowed => {
                let search = plan.filtered.expect("it was considered");
                let before = search.took;
                let (found, work, looked) = search.run(until);
                pace.saw_filtered(looked, before + start.elapsed());
                (found, work)
            }
            _ => {
                let nodes = attached.nodes(&self.allowed.rows);
                let is_all = n_in_index + index.n_withheld() == index.len();
                let allowed = if is_all { Allowed::All } else { Allowed::Only(nodes) };
                let (found, work) = match index.ranks_picked() {
                    true => {
                        index.rank_picked(query, k, settings, &nodes.slots(index.len(), n_in_index, |_| true))
                    }
                    false => index.scan_stored(query, k, settings, allowed, until),
                };
                let n = if index.ranks_picked() { n_in_index } else { index.distances_to_stored(n_in_index) };
                pace.saw_stored(n, start.elapsed());
                (found, work)
            }
        };
        self.finish(attached, found, &plan.unindexed, work)
    }

    /// From nodes to rows, with the ranks of the vectors themselves, together with newer rows.
    fn finish(
        &self,
        attached: &Attached,
        found: Vec<Neighbour>,
        unindexed: &[u32],
        mut work: Work,
    ) -> (Vec<Neighbour>, Work) {
        let (vectors, request) = (self.vectors(), &self.request);
        let metric = self.table.vectors()[request.column].metric;
        let mut nearest = Nearest::new(request.k);
        // Codes blur ranks; what is shown, and merged with newer rows, are those of the vectors themselves.
        let recipe = attached.index.recipe();
        let blurred = recipe.store != Store::F32 || !recipe.prepare.is_empty();
        let found = found.into_iter().map(|n| (attached.node_row[n.row as usize], n.rank));
        if blurred {
            let rows: Vec<u32> = found.map(|(row, _)| row).collect();
            work.distances += rows.len();
            let (ranked, _) = scan::scan_rows(vectors, metric, request.query, request.k, rows.into_iter());
            ranked.into_iter().for_each(|n| nearest.offer(n.row, n.rank));
        } else {
            found.for_each(|(row, rank)| nearest.offer(row, rank));
        }
        let rows = unindexed.iter().copied();
        let (newer, distances) = scan::scan_rows(vectors, metric, request.query, request.k, rows);
        newer.into_iter().for_each(|n| nearest.offer(n.row, n.rank));
        work.distances += distances;
        (nearest.into_sorted(), work)
    }
}
