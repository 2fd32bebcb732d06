//! Jobs: `/api/jobs`.

use crate::access::grant::Grant;
use crate::http::answer::{Answer, Json};
use crate::http::app::App;
use crate::http::inputs::Named;
use crate::problem::Result;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Sse;
use axum::response::sse::{Event, KeepAlive};
use futures::{Stream, StreamExt};
use std::convert::Infallible;
use std::sync::Arc;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

/// List jobs
#[utoipa::path(get, path = "/api/jobs", tag = "jobs", responses((status = 200, body = wire::JobList)))]
pub async fn list(State(app): State<Arc<App>>, grant: Grant) -> Answer<wire::JobList> {
    app.registry.jobs.list(&grant).await.map(Json)
}

/// Show a job
#[utoipa::path(get, path = "/api/jobs/{job}", tag = "jobs", params(("job" = i64, Path)),
    responses((status = 200, body = wire::Job), (status = 404, body = Problem)))]
pub async fn show(State(app): State<Arc<App>>, grant: Grant, Named(id): Named<i64>) -> Answer<wire::Job> {
    app.registry.jobs.show(&grant, id).await.map(Json)
}

/// Watch a job: Server-Sent Events
///
/// `progress` events carry the job as JSON, several times a second while it runs. The last event is `end`.
#[utoipa::path(get, path = "/api/jobs/{job}/events", tag = "jobs", params(("job" = i64, Path)),
    responses((status = 200, content_type = "text/event-stream", body = String), (status = 404, body = Problem)))]
pub async fn events(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(id): Named<i64>,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>> {
    let jobs = app.registry.jobs.watch(&grant, id).await?;
    let mut stopping = app.stopping.clone();
    // A service that stops does not wait for who only listens.
    let stopped = async move { drop(stopping.wait_for(|stops| *stops).await) };
    let events = jobs.take_until(Box::pin(stopped)).map(|job| {
        let name = if job.state == "running" { "progress" } else { "end" };
        Ok(Event::default().event(name).json_data(&job).unwrap_or_default())
    });
    Ok(Sse::new(events).keep_alive(KeepAlive::default()))
}

/// Cancel a job
#[utoipa::path(post, path = "/api/jobs/{job}/cancel", tag = "jobs", params(("job" = i64, Path)),
    responses((status = 202, body = wire::Job), (status = 404, body = Problem)))]
pub async fn cancel(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(id): Named<i64>,
) -> Result<(StatusCode, Json<wire::Job>)> {
    Ok((StatusCode::ACCEPTED, Json(app.registry.jobs.cancel(&grant, id).await?)))
}
