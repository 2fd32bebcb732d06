//! Records: `/api/collections/{collection}/records`, and the routes over many of them.

use crate::access::grant::Grant;
use crate::http::answer::{Answer, Json, etag, if_match};
use crate::http::app::App;
use crate::http::body::{Input, MAX_BATCH_BYTES, MAX_LIST, media_type};
use crate::http::inputs::{Named, Params};
use crate::problem::{Kind, Problem as Refusal, Result};
use crate::records::{batch, edit, export, fields, page, stream};
use axum::body::Body;
use axum::extract::{Request, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde::Deserialize;
use std::sync::Arc;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

/// Write records: a JSON batch (all or none), or a stream of JSON Lines
///
/// With `Content-Type: application/jsonl` each line is one record, and the service commits every 500 lines together.
/// A wrong line stops the stream. What was committed before it stays, and the answer says how much.
#[utoipa::path(post, path = "/api/collections/{collection}/records", tag = "records",
    params(("collection" = String, Path)), request_body = wire::RecordBatch,
    responses((status = 200, body = wire::Written), (status = 422, body = Problem), (status = 502, body = Problem)))]
pub async fn write(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    request: Request,
) -> Answer<wire::Written> {
    let (parts, body) = request.into_parts();
    let media = media_type(&parts.headers).unwrap_or_default();
    let (registry, encoders) = (&app.registry, &app.encoders);
    match media.as_str() {
        "application/json" => {
            let held = app.bodies.read(&parts.headers, body, MAX_BATCH_BYTES).await?;
            batch::write(&grant, registry, encoders, &name, held.bytes.clone()).await.map(Json)
        }
        "application/jsonl" | "application/x-ndjson" => {
            stream::write(&grant, registry, encoders, &name, body.into_data_stream()).await.map(Json)
        }
        other => {
            let detail = format!(
                "Content-Type is \"{other}\"; send application/json with {{\"records\": [...]}}, or application/jsonl"
            );
            Err(Refusal::new(Kind::WrongMedia, detail))
        }
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PageQuery {
    after: Option<String>,
    limit: Option<usize>,
    filter: Option<wire::Filter>,
    sort: Option<String>,
}

/// Browse records in order of their keys, or of a field
#[utoipa::path(get, path = "/api/collections/{collection}/records", tag = "records",
    params(("collection" = String, Path), ("after" = Option<String>, Query, description = "the `next` of the page before"),
        ("limit" = Option<u64>, Query, description = "1 to 1000, 50 when absent"),
        ("filter" = Option<String>, Query, description = "CQL2, text or JSON"),
        ("sort" = Option<String>, Query, description = "a field, or -field for the largest first; missing values come last")),
    responses((status = 200, body = wire::RecordPage), (status = 422, body = Problem)))]
pub async fn page(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Params(query): Params<PageQuery>,
) -> Answer<wire::RecordPage> {
    let PageQuery { after, limit, filter, sort } = query;
    let request = page::PageRequest { after, limit: limit.unwrap_or(50), filter, sort };
    page::page(&grant, &app.registry, &name, request).await.map(Json)
}

fn tagged(record: wire::Record) -> (HeaderMap, Json<wire::Record>) {
    (etag(record.revision), Json(record))
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ShowQuery {
    #[serde(default)]
    vectors: bool,
}

/// Read one record
#[utoipa::path(get, path = "/api/collections/{collection}/records/{key}", tag = "records",
    params(("collection" = String, Path), ("key" = String, Path),
        ("vectors" = Option<bool>, Query, description = "with its vectors, as they were given")),
    responses((status = 200, body = wire::Record), (status = 404, body = Problem)))]
pub async fn show(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, key)): Named<(String, String)>,
    Params(query): Params<ShowQuery>,
) -> Result<(HeaderMap, Json<wire::Record>)> {
    page::show(&grant, &app.registry, &name, &key, query.vectors).map(tagged)
}

/// Change some fields of a record (JSON Merge Patch, RFC 7396)
///
/// Vectors stay, except those that the patch brings. If an encoder would now read another text, it makes the vector
/// again. With `If-Match` the service refuses the edit if the record has changed since.
#[utoipa::path(patch, path = "/api/collections/{collection}/records/{key}", tag = "records",
    params(("collection" = String, Path), ("key" = String, Path)),
    request_body(content = wire::RecordPatch, content_type = "application/merge-patch+json"),
    responses((status = 200, body = wire::Record), (status = 404, body = Problem), (status = 412, body = Problem)))]
pub async fn patch(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, key)): Named<(String, String)>,
    headers: HeaderMap,
    Input(patch): Input<wire::RecordPatch>,
) -> Result<(HeaderMap, Json<wire::Record>)> {
    let expected = if_match(&headers, "", "record")?;
    let at = (name.as_str(), key.as_str());
    edit::patch_one(&grant, &app.registry, &app.encoders, at, &patch, expected).await.map(tagged)
}

