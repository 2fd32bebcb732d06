//! Searches and filters: `/api/collections/{collection}/search`.

use crate::access::grant::Grant;
use crate::http::answer::{Answer, Json};
use crate::http::app::App;
use crate::http::body::{Input, MAX_LIST, Queued};
use crate::http::inputs::Named;
use crate::problem::Result;
use crate::search::{filters, run};
use axum::extract::State;
use axum::http::{HeaderName, header};
use serde_json::Value;
use std::sync::Arc;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

/// Search a collection
#[utoipa::path(post, path = "/api/collections/{collection}/search", tag = "search",
    params(("collection" = String, Path)), request_body = wire::SearchRequest,
    responses((status = 200, body = wire::SearchAnswer), (status = 404, body = Problem),
        (status = 422, body = Problem), (status = 502, body = Problem)))]
pub async fn search(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Queued(request, place): Queued<wire::SearchRequest>,
) -> Answer<wire::SearchAnswer> {
    run::search(&grant, &app.registry, &app.encoders, (&app.metrics, &place), (&name, request))
        .await
        .map(Json)
}

/// Make many searches of a collection at once; one that is refused refuses all
#[utoipa::path(post, path = "/api/collections/{collection}/searches", tag = "search",
    params(("collection" = String, Path)), request_body = wire::SearchRequests,
    responses((status = 200, body = wire::SearchAnswers), (status = 404, body = Problem),
        (status = 422, body = Problem), (status = 502, body = Problem)))]
pub async fn search_many(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Queued(request, place): Queued<wire::SearchRequests, MAX_LIST>,
) -> Answer<wire::SearchAnswers> {
    run::search_many(&grant, &app.registry, &app.encoders, (&app.metrics, &place), (&name, request.searches))
        .await
        .map(Json)
}

/// Read a filter: both of its forms, and how many records it allows
#[utoipa::path(post, path = "/api/collections/{collection}/filter", tag = "search",
    params(("collection" = String, Path)), request_body = wire::FilterRequest,
    responses((status = 200, body = wire::FilterReading), (status = 422, body = Problem)))]
pub async fn read_filter(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::FilterRequest>,
) -> Answer<wire::FilterReading> {
    filters::read(&grant, &app.registry, &name, request.filter).await.map(Json)
}

/// Show the fields that filters can ask of, as a JSON Schema (2020-12)
#[utoipa::path(get, path = "/api/collections/{collection}/queryables", tag = "search",
    params(("collection" = String, Path)),
    responses((status = 200, content_type = "application/schema+json", body = Object)))]
pub async fn queryables(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
) -> Result<([(HeaderName, &'static str); 1], Json<Value>)> {
    let schema = filters::queryables(&grant, &app.registry, &name)?;
    Ok(([(header::CONTENT_TYPE, "application/schema+json")], Json(schema)))
}
