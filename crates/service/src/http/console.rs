//! The console's files, built into the program.

use crate::problem::{Kind, Problem};
use axum::http::{HeaderValue, Method, Uri, header};
use axum::response::{Html, IntoResponse, Response};
use rust_embed::{EmbeddedFile, RustEmbed};

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

/// Everything that is no route: a file of the console, or the console itself, which reads the path.
pub async fn file(method: Method, uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    if path == "api" || path.starts_with("api/") {
        let detail =
            format!("nothing is served at {}; the routes are described at /api/openapi.json", uri.path());
        return Problem::new(Kind::UnknownRoute, detail).into_response();
    }
    if method != Method::GET && method != Method::HEAD {
        return wrong_method(method, uri).await;
    }
    if let Some(file) = Files::get(path).filter(|_| !path.is_empty()) {
        return answer(file, path.starts_with("assets/"));
    }
    match Files::get("index.html") {
        Some(file) => answer(file, false),
        None => Html("This build has no console; run bin/demo, or `npm ci && npm run build` in console/.")
            .into_response(),
    }
}

pub async fn wrong_method(method: Method, uri: Uri) -> Response {
    Problem::new(Kind::WrongMethod, format!("{} does not take {method}", uri.path())).into_response()
}

/// Files under assets/ carry a hash of their content in their names, so they never change.
fn answer(file: EmbeddedFile, forever: bool) -> Response {
    let kind = HeaderValue::from_str(file.metadata.mimetype());
    let cache = if forever { "private, max-age=31536000, immutable" } else { "no-cache" };
    let mut response = file.data.into_owned().into_response();
    let headers = response.headers_mut();
    headers
        .insert(header::CONTENT_TYPE, kind.unwrap_or(HeaderValue::from_static("application/octet-stream")));
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static(cache));
    response
}
