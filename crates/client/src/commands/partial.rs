//! Files that take their name when they are whole.

use crate::commands::inspect::name_of;
use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};

/// A file that is being written, beside where it is to be. It is removed unless it is finished.
pub struct Partial {
    out: BufWriter<File>,
    partial: PathBuf,
    path: PathBuf,
}

impl Partial {
    pub fn create(path: &Path) -> io::Result<Partial> {
        let partial = path.with_file_name(format!("{}.partial", name_of(path)));
        Ok(Partial { out: BufWriter::new(File::create(&partial)?), partial, path: path.to_owned() })
    }

    /// Gives it its name, once all of it is on the disk.
    pub fn finish(mut self) -> io::Result<()> {
        self.out.flush()?;
        self.out.get_ref().sync_all()?;
        std::fs::rename(&self.partial, &self.path)
    }
}

impl Write for Partial {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.out.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

impl Drop for Partial {
    fn drop(&mut self) {
        // Once it has its name, there is no such file.
        let _ = std::fs::remove_file(&self.partial);
    }
}
