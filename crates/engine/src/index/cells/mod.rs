//! Cells: rows by their nearest centre, codes of rows in further cells, and visits, with a filter and without.

pub(crate) mod beside;
pub(crate) mod depth;
pub(crate) mod filtered;
pub(crate) mod layout;
pub(crate) mod overlap;
pub(crate) mod settle;
pub(crate) mod visit;
pub(crate) mod widths;
