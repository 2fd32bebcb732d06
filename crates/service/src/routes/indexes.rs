//! Indexes: built from a recipe as a background job.

use super::*;
use crate::jobs::JobView;
use crate::live::{Live, LiveIndex};
use chrono::{DateTime, Utc};
use serde_json::{Value, json};
use zesty_engine::recipe::{Expected, Explanation, Recipe, Route, Shape, Store, Wish};

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct IndexInput {
    /// Made from the recipe when absent
    pub name: Option<String>,
    /// The collection's default column when absent
    pub column: Option<String>,
    /// One line, such as `graph(links=16, build=200) | int8 | rescore(f32)`; or `auto`, `auto(recall=0.95, memory=200)`;
    /// or the JSON form
    #[schema(value_type = Value)]
    pub recipe: RecipeInput,
    /// Same recipe, data, seed and one thread: the same index
    pub seed: Option<u64>,
    /// Threads to build with; all cores when absent
    pub threads: Option<usize>,
}

/// A recipe as text or in its JSON form.
#[derive(Deserialize)]
#[serde(untagged)]
pub enum RecipeInput {
    Text(String),
    Form(Value),
}

impl RecipeInput {
    fn read(&self) -> Result<Wish> {
        let read = match self {
            RecipeInput::Text(text) => text.parse(),
            RecipeInput::Form(form) => Recipe::from_json(form.clone()).map(Wish::Exactly),
        };
        read.map_err(|e: zesty_engine::recipe::RecipeError| {
            let place = match self {
                RecipeInput::Text(_) => format!("recipe, character {}: {e}", e.offset + 1),
                RecipeInput::Form(_) => format!("recipe: {e}"),
            };
            Problem::new(Kind::InvalidRecipe, place)
                .at("/recipe")
                .with("at", json!({"start": e.offset, "message": e.message}))
        })
    }
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CheckInput {
    /// As for an index
    #[schema(value_type = Value)]
    pub recipe: RecipeInput,
    /// Takes rows, dimensions and metric from a collection's column
    pub collection: Option<String>,
    pub column: Option<String>,
    /// Rows to reckon with; those of the collection when absent
    pub rows: Option<usize>,
    /// Dimensions to reckon with; those of the column when absent
    pub dimensions: Option<usize>,
    /// `cosine`, `euclidean` or `dot`; that of the column, or cosine, when absent
    pub metric: Option<String>,
}

/// What a recipe means, stage by stage
#[derive(Serialize, ToSchema)]
pub struct CheckView {
    pub rows: usize,
    pub dimensions: usize,
    pub metric: String,
    /// Why it was chosen, where `auto` was asked for
    pub why: Option<String>,
    /// The JSON form
    #[schema(value_type = Object)]
    pub form: Value,
    /// The canonical text, stages with their bytes, expected memory, file and build time, notices
    #[serde(flatten)]
    #[schema(value_type = Object)]
    pub explanation: Explanation,
}

/// Say what a recipe does and costs, without building anything
#[utoipa::path(post, path = "/api/recipes/check", tag = "indexes", request_body = CheckInput,
    responses((status = 200, body = CheckView), (status = 422, body = crate::problem::ProblemBody)))]
pub async fn check(State(hub): Hubbed, Input(input): Input<CheckInput>) -> Result<Json<CheckView>> {
    let mut known = None;
    if let Some(name) = &input.collection {
        let live = hub.collection(name).map_err(|p| p.at("/collection"))?;
        known = Some(shape_of(&live, live.column(input.column.as_deref(), "/column")?));
    }
    let metric = match &input.metric {
        Some(metric) => {
            metric.parse().map_err(|e: String| Problem::new(Kind::WrongShape, e).at("/metric"))?
        }
        None => known.map_or(zesty_engine::Metric::Cosine, |k| k.metric),
    };
    let missing = |what: &str| {
        let detail = format!("{what} is missing; give it, or a collection to take it from");
        Problem::new(Kind::WrongShape, detail).at(format!("/{what}"))
    };
    let shape = Shape {
        rows: input.rows.or(known.map(|k| k.rows)).ok_or_else(|| missing("rows"))?,
        dimensions: input.dimensions.or(known.map(|k| k.dimensions)).ok_or_else(|| missing("dimensions"))?,
        metric,
    };
    if !(1..=16_384).contains(&shape.dimensions) || shape.rows > u32::MAX as usize - 1 {
        let detail = format!(
            "{} rows of {} dimensions; rows go to 4,294,967,294 and dimensions from 1 to 16,384",
            shape.rows, shape.dimensions
        );
        return Err(Problem::new(Kind::WrongShape, detail));
    }
    let (recipe, why) = input.recipe.read()?.resolve(shape);
    let explanation = explained(recipe, shape)?;
    Ok(Json(CheckView {
        rows: shape.rows,
        dimensions: shape.dimensions,
        metric: shape.metric.to_string(),
        why,
        form: serde_json::to_value(recipe).unwrap_or_default(),
        explanation,
    }))
}

