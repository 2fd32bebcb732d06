//! Rows of a file as records of the API.
//!
//! JSON Lines: a line is a record of the API (`key`, `fields`, `vectors`), or flat: `key` and the
//! fields beside it; a member named like a vector column that holds an array of numbers is that
//! column's vector. CSV (RFC 4180): the first line names the columns, `key` among them; an empty cell
//! is a missing value; arrays and vectors are written as JSON arrays. Either may be packed with gzip.

use crate::shapes::Collection;
use flate2::read::MultiGzDecoder;
use serde_json::{Map, Value, json};
use std::collections::HashMap;
use std::fs::File;
use std::io::{self, BufRead, BufReader, Read};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// What a collection takes: the types of its fields, and its vector columns.
#[derive(Clone, Debug, Default)]
pub struct Shape {
    fields: HashMap<String, String>,
    columns: Vec<String>,
}

impl Shape {
    pub fn of(collection: &Collection) -> Shape {
        let properties = collection.fields["properties"].as_object();
        let kind = |p: &Value| p["type"].as_str().unwrap_or("string").to_owned();
        Shape {
            fields: properties.into_iter().flatten().map(|(name, p)| (name.clone(), kind(p))).collect(),
            columns: collection.columns.iter().map(|c| c.name.clone()).collect(),
        }
    }
}

/// One row: where it began, its text, and the record it is or what is wrong with it.
pub struct Row {
    pub line: usize,
    pub text: String,
    pub record: Result<Value, String>,
}

struct Counted<R> {
    inner: R,
    bytes: Arc<AtomicU64>,
}

impl<R: Read> Read for Counted<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let n = self.inner.read(buffer)?;
        self.bytes.fetch_add(n as u64, Ordering::Relaxed);
        Ok(n)
    }
}

/// Opens a file (`-` is standard input), unpacking gzip when it begins like gzip.
fn open(path: &Path, bytes: Arc<AtomicU64>) -> io::Result<Box<dyn BufRead + Send>> {
    let inner: Box<dyn Read + Send> = if path == Path::new("-") {
        Box::new(io::stdin())
    } else {
        let file = File::open(path)?;
        if file.metadata()?.is_dir() {
            return Err(io::Error::other("is a directory; give a JSON Lines or CSV file"));
        }
        Box::new(file)
    };
    let mut reader = BufReader::with_capacity(1 << 16, Counted { inner, bytes });
    let packed = reader.fill_buf()?.starts_with(&[0x1f, 0x8b]);
    Ok(if packed { Box::new(BufReader::new(MultiGzDecoder::new(reader))) } else { Box::new(reader) })
}

/// The rows of a file, one after the other. An error is one of the whole file.
pub struct Rows {
    shape: Shape,
    source: Source,
}

enum Source {
    Lines { reader: Box<dyn BufRead + Send>, number: usize },
    Csv { reader: Box<csv::Reader<Box<dyn BufRead + Send>>>, headings: Vec<String>, late: usize },
}

impl Rows {
    /// A file whose name ends in `.csv` or `.csv.gz` is CSV; anything else is JSON Lines.
    pub fn open(path: &Path, shape: Shape, bytes: Arc<AtomicU64>) -> Result<Rows, String> {
        let reader = open(path, bytes).map_err(|e| e.to_string())?;
        let name = path.file_name().map(|n| n.to_string_lossy().to_lowercase()).unwrap_or_default();
        if !name.trim_end_matches(".gz").ends_with(".csv") {
            return Ok(Rows { shape, source: Source::Lines { reader, number: 0 } });
        }
        // Ragged lines are reported as rows, with what they lack.
        let mut reader = csv::ReaderBuilder::new().flexible(true).from_reader(reader);
        let headings: Vec<String> = reader
            .headers()
            .map_err(|e| format!("the line of headings cannot be read: {e}"))?
            .iter()
            // Spreadsheets put a byte order mark before the first one.
            .map(|h| h.trim_start_matches('\u{feff}').trim().to_owned())
            .collect();
        if !headings.iter().any(|h| h == "key") {
            return Err(format!("no column is called key; the columns are {}", headings.join(", ")));
        }
        for (i, heading) in headings.iter().enumerate() {
            if headings[..i].contains(heading) {
                return Err(format!("two columns are called \"{heading}\""));
            }
        }
        // The reader ends a line at its CR and counts the LF with the next one: with CRLF it is a line late.
        let late = 2usize.saturating_sub(reader.position().line() as usize);
        Ok(Rows { shape, source: Source::Csv { reader: Box::new(reader), headings, late } })
    }
}

