//! A look into a file before anything is created: what a collection for it could be.

use crate::columnar::{Columnar, vector_items};
use crate::matrix::Matrix;
use crate::packed::open_text;
use crate::text::Csv;
use crate::{FileError, Format, Limits, Mapping, Named, Shape};
use chrono::{DateTime, NaiveDate};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::io::BufRead;
use std::sync::Arc;

/// Rows that are looked at.
pub const SAMPLE: u64 = 1000;
const EXAMPLES: usize = 3;

/// A column that can be a field.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct FoundField {
    /// What the file calls it; members of objects by dotted path.
    pub source: String,
    /// A name that a collection takes.
    pub name: String,
    /// string, integer, number, boolean, date, timestamp, array of strings, array of integers
    pub r#type: String,
    pub n_missing: u64,
    pub n_distinct: u64,
    pub examples: Vec<Value>,
    /// What a person should know before taking the type.
    pub remark: Option<String>,
}

/// A column that can be a vector column.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FoundVectors {
    pub source: String,
    pub name: String,
    pub dimensions: usize,
    /// f16, f32, f64, u8, or text for numbers that are written out
    pub element: String,
    pub n_missing: u64,
    pub remark: Option<String>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Inspection {
    pub file: String,
    pub format: Format,
    /// Rows in the file, where it says.
    pub n_rows: Option<u64>,
    /// Rows that were looked at.
    pub n_sampled: u64,
    /// The column that should hold the keys.
    pub key: Option<String>,
    pub fields: Vec<FoundField>,
    pub vectors: Vec<FoundVectors>,
    /// What is wrong with rows that were looked at.
    pub troubles: Vec<String>,
}

impl Inspection {
    /// JSON Schema of the fields that were found.
    pub fn schema(&self) -> Value {
        let mut properties = Map::new();
        for field in &self.fields {
            let kind = match field.r#type.as_str() {
                "date" => json!({"type": "string", "format": "date"}),
                "timestamp" => json!({"type": "string", "format": "date-time"}),
                "array of strings" => json!({"type": "array", "items": {"type": "string"}}),
                "array of integers" => json!({"type": "array", "items": {"type": "integer"}}),
                plain => json!({"type": plain}),
            };
            place(&mut properties, &field.name, kind);
        }
        json!({"type": "object", "properties": properties})
    }

    /// What must be said to load the file into a collection made from it.
    pub fn mapping(&self) -> Mapping {
        let key = self.key.clone().filter(|k| k != "key");
        let names = self.fields.iter().map(|f| (&f.source, &f.name));
        let columns = self.vectors.iter().map(|v| (&v.source, &v.name));
        let rename = names.chain(columns).filter(|(s, n)| s != n).map(|(s, n)| (s.clone(), n.clone()));
        let rename = if self.format.is_matrix() { BTreeMap::new() } else { rename.collect() };
        Mapping { key, rename, only: None }
    }
}

/// Puts a property under a dotted path, making the objects on the way.
fn place(properties: &mut Map<String, Value>, path: &str, kind: Value) {
    let Some((first, rest)) = path.split_once('.') else {
        properties.insert(path.to_owned(), kind);
        return;
    };
    let group = properties.entry(first).or_insert_with(|| json!({"type": "object", "properties": {}}));
    if let Some(Value::Object(inside)) = group.get_mut("properties") {
        place(inside, rest, kind);
    }
}

#[derive(Default)]
struct Seen {
    order: usize,
    n: u64,
    types: BTreeSet<&'static str>,
    distinct: HashSet<String>,
    examples: Vec<Value>,
    /// Lengths of arrays of numbers, and whether one holds a fraction.
    lengths: BTreeSet<usize>,
    fraction: bool,
}

fn type_of_text(text: &str) -> &'static str {
    if text.len() == 10 && NaiveDate::parse_from_str(text, "%Y-%m-%d").is_ok() {
        "date"
    } else if DateTime::parse_from_rfc3339(text).is_ok() {
        "timestamp"
    } else {
        "string"
    }
}

