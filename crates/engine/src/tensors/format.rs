//! What tensor files have in common: the types of their tensors, their checksums, their errors.
//!
//! They are safetensors (a JSON header, then raw little-endian tensors), so that any language can read them with an
//! ordinary library. The metadata names what the file is, the version of its format and a CRC-32 of every tensor.

use bytemuck::Pod;
use safetensors::Dtype;
use std::io;

/// Why a file of tensors cannot be read or written.
#[derive(Debug, thiserror::Error)]
pub enum FileError {
    #[error("cannot read or write the file: {0}")]
    Io(#[from] io::Error),
    #[error("the file is damaged: {0}")]
    Damaged(String),
    #[error("the file has format version {found}; this program reads version {reads}")]
    Version { found: String, reads: u32 },
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
kept! {
    f64, "F64", F64; f32, "F32", F32; u16, "F16", F16; i8, "I8", I8; u8, "U8", U8;
    i64, "I64", I64; u32, "U32", U32; u64, "U64", U64;
}
