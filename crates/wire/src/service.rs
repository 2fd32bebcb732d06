//! The service itself, sign-in links, and the encoders it knows.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

/// The service
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Service {
    pub service: String,
    pub version: String,
    /// This node's own name
    pub node: String,
    pub up_s: f64,
    pub n_collections: usize,
    pub n_records: usize,
    /// Instruction set of the distance kernels
    pub kernels: String,
    /// Whether MariaDB answers
    pub database: bool,
}

/// A link that signs one browser in
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SignInLink {
    /// Append it to the service's address
    pub path: String,
    pub expires_at: DateTime<Utc>,
}

/// An encoder
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Encoder {
    pub name: String,
    pub url: String,
    pub model: String,
    pub dimensions: u32,
}

/// Every encoder
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct EncoderList {
    pub encoders: Vec<Encoder>,
}

/// Where an encoder is
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct EncoderRequest {
    /// The address of a server that speaks the Open Inference Protocol v2
    pub url: String,
    /// The model's name on that server
    pub model: String,
}

/// How the service is
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Health {
    /// `live`, `opening`, `ready` or `stopping`
    pub status: String,
    /// Whether MariaDB answered when it was last asked; writes need it. Null where nobody asked
    #[cfg_attr(feature = "openapi", schema(required))]
    pub database: Option<bool>,
}

/// Ten seconds of a node
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct PulseStep {
    pub at: DateTime<Utc>,
    /// Requests of searches that were answered
    pub searches: u64,
    /// Other requests that were answered
    pub others: u64,
    /// Requests that were refused because there were too many, or nobody could answer (429, 503)
    pub refused: u64,
    /// Requests that were refused for what they asked
    pub wrong: u64,
    /// Requests at which the service made a mistake (500)
    pub failed: u64,
    /// What half of the searches took at the most, within a fifth; null without searches
    #[cfg_attr(feature = "openapi", schema(required))]
    pub p50_us: Option<f64>,
    /// What 99 of 100 searches took at the most, within a fifth
    #[cfg_attr(feature = "openapi", schema(required))]
    pub p99_us: Option<f64>,
}

/// Requests of one kind
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LaneState {
    pub name: String,
    /// Requests in it now
    pub depth: usize,
    /// Requests that it takes
    pub most: usize,
    /// Requests that it has refused since the start
    pub refused: u64,
}

/// An index as it is now
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct IndexState {
    pub collection: String,
    pub name: String,
    pub state: String,
    pub serving: bool,
    /// The share of living vectors that it holds, 0 to 1
    #[cfg_attr(feature = "openapi", schema(required))]
    pub coverage: Option<f64>,
    /// Mean recall of the live searches that were checked in the last hour
    #[cfg_attr(feature = "openapi", schema(required))]
    pub recall: Option<f64>,
    /// How many searches were checked
    pub checked: u64,
}

/// A node as it is now, and its last hour
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Pulse {
    pub node: String,
    pub up_s: f64,
    /// Seconds of a step
    pub step_s: u64,
    /// The last hour, the oldest first; steps without requests are left out
    pub steps: Vec<PulseStep>,
    pub lanes: Vec<LaneState>,
    pub indexes: Vec<IndexState>,
    /// Jobs that run on this node, by kind
    pub jobs: std::collections::BTreeMap<String, usize>,
    /// How long MariaDB has not answered; null while it does
    #[cfg_attr(feature = "openapi", schema(required))]
    pub database_silent_s: Option<f64>,
    /// How long ago this node last read what other nodes wrote
    #[cfg_attr(feature = "openapi", schema(required))]
    pub followed_s: Option<f64>,
    /// Bytes that collections hold
    pub n_bytes_collections: u64,
    /// Bytes of indexes that searches read throughout
    pub n_bytes_indexes: u64,
    /// Bytes that they may take together
    #[cfg_attr(feature = "openapi", schema(required))]
    pub n_bytes_budget: Option<u64>,
}

/// How much a finding matters
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Weight {
    /// As it should be
    Good,
    /// Works, and could be better
    Advice,
    /// Does not work, or will not for long
    Wrong,
}

/// Something that was looked at
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Finding {
    /// What was looked at, such as `database` or `collection logbook`
    pub about: String,
    pub weight: Weight,
    /// What was found
    pub found: String,
    /// What to do about it
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remedy: Option<String>,
}

/// A node and what stands around it, looked at from end to end
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Examination {
    pub findings: Vec<Finding>,
}
