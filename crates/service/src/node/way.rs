//! Builds give way to searches. A build that runs on idle threads still slows searches: its threads share what cores
//! share, and a core that computes for it does not take over a search that waits for another core. So before each of its
//! pieces a build waits for a moment in which nobody searches, but not for ever.

use crate::node::lanes::Lane;
use std::sync::Arc;
use std::time::Duration;

/// How long a build waits before it looks again.
const STEP: Duration = Duration::from_micros(200);
/// How often it looks before it goes on whatever else there is.
const MOST: usize = 10;

/// What a build does before each of its pieces.
pub fn giving_way(searches: Arc<Lane>) -> impl Fn() + Send + Sync + 'static {
    move || give_way(&searches, || std::thread::sleep(STEP))
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
}
