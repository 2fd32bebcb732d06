//! Vectors in a file of their own.

use crate::file::{FileError, Format};
use crate::formats::matrix::Matrix;
use crate::inspect::vector_names;
use crate::open::{keys, source as open_records};
use crate::sources::{LoadSources, Mapping, Match, TargetFields, VectorSource};
use std::collections::{BTreeMap, HashMap};
use std::io::{BufWriter, Write};
use std::sync::Arc;

/// The vectors of one column, in a file of their own.
pub struct SideVectors {
    pub column: String,
    pub name: String,
    pub matrix: Matrix,
    /// Row by key; `None` when rows go together in order.
    pub by_key: Option<HashMap<String, u64>>,
    pub encoder: Option<String>,
}

fn numbered(
    file: &str,
    keys: impl Iterator<Item = String>,
    unit: &str,
) -> Result<HashMap<String, u64>, FileError> {
    let mut by_key = HashMap::new();
    for (row, key) in keys.enumerate() {
        if let Some(first) = by_key.insert(key.clone(), row as u64) {
            let why = format!("key \"{key}\" has two vectors, at {unit} {} and {}", first + 1, row + 1);
            return Err(FileError::new(file, why));
        }
    }
    Ok(by_key)
}

/// Copies the vectors of a file with keys into a plain file that can be read at any row.
fn spooled(source: &VectorSource, sources: &LoadSources) -> Result<SideVectors, FileError> {
    let name = &source.file.name;
    let wrong = |why: String| FileError::new(name, why);
    let shape = TargetFields { fields: BTreeMap::new(), columns: vec![source.column.clone()] };
    // The file's only vector column need not be called like the collection's.
    let mut mapping = Mapping { key: sources.mapping.key.clone(), ..Mapping::default() };
    let held = vector_names(&source.file, sources.limits)?;
    match held.as_slice() {
        [one] if *one != source.column => drop(mapping.rename.insert(one.clone(), source.column.clone())),
        many if !many.contains(&source.column) => {
            return Err(wrong(format!(
                "has no vectors called \"{}\"; it has {}",
                source.column,
                if many.is_empty() { "none at all".into() } else { many.join(", ") }
            )));
        }
        _ => {}
    }
    let inner = LoadSources { target: shape, ..sources.clone() };
    let mut rows = open_records(&source.file, Arc::default(), &inner, &mapping)?;
    let file = tempfile::tempfile().map_err(|e| wrong(format!("no room to sort its vectors: {e}")))?;
    let mut out = BufWriter::new(file);
    let (mut all, mut dimensions) = (Vec::new(), 0);
    while let Some(row) = rows.next() {
        let row = row?;
        let unit = Format::of(name).unit();
        let record = row.record.map_err(|bad| wrong(format!("{unit} {} {}", row.n, bad.reason)))?;
        let Some(Some(vector)) = record.vectors.get(&source.column) else { continue };
        if all.is_empty() {
            dimensions = vector.len();
        }
        if vector.len() != dimensions {
            let (n, got) = (row.n, vector.len());
            return Err(wrong(format!(
                "{unit} {n}: its vector has {got} dimensions, those before it {dimensions}"
            )));
        }
        out.write_all(bytemuck::cast_slice(vector))
            .map_err(|e| wrong(format!("no room to sort its vectors: {e}")))?;
        all.push(record.key);
    }
    let file = out.into_inner().map_err(|e| wrong(format!("no room to sort its vectors: {e}")))?;
    let n = all.len() as u64;
    Ok(SideVectors {
        column: source.column.clone(),
        name: name.clone(),
        matrix: Matrix::plain(name, file, n, dimensions.max(1)),
        by_key: Some(numbered(name, all.into_iter(), "vectors")?),
        encoder: rows.encoders().remove(&source.column),
    })
}

pub fn side_vectors(source: &VectorSource, sources: &LoadSources) -> Result<SideVectors, FileError> {
    let name = &source.file.name;
    if !Format::of(name).is_matrix() {
        if sources.matching == Match::Row {
            let why = "has keys of its own; match it by key";
            return Err(FileError::new(name, why));
        }
        return spooled(source, sources);
    }
    let matrix = Matrix::open(&source.file)?;
    let by_key = match (sources.matching, &source.keys) {
        (Match::Row, _) => None,
        (Match::Key, None) => {
            let why = "has no keys; to match it by key, give a file that lists the key of each of its rows";
            return Err(FileError::new(name, why));
        }
        (Match::Key, Some(file)) => {
            let all = keys(file, sources)?;
            if all.len() as u64 != matrix.rows {
                let why = format!("lists {} keys, and {name} has {} rows", all.len(), matrix.rows);
                return Err(FileError::new(&file.name, why));
            }
            Some(numbered(&file.name, all.into_iter(), "lines")?)
        }
    };
    Ok(SideVectors { column: source.column.clone(), name: name.clone(), matrix, by_key, encoder: None })
}

pub fn unequal(a: &str, n_a: u64, b: &str, n_b: u64) -> FileError {
    let why = format!(
        "has {n_a} rows, and {b} has {n_b}: they cannot go together row by row; match them by key, or make both \
         from the same rows"
    );
    FileError::new(a, why)
}
