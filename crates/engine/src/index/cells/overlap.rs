//! Codes of rows in further cells than their own, so that fewer cells must be visited.
//!
//! A row that lies at the edge of its cell is missed by queries on the other side. So its codes lie in a second cell
//! too: near the row, and so that the way from the row to the second centre does not run along that to the first (Sun,
//! Simcha, Dopson, Guo and Kumar, NeurIPS 2023), because queries that lie far from one centre for the direction they
//! come from are then near to the other. Codes lie in blocks of 32; what is free in a cell's last block takes the codes of
//! rows that would gain most by a further place.
//!
//! A place keeps one-bit codes (see [`crate::index::store::bits`]) of the difference between row and centre, and two numbers, as in
//! links (see [`crate::index::graph::inline_codes`]): an estimate needs only what is left between query and centre.

use crate::index::build::crew::Crew;
use crate::index::graph::inline_codes;
use crate::index::graph::inline_codes::UNUSED;
use crate::index::graph::walk::NONE;
use crate::index::pool::Pool;
use crate::index::progress::BuildError;
use crate::index::store::bits::Rotation;
use crate::index::store::blocks;
use crate::index::store::blocks::ROWS;
use crate::index::store::blocks::Tables;
use crate::index::store::encode::Plain;
use crate::kernels::Kernels;
use crate::scan::{Allowed, Lens, Neighbour};
use crate::tensors::Tensor;

/// Blocks of 32 places, relative to a centre for each run of them.
pub(crate) struct Places {
    /// `[runs + 1]`: the first block of each.
    pub(crate) starts: Tensor<u32>,
    /// `[blocks, words]`: the nodes of 32 places; two numbers for each, as upper halves of f32 in one word; then codes.
    pub(crate) records: Tensor<u32>,
    words: usize,
}

/// How much more it counts that the ways to two centres run along each other than that the second is long.
const ALONG: f32 = 2.0;
/// Of so many of the nearest cells further ones are chosen,
const NEAR: usize = 64;
/// and at most so many of them for free places.
const MOST: usize = 8;
/// So many places a row has at most: those, in its own cell, and in a second one.
pub(crate) const MOST_PLACES: usize = MOST + 2;

impl Places {
    /// Of rows, each in its own cell, in a second one, and where there is room. `plain`: prepared rows in node order;
    /// `cell_of`: the cell of each node; `centers`: row-major.
    pub(crate) fn overlapping(
        crew: &Crew<'_>,
        rotation: &Rotation,
        plain: &Plain<'_>,
        cell_of: &[u32],
        centers: &[f32],
    ) -> Result<Places, BuildError> {
        let mut members = members(cell_of, centers.len() / plain.dimensions);
        // For each node the cells it may lie in besides its own, best first.
        let further =
            crew.pieces(plain.len(), 240, |piece| further(crew.kernels, plain, piece, cell_of, centers))?;
        let further: Vec<Vec<(f32, u32)>> = further.into_iter().flatten().collect();
        for (node, cells) in (0..).zip(&further) {
            cells.first().into_iter().for_each(|(_, cell)| members[*cell as usize].push(node));
        }
        // A further place helps the more the less a row is worse off there than in its second cell.
        let mut more: Vec<(f32, u32, u32)> = Vec::new();
        for (node, cells) in (0..).zip(&further) {
            let Some((second, _)) = cells.first() else { continue };
            more.extend(cells[1..].iter().map(|(loss, cell)| (loss - second, node, *cell)));
        }
        more.sort_unstable_by(|a, b| a.0.total_cmp(&b.0).then_with(|| (a.1, a.2).cmp(&(b.1, b.2))));
        for (_, node, cell) in more {
            let members = &mut members[cell as usize];
            if !members.len().is_multiple_of(ROWS) {
                members.push(node);
            }
        }
        Places::of_members(crew, rotation, plain, &members, centers)
    }

