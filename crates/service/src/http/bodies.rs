//! Room for the bodies of requests: how many bytes of them are held at the same time.

use crate::problem::{Kind, Problem, Result, is_length_limit};
use axum::body::Body;
use axum::http::HeaderMap;
use bytes::Bytes;
use futures::StreamExt;
use headers::{ContentLength, HeaderMapExt};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

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
            Err(e) if is_length_limit(&e) => Err(too_large(limit)),
            Err(e) => {
                Err(Problem::new(Kind::BrokenBody, format!("the body broke off: {e}; nothing was done")))
            }
        }
    }
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
