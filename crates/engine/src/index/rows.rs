//! The vectors of an index as its recipe keeps them, and queries against them.
//!
//! `int8`: each vector is scaled so that its largest component is 127, and rounded; the query is kept in 16 bits, so
//! that only one side of a distance is coarse. `f16`: IEEE halves. `pq`: see [`super::product`]; `bits`: see
//! [`super::bits`]. Codes of rows in cells tell how a row differs from its cell's centre.

use super::BuildError;
use super::bits::{self, Bytes, Rotation};
use super::blocks::{self, Tables};
use super::kmeans;
use super::parallel::Crew;
use super::product::Codebooks;
use super::tensor::Tensor;
use crate::kernels::Kernels;
use crate::lines::Aligned;
use crate::recipe::Store;
use crate::scan::Neighbour;
use half::f16;
use std::borrow::Cow;
use std::ops::Range;
use std::sync::Arc;

pub(super) enum Rows {
    F32(Tensor<f32>),
    /// Bits of halves.
    F16(Tensor<u16>),
    /// A component is `code * scale`; `squared` is the squared length of the vector that the codes stand for, where
    /// the metric asks for it.
    Int8 {
        codes: Tensor<i8>,
        scale: Tensor<f32>,
        squared: Option<Tensor<f32>>,
    },
    Product {
        books: Arc<Codebooks>,
        codes: Tensor<u8>,
        /// Whether codes lie in blocks of 32 rows.
        in_blocks: bool,
        /// Squared lengths of what codes stand for, where the metric asks for them.
        squared: Option<Tensor<f32>>,
    },
    Bits {
        rotation: Arc<Rotation>,
        planes: usize,
        codes: BitCodes,
        factor: Tensor<f32>,
        error: Tensor<f32>,
        /// Squared lengths of the rows, where the metric asks for them.
        squared: Option<Tensor<f32>>,
    },
}

/// By how many steps of its scale a product with a row in bytes may be off, for a query of length 1: four standard
/// deviations of what rounding takes away, each of which is `1 / sqrt(12)`.
const ROUNDING: f32 = 1.154_7;

pub(super) enum BitCodes {
    /// `[n, planes, words]`
    Words(Tensor<u64>),
    Blocks(Tensor<u8>),
}

/// What has been learned for codes, and serves rows that come later too.
#[derive(Clone)]
pub(super) enum Coder {
    Plain,
    Product(Arc<Codebooks>),
    Bits(Arc<Rotation>),
}

/// A query, and what is the same for every row.
pub(super) struct Asked<'q> {
    vector: Cow<'q, [f32]>,
    pub(super) euclidean: bool,
    squared: f32,
    /// What all dot products lack: the part of a mean.
    base: f32,
    how: How,
}

enum How {
    Plain,
    Bytes { codes: Vec<i16>, scale: f32, length: f32 },
    Looked { table: Vec<f32>, tables: Option<Tables> },
    Bits { bytes: Option<Bytes>, tables: Option<Tables>, length: f32 },
}

impl Asked<'_> {
    pub(super) fn vector(&self) -> &[f32] {
        &self.vector
    }

    /// The rank of a row of zeros, as far as the metric tells lengths.
    pub(super) fn rank_of_nothing(&self) -> f32 {
        if self.euclidean { self.squared } else { -self.base }
    }

    /// What the ranks of all rows have in common beside what vectors tell.
    pub(super) fn rank_of_all(&self) -> f32 {
        if self.euclidean { 0.0 } else { -self.base }
    }

    /// The tables for codes in blocks, where rows are such.
    pub(super) fn tables(&self) -> Option<&Tables> {
        match &self.how {
            How::Looked { tables, .. } | How::Bits { tables, .. } => tables.as_ref(),
            _ => None,
        }
    }

    /// A rank from a dot product.
    #[inline]
    fn rank(&self, dot: f32, squared: f32) -> f32 {
        if self.euclidean { (self.squared - 2.0 * dot + squared).max(0.0) } else { -(dot + self.base) }
    }
}

