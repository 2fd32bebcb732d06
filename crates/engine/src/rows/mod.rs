//! The live rows of a collection: what is in memory, and the segment files it is mapped from.

pub mod bits;
pub mod chunked;
mod columns;
mod documents;
mod field_data;
mod given;
mod keys;
mod matrix;
pub mod order;
pub mod packed;
pub mod segments;
mod table;
mod vectors;
mod writer;

pub use columns::{Column, Integers, TextLists, Texts, Values};
pub use documents::LastBlock;
pub use table::{Numbering, Snapshot, Table};
pub use vectors::{VectorColumn, Vectors};
pub use writer::{Change, Changed, NewColumn, VectorChange, Writer};
