//! Watching live searches: captured as queries, and answered exactly as well.

use crate::Notice;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

/// Which live searches are kept, to measure with
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Capture {
    /// The share of searches that is kept, above 0 to 1
    pub share: f64,
    /// At most so many, the newest; 1 to 10,000
    #[serde(default = "thousand")]
    pub keep: usize,
    /// Forgotten after so many days, 1 to 90
    #[serde(default = "week")]
    pub days: u32,
    /// Whether the text of a search is kept, too; otherwise its vector, filter and k alone
    #[serde(default)]
    pub texts: bool,
}

fn thousand() -> usize {
    1000
}

fn week() -> u32 {
    7
}

/// How live searches are checked against the exact answer
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RecallCheck {
    /// The share of the processor time of all cores that exact answers may take, above 0 to 0.5
    pub budget: f64,
    /// Recall below which a notice is given
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub floor: Option<f64>,
}

/// What of the live searches of a collection is kept and checked
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct Watch {
    /// Nothing is kept when absent
    #[serde(skip_serializing_if = "Option::is_none")]
    pub capture: Option<Capture>,
    /// Nothing is checked when absent
    #[serde(skip_serializing_if = "Option::is_none")]
    pub recall: Option<RecallCheck>,
}

/// The recall of an index, observed of live searches
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Observed {
    pub index: String,
    /// The start of the time
    pub at: DateTime<Utc>,
    /// Searches that were answered exactly as well
    pub searches: u64,
    pub recall_mean: f64,
    /// The mean of all searches lies here in 19 of 20 cases
    pub recall_low: f64,
    pub recall_high: f64,
}

/// What is watched, and what was seen
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct WatchState {
    pub watch: Watch,
    /// Searches that are kept
    pub captured: u64,
    /// Each index over the whole time asked for
    pub overall: Vec<Observed>,
    /// Each index in steps of time, oldest first
    pub steps: Vec<Observed>,
    /// The length of a step
    pub step_s: u64,
    /// The share of processor time that exact answers took on this node, since it began to check
    #[cfg_attr(feature = "openapi", schema(required))]
    pub spent: Option<f64>,
    pub notices: Vec<Notice>,
}

/// How many captured searches were forgotten
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Forgotten {
    pub forgotten: u64,
}
