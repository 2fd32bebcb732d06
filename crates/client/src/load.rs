//! Loading a JSON Lines file: read ahead, written in batches, reconciled at the end.
//!
//! A line is a record of the API (`key`, `fields`, `vectors`), or flat: `key` and the fields beside
//! it; a member named like a vector column that holds an array of numbers is that column's vector.

use crate::shapes::Collection;
use crate::{Client, Error};
use flate2::read::MultiGzDecoder;
use serde_json::{Map, Value, json};
use std::fs::File;
use std::io::{self, BufRead, BufReader, Read};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use tokio::sync::mpsc;

/// What a load did. `read` = `new` + `replaced`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize)]
pub struct Loaded {
    pub read: usize,
    pub new: usize,
    pub replaced: usize,
    pub revision: u64,
    /// Records in the collection afterwards, as it counts them
    pub in_collection: usize,
}

/// How far a load has come.
#[derive(Clone, Copy, Debug)]
pub struct Progress {
    pub records: usize,
    /// Bytes of the file, packed as it is
    pub bytes: u64,
    /// Of the whole file; `None` for standard input
    pub total_bytes: Option<u64>,
}

#[derive(Debug, thiserror::Error)]
pub enum LoadError {
    /// The file cannot be read, or a line of it is no record.
    #[error("{file}{place}: {why}")]
    File { file: String, place: String, why: String, committed: usize },
    /// The service refused a batch.
    #[error("{file}{place}: {source}")]
    Service { file: String, place: String, source: Error, committed: usize },
}

impl LoadError {
    /// Records written before it went wrong; they stay.
    pub fn committed(&self) -> usize {
        match self {
            LoadError::File { committed, .. } | LoadError::Service { committed, .. } => *committed,
        }
    }
}

struct Counted<R> {
    inner: R,
    bytes: Arc<AtomicU64>,
}

impl<R: Read> Read for Counted<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let n = self.inner.read(buffer)?;
        self.bytes.fetch_add(n as u64, Ordering::Relaxed);
        Ok(n)
    }
}

struct Batch {
    lines: Vec<usize>,
    records: Vec<Value>,
}

/// Opens a file (`-` is standard input), unpacking gzip when it begins like gzip.
fn open(path: &Path, bytes: Arc<AtomicU64>) -> io::Result<Box<dyn BufRead + Send>> {
    let inner: Box<dyn Read + Send> = if path == Path::new("-") {
        Box::new(io::stdin())
    } else {
        let file = File::open(path)?;
        if file.metadata()?.is_dir() {
            return Err(io::Error::other("is a directory; give a JSON Lines file"));
        }
        Box::new(file)
    };
    let mut reader = BufReader::with_capacity(1 << 16, Counted { inner, bytes });
    let packed = reader.fill_buf()?.starts_with(&[0x1f, 0x8b]);
    Ok(if packed { Box::new(BufReader::new(MultiGzDecoder::new(reader))) } else { Box::new(reader) })
}

/// One line as a record of the API.
fn record(line: &str, columns: &[String]) -> Result<Value, String> {
    let value: Value = serde_json::from_str(line).map_err(|e| format!("is not JSON: {e}"))?;
    let Value::Object(mut row) = value else { return Err("is not a JSON object".into()) };
    if row.contains_key("key") && row.get("fields").is_some_and(Value::is_object) {
        return Ok(Value::Object(row));
    }
    let key = match row.remove("key") {
        Some(Value::String(key)) => key,
        Some(Value::Number(n)) => n.to_string(),
        Some(other) => return Err(format!("its key is {other}; a key is a string")),
        None => return Err("has no \"key\"".into()),
    };
    let mut vectors = Map::new();
    for column in columns {
        if row.get(column).and_then(Value::as_array).is_some_and(|a| a.iter().all(Value::is_number)) {
            vectors.insert(column.clone(), row.remove(column).unwrap_or(Value::Null));
        }
    }
    Ok(json!({"key": key, "fields": row, "vectors": vectors}))
}

