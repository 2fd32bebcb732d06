//! Form vectors are kept, one file a codec, and how queries are prepared for each.

pub(crate) mod bits;
pub(crate) mod blocks;
pub(crate) mod encode;
pub(crate) mod prepared;
pub(crate) mod product;
pub(crate) mod rows;
pub(crate) mod runs;
pub(crate) mod transform;
