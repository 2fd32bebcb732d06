//! Files that callers send, kept on this node's disk until a load has read them.
//!
//! A file is announced first, then sent in one piece or several, each from where the last one ended:
//! what broke off goes on. Each file is two: its bytes, and a description beside it.

use crate::edge::random_hex;
use crate::problem::{Kind, Problem, Result};
use axum::body::Body;
use chrono::{DateTime, Utc};
use futures::StreamExt;
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use std::io;
use std::path::PathBuf;
use std::time::Duration;
use tokio::io::AsyncWriteExt;
use utoipa::ToSchema;
use zesty_files::Named;

/// Files that no load has asked for go after this time.
const KEPT: Duration = Duration::from_secs(3 * 24 * 3600);
/// Files that wait for a load at the same time.
const MOST: usize = 1000;
/// Bytes of one file.
const MOST_BYTES: u64 = 256 << 30;

fn too_long(name: &str) -> Problem {
    let detail = format!("{name} is longer than {} GiB; send it in several files", MOST_BYTES >> 30);
    Problem::new(Kind::TooLarge, detail).with("limit_bytes", MOST_BYTES)
}

#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FileView {
    pub id: String,
    /// Its end says the format: .jsonl, .csv, .parquet, .arrow, .npy, .fvecs, .bvecs; .gz and .zst after text
    pub name: String,
    /// As announced; null when it was not known
    pub bytes: Option<u64>,
    pub received: u64,
    /// Whether all of it is here
    pub complete: bool,
    pub created_at: DateTime<Utc>,
}

pub struct Uploads {
    folder: PathBuf,
    /// Files that are being written to now.
    busy: Mutex<HashSet<String>>,
}

/// Frees a file when the request ends, however it ends.
struct Busy<'a>(&'a Uploads, String);

impl Drop for Busy<'_> {
    fn drop(&mut self) {
        self.0.busy.lock().remove(&self.1);
    }
}

fn disk(error: &io::Error) -> Problem {
    match error.kind() {
        io::ErrorKind::StorageFull => Problem::new(
            Kind::NoSpace,
            "the disk of the service's data directory is full; free some space and go on with the upload",
        ),
        _ => Problem::new(Kind::Internal, format!("the data directory cannot be used: {error}")),
    }
}

impl Uploads {
    pub fn new(folder: PathBuf) -> Uploads {
        Uploads { folder, busy: Mutex::default() }
    }

    fn bytes_path(&self, id: &str) -> PathBuf {
        self.folder.join(format!("{id}.bytes"))
    }

    fn about_path(&self, id: &str) -> PathBuf {
        self.folder.join(format!("{id}.json"))
    }

    fn keep(&self, file: &FileView) -> Result<()> {
        let text = serde_json::to_vec(file).unwrap_or_default();
        std::fs::write(self.about_path(&file.id), text).map_err(|e| disk(&e))
    }

    pub fn announce(&self, name: String, bytes: Option<u64>) -> Result<FileView> {
        if bytes.is_some_and(|bytes| bytes > MOST_BYTES) {
            return Err(too_long(&name));
        }
        if self.count() >= MOST {
            let detail = format!(
                "{MOST} files wait for a load already; `DELETE /api/files/{{file}}` forgets one, and each goes after three days"
            );
            return Err(Problem::new(Kind::TooLarge, detail).with("limit", MOST));
        }
        let id = random_hex(8);
        std::fs::create_dir_all(&self.folder).map_err(|e| disk(&e))?;
        std::fs::write(self.bytes_path(&id), b"").map_err(|e| disk(&e))?;
        let file =
            FileView { id, name, bytes, received: 0, complete: bytes == Some(0), created_at: Utc::now() };
        self.keep(&file)?;
        Ok(file)
    }

    fn count(&self) -> usize {
        let entries = std::fs::read_dir(&self.folder).into_iter().flatten().flatten();
        entries.filter(|e| e.path().extension().is_some_and(|x| x == "json")).count()
    }

