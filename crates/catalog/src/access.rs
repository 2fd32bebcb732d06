//! Who may come in. Secrets are random and long, so a plain SHA-256 of each is what is kept; the
//! caller hashes.

use crate::bounded::Tx;
use crate::connection::Catalog;
use crate::entity::{access_key, access_secret, access_ticket};
use crate::error::unless_taken;
use crate::error::{CatalogError, Result};
use chrono::{DateTime, TimeDelta, Utc};
use sea_orm::ActiveValue::{NotSet, Set, Unchanged};
use sea_orm::sea_query::Expr;
use sea_orm::{
    ActiveModelTrait, ColumnTrait, EntityTrait, ExprTrait, PaginatorTrait, QueryFilter, QueryOrder,
    QuerySelect,
};
use serde_json::{Value, json};
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

/// A key to be made.
#[derive(Clone, Debug, Default)]
pub struct NewKey {
    pub name: String,
    /// The hash of its first secret.
    pub hash: String,
    /// Words with commas between them.
    pub scopes: String,
    pub collections: Option<Vec<String>>,
    pub filter: Option<String>,
    pub values: Option<Value>,
    pub key_prefix: Option<String>,
    pub searches: Option<Vec<String>>,
    pub requests_per_s: Option<u32>,
    /// Of one request.
    pub body_bytes: Option<i64>,
    pub expires_at: Option<DateTime<Utc>>,
    pub created_by: Option<String>,
}

/// A key that lets in, and the secret that was shown.
#[derive(Clone, Debug, PartialEq)]
pub struct Opened {
    pub key: access_key::Model,
    /// The hash of the secret: for a session, of the one that it was made with.
    pub secret: String,
    /// When the secret or the key ends, whichever is first.
    pub secret_ends_at: Option<DateTime<Utc>>,
    /// When this way in ends: with the secret, the session or the key, whichever is first.
    pub ends_at: Option<DateTime<Utc>>,
}

/// Whether a change of keys was made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KeyEdit {
    Done,
    /// It would leave no key that can manage everything.
    LastManager,
}

/// Whether a key can manage everything now.
fn manages(key: &access_key::Model) -> bool {
    key.collections.is_none()
        && key.scopes.split(',').any(|s| s == "manage")
        && key.expires_at.is_none_or(|at| at > Utc::now())
}

fn sooner(a: Option<DateTime<Utc>>, b: Option<DateTime<Utc>>) -> Option<DateTime<Utc>> {
    match (a, b) {
        (Some(a), Some(b)) => Some(Ord::min(a, b)),
        (a, b) => a.or(b),
    }
}

impl Catalog {
    /// Makes a key with its first secret.
    pub async fn add_key(&self, new: NewKey) -> Result<access_key::Model> {
        let tx = self.db.begin().await?;
        let name = new.name.clone();
        let key = access_key::ActiveModel {
            id: NotSet,
            name: Set(new.name),
            created_at: Set(Utc::now()),
            scopes: Set(new.scopes),
            collections: Set(new.collections.map(|c| json!(c))),
            filter: Set(new.filter),
            values: Set(new.values),
            key_prefix: Set(new.key_prefix),
            searches: Set(new.searches.map(|s| json!(s))),
            requests_per_s: Set(new.requests_per_s),
            body_bytes: Set(new.body_bytes),
            expires_at: Set(new.expires_at),
            created_by: Set(new.created_by),
            last_used_at: Set(None),
            last_used_from: Set(None),
        };
        let key = key.insert(&tx).await.map_err(|e| unless_taken(e, "key", &name))?;
        self.add_secret(&tx, key.id, &new.hash).await?;
        tx.commit().await?;
        Ok(key)
    }

    async fn add_secret(&self, tx: &Tx, key: i64, hash: &str) -> Result<()> {
        let secret = access_secret::ActiveModel {
            hash: Set(hash.into()),
            key_id: Set(key),
            created_at: Set(Utc::now()),
            ends_at: Set(None),
        };
        access_secret::Entity::insert(secret).exec_without_returning(tx).await?;
        Ok(())
    }

