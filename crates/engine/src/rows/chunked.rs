//! Append-only storage in shared chunks, so that a snapshot costs a list of pointers and a writer
//! copies at most the last chunk.

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

    /// Replaces the value of a row that exists.
    pub fn set(&mut self, row: u32, value: T) {
        Arc::make_mut(&mut self.chunks[row as usize / ROWS])[row as usize % ROWS] = value;
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
}
