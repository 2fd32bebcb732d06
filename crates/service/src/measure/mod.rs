//! Measuring recall and latency on a collection's own records.

pub mod sweeps;
