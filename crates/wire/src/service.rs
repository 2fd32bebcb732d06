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
