//! Collections dropped and restored, renamed, swapped and cloned.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::collections::view;
use crate::names::check_name;
use crate::node::jobs::{Job, Stop};
use crate::problem::{Kind, Problem, Result};
use chrono::{DateTime, TimeDelta, Utc};
use serde_json::json;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use zesty_catalog::{CatalogError, collection};
use zesty_wire as wire;

/// How often the last step of a clone is tried again because writers came between.
const TRIES: usize = 5;

/// Takes a collection away. It can be restored for a while.
pub async fn drop_it(
    grant: &Grant,
    registry: &Arc<Registry>,
    collection: &str,
) -> Result<wire::DroppedCollection> {
    let live = registry.collection(grant, Scope::Manage, collection)?;
    for other in registry.all().iter().filter(|o| o.id != live.id) {
        let table = other.table.load();
        let refers = |to: &Option<String>| to.as_deref() == Some(collection);
        if let Some(field) = table.schema().fields.iter().find(|f| refers(&f.refers_to)) {
            let detail = format!(
                "field \"{}\" of \"{}\" refers to \"{collection}\"; remove the reference or drop that collection first",
                field.name, other.name
            );
            return Err(Problem::new(Kind::StillUsed, detail));
        }
    }
    registry.drop_collection(&live, grant.name()).await?;
    let all = dropped_now(registry).await?;
    let found = all.into_iter().find(|d| d.id == live.id);
    found.ok_or_else(|| Problem::unknown("dropped collection", collection, []))
}

async fn dropped_now(registry: &Registry) -> Result<Vec<wire::DroppedCollection>> {
    let view = |m: collection::Model| {
        let dropped_at = m.hidden_at.unwrap_or_else(Utc::now);
        wire::DroppedCollection {
            id: m.id,
            name: m.own_name.unwrap_or(m.name),
            description: m.description,
            revision: m.revision as u64,
            dropped_at,
            dropped_by: m.hidden_by.unwrap_or_default(),
            restorable_until: dropped_at + TimeDelta::days(registry.restore_days.into()),
        }
    };
    Ok(registry.catalog.dropped().await?.into_iter().map(view).collect())
}

/// Collections that can be restored, the last dropped first.
pub async fn dropped(grant: &Grant, registry: &Registry) -> Result<wire::DroppedList> {
    grant.require(Scope::Manage, None)?;
    Ok(wire::DroppedList { dropped: dropped_now(registry).await? })
}

/// A dropped collection by its id.
async fn one_dropped(registry: &Registry, id: i64) -> Result<wire::DroppedCollection> {
    let all = dropped_now(registry).await?;
    let known: Vec<String> = all.iter().map(|d| d.id.to_string()).collect();
    let unknown =
        || Problem::unknown("dropped collection", &id.to_string(), known.iter().map(String::as_str));
    all.into_iter().find(|d| d.id == id).ok_or_else(unknown)
}

/// Brings a dropped collection back, under its own name or another.
pub async fn restore(
    grant: &Grant,
    registry: &Arc<Registry>,
    id: i64,
    request: wire::RestoreRequest,
) -> Result<wire::Collection> {
    grant.require(Scope::Manage, None)?;
    let known = one_dropped(registry, id).await?;
    let name = request.name.unwrap_or(known.name);
    check_name("collection", &name, "/name")?;
    Ok(view::collection(&*registry.restore(id, &name).await.map_err(|p| match p.kind {
        Kind::NameTaken => {
            Problem { detail: format!("{}; restore it under another name", p.detail), ..p }.at("/name")
        }
        _ => p,
    })?))
}

/// Deletes a dropped collection for good.
pub async fn purge(grant: &Grant, registry: &Registry, id: i64) -> Result<()> {
    grant.require(Scope::Manage, None)?;
    one_dropped(registry, id).await?;
    registry.catalog.delete_collection(id).await?;
    registry.clear_later();
    Ok(())
}

