//! The nearest of what a search comes across.

use crate::index::store::blocks::ROWS;
use crate::kernels::Kernels;
use crate::scan::Neighbour;

/// No node.
const EMPTY: u32 = u32::MAX;

/// Places that seem nearest: more than are wanted, now and then cut back, which takes a glance at all of them. Cheaper
/// than a heap.
pub(crate) struct Pool {
    /// Of the first `len` places.
    ranks: Vec<f32>,
    nodes: Vec<u32>,
    len: usize,
    wanted: usize,
    /// What a newcomer must beat.
    worst: f32,
}

impl Pool {
    /// For so many rows, found in so many cells each.
    pub(crate) fn new(wanted: usize, each: usize) -> Pool {
        let wanted = wanted.max(1).saturating_mul(each);
        let room = 3 * wanted.min(4096) + ROWS;
        let (ranks, nodes) = (vec![0.0; room], vec![EMPTY; room]);
        Pool { ranks, nodes, len: 0, wanted, worst: f32::INFINITY }
    }

    pub(crate) fn len(&self) -> usize {
        self.len
    }

    /// The rank that a newcomer must beat.
    pub(crate) fn worst(&self) -> f32 {
        self.worst
    }

    /// Takes those of some nodes that beat the worst; all, as long as there is none.
    #[inline]
    pub(crate) fn offer(&mut self, kernels: &Kernels, nodes: &[u32], ranks: &[f32]) {
        for (nodes, ranks) in nodes.chunks(ROWS).zip(ranks.chunks(ROWS)) {
            let all = ((1u64 << nodes.len()) - 1) as u32;
            let worst = self.worst;
            let set = |ranks: &[f32; ROWS]| match worst < f32::INFINITY {
                true => all & kernels.below(ranks, worst),
                false => all,
            };
            if let (Some(nodes), Some(ranks)) = (nodes.first_chunk(), ranks.first_chunk()) {
                self.enter(kernels, set(ranks), nodes, ranks);
                continue;
            }
            let (mut some, mut theirs) = ([EMPTY; ROWS], [f32::INFINITY; ROWS]);
            some[..nodes.len()].copy_from_slice(nodes);
            theirs[..ranks.len()].copy_from_slice(ranks);
            self.enter(kernels, set(&theirs), &some, &theirs);
        }
    }

    /// What is left of single places, in no order.
    pub(crate) fn into_places(mut self, kernels: &Kernels) -> Vec<Neighbour> {
        self.cut_back(kernels, self.wanted);
        let places = self.ranks.iter().zip(&self.nodes).take(self.len);
        places.map(|(rank, row)| Neighbour { rank: *rank, row: *row }).collect()
    }

    /// So many places may stay when there are too many.
    fn most(&self) -> usize {
        self.wanted.saturating_add(self.wanted / 4)
    }

    /// Whether places were dropped, or will be when rows are told apart.
    pub(crate) fn is_full(&self) -> bool {
        self.worst < f32::INFINITY || self.len > self.most()
    }

    /// Takes what is set of a block.
    #[inline]
    pub(crate) fn enter(&mut self, kernels: &Kernels, set: u32, nodes: &[u32; ROWS], ranks: &[f32; ROWS]) {
        if self.len + ROWS > self.ranks.len() {
            let room = 2 * self.ranks.len();
            self.ranks.resize(room, 0.0);
            self.nodes.resize(room, EMPTY);
        }
        let to_ranks = self.ranks[self.len..].first_chunk_mut().expect("room was made");
        let to_nodes = self.nodes[self.len..].first_chunk_mut().expect("room was made");
        self.len += kernels.pick(set, ranks, nodes, (to_ranks, to_nodes));
        if self.len >= self.wanted.saturating_mul(3) {
            self.cut_back(kernels, self.most());
        }
    }

    /// Leaves the nearest places, as many as are wanted and at most `most`.
    fn cut_back(&mut self, kernels: &Kernels, most: usize) {
        if self.len <= most {
            return;
        }
        let (ranks, nodes) = (&mut self.ranks[..self.len], &mut self.nodes[..self.len]);
        let (worst, equal) = kernels.limit(ranks, self.wanted, most);
        let same = ranks.iter().zip(&*nodes).filter(|(rank, _)| **rank == worst);
        let same: Vec<u32> = same.take(equal).map(|(_, node)| *node).collect();
        self.len = kernels.keep_below(ranks, nodes, worst);
        for node in same {
            (self.ranks[self.len], self.nodes[self.len]) = (worst, node);
            self.len += 1;
        }
        self.worst = worst;
    }

    /// Whether there are so many rows; the same ones come several times, and in no cell more than once.
    pub(crate) fn holds(&self, rows: usize) -> bool {
        let mut seen = Seen::new(self.len);
        let mut new = (0..self.len).filter(|at| seen.place(self.nodes[*at], *at) == *at);
        rows == 0 || new.nth(rows - 1).is_some()
    }

