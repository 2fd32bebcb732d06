//! Planning and running one search over a snapshot: asked ([`Request`]), decided ([`Plan`]),
//! answered ([`Answer`]).

use crate::filter::Test;
use crate::index::{Index, Limit, Settings, Work, fingerprint, late};
use crate::pace::{self, Pace};
use crate::recipe::{Recipe, Route, Store};
use crate::scan::{self, Allowed, Nearest, Neighbour};
use crate::table::{Numbering, Table};
use fixedbitset::FixedBitSet;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::Arc;
use std::time::Instant;

/// Marks a node whose record is gone or was replaced before the index was attached, and a row without a node.
const NO_ROW: u32 = u32::MAX;

/// An index, and which rows of a live table its nodes are.
pub struct Attached {
    pub index: Arc<Index>,
    /// The rows' numbering that the maps below speak of. A table that numbers its rows otherwise is not searched
    /// with them.
    numbering: Numbering,
    node_row: Vec<u32>,
    row_node: Vec<u32>,
    /// Rows that are nodes of the index.
    covered: FixedBitSet,
    /// Whether node numbers are row numbers, as they are right after a build without deletions.
    identical: bool,
    /// How fast this machine searches it.
    pace: Pace,
}

/// Why an index cannot be attached to a table: it was made of other records.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Foreign {
    #[error("it covers revision {index}, and the collection is at {table}: it comes from another history")]
    Later { index: u64, table: u64 },
    #[error("{n} of its vectors are not those of the collection's records, record number {number} for one")]
    OtherVectors { n: usize, number: u64 },
}

impl Attached {
    /// Finds the rows of the index's nodes. A record that changed after the index's revision is no
    /// longer what the index knows, so its node stays without a row. A few searches tell the pace.
    ///
    /// Refused when the index was made of other vectors than these records have: each is compared by fingerprint.
    pub fn new(index: impl Into<Arc<Index>>, table: &Table, column: usize) -> Result<Attached, Foreign> {
        let index = index.into();
        let revision = index.description().revision;
        if revision > table.revision() {
            return Err(Foreign::Later { index: revision, table: table.revision() });
        }
        let vectors = &table.vectors()[column].vectors;
        let mut rows: HashMap<u64, u32> = HashMap::with_capacity(table.len());
        for row in table.alive().ones() {
            let row = row as u32;
            if table.row_revision(row) <= revision {
                rows.insert(table.number(row), row);
            }
        }
        let mut other = (0, 0);
        let nodes = index.numbers().iter().zip(index.prints());
        let node_row: Vec<u32> = nodes
            .map(|(number, print)| {
                let Some(&row) = rows.get(number) else { return NO_ROW };
                if !vectors.present().contains(row as usize) || fingerprint(vectors.row(row)) != *print {
                    other = (other.0 + 1, *number);
                    return NO_ROW;
                }
                row
            })
            .collect();
        if let (n @ 1.., number) = other {
            return Err(Foreign::OtherVectors { n, number });
        }
        let mut covered = FixedBitSet::with_capacity(table.len());
        node_row.iter().filter(|r| **r != NO_ROW).for_each(|&r| covered.insert(r as usize));
        let mut row_node = vec![NO_ROW; table.len()];
        for (node, &row) in node_row.iter().enumerate().filter(|(_, row)| **row != NO_ROW) {
            row_node[row as usize] = node as u32;
        }
        let identical = node_row.iter().enumerate().all(|(node, &row)| node as u32 == row);
        let rows: Vec<u32> = node_row.iter().copied().filter(|r| *r != NO_ROW).collect();
        let pace = Pace::measured(&index, vectors, &rows);
        Ok(Attached {
            index,
            numbering: table.numbering().clone(),
            node_row,
            row_node,
            covered,
            identical,
            pace,
        })
    }

    /// Whether the rows of `table` are numbered as they were when the index was attached.
    pub fn fits(&self, table: &Table) -> bool {
        self.numbering == *table.numbering()
    }

    /// Living rows with a vector that the index does not hold; they are scanned instead.
    pub fn uncovered(&self, table: &Table, column: usize) -> FixedBitSet {
        let mut rows = table.alive().and(table.vectors()[column].vectors.present());
        if self.fits(table) {
            rows.difference_with(&self.covered);
        }
        rows
    }

