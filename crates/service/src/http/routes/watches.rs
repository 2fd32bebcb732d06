//! Watching live searches: `/api/collections/{collection}/watch`.

use crate::access::grant::Grant;
use crate::http::answer::{Answer, Json};
use crate::http::app::App;
use crate::http::body::Input;
use crate::http::inputs::{Named, Params};
use crate::measure::watches;
use axum::extract::State;
use serde::Deserialize;
use std::sync::Arc;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Hours {
    hours: Option<u64>,
}

/// Show what is watched of a collection, and the recall that was observed of live searches
#[utoipa::path(get, path = "/api/collections/{collection}/watch", tag = "watching",
    params(("collection" = String, Path), ("hours" = Option<u64>, Query, description = "1 to 2160; 24 when absent")),
    responses((status = 200, body = wire::WatchState), (status = 404, body = Problem)))]
pub async fn show(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Params(hours): Params<Hours>,
) -> Answer<wire::WatchState> {
    watches::show(&grant, &app.registry, &name, hours.hours.unwrap_or(24)).await.map(Json)
}

/// Set which live searches are captured, and which are answered exactly as well
#[utoipa::path(put, path = "/api/collections/{collection}/watch", tag = "watching",
    params(("collection" = String, Path)), request_body = wire::Watch,
    responses((status = 200, body = wire::WatchState), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn set(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(watch): Input<wire::Watch>,
) -> Answer<wire::WatchState> {
    watches::set(&grant, &app.registry, &name, watch).await.map(Json)
}

/// Forget the captured searches of a collection
#[utoipa::path(delete, path = "/api/collections/{collection}/captured", tag = "watching",
    params(("collection" = String, Path)), responses((status = 200, body = wire::Forgotten), (status = 404, body = Problem)))]
pub async fn forget(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
) -> Answer<wire::Forgotten> {
    watches::forget(&grant, &app.registry, &name).await.map(Json)
}
