//! Loads: uploaded files written into a collection as a job, and vectors made later.

pub mod ahead;
pub mod backfill;
pub mod batch;
pub mod check;
pub mod commit;
pub mod counts;
pub mod encode;
pub mod line;
pub mod merge;
pub mod rejects;
pub mod requests;
pub mod run;
pub mod spec;
