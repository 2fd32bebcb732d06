//! Indexes, as those who tune them use them: listed, built, brought up to date, dropped.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::recipes::{build_takes, data_shape, explained, read_recipe};
use crate::collections::registry::Registry;
use crate::collections::view;
use crate::measure::advised::resolve;
use crate::measure::kept;
use crate::names::check_name;
use crate::problem::{Kind, Problem, Result};
use crate::search::settings::settings_of;
use std::sync::Arc;
use zesty_engine::recipe::{Recipe, Route, Store};
use zesty_wire as wire;

/// The indexes of a collection, with what their last sweeps measured.
pub async fn list(grant: &Grant, registry: &Registry, collection: &str) -> Result<wire::IndexList> {
    let live = registry.collection(grant, Scope::Search, collection)?;
    Ok(wire::IndexList { indexes: with_measured(registry, &live, view::indexes(&live)).await? })
}

/// Drops an index. If it was the serving choice, searches are exact from then on.
pub async fn drop_index(grant: &Grant, registry: &Registry, (collection, index): (&str, &str)) -> Result<()> {
    let live = registry.collection(grant, Scope::Tune, collection)?;
    if let Some(job) = registry.jobs.running(collection, &live.index(index)?.model.name) {
        let detail = format!("index \"{index}\" is being built; cancel its job {} first", job.id());
        return Err(Problem::new(Kind::StillUsed, detail).with("job", job.id()));
    }
    live.drop_index(registry, index).await
}

/// Adds to indexes what their last sweeps gave.
async fn with_measured(
    registry: &Registry,
    live: &Live,
    mut views: Vec<wire::Index>,
) -> Result<Vec<wire::Index>> {
    let sweeps = kept::views(registry, live).await?;
    for view in &mut views {
        let serving = live.column(Some(&view.column), "").ok().and_then(|c| live.serving(c));
        let served = serving
            .filter(|s| s.index == view.name)
            .and_then(|s| serde_json::to_value(settings_of(&view.recipe, s.settings)).ok());
        // Sweeps come newest first; those of an earlier index of the name do not count.
        let points = |s: &wire::Sweep| -> Vec<wire::SweepPoint> {
            s.result.points.iter().filter(|p| p.index == view.name && p.clients == 1).cloned().collect()
        };
        let since = sweeps.iter().filter(|s| s.created_at >= view.created_at);
        let Some((sweep, points)) = since.map(|s| (s, points(s))).find(|(_, p)| !p.is_empty()) else {
            continue;
        };
        let as_served = points.iter().find(|p| serde_json::to_value(p.settings).ok() == served);
        let knee = || points.iter().find(|p| p.figures.recall_mean >= 0.95).or(points.last());
        view.measured = as_served.or_else(knee).map(|p| wire::Measured {
            sweep: sweep.id,
            settings: p.settings,
            k: p.k,
            recall_mean: p.figures.recall_mean,
            p50_us: p.figures.p50_us,
            queries_per_s: p.queries_per_s,
        });
    }
    Ok(views)
}

/// Starts building an index as a job.
pub async fn create(
    grant: &Grant,
    registry: &Arc<Registry>,
    collection: &str,
    request: wire::NewIndex,
) -> Result<wire::Job> {
    let live = registry.collection(grant, Scope::Tune, collection)?;
    let column = live.column(request.column.as_deref(), "/column")?;
    let wish = read_recipe(&request.recipe)?;
    let shape = data_shape(&live, column);
    if shape.rows == 0 {
        let detail =
            format!("column \"{}\" holds no vectors yet; load records first", live.columns()[column].name);
        return Err(Problem::new(Kind::NoData, detail));
    }
    let (recipe, why) = resolve(registry, &live, column, wish, shape).await?;
    let explanation = explained(recipe, shape)?;
    // Refused at once, where it would be; the job reserves it when it begins.
    registry.would_fit(&build_takes(&explanation, shape)).map_err(|p| p.at("/recipe"))?;
    let index = match request.name {
        Some(name) => {
            check_name("index", &name, "/name")?;
            name
        }
        None => free_name(&live, recipe),
    };
    let threads = request.threads.unwrap_or(registry.threads);
    if !(1..=256).contains(&threads) {
        return Err(Problem::new(Kind::WrongShape, format!("threads is {threads}; it goes from 1 to 256"))
            .at("/threads"));
    }
    let seed = request.seed.unwrap_or(1);
    if i64::try_from(seed).is_err() {
        return Err(Problem::new(Kind::WrongShape, "seed goes from 0 to 9223372036854775807").at("/seed"));
    }
    let job = live.create_index(registry, column, &index, recipe, seed, threads).await?;
    let said = why.map(|why| format!("chose {recipe}: {why}"));
    said.into_iter().chain(explanation.notices).for_each(|text| job.say(text));
    Ok(job.view())
}

fn free_name(live: &Live, recipe: Recipe) -> String {
    let mut word = match recipe.route {
        Route::Scan => "scan".to_owned(),
        Route::Graph(_) => "graph".to_owned(),
        Route::Cells(_) | Route::Crossed(_) => "cells".to_owned(),
    };
    word += match recipe.store {
        Store::F32 => "",
        Store::F16 => "-f16",
        Store::Int8 => "-int8",
        Store::Pq { .. } => "-pq",
        Store::Bits { .. } => "-bits",
    };
    let taken = live.kept.indexes.load();
    (1..)
        .map(|n| format!("{word}-{n}"))
        .find(|n| !taken.iter().any(|i| i.model.name == *n))
        .expect("numbers do not end")
}

/// Starts taking into an index what was written since it was made, as a job.
pub async fn absorb(
    grant: &Grant,
    registry: &Arc<Registry>,
    (collection, index): (&str, &str),
) -> Result<wire::Job> {
    let live = registry.collection(grant, Scope::Tune, collection)?;
    let index = live.index(index)?;
    if index.model.state == "building" || index.is_unloaded() {
        return Err(index.not_ready());
    }
    if let Some(job) = registry.jobs.running(collection, &index.model.name) {
        let detail = format!("job {} works on index \"{}\" already", job.id(), index.model.name);
        return Err(Problem::new(Kind::StillUsed, detail).with("job", job.id()));
    }
    let job = live.absorb(registry, index).await?;
    Ok(job.view())
}
