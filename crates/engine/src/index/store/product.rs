//! Product codes (Jégou, Douze and Schmid, PAMI 2011): a vector is cut into parts, and of each part is kept which of
//! 256 or 16 learned centres is nearest. A query's product with every centre is computed once; a row's is then a sum
//! of looked-up numbers.

use crate::index::build::crew::Crew;
use crate::index::build::kmeans;
use crate::index::progress::BuildError;
use crate::kernels::Kernels;
use crate::tensors::Tensor;

pub(crate) struct Codebooks {
    pub(crate) parts: usize,
    pub(crate) bits: usize,
    pub(crate) dimensions: usize,
    /// `[parts, dimensions / parts, centers]`: the centres of a part are columns, so that a query's products with
    /// all of them come out of consecutive memory.
    pub(crate) columns: Tensor<f32>,
    /// `[parts, centers]`: half the squared length of each.
    half: Vec<f32>,
}

impl Codebooks {
    pub(crate) fn new(parts: usize, bits: usize, dimensions: usize, columns: Tensor<f32>) -> Codebooks {
        let centers = 1 << bits;
        let width = dimensions / parts;
        let half = columns.chunks(width * centers).flat_map(|part| half_lengths(part, centers)).collect();
        Codebooks { parts, bits, dimensions, columns, half }
    }

    fn width(&self) -> usize {
        self.dimensions / self.parts
    }

    fn centers(&self) -> usize {
        1 << self.bits
    }

    fn part(&self, part: usize) -> &[f32] {
        let size = self.width() * self.centers();
        &self.columns[part * size..][..size]
    }

    pub(crate) fn learn(
        crew: &Crew<'_>,
        sample: &[f32],
        dimensions: usize,
        parts: usize,
        bits: usize,
        rounds: usize,
        seed: u64,
    ) -> Result<Codebooks, BuildError> {
        let width = dimensions / parts;
        let centers = 1usize << bits;
        let alone = Crew { threads: 1, ..*crew };
        let columns = crew.pieces(parts, 1, |part| {
            let rows = kmeans::part(sample, dimensions, part.start * width..part.end * width);
            // A start of k-means++; the rounds are our own, for short vectors in columns.
            let start = kmeans::centers(&alone, &rows, width, centers, 0, seed ^ part.start as u64)?;
            let mut columns = vec![0.0; width * centers];
            for c in 0..centers {
                // Fewer rows than centres: the last ones repeat the first.
                let from = c % (start.len() / width).max(1);
                (0..width).for_each(|d| columns[d * centers + c] = start[from * width + d]);
            }
            for _ in 0..rounds {
                alone.check()?;
                columns = round(crew.kernels, &rows, width, centers, &columns);
            }
            Ok(columns)
        })?;
        let columns: Result<Vec<Vec<f32>>, BuildError> = columns.into_iter().collect();
        Ok(Codebooks::new(parts, bits, dimensions, columns?.concat().into()))
    }

    /// Moves the centres to new rows.
    pub(crate) fn refine(
        self,
        crew: &Crew<'_>,
        sample: &[f32],
        rounds: usize,
    ) -> Result<Codebooks, BuildError> {
        let width = self.width();
        let columns = crew.pieces(self.parts, 1, |part| {
            let rows = kmeans::part(sample, self.dimensions, part.start * width..part.end * width);
            (0..rounds).fold(self.part(part.start).to_vec(), |columns, _| {
                round(crew.kernels, &rows, width, self.centers(), &columns)
            })
        })?;
        Ok(Codebooks::new(self.parts, self.bits, self.dimensions, columns.concat().into()))
    }

    /// The code of each part.
    pub(crate) fn encode(&self, kernels: &Kernels, row: &[f32], out: &mut Vec<u8>) {
        let mut scores = [0.0f32; 256];
        let scores = &mut scores[..self.centers()];
        for (part, x) in row.chunks(self.width()).enumerate() {
            let half = &self.half[part * self.centers()..][..self.centers()];
            out.push(nearest(kernels, x, self.part(part), half, scores).0 as u8);
        }
    }

    /// What the codes of a row stand for.
    pub(crate) fn decode(&self, codes: &[u8], out: &mut Vec<f32>) {
        for (part, code) in codes.iter().enumerate() {
            let columns = self.part(part);
            out.extend((0..self.width()).map(|d| columns[d * self.centers() + *code as usize]));
        }
    }

    /// Rows as their codes tell them.
    pub(crate) fn decode_all(&self, crew: &Crew<'_>, rows: &[f32]) -> Result<Vec<f32>, BuildError> {
        let d = self.dimensions;
        let parts = crew.pieces(rows.len() / d, 256, |piece| {
            let mut told = Vec::with_capacity(piece.len() * d);
            let mut codes = Vec::with_capacity(self.parts);
            for row in rows[piece.start * d..piece.end * d].chunks(d) {
                codes.clear();
                self.encode(crew.kernels, row, &mut codes);
                self.decode(&codes, &mut told);
            }
            told
        })?;
        Ok(parts.concat())
    }

    /// `[parts, centers]`: the query's product with each centre.
    pub(crate) fn products(&self, kernels: &Kernels, query: &[f32]) -> Vec<f32> {
        let mut table = vec![0.0; self.parts * self.centers()];
        for (part, (x, out)) in query.chunks(self.width()).zip(table.chunks_mut(self.centers())).enumerate() {
            kernels.dot_columns(x, self.part(part), out);
        }
        table
    }

    pub(crate) fn n_bytes(&self) -> usize {
        4 * self.columns.len()
    }
}

/// Half the squared length of each of the columns.
fn half_lengths(columns: &[f32], centers: usize) -> Vec<f32> {
    let mut half = vec![0.0f32; centers];
    for line in columns.chunks(centers) {
        half.iter_mut().zip(line).for_each(|(h, x)| *h += x * x / 2.0);
    }
    half
}

/// The column nearest to `x`, and half the squared distance to it less half the squared length of `x`.
#[inline]
fn nearest(kernels: &Kernels, x: &[f32], columns: &[f32], half: &[f32], scores: &mut [f32]) -> (usize, f32) {
    kernels.dot_columns(x, columns, scores);
    scores.iter_mut().zip(half).for_each(|(s, h)| *s = h - *s);
    kmeans::least(scores)
}

/// One round of k-means over short vectors; the centres are columns.
fn round(kernels: &Kernels, rows: &[f32], width: usize, centers: usize, columns: &[f32]) -> Vec<f32> {
    let half = half_lengths(columns, centers);
    let mut scores = vec![0.0; centers];
    let mut sums = vec![0.0f64; width * centers];
    let mut counts = vec![0usize; centers];
    let mut worst = (0usize, f32::NEG_INFINITY);
    for (i, row) in rows.chunks(width).enumerate() {
        let (near, least) = nearest(kernels, row, columns, &half, &mut scores);
        counts[near] += 1;
        row.iter().enumerate().for_each(|(d, x)| sums[d * centers + near] += f64::from(*x));
        let gap = least + row.iter().map(|x| x * x).sum::<f32>() / 2.0;
        if gap > worst.1 {
            worst = (i, gap);
        }
    }
    let mut moved = columns.to_vec();
    let mut refilled = false;
    for c in 0..centers {
        if counts[c] > 0 {
            (0..width)
                .for_each(|d| moved[d * centers + c] = (sums[d * centers + c] / counts[c] as f64) as f32);
        } else if !refilled {
            // One empty centre a round takes the row that is told worst.
            (0..width).for_each(|d| moved[d * centers + c] = rows[worst.0 * width + d]);
            refilled = true;
        }
    }
    moved
}
