//! The vectors of one column, by row.

use crate::metric::{Metric, fingerprint};
use crate::rows::bits::Bits;
use crate::rows::chunked::Chunked;
use crate::rows::given::{Away, Given};
use crate::rows::matrix::Matrix;
use std::borrow::Cow;

/// The prepared vectors of one column, by row. A row without a vector holds zeros and is absent
/// from [`Vectors::present`].
#[derive(Clone, Debug)]
pub struct Vectors {
    pub(crate) rows: Matrix<f32>,
    pub(crate) present: Bits,
}

impl Vectors {
    pub fn new(dimensions: usize) -> Self {
        Vectors { rows: Matrix::new(dimensions), present: Bits::default() }
    }

    /// `len` rows, none of which has a vector.
    pub fn absent(dimensions: usize, len: usize) -> Self {
        Vectors { rows: Matrix::zeros(dimensions, len), present: (0..len).map(|_| false).collect() }
    }

    pub fn dimensions(&self) -> usize {
        self.rows.width()
    }

    /// Replaces the vector of a row that exists.
    pub fn set(&mut self, row: u32, vector: &[f32]) {
        self.rows.set(row, vector);
        self.present.set(row as usize, true);
    }

    pub fn len(&self) -> usize {
        self.rows.len()
    }

    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
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
            match row {
                Some(row) => self.rows.push(row),
                None => self.rows.push(&vec![0.0; self.dimensions()]),
            }
            self.present.push(row.is_some());
        }
    }

    /// The vector of a row; zeros where the row has none. The row must exist.
    pub fn row(&self, row: u32) -> &[f32] {
        self.rows.row(row)
    }

    /// The consecutive rows among which a row that exists is stored: the first one's number and the values.
    pub fn chunk_of(&self, row: u32) -> (u32, &[f32]) {
        self.rows.chunk_of(row)
    }

    /// Runs of consecutive rows: the first row's number and the values.
    pub fn blocks(&self) -> impl Iterator<Item = (u32, &[f32])> {
        self.rows.blocks()
    }

    /// Bytes on the heap.
    pub fn n_bytes(&self) -> usize {
        self.rows.n_bytes() + self.present.n_bytes()
    }
}

/// A named place for vectors.
#[derive(Clone, Debug)]
pub struct VectorColumn {
    /// What tells it from a column of the same name that was there before.
    pub id: i64,
    pub name: String,
    pub metric: Metric,
    pub vectors: Vectors,
    /// As they were given, where preparing changes vectors.
    pub(crate) given: Option<Given>,
    /// What tells the prepared vector of a row from others: see [`fingerprint`].
    pub(crate) prints: Chunked<u32>,
}

impl VectorColumn {
    /// A column in which none of `len` rows has a vector.
    pub fn absent(id: i64, name: String, metric: Metric, dimensions: usize, len: usize) -> VectorColumn {
        let vectors = Vectors::absent(dimensions, len);
        let given = (metric == Metric::Cosine).then(|| Given::absent(dimensions, len));
        let mut prints = Chunked::default();
        (0..len).for_each(|_| prints.push(0));
        VectorColumn { id, name, metric, vectors, given, prints }
    }

    /// Appends a row.
    pub(crate) fn push(&mut self, vector: Option<&Prepared>) {
        self.vectors.push(vector.map(|v| &v.prepared[..]));
        if let Some(given) = &mut self.given {
            given.push(vector.and_then(|v| v.away.as_ref()));
        }
        self.prints.push(vector.map_or(0, |v| fingerprint(&v.prepared)));
    }

    /// Replaces the vector of a row that exists.
    pub(crate) fn set(&mut self, row: u32, vector: &Prepared) {
        self.vectors.set(row, &vector.prepared);
        if let (Some(given), Some(away)) = (&mut self.given, &vector.away) {
            given.set(row, away);
        }
        self.prints.set(row, fingerprint(&vector.prepared));
    }

    /// The vector of a row as it was given.
    pub fn given(&self, row: u32) -> Option<Cow<'_, [f32]>> {
        self.vectors.present.contains(row as usize).then(|| {
            let prepared = self.vectors.row(row);
            match &self.given {
                Some(given) => Cow::Owned(given.row(row, prepared)),
                None => Cow::Borrowed(prepared),
            }
        })
    }

    /// Whether a row has this vector, by its bits: 0 and -0 are two.
    pub(crate) fn has(&self, row: u32, given: &[f32]) -> bool {
        let bytes = bytemuck::cast_slice::<f32, u8>;
        self.given(row).is_some_and(|own| bytes(&own) == bytes(given))
    }

    pub(crate) fn kept(&self, row: u32) -> Option<Prepared> {
        let is_there = self.vectors.present.contains(row as usize);
        is_there.then(|| Prepared {
            prepared: self.vectors.row(row).to_vec(),
            away: self.given.as_ref().map(|given| given.away(row)),
        })
    }

    /// The fingerprint of a row's vector; `None` where it has none.
    pub fn print(&self, row: u32) -> Option<u32> {
        self.prints.get(row).copied().filter(|_| self.vectors.present.contains(row as usize))
    }

    /// Bytes on the heap.
    pub fn n_bytes(&self) -> usize {
        self.vectors.n_bytes() + self.given.as_ref().map_or(0, Given::n_bytes) + 4 * self.prints.len()
    }

    /// Bytes that lie in mapped files.
    pub fn n_bytes_mapped(&self) -> usize {
        self.vectors.rows.n_bytes_mapped()
            + self.given.as_ref().map_or(0, |given| given.steps.n_bytes_mapped())
    }
}

/// A vector as searches compare it, and what leads from it to the one that was given where that differs.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Prepared {
    pub prepared: Vec<f32>,
    pub away: Option<Away>,
}

impl Prepared {
    /// `None` for what the column does not take: it was refused when it was written.
    pub fn new(metric: Metric, given: &[f32], dimensions: usize) -> Option<Prepared> {
        let (prepared, length) = metric.prepare_with_length(given, dimensions).ok()?;
        let away = (metric == Metric::Cosine).then(|| Away::of(given, &prepared, length));
        Some(Prepared { prepared, away })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn vectors_come_back_across_chunks_and_snapshots() {
        for dimensions in [1, 3, 384, 16_384] {
            let mut vectors = Vectors::new(dimensions);
            let row = |i: usize| vec![i as f32; dimensions];
            let n = 3 * vectors.rows.per_chunk + 5;
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
            let chunks = n.div_ceil(vectors.rows.per_chunk);
            let room = chunks * (vectors.rows.per_chunk * dimensions * 4).next_multiple_of(64);
            assert!(vectors.n_bytes() <= room + n / 8 + 4096, "chunks copied on write take no more");
        }
    }
}
