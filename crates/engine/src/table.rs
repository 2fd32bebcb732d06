//! The live rows of a collection in memory: keys, typed field columns, vectors.
//!
//! A [`Table`] is a snapshot: cheap to clone, never changed by later writes. The one [`Writer`]
//! applies changes and hands out new snapshots. Every change appends a row; a replaced or deleted
//! record's old row stays in place and is no longer alive.

use crate::Metric;
use crate::chunked::{Chunked, Vectors};
use crate::packed::{Lists, Packed};
use crate::schema::{self, Field, FieldType, FieldValue, Schema};
use fixedbitset::FixedBitSet;
use parking_lot::RwLock;
use serde_json::{Map, Value};
use std::collections::HashMap;
use std::sync::Arc;

/// Values of one type, one a row. A missing row holds a default and is in `missing`.
#[derive(Clone, Debug)]
pub struct Values<T> {
    values: Chunked<T>,
    missing: Arc<FixedBitSet>,
}

impl<T: Clone + Default> Values<T> {
    fn new() -> Self {
        Values { values: Chunked::default(), missing: Arc::default() }
    }
    fn push(&mut self, value: Option<T>) {
        let row = self.values.len();
        let missing = Arc::make_mut(&mut self.missing);
        missing.grow(row + 1);
        missing.set(row, value.is_none());
        self.values.push(value.unwrap_or_default());
    }
}

impl<T> Values<T> {
    pub fn values(&self) -> &Chunked<T> {
        &self.values
    }
    pub fn missing(&self) -> &FixedBitSet {
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
    missing: Arc<FixedBitSet>,
}

impl Integers {
    fn push(&mut self, value: Option<i64>) {
        let row = self.values.len();
        let missing = Arc::make_mut(&mut self.missing);
        missing.grow(row + 1);
        missing.set(row, value.is_none());
        self.values.push(value.unwrap_or(self.values.last()));
    }
    pub fn values(&self) -> &Packed {
        &self.values
    }
    pub fn missing(&self) -> &FixedBitSet {
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
    Stored(Arc<FixedBitSet>),
}

impl Column {
    fn new(field: &Field) -> Column {
        match field.kind {
            _ if field.stored_only => Column::Stored(Arc::default()),
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

    /// Appends the value of row `row`.
    fn push(&mut self, row: usize, kind: FieldType, value: Option<&Value>) {
        if let Column::Stored(missing) = self {
            let missing = Arc::make_mut(missing);
            missing.grow(row + 1);
            missing.set(row, value.is_none_or(Value::is_null));
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
            v.values.len() * size_of::<T>() + v.missing.len() / 8
        }
        fn dictionary(d: &Dictionary) -> usize {
            // A text is kept once, with two counts, and pointed to by the list and the map.
            d.texts.chunks().flatten().map(|t| t.len() + 16 + 16 + 24).sum()
        }
        match self {
            Column::Text(t) => t.codes.n_bytes() + dictionary(&t.dictionary),
            Column::Integer(v) | Column::Date(v) | Column::Timestamp(v) => {
                v.values.n_bytes() + v.missing.len() / 8
            }
            Column::Number(v) => values(v),
            Column::Boolean(v) => values(v),
            Column::Texts(t) => t.lists.n_bytes() + dictionary(&t.dictionary),
            Column::Integers(l) => l.n_bytes(),
            Column::Stored(missing) => missing.len() / 8,
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

#[derive(Clone, Debug)]
pub struct Table {
    schema: Arc<Schema>,
    revision: u64,
    keys: Chunked<Arc<str>>,
    numbers: Chunked<u64>,
    revisions: Chunked<u64>,
    alive: Arc<FixedBitSet>,
    columns: Vec<Column>,
    vectors: Vec<VectorColumn>,
    rows: Arc<RwLock<HashMap<Arc<str>, u32>>>,
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
        self.alive.count_ones(..)
    }
    /// The last revision applied.
    pub fn revision(&self) -> u64 {
        self.revision
    }
    pub fn schema(&self) -> &Schema {
        &self.schema
    }
    pub fn alive(&self) -> &FixedBitSet {
        &self.alive
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
    /// The row of a living record.
    pub fn row(&self, key: &str) -> Option<u32> {
        let row = *self.rows.read().get(key)?;
        self.alive.contains(row as usize).then_some(row)
    }
    /// The key most like a mistyped one.
    pub fn nearest_key(&self, key: &str) -> Option<String> {
        let rows = self.rows.read();
        // Long lists are sampled: this serves an error message, and must not stall a search.
        crate::names::nearest(key, rows.keys().take(20_000).map(|k| &**k)).map(Into::into)
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
            Column::Integer(v) | Column::Date(v) | Column::Timestamp(v) => v.missing().clone(),
            Column::Number(v) => v.missing().clone(),
            Column::Boolean(v) => v.missing().clone(),
            Column::Texts(t) => t.lists.missing().clone(),
            Column::Integers(l) => l.missing().clone(),
            Column::Stored(missing) => FixedBitSet::clone(missing),
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
        keys + self.len() * (16 + 16 + 28) + self.alive.len() / 8
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
    /// Prepared vectors, one for each vector column, in order.
    pub vectors: Vec<Option<Vec<f32>>>,
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
                revision: 0,
                keys: Chunked::default(),
                numbers: Chunked::default(),
                revisions: Chunked::default(),
                alive: Arc::default(),
                columns,
                vectors,
                rows: Arc::default(),
            },
        }
    }

    pub fn snapshot(&self) -> Table {
        self.table.clone()
    }

    pub fn revision(&self) -> u64 {
        self.table.revision
    }

    /// Applies changes and moves to `revision`. Changes of one call may come in any order but name
    /// each key once; a change that is not newer than the row it would replace is passed over.
    pub fn apply(&mut self, revision: u64, changes: &[Change]) {
        let t = &mut self.table;
        let alive = Arc::make_mut(&mut t.alive);
        let mut rows = t.rows.write();
        let mut fresh: Vec<&Change> = Vec::with_capacity(changes.len());
        for change in changes {
            if let Some(&row) = rows.get(change.key.as_str()) {
                if t.revisions.get(row).is_some_and(|r| *r >= change.revision) {
                    continue;
                }
                alive.set(row as usize, false);
                rows.remove(change.key.as_str());
            }
            let Some(body) = &change.body else { continue };
            let row = t.keys.len();
            let key: Arc<str> = change.key.as_str().into();
            t.keys.push(key.clone());
            t.numbers.push(change.number);
            t.revisions.push(change.revision);
            for (column, field) in t.columns.iter_mut().zip(&t.schema.fields) {
                column.push(row, field.kind, field.of(body));
            }
            alive.grow(row + 1);
            alive.insert(row);
            rows.insert(key, row as u32);
            fresh.push(change);
        }
        for (c, column) in t.vectors.iter_mut().enumerate() {
            column.vectors.extend(fresh.iter().map(|change| change.vectors[c].as_deref()));
        }
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
                    (0..old.len()).for_each(|row| column.push(row, field.kind, None));
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
