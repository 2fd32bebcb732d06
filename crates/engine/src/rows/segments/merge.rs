//! Merging segments: small ones become larger ones, and what was replaced or deleted is given back.

use crate::rows::bits::Bits;
use crate::rows::chunked::Chunked;
use crate::rows::columns::Column;
use crate::rows::documents;
use crate::rows::field_data::FieldData;
use crate::rows::matrix::Matrix;
use crate::rows::segments::folder::SegmentFolder;
use crate::rows::segments::save::Stale;
use crate::rows::segments::segment::Segment;
use crate::rows::segments::write::Contents;
use crate::rows::table::{Numbering, Piece, Table};
use crate::rows::vectors::{VectorColumn, Vectors};
use crate::rows::writer::Writer;
use crate::schema::Field;
use crate::tensors::{FileError, Kept};
use fixedbitset::FixedBitSet;
use parking_lot::RwLock;
use std::collections::BTreeSet;
use std::ops::Range;
use std::sync::Arc;

/// Segments whose versions are wasted by more than this share are written again.
const WASTE: f64 = 0.25;
/// As many small segments in a row are merged.
const RUN: usize = 4;

/// What is being merged.
pub struct Merging {
    table: Table,
    /// Which of the table's pieces.
    pieces: Range<usize>,
    rows: Vec<u32>,
    edits: Vec<u32>,
    filled: BTreeSet<u32>,
    deleted: Vec<u64>,
    /// Every change up to this revision is in segments.
    saved: u64,
}

/// How much of a segment is alive.
struct Use {
    bytes: usize,
    wasted: f64,
}

impl Use {
    fn alive(&self) -> f64 {
        self.bytes as f64 * (1.0 - self.wasted)
    }
}

impl Table {
    fn use_of(&self, piece: &Piece) -> Use {
        let Some(segment) = self.documents.file(piece.slot) else { return Use { bytes: 0, wasted: 0.0 } };
        let alive = piece.rows.clone().filter(|r| self.alive.contains(*r as usize)).count();
        let n = segment.n_versions() + segment.deleted.len();
        let wasted = 1.0 - alive as f64 / n.max(1) as f64;
        Use { bytes: segment.n_bytes(), wasted }
    }

    /// Which pieces are worth merging, where a segment may have `limit` bytes.
    fn worth_merging(&self, limit: usize) -> Option<Range<usize>> {
        let uses: Vec<Use> = self.pieces.iter().map(|p| self.use_of(p)).collect();
        let limit = limit as f64;
        let worst = uses.iter().enumerate().max_by(|a, b| a.1.wasted.total_cmp(&b.1.wasted))?;
        if worst.1.wasted > WASTE {
            // Neighbours come along while they fit, where they are small or wasted too.
            let comes = |u: &Use, sum: f64| {
                sum + u.alive() <= limit && (u.wasted > WASTE / 2.0 || u.alive() < limit / 4.0)
            };
            let (mut from, mut to, mut sum) = (worst.0, worst.0 + 1, worst.1.alive());
            while from > 0 && comes(&uses[from - 1], sum) {
                from -= 1;
                sum += uses[from].alive();
            }
            while to < uses.len() && comes(&uses[to], sum) {
                sum += uses[to].alive();
                to += 1;
            }
            return Some(from..to);
        }
        let (mut from, mut sum) = (uses.len(), 0.0);
        while from > 0 {
            let next = uses[from - 1].alive();
            if sum + next > limit || (sum > 0.0 && next > 2.0 * sum) {
                break;
            }
            sum += next;
            from -= 1;
        }
        (uses.len() - from >= RUN).then_some(from..uses.len())
    }

    /// Numbers that occur in rows of some pieces, dead or alive.
    fn numbers_in(&self, rows: Range<u32>, alive: bool) -> FixedBitSet {
        let mut set = FixedBitSet::new();
        for row in rows.filter(|r| !alive || self.alive.contains(*r as usize)) {
            set.grow_and_insert(self.number(row) as usize);
        }
        set
    }
}

impl SegmentFolder {
    /// Writes the merged segment, and the list that has it in the place of those it was made of. Their files go when
    /// nobody reads them any more.
    pub fn merge(&self, merging: &Merging) -> Result<Arc<Segment>, FileError> {
        let Merging { table, rows, edits, filled, deleted, .. } = merging;
        let contents = Contents { table, owner: &self.owner, rows, edits, filled, deleted };
        let segment = Arc::new(contents.write(&self.next_file()?)?);
        let mut all: Vec<Arc<Segment>> = table.segments().cloned().collect();
        all.splice(merging.pieces.clone(), [segment.clone()]);
        self.list(merging.saved, &all)?;
        Ok(segment)
    }
}

