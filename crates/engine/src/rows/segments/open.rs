//! Opening a collection's segments: a table as it was when the last of them was saved.

use crate::rows::documents::{self, LastBlock};
use crate::rows::field_data::FieldData;
use crate::rows::keys::Keys;
use crate::rows::segments::folder::{Found, SegmentFolder};
use crate::rows::segments::segment::Segment;
use crate::rows::table::Piece;
use crate::rows::vectors::VectorColumn;
use crate::rows::writer::{NewColumn, Unsaved, Writer};
use crate::schema::{Field, Schema};
use crate::tensors::{FileError, damaged};
use fixedbitset::FixedBitSet;
use parking_lot::RwLock;
use std::collections::HashMap;
use std::sync::Arc;

/// A version in one of the segments.
#[derive(Clone, Copy)]
struct At {
    segment: usize,
    version: usize,
}

/// Which versions count.
#[derive(Default)]
struct Current {
    /// By segment, then row.
    alive: Vec<Vec<bool>>,
    /// For rows, as segment and row, what newer segments say of them.
    edits: Vec<(At, At)>,
    /// Vectors that rows were given later: the row, the segment that has them, the column, which of the edits.
    fills: Vec<(At, usize, i64, usize)>,
}

impl Current {
    /// Looks from the newest segment to the oldest: what is said of a record first is how it is.
    fn of(segments: &[Arc<Segment>]) -> Current {
        let mut current = Current { alive: vec![Vec::new(); segments.len()], ..Current::default() };
        let mut settled = FixedBitSet::new();
        let mut edits: HashMap<u64, At> = HashMap::new();
        let mut fills: HashMap<u64, Vec<(usize, i64, usize)>> = HashMap::new();
        for (s, segment) in segments.iter().enumerate().rev() {
            let is_newer = |other: usize| segments[other].about.as_of > segment.about.as_of;
            let mut alive = vec![false; segment.n_rows];
            for row in (0..segment.n_rows).rev() {
                let number = segment.numbers[row];
                settled.grow((number as usize).saturating_add(1));
                if settled.put(number as usize) || segment.alive[row] == 0 {
                    continue;
                }
                alive[row] = true;
                let here = At { segment: s, version: row };
                if let Some(edit) = edits.get(&number).filter(|e| is_newer(e.segment)) {
                    current.edits.push((here, *edit));
                }
                let given = fills.get(&number).into_iter().flatten().filter(|f| is_newer(f.0));
                current.fills.extend(given.map(|(from, column, at)| (here, *from, *column, *at)));
            }
            current.alive[s] = alive;
            for number in segment.deleted.iter() {
                settled.grow_and_insert(*number as usize);
            }
            for version in segment.n_rows..segment.n_versions() {
                edits.entry(segment.numbers[version]).or_insert(At { segment: s, version });
            }
            for (at, number, column) in segment.filled() {
                let known = fills.entry(number).or_default();
                if !known.iter().any(|(_, c, _)| *c == column) {
                    known.push((s, column, at));
                }
            }
        }
        current
    }
}

impl SegmentFolder {
    /// The table that the segments hold, under fields and columns as they are now; `None` when there are no segments.
    /// Vectors and bodies are checked when they are read, or by [`Segment::verify`].
    pub fn open(&self, schema: Schema, columns: &[NewColumn]) -> Result<Option<Writer>, FileError> {
        let Some(Found { revision, segments }) = self.find()? else { return Ok(None) };
        let current = Current::of(&segments);
        let mut writer = Writer::empty(schema, columns);
        writer.table.revision = revision;
        // Two things of about the same size that know nothing of each other.
        let (pieces, keys) = std::thread::scope(|scope| {
            let keys = scope.spawn(|| keys_of(&segments));
            let each = segments.iter().zip(&current.alive);
            let pieces =
                each.map(|(segment, alive)| writer.append(segment, alive)).collect::<Result<Vec<_>, _>>();
            (pieces, keys.join().expect("nothing in it panics"))
        });
        let pieces = pieces?;
        writer.table.keys = Arc::new(RwLock::new(keys));
        let row_of = |at: At| pieces[at.segment].rows.start + at.version as u32;
        for (s, segment) in segments.iter().enumerate() {
            let edits = current.edits.iter().filter(|(_, edit)| edit.segment == s);
            let edits: Vec<(usize, u32)> = edits.map(|(row, edit)| (edit.version, row_of(*row))).collect();
            let slot = pieces[s].slot;
            for &(version, row) in &edits {
                writer.table.places.set(row, documents::place(slot, version));
                writer.table.revisions.set(row, segment.revisions[version] as i64);
            }
            if !edits.is_empty() {
                writer.put_versions((segment, slot), &edits)?;
            }
            for c in 0..writer.table.vectors.len() {
                let id = writer.table.vectors[c].id;
                let Some(about) = segment.about.columns.iter().find(|about| about.id == id) else { continue };
                let mine = current.fills.iter().filter(|(_, from, column, _)| (*from, *column) == (s, id));
                let rows: HashMap<usize, u32> = mine.map(|(row, _, _, at)| (*at, row_of(*row))).collect();
                if rows.is_empty() {
                    continue;
                }
                let column = &mut writer.table.vectors[c];
                for (at, vector) in segment.filled_vectors(about, column.metric)? {
                    if let Some(row) = rows.get(&at) {
                        column.set(*row, &vector);
                    }
                }
            }
        }
        writer.table.pieces = Arc::new(pieces);
        writer.unsaved = Unsaved { from: writer.table.len(), ..Unsaved::default() };
        Ok(Some(writer))
    }
}

