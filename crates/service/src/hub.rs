//! The node: its live collections, kept equal to the database, and what they share.

use crate::auth::Believed;
use crate::edge::Bodies;
use crate::encoders::Encoders;
use crate::jobs::Jobs;
use crate::live::Live;
use crate::loads::LoadInput;
use crate::problem::{Kind, Problem, Result};
use crate::uploads::Uploads;
use futures::FutureExt;
use parking_lot::{Mutex, RwLock};
use std::collections::{BTreeMap, HashSet};
use std::panic::AssertUnwindSafe;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use zesty_catalog::{Catalog, CatalogError, Collection, ShapeChange, Version, encoder};
use zesty_engine::recipe::{Explanation, Shape};

pub struct Hub {
    pub catalog: Catalog,
    pub encoders: Encoders,
    /// Encoders that columns use, as the database last had them.
    known_encoders: Mutex<BTreeMap<String, encoder::Model>>,
    pub jobs: Arc<Jobs>,
    pub uploads: Uploads,
    pub limits: zesty_files::Limits,
    pub believed: Believed,
    pub bodies: Bodies,
    /// This node's own name, kept in its data directory.
    pub node: String,
    pub data: PathBuf,
    /// Threads that a build may take.
    pub threads: usize,
    /// Bytes that collections and indexes may take together.
    pub memory_budget: Option<u64>,
    pub started: Instant,
    live: RwLock<BTreeMap<String, Arc<Live>>>,
    /// Collections that cannot be opened, and why.
    closed: RwLock<BTreeMap<String, String>>,
    /// Held while the set of collections changes.
    changing: tokio::sync::Mutex<()>,
    /// Indexes that a job of this node works on.
    claimed: Arc<Mutex<HashSet<i64>>>,
    /// Whether the database did not answer when it was last asked.
    silent: AtomicBool,
    /// Whether rows of what was deleted are being cleared now.
    clearing: Arc<AtomicBool>,
    /// Tells background work that the node stops.
    stopping: tokio::sync::watch::Sender<bool>,
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

/// A wait that grows with every failure in a row.
#[derive(Default)]
struct Trouble {
    turns_left: u32,
    failed: u32,
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
                if self.tried.get(&id) == Some(&revision) || hub.is_claimed(id) {
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
            known_encoders: Mutex::default(),
            jobs: Arc::default(),
            believed: Believed::default(),
            bodies: Bodies::default(),
            node,
            data,
            threads,
            memory_budget,
            started: Instant::now(),
            live: RwLock::default(),
            closed: RwLock::default(),
            changing: tokio::sync::Mutex::default(),
            claimed: Arc::default(),
            silent: AtomicBool::default(),
            clearing: Arc::default(),
            stopping: tokio::sync::watch::Sender::new(false),
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
        if let Some(found) = live.get(name) {
            return Ok(found.clone());
        }
        if let Some(why) = self.closed.read().get(name) {
            let detail = format!("collection \"{name}\" cannot be opened on this node: {why}");
            return Err(Problem::new(Kind::Closed, detail));
        }
        Err(Problem::unknown("collection", name, live.keys().map(String::as_str)))
    }

    /// The right to work on an index, unless a job has it.
    pub fn claim(&self, index: i64) -> Option<Claim> {
        let claimed = self.claimed.clone();
        self.claimed.lock().insert(index).then_some(Claim { index, claimed })
    }

    pub fn is_claimed(&self, index: i64) -> bool {
        self.claimed.lock().contains(&index)
    }

    /// An encoder by name; while the database does not answer, as it was when it last did.
    pub async fn encoder(&self, name: &str) -> Result<encoder::Model> {
        let remembered = || self.known_encoders.lock().get(name).cloned();
        if self.is_database_silent()
            && let Some(known) = remembered()
        {
            return Ok(known);
        }
        match self.catalog.encoder(name).await {
            Ok(Some(encoder)) => {
                self.known_encoders.lock().insert(name.to_owned(), encoder.clone());
                Ok(encoder)
            }
            Ok(None) => {
                self.known_encoders.lock().remove(name);
                Err(Problem::unknown("encoder", name, []))
            }
            Err(CatalogError::Unavailable(why)) => {
                remembered().ok_or_else(|| Problem::from(CatalogError::Unavailable(why)))
            }
            Err(e) => Err(e.into()),
        }
    }

