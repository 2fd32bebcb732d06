//! Building a graph: insertion in order, neighbours by the paper's heuristic, on several threads.
//!
//! Lists under construction are atomics: a reader may see a list half old, half new, which is
//! harmless because every entry is a valid node. Writers of one list take its lock. A node's own
//! lists are complete on all layers before any other node points to it, so a walk never enters a
//! node that leads nowhere.
//!
//! Some nodes are held out until all others are linked: see [`crate::index::held_out`].
//!
//! Two things the paper leaves open. Equal vectors: a kept copy of the base is as near to every
//! candidate as the base itself and would drop them all, so copies drop nobody, and one copy is kept.
//! Lost nodes: a node whose one kept neighbour later drops it can be reached from nowhere; after the
//! last insertion every such node is given a link from the nearest node that can be reached.

use crate::Metric;
use crate::index::build::crew::Crew;
use crate::index::description::Work;
use crate::index::graph::before::Before;
use crate::index::graph::walk::Graph;
use crate::index::graph::walk::Links;
use crate::index::graph::walk::Lists;
use crate::index::graph::walk::NONE;
use crate::index::graph::walk::Scratch;
use crate::index::graph::walk::Space;
use crate::index::graph::walk::Walker;
use crate::index::graph::walk::reach;
use crate::index::progress::BuildError;
use crate::index::store::prepared::PreparedQuery;
use crate::index::store::rows::Rows;
use crate::kernels::Kernels;
use crate::recipe::GraphRecipe;
use crate::scan::Neighbour;
use crate::tensors::Tensor;
use fixedbitset::FixedBitSet;
use parking_lot::{Mutex, RwLock};
use rand::{Rng, SeedableRng};
use std::sync::atomic::{AtomicU32, AtomicUsize, Ordering};

const MAX_LEVEL: usize = 24;

struct Builder<'a> {
    dimensions: usize,
    euclidean: bool,
    space: Space<'a>,
    links: usize,
    build: usize,
    level: Vec<u8>,
    upper_start: Vec<u32>,
    ground: Vec<AtomicU32>,
    upper: Vec<AtomicU32>,
    locks: Vec<Mutex<()>>,
    /// The node all walks start from: one of the highest inserted so far.
    entry: RwLock<u32>,
    /// Who became whose neighbour on the ground, in order, while the held-out nodes are inserted: node and newcomer.
    noted: Option<Mutex<Vec<[u32; 2]>>>,
}

/// A graph over some of the rows, to be kept as far as it goes.
pub(crate) struct Previous<'a> {
    pub(crate) graph: &'a Graph,
    /// For each of its nodes the node it is now, or [`NONE`]. Those that stay come first and in order.
    pub(crate) now: &'a [u32],
    /// How many stay.
    pub(crate) kept: usize,
}

