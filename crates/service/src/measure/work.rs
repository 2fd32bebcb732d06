//! The engine's measuring off the threads that answer requests.

use crate::node::jobs::Stop;
use crate::node::threads::background;
use zesty_engine::measure;

/// Work that takes long, on a thread of its own.
pub async fn off<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, measure::MeasureError> + Send + 'static,
) -> Result<T, Stop> {
    let done = background(work).await.map_err(Stop::Failed)?;
    done.map_err(|e| match e {
        measure::MeasureError::Cancelled => Stop::Cancelled,
        other => Stop::Failed(other.to_string()),
    })
}
