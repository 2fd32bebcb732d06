//! Writing a segment.

use crate::rows::documents::LastBlock;
use crate::rows::field_data::FieldData;
use crate::rows::matrix::Matrix;
use crate::rows::segments::segment::{AboutColumn, AboutSegment, SEGMENT_VERSION, Segment};
use crate::rows::table::Table;
use crate::rows::vectors::VectorColumn;
use crate::tensors::{FileError, Kept, Tensors, crc};
use std::collections::BTreeSet;
use std::path::Path;

/// Bytes of bodies that are packed together: few, because a hit unpacks all of them.
const BLOCK: usize = 1 << 10;
/// Bytes of bodies that all blocks are packed with: so few bodies as in a block repeat little of each other.
const DICTIONARY: usize = 4 << 10;
/// Versions from which on a dictionary is worth its bytes.
const MANY: usize = 256;

/// What a segment is to hold of a table.
pub(in crate::rows) struct Contents<'a> {
    pub table: &'a Table,
    pub owner: &'a str,
    /// Rows of their own, in order.
    pub rows: &'a [u32],
    /// Rows of older segments whose fields have changed since those were written.
    pub edits: &'a [u32],
    /// Those of them that have been given vectors since.
    pub filled: &'a BTreeSet<u32>,
    /// Numbers of records in older segments that are deleted.
    pub deleted: &'a [u64],
}

/// Bodies in packed blocks.
#[derive(Default)]
struct Blocks {
    dictionary: Vec<u8>,
    body_ends: Vec<u32>,
    firsts: Vec<u32>,
    ends: Vec<u64>,
    crcs: Vec<u32>,
    bytes: Vec<u8>,
    open: Vec<u8>,
    first: usize,
}

impl Blocks {
    fn push(&mut self, body: &[u8]) {
        if !self.open.is_empty() && self.open.len() + body.len() > BLOCK {
            self.close();
        }
        self.open.extend(body);
        self.body_ends.push(self.open.len() as u32);
    }

    fn close(&mut self) {
        if self.first == self.body_ends.len() {
            return;
        }
        let packed = lz4_flex::block::compress_with_dict(&self.open, &self.dictionary);
        self.firsts.push(self.first as u32);
        self.crcs.push(crc32fast::hash(&packed));
        self.bytes.extend(packed);
        self.ends.push(self.bytes.len() as u64);
        self.open.clear();
        self.first = self.body_ends.len();
    }
}

/// Bodies from all over the versions, as many as fit.
fn dictionary(table: &Table, versions: &[u32]) -> Result<Vec<u8>, FileError> {
    let mut bytes = Vec::new();
    if versions.len() < MANY {
        return Ok(bytes);
    }
    // Steps of the golden ratio: however few are taken, they lie far apart.
    let positions = (0..MANY).map(|i| (i as f64 * 0.618_033_988_75).fract() * versions.len() as f64);
    let mut last = LastBlock::default();
    for position in positions {
        let body = table.body_text(versions[position as usize], &mut last)?;
        let room = DICTIONARY - bytes.len();
        bytes.extend(&body[..body.len().min(room)]);
        if bytes.len() == DICTIONARY {
            break;
        }
    }
    Ok(bytes)
}

fn add_matrix<'a, T: Kept>(tensors: &mut Tensors<'a>, name: String, from: &'a Matrix<T>, rows: &[u32]) {
    let parts: Vec<&[T]> = rows.iter().map(|row| from.row(*row)).collect();
    tensors.add_parts(name, parts, &[rows.len(), from.width()]);
}

/// The vectors of some rows of a column, under names that begin in the same way.
fn add_vectors<'a>(
    tensors: &mut Tensors<'a>,
    begin: &str,
    column: &'a VectorColumn,
    (rows, whole_at): (&[u32], &'a [u32]),
) {
    let name = |kind: &str| format!("{begin}{kind}.{}", column.id);
    add_matrix(tensors, name("vectors"), &column.vectors.rows, rows);
    let Some(given) = &column.given else { return };
    add_matrix(tensors, name("given"), &given.steps, rows);
    if !whole_at.is_empty() {
        let n = whole_at.len();
        let whole: Vec<&[f32]> = whole_at.iter().map(|at| &*given.whole[&rows[*at as usize]]).collect();
        tensors.add_parts(name("whole"), whole, &[n, column.vectors.dimensions()]);
        tensors.add(name("whole_at"), whole_at, &[n]);
    }
}

/// Which of some rows have a vector that is kept whole.
fn whole_at(column: &VectorColumn, rows: &[u32]) -> Vec<u32> {
    let Some(given) = &column.given else { return Vec::new() };
    (0..).zip(rows).filter(|(_, row)| given.whole.contains_key(row)).map(|(at, _)| at).collect()
}

