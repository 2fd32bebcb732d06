//! Answers: Problem Details for refusals, entity tags, and the accepted job.

use crate::problem::{Kind, Problem, Result};
use axum::body::{Body, Bytes};
use axum::extract::Request;
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use headers::{ETag, HeaderMapExt};
use serde::Serialize;
use std::cell::RefCell;

/// The header with the id of a request.
pub const REQUEST_ID: HeaderName = HeaderName::from_static("x-request-id");

/// The id of a request, for what it leaves behind.
#[derive(Clone)]
pub struct RequestId(pub HeaderValue);

thread_local! {
    /// Where answers are written first: a buffer for each would be copied whenever it grew.
    static WRITTEN: RefCell<Vec<u8>> = const { RefCell::new(Vec::new()) };
}

/// Bytes of that buffer that a thread keeps.
const KEPT_BYTES: usize = 1 << 20;

/// A body of JSON.
pub struct Json<T>(pub T);

impl<T: Serialize> IntoResponse for Json<T> {
    fn into_response(self) -> Response {
        let mut body = WRITTEN.take();
        body.clear();
        let written = serde_json::to_writer(&mut body, &self.0).map(|()| Bytes::copy_from_slice(&body));
        if body.capacity() <= KEPT_BYTES {
            WRITTEN.set(body);
        }
        match written {
            Ok(body) => {
                let media = HeaderValue::from_static("application/json");
                ([(header::CONTENT_TYPE, media)], body).into_response()
            }
            Err(e) => {
                Problem::new(Kind::Internal, format!("the answer cannot be written: {e}")).into_response()
            }
        }
    }
}

/// An answer in JSON.
pub type Answer<T> = Result<Json<T>>;

/// The response travels with its problem; [`write_problem`] writes the body, because only it knows the request's id.
impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.kind.status()).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = status.into_response();
        let headers = response.headers_mut();
        match self.kind {
            Kind::NoKey => {
                headers.insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"));
            }
            Kind::NoDatabase | Kind::Busy | Kind::Closed => {
                headers.insert(header::RETRY_AFTER, HeaderValue::from_static("2"));
            }
            Kind::Overloaded | Kind::TooMany => {
                headers.insert(header::RETRY_AFTER, HeaderValue::from_static("1"));
            }
            _ => {}
        }
        response.extensions_mut().insert(self);
        response
    }
}

/// Writes the body of a refusal, and logs it.
pub async fn write_problem(
    request: Request,
    id: &HeaderValue,
    next: impl AsyncFnOnce(Request) -> Response,
) -> Response {
    let mut response = next(request).await;
    if let Some(problem) = response.extensions_mut().remove::<Problem>() {
        let status = response.status().as_u16();
        // Under too much load a line for each refusal would add to it; they are counted.
        match problem.kind {
            Kind::Overloaded | Kind::TooMany => tracing::debug!(status, detail = problem.detail, "refused"),
            kind => tracing::info!(status, problem = kind.word(), detail = problem.detail, "refused"),
        }
        write_body(&mut response, &problem, id.to_str().unwrap_or_default());
    }
    response
}

/// Writes the body of a refusal into its response.
pub fn write_body(response: &mut Response, problem: &Problem, request_id: &str) {
    let body = serde_json::to_vec_pretty(&problem.body(request_id)).unwrap_or_default();
    let media = HeaderValue::from_static("application/problem+json");
    response.headers_mut().insert(header::CONTENT_TYPE, media);
    response.headers_mut().remove(header::CONTENT_LENGTH);
    *response.body_mut() = Body::from(body);
}

/// The header of an entity tag, such as `"17"`.
pub fn etag(tag: impl std::fmt::Display) -> HeaderMap {
    let tag: ETag = format!("\"{tag}\"").parse().expect("digits and letters in quotes");
    let mut headers = HeaderMap::new();
    headers.typed_insert(tag);
    headers
}

/// The number in `If-Match`, after `prefix`, when there is one. The number goes to the database, which compares it
/// while it writes: comparing tags here would leave a gap.
pub fn if_match<T: std::str::FromStr>(headers: &HeaderMap, prefix: &str, what: &str) -> Result<Option<T>> {
    let Some(value) = headers.get(header::IF_MATCH) else { return Ok(None) };
    let text = value.to_str().ok().map(|v| v.trim().trim_matches('"'));
    let number = text.and_then(|v| v.strip_prefix(prefix)?.parse().ok());
    number.map(Some).ok_or_else(|| {
        let detail = format!("If-Match takes the ETag of the {what}, such as \"{prefix}17\"");
        Problem::new(Kind::WrongShape, detail)
    })
}
