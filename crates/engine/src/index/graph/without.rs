//! A graph without some of its held-out nodes.
//!
//! What their insertion did to each list was noted in order, so that a list is made again without them: from what it was
//! before any held-out node came, with all others offered to it as they were then.

use crate::index::build::crew::Crew;
use crate::index::build::link::choose;
use crate::index::graph::before::Before;
use crate::index::graph::walk::{Graph, Lists, node_number, reach};
use crate::index::progress::BuildError;
use crate::scan::Neighbour;
use crate::tensors::Tensor;
use fixedbitset::FixedBitSet;
use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashMap, HashSet};

/// Nodes whose lists are made again together.
const TOGETHER: usize = 64;

impl Graph {
    /// The graph as it was before the held-out nodes were inserted: they keep their numbers, and nothing leads to them.
    pub(crate) fn without_held_out(&self) -> Option<Graph> {
        let before = self.before.as_ref()?;
        let mut withheld = FixedBitSet::with_capacity(self.level.len());
        before.held_out.iter().for_each(|node| withheld.insert(*node as usize));
        Some(self.relinked(before, &withheld, &before.changed(self)))
    }

    /// The graph as if some held-out nodes had never been inserted, and the nodes whose neighbours on the ground are others,
    /// in order. `build` is how many candidates an insertion looks at; `ranks` makes what tells the rank of two nodes, for
    /// some of them at a time.
    pub(crate) fn without<R: FnMut(u32, u32) -> f32>(
        &self,
        crew: &Crew<'_>,
        build: usize,
        withheld: &FixedBitSet,
        ranks: impl Fn() -> R + Sync,
    ) -> Result<(Graph, Vec<u32>), BuildError> {
        let Some(before) = &self.before else { return Ok((self.copied(), Vec::new())) };
        if before.held_out.iter().all(|node| withheld.contains(*node as usize)) {
            return Ok((self.relinked(before, withheld, &before.changed(self)), before.nodes.to_vec()));
        }
        let mut adds = Adds::new(before);
        let bereft = adds.bereft(withheld);
        crew.progress.begin("leaving records out", bereft.len());
        let chosen = crew.pieces(bereft.len(), TOGETHER, |piece| {
            let mut rank = ranks();
            let of = |node: &u32| (*node, self.chosen_again(&adds, withheld, (*node, build), &mut rank));
            bereft[piece].iter().map(of).collect::<Vec<_>>()
        })?;
        chosen.into_iter().flatten().for_each(|(node, list)| adds.choose_again(node, list));
        adds.offers.sort_unstable();
        let affected = adds.affected(withheld);
        crew.progress.begin("leaving records out", affected.len());
        let made = crew.pieces(affected.len(), TOGETHER, |piece| {
            let mut rank = ranks();
            let of = |node: &u32| (*node, self.again(&adds, withheld, *node, &mut rank));
            affected[piece].iter().map(of).collect::<Vec<_>>()
        })?;
        let mut lists: HashMap<u32, Vec<u32>> = made.into_iter().flatten().collect();
        // A link that made sure that a node is reached was not noted.
        let is_gone = |node: &u32| withheld.contains(*node as usize);
        for node in 0..self.level.len() as u32 {
            if !is_gone(&node) && self.ground().of(node).any(|next| is_gone(&next)) {
                let rest = || self.ground().of(node).filter(|next| !is_gone(next)).collect();
                lists.entry(node).or_insert_with(rest);
            }
        }
        let mut graph = self.relinked(before, withheld, &lists);
        if self.lead_to_lost(&graph, withheld, &mut lists) {
            graph = self.relinked(before, withheld, &lists);
        }
        let mut changed: Vec<u32> = lists.into_keys().collect();
        changed.sort_unstable();
        Ok((graph, changed))
    }

    /// What a held-out node would have chosen if some that it chose had not been there, of so many candidates.
    fn chosen_again(
        &self,
        adds: &Adds<'_>,
        withheld: &FixedBitSet,
        (node, build): (u32, usize),
        rank: &mut impl FnMut(u32, u32) -> f32,
    ) -> Vec<u32> {
        let came = adds.came(node);
        let was_there = |other: u32| adds.came(other).is_none_or(|then| Some(then) < came);
        let near = self.near(node, build, rank);
        let there = near.into_iter().filter(|n| was_there(n.row) && !withheld.contains(n.row as usize));
        best(node, &there.collect::<Vec<_>>(), self.links, rank)
    }

