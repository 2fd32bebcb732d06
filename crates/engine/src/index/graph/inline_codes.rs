//! The neighbours' codes next to a node's links: one step of a walk reads one block of memory, and estimates all
//! neighbours at once.
//!
//! Each link keeps one-bit codes (see [`crate::index::store::bits`]) of the difference between neighbour and node, so that an
//! estimate needs only what is left between query and node, which shrinks as a walk comes near. After Gou, Gao, Xu
//! and Long (SIGMOD 2025).

use crate::index::build::crew::Crew;
use crate::index::graph::walk::Graph;
use crate::index::graph::walk::NONE;
use crate::index::graph::walk::Walker;
use crate::index::progress::BuildError;
use crate::index::store::bits;
use crate::index::store::bits::Rotation;
use crate::index::store::blocks;
use crate::index::store::encode::Plain;
use crate::index::store::prepared::PreparedQuery;
use crate::index::store::rows::Rows;
use crate::kernels::Kernels;
use crate::scan::{Allowed, Nearest, Neighbour};
use crate::tensors::Tensor;
use fixedbitset::FixedBitSet;
use std::sync::Arc;

/// For each node: the links; two numbers for each, as upper halves of f32 in one word; then codes in blocks of 32. A
/// neighbour's rank is estimated as `rank of the node + a + b * (query . code)`.
pub(crate) struct InlineCodes {
    slots: usize,
    words: usize,
    pub(crate) records: Arc<Tensor<u32>>,
    /// The records of some nodes in the place of those.
    moved: Option<Moved>,
    hubs: Hubs,
}

struct Moved {
    /// For each node which of the records is its own, or [`NONE`].
    places: Vec<u32>,
    records: Tensor<u32>,
}

/// Nodes of the highest layers, spread over all rows, and their codes: a walk begins at the nearest of them. A scan of
/// a few blocks costs less than a descent layer by layer.
struct Hubs {
    nodes: Vec<u32>,
    numbers: Vec<u32>,
    codes: Vec<u8>,
}

/// At most so many hubs.
const MOST_HUBS: usize = 256;
/// A walk begins at so many of them.
const ENTRIES: usize = 2;

/// Two numbers in one word, each without the lower half of its bits: eight bits of precision are more than an
/// estimate from signs has.
fn pack(a: f32, b: f32) -> u32 {
    let half = |x: f32| half::bf16::from_f32(x).to_bits();
    u32::from(half(a)) << 16 | u32::from(half(b))
}

/// What no estimate gets below.
pub(crate) const UNUSED: u32 = 0x7f80_0000;

/// The one-bit codes of `rest`, what lies between `own` and a row, and the two numbers with which the rank of the row is
/// estimated from that of `own`; all rotated.
pub(crate) fn relative_to(kernels: &Kernels, own: &[f32], rest: &[f32], euclidean: bool) -> (Vec<u8>, u32) {
    let coded = bits::encode(rest, 1);
    let by_code: f32 =
        own.iter().zip(&coded.codes).map(|(x, c)| if *c == 1 { x / 2.0 } else { -x / 2.0 }).sum();
    let number = if euclidean {
        pack(kernels.dot(rest, rest) + 2.0 * coded.factor * by_code, -2.0 * coded.factor)
    } else {
        pack(coded.factor * by_code - kernels.dot(own, rest), -coded.factor)
    };
    (bits::places_of(&coded.codes), number)
}

/// The record of a node: its links, and the codes of those neighbours relative to it.
fn record(
    kernels: &Kernels,
    slots: usize,
    own: &[f32],
    (list, others): (&[u32], impl Iterator<Item: AsRef<[f32]>>),
    euclidean: bool,
) -> Vec<u32> {
    let block = blocks::n_bytes(own.len() / 4);
    let mut numbers = vec![UNUSED; slots];
    let mut codes = vec![0u8; slots / blocks::ROWS * block];
    let mut rest = vec![0.0; own.len()];
    for (slot, other) in others.enumerate() {
        rest.iter_mut().zip(own).zip(other.as_ref()).for_each(|((r, x), y)| *r = y - x);
        let (places, number) = relative_to(kernels, own, &rest, euclidean);
        numbers[slot] = number;
        let at = slot / blocks::ROWS * block;
        blocks::put(&mut codes[at..at + block], slot % blocks::ROWS, &places);
    }
    let mut record = list.to_vec();
    record.resize(slots, NONE);
    record.extend(numbers);
    record.extend(codes.as_chunks::<4>().0.iter().map(|c| u32::from_le_bytes(*c)));
    record
}

