//! The live rows of a collection in memory: keys, typed field columns, vectors.
//!
//! A [`Table`] is a snapshot: cheap to clone, never changed by later writes. The one [`Writer`]
//! applies changes and hands out new snapshots. Every change appends a row; a replaced or deleted
//! record's old row stays in place and is no longer alive.

use crate::Metric;
use crate::bits::Bits;
use crate::chunked::{Chunked, Vectors};
use crate::packed::{Lists, Packed};
use crate::schema::{self, Field, FieldType, FieldValue, Schema};
use fixedbitset::FixedBitSet;
use parking_lot::RwLock;
use serde_json::{Map, Value};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// Values of one type, one a row. A missing row holds a default and is in `missing`.
#[derive(Clone, Debug)]
pub struct Values<T> {
    values: Chunked<T>,
    missing: Bits,
}

impl<T: Clone + Default> Values<T> {
    fn new() -> Self {
        Values { values: Chunked::default(), missing: Bits::default() }
    }
    fn push(&mut self, value: Option<T>) {
        self.missing.push(value.is_none());
        self.values.push(value.unwrap_or_default());
    }
}

impl<T> Values<T> {
    pub fn values(&self) -> &Chunked<T> {
        &self.values
    }
    pub fn missing(&self) -> &Bits {
        &self.missing
    }
}
impl<T: Copy> Values<T> {
    /// The value of a row; `None` when it is missing.
    pub fn get(&self, row: u32) -> Option<T> {
        self.values.get(row).copied().filter(|_| !self.missing.contains(row as usize))
    }
}

/// Integers, dates or timestamps, one a row. A missing row repeats the one before and is in `missing`.
#[derive(Clone, Debug, Default)]
pub struct Integers {
    values: Packed,
    missing: Bits,
}

impl Integers {
    fn push(&mut self, value: Option<i64>) {
        self.missing.push(value.is_none());
        self.values.push(value.unwrap_or(self.values.last()));
    }
    pub fn values(&self) -> &Packed {
        &self.values
    }
    pub fn missing(&self) -> &Bits {
        &self.missing
    }
    /// The value of a row; `None` when it is missing.
    pub fn get(&self, row: u32) -> Option<i64> {
        self.values.get(row).filter(|_| !self.missing.contains(row as usize))
    }
}

/// Distinct texts, numbered as they came.
#[derive(Clone, Debug, Default)]
struct Dictionary {
    texts: Chunked<Arc<str>>,
    codes: Arc<RwLock<HashMap<Arc<str>, u32>>>,
}

impl Dictionary {
    fn code(&self, text: &str) -> Option<u32> {
        let code = *self.codes.read().get(text)?;
        // The map is shared with later snapshots; a code beyond this one does not exist in it.
        ((code as usize) < self.texts.len()).then_some(code)
    }
    fn add(&mut self, text: &str) -> u32 {
        if let Some(code) = self.code(text) {
            return code;
        }
        let text: Arc<str> = text.into();
        let code = self.texts.len() as u32;
        self.texts.push(text.clone());
        self.codes.write().insert(text, code);
        code
    }
}

/// In the place of a missing text's code.
const NO_CODE: i64 = -1;

/// A string field.
#[derive(Clone, Debug, Default)]
pub struct Texts {
    dictionary: Dictionary,
    codes: Packed,
}

impl Texts {
    pub fn dictionary(&self) -> impl Iterator<Item = &str> {
        self.dictionary.texts.chunks().flatten().map(|t| &**t)
    }
    /// How many distinct texts there are.
    pub fn n_distinct(&self) -> usize {
        self.dictionary.texts.len()
    }
    /// The code of a text that some row holds or held.
    pub fn code(&self, text: &str) -> Option<u32> {
        self.dictionary.code(text)
    }
    /// By row; negative where the text is missing.
    pub fn codes(&self) -> &Packed {
        &self.codes
    }
    /// The code of a row's text; `None` when it is missing.
    pub fn code_of(&self, row: u32) -> Option<u32> {
        self.codes.get(row).and_then(|c| c.try_into().ok())
    }
    pub fn text(&self, code: u32) -> &str {
        self.dictionary.texts.get(code).map_or("", |t| t)
    }
}

/// A field of string arrays.
#[derive(Clone, Debug, Default)]
pub struct TextLists {
    dictionary: Dictionary,
    lists: Lists<u32>,
}

impl TextLists {
    pub fn code(&self, text: &str) -> Option<u32> {
        self.dictionary.code(text)
    }
    pub fn lists(&self) -> &Lists<u32> {
        &self.lists
    }
    /// The codes of a row's texts; `None` when the list is missing.
    pub fn list(&self, row: u32) -> Option<&[u32]> {
        self.lists.get(row)
    }
    pub fn text(&self, code: u32) -> &str {
        self.dictionary.texts.get(code).map_or("", |t| t)
    }
}

