//! The node: its live collections, kept equal to the database, and what they share.

use crate::auth::Believed;
use crate::encoders::Encoders;
use crate::jobs::Jobs;
use crate::live::Live;
use crate::loads::LoadInput;
use crate::problem::{Kind, Problem, Result};
use crate::uploads::Uploads;
use parking_lot::RwLock;
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};
use zesty_catalog::{Catalog, CatalogError, Collection, ShapeChange};
use zesty_engine::recipe::{Explanation, Shape};

pub struct Hub {
    pub catalog: Catalog,
    pub encoders: Encoders,
    pub jobs: Arc<Jobs>,
    pub uploads: Uploads,
    pub limits: zesty_files::Limits,
    pub believed: Believed,
    /// This node's own name, kept in its data directory.
    pub node: String,
    pub data: PathBuf,
    /// Threads that a build may take.
    pub threads: usize,
    /// Bytes that collections and indexes may take together.
    pub memory_budget: Option<u64>,
    pub started: Instant,
    live: RwLock<BTreeMap<String, Arc<Live>>>,
    /// Held while the set of collections changes.
    changing: tokio::sync::Mutex<()>,
}

/// Sees to it that indexes do not fall behind.
#[derive(Default)]
struct Absorber {
    /// For each collection its revision at the last turn, and for how many turns it has been that.
    seen: BTreeMap<i64, (u64, u32)>,
    /// For each index the revision that was last tried: what failed is tried again when there is something new.
    tried: BTreeMap<i64, u64>,
}

impl Absorber {
    /// Turns without a write after which writing counts as paused.
    const PAUSE: u32 = 3;

    async fn turn(&mut self, hub: &Arc<Hub>) {
        for live in hub.collections() {
            let revision = live.table.load().revision();
            let (last, turns) = self.seen.entry(live.id).or_insert((revision, 0));
            *turns = if *last == revision { turns.saturating_add(1) } else { 0 };
            *last = revision;
            for index in live.stale(*turns >= Self::PAUSE) {
                let (id, name) = (index.model.id, index.model.name.clone());
                let tried = self.tried.get(&id) == Some(&revision);
                if tried || hub.jobs.running(&live.name, &name).is_some() {
                    continue;
                }
                self.tried.insert(id, revision);
                if let Err(problem) = live.absorb(hub, index).await {
                    tracing::warn!(collection = live.name, index = name, "cannot absorb: {}", problem.detail);
                }
            }
        }
    }
}

impl Hub {
    pub fn new(
        catalog: Catalog,
        node: String,
        data: PathBuf,
        threads: usize,
        memory_budget: Option<u64>,
        limits: zesty_files::Limits,
    ) -> Hub {
        Hub {
            uploads: Uploads::new(data.join("uploads")),
            limits,
            catalog,
            encoders: Encoders::new(),
            jobs: Arc::default(),
            believed: Believed::default(),
            node,
            data,
            threads,
            memory_budget,
            started: Instant::now(),
            live: RwLock::default(),
            changing: tokio::sync::Mutex::default(),
        }
    }

    /// Refuses an index that would not fit the budget, with the arithmetic.
    pub fn check_memory(&self, explanation: &Explanation, shape: Shape) -> Result<()> {
        let Some(budget) = self.memory_budget else { return Ok(()) };
        let held: usize = self
            .collections()
            .iter()
            .map(|live| {
                let indexes = live.kept.indexes.load();
                let attached = indexes.iter().filter_map(|i| i.attached.as_ref());
                let indexes = attached.map(|a| a.index.n_bytes_memory());
                live.table.load().n_bytes() + indexes.sum::<usize>()
            })
            .sum();
        // While it is built, vectors are copied and everything that goes to the file is held.
        let copy = (shape.rows * shape.dimensions * 4) as u64;
        let building = copy + explanation.expected.file_bytes;
        if held as u64 + building <= budget {
            return Ok(());
        }
        let mb = |bytes: u64| bytes.div_ceil(1_000_000);
        let detail = format!(
            "{} would not fit: {} MB are held, building takes {} MB for a copy of the vectors and {} MB for the index \
             ({} MB of it stay in memory), and the budget is {} MB; choose a smaller store, drop an index, or raise \
             --memory-mb",
            explanation.recipe,
            mb(held as u64),
            mb(copy),
            mb(explanation.expected.file_bytes),
            mb(explanation.expected.memory_bytes),
            mb(budget)
        );
        Err(Problem::new(Kind::NoMemory, detail).at("/recipe"))
    }

    pub fn collection(&self, name: &str) -> Result<Arc<Live>> {
        let live = self.live.read();
        live.get(name)
            .cloned()
            .ok_or_else(|| Problem::unknown("collection", name, live.keys().map(String::as_str)))
    }

    pub fn collections(&self) -> Vec<Arc<Live>> {
        self.live.read().values().cloned().collect()
    }

    pub fn index_path(&self, id: i64) -> PathBuf {
        self.data.join("indexes").join(format!("{id}.safetensors"))
    }

