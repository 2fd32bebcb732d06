//! Vector columns: `/api/collections/{collection}/columns`.

use crate::access::grant::Grant;
use crate::collections::columns;
use crate::http::answer::{Answer, Json};
use crate::http::app::App;
use crate::http::body::Input;
use crate::http::inputs::{Named, Params};
use crate::loads::backfill;
use crate::problem::Result;
use axum::extract::State;
use axum::http::StatusCode;
use serde::Deserialize;
use std::sync::Arc;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

/// Add a vector column to a collection that has records
#[utoipa::path(post, path = "/api/collections/{collection}/columns", tag = "columns",
    params(("collection" = String, Path)), request_body = wire::NewColumn,
    responses((status = 201, body = wire::Collection), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub async fn add(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::NewColumn>,
) -> Result<(StatusCode, Json<wire::Collection>)> {
    let changed = columns::add(&grant, &app.registry, &app.encoders, &name, request).await?;
    Ok((StatusCode::CREATED, Json(changed)))
}

/// Backfill a column from its encoder, as a job: every record that has a text and no vector gets one
#[utoipa::path(post, path = "/api/collections/{collection}/columns/{column}/backfill", tag = "columns",
    params(("collection" = String, Path), ("column" = String, Path)),
    responses((status = 202, body = wire::Job), (status = 422, body = Problem)))]
pub async fn backfill(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, column)): Named<(String, String)>,
) -> Result<(StatusCode, Json<wire::Job>)> {
    let job = backfill::start(&grant, &app.registry, &app.encoders, (&name, &column)).await?;
    Ok((StatusCode::ACCEPTED, Json(job)))
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct UnencodedQuery {
    limit: Option<u64>,
}

/// List records that could not be encoded, with the reason
#[utoipa::path(get, path = "/api/collections/{collection}/columns/{column}/unencoded", tag = "columns",
    params(("collection" = String, Path), ("column" = String, Path),
        ("limit" = Option<u64>, Query, description = "1 to 1000, 100 when absent")),
    responses((status = 200, body = wire::Unencoded)))]
pub async fn unencoded(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, column)): Named<(String, String)>,
    Params(query): Params<UnencodedQuery>,
) -> Answer<wire::Unencoded> {
    let limit = query.limit.unwrap_or(100);
    columns::unencoded(&grant, &app.registry, (&name, &column), limit).await.map(Json)
}

/// Drop a vector column with its vectors, indexes and sweeps
#[utoipa::path(delete, path = "/api/collections/{collection}/columns/{column}", tag = "columns",
    params(("collection" = String, Path), ("column" = String, Path)),
    responses((status = 200, body = wire::Collection), (status = 409, body = Problem)))]
pub async fn drop_column(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((name, column)): Named<(String, String)>,
) -> Answer<wire::Collection> {
    columns::drop_column(&grant, &app.registry, (&name, &column)).await.map(Json)
}
