//! The lens and the map: `/api/collections/{collection}/lens` and `.../map`.

use crate::access::grant::Grant;
use crate::http::answer::{Answer, Json};
use crate::http::app::App;
use crate::http::body::Input;
use crate::http::inputs::Named;
use crate::measure::{lens, map};
use axum::extract::State;
use std::sync::Arc;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

/// Look at one query: which true neighbours an index missed, by how much, and the smallest setting that finds each
#[utoipa::path(post, path = "/api/collections/{collection}/lens", tag = "lens",
    params(("collection" = String, Path)), request_body = wire::LensRequest,
    responses((status = 200, body = wire::LensAnswer), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn look(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::LensRequest>,
) -> Answer<wire::LensAnswer> {
    lens::lens(&grant, &app.set_tools(), &name, request).await.map(Json)
}

/// Place records in two dimensions, coloured by a field, with a query and its neighbours marked
#[utoipa::path(post, path = "/api/collections/{collection}/map", tag = "lens",
    params(("collection" = String, Path)), request_body = wire::MapRequest,
    responses((status = 200, body = wire::MapAnswer), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn draw(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::MapRequest>,
) -> Answer<wire::MapAnswer> {
    map::map(&grant, &app.set_tools(), &name, request).await.map(Json)
}
