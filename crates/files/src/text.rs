//! JSON Lines and CSV.
//!
//! JSON Lines: a line is a record of the API (`key`, `fields`, `vectors`), or flat: the key and the
//! fields beside it; a member named like a vector column is that column's vector. CSV (RFC 4180):
//! the first line names the columns; an empty cell is a missing value; `place.lat` is member `lat`
//! of `place`; arrays and vectors are written as JSON arrays.

use crate::delimited::{Broken, Next, Records};
use crate::packed::open_text;
use crate::rows::{Bad, Record, Row, Source};
use crate::{FileError, Kind, MAX_COLUMNS, Mapping, Named, Plan, Shape, check_name, put};
use serde::de::{Deserialize, Deserializer, MapAccess, Visitor};
use serde_json::value::RawValue;
use serde_json::{Map, Value, json};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::io::{BufRead, Read};
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

/// Members of an object in their order, their values not read yet.
struct Members<'a>(Vec<(Cow<'a, str>, &'a RawValue)>);

impl<'de> Deserialize<'de> for Members<'de> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Reader;
        impl<'de> Visitor<'de> for Reader {
            type Value = Members<'de>;
            fn expecting(&self, f: &mut std::fmt::Formatter) -> std::fmt::Result {
                f.write_str("a JSON object")
            }
            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Members<'de>, A::Error> {
                let mut all: Vec<(Cow<'de, str>, &RawValue)> = Vec::new();
                while let Some((name, value)) = map.next_entry::<Name<'de>, &RawValue>()? {
                    all.push((name.0, value));
                    if all.len() > MAX_COLUMNS {
                        return Err(serde::de::Error::custom(format!("more than {MAX_COLUMNS} members")));
                    }
                }
                let mut names: Vec<&str> = all.iter().map(|(name, _)| name.as_ref()).collect();
                names.sort_unstable();
                if let Some(two) = names.windows(2).find(|two| two[0] == two[1]) {
                    let why = format!("member \"{}\" stands twice in one object", two[0]);
                    return Err(serde::de::Error::custom(why));
                }
                Ok(Members(all))
            }
        }
        deserializer.deserialize_map(Reader)
    }
}

#[derive(serde::Deserialize)]
#[serde(transparent)]
struct Name<'a>(#[serde(borrow)] Cow<'a, str>);

fn json_error(text: &str, error: &serde_json::Error) -> String {
    let near: String = text.chars().skip(error.column().saturating_sub(2)).take(8).collect();
    let hint = ["NaN", "nan", "Inf", "inf"].iter().any(|w| near.contains(w));
    let hint = if hint || error.to_string().contains("out of range") {
        "; NaN and infinity are not JSON: every component must be a finite number, and a missing value is null"
    } else {
        ""
    };
    // One line is read at a time, so serde's line is always 1.
    let shown = error.to_string();
    let what = shown.split(" at line ").next().unwrap_or(&shown);
    format!("is not JSON: {what} at column {}{hint}", error.column())
}

fn value(raw: &RawValue) -> Result<Value, String> {
    crate::json::from_str(raw.get()).map_err(|e| json_error(raw.get(), &e))
}

/// A vector; `null` is none.
fn vector(column: &str, text: &str) -> Result<Option<Vec<f32>>, String> {
    let wrong = |_| format!("vector \"{column}\" is no array of finite numbers");
    crate::json::vector_from_str(text).map_err(wrong)
}

pub(crate) struct JsonLines {
    name: String,
    reader: Box<dyn BufRead + Send>,
    line: u64,
    buffer: Vec<u8>,
    line_bytes: usize,
    mapping: Mapping,
    shape: Shape,
    keep_text: bool,
}

/// What a JSON file that is no JSON Lines is told.
pub(crate) const JSON_ARRAY: &str = "is a JSON array, and JSON Lines has one object a line; write it anew, for \
                                     example: jq -c '.[]' file.json > file.jsonl";

/// Whether the first text of a file opens an array.
pub(crate) fn opens_array(reader: &mut dyn BufRead) -> bool {
    let start = reader.fill_buf().unwrap_or_default();
    start.iter().find(|b| !b.is_ascii_whitespace()) == Some(&b'[')
}

impl JsonLines {
    pub fn open(
        file: &Named,
        bytes: Arc<AtomicU64>,
        plan: &Plan,
        mapping: &Mapping,
    ) -> Result<Self, FileError> {
        let mut reader = open_text(file, bytes, plan.limits)?;
        if opens_array(&mut reader) {
            return Err(FileError::new(&file.name, JSON_ARRAY));
        }
        Ok(JsonLines {
            name: file.name.clone(),
            reader,
            line: 0,
            buffer: Vec::new(),
            line_bytes: plan.limits.line_bytes,
            mapping: mapping.clone(),
            shape: plan.shape.clone(),
            keep_text: plan.keep_text,
        })
    }

