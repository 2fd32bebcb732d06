//! Which collections this node has, and which indexes are being worked on.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::measure::sightings::Watcher;
use crate::node::database::Silence;
use crate::node::folder::DataFolder;
use crate::node::jobs::Jobs;
use crate::node::memory::{Held, Memory};
use crate::node::turns::Turns;
use crate::problem::{Kind, Problem, Result};
use parking_lot::{Mutex, RwLock};
use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;
use zesty_catalog::Catalog;

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
    /// Live searches are noted here.
    pub watcher: Watcher,
    /// When this node last read what others wrote.
    pub followed: Mutex<Option<Instant>>,
    /// Measurements wait here for each other.
    pub turns: Turns,
    pub(super) live: RwLock<BTreeMap<String, Arc<Live>>>,
    /// Collections that cannot be opened, and why.
    pub(super) closed: RwLock<BTreeMap<String, String>>,
    /// Held while the set of collections changes.
    pub(super) changing: tokio::sync::Mutex<()>,
    /// Indexes that a job of this node works on.
    claimed: Arc<Mutex<HashSet<i64>>>,
    /// Whether rows of what was deleted are being cleared now.
    clearing: Arc<AtomicBool>,
}

/// The right to work on an index; one job has it at a time.
pub struct Claim {
    index: i64,
    claimed: Arc<Mutex<HashSet<i64>>>,
}

impl Drop for Claim {
    fn drop(&mut self) {
        self.claimed.lock().remove(&self.index);
    }
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
}

impl Registry {
    /// A registry without collections; following the database fills it.
    pub fn new(parts: Parts) -> Registry {
        let Parts { catalog, silence, jobs, node, folder, threads, memory_budget } = parts;
        Registry {
            catalog,
            silence,
            jobs,
            node,
            folder,
            threads,
            memory: Memory::new(memory_budget),
            watcher: Watcher::default(),
            followed: Mutex::default(),
            turns: Turns::default(),
            live: RwLock::default(),
            closed: RwLock::default(),
            changing: tokio::sync::Mutex::default(),
            claimed: Arc::default(),
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
        if let Some(found) = live.get(name) {
            return Ok(found.clone());
        }
        if let Some(why) = self.closed.read().get(name) {
            let detail = format!("collection \"{name}\" cannot be opened on this node: {why}");
            return Err(Problem::new(Kind::Closed, detail));
        }
        let known = live.keys().map(String::as_str).filter(|known| grant.covers(known));
        Err(Problem::unknown("collection", name, known))
    }

    /// The right to work on an index, unless a job has it.
    pub fn claim(&self, index: i64) -> Option<Claim> {
        let claimed = self.claimed.clone();
        self.claimed.lock().insert(index).then_some(Claim { index, claimed })
    }

    pub fn is_claimed(&self, index: i64) -> bool {
        self.claimed.lock().contains(&index)
    }

    /// A collection that a job works on, by the id that it had when the job began.
    pub fn get(&self, id: i64) -> Result<Arc<Live>> {
        self.by_id(id).ok_or_else(|| Problem::new(Kind::Unknown, "the collection is gone: it was deleted"))
    }

    /// What is in memory now.
    pub fn held(&self) -> Held {
        let mut held = Held::default();
        for live in self.all() {
            let indexes = live.kept.indexes.load();
            let attached = indexes.iter().filter_map(|i| i.attached.as_ref());
            for attached in attached {
                held.collections += attached.n_bytes_held() as u64;
                held.indexes += attached.index.n_bytes_memory() as u64;
            }
            held.collections += live.table.load().n_bytes() as u64;
        }
        held
    }

    pub fn all(&self) -> Vec<Arc<Live>> {
        self.live.read().values().cloned().collect()
    }

    pub fn by_id(&self, id: i64) -> Option<Arc<Live>> {
        self.live.read().values().find(|l| l.id == id).cloned()
    }

    pub fn place(&self, live: Arc<Live>) {
        self.live.write().insert(live.name.clone(), live);
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
