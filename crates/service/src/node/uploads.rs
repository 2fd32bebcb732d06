//! Files that callers send, kept on this node's disk until a load has read them.
//!
//! A file is announced first, then sent in one piece or several, each from where the last one ended:
//! an upload that broke off continues. Each file is three: its bytes, its description, and
//! whose it is.

use crate::access::grant::{Grant, Scope};
use crate::node::random::random_hex;
use crate::node::threads::blocking;
use crate::problem::{Kind, Problem, Result};
use bytes::Bytes;
use chrono::Utc;
use futures::{Stream, StreamExt};
use parking_lot::Mutex;
use std::collections::{BTreeMap, HashSet};
use std::io;
use std::path::PathBuf;
use std::time::Duration;
use tokio::io::AsyncWriteExt;
use zesty_files::{FileError, Limits, Named, inspect_as};
use zesty_wire::{self as wire, Upload};

/// Files that no load has asked for go after this time.
const KEPT: Duration = Duration::from_secs(3 * 24 * 3600);
/// Files that wait for a load at the same time.
const MOST: usize = 1000;
/// Bytes of a file's name.
const MOST_NAME: usize = 1024;
/// Bytes of one file.
pub const MOST_BYTES: u64 = 256 << 30;

fn too_long(name: &str) -> Problem {
    let detail = format!("{name} is longer than {} GiB; send it in several files", MOST_BYTES >> 30);
    Problem::new(Kind::TooLarge, detail).with("limit_bytes", MOST_BYTES)
}

/// The folder of uploaded files.
pub struct Uploads {
    folder: PathBuf,
    /// What files may ask for.
    pub limits: Limits,
    /// Files that are being written to now.
    busy: Mutex<HashSet<String>>,
}

/// Where in a file a part begins, and whether the file ends with it.
#[derive(Clone, Copy)]
pub struct Part {
    pub offset: u64,
    pub end: bool,
}

/// A file that cannot be read.
pub fn wrong_file(error: FileError) -> Problem {
    Problem::new(Kind::WrongFile, error.to_string()).with("file", error.file)
}

fn inspection(found: zesty_files::Inspection) -> wire::Inspection {
    let mapping = found.mapping();
    let choice = |c: zesty_files::Choice| wire::TypeChoice {
        r#type: c.r#type,
        n_rejected: c.n_rejected,
        first: c.first,
    };
    let field = |f: zesty_files::FoundField| wire::FoundField {
        source: f.source,
        name: f.name,
        r#type: f.r#type,
        n_missing: f.n_missing,
        n_distinct: f.n_distinct,
        examples: f.examples,
        remark: f.remark,
        choices: f.choices.into_iter().map(choice).collect(),
    };
    let vectors = |v: zesty_files::FoundVectors| wire::FoundVectors {
        source: v.source,
        name: v.name,
        dimensions: v.dimensions,
        element: v.element,
        n_missing: v.n_missing,
        remark: v.remark,
    };
    wire::Inspection {
        schema: found.schema(),
        mapping: wire::FileMapping { key: mapping.key, rename: mapping.rename, only: mapping.only },
        format: found.format.name().to_owned(),
        file: found.file,
        n_rows: found.n_rows,
        n_sampled: found.n_sampled,
        key: found.key,
        fields: found.fields.into_iter().map(field).collect(),
        vectors: found.vectors.into_iter().map(vectors).collect(),
        troubles: found.troubles,
    }
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
            "the disk of the service's data directory is full; free some space and continue the upload",
        ),
        _ => Problem::new(Kind::Internal, format!("the data directory cannot be used: {error}")),
    }
}

impl Uploads {
    pub fn new(folder: PathBuf, limits: Limits) -> Uploads {
        Uploads { folder, limits, busy: Mutex::default() }
    }

    fn bytes_path(&self, id: &str) -> PathBuf {
        self.folder.join(format!("{id}.bytes"))
    }