    /// The best of the rows found, in no order.
    pub(crate) fn into_rows(mut self, kernels: &Kernels, wanted: usize) -> Vec<Neighbour> {
        self.cut_back(kernels, self.most());
        let mut seen = Seen::new(self.len);
        let mut rows = 0;
        for at in 0..self.len {
            let (rank, node) = (self.ranks[at], self.nodes[at]);
            let place = seen.place(node, rows);
            if place == rows {
                (self.ranks[rows], self.nodes[rows]) = (rank, node);
                rows += 1;
            } else {
                self.ranks[place] = self.ranks[place].min(rank);
            }
        }
        (self.len, self.wanted) = (rows, wanted);
        self.cut_back(kernels, wanted);
        let rows = self.ranks.iter().zip(&self.nodes).take(self.len);
        rows.map(|(rank, row)| Neighbour { rank: *rank, row: *row }).collect()
    }
}

/// The numbers of so many of the least ranks, in no order.
pub(crate) fn least_of(kernels: &Kernels, ranks: &[f32], wanted: usize) -> Vec<u32> {
    let mut pool = Pool::new(wanted, 1);
    for (ranks, first) in ranks.chunks(ROWS).zip((0..).step_by(ROWS)) {
        let numbers: [u32; ROWS] = std::array::from_fn(|i| first + i as u32);
        pool.offer(kernels, &numbers[..ranks.len()], ranks);
    }
    pool.into_places(kernels).iter().map(|at| at.row).collect()
}

/// Some nodes, each once, and where they were first seen.
struct Seen {
    slots: Vec<(u32, u32)>,
}

impl Seen {
    /// With room for so many.
    fn new(nodes: usize) -> Seen {
        Seen { slots: vec![(EMPTY, 0); (2 * nodes + 1).next_power_of_two()] }
    }

    /// Where this node was first seen: here, where it is new.
    #[inline]
    fn place(&mut self, node: u32, here: usize) -> usize {
        let mask = self.slots.len() - 1;
        let mut at = node.wrapping_mul(0x9e37_79b1) as usize >> 7 & mask;
        while self.slots[at].0 != EMPTY {
            if self.slots[at].0 == node {
                return self.slots[at].1 as usize;
            }
            at = (at + 1) & mask;
        }
        self.slots[at] = (node, here as u32);
        here
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_places_the_best_rows_stay() {
        let mut pool = Pool::new(3, 2);
        for from in (0..64).step_by(4) {
            // Rows 0 to 99 in an order of their own; each comes twice, the second time nearer.
            let node = |i: u32| (from + i) * 37 % 64 / 2;
            let nodes: Vec<u32> = (0..ROWS as u32).map(|i| if i < 4 { node(i) } else { EMPTY }).collect();
            let mut ranks = [f32::INFINITY; ROWS];
            (0..4).for_each(|i| ranks[i] = 100.0 - nodes[i] as f32 - ((from as usize + i) % 2) as f32 / 4.0);
            let below = (0..4).filter(|i| ranks[*i] < pool.worst).fold(0, |set, i| set | 1 << i);
            let nodes = nodes.first_chunk().unwrap();
            pool.enter(Kernels::best(), below, nodes, &ranks);
        }
        let mut rows: Vec<u32> = pool.into_rows(Kernels::best(), 3).iter().map(|n| n.row).collect();
        rows.sort();
        assert_eq!(rows, [29, 30, 31]);
    }

    #[test]
    fn a_pool_keeps_the_nearest_of_any_number_of_nodes() {
        for n in [1usize, 31, 32, 33, 100, 1000] {
            for wanted in [1usize, 5, 40, 2000] {
                let nodes: Vec<u32> = (0..n as u32).map(|i| i * 7919 % 100_003).collect();
                let ranks: Vec<f32> = nodes.iter().map(|node| (node * 31 % 977) as f32).collect();
                let mut pool = Pool::new(wanted, 1);
                pool.offer(Kernels::best(), &nodes, &ranks);
                let mut all: Vec<f32> = ranks.clone();
                all.sort_by(f32::total_cmp);
                all.truncate(wanted);
                let found = pool.into_places(Kernels::best());
                let own = |at: &Neighbour| (at.row * 31 % 977) as f32;
                assert!(found.iter().all(|at| at.rank == own(at)), "{n} {wanted}");
                let mut found: Vec<f32> = found.iter().map(|at| at.rank).collect();
                found.sort_by(f32::total_cmp);
                assert_eq!(found, all, "{n} {wanted}");
            }
        }
    }

    #[test]
    fn infinite_ranks_enter_as_long_as_there_is_room() {
        let mut pool = Pool::new(40, 1);
        let nodes: Vec<u32> = (0..50).collect();
        pool.offer(Kernels::best(), &nodes, &[f32::INFINITY; 50]);
        assert!(pool.into_places(Kernels::best()).len() >= 40);
    }
}
