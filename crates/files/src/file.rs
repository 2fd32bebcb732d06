//! A file: where it lies, what it is called, and what is wrong with it.

use serde::{Deserialize, Serialize};
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

    /// The word for it in answers.
    pub fn name(self) -> &'static str {
        match self {
            Format::JsonLines => "jsonlines",
            Format::Csv => "csv",
            Format::Parquet => "parquet",
            Format::Arrow => "arrow",
            Format::Npy => "npy",
            Format::Fvecs => "fvecs",
            Format::Bvecs => "bvecs",
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