    /// The same, but of each row in its own cell only.
    pub(crate) fn once(
        crew: &Crew<'_>,
        rotation: &Rotation,
        plain: &Plain<'_>,
        cell_of: &[u32],
        centers: &[f32],
    ) -> Result<Places, BuildError> {
        let members = members(cell_of, centers.len() / plain.dimensions);
        Places::of_members(crew, rotation, plain, &members, centers)
    }

    /// `members`: the nodes whose codes lie in each cell.
    fn of_members(
        crew: &Crew<'_>,
        rotation: &Rotation,
        plain: &Plain<'_>,
        members: &[Vec<u32>],
        centers: &[f32],
    ) -> Result<Places, BuildError> {
        let d = plain.dimensions;
        let center = |cell: usize| &centers[cell * d..][..d];
        let row = |node: u32| plain.row(node as usize);
        Places::build(crew, rotation, plain.euclidean, members, center, row)
    }

    /// Of the cells' centres, relative to their mean: they say which of them a query should be compared with.
    pub(crate) fn of_centers(
        crew: &Crew<'_>,
        rotation: &Rotation,
        (centers, mean): (&[f32], &[f32]),
        euclidean: bool,
    ) -> Result<Places, BuildError> {
        let d = mean.len();
        let all = [(0..(centers.len() / d) as u32).collect()];
        let row = |cell: u32| &centers[cell as usize * d..][..d];
        Places::build(crew, rotation, euclidean, &all, |_| mean, row)
    }
}

/// The nodes of each cell.
fn members(cell_of: &[u32], n_cells: usize) -> Vec<Vec<u32>> {
    let mut members = vec![Vec::new(); n_cells];
    cell_of.iter().zip(0..).for_each(|(cell, node)| members[*cell as usize].push(node));
    members
}

impl Places {
    /// 32-bit words of a block.
    pub(crate) fn words(padded: usize) -> usize {
        2 * ROWS + blocks::n_bytes(padded / 4) / 4
    }

    pub(crate) fn new(starts: Tensor<u32>, records: Tensor<u32>, padded: usize) -> Places {
        Places { starts, records, words: Places::words(padded) }
    }

