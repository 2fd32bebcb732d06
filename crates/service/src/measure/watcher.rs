//! Live searches watched: some are captured as queries, some are answered exactly as well, within a budget of processor
//! time. A search only leaves a note; all work is done in the background.

use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::measure::sightings::{Sighting, Watcher};
use crate::node::threads::background;
use chrono::{TimeDelta, Utc};
use serde_json::json;
use std::sync::Arc;
use std::time::{Duration, Instant};
use zesty_catalog::{CatalogError, Caught};
use zesty_engine::Table;
use zesty_engine::filter::Test;
use zesty_engine::scan::Neighbour;
use zesty_wire as wire;

/// How often what was seen is written down.
const FLUSH: Duration = Duration::from_secs(2);

async fn flush(registry: &Registry) {
    let (caught, seen) = registry.watcher.take();
    if !caught.is_empty() {
        if let Err(e) = registry.catalog.add_captured(&caught).await {
            tracing::debug!("{} captured searches are lost: {e}", caught.len());
        } else if let Err(e) = trim(registry).await {
            tracing::debug!("captured searches are trimmed later: {e}");
        }
    }
    for observation in seen {
        if let Err(e) = registry.catalog.observe(&observation).await {
            tracing::debug!("what was observed is lost: {e}");
        }
    }
}

/// Checks and writes down for as long as the service runs.
pub async fn watch(registry: Arc<Registry>) {
    let mut flushed = Instant::now();
    loop {
        let checking = registry.clone();
        let rest = background(move || checking.watcher.check()).await;
        let rest = rest.unwrap_or(Duration::from_secs(1));
        // A long rest is cut, so that what was seen is written down in time.
        let until = Instant::now() + rest;
        loop {
            if flushed.elapsed() >= FLUSH {
                flush(&registry).await;
                flushed = Instant::now();
            }
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                break;
            }
            tokio::time::sleep(left.min(FLUSH)).await;
        }
    }
}

/// Days that observed recall is kept.
const OBSERVED_DAYS: i64 = 90;

/// Forgets captured searches that are old, or too many.
async fn trim(registry: &Registry) -> Result<(), CatalogError> {
    for live in registry.all() {
        let capture = live.kept.watch.load().capture;
        if let Some(capture) = capture {
            let before = Utc::now() - TimeDelta::days(capture.days.into());
            registry.catalog.trim_captured(live.id, before, capture.keep as u64).await?;
        }
    }
    Ok(())
}

/// Forgets what is old.
pub async fn keep_house(registry: &Registry) -> Result<(), CatalogError> {
    trim(registry).await?;
    registry.catalog.forget_observed(Utc::now() - TimeDelta::days(OBSERVED_DAYS)).await
}

/// A search that was answered: what is noted of it.
pub struct Answered<'a> {
    pub live: &'a Live,
    pub column: usize,
    pub request: &'a wire::SearchRequest,
    pub table: &'a Arc<Table>,
    /// The index that answered, if one did.
    pub index: Option<&'a str>,
    /// The saved search that was asked, if one was.
    pub saved: Option<&'a str>,
    pub query: Vec<f32>,
    pub test: Option<Test>,
    pub excluded: Vec<u32>,
    pub found: &'a [Neighbour],
}

impl Answered<'_> {
    /// Whether anything is to be noted at all: most searches stop here.
    pub fn is_watched(live: &Live) -> bool {
        let watch = live.kept.watch.load();
        watch.capture.is_some() || watch.recall.is_some()
    }

    pub fn note(self, watcher: &Watcher) {
        let watch = **self.live.kept.watch.load();
        if let Some(capture) = watch.capture.filter(|c| rand::random::<f64>() < c.share) {
            watcher.capture(Caught {
                collection: self.live.id,
                column: self.live.columns()[self.column].id,
                vector: self.query.clone(),
                k: self.request.k,
                filter: self.request.filter.as_ref().map(|f| json!(f)),
                text: self.request.text.clone().filter(|_| capture.texts),
            });
        }
        let r = self.request;
        // What cuts or groups the hits leaves nothing to compare.
        let plain = r.skip == 0
            && r.at_most.is_none()
            && r.score_at_least.is_none()
            && r.distance_at_most.is_none()
            && r.time_limit_ms.is_none();
        if let (Some(check), Some(index), true) = (watch.recall, self.index, plain) {
            watcher.sight(Sighting {
                collection: self.live.id,
                index: index.to_owned(),
                saved: self.saved.unwrap_or_default().to_owned(),
                table: self.table.clone(),
                column: self.column,
                query: self.query,
                test: self.test,
                excluded: self.excluded,
                k: r.k,
                found: self.found.to_vec(),
                budget: check.budget,
            });
        }
    }
}
