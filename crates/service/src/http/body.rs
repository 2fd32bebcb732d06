//! Bodies of requests: how many bytes of them are held at the same time, and JSON read from them.

use crate::http::app::App;
use crate::json::parse;
use crate::node::threads::blocking;
use crate::problem::{Kind, Problem, Result};
use axum::body::Body;
use axum::extract::{FromRequest, Request};
use axum::http::HeaderMap;
use bytes::Bytes;
use futures::StreamExt;
use headers::{ContentLength, ContentType, HeaderMapExt};
use serde::de::DeserializeOwned;
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
        let said = headers.typed_get::<ContentLength>().and_then(|v| usize::try_from(v.0).ok());
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

impl<T: DeserializeOwned + Send + 'static, const MAX: usize> FromRequest<Arc<App>> for Input<T, MAX> {
    type Rejection = Problem;

    async fn from_request(request: Request, app: &Arc<App>) -> Result<Self> {
        if !media_type(request.headers()).is_some_and(|m| m.ends_with("json")) {
            return Err(Problem::new(Kind::WrongMedia, "send JSON with Content-Type: application/json"));
        }
        let (parts, body) = request.into_parts();
        let held = app.bodies.read(&parts.headers, body, MAX).await?;
        let read = match held.bytes.len() <= SMALL {
            true => parse(&held.bytes, ""),
            false => blocking(move || parse(&held.bytes, "")).await,
        };
        read.map(Input)
    }
}

/// The media type of a body, without its parameters.
pub fn media_type(headers: &HeaderMap) -> Option<String> {
    let media = headers.typed_get::<ContentType>()?.to_string();
    Some(media.split(';').next().unwrap_or("").trim().to_lowercase())
}

fn too_large(limit: usize) -> Problem {
    Problem::new(
        Kind::TooLarge,
        format!(
            "the body is larger than {} MiB; send smaller batches, or records as JSON Lines, which are streamed",
            limit >> 20
        ),
    )
    .with("limit_bytes", limit)
}
