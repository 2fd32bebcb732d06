//! Segment files: a local copy of a collection's rows, from which a node starts and answers.

mod folder;
mod merge;
mod open;
mod save;
pub(super) mod segment;
mod write;

pub use folder::SegmentFolder;
pub use merge::Merging;
pub use save::{Saving, Stale};
pub use segment::Segment;