    /// Brings this node level with the database: new collections are opened, gone ones dropped,
    /// changed ones followed.
    pub async fn catch_up(self: &Arc<Self>) -> Result<(), CatalogError> {
        let revisions = self.catalog.revisions().await?;
        let known = self.collections();
        let strange = revisions.iter().any(|(id, ..)| !known.iter().any(|l| l.id == *id));
        let gone = known.iter().any(|l| !revisions.iter().any(|(id, ..)| *id == l.id));
        if strange || gone {
            let _changing = self.changing.lock().await;
            let all = self.catalog.collections().await?;
            self.live.write().retain(|_, l| all.iter().any(|c| c.about.id == l.id));
            for collection in all {
                self.open(collection).await?;
            }
        }
        for (id, revision, shape) in revisions {
            let Some(live) = self.by_id(id) else { continue };
            if shape > live.shape() {
                let _changing = self.changing.lock().await;
                // Whoever held the lock may have done it.
                if let Some(live) = self.by_id(id).filter(|l| shape > l.shape()) {
                    let collection = self.catalog.collection(id).await?;
                    live.reshaped(&self.catalog, collection, |next| self.place(next)).await?;
                }
            }
            if let Some(live) = self.by_id(id)
                && revision as u64 > live.table.load().revision()
            {
                live.follow(&self.catalog).await?;
            }
        }
        Ok(())
    }

    fn by_id(&self, id: i64) -> Option<Arc<Live>> {
        self.live.read().values().find(|l| l.id == id).cloned()
    }

    fn place(&self, live: Arc<Live>) {
        self.live.write().insert(live.name.clone(), live);
    }

    /// Changes what a collection is made of, in the database and here.
    pub async fn reshape(self: &Arc<Self>, name: &str, change: ShapeChange) -> Result<Arc<Live>> {
        let _changing = self.changing.lock().await;
        let live = self.collection(name)?;
        let dropped: Vec<i64> = match &change {
            ShapeChange::DropColumn(column) => {
                let indexes = live.kept.indexes.load();
                indexes.iter().filter(|i| i.model.column_id == *column).map(|i| i.model.id).collect()
            }
            _ => Vec::new(),
        };
        let collection = self.catalog.change_shape(live.id, change).await?;
        let next = live.reshaped(&self.catalog, collection, |next| self.place(next)).await?;
        for index in dropped {
            let _ = std::fs::remove_file(self.index_path(index));
        }
        Ok(next)
    }

    async fn open(self: &Arc<Self>, collection: Collection) -> Result<(), CatalogError> {
        if self.live.read().contains_key(&collection.about.name) {
            return Ok(());
        }
        let live = Live::open(self, collection).await?;
        self.live.write().insert(live.name.clone(), live);
        Ok(())
    }

    pub async fn create(self: &Arc<Self>, new: zesty_catalog::NewCollection) -> Result<Arc<Live>> {
        let _changing = self.changing.lock().await;
        let collection = self.catalog.create_collection(new).await?;
        let name = collection.about.name.clone();
        self.open(collection).await?;
        self.collection(&name)
    }

    pub async fn delete(self: &Arc<Self>, live: &Live) -> Result<()> {
        let _changing = self.changing.lock().await;
        self.jobs.cancel_for(&live.name);
        self.catalog.delete_collection(live.id).await?;
        self.live.write().remove(&live.name);
        for index in live.kept.indexes.load().iter() {
            let _ = std::fs::remove_file(self.index_path(index.model.id));
        }
        self.clear_later();
        Ok(())
    }

    /// Clears what belongs to nothing any more, in the background.
    pub fn clear_later(&self) {
        let catalog = self.catalog.clone();
        tokio::spawn(async move {
            if let Err(e) = catalog.clear_orphans().await {
                tracing::warn!("rows of what was deleted are cleared at the next start: {e}");
            }
        });
    }

    /// Clears uploaded files that are old and belong to no load that could go on.
    pub async fn clear_uploads(&self) -> Result<(), CatalogError> {
        let loads = self.catalog.loads(None, 1000).await?;
        let wanted = loads.iter().filter(|l| l.state != "done").filter_map(|l| {
            let input: LoadInput = serde_json::from_value(l.spec["input"].clone()).ok()?;
            Some(input.files().cloned().collect::<Vec<_>>())
        });
        self.uploads.clear(&wanted.flatten().collect());
        Ok(())
    }

    /// Follows what other nodes write, for as long as the service runs.
    pub async fn keep_up(self: Arc<Self>) {
        let mut tick = tokio::time::interval(Duration::from_secs(1));
        tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let mut silent = false;
        let mut absorber = Absorber::default();
        loop {
            tick.tick().await;
            match self.catch_up().await {
                Ok(()) => {
                    absorber.turn(&self).await;
                    if std::mem::take(&mut silent) {
                        tracing::info!("the database answers again");
                    }
                }
                Err(e) => {
                    if !std::mem::replace(&mut silent, true) {
                        tracing::warn!("cannot follow the database: {e}");
                    }
                }
            }
        }
    }
}
