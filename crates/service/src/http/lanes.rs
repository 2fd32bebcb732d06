//! Which lane a request is in, but for searches, which take their place once their body is here.

use crate::http::app::App;
use crate::http::kinds::{is_plain_read, is_search, last_step, reads};
use axum::extract::{MatchedPath, Request, State};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use std::sync::Arc;

/// What is read at once by a route that looks at many rows.
const READS: [&str; 8] = ["records", "{key}", "fields", "export", "queries", "filter", "lens", "map"];
const WRITES: [&str; 5] = ["records", "{key}", "patches", "deletions", "content"];

/// Holds a place in the lane of the request until it is answered.
pub async fn take_lane(State(app): State<Arc<App>>, request: Request, next: Next) -> Response {
    let Some(route) = request.extensions().get::<MatchedPath>() else { return next.run(request).await };
    let (method, route) = (request.method(), route.as_str());
    if is_search(route) {
        return next.run(request).await;
    }
    let has_no_body = is_plain_read(method);
    let lane = match last_step(route) {
        last if reads(method, route) && READS.contains(&last) => &app.lanes.reads,
        last if !reads(method, route) && WRITES.contains(&last) => &app.lanes.writes,
        _ => &app.lanes.others,
    };
    let place = match app.lanes.admit(lane) {
        Ok(place) => place,
        Err(problem) => return problem.into_response(),
    };
    // A request without a body waits for nobody when its turn has come.
    let turn = match has_no_body && Arc::ptr_eq(lane, &app.lanes.reads) {
        true => match app.lanes.turn_to_read().await {
            Ok(turn) => Some(turn),
            Err(problem) => return problem.into_response(),
        },
        false => None,
    };
    let response = next.run(request).await;
    drop((turn, place));
    response
}
