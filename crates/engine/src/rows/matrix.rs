//! Rows of equal width in shared chunks: on the heap, or mapped from segment files.

use crate::lines::Aligned;
use bytemuck::Pod;
use memmap2::Mmap;
use std::ops::Range;
use std::sync::Arc;

/// About how many bytes a chunk has: what a single small write may have to copy.
const CHUNK: usize = 256 << 10;

enum Chunk<T> {
    Held(Aligned<T>),
    Mapped { file: Arc<Mmap>, bytes: Range<usize> },
}

impl<T> std::fmt::Debug for Chunk<T> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(if matches!(self, Chunk::Held(_)) { "Held" } else { "Mapped" })
    }
}

impl<T: Pod> Chunk<T> {
    fn values(&self) -> &[T] {
        match self {
            Chunk::Held(values) => values.as_slice(),
            // Alignment and length were checked when it was mapped.
            Chunk::Mapped { file, bytes } => bytemuck::cast_slice(&file[bytes.clone()]),
        }
    }
}

/// A growing list of rows whose clones share everything but what is appended or replaced later.
#[derive(Clone, Debug)]
pub struct Matrix<T> {
    width: usize,
    pub(super) per_chunk: usize,
    chunks: Vec<Arc<Chunk<T>>>,
    len: usize,
}

impl<T: Pod> Matrix<T> {
    pub fn new(width: usize) -> Self {
        let per_chunk = (CHUNK / size_of::<T>() / width.max(1)).next_power_of_two().clamp(16, 4096);
        Matrix { width, per_chunk, chunks: Vec::new(), len: 0 }
    }

    /// `len` rows of zeros.
    pub fn zeros(width: usize, len: usize) -> Self {
        let mut rows = Matrix::new(width);
        rows.extend_zeros(len);
        rows
    }

    /// Appends rows of zeros. Whole chunks of them are one and the same.
    pub fn extend_zeros(&mut self, mut n: usize) {
        let row = vec![T::zeroed(); self.width];
        let mut chunk: Option<Arc<Chunk<T>>> = None;
        while n > 0 {
            if !self.len.is_multiple_of(self.per_chunk) || n < self.per_chunk {
                self.push(&row);
                n -= 1;
                continue;
            }
            let chunk = chunk.get_or_insert_with(|| {
                let mut zeros = Aligned::with_capacity(self.per_chunk * self.width);
                zeros.extend(&vec![T::zeroed(); self.per_chunk * self.width]);
                Arc::new(Chunk::Held(zeros))
            });
            self.chunks.push(chunk.clone());
            self.len += self.per_chunk;
            n -= self.per_chunk;
        }
    }

    /// The rows before one of them; whole chunks are shared.
    pub fn until(&self, row: usize) -> Matrix<T> {
        let whole = row / self.per_chunk;
        let chunks = self.chunks[..whole].to_vec();
        let mut rows = Matrix { chunks, len: whole * self.per_chunk, ..*self };
        (rows.len..row).for_each(|r| rows.push(self.row(r as u32)));
        rows
    }

    /// Whether a row lies in a mapped file.
    pub fn is_mapped(&self, row: u32) -> bool {
        matches!(*self.chunks[row as usize / self.per_chunk], Chunk::Mapped { .. })
    }

    pub fn width(&self) -> usize {
        self.width
    }

    pub fn len(&self) -> usize {
        self.len
    }

    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// A chunk that can be written to: a copy of its own, on the heap, where it is not one already.
    fn held(&mut self, chunk: usize) -> &mut Aligned<T> {
        let chunk = &mut self.chunks[chunk];
        let is_own = Arc::get_mut(chunk).is_some_and(|own| matches!(own, Chunk::Held(_)));
        if !is_own {
            let mut copy = Aligned::with_capacity(self.per_chunk * self.width);
            copy.extend(chunk.values());
            *chunk = Arc::new(Chunk::Held(copy));
        }
        match Arc::get_mut(chunk) {
            Some(Chunk::Held(values)) => values,
            _ => unreachable!("it was just copied"),
        }
    }

    /// Appends a row.
    pub fn push(&mut self, row: &[T]) {
        assert_eq!(row.len(), self.width);
        if self.len.is_multiple_of(self.per_chunk) {
            let chunk = Aligned::with_capacity(self.per_chunk * self.width);
            self.chunks.push(Arc::new(Chunk::Held(chunk)));
        }
        let last = self.chunks.len() - 1;
        self.held(last).extend(row);
        self.len += 1;
    }

