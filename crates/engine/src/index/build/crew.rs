//! Work cut into pieces that threads take in turn. What comes out is in order, so that the number of threads
//! changes nothing but the time.

use crate::index::progress::BuildError;
use crate::index::progress::Progress;
use crate::kernels::Kernels;
use std::ops::Range;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Who does the work of a build, and who watches.
#[derive(Clone, Copy)]
pub(crate) struct Crew<'a> {
    pub(crate) threads: usize,
    pub(crate) progress: &'a Progress,
    pub(crate) kernels: &'a Kernels,
}

impl Crew<'_> {
    pub(crate) fn check(&self) -> Result<(), BuildError> {
        if self.progress.is_cancelled() { Err(BuildError::Cancelled) } else { Ok(()) }
    }

    /// Calls `work` on pieces of `0..len`, and returns what it returned, in order.
    pub(crate) fn pieces<T: Send>(
        &self,
        len: usize,
        piece: usize,
        work: impl Fn(Range<usize>) -> T + Sync,
    ) -> Result<Vec<T>, BuildError> {
        let n_pieces = len.div_ceil(piece);
        let next = AtomicUsize::new(0);
        let some = || {
            let mut mine = Vec::new();
            while self.progress.goes_on() {
                let i = next.fetch_add(1, Ordering::Relaxed);
                if i >= n_pieces {
                    break;
                }
                let piece = i * piece..len.min((i + 1) * piece);
                self.progress.done.fetch_add(piece.len(), Ordering::Relaxed);
                mine.push((i, work(piece)));
            }
            mine
        };
        let threads = self.threads.clamp(1, n_pieces.max(1));
        let mut all = if threads == 1 {
            some()
        } else {
            std::thread::scope(|scope| {
                let others: Vec<_> = (1..threads).map(|_| scope.spawn(some)).collect();
                let mut all = some();
                for other in others {
                    match other.join() {
                        Ok(part) => all.extend(part),
                        Err(panic) => std::panic::resume_unwind(panic),
                    }
                }
                all
            })
        };
        self.check()?;
        all.sort_by_key(|(i, _)| *i);
        Ok(all.into_iter().map(|(_, value)| value).collect())
    }
}
