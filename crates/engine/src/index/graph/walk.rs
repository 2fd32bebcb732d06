//! A layered proximity graph and the walks over it.
//!
//! After Malkov and Yashunin, "Efficient and robust approximate nearest neighbor search using
//! hierarchical navigable small world graphs" (2016; TPAMI 2020): sparse upper layers lead to an
//! entry of the ground layer, where a best-first walk keeps the `beam` nearest nodes found so far.

use crate::index::description::Work;
use crate::index::graph::before::Before;
use crate::index::graph::heads::Heads;
use crate::index::graph::heads::Question;
use crate::index::picks::Picks;
use crate::index::store::prepared::PreparedQuery;
use crate::index::store::rows::Rows;
use crate::kernels::Kernels;
use crate::scan::Neighbour;
use crate::tensors::Tensor;
use crate::until::Until;
use fixedbitset::FixedBitSet;

/// Fills unused places of a neighbour list.
pub(crate) const NONE: u32 = u32::MAX;

/// The finished graph.
pub(crate) struct Graph {
    pub(crate) links: usize,
    pub(crate) entry: u32,
    /// The highest layer of each node; 0 is the ground.
    pub(crate) level: Tensor<u8>,
    pub(crate) lists: Lists,
    /// Up to `2 * links` neighbours of each node on the ground layer, two thirds of that on real embeddings, in
    /// numbers of [`Graph::width`] bytes.
    pub(crate) ground: Tensor<u8>,
    /// `[lists, links]`: neighbours on layers 1, 2, ... of each node that has them. A list ends at the first [`NONE`].
    pub(crate) upper: Tensor<u32>,
    /// The links as they were before the held-out nodes were inserted.
    pub(crate) before: Option<Before>,
    /// For every [`STRETCH`] nodes where the first one's upper lists begin, counted in lists of `links`.
    upper_start: Vec<u32>,
}

/// Where lists of neighbours on the ground layer are.
pub(crate) enum Lists {
    /// `[n + 1]`: where those of a node begin, and those of the one before end.
    Starts(Tensor<u32>),
    Heads(Heads),
}

/// Nodes whose layers are added up to find a node's upper lists.
const STRETCH: usize = 64;

/// The vectors a graph connects, as they are kept.
pub(crate) struct Space<'a> {
    pub(crate) kernels: &'a Kernels,
    pub(crate) rows: &'a Rows,
    pub(crate) nodes: usize,
}

/// Anything with neighbour lists: the finished graph, or one under construction.
pub(crate) trait Links {
    /// Appends the neighbours of `node` on `layer` to `out`.
    fn neighbours(&self, node: u32, layer: usize, out: &mut Vec<u32>);

    /// Calls the neighbours of `node` into the caches, for a step that will come soon.
    fn prefetch(&self, kernels: &Kernels, node: u32, layer: usize);
}

impl Links for Graph {
    #[inline]
    fn neighbours(&self, node: u32, layer: usize, out: &mut Vec<u32>) {
        if layer == 0 {
            self.ground().neighbours(node, 0, out);
        } else {
            let at = (self.first_upper(node) + layer - 1) * self.links;
            out.extend(self.upper[at..][..self.links].iter().take_while(|&&n| n != NONE));
        }
    }

    #[inline]
    fn prefetch(&self, kernels: &Kernels, node: u32, layer: usize) {
        if layer == 0 {
            self.ground().prefetch(kernels, node, 0);
        }
    }
}

/// The ground layer of a graph, laid open for a walk.
#[derive(Clone, Copy)]
pub(crate) struct Ground<'a> {
    lists: Where<'a>,
    numbers: &'a [u8],
    width: usize,
}

#[derive(Clone, Copy)]
enum Where<'a> {
    Starts(&'a [u32]),
    Heads(&'a Heads, &'a [u64]),
}

impl<'a> Ground<'a> {
    #[inline]
    pub(crate) fn bytes(&self, node: u32) -> &'a [u8] {
        let (start, len) = match self.lists {
            Where::Starts(starts) => {
                let starts = &starts[node as usize..][..2];
                (starts[0] as usize, (starts[1] - starts[0]) as usize)
            }
            Where::Heads(heads, records) => heads.list(records, node),
        };
        &self.numbers[self.width * start..][..self.width * len]
    }

    #[inline]
    pub(crate) fn of(&self, node: u32) -> impl Iterator<Item = u32> + use<'a> {
        self.bytes(node).chunks_exact(self.width).map(node_number)
    }
}

/// A node's number as it is written in three or four bytes.
#[inline]
pub(crate) fn node_number(bytes: &[u8]) -> u32 {
    u32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes.get(3).copied().unwrap_or(0)])
}

