//! Loads: `/api/collections/{collection}/loads`.

use crate::access::grant::Grant;
use crate::http::answer::{Answer, Json};
use crate::http::app::App;
use crate::http::body::Input;
use crate::http::inputs::Named;
use crate::loads::requests;
use crate::problem::Result;
use axum::body::Body;
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use std::sync::Arc;
use tokio_util::io::ReaderStream;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

/// Load uploaded files into a collection, as a job
///
/// If a file as a whole is wrong, for example if it has another number of rows than the file of vectors, the service
/// refuses the load before it writes a record. It commits records in batches, each with how far the load is.
#[utoipa::path(post, path = "/api/collections/{collection}/loads", tag = "loads",
    params(("collection" = String, Path)), request_body = wire::LoadRequest,
    responses((status = 202, body = wire::StartedLoad), (status = 422, body = Problem)))]
pub async fn create(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::LoadRequest>,
) -> Result<(StatusCode, Json<wire::StartedLoad>)> {
    let started = requests::create(&grant, &app.load_tools(), &name, request).await?;
    Ok((StatusCode::ACCEPTED, Json(started)))
}

/// List loads of a collection
#[utoipa::path(get, path = "/api/collections/{collection}/loads", tag = "loads",
    params(("collection" = String, Path)), responses((status = 200, body = wire::LoadList)))]
pub async fn list(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
) -> Answer<wire::LoadList> {
    requests::list(&grant, &app.registry, &name).await.map(Json)
}

/// Show a load
#[utoipa::path(get, path = "/api/collections/{collection}/loads/{load}", tag = "loads",
    params(("collection" = String, Path), ("load" = i64, Path)),
    responses((status = 200, body = wire::Load), (status = 404, body = Problem)))]
pub async fn show(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, id)): Named<(String, i64)>,
) -> Answer<wire::Load> {
    requests::show(&grant, &app.registry, &name, id).await.map(Json)
}

/// Resume a load that stopped, after its last committed batch
#[utoipa::path(post, path = "/api/collections/{collection}/loads/{load}/resume", tag = "loads",
    params(("collection" = String, Path), ("load" = i64, Path)), request_body = wire::ResumeRequest,
    responses((status = 202, body = wire::StartedLoad), (status = 409, body = Problem)))]
pub async fn resume(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, id)): Named<(String, i64)>,
    Input(request): Input<wire::ResumeRequest>,
) -> Result<(StatusCode, Json<wire::StartedLoad>)> {
    let started = requests::resume(&grant, &app.load_tools(), &name, id, request).await?;
    Ok((StatusCode::ACCEPTED, Json(started)))
}

/// Read the rows that a load set aside, as JSON Lines, each with its reason; once corrected, they can be loaded
#[utoipa::path(get, path = "/api/collections/{collection}/loads/{load}/rejects", tag = "loads",
    params(("collection" = String, Path), ("load" = i64, Path)),
    responses((status = 200, content_type = "application/jsonl", body = String)))]
pub async fn rejects(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, id)): Named<(String, i64)>,
) -> Result<Response> {
    let rejects = requests::rejects(&grant, &app.registry, &name, id).await?;
    let body = rejects.map_or_else(Body::empty, |file| Body::from_stream(ReaderStream::new(file)));
    Ok(([(header::CONTENT_TYPE, "application/jsonl")], body).into_response())
}
