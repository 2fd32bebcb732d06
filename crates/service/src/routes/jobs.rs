//! Jobs: watched, listed, cancelled.

use super::*;
use crate::jobs::JobView;
use axum::response::Sse;
use axum::response::sse::{Event, KeepAlive};
use futures::{Stream, StreamExt};
use std::convert::Infallible;
use std::time::Duration;

#[derive(Serialize, ToSchema)]
pub struct JobList {
    /// Newest first, at most 100
    pub jobs: Vec<JobView>,
}

async fn view(hub: &Hub, id: i64) -> Result<JobView> {
    if let Some(job) = hub.jobs.get(id) {
        return Ok(job.view());
    }
    let stored = hub.catalog.job(id).await?;
    stored.map(Into::into).ok_or_else(|| Problem::unknown("job", &id.to_string(), []))
}

/// List jobs
#[utoipa::path(get, path = "/api/jobs", tag = "jobs", responses((status = 200, body = JobList)))]
pub async fn list(State(hub): Hubbed) -> Result<Json<JobList>> {
    let stored = hub.catalog.jobs(100).await?;
    let jobs =
        stored.into_iter().map(|m| hub.jobs.get(m.id).map_or_else(|| m.into(), |j| j.view())).collect();
    Ok(Json(JobList { jobs }))
}

/// Show a job
#[utoipa::path(get, path = "/api/jobs/{job}", tag = "jobs", params(("job" = i64, Path)),
    responses((status = 200, body = JobView), (status = 404, body = crate::problem::ProblemBody)))]
pub async fn show(State(hub): Hubbed, Path(id): Path<i64>) -> Result<Json<JobView>> {
    Ok(Json(view(&hub, id).await?))
}

/// Watch a job: Server-Sent Events
///
/// `progress` events carry the job as JSON, several times a second while it runs; the last event is `end`.
#[utoipa::path(get, path = "/api/jobs/{job}/events", tag = "jobs", params(("job" = i64, Path)),
    responses((status = 200, content_type = "text/event-stream", body = String),
        (status = 404, body = crate::problem::ProblemBody)))]
pub async fn events(
    State(hub): Hubbed,
    Path(id): Path<i64>,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>> {
    let first = view(&hub, id).await?;
    let job = hub.jobs.get(id);
    let ended = job.as_ref().map(|j| j.ended());
    let stream = futures::stream::unfold((Some(first), job, ended), |(next, job, ended)| async move {
        let view = next?;
        let last = view.state != "running";
        let name = if last { "end" } else { "progress" };
        let event = Event::default().event(name).json_data(&view).unwrap_or_default();
        if last {
            return Some((Ok(event), (None, job, ended)));
        }
        // Left running in the database, but not by this node: there is nothing to watch.
        let (Some(job), Some(mut ended)) = (job, ended) else { return Some((Ok(event), (None, None, None))) };
        let _ = tokio::time::timeout(Duration::from_millis(200), ended.wait_for(Option::is_some)).await;
        let view = job.view();
        Some((Ok(event), (Some(view), Some(job), Some(ended))))
    });
    // Compression asks once more after the end.
    Ok(Sse::new(stream.fuse()).keep_alive(KeepAlive::default()))
}

/// Cancel a job
#[utoipa::path(post, path = "/api/jobs/{job}/cancel", tag = "jobs", params(("job" = i64, Path)),
    responses((status = 202, body = JobView), (status = 404, body = crate::problem::ProblemBody)))]
pub async fn cancel(State(hub): Hubbed, Path(id): Path<i64>) -> Result<(StatusCode, Json<JobView>)> {
    if let Some(job) = hub.jobs.get(id) {
        job.progress.cancel();
    }
    Ok((StatusCode::ACCEPTED, Json(view(&hub, id).await?)))
}
