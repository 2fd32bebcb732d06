//! CSV (RFC 4180): the first line names the columns; an empty cell is a missing value; `place.lat` is member `lat` of
//! `place`; arrays and vectors are written as JSON arrays.

use crate::file::{FileError, Named};
use crate::formats::delimited::{Broken, Next, Records};
use crate::formats::jsonlines::vector;
use crate::names::{MAX_COLUMNS, check_name, put};
use crate::packed::open_text;
use crate::row::{Bad, Record, Row, Source};
use crate::sources::{Kind, LoadSources, Mapping, TargetFields};
use serde_json::value::RawValue;
use serde_json::{Map, json};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

pub struct Csv {
    name: String,
    records: Records,
    headings: Vec<String>,
    mapping: Mapping,
    shape: TargetFields,
    keep_text: bool,
}

/// What a row of a CSV file is: cells, or something wrong with its quotes.
pub enum CsvRow {
    Cells(u64),
    Wrong(u64, String),
}

impl Csv {
    pub fn open(
        file: &Named,
        bytes: Arc<AtomicU64>,
        sources: &LoadSources,
        mapping: &Mapping,
    ) -> Result<Self, FileError> {
        let wrong = |why: String| FileError::new(&file.name, why);
        let reader = open_text(file, bytes, sources.limits)?;
        let mut records = Records::new(reader, sources.limits.line_bytes);
        let first = records.next().map_err(|Broken { line, why }| wrong(format!("line {line} {why}")))?;
        match first {
            Next::Record(_) => {}
            Next::End => {
                return Err(wrong("is empty; the first line of a CSV file names its columns".into()));
            }
            Next::Wrong(line, why) => return Err(wrong(format!("line {line} {why}"))),
        }
        let headings: Result<Vec<String>, _> =
            records.cells.iter().map(|h| std::str::from_utf8(h).map(|h| h.trim().to_owned())).collect();
        let headings = headings
            .map_err(|_| wrong("the line of headings is not valid UTF-8; save the file as UTF-8".into()))?;
        if headings.len() > MAX_COLUMNS {
            return Err(wrong(format!("has {} columns; {MAX_COLUMNS} is the most", headings.len())));
        }
        if let [only] = headings.as_slice() {
            for (separator, name) in [(';', "semicolons"), ('\t', "tabs"), ('|', "bars")] {
                if only.contains(separator) {
                    return Err(wrong(format!(
                        "its columns seem to be separated by {name}; they are separated by commas here (RFC 4180): \
                         write the file with commas"
                    )));
                }
            }
        }
        for (i, heading) in headings.iter().enumerate() {
            check_name(heading).map_err(|why| wrong(format!("column {why}")))?;
            if headings[..i].contains(heading) {
                return Err(wrong(format!("two columns are called \"{heading}\"")));
            }
        }
        Ok(Csv {
            name: file.name.clone(),
            records,
            headings,
            mapping: mapping.clone(),
            shape: sources.target.clone(),
            keep_text: sources.keep_text,
        })
    }

    pub fn headings(&self) -> &[String] {
        &self.headings
    }

    /// A mapping that names what is not there is refused before a row is read.
    pub fn checked(self) -> Result<Self, FileError> {
        self.mapping.check(&self.name, &self.headings)?;
        Ok(self)
    }

    /// Reads the next row; its cells are then in [`Csv::cells`].
    pub fn read(&mut self) -> Result<Option<CsvRow>, FileError> {
        match self.records.next() {
            Ok(Next::End) => Ok(None),
            Ok(Next::Record(line)) => Ok(Some(CsvRow::Cells(line))),
            Ok(Next::Wrong(line, why)) => Ok(Some(CsvRow::Wrong(line, why))),
            Err(Broken { line, why }) => Err(FileError::new(&self.name, format!("line {line} {why}"))),
        }
    }

    pub fn cells(&self) -> impl Iterator<Item = &[u8]> {
        self.records.cells.iter()
    }

    /// What is wrong with the number of cells of a row.
    pub fn ragged(&self) -> Option<String> {
        let (cells, columns) = (self.records.cells.len(), self.headings.len());
        (cells != columns).then(|| format!("has {cells} cells, and there are {columns} columns"))
    }

    fn record(&self) -> Result<Record, String> {
        if let Some(why) = self.ragged() {
            return Err(why);
        }
        let mut out = Record { key: String::new(), fields: Map::new(), vectors: BTreeMap::new() };
        for (heading, cell) in self.headings.iter().zip(self.cells()) {
            let cell =
                std::str::from_utf8(cell).map_err(|_| format!("column {heading} is not valid UTF-8"))?;
            if heading == self.mapping.key() {
                out.key = cell.to_owned();
                continue;
            }
            let Some(target) = self.mapping.target(heading).filter(|_| !cell.is_empty()) else { continue };
            let kind = self.shape.fields.get(target);
            if kind.is_none() && self.shape.columns.iter().any(|c| c == target) {
                out.vectors.insert(target.to_owned(), vector(target, cell)?);
                continue;
            }
            // What does not parse goes on as text: the service says which type it wants.
            let value = match kind {
                Some(Kind::Number | Kind::Array) => zesty_wire::strict::from_str(cell.trim()).ok(),
                Some(Kind::Boolean) => match cell.trim().to_lowercase().as_str() {
                    "true" => Some(json!(true)),
                    "false" => Some(json!(false)),
                    _ => None,
                },
                _ => None,
            };
            put(&mut out.fields, target, value.unwrap_or_else(|| json!(cell)))?;
        }
        Ok(out)
    }

    /// The row as a line of JSON, numbers to the last digit.
    fn text(&self) -> String {
        let members = self.headings.iter().zip(self.cells()).filter(|(_, cell)| !cell.is_empty());
        let members = members.map(|(heading, cell)| {
            let cell = String::from_utf8_lossy(cell);
            let kind = self.mapping.target(heading).and_then(|t| self.shape.fields.get(t));
            let is_json = !matches!(kind, None | Some(Kind::Text))
                && serde_json::from_str::<&RawValue>(cell.trim()).is_ok();
            let value = if is_json { cell.trim().to_owned() } else { json!(cell).to_string() };
            format!("{}:{value}", json!(heading))
        });
        format!("{{{}}}", members.collect::<Vec<_>>().join(","))
    }
}

impl Source for Csv {
    fn next(&mut self) -> Option<Result<Row, FileError>> {
        let (n, record) = match self.read() {
            Ok(Some(CsvRow::Cells(n))) => (n, self.record()),
            Ok(Some(CsvRow::Wrong(n, why))) => (n, Err(why)),
            Ok(None) => return None,
            Err(e) => return Some(Err(e)),
        };
        let text = (self.keep_text && record.is_ok()).then(|| self.text());
        let record = record.map_err(|why| {
            let text: Vec<_> = self.cells().map(String::from_utf8_lossy).collect();
            Bad::new(why, &text.join(","))
        });
        Some(Ok(Row { n, record, n_bytes: self.records.n_bytes(), text }))
    }

    fn skip(&mut self, rows: u64) -> Result<u64, FileError> {
        for n in 0..rows {
            if self.read()?.is_none() {
                return Ok(n);
            }
        }
        Ok(rows)
    }
}
