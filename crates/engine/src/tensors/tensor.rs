//! An array that is either owned or lies in a memory-mapped file.

use crate::large_pages::Taken;
use crate::lines::Aligned;
use bytemuck::Pod;
use memmap2::Mmap;
use std::ops::{Deref, Range};
use std::sync::Arc;

pub(crate) enum Tensor<T> {
    Owned(Vec<T>),
    Aligned(Aligned<T>),
    Mapped {
        file: Arc<Mmap>,
        bytes: Range<usize>,
    },
    /// A copy of a part of a file.
    Copied {
        values: Aligned<T>,
        _taken: Taken,
    },
}

impl<T> From<Vec<T>> for Tensor<T> {
    fn from(values: Vec<T>) -> Self {
        Tensor::Owned(values)
    }
}

impl<T> From<Aligned<T>> for Tensor<T> {
    fn from(values: Aligned<T>) -> Self {
        Tensor::Aligned(values)
    }
}

impl<T: Pod> Tensor<T> {
    /// Parts one after the other, from the start of a cache line on.
    pub(crate) fn on_lines(parts: &[impl AsRef<[T]>]) -> Self {
        Tensor::Aligned(Aligned::of_parts(parts.iter().map(AsRef::as_ref)))
    }

    /// A view of part of a mapped file; `None` unless the part lies inside and holds whole values. What is not
    /// aligned for `T` is copied: the layout of the file leaves that to small tensors.
    pub(crate) fn mapped(file: Arc<Mmap>, bytes: Range<usize>) -> Option<Self> {
        let part = file.get(bytes.clone())?;
        if !part.len().is_multiple_of(size_of::<T>()) {
            return None;
        }
        Some(match bytemuck::try_cast_slice::<u8, T>(part) {
            Ok(_) => Tensor::Mapped { file, bytes },
            Err(_) => Tensor::Owned(bytemuck::pod_collect_to_vec(part)),
        })
    }
}

impl<T: Pod> Deref for Tensor<T> {
    type Target = [T];
    #[inline]
    fn deref(&self) -> &[T] {
        match self {
            Tensor::Owned(values) => values,
            Tensor::Aligned(values) | Tensor::Copied { values, .. } => values.as_slice(),
            // Checked when the view was made.
            Tensor::Mapped { file, bytes } => bytemuck::cast_slice(&file[bytes.clone()]),
        }
    }
}