    fn about_path(&self, id: &str) -> PathBuf {
        self.folder.join(format!("{id}.json"))
    }

    /// Holds the id of the key that announced the file.
    fn owner_path(&self, id: &str) -> PathBuf {
        self.folder.join(format!("{id}.key"))
    }

    fn keep(&self, file: &Upload) -> Result<()> {
        let text = serde_json::to_vec(file).unwrap_or_default();
        std::fs::write(self.about_path(&file.id), text).map_err(|e| disk(&e))
    }

    /// Makes room for a file that will be sent.
    pub fn announce(&self, grant: &Grant, request: wire::NewUpload) -> Result<Upload> {
        grant.require_anywhere(Scope::Write)?;
        grant.require_wide()?;
        let wire::NewUpload { name, bytes } = request;
        if name.is_empty() || name.len() > MOST_NAME || name.contains(['/', '\0']) {
            let detail = format!("a file is named by 1 to {MOST_NAME} bytes without a slash");
            return Err(Problem::new(Kind::InvalidName, detail).at("/name"));
        }
        if bytes.is_some_and(|bytes| bytes > MOST_BYTES) {
            return Err(too_long(&name).at("/bytes"));
        }
        if self.count() >= MOST {
            let detail = format!(
                "{MOST} files already wait for a load; `DELETE /api/files/{{file}}` deletes one, and each is deleted after three days"
            );
            return Err(Problem::new(Kind::TooLarge, detail).with("limit", MOST));
        }
        let id = random_hex(8);
        std::fs::create_dir_all(&self.folder).map_err(|e| disk(&e))?;
        std::fs::write(self.bytes_path(&id), b"").map_err(|e| disk(&e))?;
        let file =
            Upload { id, name, bytes, received: 0, complete: bytes == Some(0), created_at: Utc::now() };
        self.keep(&file)?;
        std::fs::write(self.owner_path(&file.id), grant.key().to_string()).map_err(|e| disk(&e))?;
        Ok(file)
    }

    /// Whether a key may see a file in a list. Who knows the id of a file, which is random, has it from its owner.
    fn lists(&self, grant: &Grant, file: &Upload) -> bool {
        let owner = || std::fs::read_to_string(self.owner_path(&file.id)).ok();
        grant.is_over_all() || owner().is_some_and(|owner| owner == grant.key().to_string())
    }

    fn count(&self) -> usize {
        let entries = std::fs::read_dir(&self.folder).into_iter().flatten().flatten();
        entries.filter(|e| e.path().extension().is_some_and(|x| x == "json")).count()
    }

    /// A file and how much of it is here.
    pub fn show(&self, grant: &Grant, id: &str) -> Result<Upload> {
        grant.require_anywhere(Scope::Write)?;
        grant.require_wide()?;
        self.get(id)
    }

    /// Files that no load has finished with, newest first.
    pub fn list(&self, grant: &Grant) -> Result<wire::UploadList> {
        grant.require_anywhere(Scope::Write)?;
        grant.require_wide()?;
        let files = self.all().into_iter().filter(|file| self.lists(grant, file));
        Ok(wire::UploadList { files: files.collect() })
    }

    /// Forgets a file.
    pub fn forget(&self, grant: &Grant, id: &str) -> Result<()> {
        grant.require_anywhere(Scope::Write)?;
        grant.require_wide()?;
        let file = self.get(id)?;
        self.remove(&file.id);
        Ok(())
    }

    /// Looks into a file. With `types` (column of the file to type, as JSON) the whole file is read.
    pub async fn inspect(&self, grant: &Grant, id: &str, types: Option<String>) -> Result<wire::Inspection> {
        grant.require_anywhere(Scope::Write)?;
        grant.require_wide()?;
        let (named, limits) = (self.named(id)?, self.limits);
        let types: BTreeMap<String, String> = match types {
            None => BTreeMap::new(),
            Some(text) => serde_json::from_str(&text).map_err(|e| {
                let detail =
                    format!("types is a JSON object, column to type, such as {{\"added\": \"date\"}}: {e}");
                Problem::new(Kind::WrongShape, detail).at("/types")
            })?,
        };
        let found = blocking(move || inspect_as(&named, limits, &types).map_err(wrong_file)).await?;
        Ok(inspection(found))
    }

