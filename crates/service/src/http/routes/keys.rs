//! Keys and the audit list: `/api/keys`, `/api/key`, `/api/audit`.

use crate::access::grant::Grant;
use crate::http::answer::{Answer, Json};
use crate::http::app::App;
use crate::http::body::Input;
use crate::http::inputs::{Named, Params};
use crate::problem::Result;
use axum::extract::State;
use axum::http::StatusCode;
use serde::Deserialize;
use std::sync::Arc;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

/// List keys, what they permit, and when they were last used; the service does not keep their secrets
#[utoipa::path(get, path = "/api/keys", tag = "keys", responses((status = 200, body = wire::KeyList)))]
pub async fn list(State(app): State<Arc<App>>, grant: Grant) -> Answer<wire::KeyList> {
    app.keys.list(&grant).await.map(Json)
}

/// Make a key
#[utoipa::path(post, path = "/api/keys", tag = "keys", request_body = wire::KeyRequest,
    responses((status = 201, body = wire::NewKey), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn create(
    State(app): State<Arc<App>>,
    grant: Grant,
    Input(request): Input<wire::KeyRequest>,
) -> Result<(StatusCode, Json<wire::NewKey>)> {
    Ok((StatusCode::CREATED, Json(app.keys.create(&grant, &app.registry, request).await?)))
}

/// Change what a key permits
#[utoipa::path(patch, path = "/api/keys/{key}", tag = "keys", params(("key" = String, Path)),
    request_body = wire::KeyChange,
    responses((status = 200, body = wire::Key), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub async fn change(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(change): Input<wire::KeyChange>,
) -> Answer<wire::Key> {
    app.keys.change(&grant, &app.registry, &name, change).await.map(Json)
}

/// Remove a key, and end the sessions that were signed in with it
#[utoipa::path(delete, path = "/api/keys/{key}", tag = "keys", params(("key" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn remove(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
) -> Result<StatusCode> {
    app.keys.remove(&grant, &name).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Give a key a new secret; the one before stays good for a while
#[utoipa::path(post, path = "/api/keys/{key}/secrets", tag = "keys", params(("key" = String, Path)),
    request_body = wire::RotateRequest,
    responses((status = 201, body = wire::NewKey), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn rotate(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::RotateRequest>,
) -> Result<(StatusCode, Json<wire::NewKey>)> {
    Ok((StatusCode::CREATED, Json(app.keys.rotate(&grant, &name, request).await?)))
}

/// Show what the key of this request permits, and which collections it sees
#[utoipa::path(get, path = "/api/key", tag = "keys", responses((status = 200, body = wire::OwnKey)))]
pub async fn own(State(app): State<Arc<App>>, grant: Grant) -> Json<wire::OwnKey> {
    Json(app.keys.own(&grant, &app.registry))
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AuditQuery {
    before: Option<i64>,
    limit: Option<usize>,
}

/// List what was done with keys, newest first
///
/// Every request that changes something is listed, and every one that a key was not permitted. Entries are kept for 400
/// days, and a million of them.
#[utoipa::path(get, path = "/api/audit", tag = "keys",
    params(("before" = Option<i64>, Query, description = "the `next` of the page before"),
        ("limit" = Option<u64>, Query, description = "1 to 1000, 100 when absent", minimum = 1, maximum = 1000)),
    responses((status = 200, body = wire::AuditList), (status = 422, body = Problem)))]
pub async fn audit(
    State(app): State<Arc<App>>,
    grant: Grant,
    Params(query): Params<AuditQuery>,
) -> Answer<wire::AuditList> {
    app.audit.list(&grant, query.before, query.limit.unwrap_or(100)).await.map(Json)
}
