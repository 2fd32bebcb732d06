//! Opening files of records, and lists of keys.

use crate::file::{FileError, Format, Named};
use crate::formats::columnar::Columnar;
use crate::formats::csv::Csv;
use crate::formats::jsonlines::JsonLines;
use crate::packed::open_text;
use crate::row::{Record, Row, Source};
use crate::sources::{LoadSources, Mapping};
use std::io::{BufRead, Read};
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

/// Opens a file of records.
pub fn source(
    file: &Named,
    bytes: Arc<AtomicU64>,
    sources: &LoadSources,
    mapping: &Mapping,
) -> Result<Box<dyn Source>, FileError> {
    Ok(match Format::of(&file.name) {
        Format::JsonLines => Box::new(JsonLines::open(file, bytes, sources, mapping)?),
        Format::Csv => Box::new(Csv::open(file, bytes, sources, mapping)?.checked()?),
        Format::Parquet | Format::Arrow => {
            Box::new(Columnar::open(file, bytes, mapping, &sources.target)?.checked()?)
        }
        _ => {
            let why = "holds vectors only; give it as the vectors of a column";
            return Err(FileError::new(&file.name, why));
        }
    })
}

/// Keys `0`, `1`, ...: what the rows of an array are called when nobody names them.
pub struct Numbered {
    pub next: u64,
    pub rows: u64,
}

impl Source for Numbered {
    fn next(&mut self) -> Option<Result<Row, FileError>> {
        if self.next == self.rows {
            return None;
        }
        let n = self.next;
        self.next += 1;
        Some(Ok(Row::new(n, Record { key: n.to_string(), ..Record::default() })))
    }
    fn skip(&mut self, rows: u64) -> Result<u64, FileError> {
        let n = rows.min(self.rows - self.next);
        self.next += n;
        Ok(n)
    }
}

/// Keys from a list of them.
pub struct Listed {
    pub keys: std::vec::IntoIter<String>,
    pub next: u64,
}

impl Source for Listed {
    fn next(&mut self) -> Option<Result<Row, FileError>> {
        let key = self.keys.next()?;
        self.next += 1;
        Some(Ok(Row::new(self.next, Record { key, ..Record::default() })))
    }
    fn skip(&mut self, rows: u64) -> Result<u64, FileError> {
        let n = self.keys.by_ref().take(rows as usize).count() as u64;
        self.next += n;
        Ok(n)
    }
}

/// Bytes of a line in a list of keys.
const MAX_KEY_LINE: u64 = 4096;

/// One key a line.
pub fn keys(file: &Named, sources: &LoadSources) -> Result<Vec<String>, FileError> {
    let mut reader = open_text(file, Arc::default(), sources.limits)?;
    let mut all = Vec::new();
    let mut line = Vec::new();
    loop {
        line.clear();
        let n = all.len() + 1;
        let wrong = |why: String| FileError::new(&file.name, format!("line {n}: {why}"));
        // A key has 190 bytes at most; a line much longer is none.
        (&mut reader)
            .take(MAX_KEY_LINE + 1)
            .read_until(b'\n', &mut line)
            .map_err(|e| wrong(e.to_string()))?;
        if line.is_empty() {
            return Ok(all);
        }
        if line.len() as u64 > MAX_KEY_LINE {
            return Err(wrong(format!("is longer than {MAX_KEY_LINE} bytes; the file lists one key a line")));
        }
        let key = std::str::from_utf8(&line).map_err(|_| wrong("is not valid UTF-8".into()))?;
        all.push(key.trim_end_matches(['\r', '\n']).to_owned());
    }
}

/// Records in a file, counted without reading what is in them.
pub fn count(file: &Named, sources: &LoadSources) -> Result<u64, FileError> {
    if matches!(Format::of(&file.name), Format::Parquet | Format::Arrow)
        && let Some(rows) = Columnar::open(file, Arc::default(), &sources.mapping, &sources.target)?.rows
    {
        return Ok(rows);
    }
    source(file, Arc::default(), sources, &sources.mapping)?.skip(u64::MAX)
}

pub fn size(file: &Named) -> u64 {
    std::fs::metadata(&file.path).map_or(0, |m| m.len())
}