/// Builds a graph over `rows` (f32, or int8 that stand for them), from the beginning or from a previous one.
pub(crate) fn graph(
    crew: &Crew<'_>,
    rows: &Rows,
    dimensions: usize,
    metric: Metric,
    (recipe, seed): (GraphRecipe, u64),
    previous: Option<Previous<'_>>,
    held_out: &FixedBitSet,
) -> Result<Graph, BuildError> {
    let n = rows.n_rows(dimensions);
    let Crew { progress, kernels, .. } = *crew;
    let kept = previous.as_ref().map_or(0, |p| p.kept);
    progress.begin("linking", n - kept);
    let space = Space { kernels, rows, nodes: n };
    let mut level = levels(n, recipe, seed);
    if let Some(p) = &previous {
        for (node, now) in p.now.iter().enumerate().filter(|(_, now)| **now != NONE) {
            level[*now as usize] = p.graph.level[node];
        }
    }
    let mut lists = 0u32;
    let upper_start = level
        .iter()
        .map(|&l| {
            let start = lists;
            lists += u32::from(l);
            start
        })
        .collect();
    let empty = |len| (0..len).map(|_| AtomicU32::new(NONE)).collect::<Vec<_>>();
    let first = match &previous {
        Some(p) if p.kept > 0 => match p.now[p.graph.entry as usize] {
            NONE => (0..p.kept as u32).max_by_key(|n| level[*n as usize]).unwrap_or(0),
            entry => entry,
        },
        // A flat graph has no layers to lead it: it starts in the middle of the data. The first node
        // inserted is the entry until a higher one arrives.
        _ if recipe.layers => (0..n as u32).find(|node| !held_out.contains(*node as usize)).unwrap_or(0),
        _ => rows.most_central(kernels, dimensions, metric == Metric::Euclidean, held_out),
    };
    let mut builder = Builder {
        dimensions,
        euclidean: metric == Metric::Euclidean,
        space,
        links: recipe.links,
        build: recipe.build,
        upper_start,
        ground: empty(n * 2 * recipe.links),
        upper: empty(lists as usize * recipe.links),
        locks: (0..n).map(|_| Mutex::new(())).collect(),
        entry: RwLock::new(first),
        level,
        noted: None,
    };
    if let Some(p) = &previous {
        crew.pieces(p.now.len(), 256, |piece| piece.for_each(|node| builder.keep(p, node as u32)))?;
    }
    let (last, others): (Vec<u32>, Vec<u32>) =
        (kept as u32..n as u32).partition(|node| held_out.contains(*node as usize));
    builder.insert_all(&others, first, crew)?;
    builder.rescue(crew, held_out);
    crew.check()?;
    let before = (!last.is_empty()).then(|| builder.state());
    builder.noted = Some(Mutex::default());
    builder.insert_all(&last, first, crew)?;
    if !last.is_empty() {
        builder.rescue(crew, &FixedBitSet::new());
        crew.check()?;
    }
    builder.finished(before.map(|before| (last, before)))
}

/// Draws each node's highest layer: geometric, thinning by `links` from layer to layer.
fn levels(n: usize, recipe: GraphRecipe, seed: u64) -> Vec<u8> {
    if !recipe.layers {
        return vec![0; n];
    }
    let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
    let scale = 1.0 / (recipe.links as f64).ln();
    (0..n)
        .map(|_| {
            let uniform: f64 = 1.0 - rng.random::<f64>();
            (-uniform.ln() * scale).min(MAX_LEVEL as f64) as u8
        })
        .collect()
}

impl Links for Builder<'_> {
    fn neighbours(&self, node: u32, layer: usize, out: &mut Vec<u32>) {
        let before = out.len();
        out.extend(self.list(node, layer).iter().map(|n| n.load(Ordering::Relaxed)));
        // What lies behind the end may be what another thread has not taken away yet.
        let end = out[before..].iter().position(|n| *n == NONE);
        out.truncate(end.map_or(out.len(), |end| before + end));
    }

    #[inline]
    fn prefetch(&self, kernels: &Kernels, node: u32, layer: usize) {
        if layer == 0 {
            kernels.prefetch(self.list(node, 0));
        }
    }
}

/// All links at one moment.
struct State {
    entry: u32,
    ground: Vec<u32>,
    upper: Vec<u32>,
}

fn loaded(places: &[AtomicU32]) -> Vec<u32> {
    places.iter().map(|node| node.load(Ordering::Relaxed)).collect()
}

/// Appends a list of neighbours in so many bytes each, and where it ends among the numbers.
fn append(
    list: &[u32],
    width: usize,
    nodes: usize,
    (starts, ground): (&mut Vec<u32>, &mut Vec<u8>),
) -> Result<(), BuildError> {
    let list = list.iter().take_while(|node| **node != NONE);
    list.for_each(|node| ground.extend(&node.to_le_bytes()[..width]));
    let end = ground.len() / width;
    starts.push(u32::try_from(end).map_err(|_| BuildError::TooManyLinks { rows: nodes })?);
    Ok(())
}

