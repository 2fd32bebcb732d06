//! What a node is like now, for Prometheus and for whoever is on call.

use crate::access::grant::{Grant, Scope};
use crate::collections::registry::Registry;
use crate::node::lanes::Lanes;
use crate::node::metrics::Metrics;
use crate::node::pulse::STEP_S;
use crate::problem::{Kind, Problem, Result};
use chrono::{DateTime, TimeDelta, Utc};
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::Registry as Text;
use std::collections::BTreeMap;
use std::sync::atomic::AtomicU64;
use std::time::Instant;
use zesty_wire as wire;

/// Minutes over which observed recall is told.
const RECALL_MINUTES: i64 = 60;

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfIndex {
    collection: String,
    index: String,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Named {
    name: String,
}

type Level<L> = Family<L, Gauge<f64, AtomicU64>>;

/// The state of a node.
pub async fn pulse(
    grant: &Grant,
    registry: &Registry,
    (lanes, metrics): (&Lanes, &Metrics),
    started: Instant,
) -> Result<wire::Pulse> {
    grant.require(Scope::Read, None)?;
    let step = |s: &crate::node::pulse::Step| {
        Some(wire::PulseStep {
            at: DateTime::from_timestamp(s.at, 0)?,
            searches: s.searches,
            others: s.others,
            refused: s.refused,
            wrong: s.wrong,
            failed: s.failed,
            p50_us: s.took_us(0.5),
            p99_us: s.took_us(0.99),
        })
    };
    let steps = metrics.pulse(|pulse| pulse.steps().filter_map(step).collect());
    let lane = |l: &crate::node::lanes::Lane| wire::LaneState {
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
        for index in crate::collections::view::indexes(&live) {
            let covered = (index.n_rows as usize).saturating_sub(index.n_dead);
            let rows = covered + index.n_uncovered;
            let recall = observed.get(&index.name);
            indexes.push(wire::IndexState {
                collection: live.name.clone(),
                state: index.state,
                serving: index.serving,
                coverage: (rows > 0).then(|| covered as f64 / rows as f64),
                recall: recall.map(|(n, sum)| sum / *n as f64),
                checked: recall.map_or(0, |(n, _)| *n),
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

/// For each index of a collection how many searches were checked lately, and the sum of their recalls. None while the
/// database does not answer.
async fn recalls(registry: &Registry, collection: i64) -> BTreeMap<String, (u64, f64)> {
    let mut all: BTreeMap<String, (u64, f64)> = BTreeMap::new();
    if registry.silence.is_on() {
        return all;
    }
    let since = Utc::now() - TimeDelta::minutes(RECALL_MINUTES);
    for row in registry.catalog.observed(collection, since).await.unwrap_or_default() {
        let of = all.entry(row.index_name).or_default();
        of.0 += row.n as u64;
        of.1 += row.sum;
    }
    all.retain(|_, (n, _)| *n > 0);
    all
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
    let level = |text: &mut Text, name: &str, about: &str, value: f64| {
        let gauge = Gauge::<f64, AtomicU64>::default();
        gauge.set(value);
        text.register(name, about, gauge);
    };
    level(&mut text, "up_seconds", "Since the start", now.up_s);
    level(
        &mut text,
        "database_up",
        "Whether MariaDB answered",
        f64::from(u8::from(now.database_silent_s.is_none())),
    );
    level(
        &mut text,
        "database_silent_seconds",
        "Since when it does not",
        now.database_silent_s.unwrap_or(0.0),
    );
    level(
        &mut text,
        "followed_seconds",
        "Since this node last read what others wrote",
        now.followed_s.unwrap_or(-1.0),
    );
    let memory = Level::<Named>::default();
    let mut parts = vec![("collections", now.n_bytes_collections), ("indexes", now.n_bytes_indexes)];
    parts.extend(now.n_bytes_budget.map(|budget| ("budget", budget)));
    for (name, bytes) in parts {
        memory.get_or_create(&Named { name: name.into() }).set(bytes as f64);
    }
    text.register("memory_bytes", "Memory by part", memory);
    let (depth, most, refused) =
        (Level::<Named>::default(), Level::<Named>::default(), Level::<Named>::default());
    for lane in &now.lanes {
        let name = Named { name: lane.name.clone() };
        depth.get_or_create(&name).set(lane.depth as f64);
        most.get_or_create(&name).set(lane.most as f64);
        refused.get_or_create(&name).set(lane.refused as f64);
    }
    text.register("lane_depth", "Requests in a lane now", depth);
    text.register("lane_most", "Requests that a lane takes", most);
    text.register("lane_refused", "Requests that a lane has refused since the start", refused);
    let jobs = Level::<Named>::default();
    for (kind, n) in &now.jobs {
        jobs.get_or_create(&Named { name: kind.clone() }).set(*n as f64);
    }
    text.register("jobs_running", "Jobs that run on this node, by kind", jobs);
    let (coverage, recall) = (Level::<OfIndex>::default(), Level::<OfIndex>::default());
    for index in &now.indexes {
        let of = OfIndex { collection: index.collection.clone(), index: index.name.clone() };
        if let Some(share) = index.coverage {
            coverage.get_or_create(&of).set(share);
        }
        if let Some(mean) = index.recall {
            recall.get_or_create(&of).set(mean);
        }
    }
    text.register("index_coverage", "The share of vectors that an index holds", coverage);
    text.register("observed_recall", "The mean recall of the last hour's checked searches", recall);
    let records = Level::<Named>::default();
    for live in registry.all() {
        let name = Named { name: live.name.clone() };
        records.get_or_create(&name).set(live.table.load().n_records() as f64);
    }
    text.register("records", "Records of a collection", records);
    metrics
        .text(&text)
        .map_err(|e| Problem::new(Kind::Internal, format!("the counts cannot be written: {e}")))
}
