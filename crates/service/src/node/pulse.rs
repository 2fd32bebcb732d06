//! The last hour of a node in steps of ten seconds: how many requests there were, and how long searches took.

use chrono::DateTime;
use std::collections::VecDeque;
use std::time::Duration;
use zesty_wire as wire;

/// Seconds of a step.
pub const STEP_S: i64 = 10;
/// Seconds that are kept.
const KEPT_S: i64 = 3600;
/// Four to each doubling, from 1 us: up to 2^20 ms.
const BUCKETS: usize = 120;

/// Requests of a few seconds.
#[derive(Clone)]
pub struct Step {
    /// When it began, in seconds since 1970.
    pub at: i64,
    pub searches: u64,
    /// Requests that were no searches.
    pub others: u64,
    /// Answered with 429 or 503.
    pub refused: u64,
    /// Answered with another status from 400 on.
    pub wrong: u64,
    /// Answered with 500.
    pub failed: u64,
    took: [u32; BUCKETS],
}

fn bucket(took: Duration) -> usize {
    let us = took.as_secs_f64() * 1e6;
    ((us.max(1.0).log2() * 4.0) as usize).min(BUCKETS - 1)
}

impl Step {
    fn new(at: i64) -> Step {
        Step { at, searches: 0, others: 0, refused: 0, wrong: 0, failed: 0, took: [0; BUCKETS] }
    }

    /// The step as it is shown.
    pub fn view(&self) -> Option<wire::PulseStep> {
        Some(wire::PulseStep {
            at: DateTime::from_timestamp(self.at, 0)?,
            searches: self.searches,
            others: self.others,
            refused: self.refused,
            wrong: self.wrong,
            failed: self.failed,
            p50_us: self.took_us(0.5),
            p99_us: self.took_us(0.99),
        })
    }

    /// What a share of the searches took at the most, in microseconds; within a fifth.
    pub fn took_us(&self, share: f64) -> Option<f64> {
        quantile(&self.took, share)
    }
}

fn quantile(took: &[u32; BUCKETS], share: f64) -> Option<f64> {
    let all: u64 = took.iter().map(|n| u64::from(*n)).sum();
    let wanted = (all as f64 * share).ceil() as u64;
    let mut passed = 0;
    let at = took.iter().position(|n| {
        passed += u64::from(*n);
        passed >= wanted
    });
    at.filter(|_| all > 0).map(|at| 2f64.powf((at + 1) as f64 / 4.0))
}

/// The steps of the last hour in which something was asked, the oldest first.
#[derive(Clone)]
pub struct Pulse {
    step_s: i64,
    steps: VecDeque<Step>,
}

impl Default for Pulse {
    fn default() -> Pulse {
        Pulse::of_steps(STEP_S)
    }
}

impl Pulse {
    /// Steps of so many seconds.
    pub fn of_steps(step_s: i64) -> Pulse {
        Pulse { step_s, steps: VecDeque::new() }
    }

    /// Whether anything was noted in the hour before `now`.
    pub fn is_alive(&self, now: i64) -> bool {
        self.steps.back().is_some_and(|last| last.at > now - KEPT_S)
    }

    /// What a share of all searches took at the most, in microseconds; within a fifth.
    pub fn took_us(&self, share: f64) -> Option<f64> {
        let mut all = [0; BUCKETS];
        for step in &self.steps {
            all.iter_mut().zip(step.took).for_each(|(sum, n)| *sum += n);
        }
        quantile(&all, share)
    }

    /// Notes a request that was answered `now`, in seconds since 1970; `took` where it was a search.
    pub fn note(&mut self, now: i64, status: u16, took: Option<Duration>) {
        let at = now / self.step_s * self.step_s;
        if self.steps.back().is_none_or(|last| last.at < at) {
            self.steps.push_back(Step::new(at));
            let oldest = at - KEPT_S;
            while self.steps.front().is_some_and(|first| first.at <= oldest) {
                self.steps.pop_front();
            }
        }
        // A clock that was set back counts into the newest step.
        let Some(step) = self.steps.back_mut() else { return };
        match (status, took) {
            (429 | 503, _) => step.refused += 1,
            (500, _) => step.failed += 1,
            (400.., _) => step.wrong += 1,
            (_, Some(took)) => {
                step.searches += 1;
                step.took[bucket(took)] += 1;
            }
            (_, None) => step.others += 1,
        }
    }

    pub fn steps(&self) -> impl Iterator<Item = &Step> {
        self.steps.iter()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_step_tells_how_long_searches_took_and_an_hour_is_kept() {
        let mut pulse = Pulse::default();
        for i in 1..=1000u64 {
            pulse.note(1000, 200, Some(Duration::from_micros(i)));
        }
        pulse.note(1001, 503, Some(Duration::from_secs(9)));
        pulse.note(1002, 404, None);
        pulse.note(1003, 500, None);
        pulse.note(990, 200, None);
        let step = pulse.steps().next().unwrap().clone();
        assert_eq!((step.at, step.searches, step.others), (1000, 1000, 1));
        assert_eq!((step.refused, step.wrong, step.failed), (1, 1, 1));
        for (share, us) in [(0.5, 500.0), (0.99, 990.0), (1.0, 1000.0)] {
            let told = step.took_us(share).unwrap();
            assert!((us..us * 1.2).contains(&told), "{share}: {told}");
        }
        pulse.note(1000 + 3590, 200, None);
        assert_eq!(pulse.steps().count(), 2);
        pulse.note(1000 + 3600, 200, None);
        assert_eq!(pulse.steps().next().unwrap().at, 4590);
        assert_eq!(pulse.steps().next().unwrap().took_us(0.5), None);
        pulse.note(0, 200, Some(Duration::ZERO));
    }
}
