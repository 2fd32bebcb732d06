//! An index attached to the rows of a table.

use crate::index::{BuildError, Description, Index, Progress, Settings, Source};
use crate::lines::Aligned;
use crate::rows::{Numbering, Table};
use crate::scan::Lens;
use crate::search::pace::{self, Pace};
use fixedbitset::FixedBitSet;
use std::collections::HashMap;
use std::sync::Arc;

/// Marks a node whose record is gone or was replaced before the index was attached, and a row without a node.
pub(super) const NO_ROW: u32 = u32::MAX;

/// An index, and which rows of a live table its nodes are.
pub struct Attached {
    pub index: Arc<Index>,
    /// The rows' numbering that the maps below speak of. A table that numbers its rows otherwise is not searched
    /// with them.
    pub(super) numbering: Numbering,
    pub(super) node_row: Vec<u32>,
    pub(super) row_node: Vec<u32>,
    /// Rows that are nodes of the index.
    pub(super) covered: FixedBitSet,
    /// Whether node numbers are row numbers, as they are right after a build without deletions.
    pub(super) identical: bool,
    /// How fast this machine searches it.
    pub(super) pace: Arc<Pace>,
}

/// Why an index cannot be attached to a table: it was made of other records.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Foreign {
    #[error("it covers revision {index}, and the collection is at {table}: it comes from another history")]
    Later { index: u64, table: u64 },
    #[error("{n} of its vectors are not those of the collection's records, record number {number} for one")]
    OtherVectors { n: usize, number: u64 },
}

/// The vectors of a column that an index is built of: a copy, so that writes go on meanwhile.
pub fn source_of(table: &Table, column: usize, description: Description) -> Source {
    let vectors = &table.vectors()[column].vectors;
    let mut source = Source {
        description,
        vectors: Aligned::with_capacity(table.n_records() * vectors.dimensions()),
        numbers: Vec::with_capacity(table.n_records()),
    };
    for row in table.alive().and(vectors.present()).ones() {
        source.vectors.extend(vectors.row(row as u32));
        source.numbers.push(table.number(row as u32));
    }
    source
}

/// The living rows of a table by record number. Nodes may come in any order, so that each look is one place in memory.
enum RowsByNumber {
    /// A place for each number from the least to the greatest.
    Places { least: u64, rows: Vec<u32> },
    /// Few of the numbers are left.
    Sparse(HashMap<u64, u32>),
}

impl RowsByNumber {
    fn new(table: &Table) -> RowsByNumber {
        let living = || table.alive().ones().map(|row| (table.number(row as u32), row as u32));
        let (mut n, mut least, mut greatest) = (0, u64::MAX, 0);
        for (number, _) in living() {
            (n, least, greatest) = (n + 1, least.min(number), greatest.max(number));
        }
        let span = greatest.saturating_sub(least).saturating_add(1);
        if span > 8 * n {
            return RowsByNumber::Sparse(living().collect());
        }
        let mut rows = vec![NO_ROW; span as usize];
        living().for_each(|(number, row)| rows[(number - least) as usize] = row);
        RowsByNumber::Places { least, rows }
    }

