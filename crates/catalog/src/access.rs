//! Who may come in. Secrets are random and long, so a plain SHA-256 of each is what is kept; the
//! caller hashes.

use crate::connection::Catalog;
use crate::entity::{access_key, access_ticket};
use crate::error::unless_taken;
use crate::error::{CatalogError, Result};
use chrono::{DateTime, Utc};
use sea_orm::ActiveValue::{NotSet, Set};
use sea_orm::{ActiveModelTrait, ColumnTrait, EntityTrait, PaginatorTrait, QueryFilter, QueryOrder};
use std::time::Duration;

/// How long a request may wait for the check of its key.
const WAITED_FOR: Duration = Duration::from_secs(2);

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ticket {
    /// A sign-in link: good once.
    Link,
    /// A signed-in console.
    Session,
}

impl Ticket {
    fn word(self) -> &'static str {
        match self {
            Ticket::Link => "link",
            Ticket::Session => "session",
        }
    }
}

impl Catalog {
    pub async fn add_key(&self, name: &str, hash: &str) -> Result<access_key::Model> {
        let key = access_key::ActiveModel {
            id: NotSet,
            name: Set(name.into()),
            hash: Set(hash.into()),
            created_at: Set(Utc::now()),
        };
        key.insert(&self.db).await.map_err(|e| unless_taken(e, "key", name))
    }

    pub async fn keys(&self) -> Result<Vec<access_key::Model>> {
        Ok(access_key::Entity::find().order_by_asc(access_key::Column::Id).all(&self.db).await?)
    }

    pub async fn n_keys(&self) -> Result<u64> {
        Ok(access_key::Entity::find().count(&self.db).await?)
    }

    /// Removes a key and everything that was signed in with it.
    pub async fn remove_key(&self, name: &str) -> Result<()> {
        let key = access_key::Entity::find().filter(access_key::Column::Name.eq(name)).one(&self.db).await?;
        let key = key.ok_or_else(|| CatalogError::Missing { what: "key", name: name.into() })?;
        access_ticket::Entity::delete_many()
            .filter(access_ticket::Column::KeyId.eq(key.id))
            .exec(&self.db)
            .await?;
        access_key::Entity::delete_by_id(key.id).exec(&self.db).await?;
        Ok(())
    }

    pub async fn key_by_hash(&self, hash: &str) -> Result<Option<access_key::Model>> {
        Ok(access_key::Entity::find()
            .filter(access_key::Column::Hash.eq(hash))
            .one(&self.db.within(WAITED_FOR))
            .await?)
    }

    pub async fn add_ticket(&self, kind: Ticket, hash: &str, key: i64, until: DateTime<Utc>) -> Result<()> {
        // Ended ones are swept out on the way.
        access_ticket::Entity::delete_many()
            .filter(access_ticket::Column::ExpiresAt.lt(Utc::now()))
            .exec(&self.db)
            .await?;
        let ticket = access_ticket::ActiveModel {
            hash: Set(hash.into()),
            kind: Set(kind.word().into()),
            key_id: Set(key),
            expires_at: Set(until),
        };
        access_ticket::Entity::insert(ticket).exec_without_returning(&self.db).await?;
        Ok(())
    }

    /// The key behind a session that has not ended.
    pub async fn session(&self, hash: &str) -> Result<Option<i64>> {
        let found = access_ticket::Entity::find_by_id(hash.to_owned())
            .filter(access_ticket::Column::Kind.eq(Ticket::Session.word()))
            .filter(access_ticket::Column::ExpiresAt.gt(Utc::now()))
            .one(&self.db.within(WAITED_FOR))
            .await?;
        Ok(found.map(|t| t.key_id))
    }

    /// Uses a sign-in link up. Of two who try at once, one gets the key.
    pub async fn take_link(&self, hash: &str) -> Result<Option<i64>> {
        let link = access_ticket::Entity::find_by_id(hash.to_owned())
            .filter(access_ticket::Column::Kind.eq(Ticket::Link.word()))
            .filter(access_ticket::Column::ExpiresAt.gt(Utc::now()))
            .one(&self.db)
            .await?;
        let Some(link) = link else { return Ok(None) };
        let gone = access_ticket::Entity::delete_by_id(hash.to_owned()).exec(&self.db).await?;
        Ok((gone.rows_affected == 1).then_some(link.key_id))
    }

    pub async fn end_session(&self, hash: &str) -> Result<()> {
        access_ticket::Entity::delete_by_id(hash.to_owned()).exec(&self.db).await?;
        Ok(())
    }
}