/// A query in 16 bits for rows of signed bytes. Scaled so that no sum leaves 32 bits.
fn shorts(kernels: &Kernels, vector: &[f32]) -> How {
    let (largest, sum) = kernels.magnitudes(vector);
    // Beyond what f32 can tell, at most this.
    let sum = f64::from(sum).min(f64::from(largest) * vector.len() as f64);
    let scale = (32_767.0 / f64::from(largest))
        .min(f64::from(i32::MAX - 1024) / (127.0 * (sum * 1.001 + f64::from(largest))));
    let scale = if scale.is_finite() && scale > 0.0 { scale } else { 0.0 };
    let codes = if scale < f64::from(f32::MAX) {
        kernels.shorts(vector, scale as f32)
    } else {
        vector.iter().map(|x| (f64::from(*x) * scale).round() as i16).collect()
    };
    let length = kernels.dot(vector, vector).sqrt();
    How::Bytes { codes, scale: if scale > 0.0 { (1.0 / scale) as f32 } else { 0.0 }, length }
}

/// One row in signed bytes.
fn to_bytes(row: &[f32], codes: &mut Vec<i8>) -> (f32, f32) {
    let largest = row.iter().fold(0.0f32, |m, x| m.max(x.abs()));
    // A vector of zeros, or one too small to divide by, has codes of zero.
    let step = largest / 127.0;
    let inverse = if step > 0.0 { 1.0 / step } else { 0.0 };
    let inverse = if inverse.is_finite() { inverse } else { 0.0 };
    let start = codes.len();
    let round = |x: f32| (x + 0.5f32.copysign(x)) as i32;
    codes.extend(row.iter().map(|x| round(x * inverse).clamp(-127, 127) as i8));
    let sum: i64 = codes[start..].iter().map(|c| i64::from(*c) * i64::from(*c)).sum();
    (step, (sum as f64 * f64::from(step) * f64::from(step)) as f32)
}

/// Writes the centre of a node's cell.
pub(super) type CenterOf<'a> = &'a (dyn Fn(usize, &mut [f32]) + Sync);

/// Rows to be coded, in node order.
pub(super) struct Plain<'a> {
    /// Prepared vectors.
    pub(super) rows: &'a [f32],
    pub(super) dimensions: usize,
    /// For each node its row.
    pub(super) order: Option<&'a [u32]>,
    /// For each node the centre that its code is told from.
    pub(super) center: Option<CenterOf<'a>>,
    /// Nodes of each run that is compared as a whole; codes in blocks begin anew with each.
    pub(super) runs: Option<&'a [u32]>,
    pub(super) euclidean: bool,
}

impl Plain<'_> {
    pub(super) fn len(&self) -> usize {
        self.rows.len() / self.dimensions
    }

    pub(super) fn row(&self, node: usize) -> &[f32] {
        let row = self.order.map_or(node, |order| order[node] as usize);
        &self.rows[row * self.dimensions..][..self.dimensions]
    }

    /// The row of a node without the centre of its cell.
    pub(super) fn rest(&self, node: usize, out: &mut [f32]) {
        match self.center {
            None => out.copy_from_slice(self.row(node)),
            Some(center) => {
                center(node, out);
                out.iter_mut().zip(self.row(node)).for_each(|(c, x)| *c = x - *c);
            }
        }
    }
}

/// The codes of a few rows, and the numbers beside them.
#[derive(Default)]
struct Part {
    codes: Vec<u8>,
    words: Vec<u64>,
    factor: Vec<f32>,
    error: Vec<f32>,
    squared: Vec<f32>,
}

