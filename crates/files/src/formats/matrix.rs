//! Arrays of vectors on disk, read by row: NPY, `.fvecs`, `.bvecs`.

use crate::file::{FileError, Format, Named};
use crate::packed::open_file;
use half::f16;
use std::fs::File;
use std::io::{BufReader, Read, Seek, SeekFrom};
use std::os::unix::fs::FileExt;
use std::sync::Arc;

/// Bytes read at once when rows are read in order.
const BLOCK: usize = 1 << 20;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Element {
    F16,
    F32,
    F64,
    U8,
}

impl Element {
    fn bytes(self) -> usize {
        match self {
            Element::U8 => 1,
            Element::F16 => 2,
            Element::F32 => 4,
            Element::F64 => 8,
        }
    }
}

/// `rows` vectors of `dimensions`, `stride` bytes apart.
#[derive(Debug)]
pub struct Matrix {
    name: String,
    file: Arc<File>,
    element: Element,
    /// Where the first row's values begin.
    start: u64,
    stride: usize,
    /// Every row begins with its own count of dimensions.
    counted: bool,
    pub rows: u64,
    pub dimensions: usize,
    block: Vec<u8>,
    block_first: u64,
    block_rows: u64,
}

impl Matrix {
    pub fn open(file: &Named) -> Result<Matrix, FileError> {
        match Format::of(&file.name) {
            Format::Npy => npy(file),
            Format::Fvecs => counted(file, Element::F32),
            _ => counted(file, Element::U8),
        }
    }

    /// An open file of `rows` f32 vectors from its first byte on.
    pub fn plain(name: &str, file: File, rows: u64, dimensions: usize) -> Matrix {
        Matrix {
            name: name.into(),
            file: Arc::new(file),
            element: Element::F32,
            start: 0,
            stride: dimensions * 4,
            counted: false,
            rows,
            dimensions,
            block: Vec::new(),
            block_first: 0,
            block_rows: 0,
        }
    }

    pub fn element(&self) -> &'static str {
        match self.element {
            Element::F16 => "f16",
            Element::F32 => "f32",
            Element::F64 => "f64",
            Element::U8 => "u8",
        }
    }

    /// One vector. Rows read in order are read in blocks.
    pub fn row(&mut self, row: u64) -> Result<Vec<f32>, FileError> {
        if row < self.block_first || row >= self.block_first + self.block_rows {
            let in_order = row == self.block_first + self.block_rows;
            let wanted = if in_order { (BLOCK / self.stride.max(1)).max(1) as u64 } else { 1 };
            let n = wanted.min(self.rows.saturating_sub(row));
            self.block.resize(n as usize * self.stride, 0);
            let at = self.start + row * self.stride as u64;
            self.file.read_exact_at(&mut self.block, at).map_err(|e| {
                FileError::new(
                    &self.name,
                    format!("row {row} cannot be read: {e}; is it still being written?"),
                )
            })?;
            (self.block_first, self.block_rows) = (row, n);
        }
        let at = (row - self.block_first) as usize * self.stride;
        let mut bytes = &self.block[at..at + self.stride];
        if self.counted {
            let own = u32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]]) as usize;
            if own != self.dimensions {
                let why = format!("row {row} has {own} dimensions, and row 0 has {}", self.dimensions);
                return Err(FileError::new(&self.name, why));
            }
            bytes = &bytes[4..];
        }
        Ok(match self.element {
            Element::U8 => bytes.iter().map(|b| f32::from(*b)).collect(),
            Element::F16 => {
                bytes.chunks_exact(2).map(|b| f16::from_le_bytes([b[0], b[1]]).to_f32()).collect()
            }
            Element::F32 => bytes.as_chunks().0.iter().map(|b| f32::from_le_bytes(*b)).collect(),
            Element::F64 => bytes
                .chunks_exact(8)
                .map(|b| f64::from_le_bytes([b[0], b[1], b[2], b[3], b[4], b[5], b[6], b[7]]) as f32)
                .collect(),
        })
    }
}

fn npy(named: &Named) -> Result<Matrix, FileError> {
    let wrong = |why: String| FileError::new(&named.name, why);
    let file = open_file(named)?;
    let length = file.metadata().map_err(|e| wrong(e.to_string()))?.len();
    let mut reader = BufReader::new(&file);
    let mut magic = [0; 6];
    let is_npy = reader.read_exact(&mut magic).is_ok() && &magic == b"\x93NUMPY";
    if !is_npy {
        return Err(wrong(
            "is not an NPY file: it does not begin with \\x93NUMPY; write it with numpy.save".into(),
        ));
    }
    reader.seek(SeekFrom::Start(0)).map_err(|e| wrong(e.to_string()))?;
    let header = npyz::NpyHeader::from_reader(&mut reader)
        .map_err(|e| wrong(format!("its NPY header cannot be read: {e}; write it again with numpy.save")))?;
    let start = reader.stream_position().map_err(|e| wrong(e.to_string()))?;
    let kind = header.dtype().descr();
    let kind = kind.trim_matches('\'');
    let element = match kind {
        "<f2" => Element::F16,
        "<f4" => Element::F32,
        "<f8" => Element::F64,
        other => {
            return Err(wrong(format!(
                "holds values of type {other}; vectors are little-endian f16, f32 or f64: save it with \
                 array.astype('<f4')"
            )));
        }
    };
    let &[rows, dimensions] = header.shape() else {
        return Err(wrong(format!(
            "has shape {:?}; vectors have two axes, (rows, dimensions): reshape it first",
            header.shape()
        )));
    };
    if header.order() == npyz::Order::Fortran && rows > 1 && dimensions > 1 {
        return Err(wrong(
            "is in Fortran order, column after column; save it with numpy.ascontiguousarray(array)".into(),
        ));
    }
    if dimensions == 0 {
        return Err(wrong("has vectors of 0 dimensions".into()));
    }
    let stride = (dimensions as usize).checked_mul(element.bytes());
    let expected = stride.and_then(|s| rows.checked_mul(s as u64)).and_then(|b| b.checked_add(start));
    if expected != Some(length) {
        let held = length.saturating_sub(start) / stride.unwrap_or(usize::MAX) as u64;
        return Err(wrong(format!(
            "says it has {rows} rows of {dimensions} and holds {held}; the file is cut off or its header is wrong"
        )));
    }
    let mut matrix = Matrix::plain(&named.name, file, rows, dimensions as usize);
    (matrix.element, matrix.start, matrix.stride) = (element, start, stride.unwrap_or(0));
    Ok(matrix)
}

fn counted(named: &Named, element: Element) -> Result<Matrix, FileError> {
    let wrong = |why: String| FileError::new(&named.name, why);
    let file = open_file(named)?;
    let length = file.metadata().map_err(|e| wrong(e.to_string()))?.len();
    let mut first = [0; 4];
    if file.read_exact_at(&mut first, 0).is_err() {
        return Err(wrong("holds no vector: it is empty".into()));
    }
    let dimensions = u32::from_le_bytes(first) as usize;
    let stride = 4 + dimensions * element.bytes();
    if dimensions == 0 || dimensions > 1 << 20 || !length.is_multiple_of(stride as u64) {
        return Err(wrong(format!(
            "its first row says {dimensions} dimensions, so a row has {stride} bytes, and {length} bytes are \
             not a whole number of rows; the file is cut off or of another kind"
        )));
    }
    let mut matrix = Matrix::plain(&named.name, file, length / stride as u64, dimensions);
    (matrix.element, matrix.stride, matrix.counted) = (element, stride, true);
    Ok(matrix)
}
