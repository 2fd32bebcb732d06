//! Sweeps: the recall and latency of an index on the collection's own records.

use super::*;
use crate::jobs::{Job, JobView, Stop};
use crate::live::Live;
use chrono::{DateTime, Utc};
use rand::SeedableRng;
use rand::seq::SliceRandom;
use serde_json::{Value, json};
use std::sync::atomic::Ordering;
use std::time::Instant;
use zesty_engine::index::Settings;
use zesty_engine::measure::{Sample, Summary, percentile, recall, recall_ties, summarise};
use zesty_engine::scan::{Allowed, Queries, scan_many};
use zesty_engine::search::{Request, Strategy, run};

const USUAL_BEAMS: [usize; 8] = [10, 16, 24, 40, 64, 100, 160, 256];
const USUAL_VISITS: [usize; 7] = [1, 2, 4, 8, 16, 32, 64];

#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SweepInput {
    /// The index to measure
    pub index: String,
    /// Records sampled as queries, 1 to 10,000. A record never counts as its own neighbour
    #[serde(default = "queries")]
    pub queries: usize,
    #[serde(default = "search::ten")]
    pub k: usize,
    /// Graphs: beams to measure, each 1 to 10,000, at most 32; a usual list when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub beams: Option<Vec<usize>>,
    /// Cells: how many to visit, each 1 to 100,000, at most 32; a usual list when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub visits: Option<Vec<usize>>,
    /// How many times k candidates are ranked anew, where the recipe says rescore: 1 to 100, 3 when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rescore: Option<usize>,
    /// Decides which records are sampled
    #[serde(default = "one")]
    pub seed: u64,
}

fn queries() -> usize {
    500
}
fn one() -> u64 {
    1
}

/// One setting, measured. Latencies are those of the engine, one query at a time
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SweepPoint {
    pub settings: SettingsInput,
    pub queries_per_s: f64,
    /// Recall (mean, 5th percentile, minimum, histogram), latency percentiles, distances
    #[serde(flatten)]
    #[schema(value_type = Object)]
    pub summary: Summary,
}

/// The exact scan on some of the same queries
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ExactPoint {
    pub queries: usize,
    pub queries_per_s: f64,
    pub p50_us: f64,
    pub p99_us: f64,
}

#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SweepResult {
    pub points: Vec<SweepPoint>,
    pub exact: ExactPoint,
    /// Records that could be a neighbour
    pub n_rows: usize,
    /// Queries in fact sampled: fewer than asked for when there are fewer records
    pub n_queries: usize,
    pub revision: u64,
}

#[derive(Serialize, ToSchema)]
pub struct SweepView {
    pub id: i64,
    pub index: String,
    pub column: String,
    pub recipe: String,
    pub spec: SweepInput,
    pub result: SweepResult,
    pub created_at: DateTime<Utc>,
}

#[derive(Serialize, ToSchema)]
pub struct SweepList {
    /// Newest first
    pub sweeps: Vec<SweepView>,
}

/// The settings to measure: the list that the recipe heeds.
fn steps(input: &SweepInput, recipe: &str) -> Result<Vec<Settings>> {
    let setting = recipe.parse::<Recipe>().ok().and_then(|r| r.setting());
    let usual = SettingsInput { beam: None, visit: None, rescore: input.rescore }.check("")?;
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

/// Measure an index over a list of beams or visits, as a job
#[utoipa::path(post, path = "/api/collections/{collection}/sweeps", tag = "tuning",
    params(("collection" = String, Path)), request_body = SweepInput,
    responses((status = 202, body = JobView), (status = 404, body = crate::problem::ProblemBody),
        (status = 422, body = crate::problem::ProblemBody)))]
pub async fn create(
    State(hub): Hubbed,
    Path(name): Path<String>,
    Input(input): Input<SweepInput>,
) -> Result<(StatusCode, Json<JobView>)> {
    let live = hub.collection(&name)?;
    check_k(input.k)?;
    let wrong =
        |part: &str, detail: String| Err(Problem::new(Kind::InvalidSettings, detail).at(format!("/{part}")));
    if !(1..=10_000).contains(&input.queries) {
        return wrong("queries", format!("queries is {}; it goes from 1 to 10,000", input.queries));
    }
    let index = live.index(&input.index).map_err(|p| p.at("/index"))?;
    if index.attached.is_none() {
        return Err(indexes::not_ready(&index).at("/index"));
    }
    let column = live.position(&index).ok_or_else(|| indexes::not_ready(&index).at("/index"))?;
    let steps = steps(&input, &index.model.recipe)?;
    let (work_hub, work_live) = (hub.clone(), live.clone());
    let job = hub
        .jobs
        .start(&hub.catalog, &hub.node, "sweep", &live.name, &input.index.clone(), move |job| async move {
            let spec = serde_json::to_value(&input).unwrap_or(Value::Null);
            let (measured, blocking) = (job.clone(), work_live.clone());
            let result =
                tokio::task::spawn_blocking(move || measure(&blocking, &input, &steps, column, &measured))
                    .await
                    .map_err(|e| Stop::Failed(e.to_string()))??;
            let value = serde_json::to_value(&result).map_err(|e| Stop::Failed(e.to_string()))?;
            let m = &index.model;
            let sweep = work_hub
                .catalog
                .add_sweep(work_live.id, m.column_id, &m.name, &m.recipe, spec, value)
                .await?;
            Ok(json!({"sweep": sweep.id}))
        })
        .await?;
    Ok((StatusCode::ACCEPTED, Json(job.view())))
}

