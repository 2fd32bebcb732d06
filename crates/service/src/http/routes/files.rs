//! Uploaded files: `/api/files`.

use crate::access::grant::Grant;
use crate::http::answer::{Answer, Json};
use crate::http::app::App;
use crate::http::body::Input;
use crate::http::inputs::{Named, Params};
use crate::node::uploads::Part;
use crate::problem::Result;
use axum::body::Body;
use axum::extract::State;
use axum::http::StatusCode;
use serde::Deserialize;
use std::sync::Arc;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

/// Announce a file to be uploaded
#[utoipa::path(post, path = "/api/files", tag = "files", request_body = wire::NewUpload,
    responses((status = 201, body = wire::Upload), (status = 413, body = Problem), (status = 422, body = Problem)))]
pub async fn announce(
    State(app): State<Arc<App>>,
    grant: Grant,
    Input(request): Input<wire::NewUpload>,
) -> Result<(StatusCode, Json<wire::Upload>)> {
    Ok((StatusCode::CREATED, Json(app.uploads.announce(&grant, request)?)))
}

/// List uploaded files that no load has finished with
#[utoipa::path(get, path = "/api/files", tag = "files", responses((status = 200, body = wire::UploadList)))]
pub async fn list(State(app): State<Arc<App>>, grant: Grant) -> Answer<wire::UploadList> {
    app.uploads.list(&grant).map(Json)
}

/// Show how much of a file has arrived
#[utoipa::path(get, path = "/api/files/{file}", tag = "files", params(("file" = String, Path)),
    responses((status = 200, body = wire::Upload), (status = 404, body = Problem)))]
pub async fn show(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(id): Named<String>,
) -> Answer<wire::Upload> {
    app.uploads.show(&grant, &id).map(Json)
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ContentQuery {
    #[serde(default)]
    offset: u64,
    #[serde(default)]
    end: bool,
}

/// Send a file, or the rest of one that broke off
#[utoipa::path(put, path = "/api/files/{file}/content", tag = "files",
    params(("file" = String, Path), ("offset" = Option<u64>, Query, description = "bytes that have arrived already"),
        ("end" = Option<bool>, Query, description = "the file ends with the body, even if its size was not announced")),
    request_body(content = String, content_type = "application/octet-stream"),
    responses((status = 200, body = wire::Upload), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn send(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(id): Named<String>,
    Params(query): Params<ContentQuery>,
    body: Body,
) -> Answer<wire::Upload> {
    let part = Part { offset: query.offset, end: query.end };
    app.uploads.append(&grant, &id, part, body.into_data_stream()).await.map(Json)
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct InspectionQuery {
    types: Option<String>,
}

/// Look into an uploaded file: fields, types, examples, vectors
///
/// If a column has values of several types, the answer says what is odd, and how many of the sampled rows each type
/// would reject. With `types` the service reads the whole file and counts what the chosen types would reject.
#[utoipa::path(get, path = "/api/files/{file}/inspection", tag = "files",
    params(("file" = String, Path),
        ("types" = Option<String>, Query, description = "JSON: column of the file to type, such as {\"added\":\"date\"}")),
    responses((status = 200, body = wire::Inspection), (status = 422, body = Problem)))]
pub async fn inspect(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(id): Named<String>,
    Params(query): Params<InspectionQuery>,
) -> Answer<wire::Inspection> {
    app.uploads.inspect(&grant, &id, query.types).await.map(Json)
}

/// Forget an uploaded file
#[utoipa::path(delete, path = "/api/files/{file}", tag = "files", params(("file" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn remove(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(id): Named<String>,
) -> Result<StatusCode> {
    app.uploads.forget(&grant, &id)?;
    Ok(StatusCode::NO_CONTENT)
}
