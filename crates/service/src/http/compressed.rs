//! Answers in gzip, for those who take it.

use axum::body::Body;
use axum::extract::Request;
use axum::http::{HeaderValue, header};
use axum::response::Response;
use std::convert::Infallible;
use tower::{ServiceExt, service_fn};
use tower_http::compression::Compression;

/// An answer in what `Accept-Encoding` says.
pub async fn compressed(accepted: HeaderValue, response: Response) -> Response {
    let mut request = Request::new(Body::empty());
    request.headers_mut().insert(header::ACCEPT_ENCODING, accepted);
    let mut response = Some(response);
    let answer = service_fn(move |_| {
        let response = response.take().unwrap_or_default();
        async { Ok::<_, Infallible>(response) }
    });
    match Compression::new(answer).gzip(true).oneshot(request).await {
        Ok(response) => response.map(Body::new),
        Err(never) => match never {},
    }
}
