//! A row as a file holds it, and what rows come from.

use crate::file::FileError;
use serde_json::{Map, Value};
use std::collections::BTreeMap;

/// A record as a file holds it. Nothing of it is checked against a collection yet.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Record {
    pub key: String,
    pub fields: Map<String, Value>,
    /// By vector column; `None` says that there is none.
    pub vectors: BTreeMap<String, Option<Vec<f32>>>,
}

/// A row that is no record.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Bad {
    /// Completes the sentence "line 7 ...".
    pub reason: String,
    /// The text in its place, if it is text.
    pub text: String,
}

impl Bad {
    pub(crate) fn new(reason: impl Into<String>, text: &str) -> Bad {
        Bad { reason: reason.into(), text: text.chars().take(100_000).collect() }
    }
}

#[derive(Clone, Debug, PartialEq)]
pub struct Row {
    /// Its line, from 1, or its row, from 0: see [`Format::unit`].
    pub n: u64,
    pub record: Result<Record, Bad>,
    /// Bytes that it takes in the file, or about.
    pub n_bytes: usize,
    /// The row as a line of JSON, where the plan keeps it.
    pub text: Option<String>,
}

impl Row {
    pub(crate) fn new(n: u64, record: Record) -> Row {
        Row { n, record: Ok(record), n_bytes: 64, text: None }
    }
}

pub(crate) trait Source: Send {
    fn next(&mut self) -> Option<Result<Row, FileError>>;
    /// Passes over up to `rows` rows without reading what is in them; returns how many there were.
    fn skip(&mut self, rows: u64) -> Result<u64, FileError>;
    /// The encoder that the file says made the vectors of a column, by column.
    fn encoders(&self) -> BTreeMap<String, String> {
        BTreeMap::new()
    }
}
