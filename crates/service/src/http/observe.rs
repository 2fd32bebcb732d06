//! What every request leaves behind: its counts, and the trace that it belongs to.

use crate::http::app::App;
use crate::http::kinds::is_search;
use crate::node::metrics::Answered;
use crate::node::trace::Trace;
use crate::problem::Problem;
use axum::extract::{MatchedPath, Request};
use axum::http::HeaderValue;
use axum::response::Response;
use std::time::Instant;
use tracing::Span;

/// The trace that a request belongs to.
pub fn trace_of(request: &Request) -> Option<Trace> {
    request.headers().get("traceparent").and_then(|h| h.to_str().ok()).and_then(Trace::read)
}

/// What the lines that a request leaves in the log have in common.
pub fn span(request: &Request, id: &HeaderValue, trace: Option<&Trace>) -> Span {
    // A sign-in link opens the console: it stands in no log.
    let path = request.uri().path();
    let path = if path.starts_with("/sign-in/") { "/sign-in/..." } else { path };
    let (id, method) = (id.to_str().unwrap_or_default(), request.method().as_str());
    tracing::info_span!("request", id, method, path, trace = trace.map(|trace| &trace.id))
}

/// Counts a request, and runs it inside its trace.
pub async fn observe(
    app: &App,
    trace: Option<Trace>,
    request: Request,
    next: impl AsyncFnOnce(Request) -> Response,
) -> Response {
    let started = Instant::now();
    let route = request.extensions().get::<MatchedPath>().cloned();
    let method = request.method().clone();
    let response = Trace::around(trace, next(request)).await;
    let route = route.as_ref().map_or("console", MatchedPath::as_str);
    // A balancer asks all the time.
    if !route.starts_with("/health/") {
        app.metrics.answered(&Answered {
            method: known_method(method.as_str()),
            route,
            status: response.status().as_u16(),
            problem: response.extensions().get::<Problem>().map(|p| p.kind.word()),
            took: started.elapsed(),
            is_search: is_search(route),
        });
    }
    response
}

/// Methods are words that callers choose; only the known ones are counted by name.
fn known_method(method: &str) -> &str {
    match method {
        "GET" | "HEAD" | "POST" | "PUT" | "PATCH" | "DELETE" | "OPTIONS" => method,
        _ => "other",
    }
}