/// Refuses while a job that knows the collection by its name runs.
async fn require_idle(registry: &Registry, collection: &str) -> Result<()> {
    let running = registry.catalog.working_on(collection).await?;
    let Some(job) = running.first() else { return Ok(()) };
    let detail = format!(
        "job {} ({} {}) works on \"{collection}\"; wait until it ends, or cancel it",
        job.id, job.kind, job.subject
    );
    Err(Problem::new(Kind::StillUsed, detail))
}

/// Gives a collection another name. Fields that refer to it, keys, jobs and loads go with it.
pub async fn rename(
    grant: &Grant,
    registry: &Arc<Registry>,
    collection: &str,
    request: wire::RenameRequest,
) -> Result<wire::Collection> {
    grant.require(Scope::Manage, None)?;
    let live = registry.collection(grant, Scope::Manage, collection)?;
    check_name("collection", &request.name, "/name")?;
    if request.name == collection {
        return Ok(view::collection(&live));
    }
    require_idle(registry, collection).await?;
    let renamed = registry.rename(&live, &request.name).await.map_err(|p| match p.kind {
        Kind::NameTaken => p.at("/name"),
        _ => p,
    })?;
    Ok(view::collection(&renamed))
}

/// Two collections take each other's names: requests go from one to the other between two of them. Keys, saved searches
/// that applications ask, and fields that refer to them keep to the names.
pub async fn swap(
    grant: &Grant,
    registry: &Arc<Registry>,
    collection: &str,
    request: wire::SwapRequest,
) -> Result<wire::CollectionList> {
    grant.require(Scope::Manage, None)?;
    let a = registry.collection(grant, Scope::Manage, collection)?;
    let b = registry.collection(grant, Scope::Manage, &request.with).map_err(|p| p.at("/with"))?;
    if a.id == b.id {
        let detail = format!("\"{collection}\" cannot be swapped with itself");
        return Err(Problem::new(Kind::WrongShape, detail).at("/with"));
    }
    if !request.anyway {
        let (of_a, of_b) = (a.kept.saved.load(), b.kept.saved.load());
        let missing: Vec<&str> = of_a.keys().filter(|n| !of_b.contains_key(*n)).map(String::as_str).collect();
        if !missing.is_empty() {
            let detail = format!(
                "\"{}\" has no live saved search {}, which \"{collection}\" answers: applications that ask it would be \
                 refused; save it there, or say anyway",
                request.with,
                missing.join(", ")
            );
            return Err(Problem::new(Kind::StillUsed, detail).at("/with"));
        }
    }
    require_idle(registry, collection).await?;
    require_idle(registry, &request.with).await?;
    let (a, b) = registry.swap((&a, &b)).await?;
    Ok(wire::CollectionList { collections: vec![view::collection(&a), view::collection(&b)] })
}

/// Copies a collection under a new name, as a job.
pub async fn clone(
    grant: &Grant,
    registry: &Arc<Registry>,
    collection: &str,
    request: wire::CloneRequest,
) -> Result<wire::Job> {
    grant.require(Scope::Manage, None)?;
    let live = registry.collection(grant, Scope::Manage, collection)?;
    check_name("collection", &request.name, "/name")?;
    // Names are taken now, not after a long copy.
    let cloning = registry.catalog.begin_clone(&live.collection, &request.name, &registry.node).await;
    let cloning = cloning.map_err(|e| match e {
        CatalogError::Exists { .. } => Problem::from(e).at("/name"),
        e => Problem::from(e),
    })?;
    let (of, to, name) = (registry.clone(), cloning.to, request.name.clone());
    let started = registry
        .jobs
        .start("clone", collection, &name, |job| async move {
            let copied = copy(&of, cloning, request, &job).await;
            if copied.is_err()
                && let Err(e) = of.catalog.delete_collection(to).await
            {
                job.say(format!("what was copied is cleared later: {e}"));
            }
            of.clear_later();
            copied
        })
        .await;
    match started {
        Ok(job) => Ok(job.view()),
        Err(problem) => {
            let _ = registry.catalog.delete_collection(to).await;
            Err(problem)
        }
    }
}

