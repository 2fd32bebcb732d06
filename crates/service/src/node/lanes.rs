//! Lanes: how many requests of a kind there may be at the same time, so that what comes beyond capacity is refused at
//! once, and one kind does not starve another.
//!
//! A request is admitted to its lane first. While the lane is full, it is refused. What is admitted waits its turn to
//! compute: there are as many turns as cores, because more at once would only make each slower. Long searches have threads
//! of their own for it, and so have short ones in a crowd.

use crate::node::awake::Awake;
use crate::node::computers::Computers;
use crate::problem::{Kind, Problem, Result};
use parking_lot::Mutex;
use std::io;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::time::{Duration, Instant};
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
    /// How long cores are kept awake after a request.
    pub awake: Duration,
}

/// Searches that wait for each core, as long as there is no crowd: a burst is served, not refused.
pub const SEARCHES_WAITING: usize = 7;

impl LaneSizes {
    /// What fits a machine of so many cores.
    pub fn of_cores(cores: usize) -> LaneSizes {
        let turns = cores.max(1);
        LaneSizes {
            turns,
            searches_waiting: SEARCHES_WAITING * turns,
            reads: 16 * turns,
            writes: 64,
            others: 64,
            encoding: 256,
            awake: Duration::ZERO,
        }
    }
}

/// How long what comes is counted, to tell a crowd from a moment.
const WINDOW: Duration = Duration::from_millis(250);

/// A kind of request, and how many of it there are.
pub struct Lane {
    pub name: &'static str,
    /// Requests that there may be at the same time.
    pub most: usize,
    /// The same in a crowd: who is taken then waits less, and as many are served.
    pub most_in_crowd: usize,
    /// Of those, how many wait for their turn.
    waiting_in_crowd: usize,
    admitted: AtomicUsize,
    waiting: AtomicUsize,
    refused: AtomicU64,
    window: Mutex<Window>,
    is_crowded: AtomicBool,
    /// Whether a crowd has been there for longer than a burst.
    is_lasting: AtomicBool,
    began: Instant,
    /// When the last one was admitted, in microseconds since then; 0 for never.
    last_us: AtomicU64,
}

/// How long a crowd is believed to be there before that is tried anew; twice as long each time that it is there still.
const BELIEVED: Duration = Duration::from_secs(5);
const BELIEVED_AT_MOST: Duration = Duration::from_secs(60);
/// A crowd that comes so soon after a trial was there all the time.
const STILL: Duration = Duration::from_secs(1);
/// Refusals that make a crowd before a window is over.
const MANY: u64 = 32;
/// The same when it is tried whether a crowd is still there.
const MANY_AGAIN: u64 = 4;

/// What came since a moment.
struct Window {
    began: Instant,
    came: u64,
    refused: u64,
    /// Since when there is a crowd.
    crowded: Option<Instant>,
    /// How long it is believed.
    believed: Duration,
    /// When all were taken again to see whether it is still there.
    tried: Option<Instant>,
}

impl Window {
    fn new(began: Instant) -> Window {
        Window { began, came: 0, refused: 0, crowded: None, believed: BELIEVED, tried: None }
    }

    /// Notes what came; returns whether there is a crowd. It comes when a fourth is refused, and goes when less than an
    /// eighth is. It is judged when a window is over, or when many were refused. After a while all are taken again to
    /// see whether it is still there, because callers who come back at once are refused again for want of places alone.
    /// Those who are taken then may wait for long, so a crowd that stays is tried less and less often.
    fn note(&mut self, now: Instant, is_refused: bool) -> bool {
        let age = now.duration_since(self.began);
        if age >= 2 * WINDOW {
            // Nobody came for a while: what was before says nothing of now.
            *self = Window::new(now);
        }
        self.came += 1;
        self.refused += u64::from(is_refused);
        let parts = if self.crowded.is_some() { 8 } else { 4 };
        let is_crowded = parts * self.refused >= self.came;
        let is_still = self.tried.is_some_and(|tried| now.duration_since(tried) < STILL);
        let many = if is_still { MANY_AGAIN } else { MANY };
        let is_sudden = is_crowded && self.crowded.is_none() && self.refused >= many;
        if is_sudden || age >= WINDOW {
            let believed = match (self.crowded, is_still) {
                (None, true) => (2 * self.believed).min(BELIEVED_AT_MOST),
                (None, false) => BELIEVED,
                (Some(_), _) => self.believed,
            };
            let since = self.crowded.unwrap_or(now);
            let goes_on = is_crowded && now.duration_since(since) < believed;
            let (crowded, tried) = (goes_on.then_some(since), (is_crowded && !goes_on).then_some(now));
            *self = Window { crowded, believed, tried, ..Window::new(now) };
        }
        self.crowded.is_some()
    }

