//! Loads: uploaded files written into a collection as a job.

use super::*;
use crate::jobs::JobView;
use crate::loads::{self, BadRows, LoadInput};
use axum::body::Body;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use chrono::{DateTime, Utc};
use futures::StreamExt;
use tokio::io::AsyncReadExt;
use zesty_catalog::load;

/// A load, and where it stands. `read` = `new` + `replaced` + `unchanged` + `rejected`
#[derive(Serialize, ToSchema)]
pub struct LoadView {
    pub id: i64,
    pub collection: String,
    /// `running`, `done`, `stopped` or `cancelled`; the last two can be resumed
    pub state: String,
    /// Why it stopped
    pub error: Option<String>,
    /// The job that works on it, or did last
    pub job: i64,
    #[schema(value_type = Object)]
    pub spec: serde_json::Value,
    /// Names of its files
    pub files: Vec<String>,
    pub read: i64,
    pub new: i64,
    pub replaced: i64,
    pub unchanged: i64,
    pub rejected: i64,
    /// Written without a vector because the encoder would not take their text
    pub unencoded: i64,
    pub created_at: DateTime<Utc>,
    pub finished_at: Option<DateTime<Utc>>,
}

#[derive(Serialize, ToSchema)]
pub struct LoadList {
    /// Newest first, at most 50
    pub loads: Vec<LoadView>,
}

#[derive(Serialize, ToSchema)]
pub struct StartedLoad {
    pub load: i64,
    pub job: JobView,
}

fn view(m: load::Model) -> LoadView {
    let files = serde_json::from_value(m.spec["names"].clone()).unwrap_or_default();
    LoadView {
        id: m.id,
        collection: m.collection,
        state: m.state,
        error: m.error,
        job: m.job_id,
        spec: m.spec["input"].clone(),
        files,
        read: m.position,
        new: m.n_new,
        replaced: m.n_replaced,
        unchanged: m.n_unchanged,
        rejected: m.n_rejected,
        unencoded: m.n_unencoded,
        created_at: m.created_at,
        finished_at: m.finished_at,
    }
}

async fn find(hub: &Hub, collection: &str, id: i64) -> Result<(Arc<crate::live::Live>, load::Model)> {
    let live = hub.collection(collection)?;
    let model = hub.catalog.load(id).await?.filter(|m| m.collection_id == live.id);
    let model = model.ok_or_else(|| Problem::unknown("load", &id.to_string(), []))?;
    Ok((live, model))
}

/// Load uploaded files into a collection, as a job
///
/// What is wrong with a file as a whole, such as another number of rows than the file beside it, refuses the load
/// before a record is written. Records are committed in batches, each with where the load stands.
#[utoipa::path(post, path = "/api/collections/{collection}/loads", tag = "loads",
    params(("collection" = String, Path)), request_body = LoadInput,
    responses((status = 202, body = StartedLoad), (status = 422, body = crate::problem::ProblemBody)))]
pub async fn create(
    State(hub): Hubbed,
    Path(name): Path<String>,
    Input(input): Input<LoadInput>,
) -> Result<(StatusCode, Json<StartedLoad>)> {
    let live = hub.collection(&name)?;
    let plan = input.plan(&hub, &live)?;
    let opening = live.clone();
    let rows = blocking(move || loads::open(&opening, &plan)).await?;
    let table = live.table.load_full();
    let (before, revision) = (table.n_records() as u64, table.revision());
    let spec = input.spec(&hub);
    let model = hub.catalog.add_load(live.id, &live.name, &hub.node, spec, before).await?;
    let load = model.id;
    let job = loads::start(&hub, &live, model, input, rows, Some(revision)).await?;
    Ok((StatusCode::ACCEPTED, Json(StartedLoad { load, job: job.view() })))
}

/// List loads of a collection
#[utoipa::path(get, path = "/api/collections/{collection}/loads", tag = "loads",
    params(("collection" = String, Path)), responses((status = 200, body = LoadList)))]
