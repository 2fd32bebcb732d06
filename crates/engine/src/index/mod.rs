//! An index over the prepared vectors of one column: built from a recipe, kept in one file,
//! searched with settings.
//!
//! Nodes are numbered 0.. in the order they were given; `numbers` says which record each one is.
//! An index knows nothing of later writes: whoever owns the live rows masks and adds to it.

mod build;
mod cells;
mod description;
mod file;
mod graph;
mod held_out;
mod picks;
mod pool;
mod principal;
mod progress;
mod reach;
mod search;
mod store;
mod structure;

pub use crate::tensors::FileError;
pub use cells::filtered::{Filtered, Looked};
pub use description::{Description, Limit, Settings, Work};
pub use file::FORMAT_VERSION;
pub use graph::walk::Scratch;
pub use held_out::{held_out_part, held_out_parts, held_out_share, is_held_out};
pub use principal::Principal;
pub use progress::{BuildError, Progress};
pub use structure::{Index, Source};
