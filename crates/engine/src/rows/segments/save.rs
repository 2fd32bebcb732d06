//! Writing what is new of a table out as a segment, beside searches and writes.

use crate::rows::documents;
use crate::rows::segments::folder::SegmentFolder;
use crate::rows::segments::segment::Segment;
use crate::rows::segments::write::Contents;
use crate::rows::table::{Piece, Table};
use crate::rows::writer::{Unsaved, Writer};
use crate::tensors::FileError;
use std::sync::Arc;

/// Rows have been numbered anew since the work began, so that its result does not fit them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stale;

/// What is being saved.
pub struct Saving {
    table: Table,
    unsaved: Unsaved,
}

impl Saving {
    /// The revision up to which everything is in segments then.
    pub fn revision(&self) -> u64 {
        self.table.revision
    }
}

impl SegmentFolder {
    /// Writes a segment, and the list that has it.
    pub fn save(&self, saving: &Saving) -> Result<Arc<Segment>, FileError> {
        let Saving { table, unsaved } = saving;
        let rows: Vec<u32> = (unsaved.from as u32..table.len() as u32).collect();
        let edits: Vec<u32> = unsaved.edited.iter().copied().collect();
        let deleted: Vec<u64> = unsaved.deleted.iter().copied().collect();
        let contents = Contents {
            table,
            owner: &self.owner,
            rows: &rows,
            edits: &edits,
            filled: &unsaved.filled,
            deleted: &deleted,
        };
        let segment = Arc::new(contents.write(&self.next_file()?)?);
        let all: Vec<Arc<Segment>> = table.segments().cloned().chain([segment.clone()]).collect();
        self.list(table.revision(), &all)?;
        Ok(segment)
    }
}

impl Writer {
    /// Whether anything is in no segment yet.
    pub fn is_unsaved(&self) -> bool {
        let u = &self.unsaved;
        u.from < self.table.len() || !u.edited.is_empty() || !u.deleted.is_empty()
    }

    /// Bytes on the heap that a segment would take over, about.
    pub fn n_bytes_unsaved(&self) -> usize {
        let rows = self.table.len() - self.unsaved.from;
        let vectors: usize = self
            .table
            .vectors
            .iter()
            .map(|c| c.vectors.dimensions() * 4 + c.given.as_ref().map_or(0, |g| g.steps.width()))
            .sum();
        rows * vectors + self.table.documents.n_bytes()
    }

    /// Begins to save what is in no segment yet.
    pub fn begin_save(&mut self) -> Saving {
        let table = self.snapshot();
        self.table.documents.seal();
        let next = Unsaved { from: table.len(), ..Unsaved::default() };
        Saving { table, unsaved: std::mem::replace(&mut self.unsaved, next) }
    }

    /// What was being saved is in no segment after all.
    pub fn not_saved(&mut self, saving: Saving) {
        if saving.table.numbering != self.table.numbering {
            return;
        }
        let Unsaved { from, edited, filled, deleted, is_moved } = saving.unsaved;
        let later = std::mem::take(&mut self.unsaved);
        let alive = |row: &u32| self.table.alive.contains(*row as usize);
        let before = |row: &u32| (*row as usize) < from;
        self.unsaved = Unsaved {
            from,
            edited: edited.into_iter().filter(alive).chain(later.edited.into_iter().filter(before)).collect(),
            filled: filled.into_iter().filter(alive).chain(later.filled.into_iter().filter(before)).collect(),
            deleted: deleted.into_iter().chain(later.deleted).collect(),
            is_moved: is_moved || later.is_moved,
        };
    }

    /// Takes over a segment that was saved: what it holds leaves the heap, but for what has changed since.
    pub fn saved(&mut self, saving: &Saving, segment: Arc<Segment>) -> Result<(), Stale> {
        let then = &saving.table;
        if then.numbering != self.table.numbering {
            return Err(Stale);
        }
        let (from, to) = (saving.unsaved.from, then.len());
        let t = &mut self.table;
        let slot = t.documents.add_file(segment.clone());
        let edits = saving.unsaved.edited.iter().copied();
        for (at, row) in (from as u32..to as u32).chain(edits).enumerate() {
            if t.places.get(row) == then.places.get(row) {
                t.places.set(row, documents::place(slot, at));
            }
        }
        t.places.repack(from..to);
        for column in &mut t.vectors {
            let Some(before) = then.vectors.iter().find(|c| c.id == column.id) else { continue };
            let name = |kind: &str| format!("{kind}.{}", column.id);
            if let Some(start) = segment.tensor_start::<f32>(&name("vectors")) {
                column.vectors.rows.map_rows(&before.vectors.rows, from, segment.map(), start, to - from);
            }
            let start = segment.tensor_start::<u8>(&name("given"));
            if let (Some(given), Some(before), Some(start)) = (&mut column.given, &before.given, start) {
                given.steps.map_rows(&before.steps, from, segment.map(), start, to - from);
            }
        }
        let rows = from as u32..to as u32;
        Arc::make_mut(&mut t.pieces).push(Piece { slot, rows });
        t.documents.free_held();
        Ok(())
    }
}
