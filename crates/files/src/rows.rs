//! The records of one or several files, one after the other.

use crate::file::{FileError, Format};
use crate::open::{Listed, Numbered, count, keys, size, source};
use crate::row::{Row, Source};
use crate::sources::LoadSources;
use crate::vectors::{SideVectors, side_vectors, unequal};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// The records of load sources, in order.
pub struct Rows {
    source: Box<dyn Source>,
    side: Vec<SideVectors>,
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

impl Iterator for Rows {
    type Item = Result<Row, FileError>;

    fn next(&mut self) -> Option<Self::Item> {
        let mut row = match self.source.next()? {
            Ok(row) => row,
            Err(e) => return Some(Err(e)),
        };
        if let Ok(record) = &mut row.record {
            for side in &mut self.side {
                let at = match &side.by_key {
                    None => Some(self.position),
                    Some(by_key) => by_key.get(&record.key).copied(),
                };
                if let Some(at) = at {
                    match side.matrix.row(at) {
                        Ok(vector) => {
                            row.n_bytes += vector.len() * 4;
                            record.vectors.insert(side.column.clone(), Some(vector));
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

impl Rows {
    /// Opens every file. What is wrong with a file as a whole is found here, before a row is read.
    pub fn open(sources: &LoadSources) -> Result<Rows, FileError> {
        let bytes: Arc<AtomicU64> = Arc::default();
        let side: Vec<SideVectors> =
            sources.vectors.iter().map(|v| side_vectors(v, sources)).collect::<Result<_, _>>()?;
        let vector_bytes: u64 = sources.vectors.iter().map(|v| size(&v.file)).sum();
        let first = side.first();
        let Some(file) = &sources.records else {
            let Some(first) = first else { return Err(FileError::new("", "name a file to load")) };
            if let Some(other) = side.iter().find(|b| b.matrix.rows != first.matrix.rows) {
                return Err(unequal(&other.name, other.matrix.rows, &first.name, first.matrix.rows));
            }
            let (name, rows) = (first.name.clone(), first.matrix.rows);
            let source: Box<dyn Source> = match sources.vectors.first().and_then(|v| v.keys.as_ref()) {
                Some(file) => {
                    let all = keys(file, sources)?;
                    if all.len() as u64 != rows {
                        return Err(unequal(&file.name, all.len() as u64, &name, rows));
                    }
                    Box::new(Listed { keys: all.into_iter(), next: 0 })
                }
                None => Box::new(Numbered { next: 0, rows }),
            };
            let side = side.into_iter().map(|b| SideVectors { by_key: None, ..b }).collect();
            return Ok(Rows {
                source,
                side,
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
        if side.iter().any(|b| b.by_key.is_none()) || format == Format::Parquet {
            let rows = count(file, sources)?;
            known_rows = Some(rows);
            if let Some(other) = side.iter().find(|b| b.by_key.is_none() && b.matrix.rows != rows) {
                return Err(unequal(&other.name, other.matrix.rows, &file.name, rows));
            }
        }
        let source = source(file, bytes.clone(), sources, &sources.mapping)?;
        let mut encoders = source.encoders();
        encoders.extend(side.iter().filter_map(|b| Some((b.column.clone(), b.encoder.clone()?))));
        Ok(Rows {
            source,
            encoders,
            side,
            position: 0,
            bytes,
            total_bytes: vector_bytes + size(file),
            counted: format != Format::Parquet && sources.vectors.is_empty(),
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
