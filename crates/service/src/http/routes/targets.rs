//! Targets: `/api/collections/{collection}/targets`.

use crate::access::grant::Grant;
use crate::http::answer::{Answer, Json};
use crate::http::app::App;
use crate::http::body::Input;
use crate::http::inputs::Named;
use crate::measure::targets;
use crate::problem::Result;
use axum::extract::State;
use axum::http::StatusCode;
use std::sync::Arc;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

/// Find the settings with which an index reaches a recall, as a job
///
/// One half of the queries chooses the settings, the other half verifies them.
#[utoipa::path(post, path = "/api/collections/{collection}/targets", tag = "targets",
    params(("collection" = String, Path)), request_body = wire::TargetRequest,
    responses((status = 202, body = wire::Job), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn create(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::TargetRequest>,
) -> Result<(StatusCode, Json<wire::Job>)> {
    Ok((StatusCode::ACCEPTED, Json(targets::create(&grant, &app.set_tools(), &name, request).await?)))
}

/// List a collection's targets
#[utoipa::path(get, path = "/api/collections/{collection}/targets", tag = "targets",
    params(("collection" = String, Path)), responses((status = 200, body = wire::TargetList)))]
pub async fn list(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
) -> Answer<wire::TargetList> {
    targets::list(&grant, &app.registry, &name).await.map(Json)
}

/// Show a target
#[utoipa::path(get, path = "/api/collections/{collection}/targets/{target}", tag = "targets",
    params(("collection" = String, Path), ("target" = i64, Path)),
    responses((status = 200, body = wire::Target), (status = 404, body = Problem)))]
pub async fn show(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, id)): Named<(String, i64)>,
) -> Answer<wire::Target> {
    targets::show(&grant, &app.registry, (&name, id)).await.map(Json)
}

/// Delete a target
#[utoipa::path(delete, path = "/api/collections/{collection}/targets/{target}", tag = "targets",
    params(("collection" = String, Path), ("target" = i64, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn delete(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, id)): Named<(String, i64)>,
) -> Result<StatusCode> {
    targets::delete(&grant, &app.registry, (&name, id)).await?;
    Ok(StatusCode::NO_CONTENT)
}
