//! Files of records and vectors: read row by row, looked into before anything is created, written.
//!
//! | format | records | vectors |
//! |---|---|---|
//! | JSON Lines, CSV (`.gz`, `.zst` too) | yes | in a member or column, as an array of numbers |
//! | Parquet, Arrow IPC (file, stream) | yes | list columns of f16, f32, f64 |
//! | NPY (f16, f32, f64) | no | one array of shape (rows, dimensions) |
//! | `.fvecs`, `.bvecs` | no | one row after the other |
//!
//! Nothing here knows of HTTP or a database. Reading holds a few blocks of rows, whatever the size
//! of a file.

mod columnar;
mod delimited;
mod inspect;
pub mod json;
mod matrix;
mod nesting;
mod packed;
mod rows;
mod text;
mod write;

pub use inspect::{Choice, FoundField, FoundVectors, Inspection, TYPES, inspect, inspect_as};
pub use packed::Limits;
pub use rows::{Bad, Record, Row, Rows};
pub use write::{Export, Layout, OutColumn, OutRecord};

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::PathBuf;

/// A file: where it lies, and what it is called. The format goes by the name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Named {
    pub path: PathBuf,
    pub name: String,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Format {
    JsonLines,
    Csv,
    Parquet,
    Arrow,
    Npy,
    Fvecs,
    Bvecs,
}

impl Format {
    /// By the end of the name; anything unknown is taken for JSON Lines.
    pub fn of(name: &str) -> Format {
        let name = name.to_lowercase();
        let name = name.trim_end_matches(".gz").trim_end_matches(".zst");
        match name.rsplit('.').next().unwrap_or("") {
            "csv" => Format::Csv,
            "parquet" | "pq" => Format::Parquet,
            "arrow" | "arrows" | "feather" | "ipc" => Format::Arrow,
            "npy" => Format::Npy,
            "fvecs" => Format::Fvecs,
            "bvecs" => Format::Bvecs,
            _ => Format::JsonLines,
        }
    }

    /// One array of vectors, without keys or fields.
    pub fn is_matrix(self) -> bool {
        matches!(self, Format::Npy | Format::Fvecs | Format::Bvecs)
    }

    pub fn is_text(self) -> bool {
        matches!(self, Format::JsonLines | Format::Csv)
    }

    /// What its rows are called: lines count from 1, rows of an array from 0.
    pub fn unit(self) -> &'static str {
        if self.is_text() { "line" } else { "row" }
    }
}

/// A wrong file, or a place in one.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{file}: {why}")]
pub struct FileError {
    pub file: String,
    pub why: String,
}

impl FileError {
    pub fn new(file: impl Into<String>, why: impl Into<String>) -> FileError {
        FileError { file: file.into(), why: why.into() }
    }
}

/// How the type of a field is written in cells that know no types.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    Text,
    Number,
    Boolean,
    Array,
}

/// What a collection takes: its fields by dotted path, and its vector columns.
#[derive(Clone, Debug, Default)]
pub struct Shape {
    pub fields: BTreeMap<String, Kind>,
    pub columns: Vec<String>,
}

/// Which columns of a file are taken, and what they become.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Mapping {
    /// The column that holds the keys; `key` when absent.
    pub key: Option<String>,
    /// Name in the file to name in the collection.
    pub rename: BTreeMap<String, String>,
    /// Names in the file; all when absent.
    pub only: Option<Vec<String>>,
}

impl Mapping {
    pub fn key(&self) -> &str {
        self.key.as_deref().unwrap_or("key")
    }

    /// What a column of the file becomes; `None` when it is left out.
    pub fn target<'a>(&'a self, source: &'a str) -> Option<&'a str> {
        if self.only.as_ref().is_some_and(|only| !only.iter().any(|o| o == source)) {
            return None;
        }
        Some(self.rename.get(source).map_or(source, String::as_str))
    }

    /// The keys must be there; names that stand in the mapping and not in the file are mistakes.
    fn check(&self, file: &str, names: &[String]) -> Result<(), FileError> {
        let only = self.only.iter().flatten();
        for wanted in self.rename.keys().chain(only).chain(self.key.iter()) {
            if !names.contains(wanted) {
                let why = format!("has no column \"{wanted}\"; its columns are {}", names.join(", "));
                return Err(FileError::new(file, why));
            }
        }
        if !names.iter().any(|n| n == self.key()) {
            let why = format!(
                "no column is called {}; the columns are {}; say which one holds the keys",
                self.key(),
                names.join(", ")
            );
            return Err(FileError::new(file, why));
        }
        Ok(())
    }
}

/// How rows of a file of vectors find their records.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Match {
    /// The first row belongs to the first record, and so on; the counts must agree.
    #[default]
    Row,
    /// By the key that each row of both carries.
    Key,
}

/// Vectors of one column, in a file of their own.
#[derive(Clone, Debug)]
pub struct VectorSource {
    pub column: String,
    pub file: Named,
    /// The keys of the file's rows, one a line: what matching by key needs when the file has none.
    pub keys: Option<Named>,
}

/// What is to be read.
#[derive(Clone, Debug)]
pub struct Plan {
    /// Keys and fields, and perhaps vectors. Without it the vectors' rows are the records.
    pub records: Option<Named>,
    pub vectors: Vec<VectorSource>,
    pub matching: Match,
    pub mapping: Mapping,
    pub shape: Shape,
    pub limits: Limits,
    /// Whether rows carry their text, so that what is set aside loses no digit.
    pub keep_text: bool,
}

/// Steps of a dotted name: objects in objects, and the field itself.
pub const MAX_STEPS: usize = 9;
/// Columns of a file, or members of a line of JSON, that are looked at.
pub const MAX_COLUMNS: usize = 4096;
/// Bytes of a column's name.
pub const MAX_NAME: usize = 1024;

/// Whether a column may be called so; the error completes the sentence "column ...".
pub(crate) fn check_name(name: &str) -> Result<(), String> {
    let shown = || name.chars().take(40).collect::<String>();
    let steps = name.split('.').count();
    if steps > MAX_STEPS {
        return Err(format!("\"{}...\" has {steps} parts between dots; {MAX_STEPS} is the most", shown()));
    }
    if name.len() > MAX_NAME {
        return Err(format!("\"{}...\" has {} bytes; {MAX_NAME} is the most", shown(), name.len()));
    }
    Ok(())
}

/// Puts a value under a dotted path, making the objects on the way. A member that is there is not replaced by an
/// object, nor an object by it: the error completes the sentence "line 7 ...".
fn put(
    fields: &mut serde_json::Map<String, serde_json::Value>,
    path: &str,
    value: serde_json::Value,
) -> Result<(), String> {
    check_name(path).map_err(|why| format!("has a member {why}"))?;
    let mut at = fields;
    let mut rest = path;
    while let Some((first, then)) = rest.split_once('.') {
        let inner = at.entry(first).or_insert_with(|| serde_json::Value::Object(Default::default()));
        let serde_json::Value::Object(inner) = inner else {
            return Err(format!("has a value for \"{path}\", and one for \"{first}\", which holds it"));
        };
        (at, rest) = (inner, then);
    }
    if at.contains_key(rest) {
        return Err(format!("has two values for \"{path}\""));
    }
    at.insert(rest.to_owned(), value);
    Ok(())
}
