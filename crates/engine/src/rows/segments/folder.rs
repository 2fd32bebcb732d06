//! The folder of a collection's segments: a list of files that is replaced whole, and the files.

use crate::rows::segments::segment::Segment;
use crate::tensors::{FileError, crc, damaged, write_whole};
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

const LIST_VERSION: u32 = 1;
const LIST: &str = "segments.json";

/// Which files belong together.
#[derive(Clone, Debug, Serialize, Deserialize)]
struct List {
    version: u32,
    owner: String,
    /// Every change up to this revision is in the segments.
    revision: u64,
    /// Oldest first.
    segments: Vec<Listed>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
struct Listed {
    file: String,
    bytes: u64,
    header_crc32: String,
}

#[derive(Serialize, Deserialize)]
struct Checked {
    crc32: String,
    list: String,
}

/// Where the segments of one collection are.
#[derive(Clone, Debug)]
pub struct SegmentFolder {
    path: PathBuf,
    /// Whose records these are: what comes from elsewhere is not opened.
    pub(super) owner: String,
}

/// Segments that belong together.
pub(in crate::rows) struct Found {
    pub revision: u64,
    pub segments: Vec<Arc<Segment>>,
}

impl SegmentFolder {
    pub fn new(path: impl Into<PathBuf>, owner: impl Into<String>) -> SegmentFolder {
        SegmentFolder { path: path.into(), owner: owner.into() }
    }

    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Opens the files that the list names; `None` without a list.
    pub(in crate::rows) fn find(&self) -> Result<Option<Found>, FileError> {
        let text = match std::fs::read_to_string(self.path.join(LIST)) {
            Ok(text) => text,
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(e) => return Err(e.into()),
        };
        let unreadable = |e: serde_json::Error| damaged(format!("{LIST}: {e}"));
        let checked: Checked = serde_json::from_str(&text).map_err(unreadable)?;
        if crc(checked.list.as_bytes()) != checked.crc32 {
            return Err(damaged(format!("the checksum of {LIST} is wrong")));
        }
        let list: List = serde_json::from_str(&checked.list).map_err(unreadable)?;
        if list.version != LIST_VERSION {
            return Err(FileError::Version { found: list.version.to_string(), reads: LIST_VERSION });
        }
        if list.owner != self.owner {
            return Err(damaged(format!("the segments are those of {}, not of {}", list.owner, self.owner)));
        }
        let open = |listed: &Listed| {
            let named = |e: FileError| match e {
                FileError::Damaged(why) => damaged(format!("{}: {why}", listed.file)),
                FileError::Io(e) => damaged(format!("{}: {e}", listed.file)),
                other => other,
            };
            let segment = Segment::open(&self.path.join(&listed.file)).map_err(named)?;
            if segment.file.header_crc() != listed.header_crc32
                || segment.n_bytes() as u64 != listed.bytes
                || segment.about.owner != self.owner
            {
                return Err(damaged(format!("{} is another file than the list says", listed.file)));
            }
            Ok(Arc::new(segment))
        };
        let segments = list.segments.iter().map(open).collect::<Result<_, _>>()?;
        Ok(Some(Found { revision: list.revision, segments }))
    }

    /// A file name that was not used before.
    pub(super) fn next_file(&self) -> Result<PathBuf, FileError> {
        std::fs::create_dir_all(&self.path)?;
        let mut highest = 0;
        for entry in std::fs::read_dir(&self.path)? {
            let name = entry?.file_name();
            let number = name.to_str().and_then(|n| n.split('.').next()).and_then(|n| n.parse().ok());
            highest = highest.max(number.unwrap_or(0));
        }
        Ok(self.path.join(format!("{}.safetensors", highest + 1u64)))
    }

    /// Makes these the segments, and removes files that are none of them.
    pub(super) fn list(&self, revision: u64, segments: &[Arc<Segment>]) -> Result<(), FileError> {
        let file = |s: &Segment| s.path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let listed = segments.iter().map(|s| Listed {
            file: file(s),
            bytes: s.n_bytes() as u64,
            header_crc32: s.file.header_crc(),
        });
        let (version, owner) = (LIST_VERSION, self.owner.clone());
        let list = List { version, owner, revision, segments: listed.collect() };
        let list = serde_json::to_string(&list).expect("plain data");
        let checked = Checked { crc32: crc(list.as_bytes()), list };
        let text = serde_json::to_vec_pretty(&checked).expect("plain data");
        write_whole(&self.path.join(LIST), [&text[..]])?;
        let named: HashSet<String> = segments.iter().map(|s| file(s)).collect();
        for entry in std::fs::read_dir(&self.path)?.flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            if name != LIST && !named.contains(&name) {
                let _ = std::fs::remove_file(entry.path());
            }
        }
        Ok(())
    }

    /// Removes everything.
    pub fn remove(&self) {
        let _ = std::fs::remove_dir_all(&self.path);
    }
}
