//! The live rows of a collection: keys, bodies, typed field columns, vectors.
//!
//! A [`Table`] is a snapshot: cheap to clone, never changed by later writes. A record that gets another vector gets
//! another row, and the old one stays in place and is no longer alive; one whose fields change keeps its row.

use crate::rows::bits::Bits;
use crate::rows::columns::Column;
use crate::rows::documents::{Documents, LastBlock};
use crate::rows::keys::Keys;
use crate::rows::packed::Packed;
use crate::rows::segments::segment::Segment;
use crate::rows::vectors::VectorColumn;
use crate::schema::Schema;
use crate::tensors::FileError;
use fixedbitset::FixedBitSet;
use parking_lot::RwLock;
use serde_json::{Map, Value};
use std::collections::{HashMap, HashSet};
use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// Which record each row number means. Two tables with equal numberings agree on every row that both have.
#[derive(Clone, Debug, Default)]
pub struct Numbering(Arc<()>);

impl PartialEq for Numbering {
    fn eq(&self, other: &Numbering) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }
}

/// What tells a snapshot from all others of this process.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Snapshot(u64);

impl Snapshot {
    pub(super) fn next() -> Snapshot {
        static NEXT: AtomicU64 = AtomicU64::new(0);
        Snapshot(NEXT.fetch_add(1, Ordering::Relaxed))
    }
}

/// Rows that lie in a segment file, in its order.
#[derive(Clone, Debug)]
pub(super) struct Piece {
    /// Where the documents find the file.
    pub slot: usize,
    pub rows: Range<u32>,
}

#[derive(Clone, Debug)]
pub struct Table {
    pub(super) schema: Arc<Schema>,
    pub(super) snapshot: Snapshot,
    pub(super) numbering: Numbering,
    pub(super) revision: u64,
    pub(super) numbers: Packed,
    pub(super) revisions: Packed,
    /// Where the key and the body of a row are.
    pub(super) places: Packed,
    pub(super) alive: Bits,
    pub(super) columns: Vec<Column>,
    pub(super) vectors: Vec<VectorColumn>,
    pub(super) documents: Documents,
    pub(super) keys: Arc<RwLock<Keys>>,
    /// The segments that hold the first rows, in order.
    pub(super) pieces: Arc<Vec<Piece>>,
}

impl Table {
    /// Rows, dead ones included.
    pub fn len(&self) -> usize {
        self.numbers.len()
    }
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
    /// Records: rows that are alive.
    pub fn n_records(&self) -> usize {
        self.alive.count_ones()
    }
    /// The last revision applied.
    pub fn revision(&self) -> u64 {
        self.revision
    }
    pub fn schema(&self) -> &Schema {
        &self.schema
    }
    pub fn alive(&self) -> &Bits {
        &self.alive
    }
    pub(crate) fn snapshot(&self) -> Snapshot {
        self.snapshot
    }
    pub fn numbering(&self) -> &Numbering {
        &self.numbering
    }
    pub fn key(&self, row: u32) -> &str {
        self.places.get(row).map_or("", |place| self.documents.key(place))
    }
    /// The record number of a row.
    pub fn number(&self, row: u32) -> u64 {
        self.numbers.get(row).map_or(u64::MAX, |n| n as u64)
    }
    /// The revision at which a record was last written.
    pub fn row_revision(&self, row: u32) -> u64 {
        self.revisions.get(row).map_or(u64::MAX, |r| r as u64)
    }

    /// The body of a record as JSON. It fails when a segment file was damaged since it was opened.
    pub fn body_text<'a>(&'a self, row: u32, last: &'a mut LastBlock) -> Result<&'a [u8], FileError> {
        self.places.get(row).map_or(Ok(b"{}"), |place| self.documents.body(place, last))
    }

    /// The body of a record. It fails when a segment file was damaged since it was opened.
    pub fn body(&self, row: u32, last: &mut LastBlock) -> Result<Map<String, Value>, FileError> {
        self.places.get(row).map_or(Ok(Map::new()), |place| self.documents.body_fields(place, last))
    }