    /// Nodes whose record is as the index knows it.
    pub fn living(&self, table: &Table, column: usize) -> FixedBitSet {
        let present = table.vectors()[column].vectors.present();
        self.index.nodes_where(|node| {
            let row = self.node_row[node as usize] as usize;
            self.fits(table) && row != NO_ROW as usize && table.alive().contains(row) && present.contains(row)
        })
    }

    /// Nodes whose record was deleted or replaced since.
    pub fn n_dead(&self, table: &Table) -> usize {
        let mut living = self.covered.clone();
        table.alive().keep_in(&mut living);
        self.index.len() - living.count_ones(..)
    }
}

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
    /// Every row with a vector is looked at.
    ScanAll,
    /// The rows that the filter allows are looked at, no others.
    ScanAllowed,
    /// What the index stores of the allowed rows is looked at, and the nearest of them are ranked anew.
    ScanStored,
    /// Sketches of the allowed rows are looked at, and the nearest of them are ranked anew.
    ScanSketches,
    /// The graph is walked.
    Walk,
    /// The graph is walked from allowed node to allowed node.
    WalkAllowed,
    /// The nearest cells are looked into.
    Visit,
    /// The nearest cells that hold allowed rows are looked into, at those rows.
    VisitAllowed,
    /// The index ran dry, or would have taken more than a scan; the allowed rows were scanned.
    ThenScan,
    /// As [`Strategy::ThenScan`], of what the index stores.
    ThenScanStored,
    /// As [`Strategy::ThenScan`], of sketches.
    ThenScanSketches,
}

impl Strategy {
    /// How an index of this recipe answers without a filter.
    pub fn of_index(recipe: &Recipe) -> Strategy {
        match recipe.route {
            Route::Scan => Strategy::ScanStored,
            Route::Graph { .. } => Strategy::Walk,
            _ => Strategy::Visit,
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
pub struct Plan {
    pub strategy: Strategy,
    /// Rows that could be an answer before the filter.
    pub rows: usize,
    /// Rows that the filter allows; all of them when there is none.
    pub allowed: usize,
    /// Allowed rows newer than the index, scanned beside it.
    pub unindexed: usize,
    /// The cheapest first.
    pub considered: Vec<Considered>,
}

#[derive(Clone, Debug)]
pub struct Answer {
    /// Nearest first; `row` is a row of the table.
    pub nearest: Vec<Neighbour>,
    pub plan: Plan,
    pub work: Work,
    pub filter_us: f64,
    pub plan_us: f64,
    pub search_us: f64,
    /// Whether the time was up: what is missing may not have been looked at.
    pub cut: bool,
}

/// The search as it stands after the filter ran.
struct Search<'a> {
    table: &'a Table,
    request: Request<'a>,
    allowed: FixedBitSet,
    n_allowed: usize,
}

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
    let (considered, beside) = search.consider();
    let first = request.only.and_then(|only| considered.iter().find(|c| c.strategy == only));
    let strategy = first.or(considered.first()).map_or(Strategy::ScanAllowed, |c| c.strategy);
    let plan_us = start.elapsed().as_secs_f64() * 1e6;

    let start = Instant::now();
    let (nearest, strategy, work) = search.take(strategy, &considered, &beside);
    let search_us = start.elapsed().as_secs_f64() * 1e6;
    let scanned = matches!(strategy, Strategy::ScanAll | Strategy::ScanAllowed | Strategy::ThenScan);
    let unindexed = if scanned { 0 } else { beside.count_ones(..) };
    let plan = Plan { strategy, rows: n_rows, allowed: n_allowed, unindexed, considered };
    let cut = late(request.until);
    Answer { nearest, plan, work, filter_us, plan_us, search_us, cut }
}

impl Search<'_> {
    fn vectors(&self) -> &crate::chunked::Vectors {
        &self.table.vectors()[self.request.column].vectors
    }