impl Iterator for Rows {
    type Item = Result<Row, String>;

    fn next(&mut self) -> Option<Self::Item> {
        let shape = &self.shape;
        match &mut self.source {
            Source::Lines { reader, number } => loop {
                let mut line = Vec::new();
                *number += 1;
                match reader.read_until(b'\n', &mut line) {
                    Ok(0) => return None,
                    Ok(_) => {}
                    Err(e) => return Some(Err(format!("line {number} cannot be read: {e}"))),
                }
                let text = std::str::from_utf8(&line).map_err(|_| "is not valid UTF-8".to_owned());
                if text.as_ref().is_ok_and(|t| t.trim().is_empty()) {
                    continue;
                }
                let record = text.and_then(|t| record(t, &shape.columns));
                let text = String::from_utf8_lossy(&line).trim_end().to_owned();
                return Some(Ok(Row { line: *number, text, record }));
            },
            Source::Csv { reader, headings, late } => {
                let mut cells = csv::ByteRecord::new();
                let line = reader.position().line() as usize + *late;
                match reader.read_byte_record(&mut cells) {
                    Ok(false) => return None,
                    Ok(true) => {}
                    Err(e) => return Some(Err(format!("line {line} cannot be read: {e}"))),
                }
                let line = cells.position().map_or(line, |p| p.line() as usize + *late);
                let text: Vec<_> = cells.iter().map(String::from_utf8_lossy).collect();
                let record = from_cells(headings, &cells, shape);
                Some(Ok(Row { line, text: text.join(","), record }))
            }
        }
    }
}

/// The cells of a CSV line as a record, typed by the collection's fields.
fn from_cells(headings: &[String], cells: &csv::ByteRecord, shape: &Shape) -> Result<Value, String> {
    if cells.len() != headings.len() {
        return Err(format!("has {} cells, and there are {} columns", cells.len(), headings.len()));
    }
    let (mut key, mut fields, mut vectors) = (Value::Null, Map::new(), Map::new());
    for (heading, cell) in headings.iter().zip(cells) {
        let cell = std::str::from_utf8(cell).map_err(|_| format!("column {heading} is not valid UTF-8"))?;
        if heading == "key" {
            key = json!(cell);
        } else if cell.is_empty() {
            // Missing.
        } else if shape.columns.contains(heading) && !shape.fields.contains_key(heading) {
            let vector: Vec<f64> = serde_json::from_str(cell)
                .map_err(|_| format!("column {heading} is no JSON array of numbers"))?;
            vectors.insert(heading.clone(), json!(vector));
        } else {
            // What does not parse goes on as text: the service says which type it wants.
            let value = match shape.fields.get(heading).map(String::as_str) {
                Some("integer" | "number" | "array") => serde_json::from_str(cell.trim()).ok(),
                Some("boolean") => match cell.trim().to_lowercase().as_str() {
                    "true" => Some(json!(true)),
                    "false" => Some(json!(false)),
                    _ => None,
                },
                _ => None,
            };
            fields.insert(heading.clone(), value.unwrap_or_else(|| json!(cell)));
        }
    }
    Ok(json!({"key": key, "fields": fields, "vectors": vectors}))
}

