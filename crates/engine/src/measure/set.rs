//! Query sets: lists of vectors that ask, and the tables that they ask, without the records that ask.

use super::error::MeasureError;
use crate::filter::Test;
use crate::index::{Progress, held_out_part};
use crate::rows::Table;
use crate::search::Attached;
use std::collections::HashSet;
use std::ops::Deref;
use std::sync::Arc;

/// Queries to measure with. Filters are one a query, or none at all.
#[derive(Clone, Copy)]
pub struct QuerySet<'a> {
    pub vectors: &'a [f32],
    pub records: &'a [Option<u64>],
    pub filters: Option<&'a [Option<Test>]>,
}

impl QuerySet<'_> {
    pub fn len(&self) -> usize {
        self.records.len()
    }

    pub fn is_empty(&self) -> bool {
        self.records.is_empty()
    }

    pub(super) fn vector(&self, query: usize) -> &[f32] {
        let d = self.vectors.len() / self.len().max(1);
        &self.vectors[query * d..][..d]
    }

    pub fn filter(&self, query: usize) -> Option<&Test> {
        self.filters.and_then(|all| all[query].as_ref())
    }
}

/// Living rows with a vector in a column, in the order of their record numbers: the same for every node and restart.
pub(super) fn by_number(table: &Table, column: usize) -> Vec<u32> {
    let mut rows: Vec<u32> =
        table.alive().and(table.vectors()[column].vectors.present()).ones().map(|row| row as u32).collect();
    rows.sort_unstable_by_key(|row| table.number(*row));
    rows
}

/// A table without the rows of one part of the records that are held out.
pub struct Part {
    pub table: Table,
    /// The rows that are left out.
    pub rows: Vec<u32>,
}

/// A table in as many parts as the records of a query set are left out in: each query asks a table without its own record.
#[derive(Clone)]
pub struct Parts {
    all: Arc<[Part]>,
    /// For each query its part.
    of: Vec<usize>,
}

/// An index as it is in a part.
pub enum InPart<'a> {
    /// Nothing is left out.
    Whole(&'a Attached),
    Without(Box<Attached>),
}

impl Deref for InPart<'_> {
    type Target = Attached;

    fn deref(&self) -> &Attached {
        match self {
            InPart::Whole(attached) => attached,
            InPart::Without(attached) => attached,
        }
    }
}

impl Parts {
    /// One table for all of so many queries.
    pub fn whole(table: Table, n_queries: usize) -> Parts {
        Parts { all: [Part { table, rows: Vec::new() }].into(), of: vec![0; n_queries] }
    }

    pub fn all(&self) -> &[Part] {
        &self.all
    }

    /// Which part a query asks.
    pub fn of(&self, query: usize) -> usize {
        self.of[query]
    }

    /// The table that a query asks.
    pub fn table(&self, query: usize) -> &Table {
        &self.all[self.of[query]].table
    }

    /// Records that are left out of one part or another: a copy may be left out of several.
    pub fn n_held_out(&self) -> usize {
        self.all.iter().flat_map(|part| &part.rows).collect::<HashSet<_>>().len()
    }

    /// The records with a vector that can be a neighbour of any query: those of the smallest part.
    pub fn n_rows(&self, column: usize) -> usize {
        let of = |part: &Part| {
            part.table.alive().intersection_count(part.table.vectors()[column].vectors.present())
        };
        self.all.iter().map(of).min().unwrap_or(0)
    }

    /// An index in each part, as if the rows that it leaves out had never been inserted.
    pub fn index<'a>(
        &self,
        attached: &'a Attached,
        column: usize,
        work: (usize, &Progress),
    ) -> Result<Vec<InPart<'a>>, MeasureError> {
        let of = |part: &Part| match part.rows.is_empty() {
            true => Ok(InPart::Whole(attached)),
            false => {
                Ok(InPart::Without(Box::new(attached.without(&part.table, column, &part.rows, work)?)))
            }
        };
        self.all.iter().map(of).collect()
    }

    /// Whether an index is given as it is in every part.
    pub(super) fn fit(&self, index: &[InPart<'_>]) -> bool {
        index.len() == self.all.len() && index.iter().zip(&*self.all).all(|(a, part)| a.fits(&part.table))
    }

    /// The same parts for some of the queries.
    pub fn only(&self, queries: impl Iterator<Item = usize>) -> Parts {
        Parts { all: self.all.clone(), of: queries.map(|query| self.of[query]).collect() }
    }

    /// The queries of each part.
    pub(super) fn queries(&self) -> Vec<Vec<usize>> {
        let mut queries = vec![Vec::new(); self.all.len()];
        self.of.iter().enumerate().for_each(|(query, part)| queries[*part].push(query));
        queries
    }
}

/// Leaves rows out where a query set asks with records: a record that asks is no answer, and no index may have seen it.
/// Those that indexes insert last, which `share` tells, are left out a part at a time. `copies` tells whether exact copies
/// of a record count as its neighbours.
pub fn hold_out(table: &Table, column: usize, set: QuerySet<'_>, share: f64, copies: bool) -> Parts {
    if set.records.iter().all(Option::is_none) {
        return Parts::whole(table.clone(), set.len());
    }
    let part_of = |number: u64| held_out_part(number, share);
    // Only parts that are asked are made; queries that no part is for ask the whole table.
    let asked: Vec<Option<usize>> = set.records.iter().map(|record| record.and_then(part_of)).collect();
    let mut known = asked.clone();
    known.sort_unstable();
    known.dedup();
    let mut out = vec![Vec::new(); known.len()];
    let rows = by_number(table, column);
    for &row in &rows {
        let part = part_of(table.number(row));
        if let (Some(_), Ok(at)) = (part, known.binary_search(&part)) {
            out[at].push(row);
        }
    }
    if !copies {
        let vectors = &table.vectors()[column].vectors;
        let bytes = |row: &u32| bytemuck::cast_slice::<f32, u8>(vectors.row(*row));
        for out in &mut out {
            let asking: HashSet<&[u8]> = out.iter().map(bytes).collect();
            *out = rows.iter().copied().filter(|row| asking.contains(bytes(row))).collect();
        }
    }
    let all = out.into_iter().map(|rows| Part { table: table.without(&rows), rows });
    let of = asked.iter().filter_map(|part| known.binary_search(part).ok()).collect();
    Parts { all: all.collect(), of }
}
