//! Advice: `/api/collections/{collection}/advice`.

use crate::access::grant::Grant;
use crate::http::answer::{Answer, Json};
use crate::http::app::App;
use crate::http::body::Input;
use crate::http::inputs::Named;
use crate::measure::advice;
use crate::problem::Result;
use axum::extract::State;
use axum::http::StatusCode;
use std::sync::Arc;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

/// Try recipes against a target and a memory budget, as a job
///
/// Those that fit are tried on some of the records, the best few on all. `auto` then takes the winner.
#[utoipa::path(post, path = "/api/collections/{collection}/advice", tag = "advice",
    params(("collection" = String, Path)), request_body = wire::AdviceRequest,
    responses((status = 202, body = wire::Job), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn create(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::AdviceRequest>,
) -> Result<(StatusCode, Json<wire::Job>)> {
    Ok((StatusCode::ACCEPTED, Json(advice::create(&grant, &app.set_tools(), &name, request).await?)))
}

/// List a collection's advice
#[utoipa::path(get, path = "/api/collections/{collection}/advice", tag = "advice",
    params(("collection" = String, Path)), responses((status = 200, body = wire::AdviceList)))]
pub async fn list(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
) -> Answer<wire::AdviceList> {
    advice::list(&grant, &app.registry, &name).await.map(Json)
}

/// Show advice
#[utoipa::path(get, path = "/api/collections/{collection}/advice/{advice}", tag = "advice",
    params(("collection" = String, Path), ("advice" = i64, Path)),
    responses((status = 200, body = wire::Advice), (status = 404, body = Problem)))]
pub async fn show(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, id)): Named<(String, i64)>,
) -> Answer<wire::Advice> {
    advice::show(&grant, &app.registry, (&name, id)).await.map(Json)
}

/// Delete advice
#[utoipa::path(delete, path = "/api/collections/{collection}/advice/{advice}", tag = "advice",
    params(("collection" = String, Path), ("advice" = i64, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn delete(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, id)): Named<(String, i64)>,
) -> Result<StatusCode> {
    advice::delete(&grant, &app.registry, (&name, id)).await?;
    Ok(StatusCode::NO_CONTENT)
}
