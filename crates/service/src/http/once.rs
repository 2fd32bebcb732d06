//! `Idempotency-Key`: a request that changes something and whose answer was lost is sent again, and is done once.

use crate::access::grant::Grant;
use crate::access::keys::hash;
use crate::http::app::App;
use crate::http::document::Methods;
use crate::http::kinds::reads;
use crate::node::random::hex;
use crate::problem::{Kind, Problem, Result};
use axum::body::Body;
use axum::extract::{MatchedPath, Request};
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use futures::StreamExt;
use parking_lot::Mutex;
use sha2::{Digest, Sha256};
use std::sync::Arc;
use zesty_catalog::{KeptAnswer, Once};

/// The header, as the IETF's HTTPAPI working group describes it.
const NAME: &str = "idempotency-key";
/// Bytes of an answer that is kept; larger ones are not.
const MOST: usize = 1 << 20;
/// Bytes of what a caller calls a request.
const LONGEST: usize = 255;

/// What passes through a body, hashed.
type Hashed = Arc<Mutex<(Sha256, bool)>>;

fn digest(hashed: &Hashed) -> Option<String> {
    let (sum, is_whole) = hashed.lock().clone();
    is_whole.then(|| hex(sum.finalize()))
}

/// A body whose bytes are hashed as they are read.
fn hashing(body: Body) -> (Body, Hashed) {
    let hashed: Hashed = Arc::default();
    let (parts, end) = (hashed.clone(), hashed.clone());
    let chunks = body.into_data_stream().inspect(move |chunk| {
        if let Ok(chunk) = chunk {
            parts.lock().0.update(chunk);
        }
    });
    let last = futures::stream::once(async move {
        end.lock().1 = true;
        None
    });
    let chunks = chunks.map(Some).chain(last).filter_map(|chunk| async { chunk });
    (Body::from_stream(chunks), hashed)
}

/// The answers of these hold secrets, which are shown once.
fn is_secret(route: &str) -> bool {
    route.starts_with("/api/keys") || route.starts_with("/api/sign-in-links")
}

/// Answers a request that carries an Idempotency-Key: the first time by doing it, later by what it was answered then.
pub async fn once(
    app: &App,
    methods: &Methods,
    request: Request,
    next: impl AsyncFnOnce(Request) -> Response,
) -> Response {
    let Some(name) = request.headers().get(NAME).cloned() else { return next(request).await };
    let route = request.extensions().get::<MatchedPath>().map(|route| route.as_str().to_owned());
    let grant = request.extensions().get::<Grant>().cloned();
    let (Some(route), Some(grant)) = (route, grant) else { return next(request).await };
    // What the route does not take is refused as ever.
    let is_taken = methods.get(&route).is_some_and(|methods| methods.contains(request.method()));
    if !is_taken || reads(request.method(), &route) {
        return next(request).await;
    }
    match answer(app, (&grant, &route, &name), request, next).await {
        Ok(response) => response,
        Err(problem) => problem.into_response(),
    }
}

async fn answer(
    app: &App,
    (grant, route, name): (&Grant, &str, &HeaderValue),
    request: Request,
    next: impl AsyncFnOnce(Request) -> Response,
) -> Result<Response> {
    let name = name.to_str().ok().filter(|name| (1..=LONGEST).contains(&name.len())).ok_or_else(|| {
        let detail = format!("Idempotency-Key is 1 to {LONGEST} characters of ASCII");
        Problem::new(Kind::WrongShape, detail)
    })?;
    let of = Once { key_id: grant.key(), name: hash(name) };
    let runs = app.running.begin(&of).ok_or_else(still_runs)?;
    let (catalog, node) = (&app.registry.catalog, app.registry.node.as_str());
    let what = format!("{} {}", request.method(), request.uri());
    let what: String = what.chars().take(1000).collect();
    if let Some(first) = catalog.begin_once(&of, &what, node).await? {
        if first.request != what {
            return Err(other_request());
        }
        if let Some(status) = first.status {
            return again(request, status as u16, first).await;
        }
        // It runs on a node that lives, or it broke off: then it is done again from the start.
        let runs_elsewhere = first.node != node && catalog.living_nodes().await?.contains(&first.node);
        if runs_elsewhere || !catalog.take_once(&of, first.begun_at, node).await? {
            return Err(still_runs());
        }
    }
    let (parts, body) = request.into_parts();
    let (body, hashed) = hashing(body);
    let response = next(Request::from_parts(parts, body)).await;
    let (kept, response) = keep(response, digest(&hashed), is_secret(route)).await?;
    // What did nothing, or may have done something, is tried afresh when it comes again.
    let noted = match kept {
        Some(kept) => catalog.end_once(&of, kept).await,
        None => catalog.forget_once(&of).await,
    };
    if let Err(e) = noted {
        tracing::warn!("an answer under an Idempotency-Key is not kept: {e}");
    }
    drop(runs);
    Ok(response)
}

fn still_runs() -> Problem {
    let detail = "a request with this Idempotency-Key is being answered; send it again in a while";
    Problem::new(Kind::StillUsed, detail)
}

fn other_request() -> Problem {
    let detail =
        "this Idempotency-Key was used for another request; a key is for one request and its repetitions";
    Problem::new(Kind::WrongShape, detail)
}

/// What a response leaves behind: successes of moderate size.
async fn keep(
    response: Response,
    digest: Option<String>,
    is_secret: bool,
) -> Result<(Option<KeptAnswer>, Response)> {
    let (true, Some(digest)) = (response.status().is_success(), digest) else { return Ok((None, response)) };
    let (parts, body) = response.into_parts();
    let unread = |e| Problem::new(Kind::Internal, format!("the answer cannot be read: {e}"));
    let bytes = axum::body::to_bytes(body, usize::MAX).await.map_err(unread)?;
    let media = parts.headers.get(header::CONTENT_TYPE).and_then(|m| m.to_str().ok()).unwrap_or_default();
    let kept = (bytes.len() <= MOST).then(|| KeptAnswer {
        status: parts.status.as_u16(),
        media: media.to_owned(),
        body: (!is_secret).then(|| bytes.to_vec()),
        digest,
    });
    Ok((kept, Response::from_parts(parts, Body::from(bytes))))
}

/// The answer that the request was given the first time, if it is the same request.
async fn again(request: Request, status: u16, first: zesty_catalog::once_entry::Model) -> Result<Response> {
    let (body, hashed) = hashing(request.into_body());
    let mut chunks = body.into_data_stream();
    while let Some(chunk) = chunks.next().await {
        if chunk.is_err() {
            return Err(Problem::new(Kind::BrokenBody, "the body broke off"));
        }
    }
    if digest(&hashed) != first.digest {
        return Err(other_request());
    }
    let Some(body) = first.body else {
        let detail = "this request was carried out; its answer held a secret, which is shown once";
        return Err(Problem::new(Kind::StillUsed, detail));
    };
    let status = StatusCode::from_u16(status).unwrap_or(StatusCode::OK);
    let media = HeaderValue::from_str(&first.media.unwrap_or_default());
    let mut response = (status, body).into_response();
    match media {
        Ok(media) if !media.is_empty() => drop(response.headers_mut().insert(header::CONTENT_TYPE, media)),
        _ => drop(response.headers_mut().remove(header::CONTENT_TYPE)),
    }
    Ok(response)
}