    /// Replaces a row that exists.
    pub fn set(&mut self, row: u32, values: &[T]) {
        let (chunk, at) = (row as usize / self.per_chunk, row as usize % self.per_chunk);
        let width = self.width;
        self.held(chunk).set(at * width, values);
    }

    /// Appends `n` rows that lie one after the other in a mapped file. Whole chunks of them stay there.
    pub fn extend_mapped(&mut self, file: &Arc<Mmap>, start: usize, n: usize) {
        let row_bytes = self.width * size_of::<T>();
        let row_at = |row: usize| start + row * row_bytes..start + (row + 1) * row_bytes;
        let mut row = 0;
        while row < n {
            let bytes = start + row * row_bytes..start + (row + self.per_chunk) * row_bytes;
            let whole = self.len.is_multiple_of(self.per_chunk) && row + self.per_chunk <= n;
            if whole && bytemuck::try_cast_slice::<u8, T>(&file[bytes.clone()]).is_ok() {
                self.chunks.push(Arc::new(Chunk::Mapped { file: file.clone(), bytes }));
                self.len += self.per_chunk;
                row += self.per_chunk;
            } else {
                let values: Vec<T> = bytemuck::pod_collect_to_vec(&file[row_at(row)]);
                self.push(&values);
                row += 1;
            }
        }
    }

    /// Lets go of the copies on the heap of rows that have been written to a file, from row `from` on, where they
    /// are still as they were in `then`.
    pub fn map_rows(&mut self, then: &Matrix<T>, from: usize, file: &Arc<Mmap>, start: usize, n: usize) {
        let row_bytes = self.width * size_of::<T>();
        for chunk in from.div_ceil(self.per_chunk)..(from + n) / self.per_chunk {
            let first = chunk * self.per_chunk - from;
            let bytes = start + first * row_bytes..start + (first + self.per_chunk) * row_bytes;
            let is_same = Arc::ptr_eq(&self.chunks[chunk], &then.chunks[chunk]);
            if is_same && bytemuck::try_cast_slice::<u8, T>(&file[bytes.clone()]).is_ok() {
                self.chunks[chunk] = Arc::new(Chunk::Mapped { file: file.clone(), bytes });
            }
        }
    }

    /// A row that exists.
    pub fn row(&self, row: u32) -> &[T] {
        let (chunk, at) = (row as usize / self.per_chunk, row as usize % self.per_chunk);
        &self.chunks[chunk].values()[at * self.width..][..self.width]
    }

    /// The consecutive rows among which a row that exists is stored: the first one's number and the values.
    pub fn chunk_of(&self, row: u32) -> (u32, &[T]) {
        let chunk = row as usize / self.per_chunk;
        ((chunk * self.per_chunk) as u32, self.chunks[chunk].values())
    }

    /// Runs of consecutive rows: the first row's number and the values.
    pub fn blocks(&self) -> impl Iterator<Item = (u32, &[T])> {
        let per_chunk = self.per_chunk;
        self.chunks.iter().enumerate().map(move |(i, c)| ((i * per_chunk) as u32, c.values()))
    }

    /// Bytes on the heap.
    pub fn n_bytes(&self) -> usize {
        self.bytes_of(|chunk| match chunk {
            Chunk::Held(values) => values.capacity() * size_of::<T>(),
            Chunk::Mapped { .. } => 0,
        })
    }

    /// Bytes that lie in mapped files.
    pub fn n_bytes_mapped(&self) -> usize {
        self.bytes_of(|chunk| match chunk {
            Chunk::Held(_) => 0,
            Chunk::Mapped { bytes, .. } => bytes.len(),
        })
    }

    fn bytes_of(&self, of: impl Fn(&Chunk<T>) -> usize) -> usize {
        // Chunks of zeros are one and the same.
        let before = std::iter::once(None).chain(self.chunks.iter().map(Some));
        let pairs = self.chunks.iter().zip(before);
        pairs.filter(|(c, b)| b.is_none_or(|b| !Arc::ptr_eq(b, c))).map(|(c, _)| of(c)).sum()
    }
}