fn measure(
    live: &Live,
    input: &SweepInput,
    steps: &[Settings],
    column: usize,
    job: &Job,
) -> Result<SweepResult, Stop> {
    let index = live.index(&input.index)?;
    let attached = index.attached.as_ref().ok_or_else(|| Stop::Failed("the index is gone".into()))?;
    let table = live.table.load_full();
    let metric = live.metrics[column];
    let vectors = &table.vectors()[column].vectors;
    if !attached.fits(&table) {
        return Err(Stop::Failed("the rows have just been read again; start the sweep once more".into()));
    }
    let allowed = table.alive().and(vectors.present());
    let mut rows: Vec<u32> = allowed.ones().map(|r| r as u32).collect();
    let n_rows = rows.len();
    if n_rows < 2 {
        return Err(Stop::Failed(format!("{n_rows} records have a vector; recall needs at least 2")));
    }
    let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(input.seed);
    let (sample, _) = rows.partial_shuffle(&mut rng, input.queries);
    let sample: Vec<u32> = sample.to_vec();
    let n_queries = sample.len();
    let n_exact = n_queries.min(50);
    let progress = &job.progress;
    progress.total.store(n_queries * (steps.len() + 1), Ordering::Relaxed);

    job.say(format!("exact neighbours of {n_queries} sampled records among {n_rows}"));
    let queries: Vec<f32> = sample.iter().flat_map(|&r| vectors.row(r).iter().copied()).collect();
    let dimensions = vectors.dimensions();
    let blocks: Vec<(u32, &[f32])> = vectors.blocks().collect();
    let mut truth = Vec::with_capacity(n_queries);
    // In portions, so that a cancel is heard.
    for (queries, rows) in queries.chunks(64 * dimensions).zip(sample.chunks(64)) {
        let excluded: Vec<Option<u32>> = rows.iter().map(|r| Some(*r)).collect();
        let only = Allowed::Only(&allowed);
        let some = Queries { values: queries, dimensions, excluded: &excluded };
        truth.extend(scan_many(&blocks, metric, some, input.k, only, 2));
        progress.done.fetch_add(rows.len(), Ordering::Relaxed);
        if progress.is_cancelled() {
            return Err(Stop::Cancelled);
        }
    }
    let ask = |row: u32, settings: Option<Settings>| {
        let request = Request {
            column,
            query: vectors.row(row),
            k: input.k,
            filter: None,
            excluded: &[row],
            index: settings.map(|s| (attached, s)),
            // It is the index that is measured, not what a plan would put in its place.
            only: settings.map(|_| Strategy::of_index(&attached.index.recipe())),
            until: None,
        };
        let start = Instant::now();
        let answer = run(&table, request);
        (answer, start.elapsed().as_secs_f64() * 1e6)
    };
    let times: Vec<f64> = sample[..n_exact].iter().map(|&r| ask(r, None).1).collect();
    let exact = ExactPoint {
        queries: n_exact,
        queries_per_s: n_exact as f64 / times.iter().sum::<f64>() * 1e6,
        p50_us: percentile(&times, 0.5).unwrap_or(0.0),
        p99_us: percentile(&times, 0.99).unwrap_or(0.0),
    };

    let mut points = Vec::new();
    for &settings in steps {
        let shown = SettingsInput::of(&index.model.recipe, settings);
        sample[..n_exact].iter().for_each(|&r| drop(ask(r, Some(settings)))); // warm up
        let mut samples = Vec::with_capacity(n_queries);
        for (&row, truth) in sample.iter().zip(&truth) {
            let (answer, elapsed_us) = ask(row, Some(settings));
            samples.push(Sample {
                recall: recall(&answer.nearest, truth),
                recall_ties: recall_ties(&answer.nearest, truth),
                elapsed_us,
                distances: answer.work.distances,
            });
            progress.done.fetch_add(1, Ordering::Relaxed);
            if progress.is_cancelled() {
                return Err(Stop::Cancelled);
            }
        }
        let summary = summarise(&samples, input.k);
        let (recall, p50) = (summary.recall_mean, summary.p50_us);
        job.say(format!("{shown}: recall {recall:.4}, p50 {p50:.0} us"));
        let total_us: f64 = samples.iter().map(|s| s.elapsed_us).sum();
        points.push(SweepPoint {
            settings: shown,
            queries_per_s: n_queries as f64 / total_us * 1e6,
            summary,
        });
    }
    Ok(SweepResult { points, exact, n_rows, n_queries, revision: table.revision() })
}

/// List a collection's sweeps
#[utoipa::path(get, path = "/api/collections/{collection}/sweeps", tag = "tuning",
    params(("collection" = String, Path)), responses((status = 200, body = SweepList)))]
pub async fn list(State(hub): Hubbed, Path(name): Path<String>) -> Result<Json<SweepList>> {
    let live = hub.collection(&name)?;
    Ok(Json(SweepList { sweeps: views(&hub, &live).await? }))
}

/// The sweeps of a collection, newest first.
pub(crate) async fn views(hub: &Hub, live: &Live) -> Result<Vec<SweepView>> {
    let mut sweeps = Vec::new();
    for m in hub.catalog.sweeps(live.id).await? {
        let column = live.columns().iter().find(|c| c.id == m.column_id);
        let (Ok(spec), Ok(result)) = (serde_json::from_value(m.spec), serde_json::from_value(m.result))
        else {
            tracing::warn!(sweep = m.id, "a stored sweep cannot be read and is not shown");
            continue;
        };
        sweeps.push(SweepView {
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
