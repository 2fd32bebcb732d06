//! What a node is like now, for Prometheus and for whoever is on call.

use crate::access::grant::{Grant, Scope};
use crate::collections::registry::Registry;
use crate::collections::view;
use crate::measure::watches::{Sums, by_index};
use crate::node::lanes::{Lane, Lanes};
use crate::node::metrics::Metrics;
use crate::node::pulse::{STEP_S, Step};
use crate::problem::{Kind, Problem, Result};
use chrono::{TimeDelta, Utc};
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::Registry as Text;
use std::collections::BTreeMap;
use std::fmt::Debug;
use std::hash::Hash;
use std::sync::atomic::AtomicU64;
use std::time::Instant;
use zesty_wire as wire;

/// Minutes over which observed recall is told.
const RECALL_MINUTES: i64 = 60;

/// Of what there is once.
type Unlabelled = Vec<(String, String)>;

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfIndex {
    collection: String,
    index: String,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Named {
    name: String,
}

/// Adds levels of one name, told apart by their labels.
fn levels<L: EncodeLabelSet + Clone + Debug + Eq + Hash + Send + Sync + 'static>(
    text: &mut Text,
    name: &str,
    about: &str,
    all: impl IntoIterator<Item = (L, f64)>,
) {
    let family = Family::<L, Gauge<f64, AtomicU64>>::default();
    for (labels, value) in all {
        family.get_or_create(&labels).set(value);
    }
    text.register(name, about, family);
}

/// The state of a node.
pub async fn pulse(
    grant: &Grant,
    registry: &Registry,
    (lanes, metrics): (&Lanes, &Metrics),
    started: Instant,
) -> Result<wire::Pulse> {
    grant.require(Scope::Read, None)?;
    let steps = metrics.pulse(|pulse| pulse.steps().filter_map(Step::view).collect());
    let lane = |l: &Lane| wire::LaneState {
        name: l.name.into(),
        depth: l.depth(),
        most: l.most,
        refused: l.refused(),
    };
    let all = [&lanes.searches, &lanes.reads, &lanes.writes, &lanes.others, &lanes.encoding];
    let held = registry.held();
    let mut indexes = Vec::new();
    for live in registry.all() {
        let observed = recalls(registry, live.id).await;
        for index in view::indexes(&live) {
            let recall = observed.get(&index.name);
            indexes.push(wire::IndexState {
                collection: live.name.clone(),
                coverage: view::coverage(&index),
                state: index.state,
                serving: index.serving,
                recall: recall.map(Sums::mean),
                checked: recall.map_or(0, |sums| sums.n),
                name: index.name,
            });
        }
    }
    Ok(wire::Pulse {
        node: registry.node.clone(),
        up_s: started.elapsed().as_secs_f64(),
        step_s: STEP_S as u64,
        steps,
        lanes: all.map(|l| lane(l)).to_vec(),
        indexes,
        jobs: registry.jobs.busy_kinds(),
        database_silent_s: registry.silence.since().map(|silent| silent.as_secs_f64()),
        followed_s: registry.followed.lock().map(|at| at.elapsed().as_secs_f64()),
        n_bytes_collections: held.collections,
        n_bytes_indexes: held.indexes,
        n_bytes_budget: registry.memory.budget(),
    })
}

/// For each index of a collection the recall of the searches that were checked lately. None while the database does not
/// answer.
async fn recalls(registry: &Registry, collection: i64) -> BTreeMap<String, Sums> {
    if registry.silence.is_on() {
        return BTreeMap::new();
    }
    let since = Utc::now() - TimeDelta::minutes(RECALL_MINUTES);
    by_index(&registry.catalog.observed(collection, since).await.unwrap_or_default())
}

/// All counts and states as Prometheus reads them.
pub async fn text(
    grant: &Grant,
    registry: &Registry,
    (lanes, metrics): (&Lanes, &Metrics),
    started: Instant,
) -> Result<String> {
    let now = pulse(grant, registry, (lanes, metrics), started).await?;
    let mut text = Text::with_prefix("zesty");
    let mut level =
        |name: &str, about: &str, value: f64| levels(&mut text, name, about, [(Unlabelled::new(), value)]);
    level("up_seconds", "Since the start", now.up_s);
    level("database_up", "Whether MariaDB answered", f64::from(now.database_silent_s.is_none()));
    level("database_silent_seconds", "Since when it does not", now.database_silent_s.unwrap_or(0.0));
    let followed = "Since this node last read what others wrote";
    level("followed_seconds", followed, now.followed_s.unwrap_or(-1.0));
    let mut named = |name: &str, about: &str, all: Vec<(&str, f64)>| {
        let all = all.into_iter().map(|(name, value)| (Named { name: name.into() }, value));
        levels(&mut text, name, about, all);
    };
    let mut parts =
        vec![("collections", now.n_bytes_collections as f64), ("indexes", now.n_bytes_indexes as f64)];
    parts.extend(now.n_bytes_budget.map(|budget| ("budget", budget as f64)));
    named("memory_bytes", "Memory by part", parts);
    let lanes = |value: fn(&wire::LaneState) -> f64| {
        now.lanes.iter().map(|lane| (lane.name.as_str(), value(lane))).collect::<Vec<_>>()
    };
    named("lane_depth", "Requests in a lane now", lanes(|l| l.depth as f64));
    named("lane_most", "Requests that a lane takes", lanes(|l| l.most as f64));
    named("lane_refused", "Requests that a lane has refused since the start", lanes(|l| l.refused as f64));
    let jobs = now.jobs.iter().map(|(kind, n)| (kind.as_str(), *n as f64)).collect();
    named("jobs_running", "Jobs that run on this node, by kind", jobs);
    let all = registry.all();
    let records = all.iter().map(|live| (live.name.as_str(), live.table.load().n_records() as f64)).collect();
    named("records", "Records of a collection", records);
    let mut of_indexes = |name: &str, about: &str, value: fn(&wire::IndexState) -> Option<f64>| {
        let of = |i: &wire::IndexState| OfIndex { collection: i.collection.clone(), index: i.name.clone() };
        levels(&mut text, name, about, now.indexes.iter().filter_map(|i| Some((of(i), value(i)?))));
    };
    of_indexes("index_coverage", "The share of vectors that an index holds", |i| i.coverage);
    of_indexes("observed_recall", "The mean recall of the last hour's checked searches", |i| i.recall);
    metrics
        .text(&text)
        .map_err(|e| Problem::new(Kind::Internal, format!("the counts cannot be written: {e}")))
}
