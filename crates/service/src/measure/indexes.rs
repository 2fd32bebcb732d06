//! Indexes that are measured: those that are there, and those that are built for it.

use crate::access::grant::Grant;
use crate::collections::indexes;
use crate::collections::live::{Live, LiveIndex};
use crate::collections::registry::Registry;
use crate::node::jobs::{Job, Stop};
use crate::problem::Result;
use std::sync::Arc;
use zesty_wire as wire;

/// An index that can be measured.
pub fn ready(live: &Live, name: &str) -> Result<Arc<LiveIndex>> {
    let index = live.index(name)?;
    if index.attached.is_none() {
        return Err(index.not_ready());
    }
    Ok(index)
}

/// The same index as it is now.
pub fn still(live: &Live, asked: &LiveIndex) -> Result<Arc<LiveIndex>, Stop> {
    let now = ready(live, &asked.model.name)?;
    if now.model.id != asked.model.id {
        return Err(Stop::Failed(format!("index \"{}\" is another one now", now.model.name)));
    }
    Ok(now)
}

/// Builds an index for a measurement that runs as `job`; ends with it.
pub async fn built_for(
    grant: &Grant,
    registry: &Arc<Registry>,
    (live, column): (&Live, usize),
    recipe: &str,
    job: &Job,
) -> Result<Arc<LiveIndex>, Stop> {
    let request = wire::NewIndex {
        recipe: wire::RecipeText::Text(recipe.to_owned()),
        name: None,
        column: Some(live.columns()[column].name.clone()),
        seed: None,
        threads: None,
    };
    let started = indexes::create(grant, registry, &live.name, request).await?;
    job.say(format!("building {recipe} as index \"{}\" (job {})", started.subject, started.id));
    let building = registry.jobs.get(started.id).ok_or(Stop::Cancelled)?;
    let mut ended = building.ended();
    loop {
        let wait = std::time::Duration::from_millis(200);
        match tokio::time::timeout(wait, ended.wait_for(Option::is_some)).await {
            Ok(_) => break,
            Err(_) if job.progress.is_cancelled() => building.progress.cancel(),
            Err(_) => {}
        }
    }
    let view = building.view();
    if view.state != "done" {
        let why = view.error.unwrap_or_else(|| "it was cancelled".into());
        return Err(match job.progress.is_cancelled() {
            true => Stop::Cancelled,
            false => Stop::Failed(format!("{recipe} could not be built: {why}")),
        });
    }
    Ok(ready(live, &started.subject)?)
}
