//! What this node has answered, counted: for Prometheus since its start, and for the console over the last hour.

use crate::node::pulse::Pulse;
use crate::problem::Kind;
use parking_lot::Mutex;
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::histogram::{Histogram, exponential_buckets};
use prometheus_client::registry::Registry;
use std::collections::HashMap;
use std::time::Duration;

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfSearch {
    collection: String,
    index: String,
    /// The saved search that was asked; empty for others.
    saved: String,
    plan: &'static str,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfRequest {
    method: String,
    route: String,
    status: u16,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfProblem {
    problem: &'static str,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfEncoder {
    encoder: String,
}

fn seconds() -> Histogram {
    // 100 us to 26 s.
    Histogram::new(exponential_buckets(1e-4, 2.0, 19))
}

type Seconds<L> = Family<L, Histogram, fn() -> Histogram>;

/// The counts of a node.
pub struct Metrics {
    registry: Mutex<Registry>,
    searches: Seconds<OfSearch>,
    requests: Family<OfRequest, Counter>,
    refusals: Family<OfProblem, Counter>,
    encoders: Seconds<OfEncoder>,
    pulse: Mutex<Pulse>,
    /// By collection and name.
    saved: Mutex<HashMap<(String, String), Pulse>>,
}

/// Saved searches whose traffic is kept.
const MOST_SAVED: usize = 500;
/// Seconds of a step of their traffic.
pub const SAVED_STEP_S: i64 = 60;

/// A request that was answered.
pub struct Answered<'a> {
    pub method: &'a str,
    /// The path of its route, with names in braces; not the path that was asked for.
    pub route: &'a str,
    pub status: u16,
    /// The word of the refusal, where it was one.
    pub problem: Option<&'static str>,
    pub took: Duration,
    pub is_search: bool,
}

impl Default for Metrics {
    fn default() -> Metrics {
        let mut registry = Registry::with_prefix("zesty");
        let searches = Seconds::new_with_constructor(seconds as fn() -> Histogram);
        let encoders = Seconds::new_with_constructor(seconds as fn() -> Histogram);
        let (requests, refusals) = (Family::default(), Family::default());
        let about = "How long searches took, with encoding and waiting, in seconds";
        registry.register("search_seconds", about, searches.clone());
        registry.register("requests", "Requests that were answered", requests.clone());
        registry.register(
            "refusals",
            "Requests that were refused, by the word of the problem",
            refusals.clone(),
        );
        registry.register(
            "encoder_seconds",
            "How long encoders took to answer, in seconds",
            encoders.clone(),
        );
        let (registry, pulse) = (Mutex::new(registry), Mutex::default());
        Metrics { registry, searches, requests, refusals, encoders, pulse, saved: Mutex::default() }
    }
}

impl Metrics {
    /// Notes a search of one collection, and of a saved search where one was asked.
    pub fn search(
        &self,
        (collection, saved): (&str, &str),
        index: Option<&str>,
        plan: &'static str,
        took: Duration,
    ) {
        let (collection, saved) = (collection.into(), saved.into());
        let labels = OfSearch { collection, index: index.unwrap_or("").into(), saved, plan };
        self.searches.get_or_create(&labels).observe(took.as_secs_f64());
    }

    /// Notes what a saved search was answered, well or not.
    pub fn asked(&self, (collection, name): (&str, &str), status: u16, took: Duration) {
        let now = chrono::Utc::now().timestamp();
        let mut all = self.saved.lock();
        let of = (collection.to_owned(), name.to_owned());
        if all.len() >= MOST_SAVED && !all.contains_key(&of) {
            all.retain(|_, pulse| pulse.is_alive(now));
        }
        if all.len() < MOST_SAVED || all.contains_key(&of) {
            all.entry(of).or_insert_with(|| Pulse::of_steps(SAVED_STEP_S)).note(now, status, Some(took));
        }
    }

    /// The last hour of a saved search; `None` when nobody has asked it.
    pub fn traffic(&self, collection: &str, name: &str) -> Option<Pulse> {
        self.saved.lock().get(&(collection.to_owned(), name.to_owned())).cloned()
    }

    pub fn encoder(&self, encoder: &str, took: Duration) {
        self.encoders.get_or_create(&OfEncoder { encoder: encoder.into() }).observe(took.as_secs_f64());
    }

    /// Notes a request.
    pub fn answered(&self, answered: &Answered<'_>) {
        let Answered { method, route, status, problem, took, is_search } = *answered;
        let labels = OfRequest { method: method.into(), route: route.into(), status };
        self.requests.get_or_create(&labels).inc();
        if let Some(problem) = problem {
            self.refusals.get_or_create(&OfProblem { problem }).inc();
        }
        self.pulse.lock().note(chrono::Utc::now().timestamp(), status, is_search.then_some(took));
    }

    /// Notes a search that was refused before it was read.
    pub fn refused_early(&self, kind: Kind) {
        let (problem, status) = (kind.word(), kind.status());
        self.refusals.get_or_create(&OfProblem { problem }).inc();
        self.pulse.lock().note(chrono::Utc::now().timestamp(), status, None);
    }

    /// The last hour, step by step.
    pub fn pulse<T>(&self, read: impl FnOnce(&Pulse) -> T) -> T {
        read(&self.pulse.lock())
    }

    /// All counts as text, with `more` that is known only now.
    pub fn text(&self, more: &Registry) -> Result<String, std::fmt::Error> {
        let mut text = String::new();
        encode(&mut text, &self.registry.lock())?;
        // Each registry ends what it writes.
        let cut = text.strip_suffix("# EOF\n").unwrap_or(&text).len();
        text.truncate(cut);
        encode(&mut text, more)?;
        Ok(text)
    }
}
