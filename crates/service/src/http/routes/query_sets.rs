//! Query sets: `/api/collections/{collection}/query-sets`.

use crate::access::grant::Grant;
use crate::http::answer::{Answer, Json};
use crate::http::app::App;
use crate::http::body::Input;
use crate::http::inputs::{Named, Params};
use crate::measure::query_sets;
use crate::problem::Result;
use axum::extract::State;
use axum::http::StatusCode;
use serde::Deserialize;
use std::sync::Arc;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

/// Make a query set, with its exact answers, as a job
#[utoipa::path(post, path = "/api/collections/{collection}/query-sets", tag = "query sets",
    params(("collection" = String, Path)), request_body = wire::NewQuerySet,
    responses((status = 202, body = wire::Job), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn create(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::NewQuerySet>,
) -> Result<(StatusCode, Json<wire::Job>)> {
    Ok((StatusCode::ACCEPTED, Json(query_sets::create(&grant, &app.set_tools(), &name, request).await?)))
}

/// List a collection's query sets
#[utoipa::path(get, path = "/api/collections/{collection}/query-sets", tag = "query sets",
    params(("collection" = String, Path)), responses((status = 200, body = wire::QuerySetList)))]
pub async fn list(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
) -> Answer<wire::QuerySetList> {
    query_sets::list(&grant, &app.registry, &name).await.map(Json)
}

/// Show a query set
#[utoipa::path(get, path = "/api/collections/{collection}/query-sets/{set}", tag = "query sets",
    params(("collection" = String, Path), ("set" = String, Path)),
    responses((status = 200, body = wire::QuerySet), (status = 404, body = Problem)))]
pub async fn show(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, set)): Named<(String, String)>,
) -> Answer<wire::QuerySet> {
    query_sets::show(&grant, &app.registry, (&name, &set)).await.map(Json)
}

/// Delete a query set
#[utoipa::path(delete, path = "/api/collections/{collection}/query-sets/{set}", tag = "query sets",
    params(("collection" = String, Path), ("set" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn delete(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, set)): Named<(String, String)>,
) -> Result<StatusCode> {
    query_sets::delete(&grant, &app.registry, (&name, &set)).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PageOfQueries {
    from: Option<u64>,
    limit: Option<u64>,
}

/// Read the queries of a set, in order
#[utoipa::path(get, path = "/api/collections/{collection}/query-sets/{set}/queries", tag = "query sets",
    params(("collection" = String, Path), ("set" = String, Path),
        ("from" = Option<u64>, Query, description = "The position of the first one; 0 when absent"),
        ("limit" = Option<u64>, Query, description = "1 to 1,000; 100 when absent")),
    responses((status = 200, body = wire::QueryPage), (status = 404, body = Problem)))]
pub async fn queries(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, set)): Named<(String, String)>,
    Params(page): Params<PageOfQueries>,
) -> Answer<wire::QueryPage> {
    let page = (page.from.unwrap_or(0), page.limit.unwrap_or(100));
    query_sets::queries(&grant, &app.registry, (&name, &set), page).await.map(Json)
}

/// Compute the exact answers of a query set, as a job; those that are kept and current are taken as they are
#[utoipa::path(post, path = "/api/collections/{collection}/query-sets/{set}/answers", tag = "query sets",
    params(("collection" = String, Path), ("set" = String, Path)), request_body = wire::AnswersRequest,
    responses((status = 202, body = wire::Job), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn answer(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, set)): Named<(String, String)>,
    Input(request): Input<wire::AnswersRequest>,
) -> Result<(StatusCode, Json<wire::Job>)> {
    let job = query_sets::answer(&grant, &app.set_tools(), (&name, &set), request).await?;
    Ok((StatusCode::ACCEPTED, Json(job)))
}
