//! Reading a file of tensors: it is mapped, and types, shapes and checksums are checked.

use crate::tensors::format::{FileError, Kept, crc, damaged};
use crate::tensors::tensor::Tensor;
use memmap2::Mmap;
use safetensors::SafeTensors;
use safetensors::tensor::Metadata;
use std::collections::HashMap;
use std::fs::File;
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;

/// A mapped file of tensors.
pub(crate) struct TensorFile {
    pub map: Arc<Mmap>,
    start: usize,
    metadata: Metadata,
    meta: HashMap<String, String>,
}

impl TensorFile {
    /// Maps a file and reads its header.
    #[allow(unsafe_code)]
    pub fn open(path: &Path) -> Result<TensorFile, FileError> {
        let file = File::open(path)?;
        // SAFETY: files of tensors are written once, renamed into place and never changed; the data
        // directory belongs to the service alone.
        let map = Arc::new(unsafe { Mmap::map(&file)? });
        let (header_len, metadata) =
            SafeTensors::read_metadata(&map).map_err(|e| damaged(format!("bad header ({e})")))?;
        let meta = metadata.metadata().clone().ok_or_else(|| damaged("no metadata"))?;
        Ok(TensorFile { map, start: 8 + header_len, metadata, meta })
    }

    /// The checksum of the header, which tells of everything else.
    pub fn header_crc(&self) -> String {
        crc(&self.map[..self.start])
    }

    /// Whether the metadata has an entry.
    pub fn says(&self, key: &str) -> bool {
        self.meta.contains_key(key)
    }

    pub fn text(&self, key: &str) -> Result<&str, FileError> {
        self.meta.get(key).map(String::as_str).ok_or_else(|| damaged(format!("no \"{key}\" entry")))
    }

    /// Refuses another version of the format than `reads`.
    pub fn check_version(&self, key: &str, reads: u32) -> Result<(), FileError> {
        let found = self.text(key)?;
        if found != reads.to_string() {
            return Err(FileError::Version { found: found.into(), reads });
        }
        Ok(())
    }

    pub fn has(&self, name: &str) -> bool {
        self.metadata.info(name).is_some()
    }

    pub fn names(&self) -> Vec<String> {
        self.metadata.tensors().into_keys().collect()
    }

    /// The bytes of the file where a tensor lies. Its type and shape (as far as it is known) are checked, its
    /// checksum is not.
    pub fn range<T: Kept>(
        &self,
        name: &str,
        shape: &[Option<usize>],
    ) -> Result<(Range<usize>, Vec<usize>), FileError> {
        let info = self.metadata.info(name).ok_or_else(|| damaged(format!("no tensor \"{name}\"")))?;
        let fits = info.dtype == T::DTYPE
            && info.shape.len() == shape.len()
            && info.shape.iter().zip(shape).all(|(have, want)| want.is_none_or(|w| w == *have));
        let range = self.start + info.data_offsets.0..self.start + info.data_offsets.1;
        if !fits || self.map.get(range.clone()).is_none() {
            return Err(damaged(format!("tensor \"{name}\" has a wrong type or shape")));
        }
        Ok((range, info.shape.clone()))
    }

    /// Whether the bytes of a tensor are those that were written.
    pub fn verify(&self, name: &str) -> Result<(), FileError> {
        let info = self.metadata.info(name).ok_or_else(|| damaged(format!("no tensor \"{name}\"")))?;
        let bytes = self.map.get(self.start + info.data_offsets.0..self.start + info.data_offsets.1);
        if bytes.map(crc).as_deref() != Some(self.text(&format!("crc32.{name}"))?) {
            return Err(damaged(format!("the checksum of tensor \"{name}\" is wrong")));
        }
        Ok(())
    }

    /// A tensor whose type, shape (as far as it is known) and checksum are right.
    pub fn tensor<T: Kept>(
        &self,
        name: &str,
        shape: &[Option<usize>],
    ) -> Result<(Tensor<T>, Vec<usize>), FileError> {
        let (range, shape) = self.range::<T>(name, shape)?;
        self.verify(name)?;
        let tensor = Tensor::mapped(self.map.clone(), range)
            .ok_or_else(|| damaged(format!("tensor \"{name}\" is cut short")))?;
        Ok((tensor, shape))
    }

    pub fn of<T: Kept>(&self, name: &str, shape: &[usize]) -> Result<Tensor<T>, FileError> {
        let shape: Vec<Option<usize>> = shape.iter().copied().map(Some).collect();
        self.tensor(name, &shape).map(|(tensor, _)| tensor)
    }

    /// A list of whatever length.
    pub fn list<T: Kept>(&self, name: &str) -> Result<Tensor<T>, FileError> {
        self.tensor(name, &[None]).map(|(tensor, _)| tensor)
    }
}
