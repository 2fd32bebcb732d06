//! Encoding: from prepared vectors to the rows that an index keeps.

use crate::index::build::crew::Crew;
use crate::index::build::kmeans;
use crate::index::progress::BuildError;
use crate::index::store::bits::{self, Rotation};
use crate::index::store::blocks::{self};
use crate::index::store::product::Codebooks;
use crate::index::store::rows::{BitCodes, Rows, word_of};
use crate::lines::Aligned;
use crate::recipe::Store;
use crate::tensors::Tensor;
use half::f16;
use std::sync::Arc;

/// What has been learned for codes, and serves rows that come later too.
#[derive(Clone)]
pub(crate) enum Coder {
    Plain,
    Product(Arc<Codebooks>),
    Bits(Arc<Rotation>),
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
pub(crate) type CenterOf<'a> = &'a (dyn Fn(usize, &mut [f32]) + Sync);

/// Rows to be coded, in node order.
pub(crate) struct Plain<'a> {
    /// Prepared vectors.
    pub(crate) rows: &'a [f32],
    pub(crate) dimensions: usize,
    /// For each node its row.
    pub(crate) order: Option<&'a [u32]>,
    /// For each node the centre that its code is relative to.
    pub(crate) center: Option<CenterOf<'a>>,
    /// Nodes of each run that is compared as a whole; codes in blocks start a new block with each.
    pub(crate) runs: Option<&'a [u32]>,
    pub(crate) euclidean: bool,
}

impl Plain<'_> {
    pub(crate) fn len(&self) -> usize {
        self.rows.len() / self.dimensions
    }

    pub(crate) fn row(&self, node: usize) -> &[f32] {
        let row = self.order.map_or(node, |order| order[node] as usize);
        &self.rows[row * self.dimensions..][..self.dimensions]
    }

    /// The row of a node without the centre of its cell.
    pub(crate) fn rest(&self, node: usize, out: &mut [f32]) {
        match self.center {
            None => out.copy_from_slice(self.row(node)),
            Some(center) => {
                center(node, out);
                out.iter_mut().zip(self.row(node)).for_each(|(c, x)| *c = x - *c);
            }
        }
    }
}

/// The codes of a few rows, and their numbers.
#[derive(Default)]
struct Part {
    pub(crate) codes: Vec<u8>,
    pub(crate) words: Vec<u64>,
    pub(crate) factor: Vec<f32>,
    pub(crate) error: Vec<f32>,
    pub(crate) squared: Vec<f32>,
}

impl Coder {
    /// Learns what a store needs from a sample of what is left of rows.
    pub(crate) fn learn(
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

/// Codes of places, row after row, as blocks of 32 rows; each run starts a new block.
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

/// The centre that a row's code is relative to, rotated: many nodes after each other share theirs.
#[derive(Default)]
struct Own {
    center: Vec<f32>,
    turned: Vec<f32>,
}

impl Own {
    /// What is added to the rank of a row's centre besides what the code of `rest` says of the query: the code says it of the
    /// centre too, so that the estimate is off by as much as what is left between query and centre.
    fn adds(
        &mut self,
        crew: &Crew<'_>,
        rotation: &Rotation,
        plain: &Plain<'_>,
        (node, rest): (usize, &[f32]),
        (turned, coded): (&[f32], &bits::Coded),
        planes: usize,
    ) -> f32 {
        let squared = if plain.euclidean { crew.kernels.dot(rest, rest) } else { 0.0 };
        let Some(center) = plain.center else { return squared };
        let mut own = vec![0.0; rest.len()];
        center(node, &mut own);
        if own != self.center {
            self.turned = rotation.turn(crew.kernels, &own);
            self.center = own;
        }
        let by_code =
            self.turned.iter().zip(&coded.codes).map(|(x, c)| x * bits::value(*c, planes)).sum::<f32>();
        match plain.euclidean {
            true => squared + 2.0 * coded.factor * by_code,
            false => coded.factor * by_code - crew.kernels.dot(&self.turned, turned),
        }
    }
}

fn join(pieces: Vec<Part>) -> Part {
    let mut all = Part::default();
    for part in pieces {
        all.codes.extend(part.codes);
        all.factor.extend(part.factor);
        all.error.extend(part.error);
        all.squared.extend(part.squared);
    }
    all
}

impl Rows {
    // Long because: one arm a codec, and the arms share their strips.
    pub(crate) fn encode(
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
                let words = BitCodes::words(rotation.padded, planes);
                let pieces = crew.pieces(n, PIECE, |piece| {
                    let mut part = Part::default();
                    let mut rest = vec![0.0; d];
                    let mut own = Own::default();
                    for node in piece {
                        plain.rest(node, &mut rest);
                        let turned = rotation.turn(crew.kernels, &rest);
                        let coded = bits::encode(&turned, planes);
                        part.error.push(coded.error);
                        if !in_rows {
                            part.codes.extend(bits::places_of(&coded.codes));
                            part.factor.push(coded.factor);
                            if plain.euclidean {
                                part.squared.push(crew.kernels.dot(plain.row(node), plain.row(node)));
                            }
                            continue;
                        }
                        let a = own.adds(crew, rotation, plain, (node, &rest), (&turned, &coded), planes);
                        let end = part.words.len() + words;
                        let b = if plain.euclidean { -2.0 * coded.factor } else { -coded.factor };
                        part.words.push(word_of((b, a)));
                        bits::planes_of(&coded.codes, planes, &mut part.words);
                        part.words.resize(end, 0);
                    }
                    part
                })?;
                let rotation = rotation.clone();
                if in_rows {
                    let records: Vec<&[u64]> = pieces.iter().map(|part| &part.words[..]).collect();
                    let codes = BitCodes::Lines(Tensor::on_lines(&records));
                    return Ok(Rows::Bits { rotation, planes, codes, error: join(pieces).error.into() });
                }
                let part = join(pieces);
                let codes = BitCodes::Blocks {
                    codes: in_blocks(&part.codes, rotation.padded / 4, runs).into(),
                    factor: part.factor.into(),
                    squared: plain.euclidean.then(|| part.squared.into()),
                };
                Rows::Bits { rotation, planes, codes, error: part.error.into() }
            }
            _ => unreachable!("a coder is learned for its store"),
        })
    }

    pub(crate) fn coder(&self) -> Coder {
        match self {
            Rows::Product { books, .. } => Coder::Product(books.clone()),
            Rows::Bits { rotation, .. } => Coder::Bits(rotation.clone()),
            _ => Coder::Plain,
        }
    }
}

/// Rows of fewer dimensions than this are linked as they are: bytes are too coarse to tell near from nearer.
pub(crate) const LEAST_IN_BYTES: usize = 32;
