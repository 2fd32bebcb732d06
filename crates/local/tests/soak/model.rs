//! What the service has to hold, kept exactly: for each record of a tenant which version was acknowledged, and which one
//! may have been written.

use parking_lot::Mutex;
use rand::{Rng, SeedableRng};
use serde_json::{Value, json};
use std::sync::atomic::{AtomicU64, Ordering};
use zesty_client::wire::SearchAnswer;

pub const DIMENSIONS: usize = 16;
/// Of five versions of a record the last is that it is deleted.
const CYCLE: u32 = 5;

/// A record's version that is surely there, and the newest that may be.
#[derive(Clone, Copy, PartialEq, Eq)]
pub struct Version {
    pub acked: u32,
    pub tried: u32,
}

impl Version {
    /// Whether nobody writes it.
    fn is_settled(self) -> bool {
        self.acked == self.tried
    }
}

/// Whether a version is a record; 0 is before the first.
pub fn is_there(version: u32) -> bool {
    !version.is_multiple_of(CYCLE)
}

pub fn vector(tenant: &str, at: usize, version: u32) -> Vec<f32> {
    let seed = u64::from(tenant.as_bytes()[0]) << 40 | (at as u64) << 16 | u64::from(version);
    let mut random = rand::rngs::StdRng::seed_from_u64(seed);
    (0..DIMENSIONS).map(|_| random.random_range(-1.0f32..1.0)).collect()
}

pub fn key(tenant: &str, at: usize) -> String {
    format!("{tenant}:{at}")
}

pub fn record(tenant: &str, at: usize, version: u32) -> Value {
    json!({"key": key(tenant, at), "fields": {"v": version}, "vectors": {"place": vector(tenant, at, version)}})
}

/// Everything of one tenant.
pub struct Model {
    pub tenant: &'static str,
    versions: Mutex<Vec<Version>>,
    pub searches: AtomicU64,
    pub writes: AtomicU64,
    /// What was wrong.
    pub wrong: Mutex<Vec<String>>,
}

impl Model {
    pub fn new(tenant: &'static str, n: usize) -> Model {
        Model {
            tenant,
            versions: Mutex::new(vec![Version { acked: 0, tried: 0 }; n]),
            searches: AtomicU64::default(),
            writes: AtomicU64::default(),
            wrong: Mutex::default(),
        }
    }

    pub fn now(&self) -> Vec<Version> {
        self.versions.lock().clone()
    }

    /// Somebody is about to write the next version of each.
    pub fn begin(&self, all: &[usize]) -> Vec<u32> {
        let mut versions = self.versions.lock();
        all.iter()
            .map(|at| {
                versions[*at].tried += 1;
                versions[*at].tried
            })
            .collect()
    }

    /// They are written.
    pub fn acknowledged(&self, all: &[usize]) {
        let mut versions = self.versions.lock();
        all.iter().for_each(|at| versions[*at].acked = versions[*at].tried);
        self.writes.fetch_add(all.len() as u64, Ordering::Relaxed);
    }

    /// The service said that nothing was written: whoever finds it nevertheless finds a lie.
    pub fn refused(&self, all: &[usize]) {
        let mut versions = self.versions.lock();
        all.iter().for_each(|at| versions[*at].tried = versions[*at].acked);
    }

    pub fn is_wrong(&self, what: String) {
        let mut wrong = self.wrong.lock();
        if wrong.len() < 20 {
            eprintln!("soak: WRONG: {what}");
        }
        wrong.push(what);
    }

    /// Holds an answer against what was surely there before, and what may have been there after.
    pub fn check(
        &self,
        query: &[f32],
        k: usize,
        found: &SearchAnswer,
        before: &[Version],
        after: &[Version],
    ) {
        self.searches.fetch_add(1, Ordering::Relaxed);
        let distance = |at: usize, version: u32| {
            let own = vector(self.tenant, at, version);
            own.iter().zip(query).map(|(x, q)| (x - q) * (x - q)).sum::<f32>().sqrt()
        };
        let mut seen = vec![false; before.len()];
        for hit in &found.hits {
            let at = hit.key.strip_prefix(self.tenant).and_then(|k| k.strip_prefix(':'));
            let Some(at) = at.and_then(|n| n.parse::<usize>().ok()).filter(|at| *at < before.len()) else {
                self.is_wrong(format!("tenant {} sees {}", self.tenant, hit.key));
                continue;
            };
            if hit.fields["tenant"] != self.tenant {
                self.is_wrong(format!("{} carries {}", hit.key, hit.fields["tenant"]));
            }
            seen[at] = true;
            let version = hit.fields["v"].as_u64().unwrap_or(0) as u32;
            if version < before[at].acked || version > after[at].tried || !is_there(version) {
                let (low, high) = (before[at].acked, after[at].tried);
                self.is_wrong(format!("{} is at version {version}, and not in {low} to {high}", hit.key));
            } else if (distance(at, version) - hit.distance).abs() > 1e-3 {
                let own = distance(at, version);
                self.is_wrong(format!("{} is told to be {} away, and is {own}", hit.key, hit.distance));
            }
        }
        if !found.via.exact {
            return;
        }
        let worst = match found.hits.last() {
            Some(last) if found.hits.len() == k => last.distance,
            _ => f32::INFINITY,
        };
        for (at, (old, new)) in before.iter().zip(after).enumerate() {
            let stayed = old == new && old.is_settled() && is_there(old.acked);
            if stayed && !seen[at] && distance(at, old.acked) < worst - 1e-3 {
                self.is_wrong(format!("an exact answer leaves {} out", key(self.tenant, at)));
            }
        }
    }
}
