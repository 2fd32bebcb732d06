//! Indexes' descriptions, jobs and sweeps.

use crate::entity::{index, job, sweep};
use crate::error::unless_taken;
use crate::{Catalog, Result};
use chrono::Utc;
use sea_orm::ActiveValue::{NotSet, Set, Unchanged};
use sea_orm::sea_query::Expr;
use sea_orm::{ActiveModelTrait, ColumnTrait, EntityTrait, QueryFilter, QueryOrder, QuerySelect};
use serde_json::Value;

impl Catalog {
    pub async fn add_index(
        &self,
        collection: i64,
        column: i64,
        name: &str,
        recipe: &str,
        seed: i64,
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
        };
        new.insert(&self.db).await.map_err(|e| unless_taken(e, "index", name))
    }

    pub async fn indexes(&self, collection: i64) -> Result<Vec<index::Model>> {
        Ok(index::Entity::find()
            .filter(index::Column::CollectionId.eq(collection))
            .order_by_asc(index::Column::Id)
            .all(&self.db)
            .await?)
    }

    pub async fn index_ready(
        &self,
        id: i64,
        revision: u64,
        rows: u64,
        bytes: u64,
        seconds: f64,
    ) -> Result<()> {
        let update = index::ActiveModel {
            id: Unchanged(id),
            state: Set("ready".into()),
            revision: Set(revision as i64),
            n_rows: Set(rows as i64),
            n_bytes: Set(bytes as i64),
            build_seconds: Set(seconds),
            error: Set(None),
            ..Default::default()
        };
        update.update(&self.db).await?;
        Ok(())
    }

    pub async fn index_state(&self, id: i64, state: &str, error: Option<String>) -> Result<()> {
        index::Entity::update_many()
            .col_expr(index::Column::State, Expr::value(state))
            .col_expr(index::Column::Error, Expr::value(error))
            .filter(index::Column::Id.eq(id))
            .exec(&self.db)
            .await?;
        Ok(())
    }

    pub async fn remove_index(&self, id: i64) -> Result<()> {
        index::Entity::delete_by_id(id).exec(&self.db).await?;
        Ok(())
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
            id: Unchanged(id),
            state: Set(state.into()),
            result: Set(result),
            error: Set(error),
            finished_at: Set(Some(Utc::now())),
            ..Default::default()
        };
        update.update(&self.db).await?;
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

    pub async fn add_sweep(
        &self,
        collection: i64,
        column: i64,
        index: &str,
        recipe: &str,
        spec: Value,
        result: Value,
    ) -> Result<sweep::Model> {
        let new = sweep::ActiveModel {
            id: NotSet,
            collection_id: Set(collection),
            column_id: Set(column),
            index_name: Set(index.into()),
            recipe: Set(recipe.into()),
            spec: Set(spec),
            result: Set(result),
            created_at: Set(Utc::now()),
        };
        Ok(new.insert(&self.db).await?)
    }

    /// Newest first.
    pub async fn sweeps(&self, collection: i64) -> Result<Vec<sweep::Model>> {
        Ok(sweep::Entity::find()
            .filter(sweep::Column::CollectionId.eq(collection))
            .order_by_desc(sweep::Column::Id)
            .limit(200)
            .all(&self.db)
            .await?)
    }
}
