//! The values of fields, counted.

use serde::{Deserialize, Serialize};
use serde_json::Value;

/// A value and how many records hold it
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ValueCount {
    pub value: Value,
    pub count: usize,
}

/// Bars of equal width from the lowest to the highest value
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Histogram {
    pub low: Value,
    pub high: Value,
    pub counts: Vec<usize>,
}

/// A field, and what its values look like
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Field {
    pub name: String,
    /// string, integer, number, boolean, date, timestamp, array of strings, array of integers
    pub r#type: String,
    #[cfg_attr(feature = "openapi", schema(required))]
    pub description: Option<String>,
    /// Only the database keeps it; a filter can test it with IS NULL and nothing else
    pub stored_only: bool,
    /// The collection whose records its values name
    #[cfg_attr(feature = "openapi", schema(required))]
    pub refers_to: Option<String>,
    /// Records that name a record that does not exist; null for a field that refers to no collection
    #[cfg_attr(feature = "openapi", schema(required))]
    pub n_lost_references: Option<usize>,
    /// Bytes in memory
    pub n_bytes: usize,
    pub n_present: usize,
    pub n_missing: usize,
    /// Different values; of an array field, different items
    pub n_distinct: usize,
    /// The most frequent values first; equal counts in order of the value
    pub values: Vec<ValueCount>,
    /// For numbers, dates and timestamps
    #[cfg_attr(feature = "openapi", schema(required))]
    pub histogram: Option<Histogram>,
}

/// Every field of a collection
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Fields {
    /// Records that were counted
    pub n_records: usize,
    pub fields: Vec<Field>,
}
