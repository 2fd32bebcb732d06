//! A look into a file before anything is created: what a collection for it could be.

use crate::columnar::{Columnar, vector_items};
use crate::matrix::Matrix;
use crate::packed::open_text;
use crate::text::{Csv, CsvRow, JSON_ARRAY, opens_array};
use crate::{FileError, Format, Limits, MAX_COLUMNS, Mapping, Match, Named, Plan, Shape, check_name};
use chrono::{DateTime, NaiveDate};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::io::BufRead;
use std::sync::Arc;

/// Rows that are looked at.
pub const SAMPLE: u64 = 1000;
/// Bytes of rows that are looked at: long rows count for several.
const SAMPLE_BYTES: usize = 256 << 20;
const EXAMPLES: usize = 3;
/// Troubles that are listed.
const MOST_TROUBLES: usize = 6;

/// The types that a field can have.
pub const TYPES: [&str; 8] =
    ["string", "integer", "number", "boolean", "date", "timestamp", "array of strings", "array of integers"];

/// A type that a column could be taken as, and what that would cost.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Choice {
    pub r#type: String,
    /// Rows that would be rejected: of those that were looked at, or of all for a type that was asked for.
    pub n_rejected: u64,
    /// The first of them, as messages name rows, and its value.
    pub first: Option<(u64, Value)>,
}

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
    /// Where values of several types stand: what else it could be taken as.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub choices: Vec<Choice>,
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
    let mut at = properties;
    let mut rest = path;
    while let Some((first, then)) = rest.split_once('.') {
        let group = at.entry(first).or_insert_with(|| json!({"type": "object", "properties": {}}));
        let Some(Value::Object(inside)) = group.get_mut("properties") else { return };
        (at, rest) = (inside, then);
    }
    at.insert(rest.to_owned(), kind);
}

/// A value and the row it stands in.
type Place = (u64, Value);

/// Values of one type in a column.
#[derive(Default)]
struct SeenType {
    n: u64,
    first: Option<Place>,
}

#[derive(Default)]
struct Seen {
    order: usize,
    n: u64,
    types: BTreeMap<&'static str, SeenType>,
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
    n_bytes: usize,
    /// Columns that cannot be fields, and why.
    barred: BTreeMap<String, String>,
}

impl Collected {
    fn is_enough(&self) -> bool {
        self.n >= SAMPLE || self.n_bytes >= SAMPLE_BYTES
    }

    /// Takes in a value of row `row`; members of objects are columns of their own. Objects in objects go as deep as
    /// their parser lets them.
    fn add(&mut self, row: u64, path: &str, value: &Value) {
        let mut todo: Vec<(String, &Value)> = vec![(path.to_owned(), value)];
        while let Some((path, value)) = todo.pop() {
            if let Value::Object(members) = value {
                for (name, value) in members.iter().rev() {
                    let path = if path.is_empty() { name.clone() } else { format!("{path}.{name}") };
                    todo.push((path, value));
                }
                continue;
            }
            if path.is_empty() || self.barred.contains_key(&path) {
                continue;
            }
            let why = match check_name(&path) {
                Err(why) => Some(why),
                Ok(()) if self.seen.len() >= MAX_COLUMNS && !self.seen.contains_key(&path) => {
                    Some(format!("is beyond the {MAX_COLUMNS} columns that are looked at"))
                }
                Ok(()) => None,
            };
            if let Some(why) = why {
                if self.barred.len() < MOST_TROUBLES {
                    let shown: String = path.chars().take(80).collect();
                    self.barred.insert(shown, why);
                }
                continue;
            }
            self.add_plain(row, path, value);
        }
    }

    fn add_plain(&mut self, row: u64, path: String, value: &Value) {
        let order = self.seen.len();
        let seen = self.seen.entry(path).or_insert_with(|| Seen { order, ..Seen::default() });
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
            Value::Array(_) => "array of several types",
        };
        seen.n += 1;
        let typed = seen.types.entry(kind).or_default();
        typed.n += 1;
        if kind == "numbers" && seen.lengths.iter().any(|n| *n > 16) {
            return;
        }
        typed.first.get_or_insert_with(|| (row, value.clone()));
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
    inspect_as(file, limits, &BTreeMap::new())
}

