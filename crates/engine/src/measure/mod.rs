//! Measuring: query sets and their exact answers, recall, sweeps over settings, settings that reach a target.
//!
//! Nothing here runs on its own: the caller gives a table, indexes and settings, and gets numbers.

mod advise;
mod ask;
mod compare;
mod error;
mod exact;
mod lens;
mod map;
mod queries;
mod recall;
mod set;
mod solve;
mod statistics;
mod sweep;

pub use advise::{RowSample, Tried, candidates};
pub use compare::{
    CompareSpec, Compared, Finders, Graded, Latency, Moves, Pair, PairedTest, Side, compare, sign_test,
};
pub use error::MeasureError;
pub use exact::{Known, exact};
pub use lens::{CURVE, LensRequest, Place, Seen, TrueNeighbour, look};
pub use map::{Map, map};
pub use queries::{Difficulty, Draw, Drawn, NEIGHBOURHOOD, difficulty, draw};
pub use recall::{STANDS_OUT, recall, recall_ties, score_gap, standout};
pub use set::{InPart, Part, Parts, QuerySet, hold_out};
pub use solve::{Aim, Reached, Solved, Stage, Target, solve};
pub use statistics::{Interval, Sample, Summary, differ, mean, percentile, recall_interval, summarise};
pub use sweep::{ExactTiming, Measured, Point, Round, SweepSpec, Swept, Trial, Worst, sweep};
