//! This node's own copy of its collections: segment files that a start opens and searches answer from. MariaDB has the
//! records; a copy that is lost, damaged or foreign is made again from it.

use crate::collections::live::{Live, Writing};
use crate::collections::registry::Registry;
use crate::node::threads::background;
use crate::problem::{Kind, Problem};
use serde_json::{Map, Value};
use std::collections::HashSet;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use zesty_catalog::{CatalogError, Collection};
use zesty_engine::Schema;
use zesty_engine::index::FileError;
use zesty_engine::rows::segments::{SegmentFolder, Stale};
use zesty_engine::rows::{LastBlock, NewColumn, Table, Writer};
use zesty_engine::search::Attached;
use zesty_wire::Body;

/// Bytes of a segment that others are merged into.
const SEGMENT: usize = 64 << 20;
/// Bytes on the heap that are written out at once.
const HELD: usize = 32 << 20;
/// Records by which a copy is compared with the database.
const COMPARED: u64 = 100;

/// Where the segments of a collection are. Ids come again when a database is restored from a dump, so the time goes
/// with them.
fn folder(registry: &Registry, collection: &Collection) -> SegmentFolder {
    let about = &collection.about;
    let owner = format!("collection {}, made {}", about.id, about.created_at.timestamp_millis());
    SegmentFolder::new(registry.folder.segments(about.id), owner)
}

/// The rows that this node's segments have of a collection; `None` when there are none that can be used.
pub(super) async fn open(
    registry: &Registry,
    collection: &Collection,
    (schema, columns): (&Schema, &[NewColumn]),
) -> Option<Writer> {
    let (folder, name) = (folder(registry, collection), collection.about.name.clone());
    let (opening, schema, columns) = (folder.clone(), schema.clone(), columns.to_vec());
    let opened = tokio::task::spawn_blocking(move || opening.open(schema, &columns)).await;
    let why = match opened {
        Ok(Ok(None)) => return None,
        Ok(Ok(Some(writer))) => {
            let (has, now) = (writer.revision(), collection.about.revision as u64);
            if has > now {
                ahead(has, now)
            } else {
                match is_of_this_history(registry, collection, &writer.snapshot()).await {
                    Ok(true) => return Some(writer),
                    Ok(false) => {
                        "records of the database are not as they have them: they come from another history"
                            .into()
                    }
                    Err(e) => format!("they cannot be compared with the database: {e}"),
                }
            }
        }
        Ok(Err(e)) => e.to_string(),
        Err(e) => format!("reading them stopped: {e}"),
    };
    tracing::warn!(collection = name, "its segments cannot be used, and are made again from MariaDB: {why}");
    folder.remove();
    None
}

/// Whether the database has the records that were written last as a copy has them. After a restore of an older backup that
/// was written on, revisions alone do not tell.
async fn is_of_this_history(
    registry: &Registry,
    collection: &Collection,
    table: &Table,
) -> Result<bool, CatalogError> {
    let records = registry.catalog.last_written(collection.about.id, table.revision(), COMPARED).await?;
    let mut last = LastBlock::default();
    Ok(records.iter().all(|record| {
        table.row(&record.key).is_some_and(|row| {
            table.number(row) == record.number
                && table.row_revision(row) == record.revision
                && table.body(row, &mut last).is_ok_and(|body| Value::Object(body) == record.body)
        })
    }))
}

fn ahead(has: u64, now: u64) -> String {
    format!(
        "they hold revision {has}, and MariaDB is at {now}: it was restored from an older backup, or is another database"
    )
}

impl Live {
    /// What to answer when a segment file turns out damaged: the collection is read again from MariaDB.
    pub fn damaged(&self, error: &FileError) -> Problem {
        if !self.kept.segments.damaged.swap(true, Ordering::Relaxed) {
            tracing::error!(collection = self.name, "{error}; the collection is read again from MariaDB");
        }
        let detail =
            format!("this node's copy of \"{}\" is damaged; it is made again from MariaDB now", self.name);
        Problem::new(Kind::NotReady, detail)
    }

    /// The body of a row of one of this collection's tables.
    pub fn body(&self, table: &Table, row: u32, last: &mut LastBlock) -> Result<Map<String, Value>, Problem> {
        table.body(row, last).map_err(|e| self.damaged(&e))
    }

    /// The same as it is stored, to be passed on.
    pub fn stored_body(&self, table: &Table, row: u32, last: &mut LastBlock) -> Result<Body, Problem> {
        let damaged = |why| self.damaged(&FileError::Damaged(format!("a body: {why}")));
        Body::stored(table.body_text(row, last).map_err(|e| self.damaged(&e))?).map_err(damaged)
    }

