//! One collection in memory: rows, indexes, serving choices. Readers take snapshots of it.

use crate::collections::segment_state::SegmentState;
use crate::node::memory::Held;
use crate::problem::{Kind, Problem, Result};
use crate::search::saved::template::Template;
use arc_swap::ArcSwap;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, AtomicU64, Ordering};
use std::time::Instant;
use tokio::sync::OwnedMutexGuard;
use zesty_catalog::{Collection, Target, index, measurement, vector_column};
use zesty_engine::Metric;
use zesty_engine::index::Settings;
use zesty_engine::rows::{Table, Writer};
use zesty_engine::search::Attached;
use zesty_wire as wire;

/// Which index answers searches that name none, and how.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Serving {
    pub index: String,
    pub settings: Settings,
    /// In place of the settings: those that the newest target measured for this recall, if one did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub recall: Option<f64>,
}

pub struct LiveIndex {
    /// As the catalogue has it, but for what is otherwise on this node: its state, error and size.
    pub model: index::Model,
    /// `None` until it is built here.
    pub attached: Option<Attached>,
}

impl LiveIndex {
    /// What it takes on this node.
    pub fn held(&self) -> Held {
        self.attached.as_ref().map_or(Held::default(), |attached| Held {
            collections: attached.n_bytes_held() as u64,
            indexes: attached.index.n_bytes_memory() as u64,
        })
    }

    /// Whether it was put out of memory; its file stays.
    pub fn is_unloaded(&self) -> bool {
        self.model.state == "unloaded"
    }

    /// Whether this node alone put it out of memory, and why is said.
    pub fn is_unloaded_here(&self) -> bool {
        self.is_unloaded() && self.model.error.is_some()
    }

    /// The refusal of what needs this index on this node.
    pub fn not_ready(&self) -> Problem {
        let m = &self.model;
        if self.is_unloaded() {
            let why = m.error.as_ref().map_or(String::new(), |why| format!(" {why}"));
            let detail = format!(
                "index \"{}\" is unloaded{why}; `zesty index load` takes it into memory again",
                m.name
            );
            return Problem::new(Kind::NotReady, detail);
        }
        let detail = match &m.error {
            Some(why) => format!(
                "index \"{}\" is not on this node: {why}; `zesty index absorb` builds it again, or drop it",
                m.name
            ),
            None => format!("index \"{}\" is still being built; exact searches work meanwhile", m.name),
        };
        Problem::new(Kind::NotReady, detail)
    }
}

/// What outlives a change of the collection's schema.
#[derive(Default)]
pub struct Kept {
    pub indexes: ArcSwap<Vec<Arc<LiveIndex>>>,
    /// By the id of the vector column.
    pub serving: ArcSwap<BTreeMap<i64, Serving>>,
    /// What of the live searches is kept and checked.
    pub watch: ArcSwap<wire::Watch>,
    /// The saved searches that answer, by name.
    pub saved: ArcSwap<BTreeMap<String, Arc<Template>>>,
    /// What targets measured, newest first.
    pub targets: ArcSwap<Vec<measurement::Model>>,
    /// How often this node itself has changed what serves, what was measured or what is watched.
    pub changes: AtomicU64,
    /// When searches last named an index, by its id; those that serve are used all the time.
    pub named: parking_lot::Mutex<BTreeMap<i64, Instant>>,
    /// The version of these that was last read from the database.
    pub choices: AtomicI64,
    /// Held while one of them changes.
    pub(super) changing: parking_lot::Mutex<()>,
    /// This node's files of the records.
    pub segments: SegmentState,
    /// Held by a write from before it is in the database until it has the right to make its records searchable, so that
    /// this comes in the order of commits.
    pub(super) turn: Arc<tokio::sync::Mutex<()>>,
    /// Held while an index is described, so that what follows the database does not take it for one left over.
    pub describing: tokio::sync::Mutex<()>,
}