impl Coder {
    /// Learns what a store needs from a sample of what is left of rows.
    pub(super) fn learn(
        crew: &Crew<'_>,
        store: Store,
        sample: &[f32],
        d: usize,
        seed: u64,
    ) -> Result<Coder, BuildError> {
        Ok(match store {
            Store::Pq { parts, bits } => Coder::Product(Arc::new(Codebooks::learn(
                crew,
                sample,
                d,
                parts,
                bits,
                kmeans::ROUNDS,
                seed,
            )?)),
            Store::Bits { .. } => Coder::Bits(Arc::new(Rotation::random(d, seed))),
            _ => Coder::Plain,
        })
    }
}

/// Codes of places, row after row, as blocks of 32 rows that begin anew with each run.
fn in_blocks(codes: &[u8], places: usize, starts: &[u32]) -> Vec<u8> {
    let bytes = blocks::n_bytes(places);
    let mut all = Vec::new();
    for run in starts.windows(2) {
        let nodes: Vec<u32> = (run[0]..run[1]).collect();
        for some in nodes.chunks(blocks::ROWS) {
            let at = all.len();
            all.resize(at + bytes, 0);
            for (lane, node) in some.iter().enumerate() {
                blocks::put(&mut all[at..], lane, &codes[*node as usize * places..][..places]);
            }
        }
    }
    all
}

impl Rows {
    pub(super) fn encode(
        crew: &Crew<'_>,
        store: Store,
        coder: &Coder,
        plain: &Plain<'_>,
    ) -> Result<Rows, BuildError> {
        const PIECE: usize = 512;
        let (n, d) = (plain.len(), plain.dimensions);
        let whole = vec![0, n as u32];
        let runs = plain.runs.unwrap_or(&whole);
        let blocked = plain.runs.is_some();
        Ok(match (store, coder) {
            (Store::F32, _) => {
                let mut all = Aligned::with_capacity(plain.rows.len());
                (0..n).for_each(|node| all.extend(plain.row(node)));
                Rows::F32(Tensor::from(all))
            }
            (Store::F16, _) => {
                // Past the range of halves nothing would be told apart any more.
                let largest = plain.rows.iter().fold(0.0f32, |m, x| m.max(x.abs()));
                if largest > f16::MAX.to_f32() || largest > 0.0 && largest < f16::MIN_POSITIVE.to_f32() {
                    return Err(BuildError::Data(format!(
                        "f16 holds values from about 0.00006 to 65,504, and the largest here is {largest:e}; scale the \
                         vectors, or use f32 or int8 in place of f16"
                    )));
                }
                let parts = crew.pieces(n, PIECE, |piece| {
                    let rows = piece.flat_map(|node| plain.row(node));
                    rows.map(|x| f16::from_f32(*x).to_bits()).collect::<Vec<u16>>()
                })?;
                Rows::F16(Tensor::on_lines(&parts))
            }
            (Store::Int8, _) => {
                let parts = crew.pieces(n, PIECE, |piece| {
                    let mut codes = Vec::with_capacity(piece.len() * d);
                    let mut rest = vec![0.0; d];
                    let numbers = piece.map(|node| {
                        plain.rest(node, &mut rest);
                        to_bytes(&rest, &mut codes)
                    });
                    let numbers: Vec<(f32, f32)> = numbers.collect();
                    (codes, numbers)
                })?;
                let mut codes = Aligned::with_capacity(n * d);
                let (mut scale, mut squared) = (Vec::with_capacity(n), Vec::with_capacity(n));
                for (some, numbers) in parts {
                    codes.extend(&some);
                    for (s, q) in numbers {
                        scale.push(s);
                        squared.push(q);
                    }
                }
                let squared = plain.euclidean.then(|| squared.into());
                Rows::Int8 { codes: codes.into(), scale: scale.into(), squared }
            }
            (Store::Pq { parts, bits }, Coder::Product(books)) => {
                let pieces = crew.pieces(n, PIECE, |piece| {
                    let mut part = Part::default();
                    let (mut rest, mut codes, mut told) = (vec![0.0; d], Vec::new(), Vec::new());
                    for node in piece {
                        plain.rest(node, &mut rest);
                        codes.clear();
                        books.encode(crew.kernels, &rest, &mut codes);
                        if plain.euclidean {
                            told.clear();
                            books.decode(&codes, &mut told);
                            let row = plain.row(node);
                            let squared =
                                told.iter().zip(&rest).zip(row).map(|((t, r), x)| (x - r + t).powi(2));
                            part.squared.push(squared.sum());
                        }
                        if bits == 4 && !blocked {
                            part.codes
                                .extend(codes.chunks(2).map(|two| two[0] | two.get(1).unwrap_or(&0) << 4));
                        } else {
                            part.codes.extend(&codes);
                        }
                    }
                    part
                })?;
                let part = join(pieces);
                let in_rows = !(blocked && bits == 4);
                let codes = if in_rows { part.codes } else { in_blocks(&part.codes, parts, runs) };
                let squared = plain.euclidean.then(|| part.squared.into());
                Rows::Product { books: books.clone(), codes: codes.into(), in_blocks: !in_rows, squared }
            }
            (Store::Bits { planes }, Coder::Bits(rotation)) => {
                let in_rows = !(blocked && planes == 1);
                let pieces = crew.pieces(n, PIECE, |piece| {
                    let mut part = Part::default();
                    let mut rest = vec![0.0; d];
                    for node in piece {
                        plain.rest(node, &mut rest);
                        let coded = bits::encode(&rotation.turn(crew.kernels, &rest), planes);
                        if in_rows {
                            bits::planes_of(&coded.codes, planes, &mut part.words);
                        } else {
                            part.codes.extend(bits::places_of(&coded.codes));
                        }
                        part.factor.push(coded.factor);
                        part.error.push(coded.error);
                        if plain.euclidean {
                            part.squared.push(crew.kernels.dot(plain.row(node), plain.row(node)));
                        }
                    }
                    part
                })?;
                let part = join(pieces);
                let codes = if in_rows {
                    BitCodes::Words(part.words.into())
                } else {
                    BitCodes::Blocks(in_blocks(&part.codes, rotation.padded / 4, runs).into())
                };
                Rows::Bits {
                    rotation: rotation.clone(),
                    planes,
                    codes,
                    factor: part.factor.into(),
                    error: part.error.into(),
                    squared: plain.euclidean.then(|| part.squared.into()),
                }
            }
            _ => unreachable!("a coder is learned for its store"),
        })
    }

