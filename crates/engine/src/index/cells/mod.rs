//! Cells: rows by their nearest centre, codes of rows in further cells, and visits.

pub(crate) mod layout;
pub(crate) mod overlap;
pub(crate) mod visit;