    /// Whether the crowd is no burst.
    fn is_lasting(&self, now: Instant) -> bool {
        self.crowded.is_some_and(|since| self.believed > BELIEVED || now.duration_since(since) >= WINDOW)
    }
}

/// A request that waits for its turn.
struct Waiting(Arc<Lane>);

impl Waiting {
    fn new(lane: &Arc<Lane>) -> Waiting {
        lane.waiting.fetch_add(1, Ordering::Relaxed);
        Waiting(lane.clone())
    }

    /// Its turn has come. In a crowd that lasts, it is refused while more wait behind it than may: those who came last
    /// have waited least.
    fn begin(self) -> Result<()> {
        let lane = &self.0;
        let behind = lane.waiting.load(Ordering::Relaxed).saturating_sub(1);
        if behind <= lane.waiting_in_crowd || !lane.is_lasting.load(Ordering::Relaxed) {
            return Ok(());
        }
        lane.refused.fetch_add(1, Ordering::Relaxed);
        Err(lane.refusal(lane.most_in_crowd))
    }
}

impl Drop for Waiting {
    fn drop(&mut self) {
        self.0.waiting.fetch_sub(1, Ordering::Relaxed);
    }
}

/// A request's place in its lane, held until it is answered.
pub struct Place {
    lane: Arc<Lane>,
    encoding: Arc<Lane>,
    computers: Arc<Computers>,
    awake: Arc<Awake>,
    /// When others were let go first.
    gave_way: Mutex<Option<Instant>>,
    /// Whether it has computed, or was away: it is not refused any more.
    has_begun: AtomicBool,
}

/// How long short work of one request goes on before others go first.
const AT_A_TIME: Duration = Duration::from_millis(1);

impl Lane {
    fn new(name: &'static str, most: usize, most_in_crowd: usize, waiting_in_crowd: usize) -> Arc<Lane> {
        Arc::new(Lane {
            name,
            most,
            most_in_crowd: most_in_crowd.min(most),
            waiting_in_crowd,
            admitted: AtomicUsize::new(0),
            waiting: AtomicUsize::new(0),
            refused: AtomicU64::new(0),
            window: Mutex::new(Window::new(Instant::now())),
            is_crowded: AtomicBool::new(false),
            is_lasting: AtomicBool::new(false),
            began: Instant::now(),
            last_us: AtomicU64::new(0),
        })
    }

    /// Whether one was admitted so short a time ago.
    pub fn came_within(&self, time: Duration) -> bool {
        let last = self.last_us.load(Ordering::Relaxed);
        last > 0 && self.began.elapsed().saturating_sub(Duration::from_micros(last)) <= time
    }

    /// Requests that there may be now.
    fn most_now(&self) -> usize {
        if self.is_crowded.load(Ordering::Relaxed) { self.most_in_crowd } else { self.most }
    }

    fn note(&self, is_refused: bool) {
        let mut window = self.window.lock();
        let now = Instant::now();
        let is_crowded = window.note(now, is_refused);
        self.is_lasting.store(window.is_lasting(now), Ordering::Relaxed);
        if self.is_crowded.swap(is_crowded, Ordering::Relaxed) != is_crowded {
            let (name, most) = (self.name, self.most_now());
            match is_crowded {
                true => tracing::warn!(
                    "a fourth or more of the {name} are refused; {most} are taken at the same time"
                ),
                false => tracing::info!("{name} are no longer crowded; {most} are taken at the same time"),
            }
        }
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
        let most = self.most_now();
        let add = |n: usize| (n < most).then_some(n + 1);
        match self.admitted.fetch_update(Ordering::Relaxed, Ordering::Relaxed, add) {
            Ok(_) => {
                self.last_us.store((self.began.elapsed().as_micros() as u64).max(1), Ordering::Relaxed);
                self.note(false);
                Ok(())
            }
            Err(_) => {
                self.note_refusal();
                Err(self.refusal(most))
            }
        }
    }

