//! Applies changes to a table, and hands out snapshots of it.

use crate::Metric;
use crate::rows::columns::Column;
use crate::rows::documents::{Documents, LastBlock};
use crate::rows::field_data::FieldData;
use crate::rows::table::{Numbering, Snapshot, Table};
use crate::rows::vectors::{Prepared, VectorColumn};
use crate::schema::{Field, Schema};
use crate::tensors::FileError;
use serde_json::{Map, Value};
use std::borrow::Cow;
use std::collections::BTreeSet;
use std::sync::Arc;

/// What becomes of a record's vector in one column.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum VectorChange<V = Vec<f32>> {
    /// A vector as it was given.
    Set(V),
    Clear,
    /// That which the record has.
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

/// What is asked of a record that was written or deleted, whoever has its parts.
pub trait Changed {
    /// The record's number: given once, never reused.
    fn number(&self) -> u64;
    fn key(&self) -> &str;
    fn revision(&self) -> u64;
    /// The fields, and the same as compact JSON; `None` when the record was deleted.
    fn body(&self) -> Option<(&Map<String, Value>, Cow<'_, str>)>;
    /// What becomes of its vector in a column, unless it was deleted.
    fn vector(&self, column: usize) -> VectorChange<&[f32]>;
}

impl Changed for Change {
    fn number(&self) -> u64 {
        self.number
    }
    fn key(&self) -> &str {
        &self.key
    }
    fn revision(&self) -> u64 {
        self.revision
    }
    fn body(&self) -> Option<(&Map<String, Value>, Cow<'_, str>)> {
        let body = self.body.as_ref()?;
        Some((body, serde_json::to_string(body).expect("JSON can be written").into()))
    }
    fn vector(&self, column: usize) -> VectorChange<&[f32]> {
        match &self.vectors[column] {
            VectorChange::Set(v) => VectorChange::Set(v),
            VectorChange::Clear => VectorChange::Clear,
            VectorChange::Keep => VectorChange::Keep,
        }
    }
}

/// A vector column to be.
#[derive(Clone, Debug)]
pub struct NewColumn {
    /// What tells it from a column of the same name that was there before.
    pub id: i64,
    pub name: String,
    pub metric: Metric,
    pub dimensions: usize,
}

/// What no segment has yet.
#[derive(Clone, Debug, Default)]
pub(super) struct Unsaved {
    /// Rows from here on.
    pub from: usize,
    /// Rows before it whose fields or vectors have changed.
    pub edited: BTreeSet<u32>,
    /// Those of them that were given vectors.
    pub filled: BTreeSet<u32>,
    /// Numbers of records that were in rows before it and are deleted.
    pub deleted: BTreeSet<u64>,
    /// Whether a record has moved to another row without a revision of its own. Whoever starts from the segments
    /// must find it in its old row, so that is not given back before the new one is saved.
    pub is_moved: bool,
}

/// Applies changes. There is one for each collection.
pub struct Writer {
    pub(super) table: Table,
    pub(super) unsaved: Unsaved,
}

impl Writer {
    /// A writer of an empty table. Columns are told apart by their place.
    pub fn new(schema: Schema, columns: impl IntoIterator<Item = (String, Metric, usize)>) -> Writer {
        let columns = columns.into_iter().enumerate();
        let new = |(i, (name, metric, dimensions))| NewColumn { id: i as i64, name, metric, dimensions };
        Writer::empty(schema, &columns.map(new).collect::<Vec<_>>())
    }

    /// A writer of an empty table.
    pub fn empty(schema: Schema, columns: &[NewColumn]) -> Writer {
        let absent = |c: &NewColumn| VectorColumn::absent(c.id, c.name.clone(), c.metric, c.dimensions, 0);
        let table = Table {
            snapshot: Snapshot::next(),
            numbering: Numbering::default(),
            revision: 0,
            numbers: Default::default(),
            revisions: Default::default(),
            places: Default::default(),
            alive: Default::default(),
            columns: schema.fields.iter().map(Column::new).collect(),
            vectors: columns.iter().map(absent).collect(),
            documents: Documents::default(),
            keys: Arc::default(),
            pieces: Arc::default(),
            schema: Arc::new(schema),
        };
        Writer { table, unsaved: Unsaved::default() }
    }

