//! What is kept in MariaDB: collections, records, vectors, indexes' descriptions, jobs, query
//! sets, measurements, keys. The system of record; everything else can be rebuilt from it.
//!
//! Nothing of SeaORM leaves this crate but through [`Catalog`]; errors leave it sorted by who can act.

pub mod access;
mod ahead;
mod audit;
mod bounded;
mod changes;
mod clone;
mod collections;
mod comparisons;
mod connection;
mod discarded;
pub mod entity;
mod error;
mod lifecycle;
mod loads;
mod measurements;
mod migration;
mod nodes;
mod once;
mod packed;
mod records;
mod saved;
mod statements;
mod transaction;
mod vectors;
mod watching;
mod work;

pub use ahead::{Ahead, Claimed};
pub use bounded::STATEMENT;
pub use changes::{
    Change, Conflicts, Fill, Filled, FilledVector, Guess, KeyAt, LoadStep, Made, RecordBody, RecordWrite,
    StoredRecord, VectorWrite, Written,
};
pub use clone::Cloning;
pub use collections::{Collection, NewCollection, NewVectorColumn, ShapeChange, Version};
pub use comparisons::ComparedPair;
pub use connection::Catalog;
pub use entity::{
    answers, audit as audit_entry, captured, collection, encoder, index, job, load, measurement, observed,
    once as once_entry, query, query_set, saved_search, saved_version, vector_column,
};
pub use error::{CatalogError, Result};
pub use measurements::{Answers, Neighbours, NewQuery, NewQuerySet};
pub use nodes::{GONE_AFTER_S, Server};
pub use once::{KeptAnswer, Once};
pub use saved::{LiveSaved, Saved};
pub use statements::Way;
pub use transaction::Target;
pub use watching::{Caught, Observation};
pub use work::{Choices, Ready, ServingOf};
