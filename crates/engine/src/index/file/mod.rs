//! Index files.

mod format;
mod read;
mod write;

pub use format::{FORMAT_VERSION, FileError};
