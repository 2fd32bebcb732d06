//! Building: learn, order, code, link.

pub(crate) mod assemble;
pub(crate) mod crew;
pub(crate) mod kmeans;
pub(crate) mod link;
pub(crate) mod withhold;