/// What the text of a cell stands for.
fn cell_value(text: &str) -> Value {
    let trimmed = text.trim();
    if trimmed.starts_with('[')
        && let Ok(value @ Value::Array(_)) = serde_json::from_str(trimmed)
    {
        return value;
    }
    match trimmed.to_lowercase().as_str() {
        "true" => return json!(true),
        "false" => return json!(false),
        _ => {}
    }
    // 007 is a name, not a number: JSON refuses leading zeros, as wanted here.
    match serde_json::from_str(trimmed) {
        Ok(Value::Number(n)) => Value::Number(n),
        _ => json!(text),
    }
}

#[derive(Default)]
struct Collected {
    seen: BTreeMap<String, Seen>,
    n: u64,
}

impl Collected {
    fn add(&mut self, path: &str, value: &Value) {
        if let Value::Object(members) = value {
            for (name, value) in members {
                let path = if path.is_empty() { name.clone() } else { format!("{path}.{name}") };
                self.add(&path, value);
            }
            return;
        }
        let order = self.seen.len();
        let seen = self.seen.entry(path.to_owned()).or_insert_with(|| Seen { order, ..Seen::default() });
        let kind = match value {
            Value::Null | Value::Object(_) => return,
            Value::Bool(_) => "boolean",
            Value::Number(n) if n.is_f64() => "number",
            Value::Number(_) => "integer",
            Value::String(s) => type_of_text(s),
            Value::Array(items) if items.is_empty() => "empty array",
            Value::Array(items) if items.iter().all(Value::is_string) => "array of strings",
            Value::Array(items) if items.iter().all(Value::is_number) => {
                seen.lengths.insert(items.len());
                seen.fraction |= items.iter().any(Value::is_f64);
                "numbers"
            }
            Value::Array(_) => "array of strings",
        };
        seen.n += 1;
        seen.types.insert(kind);
        if kind == "numbers" && seen.lengths.iter().any(|n| *n > 16) {
            return;
        }
        if seen.distinct.insert(value.to_string()) && seen.examples.len() < EXAMPLES {
            seen.examples.push(value.clone());
        }
    }
}

fn field_name(source: &str) -> String {
    let steps = source.split('.').map(|step| {
        let plain: String = step.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect();
        let plain: String = plain.chars().take(60).collect();
        match plain.chars().next() {
            None => "field".into(),
            Some(c) if c.is_ascii_digit() => format!("f_{plain}"),
            Some(_) => plain,
        }
    });
    steps.collect::<Vec<_>>().join(".")
}

