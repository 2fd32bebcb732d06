//! Planning and running one search over a snapshot: asked ([`Request`]), decided ([`Plan`]),
//! answered ([`Answer`]).

use crate::filter::Test;
use crate::index::{Index, Settings, Work};
use crate::recipe::Store;
use crate::scan::{self, Allowed, Nearest, Neighbour};
use crate::table::Table;
use fixedbitset::FixedBitSet;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::time::Instant;

/// Marks a node whose record is gone or was replaced before the index was attached, and a row without a node.
const NO_ROW: u32 = u32::MAX;

/// An index, and which rows of a live table its nodes are.
pub struct Attached {
    pub index: Index,
    node_row: Vec<u32>,
    row_node: Vec<u32>,
    /// Rows that are nodes of the index.
    covered: FixedBitSet,
    /// Whether node numbers are row numbers, as they are right after a build without deletions.
    identical: bool,
}

impl Attached {
    /// Finds the rows of the index's nodes. A record that changed after the index's revision is no
    /// longer what the index knows, so its node stays without a row.
    pub fn new(index: Index, table: &Table) -> Attached {
        let mut rows: HashMap<u64, u32> = HashMap::with_capacity(table.len());
        for row in table.alive().ones() {
            let row = row as u32;
            if table.row_revision(row) <= index.description().revision {
                rows.insert(table.number(row), row);
            }
        }
        let node_row: Vec<u32> =
            index.numbers().iter().map(|n| rows.get(n).copied().unwrap_or(NO_ROW)).collect();
        let mut covered = FixedBitSet::with_capacity(table.len());
        node_row.iter().filter(|r| **r != NO_ROW).for_each(|&r| covered.insert(r as usize));
        let mut row_node = vec![NO_ROW; table.len()];
        for (node, &row) in node_row.iter().enumerate().filter(|(_, row)| **row != NO_ROW) {
            row_node[row as usize] = node as u32;
        }
        let identical = node_row.iter().enumerate().all(|(node, &row)| node as u32 == row);
        Attached { index, node_row, row_node, covered, identical }
    }

    /// Living rows with a vector that the index does not hold; they are scanned instead.
    pub fn uncovered(&self, table: &Table, column: usize) -> FixedBitSet {
        let mut rows = table.alive().clone();
        rows.intersect_with(table.vectors()[column].vectors.present());
        rows.difference_with(&self.covered);
        rows
    }

    /// Nodes whose record is as the index knows it.
    pub fn living(&self, table: &Table, column: usize) -> FixedBitSet {
        let present = table.vectors()[column].vectors.present();
        self.index.nodes_where(|node| {
            let row = self.node_row[node as usize] as usize;
            row != NO_ROW as usize && table.alive().contains(row) && present.contains(row)
        })
    }