impl Links for Ground<'_> {
    #[inline]
    fn neighbours(&self, node: u32, _layer: usize, out: &mut Vec<u32>) {
        let bytes = self.bytes(node);
        if self.width == 3 {
            out.extend(bytes.as_chunks().0.iter().map(|[a, b, c]| u32::from_le_bytes([*a, *b, *c, 0])));
        } else {
            out.extend(bytes.as_chunks().0.iter().map(|number| u32::from_le_bytes(*number)));
        }
    }

    #[inline]
    fn prefetch(&self, kernels: &Kernels, node: u32, _layer: usize) {
        kernels.prefetch(self.bytes(node));
    }
}

/// The nearest nodes found, nearest first, and whether each is still to be opened. Ranks lie together, so that a place among them is found without a branch.
#[derive(Default)]
struct Beam {
    ranks: Vec<f32>,
    nodes: Vec<(u32, bool)>,
}

impl Beam {
    fn clear(&mut self) {
        self.ranks.clear();
        self.nodes.clear();
    }

    /// Puts a node in its place, and drops the last one of a full beam.
    #[inline]
    fn insert(&mut self, at: Neighbour, most: usize) -> usize {
        // In a long list the right stretch first.
        const STRETCH: usize = 64;
        let mut place = 0;
        while place + STRETCH <= self.ranks.len() && self.ranks[place + STRETCH - 1] < at.rank {
            place += STRETCH;
        }
        let some = &self.ranks[place..self.ranks.len().min(place + STRETCH)];
        place += some.iter().map(|rank| u32::from(*rank < at.rank)).sum::<u32>() as usize;
        // Of equal ones the lower number first.
        while self.ranks.get(place) == Some(&at.rank) && self.nodes[place].0 < at.row {
            place += 1;
        }
        if self.ranks.len() == most {
            self.ranks.pop();
            self.nodes.pop();
        }
        self.ranks.insert(place, at.rank);
        self.nodes.insert(place, (at.row, true));
        place
    }

    fn all(&self) -> Vec<Neighbour> {
        self.ranks.iter().zip(&self.nodes).map(|(&rank, &(row, _))| Neighbour { rank, row }).collect()
    }
}

/// Memory that walks reuse: visited marks, the beam, small buffers.
#[derive(Default)]
pub struct Scratch {
    /// A bit for each node that was seen.
    marks: Vec<u64>,
    /// The nodes whose bit may be set: the first so many of these.
    marked: Vec<u32>,
    n_marked: usize,
    beam: Beam,
    fresh: Vec<u32>,
    ranks: Vec<f32>,
    /// When walks must end, with what they have.
    pub(crate) until: Until,
    opened: u32,
    ended: bool,
    /// For searches under a filter.
    pub(crate) picks: Picks,
}

impl Scratch {
    pub(crate) fn begin(&mut self, n: usize) {
        let words = n.div_ceil(64);
        if self.marks.len() != words || self.n_marked > words {
            self.marks.clear();
            self.marks.resize(words, 0);
        } else {
            self.marked[..self.n_marked].iter().for_each(|node| self.marks[*node as usize / 64] = 0);
        }
        self.n_marked = 0;
        self.ended = false;
        self.beam.clear();
    }

    /// Opens the first open node from `cursor` on among the first so many, and leaves the cursor behind it.
    #[inline]
    pub(crate) fn open(&mut self, cursor: &mut usize, beam: usize) -> Option<Neighbour> {
        // The clock is asked now and then.
        self.opened = self.opened.wrapping_add(1);
        self.ended |= self.opened.is_multiple_of(16) && self.until.is_over();
        if self.ended {
            return None;
        }
        let until = beam.min(self.beam.nodes.len());
        while *cursor < until {
            let at = *cursor;
            *cursor += 1;
            let (row, open) = &mut self.beam.nodes[at];
            if std::mem::replace(open, false) {
                return Some(Neighbour { rank: self.beam.ranks[at], row: *row });
            }
        }
        None
    }

    /// The nodes of the beam that were not opened.
    pub(crate) fn unopened(&self, out: &mut Vec<u32>) {
        out.extend(self.beam.nodes.iter().filter(|(_, open)| *open).map(|(row, _)| *row));
    }

    fn takes(&self, rank: f32, beam: usize) -> bool {
        self.beam.ranks.len() < beam || rank < self.worst(beam)
    }

    /// The rank that a newcomer to a beam of this length must beat.
    #[inline]
    pub(crate) fn worst(&self, beam: usize) -> f32 {
        self.beam.ranks.get(beam - 1).copied().unwrap_or(f32::INFINITY)
    }

    /// Puts a node in its place, and drops the last one of a full beam.
    #[inline]
    pub(crate) fn insert(&mut self, at: Neighbour, beam: usize) -> usize {
        self.beam.insert(at, beam)
    }