/// Change records by key or by filter (JSON Merge Patch, RFC 7396); a dry run counts first
///
/// The service changes records in batches of 500, each all or none. If a wrong value or a broken connection stops it,
/// repeat the request: it finds the earlier batches unchanged. With a filter, it checks again every record that others
/// change during the request, and changes it only if the filter still allows it; `left_out` counts the others.
#[utoipa::path(post, path = "/api/collections/{collection}/patches", tag = "records",
    params(("collection" = String, Path)), request_body = wire::PatchRequest,
    responses((status = 200, body = wire::Patched), (status = 412, body = Problem), (status = 422, body = Problem)))]
pub async fn patch_many(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::PatchRequest, MAX_LIST>,
) -> Answer<wire::Patched> {
    edit::patch_many(&grant, &app.registry, &app.encoders, &name, request).await.map(Json)
}

/// Delete records by key or by filter; a dry run counts first
///
/// With a filter, the service checks again every record that others change during the request, and deletes it only if
/// the filter still allows it; `left_out` counts the others.
#[utoipa::path(post, path = "/api/collections/{collection}/deletions", tag = "records",
    params(("collection" = String, Path)), request_body = wire::DeleteRequest,
    responses((status = 200, body = wire::Deleted), (status = 412, body = Problem), (status = 422, body = Problem)))]
pub async fn delete_many(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::DeleteRequest, MAX_LIST>,
) -> Answer<wire::Deleted> {
    edit::delete_many(&grant, &app.registry, &app.encoders, &name, request).await.map(Json)
}

/// Delete one record; with `If-Match` only if it has not changed since
#[utoipa::path(delete, path = "/api/collections/{collection}/records/{key}", tag = "records",
    params(("collection" = String, Path), ("key" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 412, body = Problem)))]
pub async fn delete(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, key)): Named<(String, String)>,
    headers: HeaderMap,
) -> Result<StatusCode> {
    let expected = if_match(&headers, "", "record")?;
    edit::delete_one(&grant, &app.registry, (&name, &key), expected).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FieldsQuery {
    filter: Option<wire::Filter>,
    limit: Option<usize>,
}

/// Count the values of every field
#[utoipa::path(get, path = "/api/collections/{collection}/fields", tag = "records",
    params(("collection" = String, Path),
        ("filter" = Option<String>, Query, description = "count only what this CQL2 filter allows"),
        ("limit" = Option<usize>, Query, description = "values listed per field, 0 to 1000, 10 when absent")),
    responses((status = 200, body = wire::Fields), (status = 422, body = Problem)))]
pub async fn fields(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Params(query): Params<FieldsQuery>,
) -> Answer<wire::Fields> {
    let limit = query.limit.unwrap_or(10);
    fields::fields(&grant, &app.registry, &name, query.filter, limit).await.map(Json)
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ExportQuery {
    filter: Option<wire::Filter>,
    #[serde(default)]
    vectors: bool,
    format: Option<String>,
    column: Option<String>,
}

/// Export records, all or those that a filter allows
///
/// In the order they were written, from one snapshot of which records there are. `jsonlines` (when absent), `csv`,
/// `parquet` and `arrow` (an IPC stream) hold keys, fields and, with `vectors=true`, vectors: what a load takes. `npy`
/// and `safetensors` hold the vectors of one column, of the records that have one; `keys` the keys of the records,
/// in the same order, or with `column` of those that `npy` holds.
#[utoipa::path(get, path = "/api/collections/{collection}/export", tag = "records",
    params(("collection" = String, Path), ("filter" = Option<String>, Query, description = "CQL2, text or JSON"),
        ("format" = Option<String>, Query, description = "jsonlines, csv, parquet, arrow, npy, safetensors or keys"),
        ("vectors" = Option<bool>, Query, description = "with vectors, as they were given"),
        ("column" = Option<String>, Query, description = "only this vector column")),
    responses((status = 200, content_type = "application/jsonl", body = String), (status = 422, body = Problem)))]
pub async fn export(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Params(query): Params<ExportQuery>,
) -> Result<Response> {
    let ExportQuery { filter, vectors, format, column } = query;
    let request = export::ExportRequest { filter, vectors, format, column };
    let exported = export::export(&grant, &app.registry, &name, request).await?;
    let mut response = Body::from_stream(exported.parts).into_response();
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(exported.media_type));
    headers.insert("x-record-count", HeaderValue::from(exported.n_records));
    headers.insert("x-revision", HeaderValue::from(exported.revision));
    Ok(response)
}