/// The values of one field, one a row.
#[derive(Clone, Debug)]
pub enum Column {
    Text(Texts),
    Integer(Integers),
    Number(Values<f64>),
    Boolean(Values<bool>),
    Date(Integers),
    Timestamp(Integers),
    Texts(TextLists),
    Integers(Lists<i64>),
    /// A field that is stored only: known is where it is missing.
    Stored(Bits),
}

impl Column {
    fn new(field: &Field) -> Column {
        match field.kind {
            _ if field.stored_only => Column::Stored(Bits::default()),
            FieldType::String => Column::Text(Texts::default()),
            FieldType::Integer => Column::Integer(Integers::default()),
            FieldType::Number => Column::Number(Values::new()),
            FieldType::Boolean => Column::Boolean(Values::new()),
            FieldType::Date => Column::Date(Integers::default()),
            FieldType::Timestamp => Column::Timestamp(Integers::default()),
            FieldType::Strings => Column::Texts(TextLists::default()),
            FieldType::Integers => Column::Integers(Lists::default()),
        }
    }

    /// Appends the value of the next row.
    fn push(&mut self, kind: FieldType, value: Option<&Value>) {
        if let Column::Stored(missing) = self {
            missing.push(value.is_none_or(Value::is_null));
            return;
        }
        // Bodies were checked when they were written; what does not parse now is missing.
        let value = value.and_then(|v| schema::parse(kind, v).ok().flatten());
        match (self, value) {
            (Column::Stored(_), _) => {}
            (Column::Text(texts), value) => {
                let code = match value {
                    Some(FieldValue::Text(text)) => texts.dictionary.add(&text).into(),
                    _ => NO_CODE,
                };
                texts.codes.push(code);
            }
            (Column::Integer(v) | Column::Date(v) | Column::Timestamp(v), value) => {
                v.push(match value {
                    Some(FieldValue::Integer(n)) => Some(n),
                    _ => None,
                });
            }
            (Column::Number(v), value) => v.push(match value {
                Some(FieldValue::Number(x)) => Some(x),
                _ => None,
            }),
            (Column::Boolean(v), value) => v.push(match value {
                Some(FieldValue::Boolean(b)) => Some(b),
                _ => None,
            }),
            (Column::Texts(t), value) => {
                let list = match value {
                    Some(FieldValue::Texts(list)) => Some(list),
                    _ => None,
                };
                t.lists.push(list.map(|l| l.into_iter().map(|text| t.dictionary.add(&text))));
            }
            (Column::Integers(lists), value) => lists.push(match value {
                Some(FieldValue::Integers(list)) => Some(list),
                _ => None,
            }),
        }
    }

    /// The same values under a field that was widened; `None` when bodies must be read again.
    fn widened(&self, old: &Field, new: &Field) -> Option<Column> {
        if old.kind == new.kind && old.stored_only == new.stored_only {
            return Some(self.clone());
        }
        match (self, new.kind) {
            (Column::Integer(values), FieldType::Number) if !new.stored_only => {
                let mut wide = Values::new();
                for (row, value) in values.values.iter().enumerate() {
                    wide.push((!values.missing.contains(row)).then_some(value as f64));
                }
                Some(Column::Number(wide))
            }
            _ => None,
        }
    }

    /// Bytes that the column takes in memory.
    pub fn n_bytes(&self) -> usize {
        fn values<T: Clone>(v: &Values<T>) -> usize {
            v.values.len() * size_of::<T>() + v.missing.n_bytes()
        }
        fn dictionary(d: &Dictionary) -> usize {
            // A text is kept once, with two counts, and pointed to by the list and the map.
            d.texts.chunks().flatten().map(|t| t.len() + 16 + 16 + 24).sum()
        }
        match self {
            Column::Text(t) => t.codes.n_bytes() + dictionary(&t.dictionary),
            Column::Integer(v) | Column::Date(v) | Column::Timestamp(v) => {
                v.values.n_bytes() + v.missing.n_bytes()
            }
            Column::Number(v) => values(v),
            Column::Boolean(v) => values(v),
            Column::Texts(t) => t.lists.n_bytes() + dictionary(&t.dictionary),
            Column::Integers(l) => l.n_bytes(),
            Column::Stored(missing) => missing.n_bytes(),
        }
    }
}

/// A named place for vectors.
#[derive(Clone, Debug)]
pub struct VectorColumn {
    pub name: String,
    pub metric: Metric,
    pub vectors: Vectors,
}

/// Which record each row number means. Two tables with equal numberings agree on every row that both have.
#[derive(Clone, Debug)]
pub struct Numbering(Arc<()>);