    /// Reads the next line that is not blank; false at the end.
    fn read(&mut self) -> Result<bool, FileError> {
        loop {
            self.buffer.clear();
            self.line += 1;
            let most = self.line_bytes;
            let read = (&mut self.reader).take(most as u64 + 1).read_until(b'\n', &mut self.buffer);
            let line = self.line;
            match read {
                Ok(0) => return Ok(false),
                Ok(n) if n > most => {
                    let why =
                        format!("line {line} is longer than {} MB; is it JSON Lines?", most / 1_000_000);
                    return Err(FileError::new(&self.name, why));
                }
                Ok(_) => {}
                Err(e) => return Err(FileError::new(&self.name, format!("line {line} cannot be read: {e}"))),
            }
            if !self.buffer.iter().all(u8::is_ascii_whitespace) {
                return Ok(true);
            }
        }
    }
}

impl Source for JsonLines {
    fn next(&mut self) -> Option<Result<Row, FileError>> {
        match self.read() {
            Ok(false) => return None,
            Err(e) => return Some(Err(e)),
            Ok(true) => {}
        }
        let record = match std::str::from_utf8(&self.buffer) {
            Ok(text) => record(text.trim_end(), &self.mapping, &self.shape)
                .map_err(|why| Bad::new(why, text.trim_end())),
            Err(e) => {
                let why = format!("is not valid UTF-8 (byte {})", e.valid_up_to() + 1);
                Err(Bad::new(why, &String::from_utf8_lossy(&self.buffer)))
            }
        };
        let text = (self.keep_text && record.is_ok())
            .then(|| String::from_utf8_lossy(&self.buffer).trim_end().to_owned());
        Some(Ok(Row { n: self.line, record, n_bytes: self.buffer.len(), text }))
    }

    fn skip(&mut self, rows: u64) -> Result<u64, FileError> {
        for n in 0..rows {
            if !self.read()? {
                return Ok(n);
            }
        }
        Ok(rows)
    }
}

/// One line as a record.
pub(crate) fn record(line: &str, mapping: &Mapping, shape: &Shape) -> Result<Record, String> {
    let Members(members) = serde_json::from_str(line).map_err(|e| json_error(line, &e))?;
    let is_full = members.iter().any(|(n, v)| n == "fields" && v.get().starts_with('{'))
        && members.iter().all(|(n, _)| matches!(n.as_ref(), "key" | "fields" | "vectors" | "rejected"))
        && !shape.fields.contains_key("fields");
    let mut out = Record { key: String::new(), fields: Map::new(), vectors: BTreeMap::new() };
    let mut key = None;
    let mut take = |name: &str, raw: &RawValue| -> Result<(), String> {
        let Some(target) = mapping.target(name) else { return Ok(()) };
        if shape.columns.iter().any(|c| c == target) && !shape.fields.contains_key(target) {
            out.vectors.insert(target.to_owned(), vector(target, raw.get())?);
        } else {
            put(&mut out.fields, target, value(raw)?)?;
        }
        Ok(())
    };
    let mut vectors = None;
    for (name, raw) in members {
        match name.as_ref() {
            "key" if is_full => key = Some(raw),
            "fields" if is_full => {
                let Members(fields) =
                    serde_json::from_str(raw.get()).map_err(|e| json_error(raw.get(), &e))?;
                for (name, raw) in fields {
                    take(&name, raw)?;
                }
            }
            "vectors" if is_full => vectors = Some(raw),
            // From an earlier load's rejects file.
            "rejected" if raw.get().contains("\"reason\"") => {}
            name if !is_full && name == mapping.key() => key = Some(raw),
            name => take(name, raw)?,
        }
    }
    if let Some(raw) = vectors {
        let Members(all) = serde_json::from_str(raw.get()).map_err(|_| "its \"vectors\" are no object")?;
        for (column, raw) in all {
            if let Some(target) = mapping.target(&column) {
                out.vectors.insert(target.to_owned(), vector(target, raw.get())?);
            }
        }
    }
    out.key = match key.map(value).transpose()? {
        Some(Value::String(key)) => key,
        Some(Value::Number(n)) if !n.is_f64() => n.to_string(),
        Some(other) => return Err(format!("its key is {other}; a key is a string")),
        None => return Err(format!("has no \"{}\" to be its key", mapping.key())),
    };
    Ok(out)
}

pub(crate) struct Csv {
    name: String,
    records: Records,
    headings: Vec<String>,
    mapping: Mapping,
    shape: Shape,
    keep_text: bool,
}

/// What a row of a CSV file is: cells, or something wrong with its quotes.
pub(crate) enum CsvRow {
    Cells(u64),
    Wrong(u64, String),
}

impl Csv {
    pub fn open(
        file: &Named,
        bytes: Arc<AtomicU64>,
        plan: &Plan,
        mapping: &Mapping,
    ) -> Result<Self, FileError> {
        let wrong = |why: String| FileError::new(&file.name, why);
        let reader = open_text(file, bytes, plan.limits)?;
        let mut records = Records::new(reader, plan.limits.line_bytes);
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
            shape: plan.shape.clone(),
            keep_text: plan.keep_text,
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
                Some(Kind::Number | Kind::Array) => crate::json::from_str(cell.trim()).ok(),
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
