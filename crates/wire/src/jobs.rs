//! Jobs: long work with progress, a log and a result.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// A line of a job's log
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LogLine {
    pub at: DateTime<Utc>,
    pub text: String,
}

/// A job
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Job {
    pub id: i64,
    /// `build`, `absorb`, `query-set`, `exact-answers`, `sweep`, `target`, `load` or `backfill`
    pub kind: String,
    pub collection: String,
    /// What it works on, such as the name of an index
    pub subject: String,
    /// `running`, `done`, `failed` or `cancelled`
    pub state: String,
    /// What it is doing, if it has stages; a build says `learning cells` or `linking`
    #[cfg_attr(feature = "openapi", schema(required))]
    pub stage: Option<String>,
    /// Of the stage, if there is one
    pub done: usize,
    /// 0 while it is not known
    pub total: usize,
    pub elapsed_s: f64,
    /// Estimated from the pace so far
    #[cfg_attr(feature = "openapi", schema(required))]
    pub left_s: Option<f64>,
    /// Counts so far; a load has `read`, `new`, `replaced`, `unchanged`, `rejected` and `unencoded`
    #[cfg_attr(feature = "openapi", schema(required, value_type = Option<Object>))]
    pub counts: Option<Value>,
    pub log: Vec<LogLine>,
    /// What a job that is done gives. Of a load it is a `LoadResult`; of a sweep it has the `sweep`'s id, of a target the
    /// `target`'s id and whether it was `reached`
    #[cfg_attr(feature = "openapi", schema(required, value_type = Option<Object>))]
    pub result: Option<Value>,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub error: Option<String>,
    pub created_at: DateTime<Utc>,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub finished_at: Option<DateTime<Utc>>,
}

/// Jobs
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct JobList {
    /// Newest first, at most 100
    pub jobs: Vec<Job>,
}
