//! JSON Lines: a line is a record of the API (`key`, `fields`, `vectors`), or flat: the key with the fields next to it. A
//! member named like a vector column is that column's vector.

use crate::file::{FileError, Named};
use crate::names::{MAX_COLUMNS, put};
use crate::packed::open_text;
use crate::row::{Bad, Record, Row, Source};
use crate::sources::{LoadSources, Mapping, TargetFields};
use serde::de::{Deserialize, Deserializer, MapAccess, Visitor};
use serde_json::value::RawValue;
use serde_json::{Map, Value};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::io::{BufRead, Read};
use std::sync::Arc;
use std::sync::atomic::AtomicU64;
use zesty_wire::lifted::{read_lifted, taken};

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
                    let why = format!("member \"{}\" appears twice in one object", two[0]);
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
    zesty_wire::strict::from_str(raw.get()).map_err(|e| json_error(raw.get(), &e))
}

pub struct JsonLines {
    name: String,
    reader: Box<dyn BufRead + Send>,
    line: u64,
    buffer: Vec<u8>,
    line_bytes: usize,
    mapping: Mapping,
    shape: TargetFields,
    keep_text: bool,
}

/// What a JSON file that is no JSON Lines is told.
pub const JSON_ARRAY: &str = "is a JSON array, and JSON Lines has one object a line; write it anew, for \
                                     example: jq -c '.[]' file.json > file.jsonl";

/// Whether the first text of a file opens an array.
pub fn opens_array(reader: &mut dyn BufRead) -> bool {
    let start = reader.fill_buf().unwrap_or_default();
    start.iter().find(|b| !b.is_ascii_whitespace()) == Some(&b'[')
}

impl JsonLines {
    pub fn open(
        file: &Named,
        bytes: Arc<AtomicU64>,
        sources: &LoadSources,
        mapping: &Mapping,
    ) -> Result<Self, FileError> {
        let mut reader = open_text(file, bytes, sources.limits)?;
        if opens_array(&mut reader) {
            return Err(FileError::new(&file.name, JSON_ARRAY));
        }
        Ok(JsonLines {
            name: file.name.clone(),
            reader,
            line: 0,
            buffer: Vec::new(),
            line_bytes: sources.limits.line_bytes,
            mapping: mapping.clone(),
            shape: sources.target.clone(),
            keep_text: sources.keep_text,
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
pub fn record(line: &str, mapping: &Mapping, shape: &TargetFields) -> Result<Record, String> {
    let quick = read_lifted(line, |line| record_of(line, mapping, shape));
    // What is wrong with it is said of the line as it is.
    quick.map_or_else(|| record_of(line, mapping, shape), Ok)
}

fn record_of(line: &str, mapping: &Mapping, shape: &TargetFields) -> Result<Record, String> {
    let Members(members) = serde_json::from_str(line).map_err(|e| json_error(line, &e))?;
    let is_full = members.iter().any(|(n, v)| n == "fields" && v.get().starts_with('{'))
        && members.iter().all(|(n, _)| matches!(n.as_ref(), "key" | "fields" | "vectors" | "rejected"))
        && !shape.fields.contains_key("fields");
    let mut out = Record { key: String::new(), fields: Map::new(), vectors: BTreeMap::new() };
    let mut key = None;
    let mut take = |name: &str, raw: &RawValue| -> Result<(), String> {
        let Some(target) = mapping.target(name) else {
            drop(taken(raw.get()));
            return Ok(());
        };
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
        let Members(all) =
            serde_json::from_str(raw.get()).map_err(|_| "its \"vectors\" are not an object")?;
        for (column, raw) in all {
            match mapping.target(&column) {
                Some(target) => drop(out.vectors.insert(target.to_owned(), vector(target, raw.get())?)),
                None => drop(taken(raw.get())),
            }
        }
    }
    out.key = match key.map(value).transpose()? {
        Some(Value::String(key)) => key,
        Some(Value::Number(n)) if !n.is_f64() => n.to_string(),
        Some(other) => return Err(format!("its key is {other}; a key is a string")),
        None if mapping.keyless => String::new(),
        None => return Err(format!("has no \"{}\" to be its key", mapping.key())),
    };
    Ok(out)
}

/// A vector; `null` is none.
pub fn vector(column: &str, text: &str) -> Result<Option<Vec<f32>>, String> {
    let wrong =
        |_| format!("vector \"{column}\" is neither an array of finite numbers nor base64 of 32-bit floats");
    zesty_wire::vectors::vector_from_str(text).map_err(wrong)
}
