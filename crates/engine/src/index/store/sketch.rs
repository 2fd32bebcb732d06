//! Short codes: a few bits of every dimension, kept with a graph for the filters that its walks cannot answer.
//!
//! The nearest of rows that lie far from a query lie scattered on all sides of it, and a walk finds some of them. A
//! scan of sketches finds nearly all, whatever the filter, and reads a sixteenth of what bytes would take. They are
//! product codes of 4 bits in blocks of 32 rows (see [`crate::index::store::product`] and [`crate::index::store::blocks`]), of the vectors as they
//! were given.

use crate::index::build::crew::Crew;
use crate::index::build::kmeans;
use crate::index::description::late;
use crate::index::progress::BuildError;
use crate::index::store::blocks;
use crate::index::store::blocks::Tables;
use crate::index::store::encode::Coder;
use crate::index::store::encode::Plain;
use crate::index::store::product::Codebooks;
use crate::index::store::rows::Rows;
use crate::index::store::tensor::Tensor;
use crate::kernels::Kernels;
use crate::recipe::{Recipe, Store};
use fixedbitset::FixedBitSet;
use rand::SeedableRng;
use std::sync::Arc;
use std::time::Instant;

pub(crate) struct Sketch {
    pub(crate) books: Arc<Codebooks>,
    /// `[blocks, parts / 2 rounded up, 32]`
    pub(crate) codes: Tensor<u8>,
}

/// Rows that centres are learned from.
const SAMPLE: usize = 4096;

impl Sketch {
    pub(crate) fn learn(
        crew: &Crew<'_>,
        parts: usize,
        plain: &Plain<'_>,
        seed: u64,
    ) -> Result<Arc<Codebooks>, BuildError> {
        let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
        let n = plain.len();
        let rows = rand::seq::index::sample(&mut rng, n, SAMPLE.min(n));
        let sample: Vec<f32> = rows.iter().flat_map(|row| plain.row(row)).copied().collect();
        Codebooks::learn(crew, &sample, plain.dimensions, parts, 4, kmeans::ROUNDS, seed).map(Arc::new)
    }

    pub(crate) fn build(
        crew: &Crew<'_>,
        books: Arc<Codebooks>,
        plain: &Plain<'_>,
    ) -> Result<Sketch, BuildError> {
        let whole = [0, plain.len() as u32];
        // Distances come out of the tables: no lengths are kept.
        let plain = Plain { runs: Some(&whole), center: None, euclidean: false, ..*plain };
        let store = Store::Pq { parts: books.parts, bits: 4 };
        match Rows::encode(crew, store, &Coder::Product(books), &plain)? {
            Rows::Product { books, codes, .. } => Ok(Sketch { books, codes }),
            _ => unreachable!("product codes were asked for"),
        }
    }

    pub(crate) fn n_bytes(&self) -> usize {
        self.books.n_bytes() + self.codes.len()
    }

    /// Up to `wanted` allowed nodes that seem nearest, in no order, and how many blocks were scanned.
    pub(crate) fn nearest(
        &self,
        kernels: &Kernels,
        query: &[f32],
        euclidean: bool,
        allowed: &FixedBitSet,
        wanted: usize,
        until: Option<Instant>,
    ) -> (Vec<u32>, usize) {
        let tables = Tables::new(&self.books.ranks(kernels, query, euclidean));
        let (codes, size): (&[u8], usize) = (&self.codes, tables.n_bytes());
        let words = allowed.as_slice();
        let per_word = usize::BITS as usize / blocks::ROWS;
        let may = |block: usize| {
            let word = words.get(block / per_word).copied().unwrap_or(0);
            (word >> (block % per_word * blocks::ROWS)) as u32
        };
        // Sums of what is looked up are in the order of ranks. Kept with their nodes in one word, more than are wanted
        // and now and then cut back: cheaper than a heap.
        let wanted = wanted.max(1);
        let mut found: Vec<u64> = Vec::with_capacity(3 * wanted + blocks::ROWS);
        let cut_back = |found: &mut Vec<u64>| {
            found.select_nth_unstable(wanted - 1);
            found.truncate(wanted);
        };
        let (mut limit, mut looked_at) = (u16::MAX, 0);
        let mut sums = [0; blocks::ROWS];
        for (block, some) in codes.chunks_exact(size).enumerate() {
            let may = may(block);
            if may == 0 {
                continue;
            }
            if looked_at % 512 == 511 && late(until) {
                break;
            }
            looked_at += 1;
            let mut below = tables.shorts(kernels, some, limit, &mut sums) & may;
            while below != 0 {
                let slot = below.trailing_zeros() as usize;
                below &= below - 1;
                found.push(u64::from(sums[slot]) << 32 | (block * blocks::ROWS + slot) as u64);
            }
            if found.len() >= 3 * wanted {
                cut_back(&mut found);
                limit = (found[wanted - 1] >> 32) as u16;
            }
        }
        if found.len() > wanted {
            cut_back(&mut found);
        }
        (found.into_iter().map(|n| n as u32).collect(), looked_at)
    }
}

impl Recipe {
    /// The parts of the sketch that an index keeps; none where scans are as quick, where dimensions cannot be cut into
    /// parts of about eight, and without a graph.
    pub(crate) fn sketch(&self, rows: usize, dimensions: usize) -> Option<usize> {
        if !matches!(self.route, crate::recipe::Route::Graph(_)) || rows < SAMPLE {
            return None;
        }
        // Sums of what so many parts look up fit 16 bits.
        let fits =
            |width: &usize| dimensions.is_multiple_of(*width) && (8..=512).contains(&(dimensions / width));
        (4..=16).filter(fits).min_by_key(|width| width.abs_diff(8)).map(|width| dimensions / width)
    }
}
