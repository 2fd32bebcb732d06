//! Opening files of text: gzip and zstd are unpacked as they are read, up to a limit.

use crate::file::{FileError, Named};
use flate2::read::MultiGzDecoder;
use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Seek, SeekFrom};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// What a file may ask for.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Bytes that a packed file may unpack to.
    pub unpacked_bytes: u64,
    /// Bytes of one line.
    pub line_bytes: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Limits { unpacked_bytes: 256 << 30, line_bytes: 64 << 20 }
    }
}

pub(crate) fn open_file(file: &Named) -> Result<File, FileError> {
    let opened = File::open(&file.path).and_then(|f| Ok((f.metadata()?, f)));
    match opened {
        Ok((meta, _)) if meta.is_dir() => {
            Err(FileError::new(&file.name, "is a directory; name a file in it"))
        }
        Ok((_, opened)) => Ok(opened),
        Err(e) => Err(FileError::new(&file.name, format!("cannot be opened: {e}"))),
    }
}

/// Counts the bytes that are read through it.
pub(crate) struct Counted<R> {
    pub inner: R,
    pub bytes: Arc<AtomicU64>,
}

impl<R: Seek> Seek for Counted<R> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.inner.seek(to)
    }
}

impl<R: Read> Read for Counted<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let n = self.inner.read(buffer)?;
        self.bytes.fetch_add(n as u64, Ordering::Relaxed);
        Ok(n)
    }
}

/// Ends with an error where an honest file would have ended.
struct Limited<R> {
    inner: R,
    left: u64,
    limit: u64,
}

impl<R: Read> Read for Limited<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let n = self.inner.read(buffer)? as u64;
        if n > self.left {
            return Err(io::Error::other(format!(
                "unpacks to more than the {} MB that this service allows (--max-unpacked-mb); unpack it, look at \
                 it, and raise the limit if it is right",
                self.limit / 1_000_000
            )));
        }
        self.left -= n;
        Ok(n as usize)
    }
}

/// Opens a text file; `bytes` counts what is read of it, packed as it is.
pub(crate) fn open_text(
    file: &Named,
    bytes: Arc<AtomicU64>,
    limits: Limits,
) -> Result<Box<dyn BufRead + Send>, FileError> {
    let opened = Counted { inner: open_file(file)?, bytes };
    let mut reader = BufReader::with_capacity(1 << 18, opened);
    let start = reader.fill_buf().map_err(|e| FileError::new(&file.name, e.to_string()))?;
    let unpacked: Box<dyn Read + Send> = if start.starts_with(&[0x1f, 0x8b]) {
        Box::new(MultiGzDecoder::new(reader))
    } else if start.starts_with(&[0x28, 0xb5, 0x2f, 0xfd]) {
        let decoder = zstd::Decoder::with_buffer(reader);
        Box::new(decoder.map_err(|e| FileError::new(&file.name, e.to_string()))?)
    } else {
        return text(file, Box::new(reader));
    };
    let limit = limits.unpacked_bytes;
    text(file, Box::new(BufReader::with_capacity(1 << 18, Limited { inner: unpacked, left: limit, limit })))
}

/// Passes over a byte order mark; text that is not UTF-8 at its very beginning is refused by name.
fn text(file: &Named, mut reader: Box<dyn BufRead + Send>) -> Result<Box<dyn BufRead + Send>, FileError> {
    let start = reader.fill_buf().map_err(|e| FileError::new(&file.name, format!("cannot be read: {e}")))?;
    let zeros = start.iter().take(64).filter(|b| **b == 0).count();
    if start.starts_with(&[0xff, 0xfe]) || start.starts_with(&[0xfe, 0xff]) || zeros > 8 {
        let why = "is UTF-16 or no text at all; save it as UTF-8, for example: iconv -f UTF-16 -t UTF-8";
        return Err(FileError::new(&file.name, why));
    }
    if start.starts_with(&[0xef, 0xbb, 0xbf]) {
        reader.consume(3);
    }
    Ok(reader)
}