    pub(super) fn coder(&self) -> Coder {
        match self {
            Rows::Product { books, .. } => Coder::Product(books.clone()),
            Rows::Bits { rotation, .. } => Coder::Bits(rotation.clone()),
            _ => Coder::Plain,
        }
    }

    pub(super) fn in_blocks(&self) -> bool {
        match self {
            Rows::Product { in_blocks, .. } => *in_blocks,
            Rows::Bits { codes, .. } => matches!(codes, BitCodes::Blocks(_)),
            _ => false,
        }
    }

    pub(super) fn n_bytes(&self) -> usize {
        let numbers = |t: &Option<Tensor<f32>>| t.as_ref().map_or(0, |t| 4 * t.len());
        match self {
            Rows::F32(v) => v.len() * 4,
            Rows::F16(v) => v.len() * 2,
            Rows::Int8 { codes, scale, squared } => codes.len() + 4 * scale.len() + numbers(squared),
            Rows::Product { books, codes, squared, .. } => books.n_bytes() + codes.len() + numbers(squared),
            Rows::Bits { rotation, codes, factor, error, squared, .. } => {
                let codes = match codes {
                    BitCodes::Words(words) => 8 * words.len(),
                    BitCodes::Blocks(bytes) => bytes.len(),
                };
                4 * (rotation.signs.len() + factor.len() + error.len()) + codes + numbers(squared)
            }
        }
    }