impl PartialEq for Numbering {
    fn eq(&self, other: &Numbering) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }
}

/// The rows of keys, shared by all snapshots of a table.
#[derive(Debug, Default)]
struct Rows {
    /// The newest row of each key.
    newest: HashMap<Arc<str>, u32>,
    /// For each row the one that it replaced, or [`NO_ROW`].
    before: Vec<u32>,
}

/// In the place of a row where there is none.
const NO_ROW: u32 = u32::MAX;

impl Rows {
    /// The row of a key in a snapshot of `len` rows: the newest that it knows.
    fn of(&self, key: &str, len: usize) -> Option<u32> {
        let mut row = *self.newest.get(key)?;
        while row as usize >= len {
            // Later snapshots have replaced it, perhaps several times.
            row = *self.before.get(row as usize)?;
        }
        Some(row)
    }
}

/// What tells a snapshot from all others of this process.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Snapshot(u64);

impl Snapshot {
    fn next() -> Snapshot {
        static NEXT: AtomicU64 = AtomicU64::new(0);
        Snapshot(NEXT.fetch_add(1, Ordering::Relaxed))
    }
}

#[derive(Clone, Debug)]
pub struct Table {
    schema: Arc<Schema>,
    snapshot: Snapshot,
    numbering: Numbering,
    revision: u64,
    keys: Chunked<Arc<str>>,
    numbers: Chunked<u64>,
    revisions: Chunked<u64>,
    alive: Bits,
    columns: Vec<Column>,
    vectors: Vec<VectorColumn>,
    rows: Arc<RwLock<Rows>>,
}

impl Table {
    /// Rows, dead ones included.
    pub fn len(&self) -> usize {
        self.keys.len()
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
        self.keys.get(row).map_or("", |k| k)
    }
    /// The record number of a row.
    pub fn number(&self, row: u32) -> u64 {
        self.numbers.get(row).copied().unwrap_or(u64::MAX)
    }
    /// The revision at which a row was written.
    pub fn row_revision(&self, row: u32) -> u64 {
        self.revisions.get(row).copied().unwrap_or(u64::MAX)
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
        let row = self.rows.read().of(key, self.len())?;
        self.alive.contains(row as usize).then_some(row)
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
            Column::Text(t) => return t.codes.between(NO_CODE, NO_CODE),
            Column::Integer(v) | Column::Date(v) | Column::Timestamp(v) => v.missing().to_set(),
            Column::Number(v) => v.missing().to_set(),
            Column::Boolean(v) => v.missing().to_set(),
            Column::Texts(t) => t.lists.missing().to_set(),
            Column::Integers(l) => l.missing().to_set(),
            Column::Stored(missing) => missing.to_set(),
        };
        set.grow(self.len());
        set
    }

    /// Bytes of everything the table holds.
    pub fn n_bytes(&self) -> usize {
        let fields = (0..self.schema().fields.len()).map(|i| self.column(i).n_bytes());
        let vectors = self.vectors().iter().map(|v| v.vectors.n_bytes());
        self.n_bytes_keys() + fields.sum::<usize>() + vectors.sum::<usize>()
    }

    /// Bytes of keys, numbers and revisions, and of what finds rows by key.
    pub fn n_bytes_keys(&self) -> usize {
        let keys: usize = self.keys.chunks().flatten().map(|k| k.len() + 16).sum();
        // Two pointers to each key, its number and revision, a slot of the map, a bit.
        keys + self.len() * (16 + 16 + 32) + self.alive.n_bytes()
    }
}

/// What becomes of a record's vector in one column.
#[derive(Clone, Debug, PartialEq)]
pub enum VectorChange {
    /// A prepared vector.
    Set(Vec<f32>),
    Clear,
    /// That of the row which is replaced.
    Keep,
}

impl From<Option<Vec<f32>>> for VectorChange {
    /// `None` is a record without a vector.
    fn from(vector: Option<Vec<f32>>) -> VectorChange {
        vector.map_or(VectorChange::Clear, VectorChange::Set)
    }
}

/// One record written or deleted.
#[derive(Clone, Debug)]
pub struct Change {
    /// The record's number: given once, never reused.
    pub number: u64,
    pub key: String,
    pub revision: u64,
    /// `None` when the record was deleted.
    pub body: Option<Map<String, Value>>,
    /// One for each vector column, in order; none for a deletion.
    pub vectors: Vec<VectorChange>,
}

/// Applies changes. There is one for each collection.
pub struct Writer {
    table: Table,
}

