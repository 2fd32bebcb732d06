//! A layered graph as the paper tells it (Malkov and Yashunin, 2016; TPAMI 2020), with nothing done for speed: heaps,
//! marks, one distance after the other. What it answers in the same run tells a machine's pace from a program's.

use rand::{Rng, SeedableRng};
use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::sync::Mutex;
use zesty_engine::Metric;
use zesty_engine::kernels::Kernels;
use zesty_engine::scan::Neighbour;

pub struct PlainGraph<'a> {
    metric: Metric,
    dimensions: usize,
    rows: &'a [f32],
    /// Of each node the neighbours on each of its layers.
    lists: Vec<Vec<Vec<u32>>>,
    entry: u32,
    marks: Mutex<Vec<Marks>>,
}

/// In which walk each node was seen last.
struct Marks {
    seen: Vec<u32>,
    walk: u32,
}

impl<'a> PlainGraph<'a> {
    pub fn build(
        metric: Metric,
        dimensions: usize,
        rows: &'a [f32],
        (links, build): (usize, usize),
        seed: u64,
    ) -> Self {
        let n = rows.len() / dimensions;
        let (lists, marks) = (vec![Vec::new(); n], Mutex::default());
        let mut graph = PlainGraph { metric, dimensions, rows, lists, entry: 0, marks };
        let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
        let mut marks = Marks { seen: vec![0; n], walk: 0 };
        for node in 0..n as u32 {
            let level = (-(1.0 - rng.random::<f64>()).ln() / (links as f64).ln()) as usize;
            graph.insert(node, level, links, build, &mut marks);
        }
        graph
    }

    fn row(&self, node: u32) -> &'a [f32] {
        &self.rows[node as usize * self.dimensions..][..self.dimensions]
    }

    fn rank(&self, query: &[f32], row: u32) -> Neighbour {
        Neighbour { rank: self.metric.rank(Kernels::best(), query, self.row(row)), row }
    }

    fn insert(&mut self, node: u32, level: usize, links: usize, build: usize, marks: &mut Marks) {
        self.lists[node as usize] = vec![Vec::new(); level + 1];
        if node == 0 {
            return;
        }
        let (query, top) = (self.row(node), self.lists[self.entry as usize].len() - 1);
        let mut at = vec![self.rank(query, self.entry)];
        for layer in (0..=top).rev() {
            if layer > level {
                at = self.walk(query, &at, 1, layer, marks);
                continue;
            }
            at = self.walk(query, &at, build, layer, marks);
            let chosen = self.choose(&at, links);
            let most = if layer == 0 { 2 * links } else { links };
            for &other in &chosen {
                self.lists[other as usize][layer].push(node);
                if self.lists[other as usize][layer].len() > most {
                    let base = self.row(other);
                    let list = self.lists[other as usize][layer].iter();
                    let mut all: Vec<Neighbour> = list.map(|n| self.rank(base, *n)).collect();
                    all.sort();
                    self.lists[other as usize][layer] = self.choose(&all, most);
                }
            }
            self.lists[node as usize][layer] = chosen;
        }
        if level > top {
            self.entry = node;
        }
    }

    fn choose(&self, candidates: &[Neighbour], most: usize) -> Vec<u32> {
        let mut kept: Vec<Neighbour> = Vec::new();
        for &c in candidates {
            if kept.len() < most && kept.iter().all(|k| self.rank(self.row(c.row), k.row).rank > c.rank) {
                kept.push(c);
            }
        }
        kept.iter().map(|n| n.row).collect()
    }

    fn walk(
        &self,
        query: &[f32],
        entries: &[Neighbour],
        beam: usize,
        layer: usize,
        marks: &mut Marks,
    ) -> Vec<Neighbour> {
        marks.walk += 1;
        entries.iter().for_each(|n| marks.seen[n.row as usize] = marks.walk);
        let mut open: BinaryHeap<Reverse<Neighbour>> = entries.iter().map(|n| Reverse(*n)).collect();
        let mut found: BinaryHeap<Neighbour> = entries.iter().copied().collect();
        while let Some(Reverse(next)) = open.pop() {
            if found.len() >= beam && found.peek().is_some_and(|worst| next.rank > worst.rank) {
                break;
            }
            for &row in &self.lists[next.row as usize][layer] {
                if std::mem::replace(&mut marks.seen[row as usize], marks.walk) == marks.walk {
                    continue;
                }
                let near = self.rank(query, row);
                if found.len() < beam || found.peek().is_some_and(|worst| near.rank < worst.rank) {
                    open.push(Reverse(near));
                    found.push(near);
                    if found.len() > beam {
                        found.pop();
                    }
                }
            }
        }
        found.into_sorted_vec()
    }

    pub fn search(&self, query: &[f32], k: usize, beam: usize) -> Vec<Neighbour> {
        let n = self.lists.len();
        let fresh = || Marks { seen: vec![0; n], walk: 0 };
        let mut marks = self.marks.lock().expect("no search panics").pop().unwrap_or_else(fresh);
        let mut found = vec![self.rank(query, self.entry)];
        for layer in (1..self.lists[self.entry as usize].len()).rev() {
            found = self.walk(query, &found, 1, layer, &mut marks);
        }
        found = self.walk(query, &found, beam.max(k), 0, &mut marks);
        found.truncate(k);
        self.marks.lock().expect("no search panics").push(marks);
        found
    }
}