    pub fn get(&self, id: &str) -> Result<Upload> {
        let unknown = || Problem::unknown("uploaded file", id, []);
        // Ids are ours; anything else must not become a path.
        if !id.chars().all(|c| c.is_ascii_hexdigit()) {
            return Err(unknown());
        }
        let text = std::fs::read(self.about_path(id)).map_err(|_| unknown())?;
        let mut file: Upload = serde_json::from_slice(&text).map_err(|_| unknown())?;
        file.received = std::fs::metadata(self.bytes_path(id)).map_err(|_| unknown())?.len();
        file.complete |= file.bytes == Some(file.received);
        Ok(file)
    }

    /// Newest first.
    fn all(&self) -> Vec<Upload> {
        let entries = std::fs::read_dir(&self.folder).into_iter().flatten().flatten();
        let names = entries.filter_map(|e| e.file_name().into_string().ok());
        let ids = names.filter_map(|n| n.strip_suffix(".json").map(str::to_owned));
        let mut all: Vec<Upload> = ids.filter_map(|id| self.get(&id).ok()).collect();
        all.sort_by_key(|f| std::cmp::Reverse(f.created_at));
        all
    }

    /// A complete file, to be read.
    pub fn named(&self, id: &str) -> Result<Named> {
        let file = self.get(id)?;
        if !file.complete {
            let of = file.bytes.map_or(String::new(), |n| format!(" of {n}"));
            let detail = format!(
                "{} has not arrived whole: {}{of} bytes; send the rest first",
                file.name, file.received
            );
            return Err(Problem::new(Kind::NotReady, detail));
        }
        Ok(Named { path: self.bytes_path(&file.id), name: file.name })
    }

    /// Appends what `body` brings, from `offset` on. What arrived before it broke off stays.
    pub async fn append<E>(
        &self,
        grant: &Grant,
        id: &str,
        part: Part,
        body: impl Stream<Item = Result<Bytes, E>>,
    ) -> Result<Upload> {
        grant.require_anywhere(Scope::Write)?;
        grant.require_wide()?;
        let Part { offset, end } = part;
        let file = self.get(id)?;
        if !self.busy.lock().insert(file.id.clone()) {
            let detail = format!("{} is being sent by another request", file.name);
            return Err(Problem::new(Kind::WrongOffset, detail));
        }
        let _busy = Busy(self, file.id.clone());
        let mut file = self.get(id)?;
        if offset != file.received || file.complete {
            let detail =
                format!("{} bytes of {} have arrived; continue from there", file.received, file.name);
            return Err(Problem::new(Kind::WrongOffset, detail).with("received", file.received));
        }
        let opened = tokio::fs::OpenOptions::new().append(true).open(self.bytes_path(id)).await;
        let mut out = tokio::io::BufWriter::with_capacity(1 << 20, opened.map_err(|e| disk(&e))?);
        let mut chunks = std::pin::pin!(body);
        while let Some(chunk) = chunks.next().await {
            let Ok(chunk) = chunk else {
                out.flush().await.map_err(|e| disk(&e))?;
                let detail = format!(
                    "the upload of {} broke off; continue it at the offset that `received` says",
                    file.name
                );
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
        let _ = std::fs::remove_file(self.owner_path(id));
        let _ = std::fs::remove_file(self.bytes_path(id));
    }

    /// Clears files that are old and that no load in `wanted` needs.
    pub fn clear(&self, wanted: &HashSet<String>) {
        let now = Utc::now();
        for file in self.all() {
            let age = (now - file.created_at).to_std().unwrap_or_default();
            if age > KEPT && !wanted.contains(&file.id) {
                self.remove(&file.id);
            }
        }
    }
}