    /// Why the segments could not be written the last time.
    pub fn segment_trouble(&self) -> Option<String> {
        self.kept.segments.trouble.lock().clone()
    }

    /// Writes out what is in no segment, when it is time for it, and merges segments that are worth it.
    async fn keep_segments(self: &Arc<Self>, registry: &Arc<Registry>) {
        let state = &self.kept.segments;
        let Ok(_working) = state.working.try_lock() else { return };
        let unverified = state.unverified.lock().pop();
        if let Some(segment) = unverified {
            let verified = background(move || segment.verify()).await;
            if let Ok(Err(e)) = verified {
                self.damaged(&e);
                return;
            }
        }
        if self.is_time_to_save().await {
            match self.save(registry).await {
                Ok(()) => {
                    if state.trouble.lock().take().is_some() {
                        tracing::info!(collection = self.name, "segments are written again");
                    }
                }
                Err(e) => {
                    let why = format!("segments cannot be written, and new records stay in memory: {e}");
                    if state.trouble.lock().replace(why.clone()).as_ref() != Some(&why) {
                        tracing::warn!(collection = self.name, "{why}");
                    }
                    state.clock.lock().failed = Some(Instant::now());
                    return;
                }
            }
        }
        let revision = self.table.load().revision();
        if state.clock.lock().merged == Some(revision) {
            return;
        }
        match self.merge(registry).await {
            Ok(true) => {}
            Ok(false) => state.clock.lock().merged = Some(revision),
            Err(e) => {
                tracing::warn!(collection = self.name, "segments cannot be merged: {e}");
                state.clock.lock().merged = Some(revision);
            }
        }
    }

    async fn is_time_to_save(&self) -> bool {
        let (bytes, is_unsaved) = match self.writer.lock().await.as_ref() {
            Some(writer) => (writer.n_bytes_unsaved(), writer.is_unsaved()),
            None => return false,
        };
        let revision = self.table.load().revision();
        self.kept.segments.clock.lock().is_time(revision, is_unsaved, bytes >= HELD)
    }

    /// Writes out what is in no segment.
    async fn save(self: &Arc<Self>, registry: &Arc<Registry>) -> Result<(), String> {
        let folder = folder(registry, &self.collection);
        let saving = match self.writer.lock().await.as_mut() {
            Some(writer) => writer.begin_save(),
            None => return Ok(()),
        };
        let wrote = background(move || {
            let segment = folder.save(&saving).map_err(|e| e.to_string());
            (saving, segment)
        });
        let (saving, segment) = wrote.await.map_err(|e| self.lost_count(&e))?;
        let revision = saving.revision();
        let Some((live, mut guard)) = self.newest(registry).await else { return Ok(()) };
        let taken = tokio::task::spawn_blocking(move || {
            let Some(writer) = guard.as_mut() else { return Ok(()) };
            match segment {
                // Rows that were read again from the database have segments of their own later.
                Ok(segment) => {
                    if writer.saved(&saving, segment).is_ok() {
                        live.table.store(Arc::new(writer.snapshot()));
                    }
                    Ok(())
                }
                Err(e) => {
                    writer.not_saved(saving);
                    Err(e)
                }
            }
        });
        taken.await.map_err(|e| self.lost_count(&e))??;
        self.kept.segments.saved.store(revision, Ordering::Relaxed);
        self.kept.segments.clock.lock().unsaved = None;
        Ok(())
    }

    /// Merges segments that are worth it. Returns whether there were such.
    async fn merge(self: &Arc<Self>, registry: &Arc<Registry>) -> Result<bool, String> {
        let folder = folder(registry, &self.collection);
        let saved = self.kept.segments.saved.load(Ordering::Relaxed);
        let mut guard = self.writer.clone().lock_owned().await;
        let here = self.clone();
        let chosen = tokio::task::spawn_blocking(move || {
            let writer = guard.as_mut()?;
            if writer.forget_texts() {
                here.table.store(Arc::new(writer.snapshot()));
            }
            writer.begin_merge(SEGMENT, saved)
        });
        let Some(merging) = chosen.await.map_err(|e| e.to_string())? else { return Ok(false) };
        let wrote = background(move || {
            let segment = folder.merge(&merging).map_err(|e| e.to_string())?;
            Ok::<_, String>((merging, segment))
        });
        let (merging, segment) = wrote.await??;
        let Some((live, mut guard)) = self.newest(registry).await else { return Ok(false) };
        let taken = tokio::task::spawn_blocking(move || {
            let Some(writer) = guard.as_mut() else { return };
            match writer.merged(&merging, segment) {
                Ok(Some(moved)) => live.renumber(writer, &moved),
                Ok(None) => live.table.store(Arc::new(writer.snapshot())),
                Err(Stale) => {}
            }
        });
        taken.await.map_err(|e| self.lost_count(&e))?;
        Ok(true)
    }

