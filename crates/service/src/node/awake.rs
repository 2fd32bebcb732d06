//! Cores that are kept awake for a while after a request. A core that has nothing to do is put to sleep, and on virtual
//! machines it takes 50 to 100 us to wake, which is more than most searches take. One idle thread a core computes nothing
//! meanwhile; whatever else has work goes first at once.

use crate::node::threads::idle;
use parking_lot::{Condvar, Mutex};
use std::hint::spin_loop;
use std::io;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

/// Turns between two looks at the clock.
const TURNS: usize = 200;

/// The threads, which go on until the last of these is dropped.
pub struct Awake(Arc<Parts>);

struct Parts {
    start: Instant,
    longest: Duration,
    /// Until when cores are kept awake, in microseconds since `start`.
    until_us: AtomicU64,
    is_over: AtomicBool,
    /// How many threads sleep.
    asleep: Mutex<usize>,
    wake: Condvar,
}

impl Parts {
    fn now_us(&self) -> u64 {
        self.start.elapsed().as_micros() as u64
    }

    fn is_on(&self) -> bool {
        self.now_us() < self.until_us.load(Ordering::Relaxed)
    }

    fn run(&self) {
        while !self.is_over.load(Ordering::Relaxed) {
            while self.is_on() {
                (0..TURNS).for_each(|_| spin_loop());
            }
            let mut asleep = self.asleep.lock();
            // Who notes a request takes the same lock, so none is missed.
            if !self.is_on() && !self.is_over.load(Ordering::Relaxed) {
                *asleep += 1;
                self.wake.wait(&mut asleep);
                *asleep -= 1;
            }
        }
    }
}

impl Awake {
    /// Starts as many threads, unless nothing is to be kept awake. An error says that they cannot be started.
    pub fn start(n: usize, longest: Duration) -> io::Result<Awake> {
        let parts = Arc::new(Parts {
            start: Instant::now(),
            longest,
            until_us: AtomicU64::new(0),
            is_over: AtomicBool::new(false),
            asleep: Mutex::new(0),
            wake: Condvar::new(),
        });
        let n = if longest.is_zero() { 0 } else { n };
        let awake = Awake(parts.clone());
        for _ in 0..n {
            let parts = parts.clone();
            let run = move || {
                // Where it cannot stand back, it would take time from others.
                if idle() {
                    parts.run();
                }
            };
            std::thread::Builder::new().name("awake".into()).spawn(run)?;
        }
        Ok(awake)
    }

    /// Notes that a request came, or was answered.
    pub fn note(&self) {
        let parts = &self.0;
        if parts.longest.is_zero() {
            return;
        }
        let was_on = parts.is_on();
        parts.until_us.store(parts.now_us() + parts.longest.as_micros() as u64, Ordering::Relaxed);
        if !was_on && *parts.asleep.lock() > 0 {
            parts.wake.notify_all();
        }
    }
}

impl Drop for Awake {
    fn drop(&mut self) {
        self.0.is_over.store(true, Ordering::Relaxed);
        self.0.until_us.store(0, Ordering::Relaxed);
        let _asleep = self.0.asleep.lock();
        self.0.wake.notify_all();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn until(is_so: impl Fn() -> bool) {
        while !is_so() {
            // Idle threads come last.
            std::thread::park_timeout(Duration::from_millis(1));
        }
    }

    #[test]
    fn threads_wake_with_a_request_sleep_after_it_and_end_with_their_owner() {
        let awake = Awake::start(2, Duration::from_secs(3600)).unwrap();
        let parts = awake.0.clone();
        until(|| *parts.asleep.lock() == 2);
        for _ in 0..3 {
            awake.note();
            until(|| *parts.asleep.lock() == 0);
            assert!(parts.is_on());
            parts.until_us.store(0, Ordering::Relaxed);
            until(|| *parts.asleep.lock() == 2);
        }
        drop(awake);
        until(|| Arc::strong_count(&parts) == 1);
    }

    #[test]
    fn nothing_runs_where_nothing_is_to_be_kept_awake() {
        let awake = Awake::start(2, Duration::ZERO).unwrap();
        awake.note();
        assert_eq!((Arc::strong_count(&awake.0), awake.0.is_on()), (1, false));
    }
}
