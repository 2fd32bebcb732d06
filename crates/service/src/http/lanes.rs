//! Which lane a request is in, but for searches, which take their place once their body is here.

use crate::http::app::App;
use crate::http::kinds::{is_plain_read, is_search, last_step, reads};
use crate::node::lanes::Place;
use crate::problem::Result;
use axum::extract::{MatchedPath, Request};
use std::sync::Arc;
use tokio::sync::OwnedSemaphorePermit;

/// What is read at once by a route that looks at many rows.
const READS: [&str; 8] = ["records", "{key}", "fields", "export", "queries", "filter", "lens", "map"];
const WRITES: [&str; 5] = ["records", "{key}", "patches", "deletions", "content"];

/// What a request holds until it is answered: a place in its lane, and its turn where it reads.
pub type Admission = (Place, Option<OwnedSemaphorePermit>);

/// Searches take their place later. What is asked of the request is asked before anything is waited for.
pub fn take_lane<'a>(
    app: &'a App,
    request: &Request,
) -> impl Future<Output = Result<Option<Admission>>> + use<'a> {
    let route = request.extensions().get::<MatchedPath>().map(MatchedPath::as_str);
    let method = request.method();
    let lane = route.filter(|route| !is_search(route)).map(|route| match last_step(route) {
        last if reads(method, route) && READS.contains(&last) => &app.lanes.reads,
        last if !reads(method, route) && WRITES.contains(&last) => &app.lanes.writes,
        _ => &app.lanes.others,
    });
    let has_no_body = is_plain_read(method);
    async move {
        let Some(lane) = lane else { return Ok(None) };
        let place = app.lanes.admit(lane)?;
        // A request without a body waits for nobody when its turn has come.
        let turn = match has_no_body && Arc::ptr_eq(lane, &app.lanes.reads) {
            true => Some(app.lanes.turn_to_read().await?),
            false => None,
        };
        Ok(Some((place, turn)))
    }
}
