//! One segment file: its format, and how it is opened and checked.
//!
//! `docs/segments.md` describes every tensor.

use crate::Metric;
use crate::rows::given::{self, Away};
use crate::rows::vectors::Prepared;
use crate::tensors::{FileError, Kept, Tensor, TensorFile, crc, damaged};
use memmap2::Mmap;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// The version of the format of segment files.
pub const SEGMENT_VERSION: u32 = 3;

/// What a segment says of itself.
#[derive(Clone, Debug, Serialize, Deserialize, PartialEq)]
pub struct AboutSegment {
    /// Whose records these are.
    pub owner: String,
    /// The revision whose state it holds.
    pub as_of: u64,
    /// The fields as they were then, as JSON Schema.
    pub fields: Value,
    /// The fields' names in the order of the tensors `field.0`, `field.1` and so on.
    pub names: Vec<String>,
    pub columns: Vec<AboutColumn>,
}

/// A vector column as a segment has it.
#[derive(Clone, Debug, Serialize, Deserialize, PartialEq)]
pub struct AboutColumn {
    pub id: i64,
    pub dimensions: usize,
    pub metric: String,
}

/// An open segment file. Vectors and bodies stay in the file and are checked later, or when they are read.
pub struct Segment {
    pub(in crate::rows) file: TensorFile,
    pub(in crate::rows) about: AboutSegment,
    pub(in crate::rows) path: PathBuf,
    /// Versions that are rows of their own; those after them are newer fields of rows in older segments.
    pub(in crate::rows) n_rows: usize,
    pub(in crate::rows) numbers: Tensor<u64>,
    pub(in crate::rows) revisions: Tensor<u64>,
    /// By row: 0 for one that was replaced or deleted when the segment was written.
    pub(in crate::rows) alive: Tensor<u8>,
    /// Numbers of records in older segments that are deleted.
    pub(in crate::rows) deleted: Tensor<u64>,
    key_ends: Tensor<u64>,
    keys: Tensor<u8>,
    /// What all blocks of bodies are packed with.
    dictionary: Tensor<u8>,
    /// Where each body ends in its block.
    body_ends: Tensor<u32>,
    /// The first version of each block, and where the block ends.
    block_firsts: Tensor<u32>,
    block_ends: Tensor<u64>,
    block_crcs: Tensor<u32>,
    blocks: Range<usize>,
}

impl std::fmt::Debug for Segment {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Segment({})", self.path.display())
    }
}

fn rises<T: PartialOrd>(list: &[T]) -> bool {
    list.windows(2).all(|two| two[0] <= two[1])
}

impl Segment {
    /// Maps a segment file and checks everything but vectors and bodies.
    pub fn open(path: &Path) -> Result<Segment, FileError> {
        let file = TensorFile::open(path)?;
        file.check_version("zesty_segment", SEGMENT_VERSION)?;
        let about = file.text("about")?;
        if crc(about.as_bytes()) != file.text("about_crc32")? {
            return Err(damaged("the checksum of \"about\" is wrong"));
        }
        let about: AboutSegment = serde_json::from_str(about).map_err(|e| damaged(format!("about: {e}")))?;
        let alive: Tensor<u8> = file.list("alive")?;
        let n_rows = alive.len();
        let numbers: Tensor<u64> = file.list("numbers")?;
        let n = numbers.len();
        let revisions = file.of("revisions", &[n])?;
        let key_ends: Tensor<u64> = file.of("key_ends", &[n])?;
        let keys: Tensor<u8> = file.list("keys")?;
        let dictionary = file.list("dictionary")?;
        let body_ends: Tensor<u32> = file.of("body_ends", &[n])?;
        let block_firsts: Tensor<u32> = file.list("block_firsts")?;
        let n_blocks = block_firsts.len();
        let block_ends: Tensor<u64> = file.of("block_ends", &[n_blocks])?;
        let block_crcs = file.of("block_crcs", &[n_blocks])?;
        let (blocks, _) = file.range::<u8>("blocks", &[None])?;
        let firsts = block_firsts.iter().map(|f| *f as usize);
        let sound = n >= n_rows
            && rises(&key_ends)
            && key_ends.last().copied().unwrap_or(0) == keys.len() as u64
            && rises(&block_firsts)
            && rises(&block_ends)
            && block_ends.last().copied().unwrap_or(0) == blocks.len() as u64
            && firsts.clone().all(|f| f < n)
            && (n == 0 || firsts.clone().next() == Some(0))
            && firsts.clone().zip(firsts.skip(1).chain([n])).all(|(from, to)| rises(&body_ends[from..to]));
        if !sound || std::str::from_utf8(&keys).is_err() {
            return Err(damaged("keys or bodies do not follow each other"));
        }
        let deleted = file.list("deleted")?;
        let path = path.to_owned();
        Ok(Segment {
            file,
            about,
            path,
            n_rows,
            numbers,
            revisions,
            alive,
            deleted,
            key_ends,
            keys,
            dictionary,
            body_ends,
            block_firsts,
            block_ends,
            block_crcs,
            blocks,
        })
    }

    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Bytes of the file.
    pub fn n_bytes(&self) -> usize {
        self.file.map.len()
    }

    pub(in crate::rows) fn n_bytes_documents(&self) -> usize {
        self.blocks.len() + self.keys.len()
    }

    /// Versions: rows, then edits.
    pub(in crate::rows) fn n_versions(&self) -> usize {
        self.numbers.len()
    }

    pub(in crate::rows) fn map(&self) -> &Arc<Mmap> {
        &self.file.map
    }

