//! Sweeps: `/api/collections/{collection}/sweeps`.

use crate::access::grant::Grant;
use crate::http::answer::Answer;
use crate::http::app::App;
use crate::http::body::Input;
use crate::http::inputs::Named;
use crate::measure::sweeps;
use crate::problem::Result;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use std::sync::Arc;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

/// Measure an index over a list of beams or visits, as a job
#[utoipa::path(post, path = "/api/collections/{collection}/sweeps", tag = "tuning",
    params(("collection" = String, Path)), request_body = wire::SweepRequest,
    responses((status = 202, body = wire::Job), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn create(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::SweepRequest>,
) -> Result<(StatusCode, Json<wire::Job>)> {
    Ok((StatusCode::ACCEPTED, Json(sweeps::create(&grant, &app.registry, &name, request).await?)))
}

/// List a collection's sweeps
#[utoipa::path(get, path = "/api/collections/{collection}/sweeps", tag = "tuning",
    params(("collection" = String, Path)), responses((status = 200, body = wire::SweepList)))]
pub async fn list(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
) -> Answer<wire::SweepList> {
    sweeps::list(&grant, &app.registry, &name).await.map(Json)
}
