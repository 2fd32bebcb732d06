//! Running a search: the filter, the plan, candidates, and rows that the index does not know.

use crate::index::{Limit, Work, late};
use crate::recipe::Store;
use crate::scan::{self, Allowed, Nearest, Neighbour};
use crate::search::attached::{Attached, NO_ROW};
use crate::search::pace::{self};
use crate::search::plan::Search;
use crate::search::request::{Answer, Considered, Request, SearchPlan, Strategy};
use crate::table::Table;
use fixedbitset::FixedBitSet;
use std::borrow::Cow;
use std::time::Instant;

pub fn run(table: &Table, mut request: Request<'_>) -> Answer {
    let start = Instant::now();
    // An index that speaks of other rows would answer with other records' distances.
    request.index = request.index.filter(|(attached, _)| attached.fits(table));
    let vectors = &table.vectors()[request.column].vectors;
    let mut allowed = match request.filter {
        Some(test) => test.run(table),
        None => table.alive().to_set(),
    };
    vectors.present().keep_in(&mut allowed);
    for &row in request.excluded {
        if (row as usize) < allowed.len() {
            allowed.set(row as usize, false);
        }
    }
    let n_allowed = allowed.count_ones(..);
    let n_rows = match request.filter {
        Some(_) => table.alive().intersection_count(vectors.present()),
        None => n_allowed,
    };
    let search = Search { table, request, allowed, n_allowed };
    let filter_us = start.elapsed().as_secs_f64() * 1e6;

    let start = Instant::now();
    let (considered, unindexed) = search.consider();
    let first = request.only.and_then(|only| considered.iter().find(|c| c.strategy == only));
    let strategy = first.or(considered.first()).map_or(Strategy::ScanAllowed, |c| c.strategy);
    let plan_us = start.elapsed().as_secs_f64() * 1e6;

    let start = Instant::now();
    let (nearest, strategy, work) = search.take(strategy, &considered, &unindexed);
    let search_us = start.elapsed().as_secs_f64() * 1e6;
    let scanned = matches!(strategy, Strategy::ScanAll | Strategy::ScanAllowed | Strategy::ThenScan);
    let n_unindexed = if scanned { 0 } else { unindexed.count_ones(..) };
    let plan = SearchPlan { strategy, rows: n_rows, allowed: n_allowed, unindexed: n_unindexed, considered };
    let cut = late(request.until);
    Answer { nearest, plan, work, filter_us, plan_us, search_us, cut }
}

