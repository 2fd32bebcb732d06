//! Heads: what a walk wants to know of a node before it reads its row, in one cache line or a few.
//!
//! Where the node's neighbours are, and the sign of every dimension of its vector. A walk asks the signs of each
//! neighbour first, and reads the rows of those only that may come into its beam: a third of them, where each is an
//! access to memory at random. Signs are one-bit codes (see [`crate::index::store::bits`]) of vectors as they were given, relative to
//! the mean of all.

use crate::index::build::crew::Crew;
use crate::index::progress::BuildError;
use crate::index::store::bits;
use crate::index::store::bits::Bytes;
use crate::index::store::bits::Rotation;
use crate::index::store::encode::Plain;
use crate::index::store::rows::word_of;
use crate::index::store::transform;
use crate::index::store::transform::Transform;
use crate::kernels::Kernels;
use crate::lines::whole_lines;
use crate::recipe::{Recipe, Route, Store};
use crate::tensors::Tensor;
use std::sync::Arc;

pub(crate) struct Heads {
    /// Takes off the mean.
    pub(crate) center: Arc<Transform>,
    pub(crate) rotation: Arc<Rotation>,
    /// `[n, words]`: two f32 in one word, b below and a above, of which a rank is estimated as those of [`BitCodes::Lines`] are;
    /// where the node's neighbours on the ground begin, and above that how many there are; then the signs. So one cache line, or a few,
    /// tell a walk all it wants to know of a node before it reads the row.
    pub(crate) records: Tensor<u64>,
}

/// A query, as heads are asked.
pub(crate) struct Question {
    bytes: Bytes,
    euclidean: bool,
    /// The rank of the mean.
    base: f32,
}

/// Fewer rows all lie near the caches.
const LEAST_ROWS: usize = 4096;
/// Signs of fewer dimensions tell too little, and their rows take hardly more lines.
const LEAST_DIMENSIONS: usize = 192;
/// Words of a record before its signs.
const BEFORE: usize = 2;
/// By how much the product of a query of length 1 with a one-bit code is off, as a standard deviation, since the code
/// points away from its vector by nearly the same angle after any rotation: `sqrt(1 - 2 / pi) / 2`.
const DEVIATION: f32 = 0.301_4;
/// A walk passes over rows that are farther than its beam's worst even if their estimate is off by so many standard
/// deviations. Those it is wrong about lie at the edge of the beam, and are seldom among the answers.
const DEVIATIONS: f32 = 1.0;

impl Heads {
    /// `learned`: whose mean and rotation are kept.
    pub(crate) fn build(
        crew: &Crew<'_>,
        plain: &Plain<'_>,
        seed: u64,
        learned: Option<&Heads>,
    ) -> Result<Heads, BuildError> {
        let d = plain.dimensions;
        let (center, rotation) = match learned {
            Some(heads) => (heads.center.clone(), heads.rotation.clone()),
            None => {
                let mut center = Transform::identity(d);
                center.mean = Some(transform::mean(plain.rows, d).into());
                (Arc::new(center), Arc::new(Rotation::random(d, seed)))
            }
        };
        let mean = center.mean.as_ref().expect("there is one");
        let words = Heads::words(d);
        let pieces = crew.pieces(plain.len(), 512, |piece| {
            let mut records = Vec::with_capacity(piece.len() * words);
            for node in piece {
                let rest: Vec<f32> = plain.row(node).iter().zip(mean.iter()).map(|(x, m)| x - m).collect();
                let coded = bits::encode(&rotation.turn(crew.kernels, &rest), 1);
                let squared = if plain.euclidean { crew.kernels.dot(&rest, &rest) } else { 0.0 };
                let end = records.len() + words;
                let b = if plain.euclidean { -2.0 * coded.factor } else { -coded.factor };
                records.push(word_of((b, squared)));
                records.push(0);
                bits::planes_of(&coded.codes, 1, &mut records);
                records.resize(end, 0);
            }
            records
        })?;
        Ok(Heads { records: Tensor::on_lines(&pieces), center, rotation })
    }

    /// 64-bit words of a record.
    pub(crate) fn words(dimensions: usize) -> usize {
        whole_lines(BEFORE + Rotation::padded(dimensions) / 64)
    }

    pub(crate) fn n_bytes(&self) -> usize {
        self.center.n_bytes() + 4 * self.rotation.signs.len() + 8 * self.records.len()
    }

    fn n_words(&self) -> usize {
        Heads::words(self.center.from)
    }

    /// A query to which rows seem nearer than they are by [`DEVIATIONS`].
    pub(crate) fn ask(&self, kernels: &Kernels, query: &[f32], euclidean: bool) -> Question {
        let (query, base) = self.center.ask(kernels, query, euclidean);
        let turned = self.rotation.turn(kernels, &query);
        let squared = kernels.dot(&query, &query);
        let mut bytes = Bytes::new(kernels, &turned, 1);
        bytes.shift -= DEVIATIONS * DEVIATION * squared.sqrt();
        Question { bytes, euclidean, base: if euclidean { squared } else { -base } }
    }

    /// The same heads, noting where each node's neighbours on the ground begin, and those of the one before end.
    pub(crate) fn noting(&self, starts: &[u32]) -> Heads {
        let words = self.n_words();
        let mut records = self.records.to_vec();
        for (record, list) in records.chunks_mut(words).zip(starts.windows(2)) {
            record[1] = u64::from(list[1] - list[0]) << 32 | u64::from(list[0]);
        }
        let (center, rotation) = (self.center.clone(), self.rotation.clone());
        Heads { center, rotation, records: Tensor::on_lines(&[records]) }
    }

    /// A copy that shares what was learned.
    pub(crate) fn copied(&self) -> Heads {
        let (center, rotation) = (self.center.clone(), self.rotation.clone());
        Heads { center, rotation, records: Tensor::on_lines(&[self.records.to_vec()]) }
    }

    /// Where a node's neighbours on the ground begin, and how many there are.
    #[inline]
    pub(crate) fn list(&self, records: &[u64], node: u32) -> (usize, usize) {
        let word = records[node as usize * self.n_words() + 1];
        (word as u32 as usize, (word >> 32) as usize)
    }

    /// Estimated ranks of some nodes.
    #[inline]
    pub(crate) fn rank_picked(&self, kernels: &Kernels, asked: &Question, picks: &[u32], out: &mut [f32]) {
        let Question { bytes, euclidean, base } = asked;
        let shape = (self.n_words(), BEFORE, 1);
        kernels.rank_bits(&bytes.bytes, &self.records, shape, picks, (bytes.step, bytes.shift), out);
        match euclidean {
            true => out.iter_mut().for_each(|rank| *rank = (*rank + base).max(0.0)),
            false => out.iter_mut().for_each(|rank| *rank += base),
        }
    }
}

impl Recipe {
    /// Bytes of a node's head, where an index keeps them: beside a graph, for rows that are larger, and whose distances
    /// are those of the vectors.
    pub(crate) fn head(&self, rows: usize, dimensions: usize) -> Option<usize> {
        let larger = matches!(self.store, Store::F32 | Store::F16 | Store::Int8);
        let keeps = matches!(self.route, Route::Graph(_))
            && larger
            && self.dimensions(dimensions) == dimensions
            && rows >= LEAST_ROWS
            && dimensions >= LEAST_DIMENSIONS;
        keeps.then(|| 8 * Heads::words(dimensions))
    }
}
