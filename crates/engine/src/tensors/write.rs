//! Writing a file of tensors: under another name, synced and renamed, so that a reader sees a whole file or none.
//!
//! The header is padded so that the first tensor begins on a cache line.

use crate::tensors::format::{FileError, Kept, crc};
use serde_json::{Value, json};
use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;

struct Part<'a> {
    name: String,
    dtype: &'static str,
    width: usize,
    shape: Vec<usize>,
    /// One after the other.
    bytes: Vec<&'a [u8]>,
}

impl Part<'_> {
    fn len(&self) -> usize {
        self.bytes.iter().map(|b| b.len()).sum()
    }
}

/// The tensors of a file to be written.
#[derive(Default)]
pub(crate) struct Tensors<'a> {
    parts: Vec<Part<'a>>,
    meta: serde_json::Map<String, Value>,
}

impl<'a> Tensors<'a> {
    pub fn add<T: Kept>(&mut self, name: impl Into<String>, values: &'a [T], shape: &[usize]) {
        self.add_parts(name, [values], shape);
    }

    /// A tensor whose values lie in several places.
    pub fn add_parts<T: Kept>(
        &mut self,
        name: impl Into<String>,
        parts: impl IntoIterator<Item = &'a [T]>,
        shape: &[usize],
    ) {
        let bytes: Vec<&[u8]> = parts.into_iter().map(bytemuck::cast_slice).collect();
        let part =
            Part { name: name.into(), dtype: T::NAME, width: size_of::<T>(), shape: shape.to_vec(), bytes };
        debug_assert_eq!(part.shape.iter().product::<usize>() * part.width, part.len());
        self.parts.push(part);
    }

    /// An entry of the metadata.
    pub fn say(&mut self, key: impl Into<String>, text: impl Into<String>) {
        self.meta.insert(key.into(), Value::String(text.into()));
    }

    /// Writes the file, atomically and durably. `first` names tensors that begin the file, in this order, if that
    /// leaves what follows on cache lines; then wide values come before narrow ones, so that each is aligned. Returns
    /// the bytes written.
    pub fn write(self, path: &Path, first: &[&str]) -> Result<u64, FileError> {
        let Tensors { mut parts, mut meta } = self;
        parts.sort_by_key(|part| {
            let place = first.iter().position(|name| *name == part.name);
            match place.filter(|_| part.len().is_multiple_of(64)) {
                Some(place) => place,
                None if place.is_some() && part.width == 4 => first.len(),
                None => first.len() + 16 - part.width,
            }
        });
        let mut header = serde_json::Map::new();
        let mut at = 0;
        for part in &parts {
            let offsets = [at, at + part.len()];
            let entry = json!({"dtype": part.dtype, "shape": part.shape, "data_offsets": offsets});
            header.insert(part.name.clone(), entry);
            let crc = match part.bytes[..] {
                [bytes] => crc(bytes),
                _ => {
                    let mut hasher = crc32fast::Hasher::new();
                    part.bytes.iter().for_each(|b| hasher.update(b));
                    format!("{:08x}", hasher.finalize())
                }
            };
            meta.insert(format!("crc32.{}", part.name), json!(crc));
            at += part.len();
        }
        header.insert("__metadata__".into(), Value::Object(meta));
        let mut header = serde_json::to_vec(&header).expect("plain data");
        // 8 bytes of length come before the header; spaces are legal padding.
        header.resize((header.len() + 8).next_multiple_of(64) - 8, b' ');
        let mut start = (header.len() as u64).to_le_bytes().to_vec();
        start.extend(header);
        let tensors = parts.iter().flat_map(|part| part.bytes.iter().copied());
        write_whole(path, std::iter::once(&start[..]).chain(tensors))?;
        Ok((start.len() + at) as u64)
    }
}

/// Writes a file under another name, and renames it when all of it is on the disk.
pub(crate) fn write_whole<'a>(
    path: &Path,
    parts: impl IntoIterator<Item = &'a [u8]>,
) -> Result<(), FileError> {
    let partial = path.with_extension("partial");
    let result = (|| {
        let mut out = BufWriter::with_capacity(1 << 20, File::create(&partial)?);
        for part in parts {
            out.write_all(part)?;
        }
        out.into_inner().map_err(|e| e.into_error())?.sync_all()?;
        std::fs::rename(&partial, path)?;
        // A bare name lies in the folder that the process is in.
        let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
        File::open(folder.unwrap_or(Path::new(".")))?.sync_all()
    })();
    if result.is_err() {
        let _ = std::fs::remove_file(&partial);
    }
    Ok(result?)
}
