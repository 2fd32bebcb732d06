//! Runs of rows.

use crate::until::Until;

/// Consecutive nodes that are compared as a whole.
pub(crate) struct Run {
    pub(crate) nodes: std::ops::Range<usize>,
    pub(crate) first_block: usize,
    /// The query's product with the centre that their codes are relative to.
    pub(crate) offset: f32,
    /// When to stop looking.
    pub(crate) until: Until,
}
