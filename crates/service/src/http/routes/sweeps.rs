//! Sweeps: `/api/collections/{collection}/sweeps`.

use crate::access::grant::Grant;
use crate::http::answer::{Answer, Json};
use crate::http::app::App;
use crate::http::body::Input;
use crate::http::inputs::Named;
use crate::measure::sweeps;
use crate::problem::Result;
use axum::extract::State;
use axum::http::StatusCode;
use std::sync::Arc;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

/// Measure indexes over lists of settings, as a job
///
/// Every index, setting, k, number of clients and query set is measured with every other, in turns. Records that ask are
/// held out: what is reported is what queries that were never indexed get.
#[utoipa::path(post, path = "/api/collections/{collection}/sweeps", tag = "sweeps",
    params(("collection" = String, Path)), request_body = wire::SweepRequest,
    responses((status = 202, body = wire::Job), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn create(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::SweepRequest>,
) -> Result<(StatusCode, Json<wire::Job>)> {
    Ok((StatusCode::ACCEPTED, Json(sweeps::create(&grant, &app.set_tools(), &name, request).await?)))
}

/// List a collection's sweeps
#[utoipa::path(get, path = "/api/collections/{collection}/sweeps", tag = "sweeps",
    params(("collection" = String, Path)), responses((status = 200, body = wire::SweepList)))]
pub async fn list(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
) -> Answer<wire::SweepList> {
    sweeps::list(&grant, &app.registry, &name).await.map(Json)
}

/// Show a sweep
#[utoipa::path(get, path = "/api/collections/{collection}/sweeps/{sweep}", tag = "sweeps",
    params(("collection" = String, Path), ("sweep" = i64, Path)),
    responses((status = 200, body = wire::Sweep), (status = 404, body = Problem)))]
pub async fn show(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, id)): Named<(String, i64)>,
) -> Answer<wire::Sweep> {
    sweeps::show(&grant, &app.registry, (&name, id)).await.map(Json)
}

/// Delete a sweep
#[utoipa::path(delete, path = "/api/collections/{collection}/sweeps/{sweep}", tag = "sweeps",
    params(("collection" = String, Path), ("sweep" = i64, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn delete(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, id)): Named<(String, i64)>,
) -> Result<StatusCode> {
    sweeps::delete(&grant, &app.registry, (&name, id)).await?;
    Ok(StatusCode::NO_CONTENT)
}