    pub fn snapshot(&self) -> Table {
        Table { snapshot: Snapshot::next(), ..self.table.clone() }
    }

    pub fn revision(&self) -> u64 {
        self.table.revision
    }

    /// Applies changes and moves to `revision`. Changes of one call may come in any order but name
    /// each key once; a change that is not newer than the row it would replace is passed over.
    ///
    /// A record that keeps its vectors keeps its row.
    pub fn apply(&mut self, revision: u64, changes: &[impl Changed]) {
        let mut hashes = Vec::new();
        for change in changes {
            let (key, number, revision) = (change.key(), change.number(), change.revision());
            let old = self.table.row(key);
            if old.is_some_and(|row| self.table.row_revision(row) >= revision) {
                continue;
            }
            let Some((body, text)) = change.body() else {
                if let Some(row) = old {
                    self.kill(row);
                    if (row as usize) < self.unsaved.from {
                        self.unsaved.deleted.insert(number);
                    }
                }
                continue;
            };
            match old.filter(|row| self.keeps_vectors(*row, change)) {
                Some(row) => self.edit(row, (key, revision), body, &text),
                None => {
                    let columns = self.table.vectors.iter().enumerate();
                    let vectors: Vec<Option<Prepared>> = columns
                        .map(|(c, column)| match change.vector(c) {
                            VectorChange::Set(v) => {
                                Prepared::new(column.metric, v, column.vectors.dimensions())
                            }
                            VectorChange::Keep => old.and_then(|row| column.kept(row)),
                            VectorChange::Clear => None,
                        })
                        .collect();
                    if let Some(row) = old {
                        self.kill(row);
                    }
                    self.put_fields(self.table.len() as u32, body);
                    self.push_row((number, revision), (key, &text), &vectors);
                    hashes.push(self.table.keys.read().hash(key));
                }
            }
        }
        // Readers wait for this alone. Rows that no snapshot has yet are no answer to any of them.
        let mut keys = self.table.keys.write();
        hashes.into_iter().for_each(|hash| keys.push(hash));
        drop(keys);
        self.table.revision = self.table.revision.max(revision);
    }

    /// Whether a record has the vectors already that it is to have.
    fn keeps_vectors(&self, row: u32, change: &impl Changed) -> bool {
        self.table.vectors.iter().enumerate().all(|(c, column)| match change.vector(c) {
            VectorChange::Keep => true,
            VectorChange::Clear => !column.vectors.present.contains(row as usize),
            VectorChange::Set(v) => column.has(row, v),
        })
    }

    /// Appends a row, whose fields have been put already, but for its key among the keys.
    fn push_row(
        &mut self,
        (number, revision): (u64, u64),
        (key, text): (&str, &str),
        vectors: &[Option<Prepared>],
    ) {
        let t = &mut self.table;
        t.places.push(t.documents.push(key, text));
        t.numbers.push(number as i64);
        t.revisions.push(revision as i64);
        t.alive.push(true);
        for (column, vector) in t.vectors.iter_mut().zip(vectors) {
            column.push(vector.as_ref());
        }
    }

    /// Gives a row that exists, or the next one, the fields of a body.
    fn put_fields(&mut self, row: u32, body: &Map<String, Value>) {
        let t = &mut self.table;
        for (column, field) in t.columns.iter_mut().zip(&t.schema.fields) {
            column.put(row, field.kind, field.of(body));
        }
    }

    fn kill(&mut self, row: u32) {
        self.table.alive.set(row as usize, false);
        self.unsaved.edited.remove(&row);
        self.unsaved.filled.remove(&row);
    }

    /// Gives a row other fields.
    fn edit(&mut self, row: u32, (key, revision): (&str, u64), body: &Map<String, Value>, text: &str) {
        let t = &mut self.table;
        t.places.set(row, t.documents.push(key, text));
        t.revisions.set(row, revision as i64);
        self.put_fields(row, body);
        self.note_edit(row);
    }

    fn note_edit(&mut self, row: u32) {
        if (row as usize) < self.unsaved.from {
            self.unsaved.edited.insert(row);
        }
    }

