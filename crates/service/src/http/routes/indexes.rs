//! Indexes and recipes: `/api/collections/{collection}/indexes`, `/api/recipes`.

use crate::access::grant::Grant;
use crate::collections::{indexes, loading, recipes};
use crate::http::answer::{Answer, Json};
use crate::http::app::App;
use crate::http::body::Input;
use crate::http::inputs::Named;
use crate::problem::Result;
use axum::extract::State;
use axum::http::StatusCode;
use std::sync::Arc;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

/// Explain what a recipe does and costs, without building anything
#[utoipa::path(post, path = "/api/recipes/explanation", tag = "indexes", request_body = wire::RecipeRequest,
    responses((status = 200, body = wire::RecipeExplained), (status = 422, body = Problem)))]
pub async fn explain(
    State(app): State<Arc<App>>,
    grant: Grant,
    Input(request): Input<wire::RecipeRequest>,
) -> Answer<wire::RecipeExplained> {
    recipes::explain(&grant, &app.registry, &request).await.map(Json)
}

/// Build an index as a job
#[utoipa::path(post, path = "/api/collections/{collection}/indexes", tag = "indexes",
    params(("collection" = String, Path)), request_body = wire::NewIndex,
    responses((status = 202, body = wire::Job), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn create(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::NewIndex>,
) -> Result<(StatusCode, Json<wire::Job>)> {
    Ok((StatusCode::ACCEPTED, Json(indexes::create(&grant, &app.registry, &name, request).await?)))
}

/// List a collection's indexes
#[utoipa::path(get, path = "/api/collections/{collection}/indexes", tag = "indexes",
    params(("collection" = String, Path)), responses((status = 200, body = wire::IndexList)))]
pub async fn list(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
) -> Answer<wire::IndexList> {
    indexes::list(&grant, &app.registry, &name).await.map(Json)
}

/// Absorb into an index what was written since it was built, as a job
///
/// The service does so by itself when much was written.
#[utoipa::path(post, path = "/api/collections/{collection}/indexes/{index}/absorb", tag = "indexes",
    params(("collection" = String, Path), ("index" = String, Path)),
    responses((status = 202, body = wire::Job), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn absorb(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, index)): Named<(String, String)>,
) -> Result<(StatusCode, Json<wire::Job>)> {
    Ok((StatusCode::ACCEPTED, Json(indexes::absorb(&grant, &app.registry, (&name, &index)).await?)))
}

/// Drop an index; if it was the serving choice, searches are exact from then on
#[utoipa::path(delete, path = "/api/collections/{collection}/indexes/{index}", tag = "indexes",
    params(("collection" = String, Path), ("index" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn delete(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, index)): Named<(String, String)>,
) -> Result<StatusCode> {
    indexes::drop_index(&grant, &app.registry, (&name, &index)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Put an index out of memory on all nodes; its file stays
#[utoipa::path(delete, path = "/api/collections/{collection}/indexes/{index}/memory", tag = "indexes",
    params(("collection" = String, Path), ("index" = String, Path)),
    responses((status = 200, body = wire::Index), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn unload(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((collection, index)): Named<(String, String)>,
) -> Answer<wire::Index> {
    loading::unload(&grant, &app.registry, (&collection, &index)).await.map(Json)
}

/// Take an index into memory again
#[utoipa::path(put, path = "/api/collections/{collection}/indexes/{index}/memory", tag = "indexes",
    params(("collection" = String, Path), ("index" = String, Path)),
    responses((status = 200, body = wire::Index), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn load(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((collection, index)): Named<(String, String)>,
) -> Answer<wire::Index> {
    loading::load(&grant, &app.registry, (&collection, &index)).await.map(Json)
}