    /// Whether the database did not answer when it was last asked.
    pub fn is_database_silent(&self) -> bool {
        self.silent.load(Ordering::Relaxed)
    }

    pub fn set_database_silent(&self, silent: bool) {
        if self.silent.swap(silent, Ordering::Relaxed) != silent {
            match silent {
                true => tracing::warn!("the database does not answer"),
                false => tracing::info!("the database answers again"),
            }
        }
    }

    pub fn stop(&self) {
        self.stopping.send_replace(true);
    }

    pub fn collections(&self) -> Vec<Arc<Live>> {
        self.live.read().values().cloned().collect()
    }

    pub fn index_path(&self, id: i64) -> PathBuf {
        self.data.join("indexes").join(format!("{id}.safetensors"))
    }

    /// Brings this node level with the database: new collections are opened, gone ones dropped,
    /// changed ones followed. A collection that makes trouble does not stop the others.
    pub async fn catch_up(self: &Arc<Self>) -> Result<(), CatalogError> {
        let versions = match self.catalog.versions().await {
            Ok(versions) => versions,
            Err(e) => {
                self.set_database_silent(matches!(e, CatalogError::Unavailable(_)));
                return Err(e);
            }
        };
        self.set_database_silent(false);
        let known = self.collections();
        let strange = versions.iter().any(|v| !known.iter().any(|l| l.id == v.id));
        let gone = known.iter().any(|l| !versions.iter().any(|v| v.id == l.id));
        if strange || gone {
            self.open_and_drop().await?;
        }
        for version in versions {
            let Some(live) = self.by_id(version.id) else { continue };
            // A panic in one collection is its own trouble.
            let followed = AssertUnwindSafe(self.follow_one(version)).catch_unwind().await;
            match followed {
                Ok(Ok(())) => {}
                Ok(Err(CatalogError::Unavailable(why))) => return Err(CatalogError::Unavailable(why)),
                Ok(Err(e)) => tracing::warn!(collection = live.name, "cannot follow: {e}"),
                Err(_) => tracing::error!(collection = live.name, "following it stopped unexpectedly"),
            }
        }
        Ok(())
    }

    async fn open_and_drop(self: &Arc<Self>) -> Result<(), CatalogError> {
        let _changing = self.changing.lock().await;
        let all = self.catalog.collections().await?;
        self.live.write().retain(|_, l| {
            let stays = all.iter().any(|c| c.about.id == l.id);
            if !stays {
                // Dropped by another node: nobody works on it any more.
                self.jobs.cancel_for(&l.name);
                l.kept
                    .indexes
                    .load()
                    .iter()
                    .for_each(|i| drop(std::fs::remove_file(self.index_path(i.model.id))));
            }
            stays
        });
        self.closed.write().retain(|name, _| all.iter().any(|c| c.about.name == *name));
        for collection in all {
            let name = collection.about.name.clone();
            if self.live.read().contains_key(&name) {
                continue;
            }
            let opened = AssertUnwindSafe(self.open(collection)).catch_unwind().await;
            let why = match opened {
                Ok(Ok(())) => None,
                Ok(Err(CatalogError::Unavailable(why))) => return Err(CatalogError::Unavailable(why)),
                Ok(Err(e)) => Some(e.to_string()),
                Err(_) => Some("reading it stopped unexpectedly; the service's log says more".into()),
            };
            let mut closed = self.closed.write();
            match why {
                None => drop(closed.remove(&name)),
                Some(why) => {
                    if closed.insert(name.clone(), why.clone()).as_ref() != Some(&why) {
                        tracing::error!(collection = name, "cannot be opened: {why}");
                    }
                }
            }
        }
        Ok(())
    }