impl Hubs {
    fn choose(graph: &Graph, rows: &Rows, withheld: &FixedBitSet) -> Hubs {
        let high = |n: &u32| graph.level[*n as usize] > 0 && !withheld.contains(*n as usize);
        let mut nodes: Vec<u32> = (0..graph.level.len() as u32).filter(high).collect();
        nodes.sort_by_key(|node| (std::cmp::Reverse(graph.level[*node as usize]), *node));
        nodes.truncate(MOST_HUBS);
        if nodes.is_empty() && !graph.level.is_empty() {
            nodes.push(graph.entry);
        }
        let (mut numbers, mut codes) = (Vec::new(), Vec::new());
        for some in nodes.chunks(blocks::ROWS) {
            let mut block = Vec::new();
            for (slot, node) in some.iter().enumerate() {
                let (places, a, b) = rows.signs_of(*node);
                block.resize(blocks::n_bytes(places.len()), 0);
                blocks::put(&mut block, slot, &places);
                numbers.push(pack(a, b));
            }
            numbers.resize(numbers.len().next_multiple_of(blocks::ROWS), UNUSED);
            codes.extend(block);
        }
        Hubs { nodes, numbers, codes }
    }
}

impl InlineCodes {
    pub(crate) fn slots(links: usize) -> usize {
        (2 * links).next_multiple_of(blocks::ROWS)
    }

    /// 32-bit words of a node's record.
    pub(crate) fn words(links: usize, padded: usize) -> usize {
        let slots = InlineCodes::slots(links);
        2 * slots + slots / blocks::ROWS * blocks::n_bytes(padded / 4) / 4
    }

    pub(crate) fn new(graph: &Graph, rows: &Rows, padded: usize, records: Tensor<u32>) -> InlineCodes {
        let (slots, words) = (InlineCodes::slots(graph.links), InlineCodes::words(graph.links, padded));
        let hubs = Hubs::choose(graph, rows, &FixedBitSet::new());
        InlineCodes { slots, words, records: Arc::new(records), moved: None, hubs }
    }

    /// The same codes with other links from some nodes, in order; no walk begins at a withheld node.
    pub(crate) fn relinked(
        &self,
        crew: &Crew<'_>,
        graph: &Graph,
        rows: &Rows,
        (changed, withheld): (&[u32], &FixedBitSet),
        turned: impl Fn(u32) -> Vec<f32> + Sync,
        euclidean: bool,
    ) -> Result<InlineCodes, BuildError> {
        let made = crew.pieces(changed.len(), 64, |piece| {
            let made = changed[piece].iter().map(|&node| {
                let list: Vec<u32> = graph.ground().of(node).collect();
                let others = list.iter().map(|next| turned(*next));
                record(crew.kernels, self.slots, &turned(node), (&list, others), euclidean)
            });
            made.collect::<Vec<_>>()
        })?;
        let mut places = vec![NONE; graph.level.len()];
        changed.iter().zip(0..).for_each(|(node, place)| places[*node as usize] = place);
        let records: Vec<Vec<u32>> = made.into_iter().flatten().collect();
        let moved = Some(Moved { places, records: Tensor::on_lines(&records) });
        let hubs = Hubs::choose(graph, rows, withheld);
        Ok(InlineCodes { slots: self.slots, words: self.words, records: self.records.clone(), moved, hubs })
    }

    /// `plain`: what links join, turned as queries are; `rows`: the same rows as signs.
    pub(crate) fn build(
        crew: &Crew<'_>,
        graph: &Graph,
        rotation: &Rotation,
        plain: &Plain<'_>,
        rows: &Rows,
    ) -> Result<InlineCodes, BuildError> {
        let n = plain.len();
        let padded = rotation.padded;
        let rotated = crew.pieces(n, 256, |piece| {
            piece.flat_map(|node| rotation.turn(crew.kernels, plain.row(node))).collect::<Vec<f32>>()
        })?;
        let rotated = rotated.concat();
        let row = |node: u32| &rotated[node as usize * padded..][..padded];
        let slots = InlineCodes::slots(graph.links);
        let records = crew.pieces(n, 64, |piece| {
            let mut records: Vec<u32> =
                Vec::with_capacity(piece.len() * InlineCodes::words(graph.links, padded));
            for node in piece {
                let list: Vec<u32> = graph.ground().of(node as u32).collect();
                let others = list.iter().map(|next| row(*next));
                records.extend(record(
                    crew.kernels,
                    slots,
                    row(node as u32),
                    (&list, others),
                    plain.euclidean,
                ));
            }
            records
        })?;
        Ok(InlineCodes::new(graph, rows, padded, Tensor::on_lines(&records)))
    }

    pub(crate) fn n_bytes(&self) -> usize {
        4 * self.records.len() + 4 * (self.hubs.nodes.len() + self.hubs.numbers.len()) + self.hubs.codes.len()
    }