impl Writer {
    pub fn new(schema: Schema, columns: impl IntoIterator<Item = (String, Metric, usize)>) -> Writer {
        let vectors = columns
            .into_iter()
            .map(|(name, metric, dimensions)| VectorColumn {
                name,
                metric,
                vectors: Vectors::new(dimensions),
            })
            .collect();
        let columns = schema.fields.iter().map(Column::new).collect();
        Writer {
            table: Table {
                schema: Arc::new(schema),
                snapshot: Snapshot::next(),
                numbering: Numbering(Arc::default()),
                revision: 0,
                keys: Chunked::default(),
                numbers: Chunked::default(),
                revisions: Chunked::default(),
                alive: Bits::default(),
                columns,
                vectors,
                rows: Arc::default(),
            },
        }
    }

    pub fn snapshot(&self) -> Table {
        Table { snapshot: Snapshot::next(), ..self.table.clone() }
    }

    pub fn revision(&self) -> u64 {
        self.table.revision
    }

    /// Applies changes and moves to `revision`. Changes of one call may come in any order but name
    /// each key once; a change that is not newer than the row it would replace is passed over.
    pub fn apply(&mut self, revision: u64, changes: &[Change]) {
        let t = &mut self.table;
        let mut fresh: Vec<(&Change, u32)> = Vec::with_capacity(changes.len());
        let mut known: Vec<(Arc<str>, u32)> = Vec::with_capacity(changes.len());
        for change in changes {
            let old = t.rows.read().of(&change.key, t.keys.len());
            let living = old.filter(|row| t.alive.contains(*row as usize)).unwrap_or(NO_ROW);
            if let Some(row) = old {
                if t.revisions.get(row).is_some_and(|r| *r >= change.revision) {
                    continue;
                }
                t.alive.set(row as usize, false);
            }
            let Some(body) = &change.body else { continue };
            // The text of a key is kept once, whatever became of its earlier rows.
            let key =
                old.and_then(|row| t.keys.get(row).cloned()).unwrap_or_else(|| change.key.as_str().into());
            t.keys.push(key.clone());
            t.numbers.push(change.number);
            t.revisions.push(change.revision);
            for (column, field) in t.columns.iter_mut().zip(&t.schema.fields) {
                column.push(field.kind, field.of(body));
            }
            t.alive.push(true);
            known.push((key, old.unwrap_or(NO_ROW)));
            fresh.push((change, living));
        }
        for (c, column) in t.vectors.iter_mut().enumerate() {
            for (change, old) in &fresh {
                match &change.vectors[c] {
                    VectorChange::Set(vector) => column.vectors.push(Some(vector)),
                    VectorChange::Keep if column.vectors.present().contains(*old as usize) => {
                        let kept = column.vectors.row(*old).to_vec();
                        column.vectors.push(Some(&kept));
                    }
                    VectorChange::Keep | VectorChange::Clear => column.vectors.push(None),
                }
            }
        }
        // Readers wait for this alone. Rows that no snapshot has yet are no answer to any of them.
        let mut rows = t.rows.write();
        for (key, old) in known {
            let row = rows.before.len() as u32;
            rows.before.push(old);
            rows.newest.insert(key, row);
        }
        drop(rows);
        t.revision = t.revision.max(revision);
    }

    /// The same rows under another schema and other vector columns, nothing of them copied that need
    /// not be. `columns` name where each vector column's vectors come from; those that come from nowhere
    /// are empty. `None` when a field changed so that its values must be read from the bodies again.
    pub fn reshaped(
        &self,
        schema: Schema,
        columns: &[(String, Metric, usize, Option<usize>)],
    ) -> Option<Writer> {
        let old = &self.table;
        let mut fields = Vec::with_capacity(schema.fields.len());
        for field in &schema.fields {
            let before = old.schema.position(&field.name);
            fields.push(match before {
                Some(at) => old.columns[at].widened(&old.schema.fields[at], field)?,
                None => {
                    let mut column = Column::new(field);
                    (0..old.len()).for_each(|_| column.push(field.kind, None));
                    column
                }
            });
        }
        let vectors = columns.iter().map(|(name, metric, dimensions, from)| {
            let vectors = match from {
                Some(at) => old.vectors[*at].vectors.clone(),
                None => Vectors::absent(*dimensions, old.len()),
            };
            VectorColumn { name: name.clone(), metric: *metric, vectors }
        });
        let vectors = vectors.collect();
        let table = Table { schema: Arc::new(schema), columns: fields, vectors, ..old.clone() };
        Some(Writer { table })
    }

    /// Gives living rows a vector in one column, in place: the records are otherwise as they were.
    /// Records that are gone are passed over.
    pub fn set_vectors<'a>(
        &mut self,
        revision: u64,
        column: usize,
        set: impl IntoIterator<Item = (u32, &'a [f32])>,
    ) {
        let t = &mut self.table;
        for (row, vector) in set {
            if t.alive.contains(row as usize) {
                t.vectors[column].vectors.set(row, vector);
            }
        }
        t.revision = t.revision.max(revision);
    }
}
