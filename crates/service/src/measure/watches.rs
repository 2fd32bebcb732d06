//! What is watched of a collection, set and shown.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::problem::{Kind, Problem, Result};
use chrono::{DateTime, TimeDelta, Utc};
use serde_json::json;
use std::collections::BTreeMap;
use zesty_catalog::observed;
use zesty_wire as wire;

/// Steps that a time is shown in, at most.
const STEPS: u64 = 120;
/// Searches that a notice needs.
const ENOUGH: u64 = 30;

fn check_watch(watch: &wire::Watch) -> Result<()> {
    let refuse = |at: &str, detail: &str| Err(Problem::new(Kind::WrongShape, detail).at(at));
    if let Some(c) = watch.capture {
        if !(c.share > 0.0 && c.share <= 1.0) {
            return refuse("/capture/share", "share is above 0, and at most 1");
        }
        if !(1..=10_000).contains(&c.keep) {
            return refuse("/capture/keep", "keep goes from 1 to 10,000");
        }
        if !(1..=90).contains(&c.days) {
            return refuse("/capture/days", "days go from 1 to 90");
        }
    }
    if let Some(r) = watch.recall {
        if !(r.budget > 0.0 && r.budget <= 0.5) {
            return refuse("/recall/budget", "budget is above 0, and at most 0.5");
        }
        if r.floor.is_some_and(|floor| !(floor > 0.0 && floor <= 1.0)) {
            return refuse("/recall/floor", "floor is above 0, and at most 1");
        }
    }
    Ok(())
}

/// Sets what is watched of a collection.
pub async fn set(
    grant: &Grant,
    registry: &Registry,
    collection: &str,
    watch: wire::Watch,
) -> Result<wire::WatchState> {
    let live = registry.collection(grant, Scope::Tune, collection)?;
    check_watch(&watch)?;
    let spec = (watch != wire::Watch::default()).then(|| json!(watch));
    registry.catalog.set_watch(live.id, spec).await?;
    live.watch(watch);
    state(registry, &live, 24).await
}

pub async fn show(
    grant: &Grant,
    registry: &Registry,
    collection: &str,
    hours: u64,
) -> Result<wire::WatchState> {
    let live = registry.collection(grant, Scope::Search, collection)?;
    if !(1..=24 * 90).contains(&hours) {
        let detail = format!("hours is {hours}; it goes from 1 to 2160");
        return Err(Problem::new(Kind::WrongShape, detail));
    }
    state(registry, &live, hours).await
}

/// Forgets the captured searches of a collection.
pub async fn forget(grant: &Grant, registry: &Registry, collection: &str) -> Result<wire::Forgotten> {
    let live = registry.collection(grant, Scope::Tune, collection)?;
    Ok(wire::Forgotten { forgotten: registry.catalog.forget_captured(live.id).await? })
}

/// Sums of recalls.
#[derive(Clone, Copy, Default)]
pub struct Sums {
    pub n: u64,
    sum: f64,
    squares: f64,
}

impl Sums {
    pub fn mean(&self) -> f64 {
        self.sum / (self.n as f64).max(1.0)
    }

    fn add(&mut self, m: &observed::Model) {
        self.n += m.n as u64;
        self.sum += m.sum;
        self.squares += m.squares;
    }

    /// The mean, and two standard errors around it. One imaginary search that finds nothing and one that finds all count
    /// for the error, so that a mean of 1 is not called certain.
    fn shown(&self, index: &str, at: DateTime<Utc>) -> wire::Observed {
        let n = self.n as f64;
        let mean = self.mean();
        let (m, s) = ((self.sum + 1.0) / (n + 2.0), (self.squares + 1.0) / (n + 2.0));
        let error = 1.96 * ((s - m * m).max(0.0) / (n + 2.0)).sqrt();
        wire::Observed {
            index: index.to_owned(),
            at,
            searches: self.n,
            recall_mean: mean,
            recall_low: (mean - error).max(0.0),
            recall_high: (mean + error).min(1.0),
        }
    }
}

/// What was observed of each index.
pub fn by_index<'m>(rows: impl IntoIterator<Item = &'m observed::Model>) -> BTreeMap<String, Sums> {
    let mut all: BTreeMap<String, Sums> = BTreeMap::new();
    rows.into_iter().for_each(|row| all.entry(row.index_name.clone()).or_default().add(row));
    all.retain(|_, sums| sums.n > 0);
    all
}

/// What was observed of a saved search in the last hours, by index.
pub async fn observed_of(
    registry: &Registry,
    live: &Live,
    hours: i64,
    saved: &str,
) -> Result<Vec<wire::Observed>> {
    let since = Utc::now() - TimeDelta::hours(hours);
    let rows = registry.catalog.observed(live.id, since).await?;
    let sums = by_index(rows.iter().filter(|row| row.saved == saved));
    Ok(sums.iter().map(|(index, sums)| sums.shown(index, since)).collect())
}

async fn state(registry: &Registry, live: &Live, hours: u64) -> Result<wire::WatchState> {
    let since = Utc::now() - TimeDelta::hours(hours as i64);
    let rows = registry.catalog.observed(live.id, since).await?;
    let step_s = (hours * 3600 / STEPS).next_multiple_of(60).max(60);
    let overall = by_index(&rows);
    let mut steps: BTreeMap<(i64, String), Sums> = BTreeMap::new();
    for row in &rows {
        let at = row.at.timestamp() / step_s as i64 * step_s as i64;
        steps.entry((at, row.index_name.clone())).or_default().add(row);
    }
    let watch = **live.kept.watch.load();
    let overall: Vec<wire::Observed> = overall.iter().map(|(index, sums)| sums.shown(index, since)).collect();
    let floor = watch.recall.and_then(|r| r.floor);
    let below = overall.iter().filter(|o| o.searches >= ENOUGH && floor.is_some_and(|f| o.recall_high < f));
    let notices = below.map(|o| wire::Notice {
        code: "recall-below-floor".into(),
        text: format!(
            "index \"{}\" found {:.3} of the true hits in {} searches, below the floor of {}; a wider setting or an absorb helps",
            o.index,
            o.recall_mean,
            o.searches,
            floor.unwrap_or_default()
        ),
    });
    Ok(wire::WatchState {
        watch,
        captured: registry.catalog.n_captured(live.id).await?,
        notices: notices.collect(),
        steps: steps
            .iter()
            .filter_map(|((at, index), sums)| Some(sums.shown(index, DateTime::from_timestamp(*at, 0)?)))
            .collect(),
        overall,
        step_s,
        spent: registry.watcher.spent(),
    })
}
