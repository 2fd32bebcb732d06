//! A look at the first rows of a file.

use crate::file::{FileError, Format, Named};
use crate::formats::matrix::Matrix;
use crate::inspect::decide::{Decided, decided, key_of};
use crate::inspect::found::{FoundField, FoundVectors, Inspection};
use crate::inspect::read::{cells, columns, json_lines};
use crate::inspect::seen::{Collected, MOST_TROUBLES, SAMPLE, Seen};
use crate::packed::Limits;
use std::collections::{BTreeMap, HashSet};

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
    look(file, limits)
}

/// An array of vectors has neither keys nor fields.
fn look_into_matrix(file: &Named, out: &mut Inspection) -> Result<(), FileError> {
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
    Ok(())
}

pub fn look(file: &Named, limits: Limits) -> Result<Inspection, FileError> {
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
        look_into_matrix(file, &mut out)?;
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
    // An object that is null in some row is no field of its own; a value in its place is a trouble.
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

/// The vector columns that a file with keys holds.
pub fn vector_names(file: &Named, limits: Limits) -> Result<Vec<String>, FileError> {
    Ok(inspect(file, limits)?.vectors.into_iter().map(|v| v.source).collect())
}
