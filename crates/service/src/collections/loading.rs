//! Indexes put out of memory and taken in again: by hand on all nodes, or by a node that has to keep within its budget.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::{Live, LiveIndex};
use crate::collections::registry::Registry;
use crate::collections::view;
use crate::node::memory::{Held, Reserved, Wanted};
use crate::problem::{Kind, Problem, Result};
use std::sync::Arc;
use zesty_catalog::index;
use zesty_wire as wire;

fn shown(live: &Live, index: &str) -> Result<wire::Index> {
    let found = view::indexes(live).into_iter().find(|i| i.name == index);
    found.ok_or_else(|| Problem::unknown("index", index, []))
}

/// Puts an index out of memory on all nodes. Its file stays.
pub async fn unload(
    grant: &Grant,
    registry: &Registry,
    (collection, index): (&str, &str),
) -> Result<wire::Index> {
    let live = registry.collection(grant, Scope::Tune, collection)?;
    // Nobody takes an older reading of the database for the truth meanwhile.
    let _describing = live.kept.describing.lock().await;
    let found = live.index(index)?;
    if live.kept.serving.load().values().any(|s| s.index == index) {
        let detail =
            format!("index \"{index}\" is the serving choice; choose another one, or the exact scan, first");
        return Err(Problem::new(Kind::StillUsed, detail));
    }
    if !found.is_unloaded() && !registry.catalog.set_loaded(&found.model, false).await? {
        return Err(found.not_ready());
    }
    live.unload(&found, None);
    shown(&live, index)
}

/// Takes an index into memory again.
pub async fn load(
    grant: &Grant,
    registry: &Arc<Registry>,
    (collection, index): (&str, &str),
) -> Result<wire::Index> {
    let live = registry.collection(grant, Scope::Tune, collection)?;
    let _describing = live.kept.describing.lock().await;
    let found = live.index(index)?;
    if found.attached.is_some() {
        return shown(&live, index);
    }
    if !found.is_unloaded() {
        return Err(found.not_ready());
    }
    let wanted =
        Wanted { what: format!("loading {index}"), parts: vec![("the index", found.model.n_bytes as u64)] };
    let _reserved = registry.reserve(&wanted)?;
    // Another node may have it loaded already; then only this one takes it in.
    registry.catalog.set_loaded(&found.model, true).await?;
    let model = index::Model { state: "ready".into(), error: None, ..found.model.clone() };
    live.kept.named.lock().insert(model.id, std::time::Instant::now());
    live.attach_file(registry, model).await;
    shown(&live, index)
}

impl Live {
    /// Searches that hold the index keep it until they end. `why` where this node alone unloads it.
    fn unload(&self, index: &LiveIndex, why: Option<String>) {
        let model = index::Model { state: "unloaded".into(), error: why, ..index.model.clone() };
        self.set_index(LiveIndex { model, attached: None });
    }
}

impl Registry {
    /// Indexes in memory that serve nothing and that nobody works on, the least used first.
    fn spare(&self) -> Vec<(Arc<Live>, Arc<LiveIndex>)> {
        let mut spare = Vec::new();
        for live in self.all() {
            let serving = live.kept.serving.load();
            for index in live.kept.indexes.load().iter().filter(|index| index.attached.is_some()) {
                let id = index.model.id;
                if serving.values().any(|s| s.index == index.model.name) || self.claims.has(id) {
                    continue;
                }
                let named = live.kept.named.lock().get(&id).copied();
                spare.push((named, live.clone(), index.clone()));
            }
        }
        spare.sort_by_key(|(named, ..)| *named);
        spare.into_iter().map(|(_, live, index)| (live, index)).collect()
    }

    /// Reserves memory; where it is missing, indexes that serve nothing make room on this node.
    pub fn reserve(&self, wanted: &Wanted) -> Result<Reserved> {
        let mut spare = self.spare().into_iter();
        loop {
            match self.memory.reserve(self.held(), wanted) {
                Ok(reserved) => return Ok(reserved),
                Err(problem) => self.make_room(spare.next().ok_or(problem)?, &wanted.what),
            }
        }
    }

    /// Whether [`Registry::reserve`] would succeed now.
    pub fn would_fit(&self, wanted: &Wanted) -> Result<()> {
        let mut spare = Held::default();
        self.spare().iter().for_each(|(_, index)| spare += index.held());
        let held = self.held();
        let left = Held {
            collections: held.collections.saturating_sub(spare.collections),
            indexes: held.indexes.saturating_sub(spare.indexes),
        };
        self.memory.reserve(left, wanted).map(drop)
    }

    /// Refuses a write that there is no memory for, once indexes that serve nothing have made room.
    pub fn check_write(&self, bytes: impl Fn() -> u64) -> Result<()> {
        if self.memory.check_write(&bytes).is_ok() {
            return Ok(());
        }
        let mut spare = self.spare().into_iter();
        loop {
            self.memory.count(|| self.held());
            match self.memory.check_write(&bytes) {
                Ok(()) => return Ok(()),
                Err(problem) => self.make_room(spare.next().ok_or(problem)?, "a write"),
            }
        }
    }

    fn make_room(&self, (live, index): (Arc<Live>, Arc<LiveIndex>), what: &str) {
        tracing::warn!(
            collection = live.name,
            index = index.model.name,
            bytes = index.held().total(),
            "unloaded to keep within the memory budget: {what} needs it"
        );
        live.unload(&index, Some("to keep within the memory budget".into()));
    }
}
