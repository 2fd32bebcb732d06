//! What was done, by whom, when and from where.

use crate::connection::Catalog;
use crate::entity::audit;
use crate::error::Result;
use chrono::{TimeDelta, Utc};
use sea_orm::sea_query::Expr;
use sea_orm::{ColumnTrait, EntityTrait, ExprTrait, IntoActiveModel, QueryFilter, QueryOrder, QuerySelect};
use std::time::Duration;

/// How long an entry is kept.
const KEPT_DAYS: i64 = 400;
/// Entries that are kept.
const MOST: i64 = 1_000_000;
/// How long an entry may take to be written: nobody waits longer for it.
const PATIENCE: Duration = Duration::from_secs(3);

impl Catalog {
    /// Adds entries, in one statement.
    pub async fn add_audit(&self, entries: Vec<audit::Model>) -> Result<()> {
        if entries.is_empty() {
            return Ok(());
        }
        let rows = entries.into_iter().map(|e| {
            let mut row = e.into_active_model();
            row.id = sea_orm::ActiveValue::NotSet;
            row
        });
        audit::Entity::insert_many(rows).exec_without_returning(&self.db.within(PATIENCE)).await?;
        Ok(())
    }

    /// The newest entries before one of them.
    pub async fn audit(&self, before: Option<i64>, limit: u64) -> Result<Vec<audit::Model>> {
        let mut find = audit::Entity::find();
        if let Some(before) = before {
            find = find.filter(audit::Column::Id.lt(before));
        }
        Ok(find.order_by_desc(audit::Column::Id).limit(limit).all(&self.db).await?)
    }

    /// Deletes entries that are too old, or too many.
    pub async fn clear_audit(&self) -> Result<()> {
        let newest: Option<i64> = audit::Entity::find()
            .select_only()
            .expr(Expr::col(audit::Column::Id).max())
            .into_tuple()
            .one(&self.db)
            .await?
            .flatten();
        let old = Utc::now() - TimeDelta::days(KEPT_DAYS);
        audit::Entity::delete_many()
            .filter(audit::Column::At.lt(old).or(audit::Column::Id.lt(newest.unwrap_or(0) - MOST)))
            .exec(&self.db)
            .await?;
        Ok(())
    }
}
