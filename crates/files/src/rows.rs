//! The records of one or several files, one after the other.

use crate::columnar::Columnar;
use crate::matrix::Matrix;
use crate::packed::open_text;
use crate::text::{Csv, JsonLines};
use crate::{FileError, Format, Mapping, Match, Named, Plan, Shape, VectorSource};
use serde_json::{Map, Value};
use std::collections::{BTreeMap, HashMap};
use std::io::{BufRead, BufWriter, Read, Write};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// A record as a file holds it. Nothing of it is checked against a collection yet.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Record {
    pub key: String,
    pub fields: Map<String, Value>,
    /// By vector column; `None` says that there is none.
    pub vectors: BTreeMap<String, Option<Vec<f32>>>,
}

/// A row that is no record.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Bad {
    /// Completes the sentence "line 7 ...".
    pub reason: String,
    /// What stands there, when it is text.
    pub text: String,
}

impl Bad {
    pub(crate) fn new(reason: impl Into<String>, text: &str) -> Bad {
        Bad { reason: reason.into(), text: text.chars().take(100_000).collect() }
    }
}

#[derive(Clone, Debug, PartialEq)]
pub struct Row {
    /// Its line, from 1, or its row, from 0: see [`Format::unit`].
    pub n: u64,
    pub record: Result<Record, Bad>,
    /// Bytes that it takes in the file, or about.
    pub n_bytes: usize,
    /// The row as a line of JSON, where the plan keeps it.
    pub text: Option<String>,
}

impl Row {
    fn new(n: u64, record: Record) -> Row {
        Row { n, record: Ok(record), n_bytes: 64, text: None }
    }
}

pub(crate) trait Source: Send {
    fn next(&mut self) -> Option<Result<Row, FileError>>;
    /// Passes over up to `rows` rows without reading what is in them; returns how many there were.
    fn skip(&mut self, rows: u64) -> Result<u64, FileError>;
    /// The encoder that the file says made the vectors of a column, by column.
    fn encoders(&self) -> BTreeMap<String, String> {
        BTreeMap::new()
    }
}

/// Opens a file of records.
pub(crate) fn source(
    file: &Named,
    bytes: Arc<AtomicU64>,
    plan: &Plan,
    mapping: &Mapping,
) -> Result<Box<dyn Source>, FileError> {
    let shape = &plan.shape;
    Ok(match Format::of(&file.name) {
        Format::JsonLines => Box::new(JsonLines::open(file, bytes, plan, mapping)?),
        Format::Csv => Box::new(Csv::open(file, bytes, plan, mapping)?.checked()?),
        Format::Parquet | Format::Arrow => Box::new(Columnar::open(file, bytes, mapping, shape)?.checked()?),
        _ => {
            let why = "holds vectors only; give it as the vectors of a column";
            return Err(FileError::new(&file.name, why));
        }
    })
}

/// Keys `0`, `1`, ...: what the rows of an array are called when nobody names them.
struct Numbered {
    next: u64,
    rows: u64,
}

impl Source for Numbered {
    fn next(&mut self) -> Option<Result<Row, FileError>> {
        if self.next == self.rows {
            return None;
        }
        let n = self.next;
        self.next += 1;
        Some(Ok(Row::new(n, Record { key: n.to_string(), ..Record::default() })))
    }
    fn skip(&mut self, rows: u64) -> Result<u64, FileError> {
        let n = rows.min(self.rows - self.next);
        self.next += n;
        Ok(n)
    }
}

/// Keys from a list of them.
struct Listed {
    keys: std::vec::IntoIter<String>,
    next: u64,
}

impl Source for Listed {
    fn next(&mut self) -> Option<Result<Row, FileError>> {
        let key = self.keys.next()?;
        self.next += 1;
        Some(Ok(Row::new(self.next, Record { key, ..Record::default() })))
    }
    fn skip(&mut self, rows: u64) -> Result<u64, FileError> {
        let n = self.keys.by_ref().take(rows as usize).count() as u64;
        self.next += n;
        Ok(n)
    }
}

/// The vectors of one column beside the records.
struct Beside {
    column: String,
    name: String,
    matrix: Matrix,
    /// Row by key; `None` when rows go together in order.
    by_key: Option<HashMap<String, u64>>,
    encoder: Option<String>,
}

/// Bytes of a line in a list of keys.
const MAX_KEY_LINE: u64 = 4096;

