//! Routes by subject.

pub mod advice;
pub mod collections;
pub mod columns;
pub mod comparisons;
pub mod files;
pub mod health;
pub mod indexes;
pub mod jobs;
pub mod keys;
pub mod lens;
pub mod loads;
pub mod measurements;
pub mod query_sets;
pub mod records;
pub mod saved;
pub mod search;
pub mod service;
pub mod sweeps;
pub mod targets;
pub mod watches;
