//! The format of index files: its version, the types of its tensors, its errors.
//!
//! Index files are safetensors (a JSON header, then raw little-endian tensors), so that any language can read them with
//! an ordinary library. `docs/index-file.md` describes every tensor. The metadata names the format version, the
//! description, the entry node and a CRC-32 of every tensor.

use bytemuck::Pod;
use safetensors::Dtype;
use std::io;

pub const FORMAT_VERSION: u32 = 11;

#[derive(Debug, thiserror::Error)]
pub enum FileError {
    #[error("cannot read or write the index file: {0}")]
    Io(#[from] io::Error),
    #[error("the index file is damaged: {0}")]
    Damaged(String),
    #[error("the index file has format version {found}; this program reads version {FORMAT_VERSION}")]
    Version { found: String },
}

pub(crate) fn damaged(what: impl Into<String>) -> FileError {
    FileError::Damaged(what.into())
}

/// A type that tensors hold.
pub(crate) trait Kept: Pod {
    const NAME: &'static str;
    const DTYPE: Dtype;
}

macro_rules! kept {
    ($($t:ty, $name:literal, $dtype:ident;)*) => {
        $(impl Kept for $t {
            const NAME: &'static str = $name;
            const DTYPE: Dtype = Dtype::$dtype;
        })*
    };
}

pub(crate) fn crc(bytes: &[u8]) -> String {
    format!("{:08x}", crc32fast::hash(bytes))
}

// Halves are kept by their bits.
kept! { f32, "F32", F32; u16, "F16", F16; i8, "I8", I8; u8, "U8", U8; u32, "U32", U32; u64, "U64", U64; }