    /// Refuses what is not worth reading, because the lane is full now; returns how many it takes.
    pub fn refuse_early(&self) -> Option<usize> {
        let most = self.most_now();
        (self.depth() >= most).then(|| {
            self.note_refusal();
            most
        })
    }

    fn note_refusal(&self) {
        self.refused.fetch_add(1, Ordering::Relaxed);
        self.note(true);
    }

    /// What is said while so many are taken.
    pub fn refusal(&self, most: usize) -> Problem {
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
    /// Computes when its turn has come. Short work is done here, because handing it over takes longer than it holds up
    /// anybody; if others are there, all that came meanwhile is read first, and refused where it is too much. In a crowd,
    /// what reads and refuses goes on meanwhile, however short the work is; and if it lasts, the first work of a request may
    /// be refused.
    pub async fn compute<T: Send + 'static>(
        &self,
        is_short: bool,
        work: impl FnOnce() -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let is_first = !self.has_begun.swap(true, Ordering::Relaxed);
        if !is_short || self.lane.is_crowded.load(Ordering::Relaxed) {
            let waiting = is_first.then(|| Waiting::new(&self.lane));
            let turn = move || waiting.map_or(Ok(()), Waiting::begin).and_then(|()| work());
            return self.computers.run(turn).await;
        }
        if self.lane.depth() > 1 && self.is_due() {
            tokio::task::yield_now().await;
        }
        work()
    }

    /// Whether others go first now: before the first work, and after each while of it.
    fn is_due(&self) -> bool {
        let mut gave_way = self.gave_way.lock();
        let is_due = gave_way.is_none_or(|at| at.elapsed() >= AT_A_TIME);
        if is_due {
            *gave_way = Some(Instant::now());
        }
        is_due
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
        self.has_begun.store(true, Ordering::Relaxed);
        self.lane.leave();
        let _back = Back(self);
        work.await
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        self.awake.note();
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
    reading: Arc<Semaphore>,
    computers: Arc<Computers>,
    awake: Arc<Awake>,
}

impl Lanes {
    /// An error says that no threads can be started.
    pub fn new(sizes: LaneSizes) -> io::Result<Lanes> {
        let lane = |name, most| Lane::new(name, most, most, most);
        Ok(Lanes {
            // In a crowd, one waits for each that computes.
            searches: Lane::new(
                "searches",
                sizes.turns + sizes.searches_waiting,
                2 * sizes.turns,
                sizes.turns,
            ),
            reads: lane("reads", sizes.reads),
            writes: lane("writes", sizes.writes),
            others: lane("requests", sizes.others),
            encoding: lane("searches that wait for an encoder", sizes.encoding),
            reading: Arc::new(Semaphore::new(sizes.turns)),
            computers: Arc::new(Computers::start(sizes.turns)?),
            awake: Arc::new(Awake::start(sizes.turns, sizes.awake)?),
        })
    }

    /// Waits for the turn to read; it is over when this is dropped.
    pub async fn turn_to_read(&self) -> Result<OwnedSemaphorePermit> {
        let closed = |_| Problem::new(Kind::Internal, "the lane is closed");
        self.reading.clone().acquire_owned().await.map_err(closed)
    }

