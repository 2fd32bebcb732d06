//! What is written to collections, and what is read of them: plain data, no SQL.

use crate::entity::record;
use serde_json::{Map, Value};
use std::ops::Range;
use std::sync::OnceLock;

/// Rows in one statement: far below the limit on placeholders, and where inserting is fastest.
pub(crate) const STEP: usize = 1000;

/// What becomes of a record's vector in one column.
#[derive(Clone, Debug, PartialEq)]
pub enum VectorWrite {
    /// As the caller gave it.
    Set(Vec<f32>),
    /// The record has none from now on.
    Clear,
    /// Whatever is there stays.
    Keep,
}

/// A record's fields, and their JSON, which is written once for all that need it.
#[derive(Clone, Debug, Default)]
pub struct RecordBody {
    fields: Map<String, Value>,
    text: OnceLock<String>,
}

impl RecordBody {
    pub fn fields(&self) -> &Map<String, Value> {
        &self.fields
    }

    pub fn into_fields(self) -> Map<String, Value> {
        self.fields
    }

    /// The fields as compact JSON.
    pub fn text(&self) -> &str {
        self.text.get_or_init(|| serde_json::to_string(&self.fields).expect("JSON can be written"))
    }
}

impl From<Map<String, Value>> for RecordBody {
    fn from(fields: Map<String, Value>) -> RecordBody {
        RecordBody { fields, text: OnceLock::new() }
    }
}

/// A record to write; the vectors in the order of the columns.
#[derive(Clone, Debug)]
pub struct RecordWrite {
    pub key: String,
    pub body: RecordBody,
    pub vectors: Vec<VectorWrite>,
    /// The revision that the record must have now, 0 for none; see [`Conflicts`].
    pub expected: Option<u64>,
    /// Columns whose encoder would not take its text, and why.
    pub unencoded: Vec<(usize, String)>,
}

impl RecordWrite {
    /// Bytes of its key and its fields as the database keeps them.
    pub fn n_bytes(&self) -> usize {
        self.key.len() + self.body.text().len()
    }

    /// Whether it may be written where there is no record yet.
    pub(crate) fn may_be_new(&self) -> bool {
        self.expected.unwrap_or(0) == 0
    }
}

/// A record to delete.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeyAt {
    pub key: String,
    /// The revision that the record must have now.
    pub expected: Option<u64>,
}

/// What a caller takes the keys of a batch for. It need not be right.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Guess {
    /// No record has any of them, and none was deleted that had.
    AllNew,
    /// Some may be there.
    Any,
}

/// What becomes of a batch in which a record is not at its expected revision.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Conflicts {
    /// The batch is refused whole.
    Refuse,
    /// Those records are left out, and listed.
    LeaveOut,
}

/// What a batch did.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Written {
    /// The collection's revision before the batch. Others may have written since the caller looked.
    pub before: u64,
    /// After it. The same as before when the batch changed nothing.
    pub revision: u64,
    /// The number of each record that was changed, in the order given; `None` where nothing was to do.
    pub numbers: Vec<Option<u64>>,
    pub n_new: usize,
    pub n_replaced: usize,
    /// Records that were already as given.
    pub n_unchanged: usize,
    /// Places in the batch of records that were not at their expected revision.
    pub left_out: Vec<usize>,
}

impl Written {
    /// What a batch of new records did, which were given these numbers.
    pub(crate) fn of_new(before: i64, numbers: Range<i64>) -> Written {
        let numbers: Vec<Option<u64>> = numbers.map(|number| Some(number as u64)).collect();
        let (n_new, before) = (numbers.len(), before as u64);
        Written { before, revision: before + 1, n_new, numbers, ..Written::default() }
    }
}

/// A record as it is after some revision.
#[derive(Clone, Debug, PartialEq)]
pub struct Change {
    pub number: u64,
    pub key: String,
    pub revision: u64,
    /// `None` when the record was deleted.
    pub body: Option<Value>,
    pub vectors: Vec<Option<Vec<f32>>>,
}

#[derive(Clone, Debug, PartialEq)]
pub struct StoredRecord {
    pub number: u64,
    pub key: String,
    pub revision: u64,
    pub body: Value,
}

pub(crate) fn floats(bytes: &[u8]) -> Vec<f32> {
    bytemuck::pod_collect_to_vec(bytes)
}

impl From<record::Model> for StoredRecord {
    fn from(m: record::Model) -> Self {
        StoredRecord { number: m.number as u64, key: m.key, revision: m.revision as u64, body: m.body }
    }
}

/// Rows of a load that are committed together.
#[derive(Clone, Debug, Default)]
pub struct LoadStep {
    pub load: i64,
    /// Rows of the files that are behind it after this step.
    pub position: u64,
    /// Rows set aside in this step.
    pub n_rejected: u64,
    /// Rows that a later row of the same step replaced before it was written.
    pub n_superseded: u64,
    /// Bytes of the rejects file after this step.
    pub rejects_bytes: u64,
}

/// What an encoder made of a record as it was at a revision, or why nothing.
#[derive(Clone, Debug, PartialEq)]
pub struct Made {
    pub number: u64,
    pub revision: u64,
    pub vector: std::result::Result<Vec<f32>, String>,
}

/// What [`Catalog::set_vectors`] did.
#[derive(Clone, Debug, PartialEq)]
pub struct Filled {
    /// The collection's revision before it.
    pub before: u64,
    /// What was given; its revision is that after it.
    pub fill: Fill,
}

/// Vectors that a revision gave to records without changing them otherwise.
#[derive(Clone, Debug, PartialEq)]
pub struct Fill {
    pub revision: u64,
    pub column: i64,
    /// Records that have none any more are not listed.
    pub vectors: Vec<FilledVector>,
}

#[derive(Clone, Debug, PartialEq)]
pub struct FilledVector {
    pub number: u64,
    pub key: String,
    pub vector: Vec<f32>,
}
