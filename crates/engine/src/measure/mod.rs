//! Measuring: query sets and their exact answers, recall, sweeps over settings, settings that reach a target.
//!
//! Nothing here runs on its own: the caller gives a table, indexes and settings, and gets numbers.

mod exact;
mod lens;
mod queries;
mod recall;
mod solve;
mod statistics;
mod sweep;

pub use exact::{Known, Remaining, exact, hold_out};
pub use lens::{CURVE, LensRequest, Place, Seen, TrueNeighbour, look};
pub use queries::{Difficulty, Draw, Drawn, NEIGHBOURHOOD, QuerySet, difficulty, draw};
pub use recall::{STANDS_OUT, recall, recall_ties, score_gap, standout};
pub use solve::{Aim, Reached, Solved, Stage, Target, solve};
pub use statistics::{Interval, Sample, Summary, differ, mean, percentile, recall_interval, summarise};
pub use sweep::{Contender, ExactTiming, Load, Measured, Point, SweepSpec, Swept, Trial, Worst, sweep};

/// Why a measurement has no result.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum MeasureError {
    #[error("it was cancelled")]
    Cancelled,
    #[error("{0} records have a vector; recall needs at least 2")]
    TooFewRows(usize),
    #[error("there are too few records to hold some out; take a blended or jittered query set")]
    NoneHeldOut,
    #[error("the rows have just been read again; start the measurement once more")]
    RowsChanged,
    #[error("{0}")]
    Build(#[from] crate::index::BuildError),
}
