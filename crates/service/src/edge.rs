//! Where requests come in and answers go out: request ids, problem bodies, JSON bodies.

use crate::hub::Hub;
use crate::problem::{Kind, Problem, Result};
use axum::body::Body;
use axum::extract::{FromRequest, Request};
use axum::http::{HeaderMap, HeaderValue, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use bytes::Bytes;
use futures::StreamExt;
use serde::de::DeserializeOwned;
use std::fmt::Write;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

/// Bytes of a JSON batch of records, and of one line of a stream of them.
pub const MAX_BATCH_BYTES: usize = 64 << 20;
/// Bytes of a JSON body that holds no records.
pub const MAX_BODY: usize = 2 << 20;
/// Bytes of a JSON body that holds many searches, or many keys.
pub const MAX_LIST: usize = 16 << 20;
/// JSON of more bytes is read on a thread of its own, so that no other request waits for it.
const SMALL: usize = 64 << 10;
/// Bytes of bodies that are read at the same time; others wait.
const AT_ONCE: usize = 512 << 20;
/// Bytes of one permit of [`Bodies`].
const PERMIT: usize = 64 << 10;
/// How long a body waits for its turn.
const TURN: Duration = Duration::from_secs(15);

pub const REQUEST_ID: &str = "x-request-id";

pub fn random_hex(bytes: usize) -> String {
    let mut out = String::with_capacity(bytes * 2);
    for _ in 0..bytes {
        let _ = write!(out, "{:02x}", rand::random::<u8>());
    }
    out
}

/// Outermost: gives the request an id, writes the body of a refusal, logs what happened.
pub async fn finish(request: Request, next: Next) -> Response {
    let id = random_hex(8);
    let (method, path) = (request.method().clone(), request.uri().path().to_owned());
    let start = std::time::Instant::now();
    let mut response = next.run(request).await;
    let status = response.status();
    if let Some(problem) = response.extensions_mut().remove::<Problem>() {
        tracing::info!(%id, %method, %path, status = status.as_u16(), problem = problem.kind.word(),
            detail = problem.detail, "refused");
        let body = serde_json::to_vec_pretty(&problem.body(&id)).unwrap_or_default();
        response
            .headers_mut()
            .insert(header::CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
        response.headers_mut().remove(header::CONTENT_LENGTH);
        *response.body_mut() = Body::from(body);
    } else {
        let elapsed_ms = start.elapsed().as_secs_f64() * 1e3;
        tracing::debug!(%id, %method, %path, status = status.as_u16(), elapsed_ms, "answered");
    }
    if let Ok(value) = HeaderValue::from_str(&id) {
        response.headers_mut().insert(REQUEST_ID, value);
    }
    response
}

/// Room for the bodies that are being read: as many bytes as there are permits.
pub struct Bodies(Arc<Semaphore>);

impl Default for Bodies {
    fn default() -> Self {
        Bodies(Arc::new(Semaphore::new(AT_ONCE / PERMIT)))
    }
}

/// A body that has been read, and its room, which is free again when this is dropped.
pub struct Held {
    pub bytes: Bytes,
    _room: OwnedSemaphorePermit,
}

impl Bodies {
    /// Reads a body of up to `limit` bytes; waits while others fill the room.
    pub async fn read(&self, headers: &HeaderMap, body: Body, limit: usize) -> Result<Held> {
        let said = headers.get(header::CONTENT_LENGTH).and_then(|v| v.to_str().ok()?.parse::<usize>().ok());
        if said.is_some_and(|said| said > limit) {
            // Who sends on without listening hears of it when the body is through, unless it is far too large.
            let mut chunks = body.into_data_stream();
            let mut passed = 0;
            while let Some(Ok(chunk)) = chunks.next().await
                && passed < 2 * limit
            {
                passed += chunk.len();
            }
            return Err(too_large(limit));
        }
        let permits = said.unwrap_or(limit).div_ceil(PERMIT).max(1) as u32;
        let room = tokio::time::timeout(TURN, self.0.clone().acquire_many_owned(permits)).await;
        let Ok(Ok(room)) = room else {
            let detail = "too many large bodies are being read; nothing was done: try again later";
            return Err(Problem::new(Kind::Busy, detail));
        };
        match axum::body::to_bytes(body, limit).await {
            Ok(bytes) => Ok(Held { bytes, _room: room }),
            Err(e) if is_limit(&e) => Err(too_large(limit)),
            Err(e) => {
                Err(Problem::new(Kind::BrokenBody, format!("the body broke off: {e}; nothing was done")))
            }
        }
    }
}

fn is_limit(error: &axum::Error) -> bool {
    let mut source: Option<&(dyn std::error::Error + 'static)> = Some(error);
    while let Some(e) = source {
        if e.is::<http_body_util::LengthLimitError>() {
            return true;
        }
        source = e.source();
    }
    false
}

/// A JSON body of up to `MAX` bytes read as `T`; a misfit is refused with the pointer to it.
pub struct Input<T, const MAX: usize = MAX_BODY>(pub T);

impl<T: DeserializeOwned + Send + 'static, const MAX: usize> FromRequest<Arc<Hub>> for Input<T, MAX> {
    type Rejection = Response;

    async fn from_request(request: Request, hub: &Arc<Hub>) -> Result<Self, Response> {
        let json = request
            .headers()
            .get(header::CONTENT_TYPE)
            .and_then(|v| v.to_str().ok())
            .is_some_and(|v| v.split(';').next().is_some_and(|t| t.trim().ends_with("json")));
        if !json {
            let problem = Problem::new(Kind::WrongMedia, "send JSON with Content-Type: application/json");
            return Err(problem.into_response());
        }
        let (parts, body) = request.into_parts();
        let held = hub.bodies.read(&parts.headers, body, MAX).await.map_err(IntoResponse::into_response)?;
        let read = if held.bytes.len() <= SMALL {
            parse(&held.bytes, "")
        } else {
            blocking(move || parse(&held.bytes, "")).await
        };
        read.map(Input).map_err(IntoResponse::into_response)
    }
}

/// Work that would hold up other requests, on a thread of its own.
pub async fn blocking<T: Send + 'static>(work: impl FnOnce() -> Result<T> + Send + 'static) -> Result<T> {
    let stopped = |e| Problem::new(Kind::Internal, format!("the work stopped: {e}"));
    tokio::task::spawn_blocking(work).await.map_err(stopped)?
}

pub fn too_large(limit: usize) -> Problem {
    Problem::new(
        Kind::TooLarge,
        format!(
            "the body is larger than {} MiB; send smaller batches, or records as JSON Lines, which are streamed",
            limit >> 20
        ),
    )
    .with("limit_bytes", limit)
}

/// Reads JSON; `under` is the pointer of the whole in what the caller sent.
pub fn parse<T: DeserializeOwned>(bytes: &[u8], under: &str) -> Result<T> {
    let text = std::str::from_utf8(bytes).map_err(|e| {
        Problem::new(Kind::InvalidText, format!("byte {} is not valid UTF-8", e.valid_up_to() + 1))
            .at(under)
            .with("byte", e.valid_up_to() + 1)
    })?;
    let mut reader = serde_json::Deserializer::from_str(text);
    let parsed = serde_path_to_error::deserialize(&mut reader).map_err(|e| {
        let pointer = format!("{under}{}", pointer(e.path()));
        let inner = e.into_inner();
        if inner.is_data() {
            // serde ends with the place in the text; the pointer says it better.
            let text = inner.to_string();
            let text = text.split(" at line ").next().unwrap_or(&text);
            return Problem::new(Kind::WrongShape, text).at(pointer);
        }
        malformed(text, &inner).at(under)
    })?;
    reader.end().map_err(|e| malformed(text, &e).at(under))?;
    Ok(parsed)
}

fn malformed(text: &str, error: &serde_json::Error) -> Problem {
    let line = text.lines().nth(error.line().saturating_sub(1)).unwrap_or("");
    let near: String = line.chars().skip(error.column().saturating_sub(2)).take(8).collect();
    let hint = if ["NaN", "nan", "Inf", "inf"].iter().any(|w| near.contains(w))
        || error.to_string().contains("out of range")
    {
        "; NaN, infinity and numbers beyond 64-bit floats are not JSON: every component must be a finite number"
    } else {
        ""
    };
    Problem::new(Kind::MalformedJson, format!("{error}{hint}"))
}

fn pointer(path: &serde_path_to_error::Path) -> String {
    use serde_path_to_error::Segment;
    path.iter()
        .map(|segment| match segment {
            Segment::Seq { index } => format!("/{index}"),
            Segment::Map { key } => zesty_engine::schema::pointer_step(key),
            Segment::Enum { variant } => zesty_engine::schema::pointer_step(variant),
            Segment::Unknown => String::new(),
        })
        .collect()
}
