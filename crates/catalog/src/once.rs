//! Requests that carry an Idempotency-Key: who began one, and what it was answered.

use crate::connection::Catalog;
use crate::entity::once;
use crate::error::Result;
use chrono::{DateTime, Utc};
use sea_orm::ActiveValue::Set;
use sea_orm::{ColumnTrait, ConnectionTrait, EntityTrait, QueryFilter};

/// A request under the key that its caller gave it.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Once {
    /// The id of the access key that it came with: callers do not meet.
    pub key_id: i64,
    /// The hash of what the caller called it.
    pub name: String,
}

/// An answer that is kept.
#[derive(Clone, Debug, PartialEq)]
pub struct KeptAnswer {
    pub status: u16,
    pub media: String,
    /// None for an answer that is shown once.
    pub body: Option<Vec<u8>>,
    /// The hash of the request's body.
    pub digest: String,
}

impl Catalog {
    /// Begins a request on `node`, or says who began one of this name.
    pub async fn begin_once(&self, of: &Once, request: &str, node: &str) -> Result<Option<once::Model>> {
        let sql = "INSERT IGNORE INTO once (key_id, name, request, node, begun_at) VALUES (?, ?, ?, ?, UTC_TIMESTAMP(3))";
        let values = vec![of.key_id.into(), of.name.as_str().into(), request.into(), node.into()];
        if self.db.execute_raw(self.sql(sql.into(), values)).await?.rows_affected() > 0 {
            return Ok(None);
        }
        Ok(once::Entity::find_by_id((of.key_id, of.name.clone())).one(&self.db).await?)
    }

    /// Takes a request over that broke off; false when somebody else was faster.
    pub async fn take_once(&self, of: &Once, begun_at: DateTime<Utc>, node: &str) -> Result<bool> {
        let mine =
            once::ActiveModel { node: Set(node.into()), begun_at: Set(Utc::now()), ..Default::default() };
        let taken = once::Entity::update_many()
            .set(mine)
            .filter(once::Column::KeyId.eq(of.key_id))
            .filter(once::Column::Name.eq(of.name.as_str()))
            .filter(once::Column::BegunAt.eq(begun_at))
            .filter(once::Column::Status.is_null())
            .exec(&self.db)
            .await?;
        Ok(taken.rows_affected > 0)
    }

    /// Keeps what a request was answered.
    pub async fn end_once(&self, of: &Once, answer: KeptAnswer) -> Result<()> {
        let ended = once::ActiveModel {
            status: Set(Some(answer.status as i16)),
            media: Set(Some(answer.media)),
            body: Set(answer.body),
            digest: Set(Some(answer.digest)),
            ..Default::default()
        };
        once::Entity::update_many()
            .set(ended)
            .filter(once::Column::KeyId.eq(of.key_id))
            .filter(once::Column::Name.eq(of.name.as_str()))
            .exec(&self.db)
            .await?;
        Ok(())
    }

    /// Forgets a request that did nothing.
    pub async fn forget_once(&self, of: &Once) -> Result<()> {
        once::Entity::delete_by_id((of.key_id, of.name.clone())).exec(&self.db).await?;
        Ok(())
    }

    /// Forgets requests that were begun before a time.
    pub async fn clear_once(&self, before: DateTime<Utc>) -> Result<()> {
        once::Entity::delete_many().filter(once::Column::BegunAt.lt(before)).exec(&self.db).await?;
        Ok(())
    }
}