    /// About the nearest nodes to one, nearest first: a walk that begins there.
    fn near(&self, node: u32, beam: usize, rank: &mut impl FnMut(u32, u32) -> f32) -> Vec<Neighbour> {
        let mut seen = HashSet::from([node]);
        let mut open = BinaryHeap::from([Reverse(Neighbour { rank: f32::NEG_INFINITY, row: node })]);
        let mut found: BinaryHeap<Neighbour> = BinaryHeap::new();
        while let Some(Reverse(at)) = open.pop() {
            if found.len() == beam && found.peek().is_some_and(|worst| at > *worst) {
                break;
            }
            for next in self.ground().of(at.row) {
                if !seen.insert(next) {
                    continue;
                }
                let next = Neighbour { rank: rank(node, next), row: next };
                if found.len() < beam || found.peek().is_some_and(|worst| next < *worst) {
                    found.push(next);
                    open.push(Reverse(next));
                    if found.len() > beam {
                        found.pop();
                    }
                }
            }
        }
        found.into_sorted_vec()
    }

    /// The neighbours of a node as if some had never been offered to it.
    fn again(
        &self,
        adds: &Adds<'_>,
        withheld: &FixedBitSet,
        node: u32,
        rank: &mut impl FnMut(u32, u32) -> f32,
    ) -> Vec<u32> {
        let mut list: Vec<u32> = if adds.came(node).is_some() {
            adds.chosen.get(&node).cloned().unwrap_or_else(|| adds.chosen_by(node).to_vec())
        } else {
            adds.before.list(self, node)
        };
        for newcomer in adds.offered_to(node).filter(|newcomer| !withheld.contains(*newcomer as usize)) {
            if list.contains(&newcomer) {
                continue;
            }
            list.push(newcomer);
            if list.len() > 2 * self.links {
                let of = |row: &u32| Neighbour { rank: rank(node, *row), row: *row };
                let mut all: Vec<Neighbour> = list.iter().map(of).collect();
                all.sort();
                list = best(node, &all, 2 * self.links, rank);
            }
        }
        list
    }

    /// Lets a near neighbour lead to each node that nothing leads to any more, where one has room; tells whether any does.
    fn lead_to_lost(
        &self,
        graph: &Graph,
        withheld: &FixedBitSet,
        lists: &mut HashMap<u32, Vec<u32>>,
    ) -> bool {
        let mut seen = graph.reachable();
        let mut any = false;
        for node in 0..self.level.len() as u32 {
            if seen.contains(node as usize) || withheld.contains(node as usize) {
                continue;
            }
            let mut others = graph.ground().of(node).filter(|other| seen.contains(*other as usize));
            let from = others.find(|other| {
                lists.get(other).map_or_else(|| graph.ground().of(*other).count(), Vec::len) < 2 * self.links
            });
            if let Some(from) = from {
                let own = lists.entry(from).or_insert_with(|| graph.ground().of(from).collect());
                own.push(node);
                reach(graph, &graph.level, node, &mut seen);
                any = true;
            }
        }
        any
    }

    /// The graph with other lists on the ground for some nodes and none for some; further up as it was before any held-out
    /// node came.
    fn relinked(&self, before: &Before, withheld: &FixedBitSet, lists: &HashMap<u32, Vec<u32>>) -> Graph {
        let (n, width) = (self.level.len(), Graph::width(self.level.len()));
        let (mut starts, mut ground) = (Vec::with_capacity(n + 1), Vec::with_capacity(self.ground.len()));
        let now = self.ground();
        for node in 0..n as u32 {
            starts.push((ground.len() / width) as u32);
            if withheld.contains(node as usize) {
                continue;
            }
            match lists.get(&node) {
                Some(list) => list.iter().for_each(|next| ground.extend(&next.to_le_bytes()[..width])),
                None => ground.extend(now.bytes(node)),
            }
        }
        starts.push((ground.len() / width) as u32);
        let mut upper = self.upper.to_vec();
        for (list, was) in before.lists.iter().zip(before.upper.chunks(self.links)) {
            upper[*list as usize * self.links..][..self.links].copy_from_slice(was);
        }
        let lists = (Lists::Starts(starts.into()), Tensor::on_lines(&[ground]));
        let mut graph = Graph::new(self.links, before.entry, self.level.to_vec().into(), lists, upper.into());
        self.heads().into_iter().for_each(|heads| graph.adorn(heads));
        graph
    }

    /// A copy that shares nothing.
    pub(crate) fn copied(&self) -> Graph {
        let lists = match &self.lists {
            Lists::Starts(starts) => Lists::Starts(starts.to_vec().into()),
            Lists::Heads(heads) => Lists::Heads(heads.copied()),
        };
        let ground = Tensor::on_lines(&[self.ground.to_vec()]);
        let (level, upper) = (self.level.to_vec().into(), self.upper.to_vec().into());
        Graph::new(self.links, self.entry, level, (lists, ground), upper)
    }
}

