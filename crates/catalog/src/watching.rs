//! Live searches that were captured, and the recall that was observed of others.

use crate::connection::Catalog;
use crate::entity::{captured, observed, watch};
use crate::error::Result;
use chrono::{DateTime, Utc};
use sea_orm::ActiveValue::{NotSet, Set};
use sea_orm::sea_query::{Expr, ExprTrait, OnConflict};
use sea_orm::{ColumnTrait, EntityTrait, PaginatorTrait, QueryFilter, QueryOrder, QuerySelect};
use serde_json::Value;

/// A search that was captured.
#[derive(Clone, Debug, PartialEq)]
pub struct Caught {
    pub collection: i64,
    pub column: i64,
    pub vector: Vec<f32>,
    pub k: usize,
    pub filter: Option<Value>,
    pub text: Option<String>,
}

/// Searches of an index in one minute that were answered exactly as well.
#[derive(Clone, Debug, PartialEq)]
pub struct Observation {
    pub collection: i64,
    pub index: String,
    /// The saved search; empty for others.
    pub saved: String,
    pub at: DateTime<Utc>,
    pub n: u64,
    /// Of the recalls, and of their squares.
    pub sum: f64,
    pub squares: f64,
}

impl Catalog {
    /// What of the live searches of a collection is kept and checked; `None` for nothing.
    pub async fn set_watch(&self, collection: i64, spec: Option<Value>) -> Result<()> {
        let tx = self.db.begin().await?;
        self.lock(&tx, collection).await?;
        match spec {
            Some(spec) => {
                let row = watch::ActiveModel { collection_id: Set(collection), spec: Set(spec) };
                let over = OnConflict::column(watch::Column::CollectionId)
                    .update_column(watch::Column::Spec)
                    .to_owned();
                watch::Entity::insert(row).on_conflict(over).exec_without_returning(&tx).await?;
            }
            None => {
                watch::Entity::delete_by_id(collection).exec(&tx).await?;
            }
        }
        self.count_choice(&tx, collection).await?;
        tx.commit().await
    }

    pub async fn add_captured(&self, caught: &[Caught]) -> Result<()> {
        let rows = caught.iter().map(|c| captured::ActiveModel {
            id: NotSet,
            collection_id: Set(c.collection),
            column_id: Set(c.column),
            vector: Set(bytemuck::cast_slice(&c.vector).to_vec()),
            k: Set(c.k as i32),
            filter: Set(c.filter.clone()),
            text: Set(c.text.clone()),
            created_at: Set(Utc::now()),
        });
        captured::Entity::insert_many(rows).exec_without_returning(&self.db).await?;
        Ok(())
    }

    /// Forgets captured searches before a time, and all but the newest so many.
    pub async fn trim_captured(&self, collection: i64, before: DateTime<Utc>, keep: u64) -> Result<()> {
        let of = captured::Column::CollectionId.eq(collection);
        let oldest_kept: Option<i64> = captured::Entity::find()
            .select_only()
            .column(captured::Column::Id)
            .filter(of.clone())
            .order_by_desc(captured::Column::Id)
            .offset(keep.saturating_sub(1))
            .limit(1)
            .into_tuple()
            .one(&self.db)
            .await?;
        let old = captured::Column::CreatedAt.lt(before);
        let gone = match oldest_kept {
            Some(id) => old.or(captured::Column::Id.lt(id)),
            None => old,
        };
        captured::Entity::delete_many().filter(of).filter(gone).exec(&self.db).await?;
        Ok(())
    }

    pub async fn n_captured(&self, collection: i64) -> Result<u64> {
        let of = captured::Column::CollectionId.eq(collection);
        Ok(captured::Entity::find().filter(of).count(&self.db).await?)
    }

    /// The newest captured searches of a column.
    pub async fn captured(&self, column: i64, limit: u64) -> Result<Vec<captured::Model>> {
        Ok(captured::Entity::find()
            .filter(captured::Column::ColumnId.eq(column))
            .order_by_desc(captured::Column::Id)
            .limit(limit)
            .all(&self.db)
            .await?)
    }

    pub async fn forget_captured(&self, collection: i64) -> Result<u64> {
        let of = captured::Column::CollectionId.eq(collection);
        Ok(captured::Entity::delete_many().filter(of).exec(&self.db).await?.rows_affected)
    }

    /// Adds to what was observed in a minute, on whichever node.
    pub async fn observe(&self, seen: &Observation) -> Result<()> {
        use observed::Column as C;
        let row = observed::ActiveModel {
            collection_id: Set(seen.collection),
            index_name: Set(seen.index.clone()),
            saved: Set(seen.saved.clone()),
            at: Set(seen.at),
            n: Set(seen.n as i64),
            sum: Set(seen.sum),
            squares: Set(seen.squares),
        };
        let over = OnConflict::columns([C::CollectionId, C::IndexName, C::Saved, C::At])
            .value(C::N, Expr::col(C::N).add(seen.n as i64))
            .value(C::Sum, Expr::col(C::Sum).add(seen.sum))
            .value(C::Squares, Expr::col(C::Squares).add(seen.squares))
            .to_owned();
        observed::Entity::insert(row).on_conflict(over).exec_without_returning(&self.db).await?;
        Ok(())
    }

    /// What was observed of a collection since a time, oldest first.
    pub async fn observed(&self, collection: i64, since: DateTime<Utc>) -> Result<Vec<observed::Model>> {
        Ok(observed::Entity::find()
            .filter(observed::Column::CollectionId.eq(collection))
            .filter(observed::Column::At.gte(since))
            .order_by_asc(observed::Column::At)
            .all(&self.db)
            .await?)
    }

    pub async fn forget_observed(&self, before: DateTime<Utc>) -> Result<()> {
        observed::Entity::delete_many().filter(observed::Column::At.lt(before)).exec(&self.db).await?;
        Ok(())
    }
}
