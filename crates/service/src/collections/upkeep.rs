//! Upkeep while the service runs: following the database, absorbing, ending what gone nodes left, clearing what is old.

use crate::access::audit::Audit;
use crate::access::keys::Keys;
use crate::collections::registry::Registry;
use crate::measure::watcher;
use crate::node::uploads::Uploads;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;
use zesty_catalog::CatalogError;
use zesty_wire::LoadRequest;

/// Turns of a second between two rounds of housekeeping.
const HOUSEKEEPING_TURNS: u64 = 10;
/// Jobs that the database keeps.
const KEPT_JOBS: u64 = 10_000;

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

    async fn turn(&mut self, registry: &Arc<Registry>) {
        for live in registry.all() {
            let revision = live.table.load().revision();
            let (last, turns) = self.seen.entry(live.id).or_insert((revision, 0));
            *turns = if *last == revision { turns.saturating_add(1) } else { 0 };
            *last = revision;
            for index in live.stale(*turns >= Self::PAUSE) {
                let (id, name) = (index.model.id, index.model.name.clone());
                if self.tried.get(&id) == Some(&revision) || registry.claims.has(id) {
                    continue;
                }
                self.tried.insert(id, revision);
                if let Err(problem) = live.absorb(registry, index).await {
                    tracing::warn!(collection = live.name, index = name, "cannot absorb: {}", problem.detail);
                }
            }
        }
    }
}

/// The upkeep of a node.
pub struct Upkeep {
    pub registry: Arc<Registry>,
    pub uploads: Arc<Uploads>,
    pub keys: Arc<Keys>,
    pub audit: Arc<Audit>,
    /// Turns true when the service stops.
    pub stopping: tokio::sync::watch::Receiver<bool>,
}

impl Upkeep {
    /// Clears uploaded files that are old and belong to no load that could go on.
    pub async fn clear_uploads(&self) -> Result<(), CatalogError> {
        let loads = self.registry.catalog.loads(None, 1000).await?;
        let wanted = loads.iter().filter(|l| l.state != "done").filter_map(|l| {
            let request: LoadRequest = serde_json::from_value(l.spec["input"].clone()).ok()?;
            Some(request.files().cloned().collect::<Vec<_>>())
        });
        self.uploads.clear(&wanted.flatten().collect());
        Ok(())
    }

    /// Follows what other nodes write, for as long as the service runs. What stops is started again.
    pub async fn keep_up(self: Arc<Self>) {
        let mut stopping = self.stopping.clone();
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
            if trouble.turns_left > 0 && !self.registry.silence.is_on() {
                trouble.turns_left -= 1;
                continue;
            }
            match self.registry.catch_up().await {
                Ok(()) => {
                    trouble = Trouble::default();
                    absorber.turn(&self.registry).await;
                    self.keep_traces().await;
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

    /// Keeps who did what, and when keys were used.
    async fn keep_traces(&self) {
        for kept in [self.audit.keep().await, self.keys.keep_uses().await] {
            if let Err(problem) = kept {
                tracing::debug!("what keys did is noted later: {}", problem.detail);
            }
        }
    }

    /// Jobs and loads of this node that the database has as running and that do not run: their start was committed,
    /// and its answer lost.
    async fn end_what_does_not_run(&self) -> Result<(), CatalogError> {
        let runs = |job: i64| self.registry.jobs.get(job).is_some_and(|j| j.ended().borrow().is_none());
        for job in self.registry.catalog.running_jobs(&self.registry.node).await? {
            if !runs(job) && self.registry.jobs.get(job).is_none() {
                let why = "MariaDB broke off when it was started; start it again".to_owned();
                self.registry.catalog.end_job(job, "failed", None, Some(why)).await?;
            }
        }
        for load in self.registry.catalog.running_loads(&self.registry.node).await? {
            if !runs(load.job_id) {
                let why = "MariaDB broke off while it was started or ended; resume it".to_owned();
                self.registry.catalog.load_ends(load.id, "stopped", Some(why)).await?;
            }
        }
        Ok(())
    }

    /// Says that this node lives, ends what gone nodes left, and forgets what is old.
    async fn keep_house(&self, n: u64) {
        let result: Result<(), CatalogError> = async {
            self.registry.catalog.node_lives(&self.registry.node).await?;
            self.end_what_does_not_run().await?;
            let ended = self.registry.catalog.end_what_gone_nodes_left().await?;
            if ended > 0 {
                tracing::warn!("{ended} jobs of nodes that are gone are marked failed");
            }
            for live in self.registry.all() {
                live.take_over_builds(&self.registry).await?;
            }
            // What stopped in the middle is cleared now; and once an hour, what is old.
            self.registry.clear_later();
            if n.is_multiple_of(360) {
                self.clear_uploads().await?;
                watcher::keep_house(&self.registry).await?;
                self.registry.catalog.forget_old_work(KEPT_JOBS).await?;
                self.registry.catalog.clear_audit().await?;
                self.registry.purge_old().await?;
                let day = chrono::Utc::now() - chrono::TimeDelta::days(1);
                self.registry.catalog.clear_once(day).await?;
            }
            Ok(())
        }
        .await;
        if let Err(e) = result {
            tracing::debug!("housekeeping is done later: {e}");
        }
    }
}