/// One key a line.
fn keys(file: &Named, plan: &Plan) -> Result<Vec<String>, FileError> {
    let mut reader = open_text(file, Arc::default(), plan.limits)?;
    let mut all = Vec::new();
    let mut line = Vec::new();
    loop {
        line.clear();
        let n = all.len() + 1;
        let wrong = |why: String| FileError::new(&file.name, format!("line {n}: {why}"));
        // A key has 190 bytes at most; a line much longer is none.
        (&mut reader)
            .take(MAX_KEY_LINE + 1)
            .read_until(b'\n', &mut line)
            .map_err(|e| wrong(e.to_string()))?;
        if line.is_empty() {
            return Ok(all);
        }
        if line.len() as u64 > MAX_KEY_LINE {
            return Err(wrong(format!("is longer than {MAX_KEY_LINE} bytes; the file lists one key a line")));
        }
        let key = std::str::from_utf8(&line).map_err(|_| wrong("is not valid UTF-8".into()))?;
        all.push(key.trim_end_matches(['\r', '\n']).to_owned());
    }
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
fn spooled(source: &VectorSource, plan: &Plan) -> Result<Beside, FileError> {
    let name = &source.file.name;
    let wrong = |why: String| FileError::new(name, why);
    let shape = Shape { fields: BTreeMap::new(), columns: vec![source.column.clone()] };
    // The file's only vector column need not be called like the collection's.
    let mut mapping = Mapping { key: plan.mapping.key.clone(), ..Mapping::default() };
    let held = crate::inspect::vector_names(&source.file, plan.limits)?;
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
    let inner = Plan { shape, ..plan.clone() };
    let mut rows = self::source(&source.file, Arc::default(), &inner, &mapping)?;
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
    Ok(Beside {
        column: source.column.clone(),
        name: name.clone(),
        matrix: Matrix::plain(name, file, n, dimensions.max(1)),
        by_key: Some(numbered(name, all.into_iter(), "vectors")?),
        encoder: rows.encoders().remove(&source.column),
    })
}

fn beside(source: &VectorSource, plan: &Plan) -> Result<Beside, FileError> {
    let name = &source.file.name;
    if !Format::of(name).is_matrix() {
        if plan.matching == Match::Row {
            let why = "has keys of its own; match it by key";
            return Err(FileError::new(name, why));
        }
        return spooled(source, plan);
    }
    let matrix = Matrix::open(&source.file)?;
    let by_key = match (plan.matching, &source.keys) {
        (Match::Row, _) => None,
        (Match::Key, None) => {
            let why = "has no keys; to match it by key, give a file that lists the key of each of its rows";
            return Err(FileError::new(name, why));
        }
        (Match::Key, Some(file)) => {
            let all = keys(file, plan)?;
            if all.len() as u64 != matrix.rows {
                let why = format!("lists {} keys, and {name} has {} rows", all.len(), matrix.rows);
                return Err(FileError::new(&file.name, why));
            }
            Some(numbered(&file.name, all.into_iter(), "lines")?)
        }
    };
    Ok(Beside { column: source.column.clone(), name: name.clone(), matrix, by_key, encoder: None })
}

/// Records in a file, counted without reading what is in them.
fn count(file: &Named, plan: &Plan) -> Result<u64, FileError> {
    if matches!(Format::of(&file.name), Format::Parquet | Format::Arrow)
        && let Some(rows) = Columnar::open(file, Arc::default(), &plan.mapping, &plan.shape)?.rows
    {
        return Ok(rows);
    }
    source(file, Arc::default(), plan, &plan.mapping)?.skip(u64::MAX)
}

/// The records of a plan, in order.
pub struct Rows {
    source: Box<dyn Source>,
    beside: Vec<Beside>,
    /// Records handed out or passed over.
    position: u64,
    bytes: Arc<AtomicU64>,
    /// Bytes of all files.
    pub total_bytes: u64,
    /// Bytes count as they are read; where they cannot, by rows.
    counted: bool,
    known_rows: Option<u64>,
    /// The file that rows are counted in, and what its rows are called.
    pub file: String,
    pub unit: &'static str,
    /// The encoder that the files say made the vectors of a column, by column.
    pub encoders: BTreeMap<String, String>,
}

fn size(file: &Named) -> u64 {
    std::fs::metadata(&file.path).map_or(0, |m| m.len())
}

impl Rows {
    /// Opens every file. What is wrong with a file as a whole is found here, before a row is read.
    pub fn open(plan: &Plan) -> Result<Rows, FileError> {
        let bytes: Arc<AtomicU64> = Arc::default();
        let beside: Vec<Beside> = plan.vectors.iter().map(|v| beside(v, plan)).collect::<Result<_, _>>()?;
        let vector_bytes: u64 = plan.vectors.iter().map(|v| size(&v.file)).sum();
        let first = beside.first();
        let Some(file) = &plan.records else {
            let Some(first) = first else { return Err(FileError::new("", "name a file to load")) };
            if let Some(other) = beside.iter().find(|b| b.matrix.rows != first.matrix.rows) {
                return Err(unequal(&other.name, other.matrix.rows, &first.name, first.matrix.rows));
            }
            let (name, rows) = (first.name.clone(), first.matrix.rows);
            let source: Box<dyn Source> = match plan.vectors.first().and_then(|v| v.keys.as_ref()) {
                Some(file) => {
                    let all = keys(file, plan)?;
                    if all.len() as u64 != rows {
                        return Err(unequal(&file.name, all.len() as u64, &name, rows));
                    }
                    Box::new(Listed { keys: all.into_iter(), next: 0 })
                }
                None => Box::new(Numbered { next: 0, rows }),
            };
            let beside = beside.into_iter().map(|b| Beside { by_key: None, ..b }).collect();
            return Ok(Rows {
                source,
                beside,
                position: 0,
                bytes,
                total_bytes: vector_bytes,
                counted: false,
                known_rows: Some(rows),
                file: name,
                unit: "row",
                encoders: BTreeMap::new(),
            });
        };
        let format = Format::of(&file.name);
        let mut known_rows = None;
        if beside.iter().any(|b| b.by_key.is_none()) || format == Format::Parquet {
            let rows = count(file, plan)?;
            known_rows = Some(rows);
            if let Some(other) = beside.iter().find(|b| b.by_key.is_none() && b.matrix.rows != rows) {
                return Err(unequal(&other.name, other.matrix.rows, &file.name, rows));
            }
        }
        let source = source(file, bytes.clone(), plan, &plan.mapping)?;
        let mut encoders = source.encoders();
        encoders.extend(beside.iter().filter_map(|b| Some((b.column.clone(), b.encoder.clone()?))));
        Ok(Rows {
            source,
            encoders,
            beside,
            position: 0,
            bytes,
            total_bytes: vector_bytes + size(file),
            counted: format != Format::Parquet && plan.vectors.is_empty(),
            known_rows,
            file: file.name.clone(),
            unit: format.unit(),
        })
    }

    /// Goes on after `position` records, as if they had been read.
    pub fn pass(&mut self, position: u64) -> Result<(), FileError> {
        self.source.skip(position)?;
        self.position += position;
        Ok(())
    }

    /// Records handed out or passed over so far.
    pub fn position(&self) -> u64 {
        self.position
    }

    /// Bytes of the files that are behind us: as counted, or by the share of rows.
    pub fn bytes_read(&self) -> u64 {
        match self.known_rows {
            Some(rows) if !self.counted => {
                (self.total_bytes as f64 * self.position as f64 / rows.max(1) as f64) as u64
            }
            _ => self.bytes.load(Ordering::Relaxed).min(self.total_bytes),
        }
    }
}

fn unequal(a: &str, n_a: u64, b: &str, n_b: u64) -> FileError {
    let why = format!(
        "has {n_a} rows, and {b} has {n_b}: they cannot go together row by row; match them by key, or make both \
         from the same rows"
    );
    FileError::new(a, why)
}

impl Iterator for Rows {
    type Item = Result<Row, FileError>;

    fn next(&mut self) -> Option<Self::Item> {
        let mut row = match self.source.next()? {
            Ok(row) => row,
            Err(e) => return Some(Err(e)),
        };
        if let Ok(record) = &mut row.record {
            for beside in &mut self.beside {
                let at = match &beside.by_key {
                    None => Some(self.position),
                    Some(by_key) => by_key.get(&record.key).copied(),
                };
                if let Some(at) = at {
                    match beside.matrix.row(at) {
                        Ok(vector) => {
                            row.n_bytes += vector.len() * 4;
                            record.vectors.insert(beside.column.clone(), Some(vector));
                        }
                        Err(e) => return Some(Err(e)),
                    }
                }
            }
        }
        self.position += 1;
        Some(Ok(row))
    }
}
