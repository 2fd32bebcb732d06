//! Measuring recall and latency: query sets, exact answers, sweeps, targets, comparisons.

pub mod advice;
pub mod advised;
pub mod compared;
pub mod comparisons;
pub mod indexes;
pub mod kept;
pub mod lens;
pub mod machine;
pub mod map;
pub mod prepared;
pub mod query_sets;
pub mod read_queries;
pub mod report;
pub mod sightings;
pub mod spec;
pub mod sweeps;
pub mod targets;
pub mod watcher;
pub mod watches;
pub mod work;