    pub async fn keys(&self) -> Result<Vec<access_key::Model>> {
        Ok(access_key::Entity::find().order_by_asc(access_key::Column::Id).all(&self.db).await?)
    }

    pub async fn n_keys(&self) -> Result<u64> {
        Ok(access_key::Entity::find().count(&self.db).await?)
    }

    /// Old secrets that are still good, each with its key's id and its end.
    pub async fn old_secrets(&self) -> Result<Vec<(i64, DateTime<Utc>)>> {
        let ending = access_secret::Entity::find()
            .filter(access_secret::Column::EndsAt.gt(Utc::now()))
            .order_by_asc(access_secret::Column::EndsAt)
            .all(&self.db)
            .await?;
        Ok(ending.into_iter().filter_map(|s| Some((s.key_id, s.ends_at?))).collect())
    }

    /// Every key, locked until the transaction ends: of two who take the last managers away, one is refused.
    async fn locked_keys(&self, tx: &Tx) -> Result<Vec<access_key::Model>> {
        Ok(access_key::Entity::find().order_by_asc(access_key::Column::Id).lock_exclusive().all(tx).await?)
    }

    /// Removes a key, its secrets, and everything that was signed in with it.
    pub async fn remove_key(&self, name: &str) -> Result<KeyEdit> {
        let tx = self.db.begin().await?;
        let keys = self.locked_keys(&tx).await?;
        let key = keys.iter().find(|k| k.name == name);
        let key = key.ok_or_else(|| CatalogError::Missing { what: "key", name: name.into() })?;
        if manages(key) && !keys.iter().any(|k| k.id != key.id && manages(k)) {
            return Ok(KeyEdit::LastManager);
        }
        access_ticket::Entity::delete_many()
            .filter(access_ticket::Column::KeyId.eq(key.id))
            .exec(&tx)
            .await?;
        access_secret::Entity::delete_many()
            .filter(access_secret::Column::KeyId.eq(key.id))
            .exec(&tx)
            .await?;
        access_key::Entity::delete_by_id(key.id).exec(&tx).await?;
        tx.commit().await?;
        Ok(KeyEdit::Done)
    }

    /// Changes what a key permits: `change` gets it as it is now, while nobody else can change it.
    pub async fn change_key<E>(
        &self,
        name: &str,
        change: impl FnOnce(&mut access_key::Model) -> std::result::Result<(), E>,
    ) -> Result<std::result::Result<KeyEdit, E>> {
        let tx = self.db.begin().await?;
        let mut keys = self.locked_keys(&tx).await?;
        let at = keys.iter().position(|k| k.name == name);
        let at = at.ok_or_else(|| CatalogError::Missing { what: "key", name: name.into() })?;
        let managed = manages(&keys[at]);
        if let Err(e) = change(&mut keys[at]) {
            return Ok(Err(e));
        }
        if managed && !keys.iter().any(manages) {
            return Ok(Ok(KeyEdit::LastManager));
        }
        let key = keys.swap_remove(at);
        let update = access_key::ActiveModel {
            id: Unchanged(key.id),
            scopes: Set(key.scopes),
            collections: Set(key.collections),
            searches: Set(key.searches),
            requests_per_s: Set(key.requests_per_s),
            body_bytes: Set(key.body_bytes),
            expires_at: Set(key.expires_at),
            ..Default::default()
        };
        access_key::Entity::update(update).validate()?.exec(&tx).await?;
        tx.commit().await?;
        Ok(Ok(KeyEdit::Done))
    }

    /// Gives a key a new secret. The secrets before end after `overlap`, with all that was signed in with them.
    pub async fn rotate_key(
        &self,
        name: &str,
        hash: &str,
        overlap: TimeDelta,
    ) -> Result<Option<DateTime<Utc>>> {
        let tx = self.db.begin().await?;
        let key = access_key::Entity::find()
            .filter(access_key::Column::Name.eq(name))
            .lock_exclusive()
            .one(&tx)
            .await?;
        let key = key.ok_or_else(|| CatalogError::Missing { what: "key", name: name.into() })?;
        let (now, until) = (Utc::now(), Utc::now() + overlap);
        use access_secret::Column as S;
        access_secret::Entity::update_many()
            .col_expr(S::EndsAt, Expr::value(until))
            .filter(S::KeyId.eq(key.id))
            .filter(S::EndsAt.is_null().or(S::EndsAt.gt(until)))
            .exec(&tx)
            .await?;
        access_secret::Entity::delete_many()
            .filter(S::KeyId.eq(key.id))
            .filter(S::EndsAt.lte(now))
            .exec(&tx)
            .await?;
        self.add_secret(&tx, key.id, hash).await?;
        tx.commit().await?;
        Ok((overlap > TimeDelta::zero()).then_some(until))
    }