/// What the database had of it.
pub(super) struct Followed {
    pub serving: BTreeMap<i64, Serving>,
    pub targets: Vec<measurement::Model>,
    pub watch: wire::Watch,
    pub saved: BTreeMap<String, Arc<Template>>,
}

/// One collection under one version of its schema: its fields and columns never change. Another version is another
/// `Live`. Whoever still holds the old one reads on, and cannot write.
pub struct Live {
    pub id: i64,
    pub name: String,
    pub collection: Collection,
    pub metrics: Vec<Metric>,
    pub table: ArcSwap<Table>,
    pub kept: Arc<Kept>,
    /// Bytes that a record may take as JSON.
    pub record_limit: usize,
    /// `None` once there is a newer schema.
    pub(super) writer: Arc<tokio::sync::Mutex<Option<Writer>>>,
}

/// The right to write to a collection.
pub type Writing = OwnedMutexGuard<Option<Writer>>;

impl Live {
    pub(super) fn new(
        record_limit: usize,
        collection: Collection,
        metrics: Vec<Metric>,
        writer: Writer,
        kept: Arc<Kept>,
    ) -> Arc<Live> {
        Arc::new(Live {
            record_limit,
            id: collection.about.id,
            name: collection.about.name.clone(),
            metrics,
            table: ArcSwap::from_pointee(writer.snapshot()),
            kept,
            writer: Arc::new(tokio::sync::Mutex::new(Some(writer))),
            collection,
        })
    }

    /// Grows with every change of fields or columns.
    pub fn schema_version(&self) -> i64 {
        self.collection.about.shape
    }

    /// What writes go to: refused when the collection has another shape by then.
    pub fn target(&self) -> Target {
        let columns = self.columns().iter().map(|c| c.id).collect();
        Target { collection: self.id, shape: self.schema_version(), columns }
    }

    /// Where an index's vector column is; `None` when it was dropped.
    pub fn position(&self, index: &LiveIndex) -> Option<usize> {
        self.position_of(index.model.column_id)
    }

    pub fn position_of(&self, column_id: i64) -> Option<usize> {
        self.columns().iter().position(|c| c.id == column_id)
    }

    pub fn serving(&self, column: usize) -> Option<Serving> {
        self.kept.serving.load().get(&self.columns()[column].id).cloned()
    }

    /// The column that searches use when they name none: the chosen one, or the first; `None` when there is no column.
    pub fn default_column(&self) -> Option<usize> {
        let chosen = self.collection.about.default_column.as_deref();
        let found = self.columns().iter().position(|c| Some(c.name.as_str()) == chosen);
        found.or((!self.columns().is_empty()).then_some(0))
    }

    pub fn columns(&self) -> &[vector_column::Model] {
        &self.collection.columns
    }

    /// A vector column by name; the default one when none is named.
    pub fn column(&self, name: Option<&str>, pointer: &str) -> Result<usize> {
        let names = || self.columns().iter().map(|c| c.name.as_str());
        match name {
            Some(name) => names()
                .position(|n| n == name)
                .ok_or_else(|| Problem::unknown("vector column", name, names()).at(pointer)),
            None => self.default_column().ok_or_else(|| {
                let detail = format!("collection \"{}\" has no vector column yet; add one first", self.name);
                Problem::new(Kind::NoData, detail).at(pointer)
            }),
        }
    }

    /// Vectors that are said to come from an encoder must be the column's own.
    pub fn check_encoder(&self, column: usize, said: &str, pointer: &str) -> Result<()> {
        let about = &self.columns()[column];
        match &about.encoder {
            Some(own) if own != said => {
                let detail = format!(
                    "column \"{}\" holds vectors of encoder \"{own}\", and these are said to come from \"{said}\": \
                     they cannot be compared; add a column for \"{said}\"",
                    about.name
                );
                Err(Problem::new(Kind::WrongEncoder, detail)
                    .at(pointer)
                    .with("expected", own)
                    .with("got", said))
            }
            _ => Ok(()),
        }
    }

