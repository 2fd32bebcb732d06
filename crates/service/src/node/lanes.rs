//! Lanes: how many requests of a kind there may be at the same time, so that what comes beyond capacity is refused at
//! once, and one kind does not starve another.
//!
//! A request is admitted to its lane first. While the lane is full, it is refused. What is admitted waits its turn to
//! compute: there are as many turns as cores, because more at once would only make each slower.

use crate::problem::{Kind, Problem, Result};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

/// How much each lane takes.
#[derive(Clone, Copy, Debug)]
pub struct LaneSizes {
    /// Searches, and reads, that compute at the same time.
    pub turns: usize,
    /// Searches that wait for their turn.
    pub searches_waiting: usize,
    /// Requests that read: browsing, counting, exports.
    pub reads: usize,
    /// Requests that write records or send files.
    pub writes: usize,
    /// All else.
    pub others: usize,
    /// Searches that wait for an encoder.
    pub encoding: usize,
}

impl LaneSizes {
    /// What fits a machine of so many cores.
    pub fn of_cores(cores: usize) -> LaneSizes {
        let turns = cores.max(1);
        LaneSizes {
            turns,
            searches_waiting: 3 * turns,
            reads: 16 * turns,
            writes: 64,
            others: 64,
            encoding: 256,
        }
    }
}

/// A kind of request, and how many of it there are.
pub struct Lane {
    pub name: &'static str,
    /// Requests that there may be at the same time.
    pub most: usize,
    admitted: AtomicUsize,
    turns: Arc<Semaphore>,
    refused: AtomicU64,
}

/// A request's place in its lane, held until it is answered.
pub struct Place {
    lane: Arc<Lane>,
    encoding: Arc<Lane>,
}

impl Lane {
    fn new(name: &'static str, most: usize, turns: Arc<Semaphore>) -> Arc<Lane> {
        Arc::new(Lane { name, most, admitted: AtomicUsize::new(0), turns, refused: AtomicU64::new(0) })
    }

    /// Requests that are in the lane now.
    pub fn depth(&self) -> usize {
        self.admitted.load(Ordering::Relaxed)
    }

    /// Requests that were refused since the start.
    pub fn refused(&self) -> u64 {
        self.refused.load(Ordering::Relaxed)
    }

    fn enter(&self) -> Result<()> {
        let most = self.most;
        let add = |n: usize| (n < most).then_some(n + 1);
        match self.admitted.fetch_update(Ordering::Relaxed, Ordering::Relaxed, add) {
            Ok(_) => Ok(()),
            Err(_) => Err(self.refuse()),
        }
    }

    /// The refusal of a request that is not worth reading, because the lane is full now.
    pub fn refuse_if_full(&self) -> Option<Problem> {
        (self.depth() >= self.most).then(|| self.refuse())
    }

    fn refuse(&self) -> Problem {
        self.refused.fetch_add(1, Ordering::Relaxed);
        let most = self.most;
        let detail = format!(
            "this node has all the {} that it can take at the same time ({most}); nothing was done: try again later",
            self.name
        );
        Problem::new(Kind::Overloaded, detail)
    }

    fn leave(&self) {
        self.admitted.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Place {
    /// Waits for the turn to compute; it is over when this is dropped.
    pub async fn turn(&self) -> Result<OwnedSemaphorePermit> {
        let closed = |_| Problem::new(Kind::Internal, "the lane is closed");
        self.lane.turns.clone().acquire_owned().await.map_err(closed)
    }

    /// Waits for an encoder meanwhile: others may compute, and only so many wait for encoders.
    pub async fn away<T>(&self, work: impl Future<Output = Result<T>>) -> Result<T> {
        struct Back<'a>(&'a Place);
        impl Drop for Back<'_> {
            fn drop(&mut self) {
                self.0.encoding.leave();
                // It was admitted once, and is not refused now.
                self.0.lane.admitted.fetch_add(1, Ordering::Relaxed);
            }
        }
        self.encoding.enter()?;
        self.lane.leave();
        let _back = Back(self);
        work.await
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        self.lane.leave();
    }
}

/// The lanes of a node.
pub struct Lanes {
    pub searches: Arc<Lane>,
    pub reads: Arc<Lane>,
    pub writes: Arc<Lane>,
    pub others: Arc<Lane>,
    pub encoding: Arc<Lane>,
}

impl Lanes {
    pub fn new(sizes: LaneSizes) -> Lanes {
        let turns = || Arc::new(Semaphore::new(sizes.turns));
        Lanes {
            searches: Lane::new("searches", sizes.turns + sizes.searches_waiting, turns()),
            reads: Lane::new("reads", sizes.reads, turns()),
            writes: Lane::new("writes", sizes.writes, turns()),
            others: Lane::new("requests", sizes.others, turns()),
            encoding: Lane::new("searches that wait for an encoder", sizes.encoding, turns()),
        }
    }

    /// A place in a lane, unless that is full.
    pub fn admit(&self, lane: &Arc<Lane>) -> Result<Place> {
        lane.enter()?;
        Ok(Place { lane: lane.clone(), encoding: self.encoding.clone() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_full_lane_refuses_at_once_and_takes_again_what_left() {
        let lanes = Lanes::new(LaneSizes { turns: 1, searches_waiting: 1, ..LaneSizes::of_cores(1) });
        let first = lanes.admit(&lanes.searches).unwrap();
        let second = lanes.admit(&lanes.searches).unwrap();
        let refusal = lanes.admit(&lanes.searches).err().unwrap();
        assert_eq!((refusal.kind, lanes.searches.refused()), (Kind::Overloaded, 1));
        lanes.admit(&lanes.reads).unwrap();

        // One computes at a time.
        let turn = first.turn().await.unwrap();
        assert!(futures::FutureExt::now_or_never(second.turn()).is_none());
        drop(turn);
        assert!(futures::FutureExt::now_or_never(second.turn()).is_some());

        // Who waits for an encoder makes room, and keeps the right to come back.
        let away = first.away(async {
            let third = lanes.admit(&lanes.searches).unwrap();
            assert_eq!((lanes.searches.depth(), lanes.encoding.depth()), (2, 1));
            Ok(third)
        });
        let third = away.await.unwrap();
        assert_eq!((lanes.searches.depth(), lanes.encoding.depth()), (3, 0));
        drop((first, second, third));
        assert_eq!(lanes.searches.depth(), 0);
        // Who goes away while away is gone.
        let gone = lanes.admit(&lanes.searches).unwrap();
        drop(futures::FutureExt::now_or_never(gone.away(std::future::pending::<Result<()>>())));
        drop(gone);
        assert_eq!((lanes.searches.depth(), lanes.encoding.depth()), (0, 0));
    }
}
