//! The file of rows that a load set aside, each with its reason.

use serde_json::{Value, json};
use std::fs::File;
use std::io::{self, Seek, SeekFrom, Write};
use std::path::Path;

/// The file, without what an unfinished step may have left in it.
pub struct Rejects {
    file: File,
    /// Bytes that belong to it.
    pub bytes: u64,
}

impl Rejects {
    /// Opens the file at the end of what was committed.
    pub fn open(path: &Path, bytes: u64) -> io::Result<Rejects> {
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder)?;
        }
        let mut file = File::options().create(true).truncate(false).write(true).open(path)?;
        file.set_len(bytes)?;
        file.seek(SeekFrom::End(0))?;
        Ok(Rejects { file, bytes })
    }

    /// Writes rows, so that they are on the disk before the step that counts them is committed.
    pub fn add(&mut self, lines: &[String]) -> io::Result<()> {
        for line in lines {
            writeln!(self.file, "{line}")?;
        }
        if !lines.is_empty() {
            self.file.sync_data()?;
            self.bytes = self.file.stream_position()?;
        }
        Ok(())
    }
}

/// The text of a JSON object with one more member, every digit of the others as it stood.
pub fn with_member(object: &str, name: &str, value: &Value) -> String {
    let body = object.trim_end().strip_suffix('}').unwrap_or("{").trim_end();
    let comma = if body.ends_with('{') { "" } else { "," };
    format!("{body}{comma}{}:{value}}}", json!(name))
}