    pub(super) fn ask<'q>(
        &self,
        kernels: &Kernels,
        vector: &'q [f32],
        euclidean: bool,
        base: f32,
    ) -> Asked<'q> {
        let how = match self {
            Rows::F32(_) | Rows::F16(_) => How::Plain,
            Rows::Int8 { .. } => shorts(kernels, vector),
            Rows::Product { books, in_blocks, .. } => {
                let table = books.products(kernels, vector);
                let tables = in_blocks.then(|| Tables::new(&table));
                How::Looked { table, tables }
            }
            Rows::Bits { rotation, planes, codes, .. } => {
                let rotated = rotation.turn(kernels, vector);
                let length = kernels.dot(vector, vector).sqrt();
                match codes {
                    BitCodes::Words(_) => How::Bits {
                        bytes: Some(Bytes::new(kernels, &rotated, *planes)),
                        tables: None,
                        length,
                    },
                    BitCodes::Blocks(_) => {
                        How::Bits { bytes: None, tables: Some(Tables::of_signs(kernels, &rotated)), length }
                    }
                }
            }
        };
        let squared = if euclidean { kernels.dot(vector, vector) } else { 0.0 };
        Asked { vector: vector.into(), euclidean, squared, base, how }
    }

    /// A query that meets codes elsewhere only: nothing is made ready for the rows themselves.
    pub(super) fn ask_signs<'q>(
        &self,
        kernels: &Kernels,
        vector: &'q [f32],
        euclidean: bool,
        base: f32,
    ) -> (Asked<'q>, Tables) {
        let Rows::Bits { rotation, .. } = self else {
            unreachable!("signs are asked only where rows are bits")
        };
        let tables = Tables::of_signs(kernels, &rotation.turn(kernels, vector));
        let squared = if euclidean { kernels.dot(vector, vector) } else { 0.0 };
        (Asked { vector: vector.into(), euclidean, squared, base, how: How::Plain }, tables)
    }

    /// The signs of a row in 4-bit places, and a and b: its rank is estimated as that of nothing
    /// + a + b * (query . code).
    pub(super) fn signs_of(&self, node: u32) -> (Vec<u8>, f32, f32) {
        let Rows::Bits { rotation, codes: BitCodes::Words(words), factor, squared, .. } = self else {
            unreachable!("signs are asked only where rows are bits")
        };
        let node = node as usize;
        let row = &words[node * rotation.padded / 64..][..rotation.padded / 64];
        let places = row.iter().flat_map(|word| (0..16).map(move |i| (word >> (4 * i) & 15) as u8)).collect();
        match squared {
            Some(squared) => (places, squared[node], -2.0 * factor[node]),
            None => (places, 0.0, -factor[node]),
        }
    }

    /// One of the rows as a query: only of f32 and int8, which graphs are built on.
    pub(super) fn ask_row(&self, node: u32, dimensions: usize, euclidean: bool) -> Asked<'_> {
        let range = node as usize * dimensions..(node as usize + 1) * dimensions;
        match self {
            Rows::F32(rows) => {
                Asked { vector: rows[range].into(), euclidean, squared: 0.0, base: 0.0, how: How::Plain }
            }
            Rows::Int8 { codes, scale, squared } => {
                let wide = codes[range].iter().map(|c| i16::from(*c)).collect();
                // Whose errors are not asked for.
                let how = How::Bytes { codes: wide, scale: scale[node as usize], length: f32::INFINITY };
                let squared = squared.as_ref().map_or(0.0, |s| s[node as usize]);
                Asked { vector: Cow::default(), euclidean, squared, base: 0.0, how }
            }
            _ => unreachable!("graphs are built on f32 or int8"),
        }
    }

    /// The vector that a row of f32 or int8 stands for.
    pub(super) fn decode(&self, node: usize, out: &mut [f32]) {
        let range = node * out.len()..(node + 1) * out.len();
        match self {
            Rows::F32(rows) => out.copy_from_slice(&rows[range]),
            Rows::Int8 { codes, scale, .. } => {
                out.iter_mut().zip(&codes[range]).for_each(|(x, c)| *x = f32::from(*c) * scale[node]);
            }
            _ => unreachable!("other codes are told by their coder"),
        }
    }

    /// How many rows of f32 or int8 there are.
    pub(super) fn n_rows(&self, dimensions: usize) -> usize {
        match self {
            Rows::F32(rows) => rows.len() / dimensions,
            Rows::Int8 { scale, .. } => scale.len(),
            _ => unreachable!("graphs are built on f32 or int8"),
        }
    }

    /// The row nearest to the mean of all.
    pub(super) fn most_central(&self, kernels: &Kernels, dimensions: usize, euclidean: bool) -> u32 {
        let n = self.n_rows(dimensions);
        let mut sum = vec![0.0f64; dimensions];
        for node in 0..n {
            let from = node * dimensions;
            match self {
                Rows::F32(rows) => {
                    sum.iter_mut().zip(&rows[from..]).for_each(|(s, x)| *s += f64::from(*x));
                }
                Rows::Int8 { codes, scale, .. } => {
                    let scale = f64::from(scale[node]);
                    sum.iter_mut().zip(&codes[from..]).for_each(|(s, c)| *s += f64::from(*c) * scale);
                }
                _ => unreachable!("graphs are built on f32 or int8"),
            }
        }
        let mean: Vec<f32> = sum.iter().map(|s| (s / n.max(1) as f64) as f32).collect();
        let asked = self.ask(kernels, &mean, euclidean, 0.0);
        let all: Vec<u32> = (0..n as u32).collect();
        let mut ranks = vec![0.0; n];
        self.rank_picked(kernels, &asked, 0.0, &all, &mut ranks);
        all.into_iter().zip(ranks).map(|(row, rank)| Neighbour { rank, row }).min().map_or(0, |n| n.row)
    }

    /// The rank of two rows, of f32 or int8.
    #[inline]
    pub(super) fn rank_pair(
        &self,
        kernels: &Kernels,
        a: u32,
        b: u32,
        dimensions: usize,
        euclidean: bool,
    ) -> f32 {
        let (from_a, from_b) = (a as usize * dimensions, b as usize * dimensions);
        match self {
            Rows::F32(rows) => {
                let (a, b) = (&rows[from_a..][..dimensions], &rows[from_b..][..dimensions]);
                if euclidean { kernels.squared_euclidean(a, b) } else { -kernels.dot(a, b) }
            }
            Rows::Int8 { codes, scale, squared } => {
                let dot =
                    kernels.dot_byte_pair(&codes[from_a..][..dimensions], &codes[from_b..][..dimensions]);
                let dot = dot as f32 * scale[a as usize] * scale[b as usize];
                match squared {
                    Some(squared) if euclidean => {
                        (squared[a as usize] - 2.0 * dot + squared[b as usize]).max(0.0)
                    }
                    _ => -dot,
                }
            }
            _ => unreachable!("graphs are built on f32 or int8"),
        }
    }

    /// By how much the rank of two copies may seem to differ.
    pub(super) fn slack(&self, node: u32, own: f32) -> f32 {
        match self {
            Rows::Int8 { squared: Some(squared), .. } => 1e-6 * squared[node as usize],
            _ => 1e-6 * own.abs(),
        }
    }

    /// Ranks of the query against the rows numbered in `picks`, one output each: exact for f32, close for codes.
    /// `offset` is the query's product with the centre that codes are told from. Not for codes in blocks.
    #[inline]
    pub(super) fn rank_picked(
        &self,
        kernels: &Kernels,
        asked: &Asked<'_>,
        offset: f32,
        picks: &[u32],
        out: &mut [f32],
    ) {
        match (self, &asked.how) {
            (Rows::F32(rows), _) => {
                kernels.rank_picked(asked.euclidean, asked.vector(), rows, picks, out);
                asked.lower(out);
            }
            (Rows::F16(rows), _) => {
                kernels.rank_halves(asked.euclidean, asked.vector(), rows, picks, out);
                asked.lower(out);
            }
            (Rows::Int8 { codes, scale, squared }, How::Bytes { codes: query, scale: step, .. }) => {
                const SOME: usize = 64;
                let (scale, squared): (&[f32], Option<&[f32]>) = (scale, squared.as_deref());
                let mut dots = [0i32; SOME];
                for (picks, out) in picks.chunks(SOME).zip(out.chunks_mut(SOME)) {
                    let dots = &mut dots[..picks.len()];
                    picks.iter().for_each(|pick| kernels.call(&scale[*pick as usize..][..1]));
                    kernels.dot_bytes(query, codes, picks, dots);
                    for ((rank, &pick), dot) in out.iter_mut().zip(picks).zip(dots) {
                        let dot = *dot as f32 * step * scale[pick as usize];
                        *rank = asked.rank(dot, squared.map_or(0.0, |s| s[pick as usize]));
                    }
                }
            }
            (Rows::Product { books, codes, squared, .. }, How::Looked { table, .. }) => {
                let (codes, squared): (&[u8], Option<&[f32]>) = (codes, squared.as_deref());
                for (rank, &pick) in out.iter_mut().zip(picks) {
                    let dot = looked(books, codes, table, pick as usize) + offset;
                    *rank = asked.rank(dot, squared.map_or(0.0, |s| s[pick as usize]));
                }
            }
            (
                Rows::Bits { planes, codes: BitCodes::Words(words), factor, squared, .. },
                How::Bits { bytes: Some(bytes), .. },
            ) => {
                const SOME: usize = 64;
                let (factor, squared): (&[f32], Option<&[f32]>) = (factor, squared.as_deref());
                let mut sums = [0i32; SOME];
                for (picks, out) in picks.chunks(SOME).zip(out.chunks_mut(SOME)) {
                    let sums = &mut sums[..picks.len()];
                    kernels.sum_bits(
                        &bytes.bytes,
                        words,
                        (bytes.bytes.len() / 64 * planes, 0, *planes),
                        picks,
                        sums,
                    );
                    for ((rank, &pick), sum) in out.iter_mut().zip(picks).zip(sums) {
                        let dot = factor[pick as usize] * bytes.product(*sum) + offset;
                        *rank = asked.rank(dot, squared.map_or(0.0, |s| s[pick as usize]));
                    }
                }
            }
            _ => unreachable!("queries are asked of the rows they meet, and blocks as runs"),
        }
    }

    /// Ranks of the query against a run of nodes; `first_block` is where the run's codes begin, if they lie in blocks.
    pub(super) fn rank_run(
        &self,
        kernels: &Kernels,
        asked: &Asked<'_>,
        offset: f32,
        run: Range<usize>,
        first_block: usize,
        out: &mut [f32],
    ) {
        let (tables, codes, factor, squared) = match (self, &asked.how) {
            (Rows::F32(rows), _) => {
                let d = asked.vector.len();
                kernels.rank_rows(asked.euclidean, asked.vector(), &rows[run.start * d..run.end * d], out);
                return asked.lower(out);
            }
            (
                Rows::Product { codes, in_blocks: true, squared, .. },
                How::Looked { tables: Some(tables), .. },
            ) => (tables, codes, None, squared),
            (
                Rows::Bits { codes: BitCodes::Blocks(codes), factor, squared, .. },
                How::Bits { tables: Some(tables), .. },
            ) => (tables, codes, Some(factor), squared),
            _ => {
                let picks: Vec<u32> = (run.start as u32..run.end as u32).collect();
                return self.rank_picked(kernels, asked, offset, &picks, out);
            }
        };
        let bytes = tables.n_bytes();
        let codes: &[u8] = &codes[first_block * bytes..];
        let factor = factor.map(|f| &f[run.clone()]);
        let squared = squared.as_ref().map(|s| &s[run]);
        let mut sums = [0.0; blocks::ROWS];
        for ((i, out), block) in out.chunks_mut(blocks::ROWS).enumerate().zip(codes.chunks(bytes)) {
            tables.sums(kernels, block, &mut sums);
            let from = i * blocks::ROWS;
            if let Some(factor) = factor {
                sums.iter_mut().zip(&factor[from..]).for_each(|(sum, f)| *sum *= f);
            }
            match squared {
                Some(squared) => {
                    for ((rank, sum), squared) in out.iter_mut().zip(&sums).zip(&squared[from..]) {
                        *rank = asked.rank(sum + offset, *squared);
                    }
                }
                None => {
                    out.iter_mut().zip(&sums).for_each(|(rank, sum)| *rank = asked.rank(sum + offset, 0.0))
                }
            }
        }
    }

    /// Calls a row into the caches; the kinds that candidates are ranked with anew.
    #[inline]
    pub(super) fn call(&self, kernels: &Kernels, node: u32, dimensions: usize) {
        let range = node as usize * dimensions..(node as usize + 1) * dimensions;
        match self {
            Rows::F32(rows) => kernels.call(&rows[range]),
            Rows::F16(rows) => kernels.call(&rows[range]),
            Rows::Int8 { codes, scale, .. } => {
                kernels.call(&codes[range]);
                kernels.call(&scale[node as usize..=node as usize]);
            }
            Rows::Product { .. } | Rows::Bits { .. } => {}
        }
    }

    /// Calls what [`Rows::error`] needs into the caches.
    #[inline]
    pub(super) fn call_error(&self, kernels: &Kernels, node: u32) {
        if let Rows::Int8 { scale: numbers, .. } | Rows::Bits { error: numbers, .. } = self {
            kernels.call(&numbers[node as usize..=node as usize]);
        }
    }

    /// How far the rank of a row may lie below its estimate, where that is known.
    #[inline]
    pub(super) fn error(&self, asked: &Asked<'_>, node: u32) -> Option<f32> {
        let of_product = match (self, &asked.how) {
            (Rows::Int8 { scale, .. }, How::Bytes { length, .. }) => ROUNDING * scale[node as usize] * length,
            (Rows::Bits { error, .. }, How::Bits { length, .. }) => error[node as usize] * length,
            _ => return None,
        };
        Some(of_product * if asked.euclidean { 2.0 } else { 1.0 })
    }
}

