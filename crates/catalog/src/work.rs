//! Indexes' descriptions and jobs.

use crate::bounded::Tx;
use crate::connection::Catalog;
use crate::entity::{collection, index, job, measurement, vector_column, watch};
use crate::error::unless_taken;
use crate::error::{CatalogError, Result};
use crate::measurements::targets_of;
use crate::saved::{LiveSaved, live_saved};
use chrono::Utc;
use sea_orm::ActiveValue::{NotSet, Set};
use sea_orm::sea_query::{Expr, ExprTrait};
use sea_orm::{ActiveModelTrait, ColumnTrait, EntityTrait, QueryFilter, QueryOrder, QuerySelect};
use serde_json::Value;

/// The indexes of a collection, and what serves each of its columns.
pub struct Choices {
    pub version: i64,
    pub indexes: Vec<index::Model>,
    pub serving: Vec<ServingOf>,
    /// What of the live searches is kept and checked.
    pub watch: Option<Value>,
    /// Targets that were solved, newest first.
    pub targets: Vec<measurement::Model>,
    /// Saved searches that answer.
    pub saved: Vec<LiveSaved>,
}

pub struct ServingOf {
    /// The vector column's id.
    pub column: i64,
    /// `None` for the exact scan.
    pub choice: Option<Value>,
}

/// What a finished build tells of an index.
#[derive(Clone, Copy, Debug)]
pub struct Ready {
    pub revision: u64,
    pub rows: u64,
    pub bytes: u64,
    pub seconds: f64,
}

impl Catalog {
    /// Counts a change of indexes or serving choices, so that other nodes see it.
    pub(crate) async fn count_choice(&self, tx: &Tx, collection: i64) -> Result<()> {
        use collection::Column as C;
        collection::Entity::update_many()
            .col_expr(C::Choices, Expr::col(C::Choices).add(1))
            .filter(C::Id.eq(collection))
            .exec(tx)
            .await?;
        Ok(())
    }

    pub async fn add_index(
        &self,
        collection: i64,
        column: i64,
        name: &str,
        recipe: &str,
        seed: i64,
        node: &str,
    ) -> Result<index::Model> {
        let new = index::ActiveModel {
            id: NotSet,
            collection_id: Set(collection),
            column_id: Set(column),
            name: Set(name.into()),
            recipe: Set(recipe.into()),
            state: Set("building".into()),
            revision: Set(0),
            n_rows: Set(0),
            n_bytes: Set(0),
            build_seconds: Set(0.0),
            seed: Set(seed),
            error: Set(None),
            created_at: Set(Utc::now()),
            node: Set(node.into()),
        };
        let tx = self.db.begin().await?;
        self.lock(&tx, collection).await?;
        let there = vector_column::Entity::find_by_id(column).one(&tx).await?;
        there.ok_or_else(|| CatalogError::Missing { what: "vector column", name: column.to_string() })?;
        let index = new.insert(&tx).await.map_err(|e| unless_taken(e, "index", name))?;
        self.count_choice(&tx, collection).await?;
        tx.commit().await?;
        Ok(index)
    }

    pub async fn indexes(&self, collection: i64) -> Result<Vec<index::Model>> {
        Ok(index::Entity::find()
            .filter(index::Column::CollectionId.eq(collection))
            .order_by_asc(index::Column::Id)
            .all(&self.db)
            .await?)
    }

    /// The indexes and serving choices of a collection, from one view.
    pub async fn choices(&self, collection: i64) -> Result<Choices> {
        let tx = self.db.begin_snapshot().await?;
        let missing = || CatalogError::Missing { what: "collection", name: collection.to_string() };
        let about = collection::Entity::find_by_id(collection).one(&tx).await?.ok_or_else(missing)?;
        let indexes = index::Entity::find()
            .filter(index::Column::CollectionId.eq(collection))
            .order_by_asc(index::Column::Id)
            .all(&tx)
            .await?;
        let columns = vector_column::Entity::find()
            .filter(vector_column::Column::CollectionId.eq(collection))
            .all(&tx)
            .await?;
        let targets = targets_of(&tx, collection).await?;
        let watch = watch::Entity::find_by_id(collection).one(&tx).await?.map(|w| w.spec);
        let saved = live_saved(&tx, collection).await?;
        tx.commit().await?;
        let serving = columns.into_iter().map(|c| ServingOf { column: c.id, choice: c.serving }).collect();
        Ok(Choices { version: about.choices, indexes, serving, watch, targets, saved })
    }

    /// Notes a build that succeeded; false when the index was dropped meanwhile.
    pub async fn index_ready(&self, index: &index::Model, ready: Ready) -> Result<bool> {
        let update = index::ActiveModel {
            state: Set("ready".into()),
            revision: Set(ready.revision as i64),
            n_rows: Set(ready.rows as i64),
            n_bytes: Set(ready.bytes as i64),
            build_seconds: Set(ready.seconds),
            error: Set(None),
            ..Default::default()
        };
        self.change_index(index, update).await
    }

    /// Notes a build that failed; false when the index was dropped meanwhile.
    pub async fn index_failed(&self, index: &index::Model, error: &str) -> Result<bool> {
        let update = index::ActiveModel {
            state: Set("failed".into()),
            error: Set(Some(error.into())),
            ..Default::default()
        };
        self.change_index(index, update).await
    }