impl Writer {
    /// Chooses segments to merge, each of which may have `limit` bytes then; `None` when none are worth it.
    /// `saved` is the revision up to which everything is in segments.
    pub fn begin_merge(&self, limit: usize, saved: u64) -> Option<Merging> {
        if self.unsaved.is_moved {
            return None;
        }
        let table = self.snapshot();
        let pieces = table.worth_merging(limit)?;
        let merged = &table.pieces[pieces.clone()];
        let (start, end) = (merged[0].rows.start, merged[merged.len() - 1].rows.end);
        let segments: Vec<&Segment> =
            merged.iter().filter_map(|p| table.documents.file(p.slot)).map(|s| &**s).collect();
        let rows: Vec<u32> = (start..end).filter(|r| table.alive.contains(*r as usize)).collect();
        // Rows of older segments that these have newer fields or vectors of.
        let mut filled_numbers = FixedBitSet::new();
        for segment in &segments {
            let filled = segment.filled().into_iter();
            filled.for_each(|(_, number, _)| filled_numbers.grow_and_insert(number as usize));
        }
        let is_filled = |row: &u32| filled_numbers.contains(table.number(*row) as usize);
        let slots: Vec<usize> = merged.iter().map(|p| p.slot).collect();
        let has_place = |row: &u32| {
            table.places.get(*row).is_some_and(|place| slots.contains(&documents::slot_of(place)))
        };
        let has_edits = segments.iter().any(|s| s.n_versions() > s.n_rows);
        let older = (0..start).filter(|r| has_edits && table.alive.contains(*r as usize));
        let edits: Vec<u32> = older.filter(|r| has_place(r) || is_filled(r)).collect();
        let filled = edits.iter().copied().filter(is_filled).collect();
        // Rows that go were newer than those of older segments, which must not come back.
        let (before, kept) = (table.numbers_in(0..start, false), table.numbers_in(start..end, true));
        let gone = (start..end).filter(|r| !table.alive.contains(*r as usize)).map(|r| table.number(r));
        let gone = gone.chain(segments.iter().flat_map(|s| s.deleted.iter().copied()));
        let deleted: BTreeSet<u64> =
            gone.filter(|n| before.contains(*n as usize) && !kept.contains(*n as usize)).collect();
        let deleted = deleted.into_iter().collect();
        Some(Merging { pieces, rows, edits, filled, deleted, saved, table })
    }

    /// Forgets texts that no row has any more, where they are many. Returns whether there were.
    pub fn forget_texts(&mut self) -> bool {
        let t = &mut self.table;
        let n = t.len();
        let mut any = false;
        for (column, field) in t.columns.iter_mut().zip(&t.schema.fields) {
            if column.n_unused_texts(n) > n / 4 + 1000 {
                *column = gathered_field(column, field, &(0..n as u32).collect::<Vec<_>>());
                any = true;
            }
        }
        any
    }

