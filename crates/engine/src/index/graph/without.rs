//! A graph without its held-out nodes.

use crate::index::graph::walk::{Graph, Lists};
use crate::tensors::Tensor;

impl Graph {
    /// The graph as it was before the held-out nodes were inserted: they keep their numbers, and nothing leads to them.
    pub(crate) fn without_held_out(&self) -> Option<Graph> {
        let before = self.before.as_ref()?;
        let (n, width) = (self.level.len(), Graph::width(self.level.len()));
        let (mut starts, mut ground) = (Vec::with_capacity(n + 1), Vec::with_capacity(self.ground.len()));
        let (mut changed, mut held_out) =
            (before.nodes.iter().zip(0..).peekable(), before.held_out.iter().peekable());
        let now = self.ground();
        for node in 0..n as u32 {
            starts.push((ground.len() / width) as u32);
            if held_out.next_if_eq(&&node).is_some() {
                changed.next_if(|(at, _)| **at == node);
            } else if let Some((_, i)) = changed.next_if(|(at, _)| **at == node) {
                let (from, to) = (before.starts[i] as usize, before.starts[i + 1] as usize);
                ground.extend(&before.ground[from * width..to * width]);
            } else {
                ground.extend(now.bytes(node));
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
        Some(graph)
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
