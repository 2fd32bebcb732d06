//! The neighbours' codes beside a node's links: one step of a walk reads one block of memory, and estimates all
//! neighbours at once.
//!
//! Each link keeps one-bit codes (see [`super::bits`]) of the difference between neighbour and node, so that an
//! estimate needs only what is left between query and node, which shrinks as a walk comes near. After Gou, Gao, Xu
//! and Long (SIGMOD 2025).

use super::BuildError;
use super::bits::{self, Rotation};
use super::blocks::{self, Tables};
use super::graph::{Graph, NONE, Walker};
use super::parallel::Crew;
use super::rows::{Asked, Plain, Rows};
use super::tensor::Tensor;
use crate::kernels::Kernels;
use crate::scan::{Nearest, Neighbour};

/// For each node: the links, then two numbers for each link, then codes in blocks of 32. A neighbour's rank is
/// estimated as `rank of the node + a + b * (query . code)`.
pub(super) struct Beside {
    slots: usize,
    words_of_codes: usize,
    pub(super) records: Tensor<u32>,
}

impl Beside {
    pub(super) fn slots(links: usize) -> usize {
        (2 * links).next_multiple_of(blocks::ROWS)
    }

    /// 32-bit words of a node's record.
    pub(super) fn words(links: usize, padded: usize) -> usize {
        let slots = Beside::slots(links);
        3 * slots + slots / blocks::ROWS * blocks::n_bytes(padded / 4) / 4
    }

    pub(super) fn new(links: usize, padded: usize, records: Tensor<u32>) -> Beside {
        Beside { slots: Beside::slots(links), words_of_codes: blocks::n_bytes(padded / 4) / 4, records }
    }

    /// `plain`: what links join, turned as queries are.
    pub(super) fn build(
        crew: &Crew<'_>,
        graph: &Graph,
        rotation: &Rotation,
        plain: &Plain<'_>,
    ) -> Result<Beside, BuildError> {
        let n = plain.len();
        let padded = rotation.padded;
        let rotated = crew.pieces(n, 256, |piece| {
            piece.flat_map(|node| rotation.turn(plain.row(node))).collect::<Vec<f32>>()
        })?;
        let rotated = rotated.concat();
        let row = |node: u32| &rotated[node as usize * padded..][..padded];
        let slots = Beside::slots(graph.links);
        let block = blocks::n_bytes(padded / 4);
        let records = crew.pieces(n, 64, |piece| {
            let mut records: Vec<u32> = Vec::with_capacity(piece.len() * Beside::words(graph.links, padded));
            let mut rest = vec![0.0; padded];
            for node in piece {
                let own = row(node as u32);
                let list = &graph.ground[node * 2 * graph.links..][..2 * graph.links];
                let (mut a, mut b) = (vec![0.0f32; slots], vec![0.0f32; slots]);
                let mut codes = vec![0u8; slots / blocks::ROWS * block];
                for (slot, &next) in list.iter().take_while(|l| **l != NONE).enumerate() {
                    let other = row(next);
                    rest.iter_mut().zip(own).zip(other).for_each(|((r, x), y)| *r = y - x);
                    let coded = bits::encode(&rest, 1);
                    let own_by_code: f32 = own
                        .iter()
                        .zip(&coded.codes)
                        .map(|(x, c)| if *c == 1 { x / 2.0 } else { -x / 2.0 })
                        .sum();
                    if plain.euclidean {
                        let squared: f32 = rest.iter().map(|x| x * x).sum();
                        a[slot] = squared + 2.0 * coded.factor * own_by_code;
                        b[slot] = -2.0 * coded.factor;
                    } else {
                        let across = crew.kernels.dot(own, &rest);
                        a[slot] = coded.factor * own_by_code - across;
                        b[slot] = -coded.factor;
                    }
                    let at = slot / blocks::ROWS * block;
                    blocks::put(
                        &mut codes[at..at + block],
                        slot % blocks::ROWS,
                        &bits::places_of(&coded.codes),
                    );
                }
                records.extend(list);
                records.resize(records.len() + slots - list.len(), NONE);
                records.extend(a.iter().chain(&b).map(|x| x.to_bits()));
                records.extend(codes.as_chunks::<4>().0.iter().map(|c| u32::from_le_bytes(*c)));
            }
            records
        })?;
        Ok(Beside::new(graph.links, padded, records.concat().into()))
    }

    pub(super) fn n_bytes(&self) -> usize {
        4 * self.records.len()
    }

    fn record(&self, node: u32) -> &[u32] {
        let words = 3 * self.slots + self.slots / blocks::ROWS * self.words_of_codes;
        &self.records[node as usize * words..][..words]
    }

    /// Walks the ground layer from `entry`. Nodes wait in the order of their estimates; each one that is opened is
    /// ranked by `finer`, and those ranks are the answer.
    #[allow(clippy::too_many_arguments)]
    pub(super) fn walk(
        &self,
        walker: &mut Walker<'_>,
        tables: &Tables,
        finer: &Rows,
        finer_asked: &Asked,
        entry: Neighbour,
        k: usize,
        beam: usize,
    ) -> Vec<Neighbour> {
        let kernels = walker.space.kernels;
        walker.scratch.begin(walker.space.nodes);
        walker.scratch.mark(entry.row);
        walker.scratch.push(entry);
        let mut nearest = Nearest::new(k);
        let mut ranks = [0.0f32; blocks::ROWS];
        let (mut cursor, mut exact) = (0, [0.0f32]);
        while let Some(at) = walker.scratch.open(&mut cursor) {
            if let Some(next) = walker.scratch.peek(cursor) {
                self.call(kernels, next.row, finer, finer_asked.vector().len());
            }
            finer.rank_picked(kernels, finer_asked, 0.0, &[at.row], &mut exact);
            nearest.offer(at.row, exact[0]);
            walker.work.hops += 1;
            walker.work.distances += 1;
            let record = self.record(at.row);
            let (links, rest) = record.split_at(self.slots);
            let (a, rest) = rest.split_at(self.slots);
            let (b, codes) = rest.split_at(self.slots);
            let (a, b): (&[f32], &[f32]) = (bytemuck::cast_slice(a), bytemuck::cast_slice(b));
            for (i, links) in links.chunks(blocks::ROWS).enumerate() {
                if links[0] == NONE {
                    break;
                }
                let codes: &[u8] =
                    bytemuck::cast_slice(&codes[i * self.words_of_codes..][..self.words_of_codes]);
                let of = |numbers: &[f32]| {
                    *numbers[i * blocks::ROWS..].first_chunk().expect("slots come in blocks")
                };
                let mut worst = walker.scratch.worst(beam);
                let mut below =
                    tables.estimate(kernels, codes, (&of(a), &of(b)), (exact[0], worst), &mut ranks);
                while below != 0 {
                    let slot = below.trailing_zeros() as usize;
                    below &= below - 1;
                    let (row, rank) = (links[slot], ranks[slot]);
                    // A neighbour that another node placed too far may be placed again by this one.
                    if rank < worst && row != NONE && walker.scratch.mark(row) {
                        let place = walker.scratch.insert(Neighbour { rank, row }, beam);
                        cursor = cursor.min(place);
                        worst = walker.scratch.worst(beam);
                    }
                }
            }
        }
        nearest.into_sorted()
    }

    /// Calls what the next step will read.
    #[inline]
    fn call(&self, kernels: &Kernels, node: u32, finer: &Rows, dimensions: usize) {
        kernels.call(self.record(node));
        finer.call(kernels, node, dimensions);
    }
}
