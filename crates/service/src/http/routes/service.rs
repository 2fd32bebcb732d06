//! The service itself, signing in, and the encoders it knows.

use crate::access::grant::Grant;
use crate::collections::columns::remove_encoder as remove;
use crate::collections::{examine, gauges, status};
use crate::http::answer::{Answer, Json};
use crate::http::app::App;
use crate::http::authentication::{session, set_cookie};
use crate::http::body::Input;
use crate::http::inputs::Named;
use crate::problem::Result;
use axum::extract::State;
use axum::http::{HeaderMap, HeaderName, StatusCode, header};
use std::sync::Arc;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

/// Show the service
#[utoipa::path(get, path = "/api/service", tag = "service", responses((status = 200, body = wire::Service)))]
pub async fn service(State(app): State<Arc<App>>, grant: Grant) -> Answer<wire::Service> {
    status::status(&grant, &app.registry, app.started).await.map(Json)
}

/// Show how this node is, and its last hour
#[utoipa::path(get, path = "/api/pulse", tag = "service", responses((status = 200, body = wire::Pulse)))]
pub async fn pulse(State(app): State<Arc<App>>, grant: Grant) -> Answer<wire::Pulse> {
    let counts = (&app.lanes, &*app.metrics);
    gauges::pulse(&grant, &app.registry, counts, app.started).await.map(Json)
}

/// Look at this node from end to end: its database, disk, memory, encoders and collections, and what to do about each
#[utoipa::path(get, path = "/api/examination", tag = "service",
    responses((status = 200, body = wire::Examination)))]
pub async fn examination(State(app): State<Arc<App>>, grant: Grant) -> Answer<wire::Examination> {
    examine::examine(&grant, &app.registry, &app.encoders).await.map(Json)
}

/// Show this node's metrics, as Prometheus reads them (OpenMetrics text)
#[utoipa::path(get, path = "/metrics", tag = "service",
    responses((status = 200, content_type = "application/openmetrics-text", body = String)))]
pub async fn metrics(
    State(app): State<Arc<App>>,
    grant: Grant,
) -> Result<([(HeaderName, &'static str); 1], String)> {
    let counts = (&app.lanes, &*app.metrics);
    let text = gauges::text(&grant, &app.registry, counts, app.started).await?;
    Ok(([(header::CONTENT_TYPE, "application/openmetrics-text; version=1.0.0; charset=utf-8")], text))
}

/// Make a link that signs one browser in, once
#[utoipa::path(post, path = "/api/sign-in-links", tag = "service",
    responses((status = 201, body = wire::SignInLink)))]
pub async fn sign_in_link(
    State(app): State<Arc<App>>,
    grant: Grant,
) -> Result<(StatusCode, Json<wire::SignInLink>)> {
    Ok((StatusCode::CREATED, Json(app.keys.sign_in_link(&grant).await?)))
}

/// End this browser's session
#[utoipa::path(post, path = "/api/sign-out", tag = "service", responses((status = 204)))]
pub async fn sign_out(
    State(app): State<Arc<App>>,
    grant: Grant,
    headers: HeaderMap,
) -> Result<(StatusCode, HeaderMap)> {
    app.keys.sign_out(&grant, session(&headers).as_deref()).await?;
    Ok((StatusCode::NO_CONTENT, set_cookie("", 0, app.behind_tls)))
}

/// List encoders
#[utoipa::path(get, path = "/api/encoders", tag = "encoders", responses((status = 200, body = wire::EncoderList)))]
pub async fn encoders(State(app): State<Arc<App>>, grant: Grant) -> Answer<wire::EncoderList> {
    app.encoders.list(&grant).await.map(Json)
}

/// Name an encoder, or say where it has moved
///
/// The service asks the server for the model's dimensions. A known encoder may change its address, but not its model.
#[utoipa::path(put, path = "/api/encoders/{encoder}", tag = "encoders", params(("encoder" = String, Path)),
    request_body = wire::EncoderRequest,
    responses((status = 200, body = wire::Encoder), (status = 409, body = Problem), (status = 502, body = Problem)))]
pub async fn put_encoder(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
    Input(request): Input<wire::EncoderRequest>,
) -> Answer<wire::Encoder> {
    app.encoders.put(&grant, &name, request).await.map(Json)
}

/// Forget an encoder that no column uses
#[utoipa::path(delete, path = "/api/encoders/{encoder}", tag = "encoders", params(("encoder" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn remove_encoder(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(name): Named<String>,
) -> Result<StatusCode> {
    remove(&grant, &app.registry, &app.encoders, &name).await?;
    Ok(StatusCode::NO_CONTENT)
}