    fn build<'a>(
        crew: &Crew<'_>,
        rotation: &Rotation,
        euclidean: bool,
        members: &[Vec<u32>],
        center: impl Fn(usize) -> &'a [f32] + Sync,
        row: impl Fn(u32) -> &'a [f32] + Sync,
    ) -> Result<Places, BuildError> {
        let mut starts = vec![0u32];
        for members in members {
            starts.push(starts[starts.len() - 1] + members.len().div_ceil(ROWS) as u32);
        }
        let records = crew.pieces(members.len(), 4, |piece| {
            let mut records: Vec<u32> = Vec::new();
            for run in piece {
                let center = center(run);
                let own = rotation.turn(crew.kernels, center);
                for members in members[run].chunks(ROWS) {
                    let (mut nodes, mut numbers) = ([NONE; ROWS], [UNUSED; ROWS]);
                    let mut codes = vec![0; blocks::n_bytes(rotation.padded / 4)];
                    for (slot, node) in members.iter().enumerate() {
                        let rest: Vec<f32> = row(*node).iter().zip(center).map(|(x, c)| x - c).collect();
                        let turned = rotation.turn(crew.kernels, &rest);
                        let (places, number) =
                            inline_codes::relative_to(crew.kernels, &own, &turned, euclidean);
                        nodes[slot] = *node;
                        numbers[slot] = number;
                        blocks::put(&mut codes, slot, &places);
                    }
                    records.extend(nodes);
                    records.extend(numbers);
                    records.extend(codes.as_chunks::<4>().0.iter().map(|c| u32::from_le_bytes(*c)));
                }
            }
            records
        })?;
        Ok(Places::new(starts.into(), Tensor::on_lines(&records), rotation.padded))
    }

    pub(crate) fn n_places(&self) -> usize {
        self.records.len() / self.words * ROWS
    }

    pub(crate) fn n_bytes(&self) -> usize {
        4 * (self.starts.len() + self.records.len())
    }

    /// Whether all blocks are there and all nodes exist.
    pub(crate) fn is_sound(&self, n: usize) -> bool {
        let n_blocks = self.records.len() / self.words;
        self.starts.first() == Some(&0)
            && self.starts.last() == Some(&(n_blocks as u32))
            && self.starts.windows(2).all(|two| two[0] <= two[1])
            && self
                .records
                .chunks(self.words)
                .all(|record| record[..ROWS].iter().all(|node| *node == NONE || (*node as usize) < n))
    }

    /// The blocks of a run.
    pub(crate) fn blocks(&self, run: usize) -> std::ops::Range<usize> {
        self.starts[run] as usize..self.starts[run + 1] as usize
    }

    /// How many of the first block of a run may answer, and how many it holds.
    pub(crate) fn allowed_of_first(&self, kernels: &Kernels, run: usize, nodes: Lens<'_>) -> (usize, usize) {
        let Some(record) = self.records.get(self.starts[run] as usize * self.words..) else { return (0, 0) };
        let Some(first) = record.first_chunk::<ROWS>().filter(|_| !self.blocks(run).is_empty()) else {
            return (0, 0);
        };
        let held = first.iter().filter(|node| **node != NONE).count();
        (nodes.among(kernels, first, u32::MAX).count_ones() as usize, held)
    }

    /// The nodes of a run, block by block.
    pub(crate) fn nodes(&self, run: usize) -> impl Iterator<Item = &[u32; ROWS]> {
        let records: &[u32] = &self.records;
        self.blocks(run).filter_map(|block| records.get(block * self.words..)?.first_chunk())
    }

    /// Those that are not free.
    pub(crate) fn taken(&self, run: usize) -> impl Iterator<Item = u32> {
        self.nodes(run).flatten().copied().filter(|node| *node != NONE)
    }

    /// Calls the first block of a run into the caches.
    pub(crate) fn prefetch(&self, kernels: &Kernels, run: usize) {
        if let Some(record) = self.records.chunks(self.words).nth(self.starts[run] as usize) {
            kernels.prefetch(record);
        }
    }

    /// Estimates the first `n` places, all relative to the same: what is added to the rank of that.
    pub(crate) fn estimated(&self, kernels: &Kernels, tables: &Tables, n: usize) -> Vec<f32> {
        let mut all = Vec::with_capacity(n.next_multiple_of(ROWS));
        let mut ranks = [0.0f32; ROWS];
        let records: &[u32] = &self.records;
        for (i, record) in records.chunks_exact(self.words).enumerate() {
            let (head, codes) = record.split_at(2 * ROWS);
            let numbers = head[ROWS..].first_chunk().expect("32");
            let soon = records.get((i + 1) * self.words + 2 * ROWS..).unwrap_or_default();
            let (codes, soon) = (bytemuck::cast_slice(codes), bytemuck::cast_slice(soon));
            tables.estimate(kernels, codes, numbers, (0.0, f32::INFINITY), soon, &mut ranks);
            all.extend(ranks);
        }
        all.truncate(n);
        all
    }

    /// Estimates all places of a run from the rank of its centre; `next` is the run that comes after it. Each block is
    /// prefetched while the one before is read. Where it is asked `first` who may answer, blocks without any are passed over.
    /// Returns how many blocks were compared.
    pub(crate) fn look_into(
        &self,
        (kernels, tables): (&Kernels, &Tables),
        (run, rank): (usize, f32),
        next: Option<usize>,
        (allowed, first): (Allowed<'_>, bool),
        pool: &mut Pool,
    ) -> usize {
        let (starts, records): (&[u32], &[u32]) = (&self.starts, &self.records);
        let record = |block: u32| {
            let record = records.get(block as usize * self.words..)?.get(..self.words)?;
            Some(record.split_at(2 * ROWS))
        };
        let blocks = starts[run]..starts[run + 1];
        let beyond = next.map_or(u32::MAX, |run| starts[run]);
        let mut ranks = [0.0f32; ROWS];
        let mut n_compared = 0;
        for block in blocks.clone() {
            let (head, codes) = record(block).expect("all blocks are there");
            let (nodes, numbers) = head.split_at(ROWS);
            let (nodes, numbers) = (nodes.first_chunk().expect("32"), numbers.first_chunk().expect("32"));
            let may = if first { allowed.among(kernels, nodes, u32::MAX) } else { u32::MAX };
            if may == 0 {
                continue;
            }
            n_compared += 1;
            let mut soon: &[u32] = &[];
            if let Some((head, codes)) = record(if block + 1 < blocks.end { block + 1 } else { beyond }) {
                kernels.prefetch(head);
                soon = codes;
            }
            let (codes, soon): (&[u8], &[u8]) = (bytemuck::cast_slice(codes), bytemuck::cast_slice(soon));
            let mut below =
                tables.estimate(kernels, codes, numbers, (rank, pool.worst()), soon, &mut ranks) & may;
            if below == 0 {
                continue;
            }
            if !first {
                below = allowed.among(kernels, nodes, below);
            }
            pool.enter(kernels, below, nodes, &ranks);
        }
        n_compared
    }
}

