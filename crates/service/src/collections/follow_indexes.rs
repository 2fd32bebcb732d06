//! Following which indexes there are and what serves, as the catalogue has it: this node's copies are attached from
//! their files, or built.

use crate::collections::building::Purpose;
use crate::collections::index_files;
use crate::collections::live::{Followed, Live, LiveIndex, Serving};
use crate::collections::registry::Registry;
use crate::search::saved::template::Template;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use zesty_catalog::{CatalogError, index};

impl Live {
    /// Reads which indexes there are and what serves each column, and makes this node's copies follow.
    pub async fn follow_choices(self: &Arc<Self>, registry: &Arc<Registry>) -> Result<(), CatalogError> {
        let _describing = self.kept.describing.lock().await;
        let changes = self.kept.changes.load(Ordering::Relaxed);
        let choices = registry.catalog.choices(self.id).await?;
        let known = self.kept.indexes.load_full();
        for gone in known.iter().filter(|k| !choices.indexes.iter().any(|m| m.id == k.model.id)) {
            if let Some(job) = registry.jobs.running(&self.name, &gone.model.name) {
                job.progress.cancel();
            }
            self.forget_index(gone.model.id);
            registry.folder.remove_index(gone.model.id);
        }
        for model in choices.indexes {
            if self.position_of(model.column_id).is_some() {
                let known = known.iter().find(|k| k.model.id == model.id);
                self.follow_index(registry, model, known).await;
            }
        }
        let serving = choices.serving.into_iter().filter_map(|s| {
            let choice = s.choice?;
            match serde_json::from_value::<Serving>(choice) {
                Ok(serving) => Some((s.column, serving)),
                Err(e) => {
                    tracing::warn!(collection = self.name, "a serving choice cannot be read: {e}");
                    None
                }
            }
        });
        let serving = serving.collect();
        let watch = choices.watch.and_then(|spec| serde_json::from_value(spec).ok()).unwrap_or_default();
        let saved = choices.saved.into_iter().filter_map(|s| {
            let definition = serde_json::from_value(s.definition).map_err(|e| e.to_string());
            let read = definition.and_then(|d| Template::read(&s.name, s.version, d).map_err(|p| p.detail));
            read.map(|template| (s.name.clone(), Arc::new(template)))
                .inspect_err(|e| {
                    tracing::warn!(
                        collection = self.name,
                        saved = s.name,
                        "a saved search cannot be read: {e}"
                    )
                })
                .ok()
        });
        let read = Followed { serving, targets: choices.targets, watch, saved: saved.collect() };
        // What was read too early is read again.
        if self.follow_kept(read, changes) {
            self.kept.choices.store(choices.version, Ordering::Relaxed);
        }
        Ok(())
    }

    async fn follow_index(
        self: &Arc<Self>,
        registry: &Arc<Registry>,
        model: index::Model,
        known: Option<&Arc<LiveIndex>>,
    ) {
        if registry.claims.has(model.id)
            || known.is_some_and(|k| k.attached.is_some() && model.state != "unloaded")
        {
            return;
        }
        // What failed here is tried again when somebody asks for it, or at the next start.
        let failed_here = known
            .is_some_and(|k| (k.model.state == "failed" || k.is_unloaded_here()) && model.state == "ready");
        match model.state.as_str() {
            "ready" if failed_here => {}
            "ready" => self.attach_file(registry, model).await,
            "building" if known.is_none() && (model.node == registry.node || model.node.is_empty()) => {
                let why = "the service stopped while it was built; building again".to_owned();
                self.rebuild(registry, model, Purpose::First, why).await;
            }
            // Another node builds it, or it failed there.
            _ => self.set_index(LiveIndex { model, attached: None }),
        }
    }

    /// Takes over builds whose node is gone.
    pub async fn take_over_builds(self: &Arc<Self>, registry: &Arc<Registry>) -> Result<(), CatalogError> {
        for index in self.kept.indexes.load_full().iter() {
            let model = &index.model;
            let elsewhere =
                model.state == "building" && model.node != registry.node && !registry.claims.has(model.id);
            if elsewhere && registry.catalog.take_over_build(model.id, &registry.node).await? {
                let why = format!("node {} is gone; building here", model.node);
                let model = index::Model { node: registry.node.clone(), ..model.clone() };
                self.rebuild(registry, model, Purpose::First, why).await;
            }
        }
        Ok(())
    }

    /// Attaches an index from its file. A file that is lost, damaged, of another version or of another index is said
    /// so and made again; searches are exact until then.
    pub(super) async fn attach_file(self: &Arc<Self>, registry: &Arc<Registry>, model: index::Model) {
        let (path, of, pages) = (registry.folder.index(model.id), model.clone(), registry.pages.clone());
        let opened = tokio::task::spawn_blocking(move || index_files::open(&path, &of, &pages)).await;
        let trouble = match opened {
            Ok(Ok(index)) => match self.attach(registry, index, model.clone()).await {
                Ok(()) => return,
                Err(trouble) => trouble,
            },
            Ok(Err(trouble)) => trouble,
            Err(stopped) => stopped.to_string(),
        };
        self.rebuild(registry, model, Purpose::Copy, format!("{trouble}; rebuilding")).await;
    }

    /// Attaches indexes again that speak of rows as they were numbered before.
    pub async fn attach_again(self: &Arc<Self>, registry: &Arc<Registry>) {
        for old in self.kept.indexes.load_full().iter() {
            let Some(attached) = old.attached.as_ref().filter(|a| !a.fits(&self.table.load())) else {
                continue;
            };
            if let Err(trouble) = self.attach(registry, attached.index.clone(), old.model.clone()).await {
                self.rebuild(registry, old.model.clone(), Purpose::Copy, format!("{trouble}; rebuilding"))
                    .await;
            }
        }
    }

    /// Indexes with many newer rows: a quarter of their rows, or a twentieth once writing has paused.
    pub fn stale(&self, paused: bool) -> Vec<Arc<LiveIndex>> {
        let table = self.table.load();
        let all = self.kept.indexes.load();
        let is_stale = |index: &&Arc<LiveIndex>| {
            let (Some(attached), Some(column)) = (&index.attached, self.position(index)) else {
                return false;
            };
            if !attached.fits(&table) {
                return false;
            }
            let changed = attached.uncovered(&table, column).count_ones(..) + attached.n_dead(&table);
            let nodes = attached.index.len();
            changed >= 256 && changed >= nodes / if paused { 20 } else { 4 }
        };
        all.iter().filter(is_stale).cloned().collect()
    }

    /// Drops an index on all nodes, and the serving choices that name it.
    pub async fn drop_index(&self, registry: &Registry, name: &str) -> crate::problem::Result<()> {
        // Nobody takes an older reading of the database for the truth meanwhile.
        let _describing = self.kept.describing.lock().await;
        let index = self.index(name)?;
        registry.catalog.remove_index(&index.model).await?;
        self.edit_serving(|all| all.retain(|_, s| s.index != name));
        self.forget_index(index.model.id);
        // Searches that hold the index keep its mapped file until they end.
        registry.folder.remove_index(index.model.id);
        Ok(())
    }
}
