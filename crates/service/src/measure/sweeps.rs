//! Sweeps: the recall and latency of an index at a list of settings, measured as a job and kept.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::{Live, LiveIndex};
use crate::collections::registry::Registry;
use crate::node::jobs::{Job, Stop};
use crate::problem::{Kind, Problem, Result};
use crate::search::settings::{check_k, check_range, settings_of, settings_over};
use serde_json::json;
use std::sync::Arc;
use zesty_engine::Recipe;
use zesty_engine::index::Settings;
use zesty_engine::measure::{Point, Sweep, SweepError, SweepSpec, sweep};
use zesty_wire as wire;

const USUAL_BEAMS: [usize; 8] = [10, 16, 24, 40, 64, 100, 160, 256];
const USUAL_VISITS: [usize; 7] = [1, 2, 4, 8, 16, 32, 64];

/// The settings to measure: the list that the recipe uses.
fn steps(input: &wire::SweepRequest, recipe: &str) -> Result<Vec<Settings>> {
    let setting = recipe.parse::<Recipe>().ok().and_then(|r| r.setting());
    let usual = settings_over(
        wire::Settings { rescore: input.rescore, ..wire::Settings::default() },
        Settings::default(),
        "",
    )?;
    let (word, other, given, list): (&str, _, _, &[usize]) = match setting {
        Some("beam") => ("beams", ("visits", &input.visits), &input.beams, &USUAL_BEAMS),
        Some(_) => ("visits", ("beams", &input.beams), &input.visits, &USUAL_VISITS),
        None => return Ok(vec![usual]),
    };
    if other.1.is_some() {
        let detail = format!("an index of {recipe} is tuned by {word}, not by {}", other.0);
        return Err(Problem::new(Kind::InvalidSettings, detail).at(format!("/{}", other.0)));
    }
    let list = given.as_deref().unwrap_or(list);
    if !(1..=32).contains(&list.len()) {
        let detail = format!("{} {word}; give 1 to 32", list.len());
        return Err(Problem::new(Kind::InvalidSettings, detail).at(format!("/{word}")));
    }
    list.iter()
        .enumerate()
        .map(|(i, &n)| {
            let most = if word == "beams" { Settings::MAX_BEAM } else { Settings::MAX_VISIT };
            check_range(&word[..word.len() - 1], n, most, &format!("/{word}/{i}"))?;
            Ok(if word == "beams" { Settings { beam: n, ..usual } } else { Settings { visit: n, ..usual } })
        })
        .collect()
}

/// Starts measuring an index over a list of beams or visits, as a job.
pub async fn create(
    grant: &Grant,
    registry: &Arc<Registry>,
    collection: &str,
    request: wire::SweepRequest,
) -> Result<wire::Job> {
    let live = registry.collection(grant, Scope::Tune, collection)?;
    check_k(request.k)?;
    if !(1..=10_000).contains(&request.queries) {
        let detail = format!("queries is {}; it goes from 1 to 10,000", request.queries);
        return Err(Problem::new(Kind::InvalidSettings, detail).at("/queries"));
    }
    let index = live.index(&request.index).map_err(|p| p.at("/index"))?;
    if index.attached.is_none() {
        return Err(index.not_ready().at("/index"));
    }
    let column = live.position(&index).ok_or_else(|| index.not_ready().at("/index"))?;
    let steps = steps(&request, &index.model.recipe)?;
    let catalog = registry.catalog.clone();
    let subject = request.index.clone();
    let name = live.name.clone();
    let work = move |job: Arc<Job>| async move {
        let spec = json!(request);
        let (collection, model) = (live.id, index.model.clone());
        let measuring = move || measure(&live, &index, &request, column, &steps, &job);
        let measured = tokio::task::spawn_blocking(measuring);
        let result = measured.await.map_err(|e| Stop::Failed(e.to_string()))??;
        let kept = catalog
            .add_sweep(collection, model.column_id, &model.name, &model.recipe, spec, json!(result))
            .await?;
        Ok(json!({"sweep": kept.id}))
    };
    Ok(registry.jobs.start("sweep", &name, &subject, work).await?.view())
}

/// Measures with the index as it is now: it may have absorbed since the sweep was asked for.
fn measure(
    live: &Live,
    asked: &LiveIndex,
    request: &wire::SweepRequest,
    column: usize,
    settings: &[Settings],
    job: &Job,
) -> Result<wire::SweepResult, Stop> {
    let gone = || Stop::Failed("the index is gone".into());
    let index = live.index(&request.index)?;
    let attached = index.attached.as_ref().filter(|_| index.model.id == asked.model.id).ok_or_else(gone)?;
    let table = live.table.load_full();
    let spec = SweepSpec {
        column,
        metric: live.metrics[column],
        queries: request.queries,
        k: request.k,
        seed: request.seed,
        settings,
    };
    let recipe = &index.model.recipe;
    job.say(format!("exact neighbours of up to {} sampled records come first", request.queries));
    let each = |point: &Point| {
        let (shown, summary) = (settings_of(recipe, point.settings), &point.summary);
        job.say(format!("{shown}: recall {:.4}, p50 {:.0} us", summary.recall_mean, summary.p50_us));
    };
    let swept = sweep(&table, attached, &spec, &job.progress, each);
    swept.map(|s| result(s, recipe)).map_err(|e| match e {
        SweepError::Cancelled => Stop::Cancelled,
        other => Stop::Failed(other.to_string()),
    })
}

fn result(sweep: Sweep, recipe: &str) -> wire::SweepResult {
    let point = |p: Point| wire::SweepPoint {
        settings: settings_of(recipe, p.settings),
        queries_per_s: p.queries_per_s,
        recall_mean: p.summary.recall_mean,
        recall_p5: p.summary.recall_p5,
        recall_min: p.summary.recall_min,
        recall_ties_mean: p.summary.recall_ties_mean,
        p50_us: p.summary.p50_us,
        p95_us: p.summary.p95_us,
        p99_us: p.summary.p99_us,
        distances_per_query: p.summary.distances_per_query,
        histogram: p.summary.histogram,
    };
    wire::SweepResult {
        points: sweep.points.into_iter().map(point).collect(),
        exact: wire::ExactPoint {
            queries: sweep.exact.queries,
            queries_per_s: sweep.exact.queries_per_s,
            p50_us: sweep.exact.p50_us,
            p99_us: sweep.exact.p99_us,
        },
        n_rows: sweep.n_rows,
        n_queries: sweep.n_queries,
        revision: sweep.revision,
    }
}

/// The sweeps of a collection, newest first.
pub async fn list(grant: &Grant, registry: &Registry, collection: &str) -> Result<wire::SweepList> {
    let live = registry.collection(grant, Scope::Search, collection)?;
    Ok(wire::SweepList { sweeps: views(registry, &live).await? })
}

/// The sweeps of a collection, newest first.
pub async fn views(registry: &Registry, live: &Live) -> Result<Vec<wire::Sweep>> {
    let mut sweeps = Vec::new();
    for m in registry.catalog.sweeps(live.id).await? {
        let column = live.columns().iter().find(|c| c.id == m.column_id);
        let (Ok(spec), Ok(result)) = (serde_json::from_value(m.spec), serde_json::from_value(m.result))
        else {
            tracing::warn!(sweep = m.id, "a stored sweep cannot be read and is not shown");
            continue;
        };
        sweeps.push(wire::Sweep {
            id: m.id,
            index: m.index_name,
            column: column.map_or(String::new(), |c| c.name.clone()),
            recipe: m.recipe,
            spec,
            result,
            created_at: m.created_at,
        });
    }
    Ok(sweeps)
}