impl Asked<'_> {
    /// Takes the part of the mean from ranks that were computed without.
    fn lower(&self, ranks: &mut [f32]) {
        if self.base != 0.0 {
            ranks.iter_mut().for_each(|r| *r -= self.base);
        }
    }
}

fn join(pieces: Vec<Part>) -> Part {
    let mut all = Part::default();
    for part in pieces {
        all.codes.extend(part.codes);
        all.words.extend(part.words);
        all.factor.extend(part.factor);
        all.error.extend(part.error);
        all.squared.extend(part.squared);
    }
    all
}

/// The sum of what one row's product code looks up.
#[inline]
fn looked(books: &Codebooks, codes: &[u8], table: &[f32], row: usize) -> f32 {
    let mut sums = [0.0f32; 4];
    if books.bits == 8 {
        let row = &codes[row * books.parts..][..books.parts];
        for (part, code) in row.iter().enumerate() {
            sums[part % 4] += table[part * 256 + *code as usize];
        }
    } else {
        let bytes = books.parts.div_ceil(2);
        let row = &codes[row * bytes..][..bytes];
        for (pair, code) in row.iter().enumerate() {
            sums[pair % 2] += table[pair * 32 + usize::from(code & 15)];
            // The last byte of an odd number of parts is half empty.
            sums[2 + pair % 2] += table.get(pair * 32 + 16 + usize::from(code >> 4)).copied().unwrap_or(0.0);
        }
    }
    (sums[0] + sums[1]) + (sums[2] + sums[3])
}
