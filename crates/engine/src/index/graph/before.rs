//! A graph as it was before the held-out nodes were inserted: what their insertion changed.

use crate::tensors::Tensor;

/// What the insertion of the held-out nodes changed.
pub(crate) struct Before {
    /// The held-out nodes, in order.
    pub(crate) held_out: Tensor<u32>,
    /// `[a, 2]`: node and newcomer: who was offered to whom as a neighbour on the ground, in order.
    pub(crate) adds: Tensor<u32>,
    pub(crate) entry: u32,
    /// `[m]`: the nodes whose neighbours on the ground changed, in order; `[m + 1]`: where those that they had begin
    /// among `[., width]` numbers.
    pub(crate) nodes: Tensor<u32>,
    pub(crate) starts: Tensor<u32>,
    pub(crate) ground: Tensor<u8>,
    /// `[u]`: which upper lists changed; `[u, links]`: what they were.
    pub(crate) lists: Tensor<u32>,
    pub(crate) upper: Tensor<u32>,
}
