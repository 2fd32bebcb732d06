//! Threads that long searches compute on, so that the threads that read, refuse and answer requests are free for that.

use crate::node::threads::stand_back;
use crate::problem::{Kind, Problem, Result};
use crossbeam_channel::Sender;
use std::io;
use std::panic::{AssertUnwindSafe, catch_unwind};
use tokio::sync::oneshot;

/// How far searches stand back behind the threads that read and answer requests: those do little at a time, and what
/// they do is waited for.
const NICE: i32 = 3;

type Work = Box<dyn FnOnce() + Send>;

/// The threads. First come, first served.
pub struct Computers {
    queue: Sender<Work>,
}

impl Computers {
    pub fn start(n: usize) -> io::Result<Computers> {
        let (queue, work) = crossbeam_channel::unbounded::<Work>();
        for _ in 0..n {
            let work = work.clone();
            let run = move || {
                stand_back(NICE);
                // Whoever waits for work that panics is told by its end.
                work.iter().for_each(|work| drop(catch_unwind(AssertUnwindSafe(work))));
            };
            std::thread::Builder::new().name("search".into()).spawn(run)?;
        }
        Ok(Computers { queue })
    }

    /// Runs work on one of the threads.
    pub async fn run<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let (send, done) = oneshot::channel();
        let work = move || {
            // Who gave up meanwhile needs no answer.
            if !send.is_closed() {
                drop(send.send(work()));
            }
        };
        let stopped = || Problem::new(Kind::Internal, "the search stopped");
        self.queue.send(Box::new(work)).map_err(|_| stopped())?;
        done.await.map_err(|_| stopped())?
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;
    use std::sync::atomic::{AtomicUsize, Ordering};
    use std::thread;

    #[tokio::test]
    async fn a_panic_ends_no_thread() {
        let computers = Computers::start(1).unwrap();
        let name = || Ok(thread::current().name().map(str::to_owned));
        let panicked = computers.run(|| -> Result<()> { panic!("as meant") }).await;
        assert_eq!(panicked.unwrap_err().kind, Kind::Internal);
        assert_eq!(computers.run(name).await.unwrap().as_deref(), Some("search"));
    }

    #[tokio::test]
    async fn work_that_nobody_waits_for_is_not_begun() {
        let computers = Computers::start(1).unwrap();
        let (go, wait) = std::sync::mpsc::channel::<()>();
        let held = computers.run(move || Ok(wait.recv().is_ok()));
        let begun = Arc::new(AtomicUsize::new(0));
        let noting = begun.clone();
        let given_up = computers.run(move || Ok(noting.fetch_add(1, Ordering::SeqCst)));
        {
            let mut held = std::pin::pin!(held);
            let mut given_up = Box::pin(given_up);
            assert!(futures::poll!(&mut held).is_pending());
            assert!(futures::poll!(&mut given_up).is_pending());
            drop(given_up);
            go.send(()).unwrap();
            assert!(held.await.unwrap());
        }
        computers.run(|| Ok(())).await.unwrap();
        assert_eq!(begun.load(Ordering::SeqCst), 0);
    }
}
