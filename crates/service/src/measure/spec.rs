//! What a query set is made of, as it is kept.

use crate::problem::{Kind, Problem, Result};
use zesty_catalog::query_set;
use zesty_wire as wire;

/// What a set is made of, as it is kept.
#[derive(Clone, Debug, serde::Serialize, serde::Deserialize)]
pub struct Spec {
    pub kind: wire::QueryKind,
    pub seed: u64,
    pub of: Option<usize>,
    pub noise: Option<f64>,
    pub copies: Option<bool>,
    pub n_filtered: usize,
    pub n_graded: usize,
}

pub fn spec_of(model: &query_set::Model) -> Result<Spec> {
    serde_json::from_value(model.spec.clone()).map_err(|e| {
        Problem::new(Kind::Internal, format!("query set \"{}\" cannot be read: {e}", model.name))
    })
}
