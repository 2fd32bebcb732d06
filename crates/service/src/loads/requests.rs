//! What callers ask of loads: started, shown, resumed, and their rejects read.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::loads::run::{LoadTools, start};
use crate::loads::spec::{kept, open, plan};
use crate::node::threads::blocking;
use crate::problem::{Kind, Problem, Result};
use std::sync::Arc;
use tokio::io::{AsyncRead, AsyncReadExt};
use zesty_catalog::load;
use zesty_files::{LoadSources, Rows};
use zesty_wire as wire;

fn view(m: load::Model) -> wire::Load {
    let files = serde_json::from_value(m.spec["names"].clone()).unwrap_or_default();
    wire::Load {
        id: m.id,
        collection: m.collection,
        state: m.state,
        error: m.error,
        job: m.job_id,
        spec: m.spec["input"].clone(),
        files,
        read: m.position as u64,
        new: m.n_new as u64,
        replaced: m.n_replaced as u64,
        unchanged: m.n_unchanged as u64,
        rejected: m.n_rejected as u64,
        unencoded: m.n_unencoded as u64,
        created_at: m.created_at,
        finished_at: m.finished_at,
    }
}

async fn opened(live: &Arc<Live>, sources: LoadSources) -> Result<Rows> {
    let live = live.clone();
    blocking(move || open(&live, &sources)).await
}

/// Starts a load as a job. A file that is wrong as a whole refuses it before a record is written.
pub async fn create(
    grant: &Grant,
    tools: &LoadTools,
    collection: &str,
    request: wire::LoadRequest,
) -> Result<wire::StartedLoad> {
    let registry = &tools.registry;
    let live = registry.collection(grant, Scope::Write, collection)?;
    let rows = opened(&live, plan(&request, &tools.uploads, &live)?).await?;
    let table = live.table.load_full();
    let (before, revision) = (table.n_records() as u64, table.revision());
    let spec = kept(&request, &tools.uploads);
    let model = registry.catalog.add_load(live.id, &live.name, &registry.node, spec, before).await?;
    let load = model.id;
    let job = start(grant, tools, model, request, rows, Some(revision)).await?;
    Ok(wire::StartedLoad { load, job: job.view() })
}

/// The newest loads of a collection, at most 50.
pub async fn list(grant: &Grant, registry: &Registry, collection: &str) -> Result<wire::LoadList> {
    let live = registry.collection(grant, Scope::Write, collection)?;
    let all = registry.catalog.loads(Some(live.id), 50).await?;
    Ok(wire::LoadList { loads: all.into_iter().map(view).collect() })
}

async fn find(
    grant: &Grant,
    registry: &Registry,
    collection: &str,
    id: i64,
) -> Result<(Arc<Live>, load::Model)> {
    let live = registry.collection(grant, Scope::Write, collection)?;
    let model = registry.catalog.load(id).await?.filter(|m| m.collection_id == live.id);
    let model = model.ok_or_else(|| Problem::unknown("load", &id.to_string(), []))?;
    Ok((live, model))
}

pub async fn show(grant: &Grant, registry: &Registry, collection: &str, id: i64) -> Result<wire::Load> {
    Ok(view(find(grant, registry, collection, id).await?.1))
}

/// Lets a load that stopped go on after its last committed batch.
pub async fn resume(
    grant: &Grant,
    tools: &LoadTools,
    collection: &str,
    id: i64,
    resume: wire::ResumeRequest,
) -> Result<wire::StartedLoad> {
    let registry = &tools.registry;
    let (live, model) = find(grant, registry, collection, id).await?;
    let refuse = |detail: String| Err(Problem::new(Kind::NotReady, detail));
    match model.state.as_str() {
        "stopped" | "cancelled" => {}
        "running" => return refuse(format!("load {id} is running, as job {}", model.job_id)),
        state => return refuse(format!("load {id} is {state}; there is nothing left to load")),
    }
    if model.node != registry.node {
        return refuse(format!("the files of load {id} are on node {}; resume it there", model.node));
    }
    let mut request: wire::LoadRequest = serde_json::from_value(model.spec["input"].clone())
        .map_err(|e| Problem::new(Kind::Internal, format!("the load's description cannot be read: {e}")))?;
    request.bad_rows = resume.bad_rows.unwrap_or(request.bad_rows);
    let rows = opened(&live, plan(&request, &tools.uploads, &live)?).await?;
    let job = start(grant, tools, model, request, rows, None).await?;
    Ok(wire::StartedLoad { load: id, job: job.view() })
}

/// The rows that a load set aside, as far as they are committed; `None` when there is no file of them here.
pub async fn rejects(
    grant: &Grant,
    registry: &Registry,
    collection: &str,
    id: i64,
) -> Result<Option<impl AsyncRead + use<>>> {
    let (_, model) = find(grant, registry, collection, id).await?;
    let file = tokio::fs::File::open(registry.folder.rejects(model.id)).await.ok();
    // What a step under way has written is not committed yet.
    Ok(file.map(|file| file.take(model.rejects_bytes as u64)))
}