pub async fn list(State(hub): Hubbed, Path(name): Path<String>) -> Result<Json<LoadList>> {
    let live = hub.collection(&name)?;
    let all = hub.catalog.loads(Some(live.id), 50).await?;
    Ok(Json(LoadList { loads: all.into_iter().map(view).collect() }))
}

/// Show a load
#[utoipa::path(get, path = "/api/collections/{collection}/loads/{load}", tag = "loads",
    params(("collection" = String, Path), ("load" = i64, Path)),
    responses((status = 200, body = LoadView), (status = 404, body = crate::problem::ProblemBody)))]
pub async fn show(State(hub): Hubbed, Path((name, id)): Path<(String, i64)>) -> Result<Json<LoadView>> {
    let (_, model) = find(&hub, &name, id).await?;
    Ok(Json(view(model)))
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ResumeInput {
    /// As before when absent
    pub bad_rows: Option<BadRows>,
}

/// Let a load that stopped go on after its last committed batch
#[utoipa::path(post, path = "/api/collections/{collection}/loads/{load}/resume", tag = "loads",
    params(("collection" = String, Path), ("load" = i64, Path)), request_body = ResumeInput,
    responses((status = 202, body = StartedLoad), (status = 409, body = crate::problem::ProblemBody)))]
pub async fn resume(
    State(hub): Hubbed,
    Path((name, id)): Path<(String, i64)>,
    Input(resume): Input<ResumeInput>,
) -> Result<(StatusCode, Json<StartedLoad>)> {
    let (live, model) = find(&hub, &name, id).await?;
    let refuse = |detail: String| Err(Problem::new(Kind::NotReady, detail));
    match model.state.as_str() {
        "stopped" | "cancelled" => {}
        "running" => return refuse(format!("load {id} is running, as job {}", model.job_id)),
        state => return refuse(format!("load {id} is {state}; there is nothing left of it")),
    }
    if model.node != hub.node {
        return refuse(format!("the files of load {id} are on node {}; resume it there", model.node));
    }
    let mut input: LoadInput = serde_json::from_value(model.spec["input"].clone())
        .map_err(|e| Problem::new(Kind::Internal, format!("the load's description cannot be read: {e}")))?;
    input.bad_rows = resume.bad_rows.unwrap_or(input.bad_rows);
    let plan = input.plan(&hub, &live)?;
    let opening = live.clone();
    let rows = blocking(move || loads::open(&opening, &plan)).await?;
    let job = loads::start(&hub, &live, model, input, rows, None).await?;
    Ok((StatusCode::ACCEPTED, Json(StartedLoad { load: id, job: job.view() })))
}

/// The rows that a load set aside, as JSON Lines, each with its reason; mended, they can be loaded
#[utoipa::path(get, path = "/api/collections/{collection}/loads/{load}/rejects", tag = "loads",
    params(("collection" = String, Path), ("load" = i64, Path)),
    responses((status = 200, content_type = "application/jsonl", body = String)))]
pub async fn rejects(State(hub): Hubbed, Path((name, id)): Path<(String, i64)>) -> Result<Response> {
    let (_, model) = find(&hub, &name, id).await?;
    let body = match tokio::fs::File::open(loads::rejects_path(&hub, model.id)).await {
        // What a step under way has written is not committed yet.
        Ok(file) => {
            let committed = file.take(model.rejects_bytes as u64);
            let parts = futures::stream::try_unfold(committed, |mut file| async move {
                let mut part = vec![0; 1 << 16];
                let n = file.read(&mut part).await?;
                part.truncate(n);
                Ok::<_, std::io::Error>((n > 0).then_some((part, file)))
            });
            Body::from_stream(parts.fuse())
        }
        Err(_) => Body::empty(),
    };
    Ok(([(header::CONTENT_TYPE, "application/jsonl")], body).into_response())
}