/// The keys of all rows, in their order.
fn keys_of(segments: &[Arc<Segment>]) -> Keys {
    let mut keys = Keys::default();
    keys.reserve(segments.iter().map(|segment| segment.n_rows).sum());
    for segment in segments {
        (0..segment.n_rows).for_each(|at| keys.push(keys.hash(segment.key(at))));
    }
    keys
}

impl Writer {
    /// Appends the rows of a segment, but for their keys.
    fn append(&mut self, segment: &Arc<Segment>, alive: &[bool]) -> Result<Piece, FileError> {
        let n = segment.n_rows;
        let from = self.table.len() as u32;
        let rows: Vec<(usize, u32)> = (0..n).map(|at| (at, from + at as u32)).collect();
        let slot = self.table.documents.add_file(segment.clone());
        self.put_versions((segment, slot), &rows)?;
        let t = &mut self.table;
        for (at, is_alive) in alive.iter().enumerate() {
            t.numbers.push(segment.numbers[at] as i64);
            t.revisions.push(segment.revisions[at] as i64);
            t.places.push(documents::place(slot, at));
            t.alive.push(*is_alive);
        }
        for column in &mut t.vectors {
            append_vectors(column, segment)?;
        }
        Ok(Piece { slot, rows: from..from + n as u32 })
    }

    /// Gives rows the fields that some versions of a segment have, which the documents have in a slot.
    fn put_versions(
        &mut self,
        (segment, slot): (&Segment, usize),
        rows: &[(usize, u32)],
    ) -> Result<(), FileError> {
        let schema = self.table.schema.clone();
        let then = Schema::from_json(&segment.about.fields)
            .map_err(|e| damaged(format!("the fields of a segment: {}", e.message)))?;
        let like = |a: &Field, b: &Field| a.kind == b.kind && a.stored_only == b.stored_only;
        let mut from_bodies = Vec::new();
        for (i, field) in schema.fields.iter().enumerate() {
            let place = segment.about.names.iter().position(|name| *name == field.name);
            let same = place.filter(|_| then.fields.iter().any(|f| f.name == field.name && like(f, field)));
            let column = &mut self.table.columns[i];
            let is_put = match (same, place) {
                (Some(at), _) => {
                    FieldData::read(&segment.file, &format!("field.{at}"), segment.n_versions())?
                        .put(column, rows.iter().copied())
                }
                // Bodies have it only where there was a field to check it against.
                (None, None) => {
                    rows.iter().for_each(|(_, row)| column.put(*row, field.kind, None));
                    true
                }
                (None, Some(_)) => false,
            };
            if !is_put {
                from_bodies.push(i);
            }
        }
        if from_bodies.is_empty() {
            return Ok(());
        }
        let mut last = LastBlock::default();
        for &(version, row) in rows {
            let body = self.table.documents.body_fields(documents::place(slot, version), &mut last)?;
            for &i in &from_bodies {
                let field = &schema.fields[i];
                self.table.columns[i].put(row, field.kind, field.of(&body));
            }
        }
        Ok(())
    }
}

/// Appends the vectors of a segment's rows to a column.
fn append_vectors(column: &mut VectorColumn, segment: &Segment) -> Result<(), FileError> {
    let (n, id, d) = (segment.n_rows, column.id, column.vectors.dimensions());
    let about = segment.about.columns.iter().find(|about| about.id == id);
    if about.is_some_and(|a| a.dimensions != d || a.metric != column.metric.to_string()) {
        return Err(damaged(format!("column {id} has another shape")));
    }
    let name = |kind: &str| format!("{kind}.{id}");
    let Some(about) = about.filter(|_| segment.file.has(&name("vectors"))) else {
        column.vectors.rows.extend_zeros(n);
        if let Some(given) = &mut column.given {
            given.steps.extend_zeros(n);
        }
        for _ in 0..n {
            column.vectors.present.push(false);
            column.prints.push(0);
        }
        return Ok(());
    };
    let from = column.vectors.len() as u32;
    let (vectors, _) = segment.file.range::<f32>(&name("vectors"), &[Some(n), Some(d)])?;
    let prints = segment.file.of::<u32>(&name("prints"), &[n])?;
    let present = segment.file.of::<u8>(&name("present"), &[n])?;
    column.vectors.rows.extend_mapped(segment.map(), vectors.start, n);
    if let Some(given) = &mut column.given {
        let shape = [Some(n), Some(given.steps.width())];
        let (steps, _) = segment.file.range::<u8>(&name("given"), &shape)?;
        given.steps.extend_mapped(segment.map(), steps.start, n);
        let whole = segment.whole("whole", about, n)?;
        given.put_whole(whole.into_iter().map(|(at, vector)| (from + at, vector)));
    }
    for row in 0..n {
        column.vectors.present.push(present[row] != 0);
        column.prints.push(prints[row]);
    }
    Ok(())
}