/// The same, with types that were chosen for some columns, by the names of the file: what they would reject is counted
/// over the whole file.
pub fn inspect_as(
    file: &Named,
    limits: Limits,
    types: &BTreeMap<String, String>,
) -> Result<Inspection, FileError> {
    let mut found = look(file, limits)?;
    for (source, kind) in types {
        let unknown = || {
            let names: Vec<&str> = found.fields.iter().map(|f| f.source.as_str()).collect();
            FileError::new(
                &file.name,
                format!("has no field \"{source}\"; its fields are {}", names.join(", ")),
            )
        };
        let at = found.fields.iter().position(|f| f.source == *source).ok_or_else(unknown)?;
        if !TYPES.contains(&kind.as_str()) {
            let why = format!("\"{kind}\" is no type of a field; take one of {}", TYPES.join(", "));
            return Err(FileError::new(&file.name, why));
        }
        found.fields[at].r#type = kind.clone();
    }
    if !types.is_empty() {
        count_rejected(file, limits, &mut found, types)?;
    }
    Ok(found)
}

/// Reads the whole file and counts what the chosen types would reject.
fn count_rejected(
    file: &Named,
    limits: Limits,
    found: &mut Inspection,
    types: &BTreeMap<String, String>,
) -> Result<(), FileError> {
    let kind = |t: &str| match t {
        "integer" | "number" => crate::Kind::Number,
        "boolean" => crate::Kind::Boolean,
        "array of strings" | "array of integers" => crate::Kind::Array,
        _ => crate::Kind::Text,
    };
    let mapping = found.mapping();
    let plan = Plan {
        records: Some(file.clone()),
        vectors: Vec::new(),
        matching: Match::Row,
        mapping: mapping.clone(),
        shape: Shape {
            fields: found.fields.iter().map(|f| (f.name.clone(), kind(&f.r#type))).collect(),
            columns: found.vectors.iter().map(|v| v.name.clone()).collect(),
        },
        limits,
        keep_text: false,
    };
    let mut counts: BTreeMap<&str, Choice> = BTreeMap::new();
    for (source, kind) in types {
        counts.insert(source, Choice { r#type: kind.clone(), n_rejected: 0, first: None });
    }
    let mut rows = crate::rows::source(file, Arc::default(), &plan, &mapping)?;
    while let Some(row) = rows.next() {
        let row = row?;
        // What is no record is rejected whatever the types are.
        let Ok(record) = row.record else { continue };
        for field in &found.fields {
            let Some(choice) = counts.get_mut(field.source.as_str()) else { continue };
            let mut steps = field.name.split('.');
            let first = steps.next().and_then(|s| record.fields.get(s));
            let Some(value) = steps.try_fold(first.unwrap_or(&Value::Null), |v, s| v.get(s)) else {
                continue;
            };
            if !fits(&choice.r#type, value) {
                choice.n_rejected += 1;
                choice.first.get_or_insert_with(|| (row.n, value.clone()));
            }
        }
    }
    let unit = found.format.unit();
    for field in &mut found.fields {
        let Some(choice) = counts.remove(field.source.as_str()) else { continue };
        field.remark = Some(match &choice.first {
            None => format!("taken as {}: no row of the file is rejected", choice.r#type),
            Some((row, value)) => format!(
                "taken as {}: {} of the file's rows would be rejected, {unit} {row} for one, which has {value}",
                choice.r#type, choice.n_rejected
            ),
        });
        field.choices.retain(|c| c.r#type != choice.r#type);
        field.choices.insert(0, choice);
    }
    Ok(())
}

/// Whether a value can stand in a field of a type; a missing one can.
fn fits(kind: &str, value: &Value) -> bool {
    let integer = |v: &Value| v.is_i64() || v.as_f64().is_some_and(|x| x.fract() == 0.0 && x.abs() <= 9e15);
    match (kind, value) {
        (_, Value::Null) => true,
        ("string", Value::String(_)) | ("boolean", Value::Bool(_)) | ("number", Value::Number(_)) => true,
        ("integer", v @ Value::Number(_)) => integer(v),
        ("date", Value::String(s)) => type_of_text(s) == "date",
        ("timestamp", Value::String(s)) => type_of_text(s) == "timestamp",
        ("array of strings", Value::Array(items)) => items.iter().all(Value::is_string),
        ("array of integers", Value::Array(items)) => items.iter().all(integer),
        _ => false,
    }
}

fn look(file: &Named, limits: Limits) -> Result<Inspection, FileError> {
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
    if out.n_rows.is_none() && !all.is_enough() {
        out.n_rows = Some(all.n);
    }
    out.troubles.extend(all.barred.iter().map(|(name, why)| {
        let why = if why.starts_with('"') { why.clone() } else { format!("\"{name}\" {why}") };
        format!("column {why}; it is left out")
    }));
    out.troubles.truncate(MOST_TROUBLES);
    let n = all.n;
    let mut found: Vec<(String, Seen)> = all.seen.into_iter().collect();
    found.sort_by_key(|(_, seen)| seen.order);
    // An object that is null in some row is no field beside its members; a value in its place is a trouble.
    let groups: HashSet<String> = found
        .iter()
        .flat_map(|(name, _)| name.match_indices('.').map(|(at, _)| name[..at].to_owned()))
        .collect();
    found.retain(|(name, seen)| {
        if !groups.contains(name) {
            return true;
        }
        if let Some((row, value)) = seen.types.values().find_map(|t| t.first.as_ref()) {
            let unit = format.unit();
            out.troubles.push(format!(
                "\"{name}\" is an object in some rows, and {value} in {unit} {row}: such rows would be rejected"
            ));
        }
        false
    });
    out.key = key_of(&found, n);
    for (source, seen) in found {
        if Some(&source) == out.key.as_ref() {
            continue;
        }
        let n_missing = n - seen.n;
        let element = elements.get(&source);
        let long =
            seen.lengths.iter().any(|l| *l >= 32) || (seen.fraction && seen.lengths.iter().any(|l| *l > 1));
        if element.is_some() || (long && seen.types.keys().all(|t| *t == "numbers")) {
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
        let Decided { kind, remark, choices } = decided(&seen, format);
        out.fields.push(FoundField {
            name: field_name(&source),
            source,
            r#type: kind.into(),
            n_missing,
            n_distinct: seen.distinct.len() as u64,
            examples: seen.examples,
            remark,
            choices,
        });
    }
    Ok(out)
}

/// What a column is taken as.
struct Decided {
    kind: &'static str,
    remark: Option<String>,
    choices: Vec<Choice>,
}

fn decided(seen: &Seen, format: Format) -> Decided {
    let plain =
        |kind, remark: Option<&str>| Decided { kind, remark: remark.map(Into::into), choices: Vec::new() };
    let types: Vec<&'static str> = seen.types.keys().copied().filter(|t| *t != "empty array").collect();
    match types.as_slice() {
        [] if seen.types.contains_key("empty array") => plain("array of strings", None),
        [] => plain("string", Some("every value is missing")),
        ["numbers"] if seen.fraction => {
            plain("array of integers", Some("arrays of numbers with fractions are no field type"))
        }
        ["numbers"] => plain("array of integers", None),
        ["integer", "number"] => plain("number", None),
        ["array of several types"] => plain(
            "array of strings",
            Some("its arrays hold items of several types; a field takes arrays of one"),
        ),
        [one] => plain(one, None),
        many => mixed(seen, many, format),
    }
}

/// A column with values of several types: taken as the one that most values have, unless text takes all of them.
fn mixed(seen: &Seen, types: &[&'static str], format: Format) -> Decided {
    let unit = format.unit();
    // A cell of CSV is text, whatever it looks like.
    let texts: &[&str] = match format {
        Format::Csv => &["string", "date", "timestamp", "integer", "number", "boolean"],
        _ => &["string", "date", "timestamp"],
    };
    let rejects = |kind: &str| -> Choice {
        let fits = |t: &str| match kind {
            "string" => texts.contains(&t),
            "number" => t == "integer" || t == "number",
            "array of integers" => t == "numbers" || t == "empty array",
            "array of strings" => t == "array of strings" || t == "empty array",
            kind => t == kind,
        };
        let others = seen.types.iter().filter(|(t, _)| !fits(t));
        let n_rejected = others.clone().map(|(_, s)| s.n).sum();
        let first = others.filter_map(|(_, s)| s.first.clone()).min_by_key(|(row, _)| *row);
        Choice { r#type: kind.into(), n_rejected, first }
    };
    let mut wanted: BTreeSet<&str> = types
        .iter()
        .map(|t| match *t {
            "numbers" => "array of integers",
            "array of several types" => "array of strings",
            plain => plain,
        })
        .collect();
    if types.iter().any(|t| texts.contains(t)) {
        wanted.insert("string");
    }
    let mut choices: Vec<Choice> =
        TYPES.iter().filter(|t| wanted.contains(**t)).map(|t| rejects(t)).collect();
    choices.sort_by_key(|c| c.n_rejected);
    let kind = TYPES.iter().find(|t| **t == choices[0].r#type).copied().unwrap_or("string");
    // What most values look like, and what does not.
    let common = seen.types.iter().max_by_key(|(_, s)| s.n).map(|(t, s)| (*t, s.n));
    let (look, n) = common.unwrap_or(("string", 0));
    let odd = seen.types.iter().filter(|(t, _)| **t != look).filter_map(|(_, s)| s.first.as_ref());
    let odd = odd.min_by_key(|(row, _)| *row).map_or(String::new(), |(row, v)| {
        let shown: String = v.to_string().chars().take(60).collect();
        format!("; {unit} {row} is {shown}")
    });
    let plural = |t: &str| match t {
        "boolean" | "string" | "integer" | "number" | "date" | "timestamp" => format!("{t}s"),
        "numbers" => "arrays of numbers".into(),
        t => t.replacen("array", "arrays", 1),
    };
    let remark = format!("{n} of {} look like {}{odd}", seen.n, plural(look));
    Decided { kind, remark: Some(remark), choices }
}

fn key_of(found: &[(String, Seen)], n: u64) -> Option<String> {
    let can = |seen: &Seen| {
        seen.n == n
            && n > 0
            && seen.types.keys().all(|t| matches!(*t, "string" | "integer" | "date" | "timestamp"))
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
    if opens_array(&mut reader) {
        return Err(FileError::new(&file.name, JSON_ARRAY));
    }
    let mut line = Vec::new();
    let mut number = 0;
    while !all.is_enough() && troubles.len() < MOST_TROUBLES {
        line.clear();
        number += 1;
        let most = limits.line_bytes as u64;
        match std::io::Read::take(&mut reader, most + 1).read_until(b'\n', &mut line) {
            Ok(0) => break,
            Ok(n) if n as u64 > most => {
                let why = format!("line {number} is longer than {} MB; is it JSON Lines?", most / 1_000_000);
                return Err(FileError::new(&file.name, why));
            }
            Ok(_) => {}
            Err(e) => return Err(FileError::new(&file.name, format!("line {number} cannot be read: {e}"))),
        }
        if line.iter().all(u8::is_ascii_whitespace) {
            continue;
        }
        let Ok(text) = std::str::from_utf8(&line) else {
            troubles.push(format!("line {number} is not valid UTF-8"));
            continue;
        };
        match crate::json::from_str(text) {
            Ok(Value::Object(mut row)) => {
                all.n += 1;
                all.n_bytes += text.len();
                let full = row.contains_key("key") && row.get("fields").is_some_and(Value::is_object);
                if full {
                    if let Some(key) = row.get("key") {
                        all.add(number, "key", key);
                    }
                    for part in ["fields", "vectors"] {
                        all.add(number, "", row.get(part).unwrap_or(&Value::Null));
                    }
                } else {
                    row.shift_remove("rejected");
                    all.add(number, "", &Value::Object(row));
                }
            }
            Ok(_) => troubles.push(format!("line {number} is not a JSON object")),
            Err(e) => troubles.push(format!("line {number} is not JSON: {e}")),
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
    let plan = Plan {
        records: None,
        vectors: Vec::new(),
        matching: Match::Row,
        mapping: Mapping::default(),
        shape: Shape::default(),
        limits,
        keep_text: false,
    };
    let mut csv = Csv::open(file, Arc::default(), &plan, &Mapping::default())?;
    let headings = csv.headings().to_vec();
    while !all.is_enough() {
        let line = match csv.read()? {
            None => break,
            Some(CsvRow::Cells(line)) => line,
            Some(CsvRow::Wrong(line, why)) => {
                troubles.push(format!("line {line} {why}"));
                continue;
            }
        };
        if let Some(why) = csv.ragged() {
            troubles.push(format!("line {line} {why}"));
            continue;
        }
        all.n += 1;
        for (heading, cell) in headings.iter().zip(csv.cells()) {
            all.n_bytes += cell.len();
            let text = String::from_utf8_lossy(cell);
            let value = if text.is_empty() { Value::Null } else { cell_value(&text) };
            all.add(line, heading, &value);
        }
    }
    troubles.truncate(MOST_TROUBLES);
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
    let mut row = 0;
    while !all.is_enough() {
        let Some(values) = columnar.values()? else { break };
        all.n += 1;
        for (name, value) in values {
            match value {
                Ok(value) => all.add(row, &name, &value),
                Err(why) if troubles.len() < MOST_TROUBLES => {
                    troubles.push(format!("column \"{name}\" {why}"))
                }
                Err(_) => {}
            }
        }
        row += 1;
    }
    Ok(rows)
}

/// The vector columns that a file with keys holds.
pub(crate) fn vector_names(file: &Named, limits: Limits) -> Result<Vec<String>, FileError> {
    Ok(inspect(file, limits)?.vectors.into_iter().map(|v| v.source).collect())
}
