//! The typed client of the service's HTTP interface, in the shapes of `zesty_wire`. It knows nothing of engine or
//! database.

pub mod client;
pub mod connection;
pub mod load;
mod serving;

pub use client::{Client, Error, Result};
pub use zesty_wire as wire;
pub use zesty_wire::problem::Problem;
