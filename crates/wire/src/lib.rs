//! The shapes that go over HTTP: requests, answers and problems. Service and client share them, and the OpenAPI
//! document describes them.
//!
//! A request refuses members that it does not know. An answer may gain members, so clients ignore unknown ones.
//! Times are RFC 3339 in UTC. Names that end in `_us`, `_ms` or `_s` carry their unit.

pub mod advice;
pub mod body;
pub mod collections;
pub mod comparisons;
pub mod fields;
pub mod files;
pub mod filter;
pub mod indexes;
pub mod jobs;
pub mod keys;
pub mod lens;
pub mod lifted;
pub mod loads;
pub mod map;
pub mod problem;
pub mod queries;
pub mod records;
pub mod saved;
pub mod search;
pub mod service;
pub mod settings;
pub mod strict;
pub mod sweeps;
pub mod targets;
pub mod vectors;
pub mod watching;

pub use advice::*;
pub use body::Body;
pub use collections::*;
pub use comparisons::*;
pub use fields::*;
pub use files::*;
pub use filter::*;
pub use indexes::*;
pub use jobs::*;
pub use keys::*;
pub use lens::*;
pub use loads::*;
pub use map::*;
pub use queries::*;
pub use records::*;
pub use saved::*;
pub use search::*;
pub use service::*;
pub use settings::*;
pub use sweeps::*;
pub use targets::*;
pub use watching::*;