    /// Nodes whose record was deleted or replaced since.
    pub fn n_dead(&self, table: &Table) -> usize {
        self.index.len() - self.covered.intersection_count(table.alive())
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
    /// A row that never counts: the record the query came from.
    pub excluded: Option<u32>,
    /// `None` asks for the exact answer.
    pub index: Option<(&'a Attached, Settings)>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Strategy {
    /// Every row with a vector is looked at.
    ScanAll,
    /// The rows that the filter allows are looked at, no others.
    ScanAllowed,
    /// The index is walked.
    Walk,
    /// The index is walked, and only allowed rows are kept.
    WalkAllowed,
    /// The walk would have cost more than a scan, or ran dry; the allowed rows were scanned.
    WalkThenScan,
}

/// What was decided, and the numbers behind it. Costs are in distances to consecutive rows.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Plan {
    pub strategy: Strategy,
    /// Rows that could be an answer before the filter.
    pub rows: usize,
    /// Rows that the filter allows; all of them when there is none.
    pub allowed: usize,
    /// Allowed rows newer than the index, scanned beside it.
    pub scanned_beside: usize,
    pub scan_cost: f64,
    /// Absent for an exact search.
    pub walk_cost: Option<f64>,
}

#[derive(Clone, Debug)]
pub struct Answer {
    /// Nearest first; `row` is a row of the table.
    pub nearest: Vec<Neighbour>,
    pub plan: Plan,
    pub work: Work,
    pub filter_us: f64,
    pub search_us: f64,
}

/// A distance to a row picked from a list against one to the next row, as [`crate::limit`] measures
/// them on rows that do not fit the nearer caches: 1.5 to 2.5.
const PICKED: f64 = 2.0;

pub fn run(table: &Table, request: Request<'_>) -> Answer {
    let start = Instant::now();
    let column = &table.vectors()[request.column];
    let vectors = &column.vectors;
    let mut allowed = match request.filter {
        Some(test) => test.run(table),
        None => table.alive().clone(),
    };
    allowed.intersect_with(vectors.present());
    if let Some(row) = request.excluded
        && (row as usize) < allowed.len()
    {
        allowed.set(row as usize, false);
    }
    let n_allowed = allowed.count_ones(..);
    let n_rows = match request.filter {
        Some(_) => table.alive().intersection_count(vectors.present()),
        None => n_allowed,
    };
    let filter_us = start.elapsed().as_secs_f64() * 1e6;

    let start = Instant::now();
    let picked_cost = n_allowed as f64 * PICKED;
    let scan_cost = picked_cost.min(vectors.len() as f64);
    let scan = || {
        if scan_cost < vectors.len() as f64 {
            let rows = allowed.ones().map(|r| r as u32);
            scan::scan_rows(vectors, column.metric, request.query, request.k, rows)
        } else {
            let only = Allowed::Only(&allowed);
            let found = scan::scan(vectors.blocks(), column.metric, request.query, request.k, only);
            (found, vectors.len())
        }
    };
    let scan_strategy = if request.filter.is_some() { Strategy::ScanAllowed } else { Strategy::ScanAll };
    let mut plan = Plan {
        strategy: scan_strategy,
        rows: n_rows,
        allowed: n_allowed,
        scanned_beside: 0,
        scan_cost,
        walk_cost: None,
    };
    let done = |nearest, plan, work| Answer {
        nearest,
        plan,
        work,
        filter_us,
        search_us: start.elapsed().as_secs_f64() * 1e6,
    };

    let Some((attached, settings)) = request.index else {
        let (nearest, distances) = scan();
        return done(nearest, plan, Work { distances, hops: 0 });
    };

    let mut beside = allowed.clone();
    beside.difference_with(&attached.covered);
    let n_beside = beside.count_ones(..);
    let n_nodes = attached.index.len();
    let selectivity = (n_allowed - n_beside) as f64 / n_nodes.max(1) as f64;
    let expected = attached.index.expected_distances(settings) as f64;
    let walked = attached.index.cost_of_distance();
    let walk_cost =
        (expected / selectivity.max(1e-9)).min(n_nodes as f64) * walked + n_beside as f64 * PICKED;
    plan.walk_cost = Some(walk_cost);
    if scan_cost <= walk_cost {
        let (nearest, distances) = scan();
        return done(nearest, plan, Work { distances, hops: 0 });
    }

    plan.strategy = if request.filter.is_some() { Strategy::WalkAllowed } else { Strategy::Walk };
    plan.scanned_beside = n_beside;
    // Past what a scan costs the walk has lost, whatever was expected of it.
    let max_distances = (scan_cost / walked) as usize + request.k;
    let ask = |k: usize, allowed: Allowed<'_>| {
        attached.index.search(request.query, k, settings, allowed, max_distances)
    };
    // A few nodes that may not answer, such as the query's own or dead ones, are best found and left out.
    let n_barred = n_nodes - (n_allowed - n_beside);
    let spare = n_barred.min(8 + request.k / 4);
    let (mut free, mut spent) = (None, Work::default());
    if request.filter.is_none() && n_barred <= n_nodes / 8 {
        let (mut found, work, complete) = ask(request.k + spare, Allowed::All);
        let may = |row: u32| row != NO_ROW && allowed.contains(row as usize);
        found.retain(|n| may(attached.node_row[n.row as usize]));
        if found.len() >= request.k || n_barred <= spare {
            found.truncate(request.k);
            free = Some((found, work, complete));
        } else {
            spent = work;
        }
    }
    let (found, mut work, complete) = free.unwrap_or_else(|| {
        if attached.identical {
            return ask(request.k, Allowed::Only(&allowed));
        }
        let mut nodes = FixedBitSet::with_capacity(n_nodes);
        for row in allowed.ones() {
            if let Some(&node) = attached.row_node.get(row).filter(|node| **node != NO_ROW) {
                nodes.insert(node as usize);
            }
        }
        ask(request.k, Allowed::Only(&nodes))
    });
    work = work.with(spent);
    // A walk that found fewer than there are has failed at its one promise; the scan keeps it.
    if !complete && found.len() < request.k.min(n_allowed - n_beside) || work.distances > max_distances {
        plan.strategy = Strategy::WalkThenScan;
        let (nearest, distances) = scan();
        work.distances += distances;
        return done(nearest, plan, work);
    }
    let mut nearest = Nearest::new(request.k);
    // Codes blur ranks; what is shown, and merged with newer rows, are those of the vectors themselves.
    let recipe = attached.index.recipe();
    let blurred = recipe.store != Store::F32 || !recipe.prepare.is_empty();
    let found = found.into_iter().map(|n| (attached.node_row[n.row as usize], n.rank));
    if blurred {
        let rows: Vec<u32> = found.map(|(row, _)| row).collect();
        work.distances += rows.len();
        let (ranked, _) = scan::scan_rows(vectors, column.metric, request.query, request.k, rows.into_iter());
        ranked.into_iter().for_each(|n| nearest.offer(n.row, n.rank));
    } else {
        found.for_each(|(row, rank)| nearest.offer(row, rank));
    }
    let rows = beside.ones().map(|r| r as u32);
    let (newer, distances) = scan::scan_rows(vectors, column.metric, request.query, request.k, rows);
    newer.into_iter().for_each(|n| nearest.offer(n.row, n.rank));
    work.distances += distances;
    done(nearest.into_sorted(), plan, work)
}