    /// A place in a lane, unless that is full.
    pub fn admit(&self, lane: &Arc<Lane>) -> Result<Place> {
        lane.enter()?;
        self.awake.note();
        let (encoding, computers) = (self.encoding.clone(), self.computers.clone());
        let (lane, awake) = (lane.clone(), self.awake.clone());
        let (gave_way, has_begun) = (Mutex::default(), AtomicBool::new(false));
        Ok(Place { lane, encoding, computers, awake, gave_way, has_begun })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use futures::FutureExt;

    #[test]
    fn a_crowd_is_told_from_a_moment() {
        let start = Instant::now();
        let mut window = Window::new(start);
        let mut note = |ms, taken, refused| {
            let now = start + Duration::from_millis(ms);
            let mut one = |is_refused| window.note(now, is_refused);
            (0..taken).map(|_| false).chain((0..refused).map(|_| true)).map(&mut one).last().unwrap()
        };
        assert!(!note(10, 0, 31), "a burst");
        assert!(!note(20, 100, 0));
        assert!(!note(260, 1, 0), "31 of 132");
        assert!(!note(300, 90, 30) && note(600, 0, 1), "31 of 121");
        assert!(note(700, 8, 2) && note(860, 1, 0), "2 of 11");
        assert!(note(900, 17, 2) && !note(1200, 1, 0), "2 of 20");
        assert!(!note(1210, 0, 31) && note(1210, 0, 1), "many at once");
        assert!(note(1300, 0, 9) && !note(2000, 1, 0), "nobody came for a while");
        assert!(note(2010, 0, 99));
        assert!((2..=27).all(|i| note(2010 + 190 * i, 10, 30)), "it goes on");
        assert!(!note(7200, 1, 0), "it is tried anew");
        assert!(note(7210, 0, 99), "and is there");
        // When it is tried next; it is there again at once.
        let tried = |window: &mut Window, from: u64| {
            let is_trial = |ms: &u64| {
                let now = start + Duration::from_millis(*ms);
                let refused = (0..40).map(|i| i % 4 > 0);
                let crowded: Vec<bool> = refused.map(|is_refused| window.note(now, is_refused)).collect();
                assert!(crowded[39]);
                crowded.contains(&false)
            };
            (from + 100..).step_by(100).take(1000).find(is_trial).unwrap()
        };
        let mut from = 7210;
        for believed in [10_000, 20_000, 40_000, 60_000, 60_000] {
            let next = tried(&mut window, from);
            assert!((believed..believed + 400).contains(&(next - from)), "{believed}: {from} to {next}");
            from = next;
        }
        let mut note = |ms, is_refused| window.note(start + Duration::from_millis(ms), is_refused);
        assert!((1..=5).any(|i| !note(from + 260 * i, false)), "it is calm");
        assert!((0..99).map(|_| note(from + 5000, true)).last().unwrap(), "another one");
        let next = tried(&mut window, from + 5000);
        assert!((from + 10_000..from + 10_400).contains(&next), "is tried soon");
    }

    #[test]
    fn fewer_are_taken_in_a_crowd_and_more_again_after_it() {
        let lane = Lane::new("searches", 3, 1, 0);
        assert!((0..3).all(|_| lane.enter().is_ok()));
        // One in a window, and that one was refused.
        *lane.window.lock() = Window::new(Instant::now() - WINDOW);
        assert!(lane.enter().is_err());
        assert_eq!(lane.refuse_early(), Some(1));
        let refusal = lane.enter().unwrap_err();
        assert!(refusal.detail.contains("at the same time (1)"), "{}", refusal.detail);
        lane.leave();
        lane.leave();
        assert!(lane.enter().is_err(), "one is there");
        lane.leave();
        lane.enter().unwrap();
        lane.leave();
        // A window in which none was refused.
        *lane.window.lock() = Window::new(Instant::now() - WINDOW);
        lane.enter().unwrap();
        lane.leave();
        assert!((0..3).all(|_| lane.enter().is_ok()));
    }

    #[tokio::test]
    async fn short_work_is_done_here_after_what_else_came_and_handed_over_in_a_crowd_alone() {
        let lanes = Lanes::new(LaneSizes::of_cores(1)).unwrap();
        let place = lanes.admit(&lanes.searches).unwrap();
        let name = || Ok(std::thread::current().name().map(str::to_owned));
        let here = name().unwrap();
        assert_eq!(place.compute(true, name).now_or_never().unwrap().unwrap(), here);
        assert_eq!(place.compute(false, name).await.unwrap().as_deref(), Some("search"));
        {
            let _other = lanes.admit(&lanes.searches).unwrap();
            let mut work = std::pin::pin!(place.compute(true, name));
            assert!(futures::poll!(&mut work).is_pending());
            assert_eq!(work.await.unwrap(), here);
            // More of the same request goes on at once, for a while.
            *place.gave_way.lock() = Some(Instant::now() + AT_A_TIME);
            assert_eq!(place.compute(true, name).now_or_never().unwrap().unwrap(), here);
            *place.gave_way.lock() = Some(Instant::now() - AT_A_TIME);
            assert!(place.compute(true, name).now_or_never().is_none());
        }
        lanes.searches.is_crowded.store(true, Ordering::Relaxed);
        assert_eq!(place.compute(true, name).await.unwrap().as_deref(), Some("search"));
    }

    #[tokio::test]
    async fn in_a_crowd_that_lasts_those_who_waited_longest_are_refused() {
        let lanes =
            Lanes::new(LaneSizes { turns: 1, searches_waiting: 9, ..LaneSizes::of_cores(1) }).unwrap();
        let places: Vec<Place> = (0..5).map(|_| lanes.admit(&lanes.searches).unwrap()).collect();
        let (go, wait) = std::sync::mpsc::channel::<()>();
        let (begin, begun) = std::sync::mpsc::channel::<()>();
        let hold = move || Ok(begin.send(()).is_ok() && wait.recv().is_ok());
        let mut held = std::pin::pin!(places[0].compute(false, hold));
        assert!(futures::poll!(&mut held).is_pending());
        begun.recv().unwrap();
        // Of a request with many searches, all but the first stay; and one that was with an encoder stays.
        places[1].away(async { Ok(()) }).await.unwrap();
        let yes: fn() -> Result<bool> = || Ok(true);
        let away = places[1].compute(false, yes);
        let waiting = places[2..].iter().flat_map(|p| [p.compute(false, yes), p.compute(false, yes)]);
        let mut waiting: Vec<_> = std::iter::once(away).chain(waiting).map(Box::pin).collect();
        for one in &mut waiting {
            assert!(futures::poll!(one).is_pending());
        }
        assert_eq!(lanes.searches.waiting.load(Ordering::Relaxed), 3);
        lanes.searches.is_lasting.store(true, Ordering::Relaxed);
        go.send(()).unwrap();
        assert!(held.await.unwrap());
        let done = futures::future::join_all(waiting).await;
        let kinds: Vec<Option<Kind>> = done.into_iter().map(|d| d.err().map(|p| p.kind)).collect();
        assert_eq!(kinds, [None, Some(Kind::Overloaded), None, None, None, None, None]);
        assert_eq!((lanes.searches.refused(), lanes.searches.waiting.load(Ordering::Relaxed)), (1, 0));
    }

    #[test]
    fn a_burst_is_no_crowd_that_lasts() {
        let start = Instant::now();
        let mut window = Window::new(start);
        let at = |ms| start + Duration::from_millis(ms);
        assert!((0..40).map(|_| window.note(at(5), true)).last().unwrap() && !window.is_lasting(at(200)));
        assert!(window.note(at(300), true) && window.is_lasting(at(300)));
        // It is tried, and there again after a few.
        let trial = (1..60).map(|i| at(300 + 100 * i)).find(|now| !window.note(*now, true)).unwrap();
        assert!((0..3).all(|_| !window.note(trial, true)) && !window.is_lasting(trial));
        assert!(window.note(trial, true) && window.is_lasting(trial));
    }

    #[tokio::test]
    async fn a_full_lane_refuses_at_once_and_takes_again_what_left() {
        let lanes =
            Lanes::new(LaneSizes { turns: 1, searches_waiting: 1, ..LaneSizes::of_cores(1) }).unwrap();
        let first = lanes.admit(&lanes.searches).unwrap();
        let second = lanes.admit(&lanes.searches).unwrap();
        let refusal = lanes.admit(&lanes.searches).err().unwrap();
        assert_eq!((refusal.kind, lanes.searches.refused()), (Kind::Overloaded, 1));
        lanes.admit(&lanes.reads).unwrap();

        // One reads at a time.
        let turn = lanes.turn_to_read().await.unwrap();
        assert!(futures::FutureExt::now_or_never(lanes.turn_to_read()).is_none());
        drop(turn);
        assert!(futures::FutureExt::now_or_never(lanes.turn_to_read()).is_some());

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
