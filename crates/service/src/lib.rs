//! The Zesty Lantern service: collections of records with vectors behind an HTTP interface.
//!
//! | room | holds |
//! |---|---|
//! | `node` | what a process has: data folder, jobs, encoders, uploads; knows no collection |
//! | `access` | keys and sessions, and the grant that every use case takes |
//! | `collections` | the live collections: registry, writer, follower, indexes, serving choices, schema |
//! | `records` | records checked, encoded, written, changed, read, exported |
//! | `search` | searches, from the request to the explained answer |
//! | `loads` | files written into a collection as a job, and backfills |
//! | `measure` | sweeps |
//! | `http` | router, extractors, authentication, thin routes, the console's files |

mod access;
mod collections;
mod http;
mod json;
mod loads;
mod measure;
mod names;
mod node;
mod problem;
mod records;
mod search;
pub mod settings;
mod start;

pub use http::connections::Pauses;
pub use http::router::openapi;
pub use http::tls::TlsFiles;
pub use node::folder::FIRST_KEY;
pub use node::lanes::LaneSizes;
pub use start::{Config, Service, StartError, add_key, check};
pub use zesty_catalog::STATEMENT as DATABASE_TIMEOUT;
pub use zesty_files::Limits;
