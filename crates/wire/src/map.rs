//! A map: a column in two dimensions.

use crate::{Filter, LensRequest};
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// A map to draw
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct MapRequest {
    /// The collection's default column when absent
    #[serde(skip_serializing_if = "Option::is_none")]
    pub column: Option<String>,
    /// The field whose values colour the records: text, a number, a boolean or a time
    #[serde(skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// Only records that this allows
    #[serde(skip_serializing_if = "Option::is_none")]
    pub filter: Option<Filter>,
    /// Records to place, 1 to 20,000; 3,000 when absent. Of more, so many are picked, the same each time
    #[serde(skip_serializing_if = "Option::is_none")]
    pub records: Option<usize>,
    /// A query to mark with its neighbours, in the column of the map
    #[serde(skip_serializing_if = "Option::is_none")]
    pub query: Option<LensRequest>,
}

/// A record on the map
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct MapPoint {
    pub key: String,
    pub x: f32,
    pub y: f32,
    /// Of the field; null where it is missing, or no field was asked for
    #[cfg_attr(feature = "openapi", schema(required))]
    pub value: Value,
}

/// A neighbour of the query on the map
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct MapNeighbour {
    pub key: String,
    pub x: f32,
    pub y: f32,
    pub distance: f32,
    /// Among the true neighbours, from 1; null for a hit that is none of them
    #[cfg_attr(feature = "openapi", schema(required))]
    pub true_rank: Option<usize>,
    /// Among the hits, from 1; null where the index missed it
    #[cfg_attr(feature = "openapi", schema(required))]
    pub found_at: Option<usize>,
}

/// A query on the map
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct MapQuery {
    pub x: f32,
    pub y: f32,
    pub index: String,
    pub recall: f64,
    /// True neighbours first, then hits that are none of them
    pub neighbours: Vec<MapNeighbour>,
}

/// A column in two dimensions, along the two directions in which its vectors differ most
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct MapAnswer {
    pub column: String,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub field: Option<String>,
    pub points: Vec<MapPoint>,
    /// The share of the variance along x and y: where it is small, what looks near may be far
    pub explained: [f64; 2],
    /// Records that could have been placed
    pub n_rows: usize,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub query: Option<MapQuery>,
    pub revision: u64,
}
