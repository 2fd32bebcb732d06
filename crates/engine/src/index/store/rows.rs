//! The vectors of an index as its recipe keeps them, and queries against them.
//!
//! `int8`: each vector is scaled so that its largest component is 127, and rounded; the query is kept in 16 bits, so
//! that only one side of a distance is coarse. `f16`: IEEE halves. `pq`: see [`crate::index::store::product`]; `bits`: see
//! [`crate::index::store::bits`]. Codes of rows in cells tell how a row differs from its cell's centre.

use crate::index::store::bits::Bytes;
use crate::index::store::bits::Rotation;
use crate::index::store::blocks;
use crate::index::store::blocks::Tables;
use crate::index::store::prepared::{Form, PreparedQuery, shorts};
use crate::index::store::product::Codebooks;
use crate::kernels::Kernels;
use crate::lines::whole_lines;
use crate::scan::Neighbour;
use crate::tensors::Tensor;
use fixedbitset::FixedBitSet;
use std::borrow::Cow;
use std::ops::Range;
use std::sync::Arc;

pub(crate) enum Rows {
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
        error: Tensor<f32>,
    },
}

/// By how many steps of its scale a product with a row in bytes may be off, for a query of length 1: four standard
/// deviations of what rounding takes away, each of which is `1 / sqrt(12)`.
const ROUNDING: f32 = 1.154_7;

pub(crate) enum BitCodes {
    /// `[n, words]`: two f32 in one word, b below and a above: the rank of a row is estimated as that of what its code is
    /// relative to + a + b * (query . code). Then the bits, plane by plane, then zeros up to whole cache lines, or to a power of
    /// two. So rows picked from anywhere cost one access to memory each, or a few that follow each other.
    Lines(Tensor<u64>),
    Blocks {
        codes: Tensor<u8>,
        factor: Tensor<f32>,
        /// Squared lengths of the rows, where the metric asks for them.
        squared: Option<Tensor<f32>>,
    },
}

/// Two numbers in one word, the first one below.
#[inline]
pub(crate) fn numbers_of(word: u64) -> (f32, f32) {
    (f32::from_bits(word as u32), f32::from_bits((word >> 32) as u32))
}

pub(crate) fn word_of((below, above): (f32, f32)) -> u64 {
    u64::from(above.to_bits()) << 32 | u64::from(below.to_bits())
}

impl BitCodes {
    /// Words of a row in whole lines.
    pub(crate) fn words(padded: usize, planes: usize) -> usize {
        whole_lines(1 + planes * padded / 64)
    }
}

impl Rows {
    pub(crate) fn in_blocks(&self) -> bool {
        match self {
            Rows::Product { in_blocks, .. } => *in_blocks,
            Rows::Bits { codes, .. } => matches!(codes, BitCodes::Blocks { .. }),
            _ => false,
        }
    }

    /// Whether bits lie row by row.
    pub(crate) fn in_lines(&self) -> bool {
        matches!(self, Rows::Bits { codes: BitCodes::Lines(_), .. })
    }

    pub(crate) fn n_bytes(&self) -> usize {
        let numbers = |t: &Option<Tensor<f32>>| t.as_ref().map_or(0, |t| 4 * t.len());
        match self {
            Rows::F32(v) => v.len() * 4,
            Rows::F16(v) => v.len() * 2,
            Rows::Int8 { codes, scale, squared } => codes.len() + 4 * scale.len() + numbers(squared),
            Rows::Product { books, codes, squared, .. } => books.n_bytes() + codes.len() + numbers(squared),
            Rows::Bits { rotation, codes, error, .. } => {
                let codes = match codes {
                    BitCodes::Lines(records) => 8 * records.len(),
                    BitCodes::Blocks { codes, factor, squared } => {
                        codes.len() + 4 * factor.len() + numbers(squared)
                    }
                };
                4 * (rotation.signs.len() + error.len()) + codes
            }
        }
    }