    pub fn get(&self, id: &str) -> Result<FileView> {
        let unknown = || Problem::unknown("uploaded file", id, []);
        // Ids are ours; anything else must not become a path.
        if !id.chars().all(|c| c.is_ascii_hexdigit()) {
            return Err(unknown());
        }
        let text = std::fs::read(self.about_path(id)).map_err(|_| unknown())?;
        let mut file: FileView = serde_json::from_slice(&text).map_err(|_| unknown())?;
        file.received = std::fs::metadata(self.bytes_path(id)).map_err(|_| unknown())?.len();
        file.complete |= file.bytes == Some(file.received);
        Ok(file)
    }

    /// Newest first.
    pub fn list(&self) -> Vec<FileView> {
        let entries = std::fs::read_dir(&self.folder).into_iter().flatten().flatten();
        let names = entries.filter_map(|e| e.file_name().into_string().ok());
        let ids = names.filter_map(|n| n.strip_suffix(".json").map(str::to_owned));
        let mut all: Vec<FileView> = ids.filter_map(|id| self.get(&id).ok()).collect();
        all.sort_by_key(|f| std::cmp::Reverse(f.created_at));
        all
    }

    /// A complete file, to be read.
    pub fn named(&self, id: &str) -> Result<Named> {
        let file = self.get(id)?;
        if !file.complete {
            let of = file.bytes.map_or(String::new(), |n| format!(" of {n}"));
            let detail =
                format!("{} is not all here: {}{of} bytes; send the rest first", file.name, file.received);
            return Err(Problem::new(Kind::NotReady, detail));
        }
        Ok(Named { path: self.bytes_path(&file.id), name: file.name })
    }

    /// Appends what `body` brings, from `offset` on. What arrived before it broke off stays.
    pub async fn append(&self, id: &str, offset: u64, end: bool, body: Body) -> Result<FileView> {
        let file = self.get(id)?;
        if !self.busy.lock().insert(file.id.clone()) {
            let detail = format!("{} is being sent by another request", file.name);
            return Err(Problem::new(Kind::WrongOffset, detail));
        }
        let _busy = Busy(self, file.id.clone());
        let mut file = self.get(id)?;
        if offset != file.received || file.complete {
            let detail = format!("{} bytes of {} are here; go on from there", file.received, file.name);
            return Err(Problem::new(Kind::WrongOffset, detail).with("received", file.received));
        }
        let opened = tokio::fs::OpenOptions::new().append(true).open(self.bytes_path(id)).await;
        let mut out = tokio::io::BufWriter::with_capacity(1 << 20, opened.map_err(|e| disk(&e))?);
        let mut chunks = body.into_data_stream();
        while let Some(chunk) = chunks.next().await {
            let Ok(chunk) = chunk else {
                out.flush().await.map_err(|e| disk(&e))?;
                let detail = format!("the upload of {} broke off; go on from where it stands", file.name);
                return Err(Problem::new(Kind::WrongOffset, detail));
            };
            file.received += chunk.len() as u64;
            if file.bytes.is_some_and(|bytes| file.received > bytes) {
                let detail = format!(
                    "{} was announced with {} bytes and has more: it grew while it was sent; send it when it is complete",
                    file.name,
                    file.bytes.unwrap_or(0)
                );
                return Err(Problem::new(Kind::WrongFile, detail));
            }
            if file.received > MOST_BYTES {
                return Err(too_long(&file.name));
            }
            out.write_all(&chunk).await.map_err(|e| disk(&e))?;
        }
        out.flush().await.map_err(|e| disk(&e))?;
        file.complete = end || file.bytes == Some(file.received);
        if end && file.bytes.is_some_and(|bytes| file.received < bytes) {
            let detail = format!(
                "{} was announced with {} bytes and has {}: it shrank while it was sent; send it again",
                file.name,
                file.bytes.unwrap_or(0),
                file.received
            );
            return Err(Problem::new(Kind::WrongFile, detail));
        }
        self.keep(&file)?;
        Ok(file)
    }

    pub fn remove(&self, id: &str) {
        let _ = std::fs::remove_file(self.about_path(id));
        let _ = std::fs::remove_file(self.bytes_path(id));
    }

    /// Clears files that are old and that no load in `wanted` needs.
    pub fn clear(&self, wanted: &HashSet<String>) {
        let now = Utc::now();
        for file in self.list() {
            let age = (now - file.created_at).to_std().unwrap_or_default();
            if age > KEPT && !wanted.contains(&file.id) {
                self.remove(&file.id);
            }
        }
    }
}
