//! Work that takes long enough to hold up other requests.

use crate::problem::{Kind, Problem, Result};

/// How far background work stands back: it gets what searches leave of the cores.
const NICE: i32 = 19;

/// Runs `work` on a thread of its own.
pub async fn blocking<T: Send + 'static>(work: impl FnOnce() -> Result<T> + Send + 'static) -> Result<T> {
    let stopped = |e| Problem::new(Kind::Internal, format!("the work stopped: {e}"));
    tokio::task::spawn_blocking(work).await.map_err(stopped)?
}

/// Lets this thread, and those that it starts, stand back behind others.
pub fn stand_back(nice: i32) {
    // Without it the work still goes on, only less politely.
    if let Err(e) = rustix::process::setpriority_process(None, nice) {
        tracing::debug!("a thread cannot stand back: {e}");
    }
}

/// Runs `work` in the background: on a thread of its own that stands back for all others, as do the threads that it
/// starts. An error says that it panicked, or that no thread could be started.
pub async fn background<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Result<T, String> {
    let (send, done) = tokio::sync::oneshot::channel();
    let run = move || {
        stand_back(NICE);
        let _ = send.send(work());
    };
    let started = std::thread::Builder::new().name("background".into()).spawn(run);
    started.map_err(|e| format!("no thread can be started: {e}"))?;
    done.await.map_err(|_| "the work panicked".into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn background_work_stands_back_and_a_panic_is_told() {
        let nice = || rustix::process::getpriority_process(None).unwrap();
        let before = nice();
        let inner = background(move || std::thread::scope(|s| s.spawn(nice).join().unwrap())).await.unwrap();
        assert_eq!((inner, nice()), (NICE, before));
        assert!(background(|| panic!("as meant")).await.is_err());
    }
}
