//! Work that takes long enough to hold up other requests.

use crate::problem::{Kind, Problem, Result};
use std::io;
use std::sync::LazyLock;
use thread_priority::{
    NormalThreadSchedulePolicy, ThreadPriority, ThreadSchedulePolicy, set_thread_priority_and_policy,
    thread_native_id,
};
use tokio::runtime::{Builder, Handle, Runtime};

/// Where jobs run: on idle threads of their own, so that a batch of a load, which takes milliseconds, holds up no request.
/// Where searches leave next to nothing, writes may wait for seconds meanwhile, for a batch that holds their collection. The
/// connections to the database that a job opens serve jobs only.
pub fn jobs() -> Handle {
    static JOBS: LazyLock<io::Result<Runtime>> = LazyLock::new(|| {
        let threads = std::thread::available_parallelism().map_or(1, usize::from);
        let mut builder = Builder::new_multi_thread();
        builder.worker_threads(threads).thread_name("job").on_thread_start(|| {
            idle();
        });
        builder.enable_all().build()
    });
    match &*JOBS {
        Ok(runtime) => runtime.handle().clone(),
        Err(e) => {
            tracing::warn!("jobs have no threads of their own: {e}");
            Handle::current()
        }
    }
}

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

/// Lets this thread, and those that it starts, have what others leave of the cores: whoever wakes goes first at once.
/// Returns whether that is so.
pub fn idle() -> bool {
    let policy = ThreadSchedulePolicy::Normal(NormalThreadSchedulePolicy::Idle);
    let is_idle = set_thread_priority_and_policy(thread_native_id(), ThreadPriority::Min, policy);
    if let Err(e) = &is_idle {
        tracing::debug!("a thread cannot be idle: {e:?}");
    }
    is_idle.is_ok()
}

/// Runs `work` in the background: on a thread of its own that stands back for all others, as do the threads that it
/// starts. An error says that it panicked, or that no thread could be started.
pub async fn background<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Result<T, String> {
    let (send, done) = tokio::sync::oneshot::channel();
    let run = move || {
        idle();
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
    async fn background_work_is_idle_and_a_panic_is_told() {
        let policy = || thread_priority::thread_schedule_policy().unwrap();
        let before = policy();
        let inner =
            background(move || std::thread::scope(|s| s.spawn(policy).join().unwrap())).await.unwrap();
        let idle = ThreadSchedulePolicy::Normal(NormalThreadSchedulePolicy::Idle);
        assert!(inner == idle && before != idle && policy() == before);
        assert!(background(|| panic!("as meant")).await.is_err());
    }

    #[tokio::test]
    async fn jobs_run_on_idle_threads() {
        let policy = async { thread_priority::thread_schedule_policy().unwrap() };
        let idle = ThreadSchedulePolicy::Normal(NormalThreadSchedulePolicy::Idle);
        assert!(jobs().spawn(policy).await.unwrap() == idle);
    }
}
