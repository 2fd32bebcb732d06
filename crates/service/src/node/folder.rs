//! The data folder: this node's name, its lock, segments, index files, uploads, rejected rows and the first key.

use crate::node::random::random_hex;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::net::SocketAddr;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

/// The name of the file that holds the first key, inside the data folder.
pub const FIRST_KEY: &str = "first-key";

/// Where this node keeps its files.
#[derive(Clone)]
pub struct DataFolder(PathBuf);

/// Why a data folder cannot be taken.
#[derive(Debug)]
pub enum FolderError {
    /// Another process has it; this is who.
    Taken(String),
    Io(io::Error),
}

impl From<io::Error> for FolderError {
    fn from(error: io::Error) -> FolderError {
        FolderError::Io(error)
    }
}

impl DataFolder {
    /// Makes the folder and what belongs in it.
    pub fn create(path: &Path) -> io::Result<DataFolder> {
        std::fs::create_dir_all(path.join("indexes"))?;
        Ok(DataFolder(path.to_owned()))
    }

    /// Takes the folder for this process, as long as the file is held, or says who has it. The system releases the
    /// lock however the process ends.
    pub fn lock(&self, address: SocketAddr) -> Result<File, FolderError> {
        let path = self.0.join("lock");
        let mut file = File::options().read(true).write(true).create(true).truncate(false).open(&path)?;
        match file.try_lock() {
            Ok(()) => {}
            Err(std::fs::TryLockError::WouldBlock) => {
                let mut holder = String::new();
                let _ = file.read_to_string(&mut holder);
                return Err(FolderError::Taken(match holder.is_empty() {
                    true => "another service".to_owned(),
                    false => holder,
                }));
            }
            Err(std::fs::TryLockError::Error(e)) => return Err(e.into()),
        }
        let holder = format!("process {}, which listens on {address}", std::process::id());
        file.set_len(0)?;
        file.seek(SeekFrom::Start(0))?;
        file.write_all(holder.as_bytes())?;
        Ok(file)
    }

    /// Bytes that the disk of the folder still takes.
    pub fn space(&self) -> io::Result<u64> {
        let disk = rustix::fs::statvfs(&self.0)?;
        Ok(disk.f_bavail * disk.f_frsize)
    }

    /// Whether the first key still lies in the folder.
    pub fn has_first_key(&self) -> bool {
        self.0.join(FIRST_KEY).exists()
    }

    /// This node's own name, made when the folder is new.
    pub fn node_name(&self) -> io::Result<String> {
        let path = self.0.join("node");
        match std::fs::read_to_string(&path) {
            Ok(name) => Ok(name.trim().into()),
            Err(e) if e.kind() == io::ErrorKind::NotFound => {
                let name = random_hex(8);
                std::fs::write(&path, &name)?;
                Ok(name)
            }
            Err(e) => Err(e),
        }
    }

    /// Writes the first key, readable by its owner alone; returns where.
    pub fn write_first_key(&self, key: &str) -> io::Result<PathBuf> {
        let path = self.0.join(FIRST_KEY);
        let mut file =
            std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&path)?;
        file.write_all(key.as_bytes())?;
        Ok(path)
    }

    pub fn uploads(&self) -> PathBuf {
        self.0.join("uploads")
    }

    /// The file of an index.
    pub fn index(&self, id: i64) -> PathBuf {
        self.0.join("indexes").join(format!("{id}.safetensors"))
    }

    pub fn remove_index(&self, id: i64) {
        let _ = std::fs::remove_file(self.index(id));
    }

    /// The segments of all collections.
    pub fn all_segments(&self) -> PathBuf {
        self.0.join("segments")
    }

    /// The segments of a collection.
    pub fn segments(&self, collection: i64) -> PathBuf {
        self.all_segments().join(collection.to_string())
    }

    pub fn remove_segments(&self, collection: i64) {
        let _ = std::fs::remove_dir_all(self.segments(collection));
    }

    /// The rows that a load set aside.
    pub fn rejects(&self, load: i64) -> PathBuf {
        self.0.join("loads").join(format!("{load}.rejects.jsonl"))
    }
}
