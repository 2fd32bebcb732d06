//! Which lane a request is in, but for searches, which take their place once their body is here.

use crate::http::app::App;
use axum::extract::{MatchedPath, Request, State};
use axum::http::Method;
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use std::sync::Arc;

/// What is read at once by a route that looks at many rows.
const READS: [&str; 5] = ["records", "{key}", "fields", "export", "queries"];
const READS_BY_POST: [&str; 3] = ["filter", "lens", "map"];
const WRITES: [&str; 5] = ["records", "{key}", "patches", "deletions", "content"];

/// Holds a place in the lane of the request until it is answered.
pub async fn take_lane(State(app): State<Arc<App>>, request: Request, next: Next) -> Response {
    let Some(route) = request.extensions().get::<MatchedPath>() else { return next.run(request).await };
    let last = route.as_str().rsplit('/').next().unwrap_or_default();
    let reads_alone = matches!(*request.method(), Method::GET | Method::HEAD);
    let lane = match last {
        "search" | "searches" => return next.run(request).await,
        last if reads_alone && READS.contains(&last) => &app.lanes.reads,
        last if !reads_alone && READS_BY_POST.contains(&last) => &app.lanes.reads,
        last if !reads_alone && WRITES.contains(&last) => &app.lanes.writes,
        _ => &app.lanes.others,
    };
    let place = match app.lanes.admit(lane) {
        Ok(place) => place,
        Err(problem) => return problem.into_response(),
    };
    // A request without a body waits for nobody when its turn has come.
    let turn = match reads_alone && Arc::ptr_eq(lane, &app.lanes.reads) {
        true => match place.turn().await {
            Ok(turn) => Some(turn),
            Err(problem) => return problem.into_response(),
        },
        false => None,
    };
    let response = next.run(request).await;
    drop((turn, place));
    response
}
