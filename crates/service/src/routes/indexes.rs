//! Indexes: built from a recipe as a background job.

use super::*;
use crate::jobs::JobView;
use crate::live::{Live, LiveIndex};
use chrono::{DateTime, Utc};
use zesty_engine::Recipe;
use zesty_engine::recipe::{Route, Store};

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct IndexInput {
    /// Made from the recipe when absent
    pub name: Option<String>,
    /// The collection's default column when absent
    pub column: Option<String>,
    /// `graph(links=16, build=200, layers=on)` or `scan`, then perhaps `| f16` or `| int8`, then perhaps `| rescore(f32)`
    pub recipe: String,
    /// Same recipe, data, seed and one thread: the same index
    pub seed: Option<u64>,
    /// Threads to build with; all cores when absent
    pub threads: Option<usize>,
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
                build_seconds: m.build_seconds,
                seed: m.seed,
                created_at: m.created_at,
                serving: live.serving(column).is_some_and(|s| s.index == m.name),
            }
        })
        .collect()
}

pub(crate) fn not_ready(index: &LiveIndex) -> Problem {
    let m = &index.model;
    let detail = match &m.error {
        Some(why) => format!("index \"{}\" failed to build: {why}; drop it and build again", m.name),
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
    let recipe: Recipe = input.recipe.parse().map_err(|e: zesty_engine::recipe::RecipeError| {
        Problem::new(Kind::InvalidRecipe, format!("recipe, character {}: {e}", e.offset + 1))
            .at("/recipe")
            .with("at", serde_json::json!({"start": e.offset, "message": e.message}))
    })?;
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
    if live.table.load().vectors()[column].vectors.present().is_clear() {
        let detail =
            format!("column \"{}\" holds no vectors yet; load records first", live.columns()[column].name);
        return Err(Problem::new(Kind::NoData, detail));
    }
    let job = live.create_index(&hub, column, &index, recipe, seed, threads).await?;
    Ok((StatusCode::ACCEPTED, Json(job.view())))
}

fn free_name(live: &Live, recipe: Recipe) -> String {
    let mut word = match recipe.route {
        Route::Scan => "scan".to_owned(),
        Route::Graph(_) => "graph".to_owned(),
    };
    if recipe.store != Store::F32 {
        word += &format!("-{}", recipe.store.name());
    }
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
    Ok(Json(IndexList { indexes: views(&*hub.collection(&name)?) }))
}

/// Drop an index; searches are exact if it was the serving choice
#[utoipa::path(delete, path = "/api/collections/{collection}/indexes/{index}", tag = "indexes",
    params(("collection" = String, Path), ("index" = String, Path)),
    responses((status = 204), (status = 404, body = crate::problem::ProblemBody)))]
pub async fn delete(State(hub): Hubbed, Path((name, index)): Path<(String, String)>) -> Result<StatusCode> {
    let live = hub.collection(&name)?;
    if live.index(&index)?.model.state == "building" {
        let detail = format!("index \"{index}\" is being built; cancel its job first");
        return Err(Problem::new(Kind::StillUsed, detail));
    }
    live.drop_index(&hub, &index).await?;
    Ok(StatusCode::NO_CONTENT)
}