fn column_name(source: &str) -> String {
    let plain: String = source
        .to_lowercase()
        .chars()
        .map(|c| if c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-' { c } else { '_' })
        .take(64)
        .collect();
    if plain.starts_with(|c: char| c.is_ascii_lowercase()) {
        plain
    } else {
        format!("v_{plain}").chars().take(64).collect()
    }
}

/// Looks at the first rows of a file.
pub fn inspect(file: &Named, limits: Limits) -> Result<Inspection, FileError> {
    let format = Format::of(&file.name);
    let mut out = Inspection {
        file: file.name.clone(),
        format,
        n_rows: None,
        n_sampled: 0,
        key: None,
        fields: Vec::new(),
        vectors: Vec::new(),
        troubles: Vec::new(),
    };
    if format.is_matrix() {
        let mut matrix = Matrix::open(file)?;
        (out.n_rows, out.n_sampled) = (Some(matrix.rows), matrix.rows.min(SAMPLE));
        let wrong = (0..out.n_sampled).find_map(|row| match matrix.row(row) {
            Ok(v) => v
                .iter()
                .position(|x| !x.is_finite())
                .map(|at| format!("row {row} holds {} at position {at}", v[at])),
            Err(e) => Some(e.why),
        });
        out.troubles.extend(wrong);
        let stem = file.name.rsplit('/').next().unwrap_or("").split('.').next().unwrap_or("");
        out.vectors.push(FoundVectors {
            source: stem.into(),
            name: column_name(stem),
            dimensions: matrix.dimensions,
            element: matrix.element().into(),
            n_missing: 0,
            remark: None,
        });
        return Ok(out);
    }
    let mut all = Collected::default();
    let mut elements = BTreeMap::new();
    match format {
        Format::JsonLines => json_lines(file, limits, &mut all, &mut out.troubles)?,
        Format::Csv => cells(file, limits, &mut all, &mut out.troubles)?,
        _ => out.n_rows = columns(file, &mut all, &mut elements, &mut out.troubles)?,
    }
    out.n_sampled = all.n;
    if out.n_rows.is_none() && all.n < SAMPLE {
        out.n_rows = Some(all.n);
    }
    let n = all.n;
    let mut found: Vec<(String, Seen)> = all.seen.into_iter().collect();
    found.sort_by_key(|(_, seen)| seen.order);
    out.key = key_of(&found, n);
    for (source, seen) in found {
        if Some(&source) == out.key.as_ref() {
            continue;
        }
        let n_missing = n - seen.n;
        let element = elements.get(&source);
        let long =
            seen.lengths.iter().any(|l| *l >= 32) || (seen.fraction && seen.lengths.iter().any(|l| *l > 1));
        if element.is_some() || (long && seen.types.iter().all(|t| *t == "numbers")) {
            let lengths: Vec<String> = seen.lengths.iter().map(usize::to_string).collect();
            let remark = (lengths.len() > 1)
                .then(|| format!("vectors of {} dimensions; a column takes one", lengths.join(" and ")));
            out.vectors.push(FoundVectors {
                name: column_name(&source),
                source,
                dimensions: seen.lengths.last().copied().unwrap_or(0),
                element: element.cloned().unwrap_or_else(|| "text".into()),
                n_missing,
                remark,
            });
            continue;
        }
        let (kind, remark) = decided(&seen);
        out.fields.push(FoundField {
            name: field_name(&source),
            source,
            r#type: kind.into(),
            n_missing,
            n_distinct: seen.distinct.len() as u64,
            examples: seen.examples,
            remark,
        });
    }
    Ok(out)
}

fn decided(seen: &Seen) -> (&'static str, Option<String>) {
    let types: Vec<&str> = seen.types.iter().copied().filter(|t| *t != "empty array").collect();
    let kind = match types.as_slice() {
        [] if seen.types.contains("empty array") => "array of strings",
        [] => return ("string", Some("every value is missing".into())),
        ["numbers"] if seen.fraction => {
            return ("array of integers", Some("arrays of numbers with fractions are no field type".into()));
        }
        ["numbers"] => "array of integers",
        ["integer", "number"] => "number",
        [one] => one,
        ["date", "string"]
        | ["string", "timestamp"]
        | ["date", "timestamp"]
        | ["date", "string", "timestamp"] => "string",
        many => return ("string", Some(format!("holds {}; a field takes one type", many.join(" and ")))),
    };
    (kind, None)
}

fn key_of(found: &[(String, Seen)], n: u64) -> Option<String> {
    let can = |seen: &Seen| {
        seen.n == n
            && n > 0
            && seen.types.iter().all(|t| matches!(*t, "string" | "integer" | "date" | "timestamp"))
    };
    for usual in ["key", "id", "_id", "uuid", "doc_id", "document_id"] {
        if let Some((name, _)) = found.iter().find(|(name, seen)| name == usual && can(seen)) {
            return Some(name.clone());
        }
    }
    let distinct = |seen: &Seen| seen.distinct.len() as u64 == n;
    found
        .iter()
        .find(|(name, seen)| !name.contains('.') && can(seen) && distinct(seen))
        .map(|(name, _)| name.clone())
}

fn json_lines(
    file: &Named,
    limits: Limits,
    all: &mut Collected,
    troubles: &mut Vec<String>,
) -> Result<(), FileError> {
    let mut reader = open_text(file, Arc::default(), limits)?;
    let mut line = String::new();
    let mut number = 0;
    while all.n < SAMPLE {
        line.clear();
        number += 1;
        match std::io::Read::take(&mut reader, limits.line_bytes as u64).read_line(&mut line) {
            Ok(0) => break,
            Ok(_) => {}
            Err(e) => return Err(FileError::new(&file.name, format!("line {number} cannot be read: {e}"))),
        }
        if line.trim().is_empty() {
            continue;
        }
        match serde_json::from_str::<Value>(&line) {
            Ok(Value::Object(mut row)) => {
                all.n += 1;
                let full = row.contains_key("key") && row.get("fields").is_some_and(Value::is_object);
                if full {
                    if let Some(key) = row.get("key") {
                        all.add("key", key);
                    }
                    for part in ["fields", "vectors"] {
                        all.add("", row.get(part).unwrap_or(&Value::Null));
                    }
                } else {
                    row.shift_remove("rejected");
                    all.add("", &Value::Object(row));
                }
            }
            Ok(_) => troubles.push(format!("line {number} is not a JSON object")),
            Err(e) => troubles.push(format!("line {number} is not JSON: {e}")),
        }
        if troubles.len() > 5 {
            break;
        }
    }
    Ok(())
}

fn cells(
    file: &Named,
    limits: Limits,
    all: &mut Collected,
    troubles: &mut Vec<String>,
) -> Result<(), FileError> {
    let headings =
        Csv::open(file, Arc::default(), limits, &Mapping::default(), &Shape::default())?.headings().to_vec();
    let reader = open_text(file, Arc::default(), limits)?;
    let mut reader = csv::ReaderBuilder::new().flexible(true).from_reader(reader);
    for row in reader.byte_records().take(SAMPLE as usize) {
        let row = row.map_err(|e| FileError::new(&file.name, e.to_string()))?;
        let line = row.position().map_or(0, csv::Position::line);
        if row.len() != headings.len() {
            troubles.push(format!(
                "line {line} has {} cells, and there are {} columns",
                row.len(),
                headings.len()
            ));
            continue;
        }
        all.n += 1;
        for (heading, cell) in headings.iter().zip(&row) {
            let text = String::from_utf8_lossy(cell);
            let value = if text.is_empty() { Value::Null } else { cell_value(&text) };
            all.add(heading, &value);
        }
    }
    troubles.truncate(6);
    Ok(())
}

fn columns(
    file: &Named,
    all: &mut Collected,
    elements: &mut BTreeMap<String, String>,
    troubles: &mut Vec<String>,
) -> Result<Option<u64>, FileError> {
    let mut columnar = Columnar::open(file, Arc::default(), &Mapping::default(), &Shape::default())?;
    for field in columnar.schema.fields() {
        if let Some(item) = vector_items(field.data_type()) {
            let element = match item.to_string().as_str() {
                "Float16" => "f16",
                "Float64" => "f64",
                _ => "f32",
            };
            elements.insert(field.name().clone(), element.into());
        }
    }
    let rows = columnar.rows;
    while all.n < SAMPLE {
        let Some(values) = columnar.values()? else { break };
        all.n += 1;
        for (name, value) in values {
            match value {
                Ok(value) => all.add(&name, &value),
                Err(why) if troubles.len() < 6 => troubles.push(format!("column \"{name}\" {why}")),
                Err(_) => {}
            }
        }
    }
    Ok(rows)
}

/// The vector columns that a file with keys holds.
pub(crate) fn vector_names(file: &Named, limits: Limits) -> Result<Vec<String>, FileError> {
    Ok(inspect(file, limits)?.vectors.into_iter().map(|v| v.source).collect())
}