    pub(in crate::rows) fn key(&self, version: usize) -> &str {
        let start = if version == 0 { 0 } else { self.key_ends[version - 1] as usize };
        std::str::from_utf8(&self.keys[start..self.key_ends[version] as usize]).unwrap_or("")
    }

    /// The block in which a body lies, and where in it.
    pub(in crate::rows) fn body_block(&self, version: usize) -> (usize, Range<usize>) {
        let block = self.block_firsts.partition_point(|first| *first as usize <= version) - 1;
        let is_first = self.block_firsts[block] as usize == version;
        let start = if is_first { 0 } else { self.body_ends[version - 1] as usize };
        (block, start..self.body_ends[version] as usize)
    }

    /// Unpacks the bodies of a block.
    pub(in crate::rows) fn unpack(&self, block: usize, bytes: &mut Vec<u8>) -> Result<(), FileError> {
        let start = if block == 0 { 0 } else { self.block_ends[block - 1] as usize };
        let packed = &self.map()[self.blocks.clone()][start..self.block_ends[block] as usize];
        let next = self.block_firsts.get(block + 1).map_or(self.n_versions(), |f| *f as usize);
        let length = self.body_ends[next - 1] as usize;
        if crc32fast::hash(packed) != self.block_crcs[block] {
            return Err(damaged(format!("{}: a block of bodies", self.path.display())));
        }
        bytes.resize(length, 0);
        match lz4_flex::block::decompress_into_with_dict(packed, bytes, &self.dictionary) {
            Ok(unpacked) if unpacked == length => Ok(()),
            Ok(_) => Err(damaged(format!("{}: a block of bodies is too short", self.path.display()))),
            Err(e) => Err(damaged(format!("{}: a block of bodies ({e})", self.path.display()))),
        }
    }

    /// Where a tensor begins in the file.
    pub(in crate::rows) fn tensor_start<T: Kept>(&self, name: &str) -> Option<usize> {
        let (range, _) = self.file.range::<T>(name, &[None, None]).ok()?;
        Some(range.start)
    }

    /// Vectors that records of older segments have been given: at which of the edits, the number, the column.
    pub(in crate::rows) fn filled(&self) -> Vec<(usize, u64, i64)> {
        let mut all = Vec::new();
        for column in &self.about.columns {
            let Ok(at) = self.filled_at(column.id) else { continue };
            let known = at.iter().map(|at| (*at as usize, self.n_rows + *at as usize));
            let known = known.filter(|(_, version)| *version < self.n_versions());
            all.extend(known.map(|(at, version)| (at, self.numbers[version], column.id)));
        }
        all
    }

    /// At which of the edits vectors of a column were given; empty when none were.
    fn filled_at(&self, column: i64) -> Result<Tensor<u32>, FileError> {
        let name = format!("filled.{column}");
        if self.file.has(&name) { self.file.list(&name) } else { Ok(Vec::new().into()) }
    }

    /// The vectors that records of older segments have been given in a column, each with its edit.
    pub(in crate::rows) fn filled_vectors(
        &self,
        column: &AboutColumn,
        metric: Metric,
    ) -> Result<Vec<(usize, Prepared)>, FileError> {
        let at = self.filled_at(column.id)?;
        if at.is_empty() {
            return Ok(Vec::new());
        }
        let (id, d, n) = (column.id, column.dimensions, at.len());
        let prepared: Tensor<f32> = self.file.of(&format!("filled_vectors.{id}"), &[n, d])?;
        let given: Option<Tensor<u8>> = (metric == Metric::Cosine)
            .then(|| self.file.of(&format!("filled_given.{id}"), &[n, given::width(d)]))
            .transpose()?;
        let whole = self.whole("filled_whole", column, n)?;
        if at.iter().any(|at| *at as usize >= self.n_versions() - self.n_rows) {
            return Err(damaged("vectors are given to records that do not exist"));
        }
        let away = |i: usize| match (whole.get(&(i as u32)), &given) {
            (Some(vector), _) => Some(Away::Whole(vector.clone())),
            (None, Some(given)) => {
                Some(Away::Steps(given[i * given::width(d)..][..given::width(d)].to_vec()))
            }
            (None, None) => None,
        };
        let each = at.iter().zip(prepared.chunks(d)).enumerate();
        Ok(each
            .map(|(i, (at, v))| (*at as usize, Prepared { prepared: v.to_vec(), away: away(i) }))
            .collect())
    }

    /// Vectors that are kept whole, by their place among `n`.
    pub(in crate::rows) fn whole(
        &self,
        kind: &str,
        column: &AboutColumn,
        n: usize,
    ) -> Result<BTreeMap<u32, Arc<[f32]>>, FileError> {
        let name = format!("{kind}_at.{}", column.id);
        if !self.file.has(&name) {
            return Ok(BTreeMap::new());
        }
        let at: Tensor<u32> = self.file.list(&name)?;
        let whole: Tensor<f32> =
            self.file.of(&format!("{kind}.{}", column.id), &[at.len(), column.dimensions])?;
        if at.iter().any(|at| *at as usize >= n) {
            return Err(damaged("vectors are kept whole of rows that do not exist"));
        }
        Ok(at.iter().copied().zip(whole.chunks(column.dimensions).map(Into::into)).collect())
    }

    /// Checks all that was not checked when it was opened. Reads the whole file.
    pub fn verify(&self) -> Result<(), FileError> {
        let mut names = self.file.names();
        names.sort();
        names.iter().try_for_each(|name| self.file.verify(name))
    }
}
