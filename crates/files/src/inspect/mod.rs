//! A look into a file before anything is created: what a collection for it could be.

mod decide;
mod found;
mod look;
mod read;
mod seen;
mod types;

pub use found::{Choice, FoundField, FoundVectors, Inspection};
pub use look::{inspect, vector_names};
pub use seen::TYPES;
pub use types::inspect_as;