    /// The same rows, as if some of them had been deleted: for measuring. The table itself stays as it is.
    pub fn without(&self, rows: &[u32]) -> Table {
        let mut table = Table { snapshot: Snapshot::next(), ..self.clone() };
        let known = rows.iter().filter(|row| (**row as usize) < self.len());
        known.for_each(|row| table.alive.set(*row as usize, false));
        table
    }

    /// The living rows of some records, in the order of their numbers; none for a record that is gone.
    pub fn rows_of_numbers(&self, numbers: &[u64]) -> Vec<Option<u32>> {
        let wanted: HashSet<u64> = numbers.iter().copied().collect();
        let rows = self.alive.ones().map(|row| (self.number(row as u32), row as u32));
        let found: HashMap<u64, u32> = rows.filter(|(number, _)| wanted.contains(number)).collect();
        numbers.iter().map(|number| found.get(number).copied()).collect()
    }

    /// The row of a living record.
    pub fn row(&self, key: &str) -> Option<u32> {
        let keys = self.keys.read();
        // Rows that later snapshots have are passed over.
        let mut known = keys.rows(keys.hash(key)).filter(|row| (*row as usize) < self.len());
        known.find(|row| self.alive.contains(*row as usize) && self.key(*row) == key)
    }
    /// The key most like a mistyped one. It serves an error message: of many keys, or long ones, some are
    /// compared, and no lock is held.
    pub fn nearest_key(&self, key: &str) -> Option<String> {
        const COMPARED: usize = 2000;
        const LONGEST: usize = 64;
        if key.len() > LONGEST {
            return None;
        }
        let step = (self.len() / COMPARED).max(1);
        let rows = (0..self.len()).step_by(step).filter(|row| self.alive.contains(*row));
        let keys = rows.map(|row| self.key(row as u32)).filter(|k| k.len() <= LONGEST);
        crate::names::nearest(key, keys.take(COMPARED)).map(Into::into)
    }
    pub fn column(&self, field: usize) -> &Column {
        &self.columns[field]
    }
    pub fn vectors(&self) -> &[VectorColumn] {
        &self.vectors
    }

    /// Rows in which a field is missing.
    pub fn missing(&self, field: usize) -> FixedBitSet {
        let mut set = match &self.columns[field] {
            Column::Text(t) => return t.missing(),
            Column::Integer(v) | Column::Date(v) | Column::Timestamp(v) => v.missing().to_set(),
            Column::Number(v) => v.missing().to_set(),
            Column::Boolean(v) => v.missing().to_set(),
            Column::Texts(t) => t.lists().missing().to_set(),
            Column::Integers(l) => l.missing().to_set(),
            Column::Stored(missing) => missing.to_set(),
        };
        set.grow(self.len());
        set
    }

    /// The segment files that the first rows lie in, oldest first.
    pub fn segments(&self) -> impl Iterator<Item = &Arc<Segment>> {
        self.pieces.iter().filter_map(|piece| self.documents.file(piece.slot))
    }

    /// Bytes of everything the table holds on the heap.
    pub fn n_bytes(&self) -> usize {
        let fields = (0..self.schema().fields.len()).map(|i| self.column(i).n_bytes());
        let vectors = self.vectors().iter().map(VectorColumn::n_bytes);
        self.n_bytes_keys() + fields.sum::<usize>() + vectors.sum::<usize>()
    }

    /// Bytes of keys and bodies that are in no file yet, numbers and revisions, and of what finds rows by key.
    pub fn n_bytes_keys(&self) -> usize {
        let packed = [&self.numbers, &self.revisions, &self.places].map(Packed::n_bytes);
        let keys = self.keys.read().n_bytes();
        self.documents.n_bytes() + packed.iter().sum::<usize>() + self.alive.n_bytes() + keys
    }

    /// Bytes of keys and bodies that lie in mapped files.
    pub fn n_bytes_mapped_documents(&self) -> usize {
        self.documents.n_bytes_mapped()
    }

    /// Bytes that lie in mapped files: keys, bodies and vectors.
    pub fn n_bytes_mapped(&self) -> usize {
        let vectors = self.vectors().iter().map(VectorColumn::n_bytes_mapped);
        self.n_bytes_mapped_documents() + vectors.sum::<usize>()
    }
}
