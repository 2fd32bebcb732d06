//! Targets: the settings with which an index reaches a recall, found and verified as a job, and kept.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::{Live, LiveIndex, Serving};
use crate::collections::recipes::data_shape;
use crate::collections::registry::Registry;
use crate::measure::indexes::{ready, still};
use crate::measure::kept::{column_name, found, read};
use crate::measure::machine::machine;
use crate::measure::prepared::{common_share, known_answers};
use crate::measure::query_sets::{SetTools, usual};
use crate::measure::sweeps::{MAX_LIST, check_column, circumstances, figures, named_sets};
use crate::measure::work::off;
use crate::names::check_lists;
use crate::node::jobs::{Job, Stop};
use crate::problem::{Kind, Problem, Result};
use crate::search::settings::{check_k, check_range, settings_of};
use serde_json::json;
use std::sync::Arc;
use zesty_catalog::{measurement, query_set};
use zesty_engine::Recipe;
use zesty_engine::index::Settings;
use zesty_engine::measure::{Aim, MeasureError, Solved, Stage, Target, solve};
use zesty_engine::recipe::Store;
use zesty_wire as wire;

/// Starts looking for the settings that reach a target, as a job.
pub async fn create(
    grant: &Grant,
    tools: &SetTools,
    collection: &str,
    request: wire::TargetRequest,
) -> Result<wire::Job> {
    let registry = &tools.registry;
    let live = registry.collection(grant, Scope::Tune, collection)?;
    check_k(request.k)?;
    check_recall(request.recall, "/recall")?;
    if let Some(rescore) = request.rescore {
        check_range("rescore", rescore, Settings::MAX_RESCORE, "/rescore")?;
    }
    check_lists([("/query_sets", request.query_sets.len())], MAX_LIST)?;
    let index = ready(&live, &request.index).map_err(|p| p.at("/index"))?;
    let column = live.position(&index).ok_or_else(|| index.not_ready().at("/index"))?;
    let sets = named_sets(registry, &live, &request.query_sets).await?;
    check_column(&live, column, &sets)?;
    let (tools, subject) = (tools.clone(), request.index.clone());
    let work = move |job: Arc<Job>| async move {
        let what = format!("a target of {}", request.index);
        let _turn = tools.registry.turns.wait(&job, what).await?;
        let result = measure(&tools, &live, (&index, column), &request, sets, &job).await?;
        keep(&tools.registry, &live, column, &request, result, &job).await
    };
    Ok(registry.jobs.start("target", collection, &subject, work).await?.view())
}

pub fn target_of(aim: wire::Aim, recall: f64, k: usize) -> Target {
    let aim = match aim {
        wire::Aim::Mean => Aim::Mean,
        wire::Aim::P5 => Aim::P5,
    };
    Target { aim, recall, k }
}

pub fn check_recall(recall: f64, at: &str) -> Result<()> {
    if recall > 0.0 && recall <= 1.0 {
        return Ok(());
    }
    let detail = format!("recall is {recall}; it is above 0, and at most 1");
    Err(Problem::new(Kind::InvalidSettings, detail).at(at))
}

/// Solves a target of an index.
pub async fn measure(
    tools: &SetTools,
    live: &Arc<Live>,
    (asked, column): (&LiveIndex, usize),
    request: &wire::TargetRequest,
    mut sets: Vec<query_set::Model>,
    job: &Arc<Job>,
) -> Result<wire::TargetResult, Stop> {
    let registry = &tools.registry;
    if sets.is_empty() {
        sets.push(usual(tools, live, column, job).await?);
    }
    let index = still(live, asked)?;
    let table = live.table.load_full();
    let share = common_share(&table, column, index.attached.iter());
    let mut prepared = Vec::new();
    for set in &sets {
        prepared.push(known_answers(registry, &table, column, set, (request.k, share), job).await?);
    }
    let n_queries = prepared.iter().map(|p| p.positions.len()).sum();
    let asking = || prepared.iter().map(|p| &p.asking);
    let n_filtered = asking().flat_map(|a| a.filters.iter().flatten()).filter(|f| f.is_some()).count();
    let filter = prepared[0].asking.filter.clone();
    let filter = filter.filter(|filter| asking().all(|a| a.filter.as_ref() == Some(filter)));
    if n_queries < 4 {
        return Err(Stop::Failed(format!(
            "{n_queries} queries can be used; half of them choose and half verify"
        )));
    }
    let target = target_of(request.aim, request.recall, request.k);
    let (solving, rescore, threads) = (job.clone(), request.rescore, registry.threads);
    let (from, measured) = (table.clone(), index.clone());
    let notices = circumstances(registry);
    let find = move || {
        let attached = measured.attached.as_ref().ok_or(MeasureError::RowsChanged)?;
        let mut asked = Vec::with_capacity(prepared.len());
        for p in &prepared {
            let parts = p.asking.parts(&from, column);
            let index = parts.index(attached, column, (threads, &solving.progress))?;
            asked.push((p, parts, index));
        }
        let stages: Vec<Stage<'_>> = asked
            .iter()
            .map(|(p, parts, index)| Stage { parts, index, set: p.asking.set(), known: &p.known })
            .collect();
        solve(column, &stages, target, rescore, &solving.progress)
    };
    let solved = off(find).await?;
    let recipe = index.model.recipe.clone();
    for (settings, recall) in &solved.tried {
        job.say(format!("{}: recall {recall:.4} on the half that chooses", settings_of(&recipe, *settings)));
    }
    let names: Vec<String> = sets.iter().map(|s| s.name.clone()).collect();
    let chosen = solved.chosen;
    let mut result = shown(solved, target, &recipe, names);
    result.n_queries = n_queries;
    (result.n_filtered, result.filter) = (n_filtered, filter);
    result.revision = table.revision();
    result.notices.extend(notices);
    if !chosen {
        result.instead = instead(live, column, &recipe);
    }
    Ok(result)
}