/// One line as a record of the API.
fn record(line: &str, columns: &[String]) -> Result<Value, String> {
    let value: Value = serde_json::from_str(line).map_err(|e| format!("is not JSON: {e}"))?;
    let Value::Object(mut row) = value else { return Err("is not a JSON object".into()) };
    // From an earlier load's rejects file.
    if row.get("rejected").is_some_and(|r| r.get("reason").is_some()) {
        row.shift_remove("rejected");
    }
    if row.contains_key("key") && row.get("fields").is_some_and(Value::is_object) {
        return Ok(Value::Object(row));
    }
    let key = match row.shift_remove("key") {
        Some(Value::String(key)) => key,
        Some(Value::Number(n)) => n.to_string(),
        Some(other) => return Err(format!("its key is {other}; a key is a string")),
        None => return Err("has no \"key\"".into()),
    };
    let mut vectors = Map::new();
    for column in columns {
        if row.get(column).and_then(Value::as_array).is_some_and(|a| a.iter().all(Value::is_number)) {
            vectors.insert(column.clone(), row.shift_remove(column).unwrap_or(Value::Null));
        }
    }
    Ok(json!({"key": key, "fields": row, "vectors": vectors}))
}

#[cfg(test)]
mod tests {
    use super::*;

    type Read = (usize, Result<Value, String>);

    fn rows(name: &str, text: &str) -> Result<Vec<Read>, String> {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join(name);
        std::fs::write(&path, text).unwrap();
        let kind = |k: &str| k.to_owned();
        let shape = Shape {
            fields: [("year", "integer"), ("note", "string"), ("tags", "array"), ("dry", "boolean")]
                .map(|(f, t)| (kind(f), kind(t)))
                .into(),
            columns: vec!["meaning".into()],
        };
        Rows::open(&path, shape, Arc::default())?.map(|r| r.map(|r| (r.line, r.record))).collect()
    }

    #[test]
    fn cells_become_values_by_the_types_of_the_fields() {
        let text = "\u{feff}key,year,note,tags,dry,meaning\r\n7,1931,\"a \"\"b\"\",\nc\",\"[\"\"fog\"\"]\",TRUE,\"[1, 2.5]\"\r\n8,,12,,no,\n";
        let got = rows("a.csv", text).unwrap();
        assert_eq!(
            got[0].1,
            Ok(
                json!({"key": "7", "fields": {"year": 1931, "note": "a \"b\",\nc", "tags": ["fog"], "dry": true},
            "vectors": {"meaning": [1.0, 2.5]}})
            )
        );
        // Digits in a string field stay text; what is no boolean goes on as it is, to be refused.
        assert_eq!(
            got[1],
            (4, Ok(json!({"key": "8", "fields": {"note": "12", "dry": "no"}, "vectors": {}})))
        );
    }

    #[test]
    fn ragged_lines_and_wrong_headings_are_named() {
        let got = rows("a.csv", "key,year\na,1\nb\nc,1,2\nd,4\n").unwrap();
        let wrong: Vec<usize> = got.iter().filter(|(_, r)| r.is_err()).map(|(line, _)| *line).collect();
        assert_eq!(wrong, [3, 4]);
        assert!(got[1].1.as_ref().unwrap_err().contains("has 1 cells, and there are 2 columns"));
        assert!(rows("a.csv", "id,year\n1,2\n").unwrap_err().contains("no column is called key"));
        assert!(rows("a.csv", "key,year,year\n1,2,3\n").unwrap_err().contains("two columns"));
        assert!(rows("a.csv", "key,meaning\n1,abc\n").unwrap()[0].1.is_err());
    }

    #[test]
    fn flat_and_full_lines_become_records() {
        let columns = ["meaning".to_owned()];
        let flat = record(r#"{"key": 7, "year": 1931, "meaning": [1, 2]}"#, &columns).unwrap();
        assert_eq!(flat, json!({"key": "7", "fields": {"year": 1931}, "vectors": {"meaning": [1, 2]}}));
        let full = r#"{"key": "a", "fields": {"year": 1}}"#;
        assert_eq!(record(full, &columns).unwrap(), serde_json::from_str::<Value>(full).unwrap());
        for bad in ["[]", "{", r#"{"year": 1}"#, r#"{"key": null}"#] {
            assert!(record(bad, &columns).is_err(), "{bad}");
        }
    }
}