    /// The same rows under another schema and other vector columns, nothing of them copied that need not be.
    /// Vector columns keep their vectors by their id; those that are new are empty. Where a field changed so that its
    /// values must be read from the bodies again, they are.
    pub fn reshaped(&self, schema: Schema, columns: &[NewColumn]) -> Result<Writer, FileError> {
        let old = &self.table;
        let (mut fields, mut from_bodies) = (Vec::with_capacity(schema.fields.len()), Vec::new());
        for (at, field) in schema.fields.iter().enumerate() {
            let before = old.schema.position(&field.name);
            let kept = before.map(|at| old.columns[at].widened(&old.schema.fields[at], field));
            fields.push(match kept {
                Some(Some(column)) => column,
                // Bodies have it only where there was a field to check it against.
                None => empty_column(field, old.len()),
                Some(None) => {
                    from_bodies.push(at);
                    empty_column(field, old.len())
                }
            });
        }
        if !from_bodies.is_empty() {
            let mut last = LastBlock::default();
            for row in old.alive.ones() {
                let body = old.body(row as u32, &mut last)?;
                for &at in &from_bodies {
                    let field = &schema.fields[at];
                    fields[at].put(row as u32, field.kind, field.of(&body));
                }
            }
        }
        let vectors = columns.iter().map(|c| match old.vectors.iter().find(|o| o.id == c.id) {
            Some(column) => VectorColumn { name: c.name.clone(), metric: c.metric, ..column.clone() },
            None => VectorColumn::absent(c.id, c.name.clone(), c.metric, c.dimensions, old.len()),
        });
        let vectors = vectors.collect();
        let table = Table { schema: Arc::new(schema), columns: fields, vectors, ..old.clone() };
        Ok(Writer { table, unsaved: self.unsaved.clone() })
    }

    /// Gives living rows a vector in one column; the records are otherwise as they were. A row that has none there
    /// stays; a record that has another one gets another row. Records that are gone are passed over.
    pub fn set_vectors<'a>(
        &mut self,
        revision: u64,
        column: usize,
        set: impl IntoIterator<Item = (u32, &'a [f32])>,
    ) {
        for (row, given) in set {
            let about = &self.table.vectors[column];
            let prepared = Prepared::new(about.metric, given, about.vectors.dimensions());
            let (Some(prepared), true) = (prepared, self.table.alive.contains(row as usize)) else {
                continue;
            };
            match about.given(row) {
                Some(_) if about.has(row, given) => {}
                Some(_) => self.move_row(row, column, prepared),
                None => {
                    self.table.vectors[column].set(row, &prepared);
                    self.note_edit(row);
                    if (row as usize) < self.unsaved.from {
                        self.unsaved.filled.insert(row);
                    }
                }
            }
        }
        self.table.revision = self.table.revision.max(revision);
    }

    /// The same record in a new row, with another vector in one column.
    fn move_row(&mut self, old: u32, column: usize, vector: Prepared) {
        let t = &mut self.table;
        let row = t.len() as u32;
        let key = t.key(old).to_owned();
        let body =
            t.body_text(old, &mut LastBlock::default()).map(|b| String::from_utf8_lossy(b).into_owned());
        // A damaged segment is made again, and the vector comes with it.
        let Ok(body) = body else { return };
        for own in &mut t.columns {
            FieldData::of(own, &[old]).put(own, [(0, row)].into_iter());
        }
        let mut vectors: Vec<Option<Prepared>> = t.vectors.iter().map(|c| c.kept(old)).collect();
        vectors[column] = Some(vector);
        self.push_row((self.table.number(old), self.table.row_revision(old)), (&key, &body), &vectors);
        let mut keys = self.table.keys.write();
        let hash = keys.hash(&key);
        keys.push(hash);
        drop(keys);
        self.kill(old);
        self.unsaved.is_moved = true;
    }
}

/// A column in which `len` rows have no value.
fn empty_column(field: &Field, len: usize) -> Column {
    let mut column = Column::new(field);
    (0..len).for_each(|row| column.put(row as u32, field.kind, None));
    column
}
