//! JSON bodies, and the types of bodies.

use crate::http::app::App;
use crate::http::bodies::Held;
use crate::json::parse;
use crate::node::lanes::Place;
use crate::node::threads::blocking;
use crate::problem::{Kind, Problem, Result};
use axum::extract::{FromRequest, Request};
use axum::http::{HeaderMap, header};
use headers::{ContentType, HeaderMapExt};
use serde::de::DeserializeOwned;
use std::sync::Arc;

/// Bytes of a JSON batch of records, and of one line of a stream of them.
pub const MAX_BATCH_BYTES: usize = 64 << 20;
/// Bytes of a JSON body that holds no records.
pub const MAX_BODY: usize = 2 << 20;
/// Bytes of a JSON body that holds many searches, or many keys.
pub const MAX_LIST: usize = 16 << 20;
/// JSON of more bytes is read on a thread of its own, so that no other request waits for it.
const SMALL: usize = 64 << 10;

/// A JSON body of up to `MAX` bytes read as `T`; a misfit is refused with the pointer to it.
pub struct Input<T, const MAX: usize = MAX_BODY>(pub T);

/// The same of a search, with its place among the searches. It is taken once the body is here: a caller that sends
/// slowly holds up nobody.
pub struct Queued<T, const MAX: usize = MAX_BODY>(pub T, pub Place);

async fn read(request: Request, app: &App, limit: usize) -> Result<Held> {
    let is_plain = request.headers().get(header::CONTENT_TYPE).is_some_and(|m| m == "application/json");
    if !is_plain && !media_type(request.headers()).is_some_and(|m| m.ends_with("json")) {
        return Err(Problem::new(Kind::WrongMedia, "send JSON with Content-Type: application/json"));
    }
    let (parts, body) = request.into_parts();
    app.bodies.read(&parts.headers, body, limit).await
}

async fn parsed<T: DeserializeOwned + Send + 'static>(held: Held) -> Result<T> {
    match held.bytes.len() <= SMALL {
        true => parse(&held.bytes, ""),
        false => blocking(move || parse(&held.bytes, "")).await,
    }
}

impl<T: DeserializeOwned + Send + 'static, const MAX: usize> FromRequest<Arc<App>> for Input<T, MAX> {
    type Rejection = Problem;

    async fn from_request(request: Request, app: &Arc<App>) -> Result<Self> {
        parsed(read(request, app, MAX).await?).await.map(Input)
    }
}

impl<T: DeserializeOwned + Send + 'static, const MAX: usize> FromRequest<Arc<App>> for Queued<T, MAX> {
    type Rejection = Problem;

    async fn from_request(request: Request, app: &Arc<App>) -> Result<Self> {
        let held = read(request, app, MAX).await?;
        let place = app.lanes.admit(&app.lanes.searches)?;
        Ok(Queued(parsed(held).await?, place))
    }
}

/// The media type of a body, without its parameters.
pub fn media_type(headers: &HeaderMap) -> Option<String> {
    let media = headers.typed_get::<ContentType>()?.to_string();
    Some(media.split(';').next().unwrap_or("").trim().to_lowercase())
}