    /// Puts those of 32 nodes whose bit is set and that were not seen into the beam; returns the first place taken.
    #[inline]
    pub(crate) fn enter(&mut self, mut set: u32, nodes: &[u32; 32], ranks: &[f32; 32], beam: usize) -> usize {
        // Most were seen, which no branch could guess.
        let (mut fresh, mut n) = ([0u8; 32], 0);
        while set != 0 {
            let slot = set.trailing_zeros();
            set &= set - 1;
            fresh[n & 31] = slot as u8;
            n += usize::from(self.mark(nodes[slot as usize & 31]));
        }
        let (mut first, mut worst) = (usize::MAX, self.worst(beam));
        for &slot in &fresh[..n.min(32)] {
            let (rank, row) = (ranks[usize::from(slot) & 31], nodes[usize::from(slot) & 31]);
            if rank < worst {
                first = first.min(self.insert(Neighbour { rank, row }, beam));
                worst = self.worst(beam);
            }
        }
        first
    }

    /// Leaves those of some nodes that are seen for the first time in this walk.
    #[inline]
    fn mark_all(&mut self, nodes: &mut Vec<u32>) {
        let mut n = 0;
        for i in 0..nodes.len() {
            let node = nodes[i];
            let (word, bit) = (&mut self.marks[node as usize / 64], 1 << (node % 64));
            // Most were seen or not with even chances, which no branch could guess.
            nodes[n] = node;
            n += usize::from(*word & bit == 0);
            *word |= bit;
        }
        nodes.truncate(n);
        if self.marked.len() < self.n_marked + n {
            self.marked.resize(2 * (self.n_marked + n), NONE);
        }
        self.marked[self.n_marked..][..n].copy_from_slice(nodes);
        self.n_marked += n;
    }

    /// True the first time a node is seen in this walk.
    #[inline]
    pub(crate) fn mark(&mut self, node: u32) -> bool {
        let (word, bit) = (&mut self.marks[node as usize / 64], 1 << (node % 64));
        let fresh = *word & bit == 0;
        *word |= bit;
        // Most were seen or not with even chances, which no branch could guess.
        if self.n_marked == self.marked.len() {
            self.marked.resize(2 * self.n_marked + 64, NONE);
        }
        self.marked[self.n_marked] = node;
        self.n_marked += usize::from(fresh);
        fresh
    }
}

/// One query on its way through a graph.
pub(crate) struct Walker<'a> {
    pub(crate) space: &'a Space<'a>,
    pub(crate) query: &'a PreparedQuery<'a>,
    /// What tells which nodes need not be compared, and how it is asked.
    pub(crate) heads: Option<(&'a Heads, &'a Question)>,
    pub(crate) scratch: &'a mut Scratch,
    pub(crate) work: Work,
}

impl Walker<'_> {
    pub(crate) fn rank(&mut self, node: u32) -> Neighbour {
        self.work.distances += 1;
        let mut rank = [0.0];
        self.space.rows.rank_picked(self.space.kernels, self.query, 0.0, &[node], &mut rank);
        Neighbour { rank: rank[0], row: node }
    }

    /// Puts the not yet seen neighbours of `node` that may come into the beam into `fresh`, and their ranks into `ranks`.
    #[inline]
    fn open<L: Links>(&mut self, links: &L, node: u32, layer: usize, worst: f32) {
        let scratch = &mut *self.scratch;
        let mut fresh = std::mem::take(&mut scratch.fresh);
        fresh.clear();
        links.neighbours(node, layer, &mut fresh);
        scratch.mark_all(&mut fresh);
        scratch.fresh = fresh;
        self.work.hops += 1;
        self.rank_fresh(worst);
    }

    /// Ranks what is in `fresh`, but for what cannot be better than the worst: that is dropped.
    #[inline]
    fn rank_fresh(&mut self, worst: f32) {
        let (kernels, scratch) = (self.space.kernels, &mut *self.scratch);
        let (fresh, ranks) = (&mut scratch.fresh, &mut scratch.ranks);
        self.work.distances += fresh.len();
        if ranks.len() < fresh.len() {
            ranks.resize(fresh.len(), 0.0);
        }
        if let (Some((heads, asked)), true) = (self.heads, worst < f32::INFINITY) {
            heads.rank_picked(kernels, asked, fresh, &mut ranks[..fresh.len()]);
            let mut n = 0;
            for (i, rank) in ranks[..fresh.len()].iter().enumerate() {
                fresh[n] = fresh[i];
                n += usize::from(*rank < worst);
            }
            fresh.truncate(n);
        }
        self.space.rows.rank_picked(kernels, self.query, 0.0, fresh, &mut ranks[..fresh.len()]);
    }

    /// Walks one layer from `entries`, keeping the `beam` nearest nodes; returns them nearest first.
    pub(crate) fn walk_layer<L: Links>(
        &mut self,
        links: &L,
        entries: &[Neighbour],
        beam: usize,
        layer: usize,
    ) -> Vec<Neighbour> {
        self.scratch.begin(self.space.nodes);
        for &at in entries {
            if self.scratch.takes(at.rank, beam) && self.scratch.mark(at.row) {
                self.scratch.insert(at, beam);
            }
        }
        let mut cursor = 0;
        while let Some(next) = self.scratch.open(&mut cursor, beam) {
            let mut worst = self.scratch.worst(beam);
            self.open(links, next.row, layer, worst);
            let fresh = std::mem::take(&mut self.scratch.fresh);
            for (i, &row) in fresh.iter().enumerate() {
                let rank = self.scratch.ranks[i];
                if rank < worst {
                    links.prefetch(self.space.kernels, row, layer);
                    let place = self.scratch.insert(Neighbour { rank, row }, beam);
                    cursor = cursor.min(place);
                    worst = self.scratch.worst(beam);
                }
            }
            self.scratch.fresh = fresh;
        }
        self.scratch.beam.all()
    }
}

