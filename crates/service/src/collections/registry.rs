//! Which collections this node has, and which indexes are being worked on.

use crate::access::grant::{Grant, Scope};
use crate::collections::claims::Claims;
use crate::collections::live::Live;
use crate::measure::sightings::Watcher;
use crate::node::database::Silence;
use crate::node::folder::DataFolder;
use crate::node::jobs::Jobs;
use crate::node::memory::{Held, Memory};
use crate::node::turns::Turns;
use crate::problem::{Kind, Problem, Result};
use parking_lot::{Mutex, RwLock};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;
use zesty_catalog::{Catalog, CatalogError, Version};
use zesty_engine::large_pages::LargePages;

/// The collections that are open. A name belongs to one of them, and can go to another: between two requests.
#[derive(Default)]
struct Known {
    by_id: BTreeMap<i64, Arc<Live>>,
    ids: BTreeMap<String, i64>,
}

/// The collections that this node has, by name.
pub struct Registry {
    pub catalog: Catalog,
    pub silence: Silence,
    pub jobs: Arc<Jobs>,
    /// This node's own name.
    pub node: String,
    pub folder: DataFolder,
    /// Threads that a build may take.
    pub threads: usize,
    /// What collections, indexes, builds and absorbs may take together.
    pub memory: Memory,
    /// Where copies of what walks read at random lie, as far as there is room.
    pub pages: LargePages,
    /// Live searches are noted here.
    pub watcher: Watcher,
    /// When this node last read what others wrote.
    pub followed: Mutex<Option<Instant>>,
    /// Measurements wait here for each other.
    pub turns: Turns,
    /// Days for which a dropped collection can be restored.
    pub restore_days: u32,
    live: RwLock<Known>,
    /// Collections that cannot be opened, and why.
    pub(super) closed: RwLock<BTreeMap<String, String>>,
    /// Held while the set of collections changes.
    pub(super) changing: tokio::sync::Mutex<()>,
    /// Indexes that a job of this node works on.
    pub claims: Claims,
    /// Whether rows of what was deleted are being cleared now.
    clearing: Arc<AtomicBool>,
}

/// What a registry is made of.
pub struct Parts {
    pub catalog: Catalog,
    pub silence: Silence,
    pub jobs: Arc<Jobs>,
    pub node: String,
    pub folder: DataFolder,
    pub threads: usize,
    pub memory_budget: Option<u64>,
    pub large_pages: usize,
    pub restore_days: u32,
}

impl Registry {
    /// A registry without collections; following the database fills it.
    pub fn new(parts: Parts) -> Registry {
        let Parts { catalog, silence, jobs, node, folder, threads, memory_budget, large_pages, restore_days } =
            parts;
        Registry {
            catalog,
            silence,
            jobs,
            node,
            folder,
            threads,
            memory: Memory::new(memory_budget),
            pages: LargePages::new(large_pages),
            watcher: Watcher::default(),
            followed: Mutex::default(),
            turns: Turns::default(),
            restore_days,
            live: RwLock::default(),
            closed: RwLock::default(),
            changing: tokio::sync::Mutex::default(),
            claims: Claims::default(),
            clearing: Arc::default(),
        }
    }

    /// A collection by name, for what `grant` may do with all of it.
    pub fn collection(&self, grant: &Grant, scope: Scope, name: &str) -> Result<Arc<Live>> {
        let live = self.find(grant, scope, name)?;
        grant.require_wide()?;
        Ok(live)
    }

    /// A collection by name, if `grant` has the scope over it. What is seen of it is up to the caller.
    pub(super) fn find(&self, grant: &Grant, scope: Scope, name: &str) -> Result<Arc<Live>> {
        grant.require(scope, Some(name))?;
        let live = self.live.read();
        if let Some(found) = live.ids.get(name).and_then(|id| live.by_id.get(id)) {
            return Ok(found.clone());
        }
        if let Some(why) = self.closed.read().get(name) {
            let detail = format!("collection \"{name}\" cannot be opened on this node: {why}");
            return Err(Problem::new(Kind::Closed, detail));
        }
        let known = live.ids.keys().map(String::as_str).filter(|known| grant.covers(known));
        Err(Problem::unknown("collection", name, known))
    }

    /// A collection that a job works on, by the id that it had when the job began.
    pub fn get(&self, id: i64) -> Result<Arc<Live>> {
        self.by_id(id).ok_or_else(|| Problem::new(Kind::Unknown, "the collection is gone: it was deleted"))
    }

    /// Collections that cannot be opened here, and why.
    pub fn closed(&self) -> Vec<(String, String)> {
        self.closed.read().iter().map(|(name, why)| (name.clone(), why.clone())).collect()
    }

    /// What is in memory now.
    pub fn held(&self) -> Held {
        let mut held = Held::default();
        for live in self.all() {
            live.kept.indexes.load().iter().for_each(|index| held += index.held());
            held.collections += live.table.load().n_bytes() as u64;
        }
        held
    }

    /// All of them, by name.
    pub fn all(&self) -> Vec<Arc<Live>> {
        let live = self.live.read();
        live.ids.values().filter_map(|id| live.by_id.get(id)).cloned().collect()
    }

    pub fn by_id(&self, id: i64) -> Option<Arc<Live>> {
        self.live.read().by_id.get(&id).cloned()
    }

    /// Puts a collection where requests find it. One that is there already keeps the name that it goes by.
    pub fn place(&self, live: Arc<Live>) {
        let mut known = self.live.write();
        if !known.by_id.contains_key(&live.id) {
            known.ids.insert(live.name.clone(), live.id);
        }
        known.by_id.insert(live.id, live);
    }

    /// What collections that are open are called from now on, all of them at once; `changing` is held.
    pub(super) fn call(&self, names: &[(i64, &str)]) {
        let mut known = self.live.write();
        let named = |id: &i64| names.iter().any(|(n, _)| n == id);
        known.ids.retain(|_, id| !named(id));
        for (id, name) in names {
            if known.by_id.contains_key(id) {
                known.ids.insert((*name).to_owned(), *id);
            }
        }
    }

    /// Whether collections that are open go by other names here.
    pub(super) fn is_misnamed(&self, versions: &[Version]) -> bool {
        let known = self.live.read();
        versions.iter().any(|v| known.by_id.contains_key(&v.id) && known.ids.get(&v.name) != Some(&v.id))
    }

    /// Reads what collections are called; `changing` is held.
    pub(super) async fn take_names(&self) -> Result<(), CatalogError> {
        let versions = self.catalog.versions().await?;
        let names: Vec<(i64, &str)> = versions.iter().map(|v| (v.id, v.name.as_str())).collect();
        self.call(&names);
        Ok(())
    }

    /// Closes a collection that is gone, with this node's files of it.
    pub(super) fn forget(&self, live: &Live) {
        {
            let mut known = self.live.write();
            known.by_id.remove(&live.id);
            known.ids.retain(|_, id| *id != live.id);
        }
        live.kept.indexes.load().iter().for_each(|i| self.folder.remove_index(i.model.id));
        self.folder.remove_segments(live.id);
    }

    /// Clears what belongs to nothing any more, in the background.
    pub fn clear_later(&self) {
        let (catalog, clearing) = (self.catalog.clone(), self.clearing.clone());
        if clearing.swap(true, Ordering::Relaxed) {
            return;
        }
        tokio::spawn(async move {
            if let Err(e) = catalog.clear_discarded().await {
                tracing::warn!("rows of what was deleted are cleared later: {e}");
            }
            clearing.store(false, Ordering::Relaxed);
        });
    }
}