impl Search<'_> {
    /// The exact answer.
    fn scan(&self) -> (Vec<Neighbour>, usize) {
        let (vectors, request) = (self.vectors(), &self.request);
        let metric = self.table.vectors()[request.column].metric;
        let d = vectors.dimensions();
        let start = Instant::now();
        if self.n_allowed as f64 * pace::picked(d) < vectors.len() as f64 * pace::consecutive(d) {
            // The clock is asked now and then.
            let rows = self.allowed.ones().enumerate();
            let rows = rows.take_while(|(i, _)| !(i.is_multiple_of(256) && late(request.until)));
            let rows = rows.map(|(_, r)| r as u32);
            let found = scan::scan_rows(vectors, metric, request.query, request.k, rows);
            pace::saw_picked(d, found.1, start.elapsed());
            return found;
        }
        let only = Allowed::Only(&self.allowed);
        let mut n = 0;
        let blocks = vectors.blocks().take_while(|_| !late(request.until));
        let blocks = blocks.inspect(|(_, values)| n += values.len() / d.max(1));
        let found = scan::scan(blocks, metric, request.query, request.k, only);
        pace::saw_consecutive(d, n, start.elapsed());
        (found, n)
    }

    /// The allowed rows as nodes of the index.
    fn nodes<'s>(&'s self, attached: &Attached) -> Cow<'s, FixedBitSet> {
        let n = attached.index.len();
        if attached.identical && n == self.allowed.len() {
            return Cow::Borrowed(&self.allowed);
        }
        if attached.identical {
            // Rows that came since have no node.
            let mut nodes = FixedBitSet::with_capacity(n);
            let words = nodes.as_mut_slice();
            words.copy_from_slice(&self.allowed.as_slice()[..words.len()]);
            if let (Some(last), rest @ 1..) = (words.last_mut(), n % usize::BITS as usize) {
                *last &= (1 << rest) - 1;
            }
            return Cow::Owned(nodes);
        }
        let mut nodes = FixedBitSet::with_capacity(n);
        for row in self.allowed.ones() {
            if let Some(&node) = attached.row_node.get(row).filter(|node| **node != NO_ROW) {
                nodes.insert(node as usize);
            }
        }
        Cow::Owned(nodes)
    }

    // Long because: one arm a strategy; each falls through to the next best.
    fn take(
        &self,
        strategy: Strategy,
        considered: &[Considered],
        unindexed: &FixedBitSet,
    ) -> (Vec<Neighbour>, Strategy, Work) {
        let request = &self.request;
        let Some((attached, settings)) =
            request.index.filter(|_| !matches!(strategy, Strategy::ScanAll | Strategy::ScanAllowed))
        else {
            let (nearest, distances) = self.scan();
            return (nearest, strategy, Work { distances, ..Work::default() });
        };
        let (index, pace) = (&attached.index, &attached.pace);
        let n_in_index = self.n_allowed - unindexed.count_ones(..);
        let start = Instant::now();
        let scan_stored = || {
            let start = Instant::now();
            let nodes = self.nodes(attached);
            let allowed = if n_in_index + index.n_withheld() == index.len() {
                Allowed::All
            } else {
                Allowed::Only(nodes.as_ref())
            };
            let (found, work) = index.scan_stored(request.query, request.k, settings, allowed, request.until);
            let again = if index.recipe().rescore.is_some() { request.k * settings.rescore } else { 0 };
            pace.saw_stored(work, again, pace::picked(self.vectors().dimensions()), start.elapsed());
            (found, work)
        };
        let scan_sketches = || {
            let start = Instant::now();
            let nodes = self.nodes(attached);
            let (found, work) =
                index.scan_sketches(request.query, request.k, settings, nodes.as_ref(), request.until);
            pace.saw_sketches(work, start.elapsed());
            (found, work)
        };
        if strategy == Strategy::ScanStored {
            let (found, work) = scan_stored();
            return self.finish(attached, found, unindexed, strategy, work);
        }
        if strategy == Strategy::ScanSketches {
            let (found, work) = scan_sketches();
            return self.finish(attached, found, unindexed, strategy, work);
        }
        // Past what a scan costs the walk has lost, whatever was expected of it.
        let is_scan = |c: &&Considered| {
            use Strategy::*;
            matches!(c.strategy, ScanAll | ScanAllowed | ScanStored | ScanSketches)
        };
        let instead = considered.iter().find(is_scan);
        let most = instead.map_or(f64::INFINITY, |c| c.expected_us * 1e3 / pace.walk());
        let max_distances = if request.only.is_some() { usize::MAX } else { most as usize + request.k };
        let limit = Limit { max_distances, until: request.until };
        let ask = |k: usize, allowed: Allowed<'_>| index.search(request.query, k, settings, allowed, limit);
        // A few nodes that may not answer, such as the query's own or dead ones, are best found and left out.
        let n_barred = index.len() - index.n_withheld() - n_in_index;
        let spare = n_barred.min(8 + request.k / 4);
        let (mut free, mut spent) = (None, Work::default());
        if request.filter.is_none() && n_barred <= index.len() / 8 {
            let (mut found, work, complete) = ask(request.k + spare, Allowed::All);
            pace.saw_walk(work, start.elapsed());
            let may = |row: u32| row != NO_ROW && self.allowed.contains(row as usize);
            found.retain(|n| may(attached.node_row[n.row as usize]));
            if found.len() >= request.k || n_barred <= spare {
                found.truncate(request.k);
                free = Some((found, work, complete));
            } else {
                spent = work;
            }
        }
        let (found, work, complete) = free.unwrap_or_else(|| {
            let answer = ask(request.k, Allowed::Only(&self.nodes(attached)));
            pace.saw_walk_allowed(answer.1, start.elapsed());
            let expected = considered.iter().find(|c| c.strategy == strategy);
            if let (true, Some(expected), Strategy::WalkAllowed) = (answer.2, expected, strategy) {
                pace.saw_allowed(start.elapsed(), expected.expected_us);
            }
            answer
        });
        let mut work = work.with(spent);
        // A walk that found fewer than there are has failed at its one promise; the scan keeps it.
        let short = found.len() < request.k.min(n_in_index);
        let failed = !complete && (short || work.distances > max_distances);
        if failed && !late(request.until) {
            match instead.map(|c| c.strategy) {
                Some(Strategy::ScanStored) => {
                    let (found, more) = scan_stored();
                    return self.finish(
                        attached,
                        found,
                        unindexed,
                        Strategy::ThenScanStored,
                        work.with(more),
                    );
                }
                Some(Strategy::ScanSketches) => {
                    let (found, more) = scan_sketches();
                    return self.finish(
                        attached,
                        found,
                        unindexed,
                        Strategy::ThenScanSketches,
                        work.with(more),
                    );
                }
                _ => {}
            }
            let (nearest, distances) = self.scan();
            work.distances += distances;
            return (nearest, Strategy::ThenScan, work);
        }
        self.finish(attached, found, unindexed, strategy, work)
    }

    /// From nodes to rows, with the ranks of the vectors themselves, together with newer rows.
    fn finish(
        &self,
        attached: &Attached,
        found: Vec<Neighbour>,
        unindexed: &FixedBitSet,
        strategy: Strategy,
        mut work: Work,
    ) -> (Vec<Neighbour>, Strategy, Work) {
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
        let rows = unindexed.ones().map(|r| r as u32);
        let (newer, distances) = scan::scan_rows(vectors, metric, request.query, request.k, rows);
        newer.into_iter().for_each(|n| nearest.offer(n.row, n.rank));
        work.distances += distances;
        (nearest.into_sorted(), strategy, work)
    }
}