/// Some of the nearest cells, and what further ones must be nearer than.
type Near = (Vec<Neighbour>, f32);

/// For each of some nodes the cells, besides its own, that its codes would do best to lie in, and what is lost there.
fn further(
    kernels: &Kernels,
    plain: &Plain<'_>,
    piece: std::ops::Range<usize>,
    cell_of: &[u32],
    centers: &[f32],
) -> Vec<Vec<(f32, u32)>> {
    let d = plain.dimensions;
    let rows: Vec<f32> = piece.clone().flat_map(|node| plain.row(node)).copied().collect();
    let center = |cell: u32| &centers[cell as usize * d..][..d];
    // Few enough centres at a time that they stay in the second-level cache.
    let strip = (131_072 / d).max(4);
    let mut near: Vec<Near> = vec![(Vec::new(), f32::INFINITY); piece.len()];
    let mut ranks = Vec::new();
    let cut_back = |(near, limit): &mut Near| {
        near.select_nth_unstable(NEAR - 1);
        near.truncate(NEAR);
        *limit = near[NEAR - 1].rank;
    };
    for (s, some) in centers.chunks(strip * d).enumerate() {
        ranks.resize(piece.len() * some.len() / d, 0.0);
        kernels.rank_block(true, &rows, some, d, &mut ranks);
        for ((ranks, near), node) in ranks.chunks(some.len() / d).zip(&mut near).zip(piece.clone()) {
            let own = cell_of[node];
            for (cell, rank) in ((s * strip) as u32..).zip(ranks) {
                if *rank < near.1 && cell != own {
                    near.0.push(Neighbour { rank: *rank, row: cell });
                    if near.0.len() == 4 * NEAR {
                        cut_back(near);
                    }
                }
            }
        }
    }
    let of_row = |((node, row), mut near): ((usize, &[f32]), Near)| {
        if near.0.len() > NEAR {
            cut_back(&mut near);
        }
        let own = cell_of[node];
        let way: Vec<f32> = row.iter().zip(center(own)).map(|(x, c)| x - c).collect();
        let length = kernels.dot(&way, &way);
        let along_row = kernels.dot(&way, row);
        let loss = |at: &Neighbour| {
            // The part of the way from the row to this centre that runs along the way to its own.
            let along = along_row - kernels.dot(&way, center(at.row));
            let along = if length > 0.0 { along * along / length } else { 0.0 };
            (at.rank + ALONG * along, at.row)
        };
        let mut cells: Vec<(f32, u32)> = near.0.iter().map(loss).collect();
        cells.sort_unstable_by(|a, b| a.0.total_cmp(&b.0).then_with(|| a.1.cmp(&b.1)));
        cells.truncate(1 + MOST);
        cells
    };
    piece.clone().zip(rows.chunks(d)).zip(near).map(of_row).collect()
}
