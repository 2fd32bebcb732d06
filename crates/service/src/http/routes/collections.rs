//! Collections: `/api/collections`.

use crate::access::grant::Grant;
use crate::collections::{change, costs, lifecycle, serving};
use crate::http::answer::{Answer, Json, etag, if_match};
use crate::http::app::App;
use crate::http::body::Input;
use crate::http::inputs::Named;
use crate::problem::Result;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use std::sync::Arc;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

/// Create a collection
#[utoipa::path(post, path = "/api/collections", tag = "collections", request_body = wire::NewCollection,
    responses((status = 201, body = wire::Collection), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn create(
    State(app): State<Arc<App>>,
    grant: Grant,
    Input(request): Input<wire::NewCollection>,
) -> Result<(StatusCode, Json<wire::Collection>)> {
    let created = change::create(&grant, &app.registry, &app.encoders, request).await?;
    Ok((StatusCode::CREATED, Json(created)))
}

/// List collections
#[utoipa::path(get, path = "/api/collections", tag = "collections",
    responses((status = 200, body = wire::CollectionList)))]
pub async fn list(State(app): State<Arc<App>>, grant: Grant) -> Answer<wire::CollectionList> {
    change::list(&grant, &app.registry).map(Json)
}

fn tagged(collection: wire::Collection) -> (HeaderMap, Json<wire::Collection>) {
    (etag(format!("schema-{}", collection.schema_version)), Json(collection))
}

/// Show a collection
#[utoipa::path(get, path = "/api/collections/{collection}", tag = "collections",
    params(("collection" = String, Path)),
    responses((status = 200, body = wire::Collection), (status = 404, body = Problem)))]
pub async fn show(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
) -> Result<(HeaderMap, Json<wire::Collection>)> {
    change::show(&grant, &app.registry, &name).map(tagged)
}

/// Drop a collection with its records, vectors and indexes; it can be restored for some days
#[utoipa::path(delete, path = "/api/collections/{collection}", tag = "collections",
    params(("collection" = String, Path)),
    responses((status = 200, body = wire::DroppedCollection), (status = 404, body = Problem),
        (status = 409, body = Problem)))]
pub async fn delete(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
) -> Answer<wire::DroppedCollection> {
    lifecycle::drop_it(&grant, &app.registry, &name).await.map(Json)
}

/// List the collections that can be restored
#[utoipa::path(get, path = "/api/dropped-collections", tag = "collections",
    responses((status = 200, body = wire::DroppedList)))]
pub async fn dropped(State(app): State<Arc<App>>, grant: Grant) -> Answer<wire::DroppedList> {
    lifecycle::dropped(&grant, &app.registry).await.map(Json)
}

/// Bring a dropped collection back; its indexes are built again
#[utoipa::path(post, path = "/api/dropped-collections/{id}/restoration", tag = "collections",
    params(("id" = i64, Path)), request_body = wire::RestoreRequest,
    responses((status = 200, body = wire::Collection), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn restore(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(id): Named<i64>,
    Input(request): Input<wire::RestoreRequest>,
) -> Answer<wire::Collection> {
    lifecycle::restore(&grant, &app.registry, id, request).await.map(Json)
}

/// Delete a dropped collection for good
#[utoipa::path(delete, path = "/api/dropped-collections/{id}", tag = "collections",
    params(("id" = i64, Path)), responses((status = 204), (status = 404, body = Problem)))]
pub async fn purge(State(app): State<Arc<App>>, grant: Grant, Named(id): Named<i64>) -> Result<StatusCode> {
    lifecycle::purge(&grant, &app.registry, id).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Give a collection another name; fields that refer to it, keys, jobs and loads go with it
#[utoipa::path(put, path = "/api/collections/{collection}/name", tag = "collections",
    params(("collection" = String, Path)), request_body = wire::RenameRequest,
    responses((status = 200, body = wire::Collection), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn rename(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::RenameRequest>,
) -> Answer<wire::Collection> {
    lifecycle::rename(&grant, &app.registry, &name, request).await.map(Json)
}

/// Let two collections change names at once; keys and references keep to the names
#[utoipa::path(post, path = "/api/collections/{collection}/swap", tag = "collections",
    params(("collection" = String, Path)), request_body = wire::SwapRequest,
    responses((status = 200, body = wire::CollectionList), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn swap(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::SwapRequest>,
) -> Answer<wire::CollectionList> {
    lifecycle::swap(&grant, &app.registry, &name, request).await.map(Json)
}

/// Copy a collection under a new name, with its saved searches and indexes, while it is written to
#[utoipa::path(post, path = "/api/collections/{collection}/clone", tag = "collections",
    params(("collection" = String, Path)), request_body = wire::CloneRequest,
    responses((status = 202, body = wire::Job), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn clone(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::CloneRequest>,
) -> Result<(StatusCode, Json<wire::Job>)> {
    Ok((StatusCode::ACCEPTED, Json(lifecycle::clone(&grant, &app.registry, &name, request).await?)))
}

/// Change a collection's description, fields or default column; records stay as they are
///
/// With `If-Match` the service refuses the change if fields or columns have changed since. Without it, too, it refuses
/// a change of fields if another change of fields came between.
#[utoipa::path(patch, path = "/api/collections/{collection}", tag = "collections",
    params(("collection" = String, Path)),
    request_body(content = wire::CollectionPatch, content_type = "application/merge-patch+json"),
    responses((status = 200, body = wire::Collection), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 412, body = Problem), (status = 422, body = Problem)))]
pub async fn patch(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    headers: HeaderMap,
    Input(request): Input<wire::CollectionPatch>,
) -> Result<(HeaderMap, Json<wire::Collection>)> {
    let expected = if_match(&headers, "schema-", "collection")?;
    change::patch(&grant, &app.registry, &name, &request, expected).await.map(tagged)
}

/// Show what a collection takes: bytes in MariaDB, on disk and in memory, part by part
#[utoipa::path(get, path = "/api/collections/{collection}/costs", tag = "collections",
    params(("collection" = String, Path)),
    responses((status = 200, body = wire::Costs), (status = 404, body = Problem)))]
pub async fn costs(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
) -> Answer<wire::Costs> {
    costs::costs(&grant, &app.registry, &name).await.map(Json)
}

/// Make an index and its settings the serving choice of a vector column
#[utoipa::path(put, path = "/api/collections/{collection}/columns/{column}/serving", tag = "indexes",
    params(("collection" = String, Path), ("column" = String, Path)), request_body = wire::ServingChoice,
    responses((status = 200, body = wire::Collection), (status = 404, body = Problem)))]
pub async fn serve(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, column)): Named<(String, String)>,
    Input(choice): Input<wire::ServingChoice>,
) -> Answer<wire::Collection> {
    serving::serve(&grant, &app.registry, (&name, &column), choice).await.map(Json)
}

/// Answer searches of a vector column by the exact scan
#[utoipa::path(delete, path = "/api/collections/{collection}/columns/{column}/serving", tag = "indexes",
    params(("collection" = String, Path), ("column" = String, Path)),
    responses((status = 200, body = wire::Collection), (status = 404, body = Problem)))]
pub async fn serve_exact(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, column)): Named<(String, String)>,
) -> Answer<wire::Collection> {
    serving::serve_exact(&grant, &app.registry, (&name, &column)).await.map(Json)
}
