//! Types that were chosen for columns: what they would reject of a whole file.

use crate::file::{FileError, Named};
use crate::inspect::found::{Choice, Inspection};
use crate::inspect::look::look;
use crate::inspect::seen::{TYPES, type_of_text};
use crate::open::source;
use crate::packed::Limits;
use crate::sources::{Kind, LoadSources, Match, TargetFields};
use serde_json::Value;
use std::collections::BTreeMap;
use std::sync::Arc;

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
            let why = format!("\"{kind}\" is not a type of a field; take one of {}", TYPES.join(", "));
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
        "integer" | "number" => Kind::Number,
        "boolean" => Kind::Boolean,
        "array of strings" | "array of integers" => Kind::Array,
        _ => Kind::Text,
    };
    let mapping = found.mapping();
    let plan = LoadSources {
        records: Some(file.clone()),
        vectors: Vec::new(),
        matching: Match::Row,
        mapping: mapping.clone(),
        target: TargetFields {
            fields: found.fields.iter().map(|f| (f.name.clone(), kind(&f.r#type))).collect(),
            columns: found.vectors.iter().map(|v| v.name.clone()).collect(),
        },
        limits,
        keep_text: false,
    };
    let mut counts: BTreeMap<&str, Choice> = BTreeMap::new();
    for (column, kind) in types {
        counts.insert(column, Choice { r#type: kind.clone(), n_rejected: 0, first: None });
    }
    let mut rows = source(file, Arc::default(), &plan, &mapping)?;
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