fn read_batches(
    path: &Path,
    columns: &[String],
    size: usize,
    bytes: Arc<AtomicU64>,
    send: impl Fn(Batch) -> bool,
) -> Result<(), (usize, String)> {
    let reader = open(path, bytes).map_err(|e| (0, e.to_string()))?;
    let empty = || Batch { lines: Vec::with_capacity(size), records: Vec::with_capacity(size) };
    let mut batch = empty();
    for (i, line) in reader.lines().enumerate() {
        let outcome = match line {
            Ok(line) if line.trim().is_empty() => continue,
            Ok(line) => record(&line, columns),
            Err(e) if e.kind() == io::ErrorKind::InvalidData => Err("is not valid UTF-8".into()),
            Err(e) => Err(format!("cannot be read: {e}")),
        };
        match outcome {
            Ok(record) => {
                batch.lines.push(i + 1);
                batch.records.push(record);
            }
            Err(why) => {
                // What stands before the bad line is still good.
                if !batch.records.is_empty() {
                    send(batch);
                }
                return Err((i + 1, why));
            }
        }
        if batch.records.len() == size && !send(std::mem::replace(&mut batch, empty())) {
            return Ok(());
        }
    }
    if !batch.records.is_empty() {
        send(batch);
    }
    Ok(())
}

/// Loads a file into a collection. Stops at the first bad line or refused batch; what was written
/// before stays, and loading the mended file again replaces it.
pub async fn load_file(
    client: &Client,
    collection: &Collection,
    path: &Path,
    batch_size: usize,
    mut progress: impl FnMut(Progress),
) -> Result<Loaded, LoadError> {
    let file = path.display().to_string();
    let columns: Vec<String> = collection.columns.iter().map(|c| c.name.clone()).collect();
    let bytes = Arc::new(AtomicU64::new(0));
    let (send, mut batches) = mpsc::channel::<Batch>(2);
    let (path, counted): (PathBuf, _) = (path.into(), bytes.clone());
    let reading = tokio::task::spawn_blocking(move || {
        read_batches(&path, &columns, batch_size, counted, |b| send.blocking_send(b).is_ok())
    });
    let total_bytes = std::fs::metadata(&file).ok().map(|m| m.len());
    let mut loaded = Loaded::default();
    while let Some(batch) = batches.recv().await {
        let written = client.write(&collection.name, &batch.records).await.map_err(|source| {
            // The pointer names the record of the batch; the person knows lines of the file.
            let at = source
                .problem()
                .and_then(|p| p.pointer.as_deref())
                .and_then(|p| p.strip_prefix("/records/")?.split('/').next()?.parse::<usize>().ok());
            let first = batch.lines.first().copied().unwrap_or(0);
            let last = batch.lines.last().copied().unwrap_or(0);
            let place = match at.and_then(|i| batch.lines.get(i)) {
                Some(line) => format!(", line {line}"),
                None => format!(", lines {first} to {last}"),
            };
            LoadError::Service { file: file.clone(), place, source, committed: loaded.read }
        })?;
        loaded.read += written.read;
        loaded.new += written.new;
        loaded.replaced += written.replaced;
        loaded.revision = written.revision;
        progress(Progress { records: loaded.read, bytes: bytes.load(Ordering::Relaxed), total_bytes });
    }
    let failed = |line: usize, why: String| LoadError::File {
        file: file.clone(),
        place: if line == 0 { String::new() } else { format!(", line {line}") },
        why,
        committed: loaded.read,
    };
    match reading.await {
        Ok(Ok(())) => {}
        Ok(Err((line, why))) => return Err(failed(line, why)),
        Err(e) => return Err(failed(0, e.to_string())),
    }
    let after = client.collection(&collection.name).await.map_err(|source| LoadError::Service {
        file: file.clone(),
        place: String::new(),
        source,
        committed: loaded.read,
    })?;
    loaded.in_collection = after.n_records;
    Ok(loaded)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn flat_and_full_lines_become_records() {
        let columns = ["meaning".to_owned()];
        let flat = record(r#"{"key": 7, "year": 1931, "meaning": [1, 2]}"#, &columns).unwrap();
        assert_eq!(flat, json!({"key": "7", "fields": {"year": 1931}, "vectors": {"meaning": [1, 2]}}));
        let full = r#"{"key": "a", "fields": {"year": 1}}"#;
        assert_eq!(record(full, &columns).unwrap(), serde_json::from_str::<Value>(full).unwrap());
        for bad in ["[]", "{", r#"{"year": 1}"#, r#"{"key": null}"#] {
            assert!(record(bad, &columns).is_err(), "{bad}");
        }
    }
}