    pub(crate) fn ask<'q>(
        &self,
        kernels: &Kernels,
        vector: &'q [f32],
        euclidean: bool,
        base: f32,
    ) -> PreparedQuery<'q> {
        let how = match self {
            Rows::F32(_) | Rows::F16(_) => Form::Plain,
            Rows::Int8 { .. } => shorts(kernels, vector),
            Rows::Product { books, in_blocks, .. } => {
                let table = books.products(kernels, vector);
                let tables = in_blocks.then(|| Tables::new(&table));
                Form::Looked { table, tables }
            }
            Rows::Bits { .. } => {
                return self.ask_bits(
                    kernels,
                    vector,
                    euclidean,
                    base,
                    (!self.in_blocks(), self.in_blocks()),
                );
            }
        };
        let squared = if euclidean { kernels.dot(vector, vector) } else { 0.0 };
        PreparedQuery { vector: vector.into(), euclidean, squared, base, how }
    }

    /// A query that meets bits `in_lines`, or `in_blocks`, which may lie elsewhere: what it does not meet takes no time.
    pub(crate) fn ask_bits<'q>(
        &self,
        kernels: &Kernels,
        vector: &'q [f32],
        euclidean: bool,
        base: f32,
        (in_lines, in_blocks): (bool, bool),
    ) -> PreparedQuery<'q> {
        let Rows::Bits { rotation, planes, .. } = self else {
            unreachable!("bits are asked only where rows are such")
        };
        let rotated = rotation.turn(kernels, vector);
        let squared = kernels.dot(vector, vector);
        let how = Form::Bits {
            bytes: in_lines.then(|| Bytes::new(kernels, &rotated, *planes)),
            tables: in_blocks.then(|| Tables::of_signs(kernels, &rotated)),
            length: squared.sqrt(),
        };
        let squared = if euclidean { squared } else { 0.0 };
        PreparedQuery { vector: vector.into(), euclidean, squared, base, how }
    }

    /// The signs of a row in 4-bit places, and a and b: its rank is estimated as that of nothing
    /// + a + b * (query . code).
    pub(crate) fn signs_of(&self, node: u32) -> (Vec<u8>, f32, f32) {
        let Rows::Bits { rotation, codes: BitCodes::Lines(records), .. } = self else {
            unreachable!("signs are asked only where rows are bits")
        };
        let record = &records[node as usize * BitCodes::words(rotation.padded, 1)..];
        let bits = record[1..].iter().take(rotation.padded / 64);
        let places = bits.flat_map(|word| (0..16).map(move |i| (word >> (4 * i) & 15) as u8)).collect();
        let (b, a) = numbers_of(record[0]);
        (places, a, b)
    }

    /// One of the rows as a query: only of f32 and int8, which graphs are built on.
    pub(crate) fn ask_row(&self, node: u32, dimensions: usize, euclidean: bool) -> PreparedQuery<'_> {
        let range = node as usize * dimensions..(node as usize + 1) * dimensions;
        match self {
            Rows::F32(rows) => PreparedQuery {
                vector: rows[range].into(),
                euclidean,
                squared: 0.0,
                base: 0.0,
                how: Form::Plain,
            },
            Rows::Int8 { codes, scale, squared } => {
                let wide = codes[range].iter().map(|c| i16::from(*c)).collect();
                // Whose errors are not asked for.
                let how = Form::Bytes { codes: wide, scale: scale[node as usize], length: f32::INFINITY };
                let squared = squared.as_ref().map_or(0.0, |s| s[node as usize]);
                PreparedQuery { vector: Cow::default(), euclidean, squared, base: 0.0, how }
            }
            _ => unreachable!("graphs are built on f32 or int8"),
        }
    }

    /// The vector that a row of f32 or int8 represents.
    pub(crate) fn decode(&self, node: usize, out: &mut [f32]) {
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
    pub(crate) fn n_rows(&self, dimensions: usize) -> usize {
        match self {
            Rows::F32(rows) => rows.len() / dimensions,
            Rows::Int8 { scale, .. } => scale.len(),
            _ => unreachable!("graphs are built on f32 or int8"),
        }
    }

    /// The row nearest to the mean of all, but for some that it may not be.
    pub(crate) fn most_central(
        &self,
        kernels: &Kernels,
        dimensions: usize,
        euclidean: bool,
        but: &FixedBitSet,
    ) -> u32 {
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
        let all: Vec<u32> = (0..n as u32).filter(|row| !but.contains(*row as usize)).collect();
        let mut ranks = vec![0.0; all.len()];
        self.rank_picked(kernels, &asked, 0.0, &all, &mut ranks);
        all.into_iter().zip(ranks).map(|(row, rank)| Neighbour { rank, row }).min().map_or(0, |n| n.row)
    }

    /// The rank of two rows, of f32 or int8.
    #[inline]
    pub(crate) fn rank_pair(
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
    pub(crate) fn slack(&self, node: u32, own: f32) -> f32 {
        match self {
            Rows::Int8 { squared: Some(squared), .. } => 1e-6 * squared[node as usize],
            _ => 1e-6 * own.abs(),
        }
    }

    /// Ranks of the query against the rows numbered in `picks`, one output each: exact for f32, close for codes.
    /// `offset` is the query's product with the centre that codes are relative to. Not for codes in blocks.
    #[inline]
    pub(crate) fn rank_picked(
        &self,
        kernels: &Kernels,
        asked: &PreparedQuery<'_>,
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
            (Rows::Int8 { codes, scale, squared }, Form::Bytes { codes: query, scale: step, .. }) => {
                const SOME: usize = 64;
                let (scale, squared): (&[f32], Option<&[f32]>) = (scale, squared.as_deref());
                let mut dots = [0i32; SOME];
                for (picks, out) in picks.chunks(SOME).zip(out.chunks_mut(SOME)) {
                    let dots = &mut dots[..picks.len()];
                    picks.iter().for_each(|pick| kernels.prefetch(&scale[*pick as usize..][..1]));
                    kernels.dot_bytes(query, codes, picks, dots);
                    for ((rank, &pick), dot) in out.iter_mut().zip(picks).zip(dots) {
                        let dot = *dot as f32 * step * scale[pick as usize];
                        *rank = asked.rank(dot, squared.map_or(0.0, |s| s[pick as usize]));
                    }
                }
            }
            (Rows::Product { books, codes, squared, .. }, Form::Looked { table, .. }) => {
                let (codes, squared): (&[u8], Option<&[f32]>) = (codes, squared.as_deref());
                for (rank, &pick) in out.iter_mut().zip(picks) {
                    let dot = looked(books, codes, table, pick as usize) + offset;
                    *rank = asked.rank(dot, squared.map_or(0.0, |s| s[pick as usize]));
                }
            }
            (Rows::Bits { codes: BitCodes::Lines(_), .. }, _) => {
                self.rank_lines(kernels, asked, picks, out);
                let times = if asked.euclidean { 2.0 } else { 1.0 };
                asked.add(asked.rank_of_nothing() - times * offset, out);
            }
            _ => unreachable!("a query is prepared for the rows that it meets, and blocks are read as runs"),
        }
    }

    /// What is added to the rank of a centre to get that of each row whose bits, relative to it, lie row by row.
    #[inline]
    pub(crate) fn rank_lines(
        &self,
        kernels: &Kernels,
        asked: &PreparedQuery<'_>,
        picks: &[u32],
        out: &mut [f32],
    ) {
        let (
            Rows::Bits { planes, codes: BitCodes::Lines(records), .. },
            Form::Bits { bytes: Some(bytes), .. },
        ) = (self, &asked.how)
        else {
            unreachable!("bits that lie row by row are asked for by whom they do")
        };
        let shape = (BitCodes::words(bytes.bytes.len(), *planes), 1, *planes);
        kernels.rank_bits(&bytes.bytes, records, shape, picks, (bytes.step, bytes.shift), out);
    }

    /// Ranks of the query against a run of nodes; `first_block` is where the run's codes begin, if they lie in blocks.
    pub(crate) fn rank_run(
        &self,
        kernels: &Kernels,
        asked: &PreparedQuery<'_>,
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
                Form::Looked { tables: Some(tables), .. },
            ) => (tables, codes, None, squared),
            (
                Rows::Bits { codes: BitCodes::Blocks { codes, factor, squared }, .. },
                Form::Bits { tables: Some(tables), .. },
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
                // One sum for all, so that registers do several at once.
                None if !asked.euclidean => {
                    let all = offset + asked.base;
                    out.iter_mut().zip(&sums).for_each(|(rank, sum)| *rank = -(sum + all));
                }
                None => {
                    out.iter_mut().zip(&sums).for_each(|(rank, sum)| *rank = asked.rank(sum + offset, 0.0))
                }
            }
        }
    }

    /// Ranks of the query against 32 nodes at most, whose codes are one block, and a bit for each that is below `worst`.
    pub(crate) fn rank_block(
        &self,
        kernels: &Kernels,
        asked: &PreparedQuery<'_>,
        (nodes, block): (Range<usize>, usize),
        (offset, worst): (f32, f32),
        out: &mut [f32; blocks::ROWS],
    ) -> u32 {
        let n = nodes.len();
        let all = ((1u64 << n) - 1) as u32;
        match (self, &asked.how) {
            (
                Rows::Bits { codes: BitCodes::Blocks { codes, factor, .. }, .. },
                Form::Bits { tables: Some(tables), .. },
            ) if !asked.euclidean => {
                // Factors as the upper halves of f32, rounded, as in blocks that hold their numbers themselves.
                let mut numbers = [0; blocks::ROWS];
                for (number, factor) in numbers.iter_mut().zip(&factor[nodes]) {
                    *number = (-factor).to_bits().wrapping_add(0x8000) >> 16;
                }
                let bytes = tables.n_bytes();
                let (codes, soon) = codes[block * bytes..].split_at(bytes);
                let soon = &soon[..bytes.min(soon.len())];
                all & tables.estimate(kernels, codes, &numbers, (-(offset + asked.base), worst), soon, out)
            }
            _ => {
                self.rank_run(kernels, asked, offset, nodes, block, &mut out[..n]);
                all & kernels.below(out, worst)
            }
        }
    }

    /// Prefetches a row, of the kinds that re-rank candidates.
    #[inline]
    pub(crate) fn prefetch(&self, kernels: &Kernels, node: u32, dimensions: usize) {
        let range = node as usize * dimensions..(node as usize + 1) * dimensions;
        match self {
            Rows::F32(rows) => kernels.prefetch(&rows[range]),
            Rows::F16(rows) => kernels.prefetch(&rows[range]),
            Rows::Int8 { codes, scale, .. } => {
                kernels.prefetch(&codes[range]);
                kernels.prefetch(&scale[node as usize..=node as usize]);
            }
            Rows::Product { .. } | Rows::Bits { .. } => {}
        }
    }

    /// Calls what [`Rows::error`] needs into the caches.
    #[inline]
    pub(crate) fn prefetch_error(&self, kernels: &Kernels, node: u32) {
        if let Rows::Int8 { scale: numbers, .. } | Rows::Bits { error: numbers, .. } = self {
            kernels.prefetch(&numbers[node as usize..=node as usize]);
        }
    }

    /// How far the rank of a row may lie below its estimate, where that is known.
    #[inline]
    pub(crate) fn error(&self, asked: &PreparedQuery<'_>, node: u32) -> Option<f32> {
        let of_product = match (self, &asked.how) {
            (Rows::Int8 { scale, .. }, Form::Bytes { length, .. }) => {
                ROUNDING * scale[node as usize] * length
            }
            (Rows::Bits { error, .. }, Form::Bits { length, .. }) => error[node as usize] * length,
            _ => return None,
        };
        Some(of_product * if asked.euclidean { 2.0 } else { 1.0 })
    }
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