    fn of(&self, number: u64) -> Option<u32> {
        match self {
            RowsByNumber::Places { least, rows } => {
                let at = number.checked_sub(*least)?;
                rows.get(usize::try_from(at).ok()?).copied().filter(|row| *row != NO_ROW)
            }
            RowsByNumber::Sparse(rows) => rows.get(&number).copied(),
        }
    }
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
        let about = &table.vectors()[column];
        let rows = RowsByNumber::new(table);
        let mut other = (0, 0);
        let nodes = index.numbers().iter().zip(index.prints());
        let node_row: Vec<u32> = nodes
            .map(|(number, print)| {
                let Some(row) = rows.of(*number) else { return NO_ROW };
                match about.print(row) {
                    Some(own) if own == *print => row,
                    // Written since the index was made.
                    _ if table.row_revision(row) > revision => NO_ROW,
                    _ => {
                        other = (other.0 + 1, *number);
                        NO_ROW
                    }
                }
            })
            .collect();
        if let (n @ 1.., number) = other {
            return Err(Foreign::OtherVectors { n, number });
        }
        Ok(Attached::of_rows(index, table, column, node_row, None))
    }

    /// The same index on rows that were numbered anew: for each of them the number that it had before.
    pub fn moved(&self, table: &Table, column: usize, from_before: &[u32]) -> Attached {
        let mut now = vec![NO_ROW; self.row_node.len().max(table.len())];
        for (row, before) in from_before.iter().enumerate() {
            if let Some(place) = now.get_mut(*before as usize) {
                *place = row as u32;
            }
        }
        let new = |row: &u32| if *row == NO_ROW { NO_ROW } else { now[*row as usize] };
        let node_row = self.node_row.iter().map(new).collect();
        Attached::of_rows(self.index.clone(), table, column, node_row, Some(self.pace.clone()))
    }

    /// An index whose nodes are these rows.
    fn of_rows(
        index: Arc<Index>,
        table: &Table,
        column: usize,
        node_row: Vec<u32>,
        pace: Option<Arc<Pace>>,
    ) -> Attached {
        let vectors = &table.vectors()[column].vectors;
        let mut covered = FixedBitSet::with_capacity(table.len());
        node_row.iter().filter(|r| **r != NO_ROW).for_each(|&r| covered.insert(r as usize));
        let mut row_node = vec![NO_ROW; table.len()];
        for (node, &row) in node_row.iter().enumerate().filter(|(_, row)| **row != NO_ROW) {
            row_node[row as usize] = node as u32;
        }
        let identical = node_row.iter().enumerate().all(|(node, &row)| node as u32 == row);
        let pace = pace.unwrap_or_else(|| {
            let rows: Vec<u32> = node_row.iter().copied().filter(|r| *r != NO_ROW).collect();
            Arc::new(Pace::measured(&index, vectors, &rows))
        });
        let numbering = table.numbering().clone();
        Attached { index, numbering, node_row, row_node, covered, identical, pace }
    }

    /// The same index as if some rows had never been inserted, for tables in which they are dead.
    pub fn without(
        &self,
        table: &Table,
        column: usize,
        rows: &[u32],
        (threads, progress): (usize, &Progress),
    ) -> Result<Attached, BuildError> {
        let vectors = &table.vectors()[column].vectors;
        let mut withheld = FixedBitSet::with_capacity(self.index.len());
        let mut covered = self.covered.clone();
        let (mut node_row, mut row_node) = (self.node_row.clone(), self.row_node.clone());
        for &row in rows {
            let Some(&node) = self.row_node.get(row as usize).filter(|node| **node != NO_ROW) else {
                continue;
            };
            withheld.insert(node as usize);
            covered.set(row as usize, false);
            node_row[node as usize] = NO_ROW;
            row_node[row as usize] = NO_ROW;
        }
        let vector = |node: u32| {
            let row = self.node_row[node as usize];
            (row != NO_ROW).then(|| vectors.row(row))
        };
        let index = Arc::new(self.index.without(withheld, vector, threads, progress)?);
        let (numbering, pace) = (self.numbering.clone(), self.pace.clone());
        // Rows that are withheld are dead in the tables that are searched.
        Ok(Attached { index, numbering, node_row, row_node, covered, identical: self.identical, pace })
    }

    /// About how many microseconds a search takes when every row is allowed.
    pub fn expected_us(&self, table: &Table, settings: Settings) -> f64 {
        let newer = table.len().saturating_sub(self.row_node.len()) as f64;
        let dimensions = self.index.description().dimensions;
        let distances = self.index.expected_distances(settings) as f64;
        (distances * self.pace.walk() + newer * pace::picked(dimensions)) / 1e3
    }

    /// Bytes on the heap: which row each node is, and little of the index itself, most of which is mapped from its file.
    pub fn n_bytes_held(&self) -> usize {
        self.index.n_bytes_held() + 4 * (self.node_row.len() + self.row_node.len()) + self.covered.len() / 8
    }

    /// The nodes of some rows.
    pub(super) fn nodes<'s>(&'s self, rows: &'s FixedBitSet) -> Lens<'s> {
        if self.identical { Lens::plain(rows) } else { Lens::through(rows, &self.node_row, &self.row_node) }
    }

    /// Those of some rows that are no nodes.
    pub(super) fn not_covered(&self, rows: &FixedBitSet) -> Vec<u32> {
        const BITS: usize = usize::BITS as usize;
        let covered = self.covered.as_slice();
        let mut found = Vec::new();
        for (i, word) in rows.as_slice().iter().enumerate() {
            let mut rest = word & !covered.get(i).copied().unwrap_or(0);
            while rest != 0 {
                found.push((i * BITS) as u32 + rest.trailing_zeros());
                rest &= rest - 1;
            }
        }
        found
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