    pub fn index(&self, name: &str) -> Result<Arc<LiveIndex>> {
        let indexes = self.kept.indexes.load();
        let found = indexes.iter().find(|i| i.model.name == name).cloned();
        found.ok_or_else(|| Problem::unknown("index", name, indexes.iter().map(|i| i.model.name.as_str())))
    }

    /// Searches go to the rows that `publish` makes the table, with the indexes as they are moved to them. An index
    /// that cannot be moved is attached again later.
    pub(super) fn move_indexes(
        &self,
        moved: impl Fn(&Attached, usize) -> Option<Attached>,
        publish: impl FnOnce(),
    ) {
        let _held = self.kept.changing.lock();
        let all = self.kept.indexes.load();
        let move_one = |index: &Arc<LiveIndex>| {
            let column = self.position(index);
            let attached = index.attached.as_ref().zip(column).and_then(|(a, column)| moved(a, column));
            match attached {
                Some(attached) => {
                    Arc::new(LiveIndex { model: index.model.clone(), attached: Some(attached) })
                }
                None => index.clone(),
            }
        };
        let next = Arc::new(all.iter().map(move_one).collect());
        self.kept.indexes.store(next);
        publish();
    }

    pub(crate) fn set_index(&self, index: LiveIndex) {
        let _held = self.kept.changing.lock();
        let mut all = Vec::clone(&self.kept.indexes.load());
        let index = Arc::new(index);
        match all.iter_mut().find(|i| i.model.id == index.model.id) {
            Some(place) => *place = index,
            None => all.push(index),
        }
        self.kept.indexes.store(Arc::new(all));
    }

    pub(crate) fn forget_index(&self, id: i64) {
        let _held = self.kept.changing.lock();
        let all = self.kept.indexes.load().iter().filter(|i| i.model.id != id).cloned().collect();
        self.kept.indexes.store(Arc::new(all));
        self.kept.named.lock().remove(&id);
    }

    pub(crate) fn know_target(&self, target: measurement::Model) {
        let _held = self.change();
        let known = self.kept.targets.load();
        let others = known.iter().filter(|t| t.id != target.id).cloned();
        self.kept.targets.store(Arc::new(std::iter::once(target.clone()).chain(others).collect()));
    }

    pub(crate) fn forget_target(&self, id: i64) {
        let _held = self.change();
        let left = self.kept.targets.load().iter().filter(|t| t.id != id).cloned().collect();
        self.kept.targets.store(Arc::new(left));
    }

    pub(crate) fn edit_serving(&self, edit: impl FnOnce(&mut BTreeMap<i64, Serving>)) {
        let _held = self.change();
        let mut all = BTreeMap::clone(&self.kept.serving.load());
        edit(&mut all);
        self.kept.serving.store(Arc::new(all));
    }

    pub(crate) fn edit_saved(&self, edit: impl FnOnce(&mut BTreeMap<String, Arc<Template>>)) {
        let _held = self.change();
        let mut all = BTreeMap::clone(&self.kept.saved.load());
        edit(&mut all);
        self.kept.saved.store(Arc::new(all));
    }

    pub(crate) fn watch(&self, watch: wire::Watch) {
        let _held = self.change();
        self.kept.watch.store(Arc::new(watch));
    }

    /// This node changes what is followed: what was read from the database before is not taken any more.
    fn change(&self) -> parking_lot::MutexGuard<'_, ()> {
        let held = self.kept.changing.lock();
        self.kept.changes.fetch_add(1, Ordering::Relaxed);
        held
    }

    /// Takes what the database had, unless this node has changed any of it since that was read; whether it did.
    pub(super) fn follow_kept(&self, read: Followed, changes: u64) -> bool {
        let _held = self.kept.changing.lock();
        let is_current = self.kept.changes.load(Ordering::Relaxed) == changes;
        if is_current {
            self.kept.serving.store(Arc::new(read.serving));
            self.kept.targets.store(Arc::new(read.targets));
            self.kept.watch.store(Arc::new(read.watch));
            self.kept.saved.store(Arc::new(read.saved));
        }
        is_current
    }
}
