//! Work that takes long enough to hold up other requests.

use crate::problem::{Kind, Problem, Result};

/// Runs `work` on a thread of its own.
pub async fn blocking<T: Send + 'static>(work: impl FnOnce() -> Result<T> + Send + 'static) -> Result<T> {
    let stopped = |e| Problem::new(Kind::Internal, format!("the work stopped: {e}"));
    tokio::task::spawn_blocking(work).await.map_err(stopped)?
}