    /// What is possible, cheapest first; and the allowed rows that an index does not hold.
    fn consider(&self) -> (Vec<Considered>, FixedBitSet) {
        let dimensions = self.vectors().dimensions();
        let mut all = Vec::with_capacity(4);
        let mut add = |strategy, distances: f64, ns_each: f64, besides_us: f64| {
            all.push(Considered {
                strategy,
                expected_us: distances * ns_each / 1e3 + besides_us,
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
        let mut beside = FixedBitSet::new();
        if let Some((attached, settings)) = self.request.index {
            beside = self.allowed.clone();
            beside.difference_with(&attached.covered);
            let n_beside = beside.count_ones(..);
            let in_index = n_allowed - n_beside as f64;
            let index = &attached.index;
            let nodes = index.len().max(1) as f64;
            let share = (in_index / nodes).max(1e-9);
            let besides = n_beside as f64 * picked / 1e3;
            let expected = index.expected_distances(settings) as f64;
            let pace = &attached.pace;
            let filtered = share < 1.0 && self.request.filter.is_some();
            match index.recipe().route {
                Route::Scan => {}
                Route::Graph { .. } if filtered => {
                    let (distances, over) = index.expected_of_allowed(settings, share);
                    let (distances, each) = (distances.min(in_index), pace.walk() * pace.allowed());
                    let us = over * pace.step_over() * pace.allowed() / 1e3;
                    add(Strategy::WalkAllowed, distances, each, besides + us);
                }
                Route::Graph { .. } => add(Strategy::Walk, expected, pace.walk(), besides),
                _ if filtered => {
                    let (distances, cells) = index.expected_of_allowed(settings, share);
                    add(Strategy::VisitAllowed, distances, pace.walk(), besides + cells * 0.05);
                }
                _ => add(Strategy::Visit, expected, pace.walk(), besides),
            }
            if index.recipe().store != Store::F32 || index.recipe().route == Route::Scan {
                let k = self.request.k;
                let again = if index.recipe().rescore.is_some() { settings.rescore } else { index.spread() };
                let distances = index.distances_to_stored(in_index as usize) as f64;
                let again = (again * k).min(in_index as usize) as f64 * picked / 1e3;
                add(Strategy::ScanStored, distances, pace.stored(), besides + again + pace.besides() / 1e3);
            }
            if index.has_sketches() && filtered {
                let candidates = index.sketched_candidates(self.request.k);
                // Blocks in which no row is allowed are passed over.
                let blocks = nodes / 32.0 * (1.0 - (1.0 - share).powi(32));
                let us = blocks * pace.block() / 1e3;
                add(Strategy::ScanSketches, candidates as f64, pace.stored(), besides + us);
            }
        }
        all.sort_by(|a, b| a.expected_us.total_cmp(&b.expected_us));
        (all, beside)
    }

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

    fn take(
        &self,
        strategy: Strategy,
        considered: &[Considered],
        beside: &FixedBitSet,
    ) -> (Vec<Neighbour>, Strategy, Work) {
        let request = &self.request;
        let Some((attached, settings)) =
            request.index.filter(|_| !matches!(strategy, Strategy::ScanAll | Strategy::ScanAllowed))
        else {
            let (nearest, distances) = self.scan();
            return (nearest, strategy, Work { distances, ..Work::default() });
        };
        let (index, pace) = (&attached.index, &attached.pace);
        let n_in_index = self.n_allowed - beside.count_ones(..);
        let start = Instant::now();
        let scan_stored = || {
            let start = Instant::now();
            let nodes = self.nodes(attached);
            let allowed =
                if n_in_index == index.len() { Allowed::All } else { Allowed::Only(nodes.as_ref()) };
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
            return self.finish(attached, found, beside, strategy, work);
        }
        if strategy == Strategy::ScanSketches {
            let (found, work) = scan_sketches();
            return self.finish(attached, found, beside, strategy, work);
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
        let n_barred = index.len() - n_in_index;
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
                    return self.finish(attached, found, beside, Strategy::ThenScanStored, work.with(more));
                }
                Some(Strategy::ScanSketches) => {
                    let (found, more) = scan_sketches();
                    return self.finish(attached, found, beside, Strategy::ThenScanSketches, work.with(more));
                }
                _ => {}
            }
            let (nearest, distances) = self.scan();
            work.distances += distances;
            return (nearest, Strategy::ThenScan, work);
        }
        self.finish(attached, found, beside, strategy, work)
    }

    /// From nodes to rows, with the ranks of the vectors themselves, together with newer rows.
    fn finish(
        &self,
        attached: &Attached,
        found: Vec<Neighbour>,
        beside: &FixedBitSet,
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
        let rows = beside.ones().map(|r| r as u32);
        let (newer, distances) = scan::scan_rows(vectors, metric, request.query, request.k, rows);
        newer.into_iter().for_each(|n| nearest.offer(n.row, n.rank));
        work.distances += distances;
        (nearest.into_sorted(), strategy, work)
    }
}