impl Before {
    /// The lists that changed since.
    fn changed(&self, graph: &Graph) -> HashMap<u32, Vec<u32>> {
        self.nodes.iter().map(|node| (*node, self.list(graph, *node))).collect()
    }

    /// The neighbours of a node on the ground before the held-out nodes came to `graph`.
    fn list(&self, graph: &Graph, node: u32) -> Vec<u32> {
        let Ok(i) = self.nodes.binary_search(&node) else { return graph.ground().of(node).collect() };
        let width = Graph::width(graph.level.len());
        let (from, to) = (self.starts[i] as usize, self.starts[i + 1] as usize);
        let numbers = self.ground[from * width..to * width].chunks_exact(width);
        numbers.map(node_number).collect()
    }
}

/// The neighbours that the heuristic keeps of some candidates, nearest first.
fn best(
    node: u32,
    candidates: &[Neighbour],
    most: usize,
    rank: &mut impl FnMut(u32, u32) -> f32,
) -> Vec<u32> {
    let own = rank(node, node);
    choose(rank, (own, 1e-6 * own.abs()), candidates, most).into_iter().map(|n| n.row).collect()
}

/// Who was offered to whom, in order.
struct Adds<'a> {
    before: &'a Before,
    /// Node, time and newcomer, in that order.
    offers: Vec<(u32, u32, u32)>,
    /// For each held-out node, in order: when it came, and where what it chose begins in `by_newcomer`.
    came: Vec<(u32, u32)>,
    by_newcomer: Vec<u32>,
    /// What some of them would have chosen.
    chosen: HashMap<u32, Vec<u32>>,
}

