//! What is to be read: files of records and vectors, and what their columns become.

use crate::file::{FileError, Named};
use crate::packed::Limits;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

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
pub struct TargetFields {
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
    /// Whether rows may come without a key.
    pub keyless: bool,
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
    pub(crate) fn check(&self, file: &str, names: &[String]) -> Result<(), FileError> {
        let only = self.only.iter().flatten();
        for wanted in self.rename.keys().chain(only).chain(self.key.iter()) {
            if !names.contains(wanted) {
                let why = format!("has no column \"{wanted}\"; its columns are {}", names.join(", "));
                return Err(FileError::new(file, why));
            }
        }
        if !self.keyless && !names.iter().any(|n| n == self.key()) {
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
pub struct LoadSources {
    /// Keys and fields, and perhaps vectors. Without it the vectors' rows are the records.
    pub records: Option<Named>,
    pub vectors: Vec<VectorSource>,
    pub matching: Match,
    pub mapping: Mapping,
    pub target: TargetFields,
    pub limits: Limits,
    /// Whether rows carry their text, so that what is set aside loses no digit.
    pub keep_text: bool,
}
