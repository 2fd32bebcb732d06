//! Reports of what was measured: `/api/collections/{collection}/measurements/{measurement}/report`.

use crate::access::grant::Grant;
use crate::http::app::App;
use crate::http::inputs::{Named, Params};
use crate::measure::report;
use crate::problem::Result;
use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use serde::Deserialize;
use std::sync::Arc;
use zesty_wire::problem::Problem;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Format {
    format: Option<String>,
}

/// Save a sweep, a target, a comparison or advice as a file
///
/// Its rows as `csv` or `parquet`, all of it as `json`, its chart as `png`, or a page of `html` that needs no service.
#[utoipa::path(get, path = "/api/collections/{collection}/measurements/{measurement}/report", tag = "measurements",
    params(("collection" = String, Path), ("measurement" = i64, Path),
        ("format" = Option<String>, Query, description = "csv, parquet, json, png or html (when absent)")),
    responses((status = 200, content_type = "text/html", body = String), (status = 404, body = Problem)))]
pub async fn report(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, id)): Named<(String, i64)>,
    Params(format): Params<Format>,
) -> Result<Response> {
    let format = format.format.unwrap_or_else(|| "html".into());
    let saved = report::save(&grant, &app.registry, (&name, id), &format).await?;
    Ok(([(header::CONTENT_TYPE, saved.media_type)], saved.bytes).into_response())
}