    async fn follow_one(self: &Arc<Self>, version: Version) -> Result<(), CatalogError> {
        let Some(live) = self.by_id(version.id) else { return Ok(()) };
        if version.shape > live.shape() {
            self.refresh(version.id).await?;
        }
        let Some(live) = self.by_id(version.id) else { return Ok(()) };
        if version.revision as u64 > live.table.load().revision() {
            self.follow(&live).await?;
        }
        if version.choices != live.kept.choices.load(Ordering::Relaxed) {
            live.follow_choices(self).await?;
        }
        Ok(())
    }

    /// Takes up what others have written to a collection: records, and a newer shape.
    pub async fn follow(self: &Arc<Self>, live: &Live) -> Result<(), CatalogError> {
        match live.follow(self).await {
            Err(CatalogError::Reshaped { .. }) => self.refresh(live.id).await,
            followed => followed,
        }
    }

    /// Takes up a newer shape of a collection, if the database has one.
    pub async fn refresh(self: &Arc<Self>, id: i64) -> Result<(), CatalogError> {
        let _changing = self.changing.lock().await;
        self.refresh_locked(id).await.map(drop)
    }

    /// The collection as the database has it now; `changing` is held.
    async fn refresh_locked(self: &Arc<Self>, id: i64) -> Result<Option<Arc<Live>>, CatalogError> {
        loop {
            let Some(live) = self.by_id(id) else { return Ok(None) };
            let collection = self.catalog.collection(id).await?;
            if collection.about.shape <= live.shape() {
                return Ok(Some(live));
            }
            match live.reshaped(self, collection).await {
                // It has changed again meanwhile.
                Err(CatalogError::Reshaped { .. }) => {}
                next => return next.map(Some),
            }
        }
    }

    pub fn by_id(&self, id: i64) -> Option<Arc<Live>> {
        self.live.read().values().find(|l| l.id == id).cloned()
    }

    pub fn place(&self, live: Arc<Live>) {
        self.live.write().insert(live.name.clone(), live);
    }

    /// Changes what a collection is made of, in the database and here. `live` is what the change was checked
    /// against: with another shape by now, it is refused.
    pub async fn reshape(self: &Arc<Self>, live: &Live, change: ShapeChange) -> Result<Arc<Live>> {
        let _changing = self.changing.lock().await;
        let dropped: Vec<i64> = match &change {
            ShapeChange::DropColumn(column) => {
                let indexes = live.kept.indexes.load();
                indexes.iter().filter(|i| i.model.column_id == *column).map(|i| i.model.id).collect()
            }
            _ => Vec::new(),
        };
        let changed = self.catalog.change_shape(live.id, live.shape(), change).await;
        let refreshed = self.refresh_locked(live.id).await;
        changed?;
        let next = refreshed?.ok_or_else(|| Problem::unknown("collection", &live.name, []))?;
        for index in dropped {
            let _ = std::fs::remove_file(self.index_path(index));
        }
        Ok(next)
    }

    async fn open(self: &Arc<Self>, collection: Collection) -> Result<(), CatalogError> {
        let (id, mut collection) = (collection.about.id, collection);
        let live = loop {
            match Live::open(self, collection).await {
                // It has changed since it was read.
                Err(CatalogError::Reshaped { .. }) => collection = self.catalog.collection(id).await?,
                live => break live?,
            }
        };
        // Placed first: builds that begin below look for it.
        self.place(live.clone());
        match live.follow_choices(self).await {
            Err(e @ CatalogError::Unavailable(_)) => Err(e),
            // The follower tries again.
            Err(e) => {
                tracing::warn!(collection = live.name, "its indexes cannot be read yet: {e}");
                Ok(())
            }
            Ok(()) => Ok(()),
        }
    }

    pub async fn create(self: &Arc<Self>, new: zesty_catalog::NewCollection) -> Result<Arc<Live>> {
        let _changing = self.changing.lock().await;
        let collection = self.catalog.create_collection(new).await?;
        let name = collection.about.name.clone();
        if !self.live.read().contains_key(&name) {
            self.open(collection).await?;
        }
        self.collection(&name)
    }