async fn copy(
    registry: &Arc<Registry>,
    cloning: zesty_catalog::Cloning,
    request: wire::CloneRequest,
    job: &Arc<Job>,
) -> Result<serde_json::Value, Stop> {
    let progress = &job.progress;
    progress.total.store(cloning.numbers as usize, Ordering::Relaxed);
    let mut at = Some(0);
    while let Some(from) = at {
        if progress.is_cancelled() {
            return Err(Stop::Cancelled);
        }
        at = registry.catalog.clone_step(&cloning, from).await?;
        progress.done.store(at.unwrap_or(cloning.numbers as i64) as usize, Ordering::Relaxed);
    }
    let collection = registry.catalog.finish_clone(cloning, !request.without_indexes).await;
    let collection = collection.map_err(|e| match e {
        CatalogError::Reshaped { .. } => {
            Stop::Failed("fields or columns changed while it was copied; start again".into())
        }
        e => e.into(),
    })?;
    let mut tries = 0;
    // The follower opens it too, whoever is first.
    while registry.by_id(collection.about.id).is_none() && tries < TRIES {
        registry.catch_up().await?;
        tries += 1;
    }
    let live = registry.get(collection.about.id)?;
    let n_records = live.table.load().n_records();
    job.say(format!("{} holds {n_records} records, at revision {}", live.name, collection.about.revision));
    if !live.kept.indexes.load().is_empty() {
        job.say("its indexes are built now, each as a job; searches of it are exact until then");
    }
    Ok(json!({"collection": live.name, "n_records": n_records}))
}

impl Registry {
    async fn drop_collection(self: &Arc<Self>, live: &Live, by: &str) -> Result<()> {
        let _changing = self.changing.lock().await;
        self.jobs.cancel_for(&live.name);
        match self.catalog.drop_collection(live.id, by).await {
            Err(CatalogError::Missing { .. }) => {}
            dropped => dropped?,
        }
        self.forget(live);
        Ok(())
    }

    async fn restore(self: &Arc<Self>, id: i64, name: &str) -> Result<Arc<Live>> {
        let _changing = self.changing.lock().await;
        let collection = self.catalog.restore_collection(id, name).await?;
        if self.by_id(id).is_none() {
            self.open(collection).await?;
        }
        self.get(id)
    }

    async fn rename(self: &Arc<Self>, live: &Live, to: &str) -> Result<Arc<Live>> {
        let _changing = self.changing.lock().await;
        self.catalog.rename_collection(live.id, to).await?;
        self.call(&[(live.id, to)]);
        for other in self.all() {
            let refers = |f: &zesty_engine::schema::Field| f.refers_to.as_deref() == Some(live.name.as_str());
            if other.id != live.id && other.table.load().schema().fields.iter().any(refers) {
                self.refresh_locked(other.id).await?;
            }
        }
        self.renamed(live.id).await
    }

    async fn swap(self: &Arc<Self>, (a, b): (&Live, &Live)) -> Result<(Arc<Live>, Arc<Live>)> {
        let _changing = self.changing.lock().await;
        self.catalog.swap_collections((a.id, b.id)).await?;
        // What the names are now says the database: they may have changed since.
        self.take_names().await?;
        Ok((self.renamed(b.id).await?, self.renamed(a.id).await?))
    }

    /// A collection that knows its new name; `changing` is held.
    async fn renamed(self: &Arc<Self>, id: i64) -> Result<Arc<Live>> {
        match self.refresh_locked(id).await? {
            Some(live) => Ok(live),
            None => self.get(id),
        }
    }

    /// Deletes for good what was dropped long ago.
    pub async fn purge_old(&self) -> Result<(), CatalogError> {
        let before: DateTime<Utc> = Utc::now() - TimeDelta::days(self.restore_days.into());
        let purged = self.catalog.purge_hidden(before, None).await?;
        if purged > 0 {
            tracing::info!("{purged} dropped collections are deleted for good");
            self.clear_later();
        }
        Ok(())
    }
}