    /// What a secret opens now.
    pub async fn open(&self, hash: &str) -> Result<Option<Opened>> {
        let db = self.db.within(WAITED_FOR);
        let Some(secret) = access_secret::Entity::find_by_id(hash.to_owned()).one(&db).await? else {
            return Ok(None);
        };
        let Some(key) = access_key::Entity::find_by_id(secret.key_id).one(&db).await? else {
            return Ok(None);
        };
        let ends_at = sooner(secret.ends_at, key.expires_at);
        let is_over = ends_at.is_some_and(|at| at <= Utc::now());
        Ok((!is_over).then_some(Opened { key, secret: secret.hash, secret_ends_at: ends_at, ends_at }))
    }

    /// Notes that keys were used, each when and from where.
    pub async fn keys_used(&self, used: &[(i64, DateTime<Utc>, String)]) -> Result<()> {
        for (key, at, from) in used {
            let update = access_key::ActiveModel {
                id: Unchanged(*key),
                last_used_at: Set(Some(*at)),
                last_used_from: Set(Some(from.clone())),
                ..Default::default()
            };
            access_key::Entity::update_many()
                .set(update)
                .filter(access_key::Column::Id.eq(*key))
                .exec(&self.db.within(WAITED_FOR))
                .await?;
        }
        Ok(())
    }

    pub async fn add_ticket(
        &self,
        kind: Ticket,
        hash: &str,
        opened: (i64, &str),
        until: DateTime<Utc>,
    ) -> Result<()> {
        // Ended ones are swept out on the way.
        access_ticket::Entity::delete_many()
            .filter(access_ticket::Column::ExpiresAt.lt(Utc::now()))
            .exec(&self.db)
            .await?;
        let ticket = access_ticket::ActiveModel {
            hash: Set(hash.into()),
            kind: Set(kind.word().into()),
            key_id: Set(opened.0),
            secret: Set(opened.1.into()),
            expires_at: Set(until),
        };
        access_ticket::Entity::insert(ticket).exec_without_returning(&self.db).await?;
        Ok(())
    }

    async fn ticket(&self, kind: Ticket, hash: &str) -> Result<Option<access_ticket::Model>> {
        Ok(access_ticket::Entity::find_by_id(hash.to_owned())
            .filter(access_ticket::Column::Kind.eq(kind.word()))
            .filter(access_ticket::Column::ExpiresAt.gt(Utc::now()))
            .one(&self.db.within(WAITED_FOR))
            .await?)
    }

    /// What a session opens, while it, its secret and its key last.
    pub async fn session(&self, hash: &str) -> Result<Option<Opened>> {
        let Some(ticket) = self.ticket(Ticket::Session, hash).await? else { return Ok(None) };
        let opened = self.open(&ticket.secret).await?;
        Ok(opened.map(|o| Opened { ends_at: sooner(o.ends_at, Some(ticket.expires_at)), ..o }))
    }

    /// Uses a sign-in link up. Of two who try at once, one gets in.
    pub async fn take_link(&self, hash: &str) -> Result<Option<Opened>> {
        let Some(link) = self.ticket(Ticket::Link, hash).await? else { return Ok(None) };
        let gone = access_ticket::Entity::delete_by_id(hash.to_owned()).exec(&self.db).await?;
        if gone.rows_affected != 1 {
            return Ok(None);
        }
        self.open(&link.secret).await
    }

    pub async fn end_session(&self, hash: &str) -> Result<()> {
        access_ticket::Entity::delete_by_id(hash.to_owned()).exec(&self.db).await?;
        Ok(())
    }
}
