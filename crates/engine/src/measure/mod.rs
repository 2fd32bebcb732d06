//! Measuring: recall against the exact answer, statistics of many queries, sweeps over settings.
//!
//! Nothing here runs on its own: the caller gives a table, an index and settings, and gets numbers.

mod recall;
mod statistics;
mod sweep;

pub use recall::{recall, recall_ties};
pub use statistics::{Sample, Summary, mean, percentile, summarise};
pub use sweep::{ExactTiming, Point, Sweep, SweepError, SweepSpec, sweep};