fn explained(recipe: Recipe, shape: Shape) -> Result<Explanation> {
    recipe.explain(shape).map_err(|why| Problem::new(Kind::InvalidRecipe, why).at("/recipe"))
}

fn shape_of(live: &Live, column: usize) -> Shape {
    let table = live.table.load();
    let vectors = &table.vectors()[column].vectors;
    Shape {
        rows: table.alive().intersection_count(vectors.present()),
        dimensions: vectors.dimensions(),
        metric: live.metrics[column],
    }
}

/// What the last sweep of an index gave at the settings it is served with, or near the knee
#[derive(Clone, Serialize, ToSchema)]
pub struct Measured {
    pub sweep: i64,
    pub settings: SettingsInput,
    pub k: usize,
    pub recall_mean: f64,
    pub p50_us: f64,
    pub queries_per_s: f64,
}

#[derive(Serialize, ToSchema)]
pub struct IndexView {
    pub name: String,
    pub column: String,
    /// In canonical form
    pub recipe: String,
    /// `building`, `ready` or `failed`
    pub state: String,
    pub error: Option<String>,
    /// Rows it was built over
    pub n_rows: i64,
    /// The revision it covers
    pub revision: i64,
    /// Records newer than the index, scanned beside it
    pub n_uncovered: usize,
    /// Rows whose record was deleted or replaced since
    pub n_dead: usize,
    pub n_bytes_file: i64,
    pub n_bytes_vectors: usize,
    pub n_bytes_structure: usize,
    /// What searches read throughout: structure and codes, without what candidates are ranked with anew
    pub n_bytes_memory: usize,
    /// What was expected of the recipe for these rows: memory, file, processor seconds of the build
    #[schema(value_type = Object)]
    pub expected: Option<Expected>,
    pub measured: Option<Measured>,
    pub build_seconds: f64,
    pub seed: i64,
    pub created_at: DateTime<Utc>,
    /// Whether it answers searches that name no index
    pub serving: bool,
}

#[derive(Serialize, ToSchema)]
pub struct IndexList {
    pub indexes: Vec<IndexView>,
}

pub(crate) fn views(live: &Live) -> Vec<IndexView> {
    let table = live.table.load();
    let indexes = live.kept.indexes.load();
    indexes
        .iter()
        .filter_map(|i| Some((i, live.position(i)?)))
        .map(|(i, column)| {
            let m = &i.model;
            let a = i.attached.as_ref();
            IndexView {
                name: m.name.clone(),
                column: live.columns()[column].name.clone(),
                recipe: m.recipe.clone(),
                state: m.state.clone(),
                error: m.error.clone(),
                n_rows: m.n_rows,
                revision: m.revision,
                n_uncovered: a.map_or(0, |a| a.uncovered(&table, column).count_ones(..)),
                n_dead: a.map_or(0, |a| a.n_dead(&table)),
                n_bytes_file: m.n_bytes,
                n_bytes_vectors: a.map_or(0, |a| a.index.n_bytes_vectors()),
                n_bytes_structure: a.map_or(0, |a| a.index.n_bytes_structure()),
                n_bytes_memory: a.map_or(0, |a| a.index.n_bytes_memory()),
                expected: expected(live, column, m),
                measured: None,
                build_seconds: m.build_seconds,
                seed: m.seed,
                created_at: m.created_at,
                serving: live.serving(column).is_some_and(|s| s.index == m.name),
            }
        })
        .collect()
}

fn expected(live: &Live, column: usize, model: &zesty_catalog::index::Model) -> Option<Expected> {
    let recipe: Recipe = model.recipe.parse().ok()?;
    let rows = if model.state == "ready" { model.n_rows as usize } else { shape_of(live, column).rows };
    let shape = Shape { rows, ..shape_of(live, column) };
    Some(recipe.explain(shape).ok()?.expected)
}

/// Adds to indexes what their last sweeps gave.
async fn with_measured(hub: &Hub, live: &Live, mut views: Vec<IndexView>) -> Result<Vec<IndexView>> {
    let sweeps = sweeps::views(hub, live).await?;
    for view in &mut views {
        let serving = live.column(Some(&view.column), "").ok().and_then(|c| live.serving(c));
        let served = serving
            .filter(|s| s.index == view.name)
            .and_then(|s| serde_json::to_value(SettingsInput::of(&view.recipe, s.settings)).ok());
        // Sweeps come newest first; those of an earlier index of the name do not count.
        let last = sweeps.iter().find(|s| s.index == view.name && s.created_at >= view.created_at);
        let Some(sweep) = last else { continue };
        let points = &sweep.result.points;
        let as_served = points.iter().find(|p| serde_json::to_value(p.settings).ok() == served);
        let knee = || points.iter().find(|p| p.summary.recall_mean >= 0.95).or(points.last());
        view.measured = as_served.or_else(knee).map(|p| Measured {
            sweep: sweep.id,
            settings: p.settings,
            k: sweep.spec.k,
            recall_mean: p.summary.recall_mean,
            p50_us: p.summary.p50_us,
            queries_per_s: p.queries_per_s,
        });
    }
    Ok(views)
}