    /// Notes whether nodes keep a ready index in memory; false when it is in neither state.
    pub async fn set_loaded(&self, index: &index::Model, loaded: bool) -> Result<bool> {
        let (from, to) = if loaded { ("unloaded", "ready") } else { ("ready", "unloaded") };
        let tx = self.db.begin().await?;
        self.lock(&tx, index.collection_id).await?;
        let changed = index::Entity::update_many()
            .set(index::ActiveModel { state: Set(to.into()), ..Default::default() })
            .filter(index::Column::Id.eq(index.id))
            .filter(index::Column::State.eq(from))
            .exec(&tx)
            .await?;
        if changed.rows_affected > 0 {
            self.count_choice(&tx, index.collection_id).await?;
        }
        tx.commit().await?;
        Ok(changed.rows_affected > 0)
    }

    async fn change_index(&self, index: &index::Model, update: index::ActiveModel) -> Result<bool> {
        let tx = self.db.begin().await?;
        self.lock(&tx, index.collection_id).await?;
        let changed =
            index::Entity::update_many().set(update).filter(index::Column::Id.eq(index.id)).exec(&tx).await?;
        if changed.rows_affected > 0 {
            self.count_choice(&tx, index.collection_id).await?;
        }
        tx.commit().await?;
        Ok(changed.rows_affected > 0)
    }

    /// Removes an index, and the serving choices that name it.
    pub async fn remove_index(&self, index: &index::Model) -> Result<()> {
        let tx = self.db.begin().await?;
        self.lock(&tx, index.collection_id).await?;
        index::Entity::delete_by_id(index.id).exec(&tx).await?;
        let columns = vector_column::Entity::find()
            .filter(vector_column::Column::CollectionId.eq(index.collection_id))
            .all(&tx)
            .await?;
        for column in columns {
            if column.serving.as_ref().is_some_and(|s| s["index"] == index.name.as_str()) {
                self.put_serving(&tx, column.id, None).await?;
            }
        }
        self.count_choice(&tx, index.collection_id).await?;
        tx.commit().await
    }

    async fn put_serving(&self, tx: &Tx, column: i64, choice: Option<Value>) -> Result<()> {
        let update = vector_column::ActiveModel { serving: Set(choice), ..Default::default() };
        vector_column::Entity::update_many()
            .set(update)
            .filter(vector_column::Column::Id.eq(column))
            .exec(tx)
            .await?;
        Ok(())
    }

    /// Which index and settings answer searches that name none; `None` for the exact scan. The index must be there.
    pub async fn set_serving(&self, collection: i64, column: i64, choice: Option<Value>) -> Result<()> {
        let tx = self.db.begin().await?;
        self.lock(&tx, collection).await?;
        if let Some(name) = choice.as_ref().and_then(|c| c["index"].as_str()) {
            let found = index::Entity::find()
                .filter(index::Column::CollectionId.eq(collection))
                .filter(index::Column::ColumnId.eq(column))
                .filter(index::Column::Name.eq(name))
                .one(&tx)
                .await?;
            found.ok_or_else(|| CatalogError::Missing { what: "index", name: name.into() })?;
        }
        self.put_serving(&tx, column, choice).await?;
        self.count_choice(&tx, collection).await?;
        tx.commit().await
    }

    pub async fn add_job(
        &self,
        kind: &str,
        collection: &str,
        subject: &str,
        node: &str,
    ) -> Result<job::Model> {
        let new = job::ActiveModel {
            id: NotSet,
            kind: Set(kind.into()),
            collection: Set(collection.into()),
            subject: Set(subject.into()),
            state: Set("running".into()),
            node: Set(node.into()),
            result: Set(None),
            error: Set(None),
            created_at: Set(Utc::now()),
            finished_at: Set(None),
        };
        Ok(new.insert(&self.db).await?)
    }

    pub async fn end_job(
        &self,
        id: i64,
        state: &str,
        result: Option<Value>,
        error: Option<String>,
    ) -> Result<()> {
        let update = job::ActiveModel {
            state: Set(state.into()),
            result: Set(result),
            error: Set(error),
            finished_at: Set(Some(Utc::now())),
            ..Default::default()
        };
        job::Entity::update_many().set(update).filter(job::Column::Id.eq(id)).exec(&self.db).await?;
        Ok(())
    }

    /// Jobs that a node left running when it stopped. They do not run any more.
    pub async fn fail_left_jobs(&self, node: &str) -> Result<u64> {
        let ended = job::Entity::update_many()
            .set(job::ActiveModel {
                state: Set("failed".into()),
                error: Set(Some("the service stopped while this was running; start it again".into())),
                finished_at: Set(Some(Utc::now())),
                ..Default::default()
            })
            .filter(job::Column::Node.eq(node))
            .filter(job::Column::State.eq("running"))
            .exec(&self.db)
            .await?;
        Ok(ended.rows_affected)
    }

    pub async fn job(&self, id: i64) -> Result<Option<job::Model>> {
        Ok(job::Entity::find_by_id(id).one(&self.db).await?)
    }

    /// The latest jobs, newest first.
    pub async fn jobs(&self, limit: u64) -> Result<Vec<job::Model>> {
        Ok(job::Entity::find().order_by_desc(job::Column::Id).limit(limit).all(&self.db).await?)
    }
}
