//! How many requests of a key this node takes in a second.

use crate::access::grant::Grant;
use crate::problem::{Kind, Problem, Result};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::time::Instant;

/// What is left of a key's rate: a second's requests can come at once.
struct Bucket {
    left: f64,
    at: Instant,
}

/// The rates of the keys that have one.
#[derive(Default)]
pub struct Rates(Mutex<HashMap<i64, Bucket>>);

impl Rates {
    /// Counts a request; refuses it when the key has had its share.
    pub fn take(&self, grant: &Grant, now: Instant) -> Result<()> {
        let Some(rate) = grant.permit().requests_per_s else { return Ok(()) };
        let most = f64::from(rate);
        let mut buckets = self.0.lock();
        let bucket = buckets.entry(grant.key()).or_insert(Bucket { left: most, at: now });
        bucket.left = (bucket.left + now.duration_since(bucket.at).as_secs_f64() * most).min(most);
        bucket.at = now;
        if bucket.left >= 1.0 {
            bucket.left -= 1.0;
            return Ok(());
        }
        let detail = format!(
            "key \"{}\" may make {rate} requests a second on each node; nothing was done: try again later",
            grant.name()
        );
        Err(Problem::new(Kind::TooMany, detail).with("requests_per_s", rate))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;

    #[test]
    fn a_key_gets_its_rate_and_no_more() {
        let (rates, start) = (Rates::default(), Instant::now());
        let grant = Grant::limited(10);
        let taken = |at: Duration| (0..100).filter(|_| rates.take(&grant, start + at).is_ok()).count();
        assert_eq!(taken(Duration::ZERO), 10, "a second's requests at once");
        assert_eq!(taken(Duration::from_millis(500)), 5);
        assert_eq!(taken(Duration::from_secs(3600)), 10, "nothing is saved up");
        let refusal = rates.take(&grant, start + Duration::from_secs(3600)).unwrap_err();
        assert_eq!(refusal.kind, Kind::TooMany);
    }
}