impl Builder<'_> {
    /// Inserts nodes, but for the one all walks start from.
    fn insert_all(&self, nodes: &[u32], first: u32, crew: &Crew<'_>) -> Result<(), BuildError> {
        let next = AtomicUsize::new(0);
        std::thread::scope(|scope| {
            for _ in 0..crew.threads.max(1).min(nodes.len().max(1)) {
                scope.spawn(|| {
                    let mut scratch = Scratch::default();
                    while crew.progress.goes_on()
                        && let Some(&node) = nodes.get(next.fetch_add(1, Ordering::Relaxed))
                    {
                        if node != first {
                            self.insert(node, &mut scratch);
                        }
                        crew.progress.done.fetch_add(1, Ordering::Relaxed);
                    }
                });
            }
        });
        crew.check()
    }

    fn state(&self) -> State {
        State { entry: *self.entry.read(), ground: loaded(&self.ground), upper: loaded(&self.upper) }
    }

    /// The graph, and where some nodes were inserted last, what it was before that.
    fn finished(self, before: Option<(Vec<u32>, State)>) -> Result<Graph, BuildError> {
        let (n, links) = (self.level.len(), self.links);
        let width = Graph::width(n);
        let State { entry, ground: now, upper } = self.state();
        let (mut starts, mut ground) = (vec![0], Vec::new());
        for list in now.chunks(2 * links) {
            append(list, width, n, (&mut starts, &mut ground))?;
        }
        let before = match before {
            None => None,
            Some((held_out, was)) => {
                let adds = self.noted.map(Mutex::into_inner).unwrap_or_default();
                let (mut nodes, mut starts, mut ground) = (Vec::new(), vec![0], Vec::new());
                let lists = was.ground.chunks(2 * links).zip(now.chunks(2 * links)).zip(0..);
                for ((was, _), node) in lists.filter(|((was, now), _)| was != now) {
                    nodes.push(node);
                    append(was, width, n, (&mut starts, &mut ground))?;
                }
                let changed = was.upper.chunks(links).zip(upper.chunks(links)).zip(0u32..);
                let changed: Vec<(&[u32], u32)> = changed
                    .filter(|((was, now), _)| was != now)
                    .map(|((was, _), list)| (was, list))
                    .collect();
                Some(Before {
                    held_out: held_out.into(),
                    adds: adds.concat().into(),
                    entry: was.entry,
                    nodes: nodes.into(),
                    starts: starts.into(),
                    ground: ground.into(),
                    lists: changed.iter().map(|(_, list)| *list).collect::<Vec<u32>>().into(),
                    upper: changed
                        .iter()
                        .flat_map(|(was, _)| was.iter().copied())
                        .collect::<Vec<u32>>()
                        .into(),
                })
            }
        };
        let lists = (Lists::Starts(starts.into()), Tensor::on_lines(&[ground]));
        let mut graph = Graph::new(links, entry, self.level.into(), lists, upper.into());
        graph.before = before;
        Ok(graph)
    }

    #[inline]
    fn rank(&self, a: u32, b: u32) -> f32 {
        self.space.rows.rank_pair(self.space.kernels, a, b, self.dimensions, self.euclidean)
    }

    fn ask(&self, node: u32) -> PreparedQuery<'_> {
        self.space.rows.ask_row(node, self.dimensions, self.euclidean)
    }

    /// Takes over a node of a previous graph. In the place of neighbours that are gone come the neighbours of those.
    fn keep(&self, previous: &Previous<'_>, node: u32) {
        let now = previous.now[node as usize];
        if now == NONE {
            return;
        }
        let (mut list, mut beyond) = (Vec::new(), Vec::new());
        for layer in 0..=self.level[now as usize] as usize {
            list.clear();
            previous.graph.neighbours(node, layer, &mut list);
            let gone: Vec<u32> = list.iter().copied().filter(|n| previous.now[*n as usize] == NONE).collect();
            let mut rows: Vec<u32> =
                list.iter().map(|n| previous.now[*n as usize]).filter(|n| *n != NONE).collect();
            if !gone.is_empty() {
                for gone in gone {
                    beyond.clear();
                    previous.graph.neighbours(gone, layer, &mut beyond);
                    rows.extend(
                        beyond.iter().map(|n| previous.now[*n as usize]).filter(|n| *n != NONE && *n != now),
                    );
                }
                rows.sort_unstable();
                rows.dedup();
                let mut all: Vec<Neighbour> =
                    rows.iter().map(|row| Neighbour { rank: self.rank(now, *row), row: *row }).collect();
                all.sort();
                rows = self.choose(now, &all, self.list(now, layer).len()).iter().map(|n| n.row).collect();
            }
            for (place, row) in self.list(now, layer).iter().zip(rows) {
                place.store(row, Ordering::Relaxed);
            }
        }
    }

    fn list(&self, node: u32, layer: usize) -> &[AtomicU32] {
        if layer == 0 {
            &self.ground[node as usize * 2 * self.links..][..2 * self.links]
        } else {
            let at = (self.upper_start[node as usize] as usize + layer - 1) * self.links;
            &self.upper[at..][..self.links]
        }
    }

    fn insert(&self, node: u32, scratch: &mut Scratch) {
        let level = self.level[node as usize] as usize;
        let entry = *self.entry.read();
        let top = self.level[entry as usize] as usize;
        let asked = self.ask(node);
        let mut walker =
            Walker { space: &self.space, query: &asked, heads: None, scratch, work: Work::default() };
        let mut at = vec![walker.rank(entry)];
        for layer in (level + 1..=top).rev() {
            at = walker.walk_layer(self, &at, 1, layer);
        }
        let mut chosen = Vec::with_capacity(level + 1);
        for layer in (0..=level.min(top)).rev() {
            at = walker.walk_layer(self, &at, self.build, layer);
            chosen.push((layer, self.choose(node, &at, self.links)));
        }
        for (layer, neighbours) in &chosen {
            for (place, neighbour) in self.list(node, *layer).iter().zip(neighbours) {
                place.store(neighbour.row, Ordering::Relaxed);
            }
        }
        for (layer, neighbours) in &chosen {
            for neighbour in neighbours {
                self.add(neighbour.row, Neighbour { rank: neighbour.rank, row: node }, *layer);
            }
        }
        if level > top {
            let mut highest = self.entry.write();
            if level > self.level[*highest as usize] as usize {
                *highest = node;
            }
        }
    }

    /// Gives `node` one more neighbour, dropping the least useful when its list is full.
    fn add(&self, node: u32, new: Neighbour, layer: usize) {
        let _writing = self.locks[node as usize].lock();
        if let Some(noted) = self.noted.as_ref().filter(|_| layer == 0) {
            noted.lock().push([node, new.row]);
        }
        let list = self.list(node, layer);
        if let Some(free) = list.iter().find(|n| n.load(Ordering::Relaxed) == NONE) {
            free.store(new.row, Ordering::Relaxed);
            return;
        }
        let mut all: Vec<Neighbour> = list
            .iter()
            .map(|n| n.load(Ordering::Relaxed))
            .map(|row| Neighbour { rank: self.rank(node, row), row })
            .collect();
        all.push(new);
        all.sort();
        let kept = self.choose(node, &all, list.len());
        for (i, place) in list.iter().enumerate() {
            place.store(kept.get(i).map_or(NONE, |n| n.row), Ordering::Relaxed);
        }
    }

    fn choose(&self, base: u32, candidates: &[Neighbour], most: usize) -> Vec<Neighbour> {
        let own = self.rank(base, base);
        let slack = self.space.rows.slack(base, own);
        choose(|a, b| self.rank(a, b), (own, slack), candidates, most)
    }

    /// Gives every node that cannot be reached a link from the nearest node that can, but for those not inserted yet.
    fn rescue(&self, crew: &Crew<'_>, not_yet: &FixedBitSet) {
        let n = self.level.len();
        // A link that makes room may have been somebody's only one, hence several rounds.
        for _ in 0..16 {
            let mut seen = FixedBitSet::with_capacity(n);
            if n > 0 {
                reach(self, &self.level, *self.entry.read(), &mut seen);
            }
            let lost = seen.zeroes().filter(|node| !not_yet.contains(*node));
            let lost: Vec<u32> = lost.map(|node| node as u32).collect();
            if lost.is_empty() || crew.progress.is_cancelled() {
                return;
            }
            // Only links from nodes that can be reached count: lost ones often point to each other.
            let mut incoming = vec![0u32; n];
            for node in seen.ones() {
                let list = self.list(node as u32, 0).iter().map(|l| l.load(Ordering::Relaxed));
                list.filter(|&to| to != NONE).for_each(|to| incoming[to as usize] += 1);
            }
            let mut scratch = Scratch::default();
            for node in lost {
                if !seen.contains(node as usize) && self.lead_to(node, &mut incoming, &mut scratch) {
                    reach(self, &self.level, node, &mut seen);
                }
            }
        }
    }

    /// Lets `node` lead to the neighbour whose place it took, so that whatever could be reached still can be.
    fn pass_on(&self, node: u32, neighbour: u32, incoming: &mut [u32]) {
        let list = self.list(node, 0);
        if list.iter().any(|l| l.load(Ordering::Relaxed) == neighbour) {
            return;
        }
        let farthest = || {
            list.iter().max_by_key(|l| {
                let row = l.load(Ordering::Relaxed);
                Neighbour { rank: self.rank(node, row), row }
            })
        };
        let free = list.iter().find(|l| l.load(Ordering::Relaxed) == NONE);
        if let Some(place) = free.or_else(farthest) {
            place.store(neighbour, Ordering::Relaxed);
            incoming[neighbour as usize] += 1;
        }
    }

    /// Links some node near `node` to it: in a free place, or in that of its farthest neighbour, best of one
    /// that others lead to as well.
    fn lead_to(&self, node: u32, incoming: &mut [u32], scratch: &mut Scratch) -> bool {
        let entry = *self.entry.read();
        let asked = self.ask(node);
        let mut walker =
            Walker { space: &self.space, query: &asked, heads: None, scratch, work: Work::default() };
        let mut at = vec![walker.rank(entry)];
        for layer in (1..=self.level[entry as usize] as usize).rev() {
            at = walker.walk_layer(self, &at, 1, layer);
        }
        for near in walker.walk_layer(self, &at, self.build, 0) {
            let list = self.list(near.row, 0);
            let place = match list.iter().find(|l| l.load(Ordering::Relaxed) == NONE) {
                Some(free) => Some(free),
                None => list.iter().max_by_key(|l| {
                    let row = l.load(Ordering::Relaxed);
                    (incoming[row as usize] > 1, Neighbour { rank: self.rank(near.row, row), row })
                }),
            };
            if let Some(place) = place.filter(|_| near.row != node) {
                let gone = place.swap(node, Ordering::Relaxed);
                incoming[node as usize] += 1;
                if gone != NONE {
                    incoming[gone as usize] = incoming[gone as usize].saturating_sub(1);
                    self.pass_on(node, gone, incoming);
                }
                return true;
            }
        }
        false
    }
}

/// The paper's heuristic: of candidates sorted by nearness, keep those that are nearer to the
/// base than to any neighbour kept before, so that links point in different directions. `own` is the base's rank to
/// itself, and `slack` by how much that of a copy may differ.
pub(crate) fn choose(
    mut rank: impl FnMut(u32, u32) -> f32,
    (own, slack): (f32, f32),
    candidates: &[Neighbour],
    most: usize,
) -> Vec<Neighbour> {
    let is_copy = |n: &Neighbour| (n.rank - own).abs() <= slack;
    let mut kept: Vec<Neighbour> = Vec::with_capacity(most);
    let mut copies = 0;
    for &candidate in candidates {
        if kept.len() == most {
            break;
        }
        if is_copy(&candidate) {
            copies += 1;
            if copies == 1 {
                kept.push(candidate);
            }
            continue;
        }
        let different = |k: &Neighbour| is_copy(k) || rank(candidate.row, k.row) > candidate.rank;
        if kept.iter().all(different) {
            kept.push(candidate);
        }
    }
    kept
}
