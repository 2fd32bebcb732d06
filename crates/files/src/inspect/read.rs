//! Reading the first rows of a file into what was seen.

use crate::file::{FileError, Named};
use crate::formats::columnar::{Columnar, vector_items};
use crate::formats::csv::{Csv, CsvRow};
use crate::formats::jsonlines::{JSON_ARRAY, opens_array};
use crate::inspect::seen::{Collected, MOST_TROUBLES, cell_value};
use crate::packed::{Limits, open_text};
use crate::sources::{LoadSources, Mapping, Match, TargetFields};
use serde_json::Value;
use std::collections::BTreeMap;
use std::io::BufRead;
use std::sync::Arc;

pub fn json_lines(
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
        match zesty_wire::strict::from_str(text) {
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

pub fn cells(
    file: &Named,
    limits: Limits,
    all: &mut Collected,
    troubles: &mut Vec<String>,
) -> Result<(), FileError> {
    let plan = LoadSources {
        records: None,
        vectors: Vec::new(),
        matching: Match::Row,
        mapping: Mapping::default(),
        target: TargetFields::default(),
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

pub fn columns(
    file: &Named,
    all: &mut Collected,
    elements: &mut BTreeMap<String, String>,
    troubles: &mut Vec<String>,
) -> Result<Option<u64>, FileError> {
    let mut columnar = Columnar::open(file, Arc::default(), &Mapping::default(), &TargetFields::default())?;
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
