//! Builds and loads give way to searches. A build that runs on idle threads still slows searches: its threads share what cores
//! share, and a core that computes for it does not take over a search that waits for another core. So before each of its
//! pieces a build waits for a moment in which nobody searches, but not for ever.

use crate::node::lanes::Lane;
use futures::future::BoxFuture;
use std::sync::Arc;
use std::time::Duration;
use zesty_catalog::Way;

/// How long a build waits before it looks again.
const STEP: Duration = Duration::from_micros(200);
/// The same for a load, whose work is the database's: as long as a timer takes at least.
const STEP_OF_LOADS: Duration = Duration::from_millis(1);
/// How often it looks before it goes on whatever else there is.
const MOST: usize = 10;
/// The same for a load.
const MOST_OF_LOADS: usize = 3;
/// How long a search keeps the statements of loads small.
const LATELY: Duration = Duration::from_millis(100);

/// What a build does before each of its pieces.
pub fn giving_way(searches: Arc<Lane>) -> impl Fn() + Send + Sync + 'static {
    move || give_way(&searches, || std::thread::sleep(STEP))
}

/// What a load does before each of its statements. MariaDB computes for it, mostly on the same machine, and a thread of its
/// own keeps a core for milliseconds, whatever its nice value is.
pub struct GivingWay(pub Arc<Lane>);

impl Way for GivingWay {
    fn is_taken(&self) -> bool {
        self.0.came_within(LATELY)
    }

    fn free(&self) -> BoxFuture<'_, ()> {
        Box::pin(async {
            for _ in 0..MOST_OF_LOADS {
                if self.0.depth() == 0 {
                    return;
                }
                tokio::time::sleep(STEP_OF_LOADS).await;
            }
        })
    }
}

fn give_way(searches: &Lane, mut wait: impl FnMut()) {
    for _ in 0..MOST {
        if searches.depth() == 0 {
            return;
        }
        wait();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::node::lanes::{LaneSizes, Lanes};

    #[test]
    fn a_build_waits_for_searches_but_not_for_ever() {
        let lanes = Lanes::new(LaneSizes::of_cores(1)).unwrap();
        let searches = &lanes.searches;
        give_way(searches, || panic!("nobody searches"));
        let mut place = Some(lanes.admit(searches).unwrap());
        let mut waits = 0;
        give_way(searches, || waits += 1);
        assert_eq!(waits, MOST);
        give_way(searches, || {
            waits += 1;
            place = None;
        });
        assert_eq!(waits, MOST + 1);
    }

    #[tokio::test(start_paused = true)]
    async fn a_load_waits_for_searches_but_not_for_ever() {
        let lanes = Lanes::new(LaneSizes::of_cores(1)).unwrap();
        let way = GivingWay(lanes.searches.clone());
        let start = tokio::time::Instant::now();
        way.free().await;
        assert!(!way.is_taken() && start.elapsed().is_zero());
        let place = lanes.admit(&lanes.searches).unwrap();
        way.free().await;
        assert!(way.is_taken());
        assert!(start.elapsed() >= STEP_OF_LOADS * MOST_OF_LOADS as u32, "{:?}", start.elapsed());
        drop(place);
        assert!(way.is_taken(), "there was one just now");
    }
}