impl Adds<'_> {
    fn new(before: &Before) -> Adds<'_> {
        let adds = || before.adds.chunks_exact(2).zip(0u32..).map(|(add, time)| (add[0], time, add[1]));
        let mut offers: Vec<(u32, u32, u32)> = adds().collect();
        offers.sort_unstable();
        let mut by_newcomer: Vec<(u32, u32, u32)> =
            adds().map(|(node, time, newcomer)| (newcomer, time, node)).collect();
        by_newcomer.sort_unstable();
        let came = before.held_out.iter().map(|node| {
            let from = by_newcomer.partition_point(|(newcomer, ..)| newcomer < node);
            let time = by_newcomer.get(from).filter(|add| add.0 == *node).map_or(u32::MAX, |add| add.1);
            (time, from as u32)
        });
        let came = came.collect();
        let by_newcomer = by_newcomer.into_iter().map(|(.., node)| node).collect();
        Adds { before, offers, came, by_newcomer, chosen: HashMap::new() }
    }

    /// When a held-out node came; none for all others.
    fn came(&self, node: u32) -> Option<u32> {
        self.before.held_out.binary_search(&node).ok().map(|i| self.came[i].0)
    }

    fn chosen_by(&self, newcomer: u32) -> &[u32] {
        let Ok(i) = self.before.held_out.binary_search(&newcomer) else { return &[] };
        let to = self.came.get(i + 1).map_or(self.by_newcomer.len(), |next| next.1 as usize);
        &self.by_newcomer[self.came[i].1 as usize..to]
    }

    fn offered_to(&self, node: u32) -> impl Iterator<Item = u32> {
        let from = self.offers.partition_point(|(other, ..)| *other < node);
        self.offers[from..].iter().take_while(move |offer| offer.0 == node).map(|offer| offer.2)
    }

    /// Held-out nodes that chose withheld ones.
    fn bereft(&self, withheld: &FixedBitSet) -> Vec<u32> {
        let is_gone = |node: &u32| withheld.contains(*node as usize);
        let bereft = |node: &u32| !is_gone(node) && self.chosen_by(*node).iter().any(is_gone);
        self.before.held_out.iter().copied().filter(bereft).collect()
    }

    /// Notes what a held-out node would have chosen, and offers it to those that it did not choose before.
    fn choose_again(&mut self, node: u32, list: Vec<u32>) {
        let time = self.came(node).unwrap_or(u32::MAX);
        let new: Vec<u32> =
            list.iter().copied().filter(|other| !self.chosen_by(node).contains(other)).collect();
        self.offers.extend(new.into_iter().map(|other| (other, time, node)));
        self.chosen.insert(node, list);
    }

    /// The nodes whose lists would be others without some newcomers, in order.
    fn affected(&self, withheld: &FixedBitSet) -> Vec<u32> {
        let is_gone = |node: &u32| withheld.contains(*node as usize);
        let is_new = |(node, _, newcomer): &(u32, u32, u32)| {
            self.chosen.contains_key(newcomer) && !self.chosen_by(*newcomer).contains(node)
        };
        let offered = self.offers.iter().filter(|offer| is_gone(&offer.2) || is_new(offer));
        let mut nodes: Vec<u32> = offered.map(|offer| offer.0).chain(self.chosen.keys().copied()).collect();
        nodes.retain(|node| !is_gone(node));
        nodes.sort_unstable();
        nodes.dedup();
        nodes
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Metric;
    use crate::index::structure::{Index, Source, Structure};
    use crate::index::{Description, Progress, held_out_share, is_held_out};
    use crate::lines::Aligned;
    use rand::{Rng, SeedableRng};

    const D: usize = 12;

    fn build(rows: &[[f32; D]], numbers: Vec<u64>, metric: Metric) -> Index {
        let description = Description {
            recipe: String::new(),
            metric,
            dimensions: D,
            revision: 0,
            seed: 1,
            rows_at_build: 0,
            owner: String::new(),
        };
        let mut vectors = Aligned::default();
        numbers.iter().for_each(|number| vectors.extend(&rows[*number as usize]));
        let recipe = "graph(links=6, build=40, layers=off)".parse().unwrap();
        Index::build(Source { description, vectors, numbers }, recipe, 1, &Progress::default()).unwrap()
    }

    /// The neighbours of each record, by number.
    fn links(index: &Index, graph: &Graph) -> HashMap<u64, Vec<u64>> {
        let number = |node: u32| index.numbers()[node as usize];
        let list = |node: u32| graph.ground().of(node).map(number).collect();
        (0..index.len() as u32).map(|node| (number(node), list(node))).collect()
    }

    #[test]
    fn without_the_last_ones_that_came_it_is_the_graph_of_before_they_came() {
        let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(4);
        let mut rows: Vec<[f32; D]> =
            (0..1900).map(|_| std::array::from_fn(|_| rng.random_range(-1.0..1.0))).collect();
        // Equal vectors.
        for i in 0..40 {
            rows[1800 + i] = rows[7 * i];
        }
        for metric in [Metric::Cosine, Metric::Euclidean] {
            rows.iter_mut().for_each(|row| *row = metric.prepare(row, D).unwrap().try_into().unwrap());
            let whole = build(&rows, (0..1900).collect(), metric);
            let Structure::Graph { graph, .. } = &whole.route else { panic!("a graph") };
            let held_out: Vec<u32> = graph.before.as_ref().unwrap().held_out.to_vec();
            let share = held_out_share(1900);
            assert!(held_out.iter().all(|node| is_held_out(whole.numbers()[*node as usize], share)));
            for n_last in [1, 30, held_out.len() - 1, held_out.len()] {
                let last = &held_out[held_out.len() - n_last..];
                let mut withheld = FixedBitSet::with_capacity(whole.len());
                last.iter().for_each(|node| withheld.insert(*node as usize));
                let crew = Crew {
                    threads: 2,
                    progress: &Progress::default(),
                    kernels: crate::kernels::Kernels::best(),
                };
                let rank = |a: u32, b: u32| {
                    let row = |node: u32| &rows[whole.numbers()[node as usize] as usize];
                    metric.rank(crew.kernels, row(a), row(b))
                };
                let (without, changed) = graph.without(&crew, 40, &withheld, || rank).unwrap();
                let others = whole.numbers().iter().copied().filter(|n| !last.contains(&(*n as u32)));
                let twin = build(&rows, others.collect(), metric);
                let Structure::Graph { graph: of_twin, .. } = &twin.route else { panic!("a graph") };
                let (got, wanted) = (links(&whole, &without), links(&twin, of_twin));
                // Links for nodes that nothing would lead to are found another way.
                let differ = wanted.iter().filter(|(number, list)| &got[number] != *list).count();
                assert!(differ <= 4, "{metric} without {n_last}: {differ} lists differ");
                assert_eq!(without.reachable().count_ones(..), whole.len() - n_last);
                let now = links(&whole, graph);
                let is_changed = |node: u32| changed.binary_search(&node).is_ok();
                for node in (0..1900).filter(|node| !is_changed(*node) && !withheld.contains(*node as usize))
                {
                    let number = whole.numbers()[node as usize];
                    assert_eq!(got[&number], now[&number]);
                }
            }
        }
    }
}
