//! The values that were seen in each column of a file.

use crate::names::{MAX_COLUMNS, check_name};
use chrono::{DateTime, NaiveDate};
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// Rows that are read.
pub const SAMPLE: u64 = 1000;

/// Bytes of rows that are read: long rows count for several.
pub const SAMPLE_BYTES: usize = 256 << 20;

/// Troubles that are listed.
pub const MOST_TROUBLES: usize = 6;
pub const EXAMPLES: usize = 3;

/// A value and its row.
pub type Place = (u64, Value);

/// Values of one type in a column.
#[derive(Default)]
pub struct SeenType {
    pub n: u64,
    pub first: Option<Place>,
}

#[derive(Default)]
pub struct Seen {
    pub order: usize,
    pub n: u64,
    pub types: BTreeMap<&'static str, SeenType>,
    pub distinct: HashSet<String>,
    pub examples: Vec<Value>,
    /// Lengths of arrays of numbers, and whether one holds a fraction.
    pub lengths: BTreeSet<usize>,
    pub fraction: bool,
}

pub fn type_of_text(text: &str) -> &'static str {
    // The pattern alone would let signs and blanks through.
    let is_date = |day: NaiveDate| day.to_string() == text;
    if text.len() == 10 && NaiveDate::parse_from_str(text, "%Y-%m-%d").is_ok_and(is_date) {
        "date"
    } else if DateTime::parse_from_rfc3339(text).is_ok() {
        "timestamp"
    } else {
        "string"
    }
}

/// The value of a cell's text.
pub fn cell_value(text: &str) -> Value {
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
pub struct Collected {
    pub seen: BTreeMap<String, Seen>,
    pub n: u64,
    pub n_bytes: usize,
    /// Columns that cannot be fields, and why.
    pub barred: BTreeMap<String, String>,
}

impl Collected {
    pub fn is_enough(&self) -> bool {
        self.n >= SAMPLE || self.n_bytes >= SAMPLE_BYTES
    }

    /// Takes in a value of row `row`; members of objects are columns of their own. Objects in objects go as deep as
    /// their parser lets them.
    pub fn add(&mut self, row: u64, path: &str, value: &Value) {
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
                    Some(format!("is beyond the {MAX_COLUMNS} columns that are inspected"))
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

    pub fn add_plain(&mut self, row: u64, path: String, value: &Value) {
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

/// The types that a field can have.
pub const TYPES: [&str; 8] =
    ["string", "integer", "number", "boolean", "date", "timestamp", "array of strings", "array of integers"];
