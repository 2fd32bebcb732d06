//! Loading a file: read ahead, written in batches, reconciled at the end.

use crate::rows::{Row, Rows, Shape};
use crate::shapes::Collection;
use crate::{Client, Error};
use serde_json::{Map, Value, json};
use std::collections::HashSet;
use std::fs::File;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use tokio::sync::mpsc;

/// What a load did. `read` = `new` + `replaced` + `unchanged` + `rejected`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize)]
pub struct Loaded {
    pub read: usize,
    pub new: usize,
    pub replaced: usize,
    pub unchanged: usize,
    /// Lines that are no good; they are in the rejects file
    pub rejected: usize,
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

/// Lines that belong together, in order, none of them with a key of another.
#[derive(Default)]
struct Batch {
    lines: Vec<usize>,
    records: Vec<Value>,
    keys: HashSet<String>,
}

/// What a load should do.
#[derive(Clone, Debug)]
pub struct Plan {
    /// Records committed together
    pub batch: usize,
    /// Bad lines go here with their reason, and the load goes on; without it the first one stops it
    pub set_aside: Option<PathBuf>,
}

impl Default for Plan {
    fn default() -> Self {
        Plan { batch: 500, set_aside: None }
    }
}

/// What the reader of the file found.
enum Found {
    Batch(Batch),
    /// A line that is no record: its number, its text, what is wrong with it.
    Bad(usize, String, String),
}

/// The file of rejected lines. Each is the record with a member `rejected` that says where it
/// stood and why; mended, the file can be loaded as it is.
struct Rejects {
    path: PathBuf,
    file: Option<File>,
    n: usize,
}

impl Rejects {
    fn add(&mut self, line: usize, record: Result<&Value, &str>, reason: &str) -> io::Result<()> {
        let mut out = match record {
            Ok(Value::Object(record)) => record.clone(),
            _ => Map::new(),
        };
        let mut why = json!({"line": line, "reason": reason});
        if let Err(text) = record {
            why["text"] = json!(text);
        }
        out.insert("rejected".into(), why);
        if self.file.is_none() {
            // Neither the file that is being loaded nor rejects of an earlier load are written over.
            self.file = Some(File::create_new(&self.path)?);
        }
        self.n += 1;
        match &mut self.file {
            Some(file) => writeln!(file, "{}", Value::Object(out)),
            None => Ok(()),
        }
    }
}

/// Reads the file into batches; `send` returns false when nobody listens any more.
fn read_batches(rows: Rows, size: usize, send: impl Fn(Found) -> bool) -> Result<(), String> {
    let mut batch = Batch::default();
    for row in rows {
        let Row { line, text, record } = row?;
        match record {
            Ok(record) => {
                let key = record["key"].as_str().unwrap_or("").to_owned();
                // Of one key twice in a file the later line wins: it must come in a later batch.
                let full = batch.records.len() == size || batch.keys.contains(&key);
                if full && !send(Found::Batch(std::mem::take(&mut batch))) {
                    return Ok(());
                }
                batch.keys.insert(key);
                batch.lines.push(line);
                batch.records.push(record);
            }
            Err(why) => {
                // What stands before the bad line comes first.
                if !send(Found::Batch(std::mem::take(&mut batch))) || !send(Found::Bad(line, text, why)) {
                    return Ok(());
                }
            }
        }
    }
    send(Found::Batch(batch));
    Ok(())
}

/// Loads a file into a collection, in order: of one key twice the later line wins. What was written
/// before a failure stays; loading the mended file again finds it unchanged.
pub async fn load_file(
    client: &Client,
    collection: &Collection,
    path: &Path,
    plan: &Plan,
    mut progress: impl FnMut(Progress),
) -> Result<Loaded, LoadError> {
    let file = path.display().to_string();
    let shape = Shape::of(collection);
    let bytes = Arc::new(AtomicU64::new(0));
    let (send, mut found) = mpsc::channel::<Found>(2);
    let (path, counted, size): (PathBuf, _, _) = (path.into(), bytes.clone(), plan.batch);
    let total_bytes = std::fs::metadata(&path).ok().map(|m| m.len());
    let reading = tokio::task::spawn_blocking(move || {
        read_batches(Rows::open(&path, shape, counted)?, size, |f| send.blocking_send(f).is_ok())
    });
    let mut rejects = plan.set_aside.clone().map(|path| Rejects { path, file: None, n: 0 });
    let mut loaded = Loaded::default();
    let failed = |place: String, why: String, committed: usize| LoadError::File {
        file: file.clone(),
        place,
        why,
        committed,
    };
    while let Some(found) = found.recv().await {
        match found {
            Found::Bad(line, text, why) => {
                let Some(rejects) = &mut rejects else {
                    return Err(failed(format!(", line {line}"), why, loaded.read));
                };
                loaded.read += 1;
                rejects.add(line, Err(&text), &why).map_err(|e| {
                    failed(String::new(), format!("{}: {e}", rejects.path.display()), loaded.read)
                })?;
            }
            Found::Batch(batch) if batch.records.is_empty() => {}
            Found::Batch(batch) => {
                let written = match &rejects {
                    Some(_) => client.write_good(&collection.name, &batch.records).await,
                    None => client.write(&collection.name, &batch.records).await,
                };
                let written = written.map_err(|source| LoadError::Service {
                    place: place(&source, &batch),
                    file: file.clone(),
                    source,
                    committed: loaded.read,
                })?;
                loaded.read += written.read;
                loaded.new += written.new;
                loaded.replaced += written.replaced;
                loaded.unchanged += written.unchanged;
                loaded.revision = written.revision;
                if let Some(rejects) = &mut rejects {
                    for bad in &written.rejected {
                        rejects.add(batch.lines[bad.at], Ok(&batch.records[bad.at]), &bad.detail).map_err(
                            |e| {
                                failed(String::new(), format!("{}: {e}", rejects.path.display()), loaded.read)
                            },
                        )?;
                    }
                }
            }
        }
        progress(Progress { records: loaded.read, bytes: bytes.load(Ordering::Relaxed), total_bytes });
    }
    loaded.rejected = rejects.map_or(0, |r| r.n);
    match reading.await {
        Ok(Ok(())) => {}
        Ok(Err(why)) => return Err(failed(String::new(), why, loaded.read)),
        Err(e) => return Err(failed(String::new(), e.to_string(), loaded.read)),
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

/// The pointer of a refusal names the record of the batch; the person knows lines of the file.
fn place(error: &Error, batch: &Batch) -> String {
    let pointer = error.problem().and_then(|p| p.pointer.as_deref());
    let at: Option<usize> =
        pointer.and_then(|p| p.strip_prefix("/records/")?.split('/').next()?.parse().ok());
    match (at.and_then(|i| batch.lines.get(i)), batch.lines.first(), batch.lines.last()) {
        (Some(line), _, _) => format!(", line {line}"),
        (None, Some(first), Some(last)) => format!(", lines {first} to {last}"),
        _ => String::new(),
    }
}
