//! Loading: files are sent to the service as they are, and a job there reads them.

use crate::client::{Client, Error};
use serde_json::Value;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::SystemTime;
use tokio::io::{AsyncReadExt, AsyncSeekExt};
use zesty_wire::{Job, LoadRequest, LoadResult, LoadVectors, Upload};

/// Bytes that are read and sent together.
const PIECE: usize = 1 << 20;

/// A file of vectors of one column.
#[derive(Clone, Debug)]
pub struct VectorFile {
    /// The default column when absent
    pub column: Option<String>,
    pub file: PathBuf,
    /// The keys of its rows, one a line
    pub keys: Option<PathBuf>,
}

/// What a load is made of.
#[derive(Clone, Debug, Default)]
pub struct LoadFiles {
    pub records: Option<PathBuf>,
    pub vectors: Vec<VectorFile>,
    /// The request but for its files, which are named when they have been sent
    pub options: LoadRequest,
    /// What standard input is called; the end of the name says the format
    pub stdin_name: Option<String>,
}

/// How far a load has come.
pub enum Progress<'a> {
    /// A file, bytes of it sent, bytes in all where that is known
    Sending(&'a str, u64, Option<u64>),
    Loading(&'a Job),
}

#[derive(Debug, thiserror::Error)]
pub enum LoadError {
    #[error("{file}: {why}")]
    File { file: String, why: String },
    #[error("{0}")]
    Service(#[from] Error),
    /// The job did not succeed; what it committed stays.
    #[error("{why}")]
    Stopped { load: i64, why: String, job: Box<Job> },
}

fn wrong(file: &Path, why: impl ToString) -> LoadError {
    LoadError::File { file: file.display().to_string(), why: why.to_string() }
}

/// What tells that a file is still the one we began with.
#[derive(Clone, Copy, PartialEq, Eq)]
struct Mark(u64, Option<SystemTime>);

fn mark(path: &Path) -> io::Result<Mark> {
    let meta = std::fs::metadata(path)?;
    if meta.is_dir() {
        return Err(io::Error::other("is a directory; name a file in it"));
    }
    Ok(Mark(meta.len(), meta.modified().ok()))
}

/// Sends a file, or the rest of one that broke off. A file that changes meanwhile is refused.
pub async fn send_file(
    client: &Client,
    path: &Path,
    name: &str,
    begun: Option<&Upload>,
    progress: &mut dyn FnMut(Progress),
) -> Result<Upload, LoadError> {
    let stdin = path == Path::new("-");
    let before = if stdin { None } else { Some(mark(path).map_err(|e| wrong(path, e))?) };
    let bytes = before.map(|m| m.0);
    let upload = match begun {
        Some(upload) => upload.clone(),
        None => client.announce_file(name, bytes).await?,
    };
    if upload.complete {
        return Ok(upload);
    }
    let reader: Box<dyn tokio::io::AsyncRead + Send + Unpin> = if stdin {
        Box::new(tokio::io::stdin())
    } else {
        let mut file = tokio::fs::File::open(path).await.map_err(|e| wrong(path, e))?;
        file.seek(io::SeekFrom::Start(upload.received)).await.map_err(|e| wrong(path, e))?;
        // No more than was announced, whatever is appended meanwhile.
        Box::new(file.take(bytes.unwrap_or(0).saturating_sub(upload.received)))
    };
    let sent = Arc::new(AtomicU64::new(upload.received));
    let counted = sent.clone();
    let pieces = futures::stream::unfold(Some(reader), move |reader| {
        let counted = counted.clone();
        async move {
            let mut reader = reader?;
            let mut piece = vec![0; PIECE];
            match reader.read(&mut piece).await {
                Ok(0) => None,
                Ok(n) => {
                    piece.truncate(n);
                    counted.fetch_add(n as u64, Ordering::Relaxed);
                    Some((Ok(piece), Some(reader)))
                }
                Err(e) => Some((Err(e), None)),
            }
        }
    });
    let sending = client.send_content(&upload.id, upload.received, reqwest::Body::wrap_stream(pieces));
    tokio::pin!(sending);
    let mut tick = tokio::time::interval(std::time::Duration::from_millis(100));
    let done = loop {
        tokio::select! {
            done = &mut sending => break done?,
            _ = tick.tick() => progress(Progress::Sending(name, sent.load(Ordering::Relaxed), bytes)),
        }
    };
    progress(Progress::Sending(name, done.received, bytes));
    let after = if stdin { None } else { mark(path).ok() };
    if after != before {
        let _ = client.remove_file(&done.id).await;
        let (was, now) = (before.map_or(0, |m| m.0), after.map_or(0, |m| m.0));
        let why =
            format!("changed while it was read ({was} bytes before, {now} now); load it when it is complete");
        return Err(wrong(path, why));
    }
    Ok(done)
}

/// Starts a load: sends its files, then asks for the job. Returns the numbers of the load and its job.
pub async fn start_load(
    client: &Client,
    collection: &str,
    files: &LoadFiles,
    begun: &[Upload],
    progress: &mut dyn FnMut(Progress),
) -> Result<(i64, i64), LoadError> {
    let mut request = files.options.clone();
    let mut sent = Vec::new();
    let outcome = async {
        if let Some(path) = &files.records {
            request.records = Some(send(client, files, path, begun, progress, &mut sent).await?);
        }
        for VectorFile { column, file, keys } in &files.vectors {
            let file = send(client, files, file, begun, progress, &mut sent).await?;
            let keys = match keys {
                Some(keys) => Some(send(client, files, keys, begun, progress, &mut sent).await?),
                None => None,
            };
            request.vectors.push(LoadVectors { column: column.clone(), file, keys });
        }
        Ok::<_, LoadError>(client.create_load(collection, &request).await?)
    }
    .await;
    match outcome {
        Ok(started) => Ok((started.load, started.job.id)),
        Err(e) => {
            // A load that is refused keeps nothing; one that broke off can go on.
            if matches!(&e, LoadError::Service(Error::Refused(_))) {
                for id in &sent {
                    let _ = client.remove_file(id).await;
                }
            }
            Err(e)
        }
    }
}

async fn send(
    client: &Client,
    files: &LoadFiles,
    path: &Path,
    begun: &[Upload],
    progress: &mut dyn FnMut(Progress<'_>),
    sent: &mut Vec<String>,
) -> Result<String, LoadError> {
    let name = match (&files.stdin_name, path == Path::new("-")) {
        (Some(name), true) => name.clone(),
        (None, true) => "stdin.jsonl".into(),
        _ => path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default(),
    };
    let size = std::fs::metadata(path).ok().map(|m| m.len());
    let begun = begun.iter().find(|u| u.name == name && u.bytes == size && size.is_some());
    let upload = send_file(client, path, &name, begun, progress).await?;
    sent.push(upload.id.clone());
    Ok(upload.id)
}

/// Follows a load's job to its end and reads the reconciliation.
pub async fn follow_load(
    client: &Client,
    load: i64,
    job: i64,
    progress: &mut dyn FnMut(Progress),
) -> Result<LoadResult, LoadError> {
    let job = client.watch_job(job, |j| progress(Progress::Loading(j))).await?;
    if job.state != "done" {
        let why = job.error.clone().unwrap_or_else(|| format!("the load is {}", job.state));
        return Err(LoadError::Stopped { load, why, job: Box::new(job) });
    }
    let result = job.result.clone().unwrap_or(Value::Null);
    let read = serde_json::from_value(result);
    Ok(read.map_err(|e| Error::Broken(format!("a result that this client cannot read: {e}")))?)
}

/// Loads files into a collection, from the first byte to the reconciliation.
pub async fn load_files(
    client: &Client,
    collection: &str,
    files: &LoadFiles,
    mut progress: impl FnMut(Progress),
) -> Result<LoadResult, LoadError> {
    let (load, job) = start_load(client, collection, files, &[], &mut progress).await?;
    follow_load(client, load, job, &mut progress).await
}
