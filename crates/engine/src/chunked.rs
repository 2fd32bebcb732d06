//! Append-only storage in shared chunks, so that a snapshot costs a list of pointers and a writer
//! copies at most the last chunk.

use crate::bits::Bits;
use crate::lines::Aligned;
use std::sync::Arc;

/// Rows in one chunk of [`Chunked`]; a multiple of 64, so that bit words never straddle chunks.
pub const ROWS: usize = 1024;

/// A growing list whose clones share everything but what is appended later.
#[derive(Clone, Debug)]
pub struct Chunked<T> {
    chunks: Vec<Arc<Vec<T>>>,
    len: usize,
}

impl<T> Default for Chunked<T> {
    fn default() -> Self {
        Chunked { chunks: Vec::new(), len: 0 }
    }
}

impl<T: Clone> Chunked<T> {
    pub fn push(&mut self, value: T) {
        if self.len.is_multiple_of(ROWS) {
            self.chunks.push(Arc::new(Vec::with_capacity(ROWS)));
        }
        let last = self.chunks.last_mut().expect("a chunk was just made");
        // A clone made by copy-on-write has no spare room: give it some before pushing.
        let last = Arc::make_mut(last);
        last.reserve(ROWS - last.len());
        last.push(value);
        self.len += 1;
    }

    pub fn len(&self) -> usize {
        self.len
    }

    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    pub fn get(&self, row: u32) -> Option<&T> {
        self.chunks.get(row as usize / ROWS)?.get(row as usize % ROWS)
    }

    pub fn chunks(&self) -> impl Iterator<Item = &[T]> {
        self.chunks.iter().map(|c| c.as_slice())
    }
}

/// The prepared vectors of one column, by row. A row without a vector holds zeros and is absent
/// from [`Vectors::present`].
#[derive(Clone, Debug)]
pub struct Vectors {
    dimensions: usize,
    per_chunk: usize,
    chunks: Vec<Arc<Aligned<f32>>>,
    present: Bits,
    len: usize,
}

impl Vectors {
    pub fn new(dimensions: usize) -> Self {
        // About a megabyte a chunk: what a single small write may have to copy.
        let per_chunk = (262_144 / dimensions.max(1)).next_power_of_two().clamp(16, 4096);
        Vectors { dimensions, per_chunk, chunks: Vec::new(), present: Bits::default(), len: 0 }
    }

    /// `len` rows, none of which has a vector.
    pub fn absent(dimensions: usize, len: usize) -> Self {
        let mut vectors = Vectors::new(dimensions);
        vectors.extend((0..len).map(|_| None));
        vectors
    }

    pub fn dimensions(&self) -> usize {
        self.dimensions
    }

    /// Replaces the vector of a row that exists.
    pub fn set(&mut self, row: u32, vector: &[f32]) {
        let (chunk, at) = (row as usize / self.per_chunk, row as usize % self.per_chunk);
        Arc::make_mut(&mut self.chunks[chunk]).set(at * self.dimensions, vector);
        self.present.set(row as usize, true);
    }

    pub fn len(&self) -> usize {
        self.len
    }

    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// Rows that have a vector.
    pub fn present(&self) -> &Bits {
        &self.present
    }

    /// Appends a row; `None` is a record without a vector in this column.
    pub fn push(&mut self, row: Option<&[f32]>) {
        self.extend([row]);
    }

    /// Appends rows; `None` is a record without a vector in this column.
    pub fn extend<'a>(&mut self, rows: impl IntoIterator<Item = Option<&'a [f32]>>) {
        for row in rows {
            if self.len.is_multiple_of(self.per_chunk) {
                let chunk = Aligned::with_capacity(self.per_chunk * self.dimensions);
                self.chunks.push(Arc::new(chunk));
            }
            let chunk = Arc::make_mut(self.chunks.last_mut().expect("a chunk was just made"));
            // A chunk copied on write has no spare room, and would grow by doubling.
            chunk.reserve_to(self.per_chunk * self.dimensions);
            match row {
                Some(row) => chunk.extend(row),
                None => chunk.extend(&vec![0.0; self.dimensions]),
            }
            self.present.push(row.is_some());
            self.len += 1;
        }
    }

    /// The vector of a row; zeros where the row has none. The row must exist.
    pub fn row(&self, row: u32) -> &[f32] {
        let (chunk, at) = (row as usize / self.per_chunk, row as usize % self.per_chunk);
        &self.chunks[chunk].as_slice()[at * self.dimensions..][..self.dimensions]
    }

    /// The consecutive rows among which a row that exists is stored: the first one's number and the values.
    pub fn chunk_of(&self, row: u32) -> (u32, &[f32]) {
        let chunk = row as usize / self.per_chunk;
        ((chunk * self.per_chunk) as u32, self.chunks[chunk].as_slice())
    }

    /// Runs of consecutive rows: the first row's number and the values.
    pub fn blocks(&self) -> impl Iterator<Item = (u32, &[f32])> {
        let per_chunk = self.per_chunk;
        self.chunks.iter().enumerate().map(move |(i, c)| ((i * per_chunk) as u32, c.as_slice()))
    }

    pub fn n_bytes(&self) -> usize {
        self.chunks.iter().map(|c| c.capacity() * 4).sum::<usize>() + self.present.n_bytes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_snapshot_does_not_see_later_rows() {
        let mut list = Chunked::default();
        for i in 0..1500u32 {
            list.push(i);
        }
        let before = list.clone();
        for i in 1500..3000u32 {
            list.push(i);
        }
        assert_eq!(before.len(), 1500);
        assert_eq!(before.get(1500), None);
        assert!((0..3000).all(|i| list.get(i) == Some(&i)));
        assert_eq!(list.chunks().map(<[u32]>::len).sum::<usize>(), 3000);
    }

    #[test]
    fn vectors_come_back_across_chunks_and_snapshots() {
        for dimensions in [1, 3, 384, 16_384] {
            let mut vectors = Vectors::new(dimensions);
            let row = |i: usize| vec![i as f32; dimensions];
            let n = 3 * vectors.per_chunk + 5;
            let snapshot = {
                for i in 0..n / 2 {
                    vectors.extend([Some(row(i).as_slice())]);
                }
                vectors.clone()
            };
            vectors.extend([None]);
            for i in n / 2 + 1..n {
                vectors.extend([Some(row(i).as_slice())]);
            }
            assert_eq!(snapshot.len(), n / 2);
            assert_eq!(vectors.len(), n);
            assert!(!vectors.present().contains(n / 2));
            let before = vectors.clone();
            vectors.set((n / 2) as u32, &row(77));
            assert_eq!(
                (vectors.row((n / 2) as u32), before.row((n / 2) as u32)),
                (&row(77)[..], &row(0)[..])
            );
            assert!(vectors.present().contains(n / 2) && !before.present().contains(n / 2));
            assert_eq!(Vectors::absent(dimensions, n).row(3), row(0));
            assert_eq!(vectors.row((n - 1) as u32), row(n - 1));
            assert_eq!(vectors.row(0), row(0));
            let counted: usize = vectors.blocks().map(|(_, b)| b.len() / dimensions).sum();
            assert_eq!(counted, n);
            let chunks = n.div_ceil(vectors.per_chunk);
            let room = chunks * (vectors.per_chunk * dimensions * 4).next_multiple_of(64);
            assert!(vectors.n_bytes() <= room + n / 8 + 4096, "chunks copied on write take no more");
        }
    }
}
