//! The engine's measuring off the threads that answer requests.

use crate::node::jobs::Stop;
use zesty_engine::measure;

/// Work that takes long, on a thread of its own.
pub async fn off<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, measure::MeasureError> + Send + 'static,
) -> Result<T, Stop> {
    let done = tokio::task::spawn_blocking(work).await.map_err(|e| Stop::Failed(e.to_string()))?;
    done.map_err(|e| match e {
        measure::MeasureError::Cancelled => Stop::Cancelled,
        other => Stop::Failed(other.to_string()),
    })
}
