//! Whether the service lives, and whether it answers: for process managers and balancers, without a key.

use crate::http::answer::Json;
use crate::http::app::App;
use axum::extract::State;
use axum::http::StatusCode;
use std::sync::Arc;
use zesty_wire as wire;

/// Say that the process answers
#[utoipa::path(get, path = "/health/live", tag = "health", security(()),
    responses((status = 200, body = wire::Health)))]
pub async fn live() -> Json<wire::Health> {
    Json(wire::Health { status: "live".into(), database: None })
}

/// Say whether this node answers searches, and whether MariaDB did when it was last asked
///
/// While the node reads its collections at the start, and when it stops, the answer is 503.
#[utoipa::path(get, path = "/health/ready", tag = "health", security(()),
    responses((status = 200, body = wire::Health), (status = 503, body = wire::Health)))]
pub async fn ready(State(app): State<Arc<App>>) -> (StatusCode, Json<wire::Health>) {
    let database = Some(!app.registry.silence.is_on());
    match app.stopping() {
        true => (StatusCode::SERVICE_UNAVAILABLE, Json(wire::Health { status: "stopping".into(), database })),
        false => (StatusCode::OK, Json(wire::Health { status: "ready".into(), database })),
    }
}