    pub async fn delete(self: &Arc<Self>, live: &Live) -> Result<()> {
        let _changing = self.changing.lock().await;
        self.jobs.cancel_for(&live.name);
        match self.catalog.delete_collection(live.id).await {
            Err(CatalogError::Missing { .. }) => {}
            deleted => deleted?,
        }
        self.live.write().remove(&live.name);
        for index in live.kept.indexes.load().iter() {
            let _ = std::fs::remove_file(self.index_path(index.model.id));
        }
        self.clear_later();
        Ok(())
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

    /// Follows what other nodes write, for as long as the service runs. What stops is started again.
    pub async fn keep_up(self: Arc<Self>) {
        let mut stopping = self.stopping.subscribe();
        loop {
            let following = tokio::spawn(self.clone().follow_all());
            let abort = following.abort_handle();
            tokio::select! {
                ended = following => {
                    tracing::error!("following the database stopped and is started again: {ended:?}");
                    tokio::time::sleep(Duration::from_secs(1)).await;
                }
                () = async { drop(stopping.wait_for(|s| *s).await) } => {
                    abort.abort();
                    return;
                }
            }
        }
    }

    async fn follow_all(self: Arc<Self>) {
        let mut tick = tokio::time::interval(Duration::from_secs(1));
        tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let mut absorber = Absorber::default();
        let mut trouble = Trouble::default();
        let mut turn = 0u64;
        loop {
            tick.tick().await;
            if trouble.turns_left > 0 && !self.is_database_silent() {
                trouble.turns_left -= 1;
                continue;
            }
            match self.catch_up().await {
                Ok(()) => {
                    trouble = Trouble::default();
                    absorber.turn(&self).await;
                    if turn.is_multiple_of(HOUSEKEEPING_TURNS) {
                        self.keep_house(turn / HOUSEKEEPING_TURNS).await;
                    }
                    turn += 1;
                }
                Err(e) => {
                    trouble.failed += 1;
                    trouble.turns_left = (1 << trouble.failed.min(4)) - 1;
                    tracing::debug!("cannot follow the database: {e}");
                }
            }
        }
    }

    /// Jobs and loads of this node that the database has as running and that do not run: their start was committed,
    /// and its answer lost.
    async fn end_what_does_not_run(&self) -> Result<(), CatalogError> {
        let runs = |job: i64| self.jobs.get(job).is_some_and(|j| j.ended().borrow().is_none());
        for job in self.catalog.running_jobs(&self.node).await? {
            if !runs(job) && self.jobs.get(job).is_none() {
                let why = "MariaDB broke off when it was started; start it again".to_owned();
                self.catalog.end_job(job, "failed", None, Some(why)).await?;
            }
        }
        for load in self.catalog.running_loads(&self.node).await? {
            if !runs(load.job_id) {
                let why = "MariaDB broke off while it was started or ended; resume it".to_owned();
                self.catalog.load_ends(load.id, "stopped", Some(why)).await?;
            }
        }
        Ok(())
    }

    /// Says that this node lives, ends what gone nodes left, and forgets what is old.
    async fn keep_house(self: &Arc<Self>, n: u64) {
        let result: Result<(), CatalogError> = async {
            self.catalog.node_lives(&self.node).await?;
            self.end_what_does_not_run().await?;
            let ended = self.catalog.end_what_gone_nodes_left().await?;
            if ended > 0 {
                tracing::warn!("{ended} jobs of nodes that are gone are marked failed");
            }
            for live in self.collections() {
                live.take_over_builds(self).await?;
            }
            // What stopped in the middle is cleared now; and once an hour, what is old.
            self.clear_later();
            if n.is_multiple_of(360) {
                self.clear_uploads().await?;
                self.catalog.forget_old_work(KEPT_JOBS).await?;
            }
            Ok(())
        }
        .await;
        if let Err(e) = result {
            tracing::debug!("housekeeping is done later: {e}");
        }
    }
}

/// Turns of a second between two rounds of housekeeping.
const HOUSEKEEPING_TURNS: u64 = 10;
/// Jobs that the database keeps.
const KEPT_JOBS: u64 = 10_000;