impl Graph {
    pub(crate) fn new(
        links: usize,
        entry: u32,
        level: Tensor<u8>,
        (lists, ground): (Lists, Tensor<u8>),
        upper: Tensor<u32>,
    ) -> Graph {
        let mut n_lists = 0;
        let starts = level.chunks(STRETCH).map(|some| {
            let start = n_lists;
            n_lists += some.iter().map(|l| u32::from(*l)).sum::<u32>();
            start
        });
        let upper_start = starts.collect();
        Graph { links, entry, level, lists, ground, upper, before: None, upper_start }
    }

    /// Which list is that of a node's layer 1.
    #[inline]
    fn first_upper(&self, node: u32) -> usize {
        let (stretch, node) = (node as usize / STRETCH, node as usize);
        let before = &self.level[stretch * STRETCH..node];
        self.upper_start[stretch] as usize + before.iter().map(|l| usize::from(*l)).sum::<usize>()
    }

    pub(crate) fn n_bytes(&self) -> usize {
        let lists = match &self.lists {
            Lists::Starts(starts) => 4 * starts.len(),
            Lists::Heads(heads) => heads.n_bytes(),
        };
        self.level.len() + lists + self.ground.len() + 4 * (self.upper_start.len() + self.upper.len())
    }

    /// Lets heads say where lists are.
    pub(crate) fn adorn(&mut self, heads: &Heads) {
        if let Lists::Starts(starts) = &self.lists {
            self.lists = Lists::Heads(heads.noting(starts));
        }
    }

    pub(crate) fn heads(&self) -> Option<&Heads> {
        match &self.lists {
            Lists::Starts(_) => None,
            Lists::Heads(heads) => Some(heads),
        }
    }

    /// Bytes of a node's number in lists of the ground layer.
    pub(crate) fn width(nodes: usize) -> usize {
        if nodes <= 1 << 24 { 3 } else { 4 }
    }

    pub(crate) fn ground(&self) -> Ground<'_> {
        let lists = match &self.lists {
            Lists::Starts(starts) => Where::Starts(starts),
            Lists::Heads(heads) => Where::Heads(heads, &heads.records),
        };
        Ground { lists, numbers: &self.ground, width: Graph::width(self.level.len()) }
    }

    /// From the entry down to layer 1, each time to the nearest node found.
    pub(crate) fn descend(&self, walker: &mut Walker<'_>) -> Neighbour {
        let mut at = walker.rank(self.entry);
        for layer in (1..=self.level[self.entry as usize] as usize).rev() {
            at = walker.walk_layer(self, &[at], 1, layer).first().copied().unwrap_or(at);
        }
        at
    }

    pub(crate) fn walk(&self, walker: &mut Walker<'_>, k: usize, beam: usize) -> Vec<Neighbour> {
        let entry = self.descend(walker);
        let mut found = walker.walk_layer(&self.ground(), &[entry], beam, 0);
        found.truncate(k);
        found
    }

    /// Nodes that can be reached from the entry.
    pub(crate) fn reachable(&self) -> FixedBitSet {
        let mut seen = FixedBitSet::with_capacity(self.level.len());
        if !self.level.is_empty() {
            reach(self, &self.level, self.entry, &mut seen);
        }
        seen
    }
}

/// Adds to `seen` every node that can be reached from `node` and was not in it.
pub(crate) fn reach<L: Links>(links: &L, level: &[u8], node: u32, seen: &mut FixedBitSet) {
    let mut todo = vec![node];
    seen.insert(node as usize);
    let mut list = Vec::new();
    while let Some(node) = todo.pop() {
        for layer in 0..=level[node as usize] as usize {
            list.clear();
            links.neighbours(node, layer, &mut list);
            for &next in &list {
                if !seen.put(next as usize) {
                    todo.push(next);
                }
            }
        }
    }
}