    /// Walks the ground layer. Nodes wait in the order of their estimates; each one that is opened is ranked by
    /// `finer`, and so are in the end the best `wanted` that were not opened: those ranks are the answer.
    pub(crate) fn walk(
        &self,
        walker: &mut Walker<'_>,
        (finer, finer_asked): (&Rows, &PreparedQuery<'_>),
        (k, allowed): (usize, Allowed<'_>),
        beam: usize,
        wanted: usize,
    ) -> Vec<Neighbour> {
        let kernels = walker.space.kernels;
        let tables = walker.query.tables().expect("neighbours' codes are looked up");
        let keep = beam.max(wanted);
        let (records, block): (&[u32], usize) = (&self.records, tables.n_bytes());
        let record = |node: u32| {
            let (records, node) = match &self.moved {
                Some(Moved { places, records }) if places[node as usize] != NONE => {
                    (&records[..], places[node as usize])
                }
                _ => (records, node),
            };
            &records[node as usize * self.words..][..self.words]
        };
        let dimensions = finer_asked.vector().len();
        walker.scratch.begin(walker.space.nodes);
        let mut ranks = [0.0f32; blocks::ROWS];
        let base = walker.query.rank_of_nothing();
        let mut entries = Nearest::new(ENTRIES);
        for (i, nodes) in self.hubs.nodes.chunks(blocks::ROWS).enumerate() {
            let numbers = self.hubs.numbers[i * blocks::ROWS..].first_chunk().expect("whole blocks");
            let codes = &self.hubs.codes[i * block..][..block];
            let mut below =
                tables.estimate(kernels, codes, numbers, (base, entries.worst()), &[], &mut ranks);
            while below != 0 {
                let slot = below.trailing_zeros() as usize;
                below &= below - 1;
                entries.offer(nodes[slot], ranks[slot]);
            }
        }
        for entry in entries.into_sorted() {
            walker.scratch.mark(entry.row);
            walker.scratch.insert(entry, keep);
        }

        // Nodes that a filter bars lead on all the same.
        let is_hit = |node: u32| !matches!(allowed, Allowed::Only(nodes) if !nodes.contains(node));
        let mut nearest = Nearest::new(k);
        let (mut cursor, mut exact) = (0, [0.0f32]);
        let mut waiting: Option<Neighbour> = None;
        loop {
            // A node is prefetched while the one chosen before it is read, so that nothing waits for memory;
            // most of the time it is the node that would be chosen after, too. Its codes are called for in step
            // with the work on those at hand: only so many lines can be under way at once.
            let next = walker.scratch.open(&mut cursor, beam);
            let mut soon: &[u32] = &[];
            if let Some(next) = next {
                let (first, codes) = record(next.row).split_at(2 * self.slots);
                kernels.prefetch(first);
                soon = codes;
            }
            let Some(at) = std::mem::replace(&mut waiting, next) else {
                if next.is_none() {
                    break;
                }
                continue;
            };
            finer.rank_picked(kernels, finer_asked, 0.0, &[at.row], &mut exact);
            if is_hit(at.row) {
                nearest.offer(at.row, exact[0]);
            }
            walker.work.hops += 1;
            walker.work.distances += 1;
            let (links, rest) = record(at.row).split_at(self.slots);
            let (numbers, codes) = rest.split_at(self.slots);
            let (codes, soon): (&[u8], &[u8]) = (bytemuck::cast_slice(codes), bytemuck::cast_slice(soon));
            for (i, links) in links.as_chunks::<{ blocks::ROWS }>().0.iter().enumerate() {
                if links[0] == NONE {
                    break;
                }
                let numbers = numbers[i * blocks::ROWS..].first_chunk().expect("slots come in blocks");
                let worst = walker.scratch.worst(keep);
                let codes = &codes[i * block..][..block];
                let soon = soon.get(i * block..).unwrap_or_default();
                let below = tables.estimate(kernels, codes, numbers, (exact[0], worst), soon, &mut ranks);
                if i == 0
                    && let Some(next) = next
                {
                    finer.prefetch(kernels, next.row, dimensions);
                }
                // A neighbour that another node placed too far may be placed again by this one.
                cursor = cursor.min(walker.scratch.enter(below, links, &ranks, keep));
            }
        }
        // What was seen and not opened.
        let mut rest = Vec::new();
        walker.scratch.unopened(&mut rest);
        rest.retain(|node| is_hit(*node));
        let mut ranks = vec![0.0; rest.len()];
        finer.rank_picked(kernels, finer_asked, 0.0, &rest, &mut ranks);
        walker.work.distances += rest.len();
        rest.iter().zip(&ranks).for_each(|(row, rank)| nearest.offer(*row, *rank));
        nearest.into_sorted()
    }
}
