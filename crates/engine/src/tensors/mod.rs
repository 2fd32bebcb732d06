//! Files of tensors: arrays that are owned or mapped, written whole and checked when they are read.

mod format;
mod read;
mod tensor;
mod write;

pub use format::FileError;
pub(crate) use format::{Kept, crc, damaged};
pub(crate) use read::TensorFile;
pub(crate) use tensor::Tensor;
pub(crate) use write::{Tensors, write_whole};