fn shown(solved: Solved, target: Target, recipe: &str, names: Vec<String>) -> wire::TargetResult {
    let reached = solved.is_reached(target);
    let mut sets: Vec<wire::SetFigures> = names
        .into_iter()
        .zip(solved.verified.sets)
        .map(|(query_set, summary)| wire::SetFigures {
            query_set,
            n_queries: summary.histogram.iter().sum(),
            figures: figures(summary),
        })
        .collect();
    sets.sort_by(|a, b| a.figures.recall_mean.total_cmp(&b.figures.recall_mean));
    let tried = solved.tried.iter();
    wire::TargetResult {
        reached,
        settings: settings_of(recipe, solved.settings),
        achieved: figures(solved.verified.overall),
        queries_per_s: solved.verified.queries_per_s,
        chosen_recall: solved.chosen_recall,
        sets,
        tried: tried
            .map(|(s, recall)| wire::Tried { settings: settings_of(recipe, *s), recall: *recall })
            .collect(),
        recipe: recipe.to_owned(),
        instead: None,
        served: false,
        n_queries: 0,
        n_filtered: 0,
        filter: None,
        revision: 0,
        machine: machine(),
        notices: Vec::new(),
    }
}

/// What could reach more than a recipe can.
fn instead(live: &Live, column: usize, recipe: &str) -> Option<wire::OtherRecipe> {
    let recipe: Recipe = recipe.parse().ok()?;
    let (other, why) = match (recipe.store, recipe.rescore) {
        (Store::F32, _) => return None,
        (_, None) => (
            Recipe { rescore: Some(Store::F32), ..recipe },
            "codes alone cannot tell the nearest apart; rescore re-ranks candidates with the vectors themselves",
        ),
        (_, Some(Store::F32)) => (
            Recipe { store: Store::Int8, ..recipe },
            "finer codes find candidates that these miss, and rescore re-ranks them",
        ),
        (_, Some(_)) => (
            Recipe { rescore: Some(Store::F32), ..recipe },
            "the vectors that re-rank are rounded; f32 is not",
        ),
    };
    let expected = other.explain(data_shape(live, column)).ok()?.expected;
    (other != recipe).then(|| wire::OtherRecipe {
        recipe: other.to_string(),
        why: why.into(),
        memory_bytes: expected.memory_bytes,
        file_bytes: expected.file_bytes,
        build_seconds: expected.build_seconds,
    })
}

/// Keeps what came of a target, and serves it where that was asked.
pub async fn keep(
    registry: &Arc<Registry>,
    live: &Arc<Live>,
    column: usize,
    request: &wire::TargetRequest,
    mut result: wire::TargetResult,
    job: &Job,
) -> Result<serde_json::Value, Stop> {
    if request.serve && result.reached {
        let settings = crate::search::settings::settings_over(result.settings, Settings::default(), "")?;
        let serving = Serving { index: request.index.clone(), settings, recall: None };
        live.set_serving(registry, column, Some(serving)).await?;
        result.served = true;
        job.say(format!("{} with {} serves the column now", request.index, result.settings));
    }
    let of = (live.id, live.columns()[column].id);
    let kept = registry.catalog.add_measurement(of, "target", json!(request), json!(result)).await?;
    let (id, reached) = (kept.id, result.reached);
    live.know_target(kept);
    Ok(json!({"target": id, "reached": reached}))
}

pub fn view(live: &Live, m: &measurement::Model) -> Option<wire::Target> {
    let (spec, result): (_, wire::TargetResult) = read(m)?;
    Some(wire::Target {
        id: m.id,
        column: column_name(live, m.column_id),
        stale: result.revision != live.table.load().revision(),
        spec,
        result,
        created_at: m.created_at,
    })
}

/// The targets of a collection, newest first.
pub async fn list(grant: &Grant, registry: &Registry, collection: &str) -> Result<wire::TargetList> {
    let live = registry.collection(grant, Scope::Search, collection)?;
    let all = registry.catalog.measurements(live.id, "target").await?;
    Ok(wire::TargetList { targets: all.iter().filter_map(|m| view(&live, m)).collect() })
}

pub async fn show(grant: &Grant, registry: &Registry, (collection, id): (&str, i64)) -> Result<wire::Target> {
    let live = registry.collection(grant, Scope::Search, collection)?;
    let unreadable = || Problem::new(Kind::Internal, format!("target {id} cannot be read"));
    view(&live, &found(registry, &live, "target", id).await?).ok_or_else(unreadable)
}

pub async fn delete(grant: &Grant, registry: &Registry, (collection, id): (&str, i64)) -> Result<()> {
    let live = registry.collection(grant, Scope::Tune, collection)?;
    let model = found(registry, &live, "target", id).await?;
    registry.catalog.delete_measurement(&model).await?;
    live.forget_target(id);
    Ok(())
}
