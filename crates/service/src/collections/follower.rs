//! Following the database: collections are opened and dropped, records and schemas taken up as others write them.

use crate::collections::live::{Kept, Live};
use crate::collections::registry::Registry;
use crate::collections::segments;
use futures::FutureExt;
use futures::stream::{self, StreamExt};
use serde_json::Value;
use std::panic::AssertUnwindSafe;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::Instant;
use zesty_catalog::{CatalogError, Collection, Fill, Version, vector_column};
use zesty_engine::rows::{Change, NewColumn, VectorChange, Writer};
use zesty_engine::{Metric, Schema};

/// Collections that are opened at the same time: while one reads its indexes, the next reads its records.
const OPENED_AT_A_TIME: usize = 2;

/// What the database says of a collection's fields and columns.
fn schema_of(collection: &Collection) -> Result<(Schema, Vec<Metric>), CatalogError> {
    let schema = Schema::from_json(&collection.about.fields)
        .map_err(|e| CatalogError::Internal(format!("fields of {}: {e}", collection.about.name)))?;
    let metrics = collection.columns.iter().map(|c| c.metric.parse().map_err(CatalogError::Internal));
    Ok((schema, metrics.collect::<Result<_, _>>()?))
}

/// Its vector columns, for the rows.
fn new_columns(collection: &Collection, metrics: &[Metric]) -> Vec<NewColumn> {
    let new = |(c, metric): (&vector_column::Model, &Metric)| NewColumn {
        id: c.id,
        name: c.name.clone(),
        metric: *metric,
        dimensions: c.dimensions as usize,
    };
    collection.columns.iter().zip(metrics).map(new).collect()
}

impl Registry {
    /// Brings this node level with the database: new collections are opened, gone ones dropped,
    /// changed ones followed. A collection that makes trouble does not stop the others.
    pub async fn catch_up(self: &Arc<Self>) -> Result<(), CatalogError> {
        let versions = match self.catalog.versions().await {
            Ok(versions) => versions,
            Err(e) => {
                self.silence.set(matches!(e, CatalogError::Unavailable(_)));
                return Err(e);
            }
        };
        self.silence.set(false);
        if self.is_misnamed(&versions) {
            // Read again under the lock: a change of names on this node may have come between.
            let _changing = self.changing.lock().await;
            self.take_names().await?;
        }
        let known = self.all();
        let strange = versions.iter().any(|v| !known.iter().any(|l| l.id == v.id));
        let gone = known.iter().any(|l| !versions.iter().any(|v| v.id == l.id));
        if strange || gone {
            self.open_and_drop().await?;
        }
        for version in versions {
            let Some(live) = self.by_id(version.id) else { continue };
            let version = &version;
            // A panic in one collection is its own trouble.
            let followed = AssertUnwindSafe(self.follow_one(version)).catch_unwind().await;
            match followed {
                Ok(Ok(())) => {}
                Ok(Err(CatalogError::Unavailable(why))) => return Err(CatalogError::Unavailable(why)),
                Ok(Err(e)) => tracing::warn!(collection = live.name, "cannot follow: {e}"),
                Err(_) => tracing::error!(collection = live.name, "following it stopped unexpectedly"),
            }
        }
        *self.followed.lock() = Some(Instant::now());
        Ok(())
    }