    /// The collection under its newest schema, and the right to write to it: the rows are the same. `None` when it is
    /// gone.
    pub(super) async fn newest(&self, registry: &Registry) -> Option<(Arc<Live>, Writing)> {
        loop {
            let live = registry.by_id(self.id)?;
            let guard = live.writer.clone().lock_owned().await;
            if guard.is_some() {
                return Some((live, guard));
            }
        }
    }

    /// Work that stopped unexpectedly has left nobody who knows what is in segments: they are made again.
    fn lost_count(&self, error: &dyn std::fmt::Display) -> String {
        self.kept.segments.damaged.store(true, Ordering::Relaxed);
        format!("it stopped unexpectedly ({error}); the collection is read again from MariaDB")
    }

    /// Makes rows that were numbered anew the ones that are searched, with the indexes on them.
    fn renumber(&self, writer: &Writer, from_before: &[u32]) {
        let table = Arc::new(writer.snapshot());
        let before = self.table.load_full();
        let moved = |attached: &Attached, column: usize| {
            attached.fits(&before).then(|| attached.moved(&table, column, from_before))
        };
        self.move_indexes(moved, || self.table.store(table.clone()));
    }
}

impl Registry {
    /// Sees to the segments of all collections, for as long as the service runs.
    pub async fn keep_segments(self: Arc<Self>) {
        let mut tick = tokio::time::interval(Duration::from_millis(500));
        tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        loop {
            tick.tick().await;
            self.memory.count(|| self.held());
            for live in self.all() {
                if live.kept.segments.damaged.load(Ordering::Relaxed) {
                    if let Err(e) = self.read_again(&live, "a segment file is damaged").await {
                        tracing::warn!(collection = live.name, "cannot be read again yet: {e}");
                    }
                    continue;
                }
                live.keep_segments(&self).await;
            }
        }
    }

    /// Reads a collection from the database as if this node had never had it.
    pub(super) async fn read_again(
        self: &Arc<Self>,
        live: &Arc<Live>,
        why: &str,
    ) -> Result<(), CatalogError> {
        tracing::warn!(collection = live.name, "{why}: this node's copy is dropped and read from MariaDB");
        let _working = live.kept.segments.working.lock().await;
        let _changing = self.changing.lock().await;
        let collection = self.catalog.collection(live.id).await?;
        folder(self, &collection).remove();
        live.read_anew(self, collection).await?;
        live.kept.segments.damaged.store(false, Ordering::Relaxed);
        live.kept.segments.saved.store(0, Ordering::Relaxed);
        Ok(())
    }

    /// Follows a collection that the database has at an earlier revision than this node: once that is sure, the copy
    /// is dropped.
    pub(super) async fn follow_back(self: &Arc<Self>, live: &Arc<Live>) -> Result<(), CatalogError> {
        let (now, has) = {
            // No write of this node comes between the two looks.
            let _writing = live.writer.lock().await;
            (self.catalog.collection(live.id).await?.about.revision as u64, live.table.load().revision())
        };
        if now < has {
            self.read_again(live, &ahead(has, now)).await?;
        }
        Ok(())
    }

    /// Writes out what is in no segment, so that the next start has less to read.
    pub async fn save_segments(self: &Arc<Self>) {
        for live in self.all() {
            let _working = live.kept.segments.working.lock().await;
            let is_unsaved = live.writer.lock().await.as_ref().is_some_and(Writer::is_unsaved);
            if is_unsaved && let Err(e) = live.save(self).await {
                tracing::warn!(collection = live.name, "segments cannot be written: {e}");
            }
        }
    }

    /// Removes segments of collections that are gone.
    pub fn clear_segments(&self) {
        let known: HashSet<String> = self.all().iter().map(|l| l.id.to_string()).collect();
        let closed = !self.closed.read().is_empty();
        for entry in std::fs::read_dir(self.folder.all_segments()).into_iter().flatten().flatten() {
            if !closed && !known.contains(entry.file_name().to_string_lossy().as_ref()) {
                let _ = std::fs::remove_dir_all(entry.path());
            }
        }
    }
}
