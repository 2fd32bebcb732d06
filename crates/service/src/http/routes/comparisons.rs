//! Comparisons: `/api/collections/{collection}/comparisons`.

use crate::access::grant::Grant;
use crate::http::answer::{Answer, Json};
use crate::http::app::App;
use crate::http::body::Input;
use crate::http::inputs::{Named, Params};
use crate::measure::comparisons::{self, Which};
use crate::problem::Result;
use axum::extract::State;
use axum::http::StatusCode;
use serde::Deserialize;
use std::sync::Arc;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

/// Compare two indexes, settings or columns on the same queries, as a job
#[utoipa::path(post, path = "/api/collections/{collection}/comparisons", tag = "comparisons",
    params(("collection" = String, Path)), request_body = wire::ComparisonRequest,
    responses((status = 202, body = wire::Job), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn create(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::ComparisonRequest>,
) -> Result<(StatusCode, Json<wire::Job>)> {
    Ok((StatusCode::ACCEPTED, Json(comparisons::create(&grant, &app.set_tools(), &name, request).await?)))
}

/// List a collection's comparisons
#[utoipa::path(get, path = "/api/collections/{collection}/comparisons", tag = "comparisons",
    params(("collection" = String, Path)), responses((status = 200, body = wire::ComparisonList)))]
pub async fn list(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
) -> Answer<wire::ComparisonList> {
    comparisons::list(&grant, &app.registry, &name).await.map(Json)
}

/// Show a comparison
#[utoipa::path(get, path = "/api/collections/{collection}/comparisons/{comparison}", tag = "comparisons",
    params(("collection" = String, Path), ("comparison" = i64, Path)),
    responses((status = 200, body = wire::Comparison), (status = 404, body = Problem)))]
pub async fn show(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, id)): Named<(String, i64)>,
) -> Answer<wire::Comparison> {
    comparisons::show(&grant, &app.registry, (&name, id)).await.map(Json)
}

/// Delete a comparison
#[utoipa::path(delete, path = "/api/collections/{collection}/comparisons/{comparison}", tag = "comparisons",
    params(("collection" = String, Path), ("comparison" = i64, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn delete(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, id)): Named<(String, i64)>,
) -> Result<StatusCode> {
    comparisons::delete(&grant, &app.registry, (&name, id)).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PageQuery {
    #[serde(default)]
    from: u64,
    #[serde(default = "twenty")]
    limit: u64,
}

fn twenty() -> u64 {
    20
}

/// Read queries of a comparison with the hits of both sides, those that differ most first
#[utoipa::path(get, path = "/api/collections/{collection}/comparisons/{comparison}/queries", tag = "comparisons",
    params(("collection" = String, Path), ("comparison" = i64, Path),
        ("from" = Option<u64>, Query, description = "The `next` of the page before"),
        ("limit" = Option<u64>, Query, description = "1 to 100; 20 when absent")),
    responses((status = 200, body = wire::ComparedPage), (status = 404, body = Problem)))]
pub async fn queries(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, id)): Named<(String, i64)>,
    Params(page): Params<PageQuery>,
) -> Answer<wire::ComparedPage> {
    let which = Which::Page { from: page.from, limit: page.limit };
    comparisons::queries(&grant, &app.registry, (&name, id), which).await.map(Json)
}

/// Read one query of a comparison, by its place in the query set
#[utoipa::path(get, path = "/api/collections/{collection}/comparisons/{comparison}/queries/{position}",
    tag = "comparisons",
    params(("collection" = String, Path), ("comparison" = i64, Path), ("position" = u64, Path)),
    responses((status = 200, body = wire::ComparedPage), (status = 404, body = Problem)))]
pub async fn query(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, id, position)): Named<(String, i64, u64)>,
) -> Answer<wire::ComparedPage> {
    comparisons::queries(&grant, &app.registry, (&name, id), Which::One(position)).await.map(Json)
}

/// Say which side a person prefers for a query; the answer counts all verdicts
#[utoipa::path(put, path = "/api/collections/{collection}/comparisons/{comparison}/queries/{position}/verdict",
    tag = "comparisons",
    params(("collection" = String, Path), ("comparison" = i64, Path), ("position" = u64, Path)),
    request_body = wire::VerdictRequest,
    responses((status = 200, body = wire::Verdicts), (status = 404, body = Problem)))]
pub async fn judge(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, id, position)): Named<(String, i64, u64)>,
    Input(request): Input<wire::VerdictRequest>,
) -> Answer<wire::Verdicts> {
    comparisons::judge(&grant, &app.registry, (&name, id, position), request.verdict).await.map(Json)
}