impl Contents<'_> {
    /// Writes the segment, atomically and durably, and opens it.
    // Long because: one line a tensor, in the order of the format.
    pub fn write(&self, path: &Path) -> Result<Segment, FileError> {
        let Contents { table, rows, .. } = *self;
        let versions: Vec<u32> = rows.iter().chain(self.edits).copied().collect();
        let n = versions.len();
        let mut tensors = Tensors::default();
        let numbers: Vec<u64> = versions.iter().map(|r| table.number(*r)).collect();
        let revisions: Vec<u64> = versions.iter().map(|r| table.row_revision(*r)).collect();
        let alive: Vec<u8> = rows.iter().map(|r| u8::from(table.alive().contains(*r as usize))).collect();
        tensors.add("numbers", &numbers, &[n]);
        tensors.add("revisions", &revisions, &[n]);
        tensors.add("alive", &alive, &[rows.len()]);
        tensors.add("deleted", self.deleted, &[self.deleted.len()]);
        let (mut keys, mut key_ends) = (Vec::<u8>::new(), Vec::with_capacity(n));
        let mut blocks = Blocks { dictionary: dictionary(table, &versions)?, ..Blocks::default() };
        let mut last = LastBlock::default();
        for &row in &versions {
            keys.extend(table.key(row).as_bytes());
            key_ends.push(keys.len() as u64);
            blocks.push(table.body_text(row, &mut last)?);
        }
        blocks.close();
        tensors.add("key_ends", &key_ends, &[n]);
        tensors.add("keys", &keys, &[keys.len()]);
        tensors.add("dictionary", &blocks.dictionary, &[blocks.dictionary.len()]);
        tensors.add("body_ends", &blocks.body_ends, &[n]);
        tensors.add("block_firsts", &blocks.firsts, &[blocks.firsts.len()]);
        tensors.add("block_ends", &blocks.ends, &[blocks.ends.len()]);
        tensors.add("block_crcs", &blocks.crcs, &[blocks.crcs.len()]);
        tensors.add("blocks", &blocks.bytes, &[blocks.bytes.len()]);
        let fields: Vec<FieldData> = (0..table.schema().fields.len())
            .map(|field| FieldData::of(table.column(field), &versions))
            .collect();
        for (i, field) in fields.iter().enumerate() {
            field.add(&mut tensors, &format!("field.{i}"));
        }
        let parts: Vec<ColumnParts> = table.vectors().iter().map(|c| ColumnParts::of(self, c)).collect();
        for (column, parts) in table.vectors().iter().zip(&parts) {
            let id = column.id;
            tensors.add(format!("present.{id}"), &parts.present, &[rows.len()]);
            if parts.present.contains(&1) {
                add_vectors(&mut tensors, "", column, (rows, &parts.whole_at));
                tensors.add(format!("prints.{id}"), &parts.prints, &[rows.len()]);
            }
            if !parts.filled.is_empty() {
                tensors.add(format!("filled.{id}"), &parts.filled_at, &[parts.filled.len()]);
                add_vectors(&mut tensors, "filled_", column, (&parts.filled, &parts.filled_whole_at));
            }
        }
        let columns = table.vectors().iter().map(|c| AboutColumn {
            id: c.id,
            dimensions: c.vectors.dimensions(),
            metric: c.metric.to_string(),
        });
        let about = AboutSegment {
            owner: self.owner.to_owned(),
            as_of: table.revision(),
            fields: table.schema().to_json(),
            names: table.schema().fields.iter().map(|f| f.name.clone()).collect(),
            columns: columns.collect(),
        };
        let about = serde_json::to_string(&about).expect("plain data");
        tensors.say("zesty_segment", SEGMENT_VERSION.to_string());
        tensors.say("about_crc32", crc(about.as_bytes()));
        tensors.say("about", about);
        // Vectors come first, on cache lines.
        let first: Vec<String> = table.vectors().iter().map(|c| format!("vectors.{}", c.id)).collect();
        let first: Vec<&str> = first.iter().map(String::as_str).collect();
        tensors.write(path, &first)?;
        Segment::open(path)
    }
}

/// What a segment says of the vectors of one column, beside the vectors.
struct ColumnParts {
    present: Vec<u8>,
    prints: Vec<u32>,
    whole_at: Vec<u32>,
    /// Rows of older segments that were given a vector since, and at which of the edits.
    filled: Vec<u32>,
    filled_at: Vec<u32>,
    filled_whole_at: Vec<u32>,
}

impl ColumnParts {
    fn of(contents: &Contents<'_>, column: &VectorColumn) -> ColumnParts {
        let rows = contents.rows.iter();
        let present = &column.vectors.present;
        let filled = contents.edits.iter().enumerate();
        let filled = filled.filter(|(_, r)| contents.filled.contains(r) && present.contains(**r as usize));
        let (filled_at, filled): (_, Vec<u32>) = filled.map(|(at, r)| (at as u32, *r)).unzip();
        ColumnParts {
            whole_at: whole_at(column, contents.rows),
            filled_whole_at: whole_at(column, &filled),
            present: rows.clone().map(|r| u8::from(present.contains(*r as usize))).collect(),
            prints: rows.map(|r| column.print(*r).unwrap_or(0)).collect(),
            filled,
            filled_at,
        }
    }
}