    /// Takes over a merged segment. Returns, for each row as it is numbered now, the number that it had before;
    /// `None` when all rows have the numbers they had.
    pub fn merged(&mut self, merging: &Merging, segment: Arc<Segment>) -> Result<Option<Vec<u32>>, Stale> {
        let then = &merging.table;
        if then.numbering != self.table.numbering {
            return Err(Stale);
        }
        let t = &mut self.table;
        let merged = &then.pieces[merging.pieces.clone()];
        let (start, end) = (merged[0].rows.start, merged[merged.len() - 1].rows.end);
        let n_gone = (end - start) as usize - merging.rows.len();
        let from_before: Vec<u32> =
            (0..start).chain(merging.rows.iter().copied()).chain(end..t.len() as u32).collect();
        let slot = t.documents.add_file(segment.clone());
        for (at, row) in merging.rows.iter().chain(&merging.edits).enumerate() {
            if t.places.get(*row) == then.places.get(*row) {
                t.places.set(*row, documents::place(slot, at));
            }
        }
        // The pieces: those before, the merged one, those after, moved.
        let mut pieces: Vec<Piece> = t.pieces[..merging.pieces.start].to_vec();
        pieces.push(Piece { slot, rows: start..end - n_gone as u32 });
        let moved = |r: &Range<u32>| r.start - n_gone as u32..r.end - n_gone as u32;
        let after = t.pieces[merging.pieces.end..].iter();
        pieces.extend(after.map(|p| Piece { slot: p.slot, rows: moved(&p.rows) }));
        for column in &mut t.vectors {
            *column = gathered_vectors(column, &t.documents, &pieces, merging.pieces.start, &from_before);
        }
        merged.iter().for_each(|p| t.documents.free(p.slot));
        t.pieces = Arc::new(pieces);
        if n_gone == 0 {
            t.places.repack(start as usize..end as usize);
            return Ok(None);
        }
        t.numbers = t.numbers.gathered(&from_before);
        t.revisions = t.revisions.gathered(&from_before);
        t.places = t.places.gathered(&from_before);
        t.alive = gathered_bits(&t.alive, &from_before);
        for (column, field) in t.columns.iter_mut().zip(&t.schema.fields) {
            *column = gathered_field(column, field, &from_before);
        }
        let keys = t.keys.read().gathered(&from_before);
        t.keys = Arc::new(RwLock::new(keys));
        t.numbering = Numbering::default();
        let now = |row: &u32| if *row < start { Some(*row) } else { merging.now(*row, start, end) };
        self.unsaved.edited = self.unsaved.edited.iter().filter_map(now).collect();
        self.unsaved.filled = self.unsaved.filled.iter().filter_map(now).collect();
        self.unsaved.from -= n_gone;
        Ok(Some(from_before))
    }
}

impl Merging {
    /// The number that a row from the merged segments on has afterwards.
    fn now(&self, row: u32, start: u32, end: u32) -> Option<u32> {
        if row < end {
            return self.rows.binary_search(&row).ok().map(|at| start + at as u32);
        }
        Some(row - (end - start - self.rows.len() as u32))
    }
}

fn gathered_field(column: &Column, field: &Field, rows: &[u32]) -> Column {
    let mut next = Column::new(field);
    FieldData::of(column, rows).put(&mut next, (0..rows.len()).map(|at| (at, at as u32)));
    next
}

fn gathered_bits(bits: &Bits, rows: &[u32]) -> Bits {
    rows.iter().map(|row| bits.contains(*row as usize)).collect()
}

/// The vectors of a column after rows have gone. Those in files stay there.
fn gathered_vectors(
    column: &VectorColumn,
    documents: &documents::Documents,
    pieces: &[Piece],
    first: usize,
    from_before: &[u32],
) -> VectorColumn {
    let pieces = (pieces, first);
    let vectors = Vectors {
        rows: gathered_rows(("vectors", column.id), &column.vectors.rows, documents, pieces, from_before),
        present: gathered_bits(&column.vectors.present, from_before),
    };
    let mut prints = Chunked::default();
    from_before.iter().for_each(|row| prints.push(column.prints.get(*row).copied().unwrap_or(0)));
    let given = column.given.as_ref().map(|given| {
        let steps = gathered_rows(("given", column.id), &given.steps, documents, pieces, from_before);
        given.gathered(steps, from_before)
    });
    VectorColumn { vectors, given, prints, ..column.clone() }
}

/// What a column has of each row, of which the files have some in a tensor of this kind.
fn gathered_rows<T: Kept + PartialEq>(
    (kind, id): (&str, i64),
    old: &Matrix<T>,
    documents: &documents::Documents,
    (pieces, first): (&[Piece], usize),
    from_before: &[u32],
) -> Matrix<T> {
    let tensor = format!("{kind}.{id}");
    let mut next = old.until(pieces[first].rows.start as usize);
    for piece in &pieces[first..] {
        let segment = documents.file(piece.slot);
        let start = segment.and_then(|s| s.tensor_start::<T>(&tensor));
        let n = piece.rows.len();
        match (segment, start) {
            (Some(segment), Some(start)) => next.extend_mapped(segment.map(), start, n),
            _ => next.extend_zeros(n),
        }
        // Rows may have been given vectors since the file was written.
        for row in piece.rows.clone() {
            let before = from_before[row as usize];
            if !old.is_mapped(before) && old.row(before) != next.row(row) {
                next.set(row, old.row(before));
            }
        }
    }
    from_before[next.len()..].iter().for_each(|row| next.push(old.row(*row)));
    next
}