    async fn open_and_drop(self: &Arc<Self>) -> Result<(), CatalogError> {
        let _changing = self.changing.lock().await;
        let all = self.catalog.collections().await?;
        for gone in self.all().iter().filter(|l| !all.iter().any(|c| c.about.id == l.id)) {
            // Dropped by another node: nobody works on it any more.
            self.jobs.cancel_for(&gone.name);
            self.forget(gone);
        }
        self.closed.write().retain(|name, _| all.iter().any(|c| c.about.name == *name));
        let new = all.into_iter().filter(|c| self.by_id(c.about.id).is_none());
        let open = async |collection: Collection| {
            let name = collection.about.name.clone();
            (name, AssertUnwindSafe(self.open(collection)).catch_unwind().await)
        };
        let mut opening = std::pin::pin!(stream::iter(new).map(open).buffer_unordered(OPENED_AT_A_TIME));
        while let Some((name, opened)) = opening.next().await {
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

    async fn follow_one(self: &Arc<Self>, version: &Version) -> Result<(), CatalogError> {
        let Some(live) = self.by_id(version.id) else { return Ok(()) };
        if version.shape > live.schema_version() {
            self.refresh(version.id).await?;
        }
        let Some(live) = self.by_id(version.id) else { return Ok(()) };
        if version.revision as u64 > live.table.load().revision() {
            self.follow(&live).await?;
        } else if (version.revision as u64) < live.table.load().revision() {
            self.follow_back(&live).await?;
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
    pub(super) async fn refresh_locked(self: &Arc<Self>, id: i64) -> Result<Option<Arc<Live>>, CatalogError> {
        loop {
            let Some(live) = self.by_id(id) else { return Ok(None) };
            let collection = self.catalog.collection(id).await?;
            if collection.about.shape <= live.schema_version() {
                return Ok(Some(live));
            }
            match live.reshaped(self, collection).await {
                // It has changed again meanwhile.
                Err(CatalogError::Reshaped { .. }) => {}
                next => return next.map(Some),
            }
        }
    }

    pub(super) async fn open(self: &Arc<Self>, collection: Collection) -> Result<(), CatalogError> {
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
}

impl Live {
    /// Reads everything from the database but the indexes: see [`Live::follow_choices`].
    pub async fn open(registry: &Arc<Registry>, collection: Collection) -> Result<Arc<Live>, CatalogError> {
        let start = Instant::now();
        let kept = Kept { choices: AtomicI64::new(-1), ..Kept::default() };
        let live = Live::read(registry, collection, Arc::new(kept)).await?;
        tracing::info!(
            collection = live.name,
            records = live.table.load().n_records(),
            elapsed_ms = start.elapsed().as_millis() as u64,
            "collection is live"
        );
        Ok(live)
    }

    /// A collection with everything that the database has of it, from this node's segments as far as they go.
    async fn read(
        registry: &Registry,
        collection: Collection,
        kept: Arc<Kept>,
    ) -> Result<Arc<Live>, CatalogError> {
        let (schema, metrics) = schema_of(&collection)?;
        let columns = new_columns(&collection, &metrics);
        let opened = segments::open(registry, &collection, (&schema, &columns)).await;
        let writer = opened.unwrap_or_else(|| Writer::empty(schema, &columns));
        kept.segments.is_opened(&writer);
        let live = Live::new(registry.catalog.record_limit(), collection, metrics, writer, kept);
        live.follow(registry).await?;
        Ok(live)
    }

    /// The same collection under another shape, which the database has already.
    pub async fn reshaped(
        &self,
        registry: &Arc<Registry>,
        collection: Collection,
    ) -> Result<Arc<Live>, CatalogError> {
        let mut guard = self.writer.lock().await;
        let (schema, metrics) = schema_of(&collection)?;
        let columns = new_columns(&collection, &metrics);
        let writer = guard.as_ref().map(|w| w.reshaped(schema, &columns));
        let next = match writer {
            Some(Ok(writer)) => {
                Live::new(registry.catalog.record_limit(), collection, metrics, writer, self.kept.clone())
            }
            // Bodies had to be read again, and could not be.
            Some(Err(e)) => {
                self.damaged(&e);
                Live::read(registry, collection, self.kept.clone()).await?
            }
            None => return Err(CatalogError::Reshaped { now: collection.about.shape }),
        };
        self.replaced_by(registry, &mut guard, next).await
    }

    /// The same collection, read from the database.
    pub(super) async fn read_anew(
        &self,
        registry: &Arc<Registry>,
        collection: Collection,
    ) -> Result<Arc<Live>, CatalogError> {
        // Writes wait before they are in the database: reading takes long.
        let _turn = self.kept.turn.lock().await;
        let mut guard = self.writer.lock().await;
        let next = Live::read(registry, collection, self.kept.clone()).await?;
        self.replaced_by(registry, &mut guard, next).await
    }

    /// Writes wait until the next one is where requests find it, so that none is lost between the two. Where records
    /// had to be read again, their rows have other numbers, and the indexes are attached to them again.
    async fn replaced_by(
        &self,
        registry: &Arc<Registry>,
        writer: &mut Option<Writer>,
        next: Arc<Live>,
    ) -> Result<Arc<Live>, CatalogError> {
        let ids: Vec<i64> = next.columns().iter().map(|c| c.id).collect();
        {
            let _held = self.kept.changing.lock();
            let indexes = self.kept.indexes.load();
            let left = indexes.iter().filter(|i| ids.contains(&i.model.column_id)).cloned().collect();
            self.kept.indexes.store(Arc::new(left));
        }
        registry.place(next.clone());
        *writer = None;
        next.attach_again(registry).await;
        Ok(next)
    }

    /// Applies everything that the database has and this node has not.
    pub async fn follow(&self, registry: &Registry) -> Result<(), CatalogError> {
        match self.writer.lock().await.as_mut() {
            Some(writer) => self.follow_locked(registry, writer).await,
            None => Ok(()),
        }
    }

    pub(super) async fn follow_locked(
        &self,
        registry: &Registry,
        writer: &mut Writer,
    ) -> Result<(), CatalogError> {
        let after = writer.revision();
        let mut fills = Vec::new();
        let each = |portion: Vec<zesty_catalog::Change>| {
            let changes: Vec<Change> = portion
                .into_iter()
                .map(|c| Change {
                    number: c.number,
                    key: c.key,
                    revision: c.revision,
                    body: c.body.map(|b| match b {
                        Value::Object(map) => map,
                        _ => Default::default(),
                    }),
                    vectors: c.vectors.into_iter().map(VectorChange::from).collect(),
                })
                .collect();
            // Not yet `revision`: a view that breaks off half-way is read again from `after`.
            writer.apply(after, &changes);
        };
        let revision = registry.catalog.follow(&self.target(), after, each, |fill| fills.push(fill)).await?;
        for fill in fills {
            self.apply_fill(writer, &fill);
        }
        writer.apply(revision, &[] as &[Change]);
        self.table.store(Arc::new(writer.snapshot()));
        Ok(())
    }

    /// Rows are found by key and number each time: between a fill and here they may have been renumbered.
    pub(super) fn apply_fill(&self, writer: &mut Writer, fill: &Fill) {
        // A column that was dropped since takes no more.
        let Some(column) = self.columns().iter().position(|c| c.id == fill.column) else { return };
        let table = writer.snapshot();
        let found = fill.vectors.iter().filter_map(|f| {
            let row = table.row(&f.key).filter(|row| table.number(*row) == f.number)?;
            Some((row, &f.vector[..]))
        });
        let found: Vec<(u32, &[f32])> = found.collect();
        drop(table);
        writer.set_vectors(fill.revision, column, found);
    }
}