pub(crate) fn not_ready(index: &LiveIndex) -> Problem {
    let m = &index.model;
    let detail = match &m.error {
        Some(why) => format!(
            "index \"{}\" is not on this node: {why}; `zesty index absorb` builds it again, or drop it",
            m.name
        ),
        None => format!("index \"{}\" is still being built; exact searches work meanwhile", m.name),
    };
    Problem::new(Kind::NotReady, detail)
}

/// Build an index as a job
#[utoipa::path(post, path = "/api/collections/{collection}/indexes", tag = "indexes",
    params(("collection" = String, Path)), request_body = IndexInput,
    responses((status = 202, body = JobView), (status = 409, body = crate::problem::ProblemBody),
        (status = 422, body = crate::problem::ProblemBody)))]
pub async fn create(
    State(hub): Hubbed,
    Path(name): Path<String>,
    Input(input): Input<IndexInput>,
) -> Result<(StatusCode, Json<JobView>)> {
    let live = hub.collection(&name)?;
    let column = live.column(input.column.as_deref(), "/column")?;
    let wish = input.recipe.read()?;
    let shape = shape_of(&live, column);
    if shape.rows == 0 {
        let detail =
            format!("column \"{}\" holds no vectors yet; load records first", live.columns()[column].name);
        return Err(Problem::new(Kind::NoData, detail));
    }
    let (recipe, why) = wish.resolve(shape);
    let explanation = explained(recipe, shape)?;
    hub.check_memory(&explanation, shape)?;
    let index = match input.name {
        Some(name) => {
            check_name("index", &name, "/name")?;
            name
        }
        None => free_name(&live, recipe),
    };
    let threads = input.threads.unwrap_or(hub.threads);
    if !(1..=256).contains(&threads) {
        return Err(Problem::new(Kind::WrongShape, format!("threads is {threads}; it goes from 1 to 256"))
            .at("/threads"));
    }
    let seed = input.seed.unwrap_or(1);
    if i64::try_from(seed).is_err() {
        return Err(Problem::new(Kind::WrongShape, "seed goes from 0 to 9223372036854775807").at("/seed"));
    }
    let job = live.create_index(&hub, column, &index, recipe, seed, threads).await?;
    let said = why.map(|why| format!("chose {recipe}: {why}"));
    said.into_iter().chain(explanation.notices).for_each(|text| job.say(text));
    Ok((StatusCode::ACCEPTED, Json(job.view())))
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

/// List a collection's indexes
#[utoipa::path(get, path = "/api/collections/{collection}/indexes", tag = "indexes",
    params(("collection" = String, Path)), responses((status = 200, body = IndexList)))]
pub async fn list(State(hub): Hubbed, Path(name): Path<String>) -> Result<Json<IndexList>> {
    let live = hub.collection(&name)?;
    Ok(Json(IndexList { indexes: with_measured(&hub, &live, views(&live)).await? }))
}

/// Take into an index what was written since it was made, as a job. The service does so by itself when much was
#[utoipa::path(post, path = "/api/collections/{collection}/indexes/{index}/absorb", tag = "indexes",
    params(("collection" = String, Path), ("index" = String, Path)),
    responses((status = 202, body = JobView), (status = 404, body = crate::problem::ProblemBody),
        (status = 409, body = crate::problem::ProblemBody)))]
pub async fn absorb(
    State(hub): Hubbed,
    Path((name, index)): Path<(String, String)>,
) -> Result<(StatusCode, Json<JobView>)> {
    let live = hub.collection(&name)?;
    let index = live.index(&index)?;
    if index.model.state == "building" {
        return Err(not_ready(&index));
    }
    if let Some(job) = hub.jobs.running(&name, &index.model.name) {
        let detail = format!("job {} works on index \"{}\" already", job.id(), index.model.name);
        return Err(Problem::new(Kind::StillUsed, detail).with("job", job.id()));
    }
    let job = live.absorb(&hub, index).await?;
    Ok((StatusCode::ACCEPTED, Json(job.view())))
}

/// Drop an index; searches are exact if it was the serving choice
#[utoipa::path(delete, path = "/api/collections/{collection}/indexes/{index}", tag = "indexes",
    params(("collection" = String, Path), ("index" = String, Path)),
    responses((status = 204), (status = 404, body = crate::problem::ProblemBody)))]
pub async fn delete(State(hub): Hubbed, Path((name, index)): Path<(String, String)>) -> Result<StatusCode> {
    let live = hub.collection(&name)?;
    if let Some(job) = hub.jobs.running(&name, &live.index(&index)?.model.name) {
        let detail = format!("index \"{index}\" is being built; cancel its job {} first", job.id());
        return Err(Problem::new(Kind::StillUsed, detail).with("job", job.id()));
    }
    live.drop_index(&hub, &index).await?;
    Ok(StatusCode::NO_CONTENT)
}
