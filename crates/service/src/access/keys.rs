//! Keys, sign-in links and sessions. A request comes with a Bearer token (RFC 6750), or with the session that a
//! one-time link leaves in a browser; both lead to a [`Grant`].
//!
//! Keys and tickets are 32 random bytes, stored as their SHA-256. A slow password hash would add nothing to 256 random
//! bits, and would cost every request.

use crate::access::grant::{Grant, Scope};
use crate::names::check_name;
use crate::node::database::Silence;
use crate::node::random::random_hex;
use crate::problem::{Kind, Problem, Result};
use chrono::{TimeDelta, Utc};
use parking_lot::Mutex;
use sha2::{Digest, Sha256};
use std::collections::HashMap;
use std::time::{Duration, Instant};
use zesty_catalog::access::Ticket;
use zesty_catalog::{Catalog, CatalogError};
use zesty_wire as wire;

const LINK_MINUTES: i64 = 15;
/// How long a browser stays signed in.
pub const SESSION_DAYS: i64 = 30;
/// How long a good key is believed without asking the database: a removed key dies within this.
const BELIEVED: Duration = Duration::from_secs(2);
/// How long a key that was good is believed while the database does not answer: as long as a session may last.
const BELIEVED_IN_SILENCE: Duration = Duration::from_secs(SESSION_DAYS as u64 * 86_400);

/// What a request shows of itself.
pub enum Secret<'a> {
    Key(&'a str),
    Session(&'a str),
}

/// The keys that open this service.
pub struct Keys {
    catalog: Catalog,
    silence: Silence,
    /// Secrets seen lately, by hash: their key, and when the database last knew them.
    believed: Mutex<HashMap<String, (i64, Instant)>>,
}

pub fn new_key() -> String {
    format!("zk_{}", random_hex(32))
}

/// What is stored of a secret.
pub fn hash(secret: &str) -> String {
    Sha256::digest(secret.as_bytes()).iter().map(|b| format!("{b:02x}")).collect()
}

impl Keys {
    pub fn new(catalog: Catalog, silence: Silence) -> Keys {
        Keys { catalog, silence, believed: Mutex::default() }
    }

    /// What a secret allows; `None` when it opens nothing.
    pub async fn grant(&self, secret: Secret<'_>) -> Result<Option<Grant>> {
        Ok(self.key_of(secret).await?.map(Grant::everything))
    }

    async fn key_of(&self, secret: Secret<'_>) -> Result<Option<i64>> {
        let (Secret::Key(text) | Secret::Session(text)) = secret;
        let hash = hash(text);
        let seen = self.believed.lock().get(&hash).copied();
        let within = |limit: Duration| seen.filter(|(_, at)| at.elapsed() < limit).map(|(key, _)| key);
        if let Some(key) = within(BELIEVED) {
            return Ok(Some(key));
        }
        // While the database is known to be silent, nobody waits for it to say so again.
        if self.silence.is_on()
            && let Some(key) = within(BELIEVED_IN_SILENCE)
        {
            return Ok(Some(key));
        }
        let asked = match secret {
            Secret::Session(_) => self.catalog.session(&hash).await,
            Secret::Key(_) => self.catalog.key_by_hash(&hash).await.map(|k| k.map(|k| k.id)),
        };
        match asked {
            Ok(key) => {
                let mut believed = self.believed.lock();
                believed.retain(|_, (_, seen)| seen.elapsed() < BELIEVED_IN_SILENCE);
                match key {
                    Some(key) => drop(believed.insert(hash, (key, Instant::now()))),
                    None => drop(believed.remove(&hash)),
                }
                Ok(key)
            }
            Err(e) => {
                if let CatalogError::Unavailable(_) = &e {
                    self.silence.set(true);
                    if let Some(key) = within(BELIEVED_IN_SILENCE) {
                        return Ok(Some(key));
                    }
                }
                Err(e.into())
            }
        }
    }

    /// Believes nothing any more: a key that was removed here is refused at once.
    fn forget(&self) {
        self.believed.lock().clear();
    }

    pub async fn list(&self, grant: &Grant) -> Result<wire::KeyList> {
        grant.require(Scope::Manage, None)?;
        let keys = self.catalog.keys().await?;
        let view = |k: zesty_catalog::entity::access_key::Model| wire::Key {
            name: k.name,
            created_at: k.created_at,
        };
        Ok(wire::KeyList { keys: keys.into_iter().map(view).collect() })
    }

    pub async fn create(&self, grant: &Grant, request: wire::KeyRequest) -> Result<wire::NewKey> {
        grant.require(Scope::Manage, None)?;
        check_name("key", &request.name, "/name")?;
        let key = new_key();
        self.catalog.add_key(&request.name, &hash(&key)).await?;
        Ok(wire::NewKey { name: request.name, key })
    }

    /// Removes a key, and ends the sessions that were signed in with it.
    pub async fn remove(&self, grant: &Grant, name: &str) -> Result<()> {
        grant.require(Scope::Manage, None)?;
        let keys = self.catalog.keys().await?;
        if !keys.iter().any(|k| k.name == name) {
            return Err(Problem::unknown("key", name, keys.iter().map(|k| k.name.as_str())));
        }
        if keys.len() == 1 {
            let detail = "this is the last key; make another one first, or nobody can use the service";
            return Err(Problem::new(Kind::StillUsed, detail));
        }
        self.catalog.remove_key(name).await?;
        self.forget();
        Ok(())
    }

    /// A link that signs one browser in, once.
    pub async fn sign_in_link(&self, grant: &Grant) -> Result<wire::SignInLink> {
        grant.require(Scope::Search, None)?;
        let ticket = random_hex(32);
        let expires_at = Utc::now() + TimeDelta::minutes(LINK_MINUTES);
        self.catalog.add_ticket(Ticket::Link, &hash(&ticket), grant.key(), expires_at).await?;
        Ok(wire::SignInLink { path: format!("/sign-in/{ticket}"), expires_at })
    }

    /// Uses a link up; returns the secret of a new session, or `None` when the link is used or too old.
    pub async fn sign_in(&self, ticket: &str) -> Result<Option<String>> {
        let Some(key) = self.catalog.take_link(&hash(ticket)).await? else { return Ok(None) };
        let session = random_hex(32);
        let until = Utc::now() + TimeDelta::days(SESSION_DAYS);
        self.catalog.add_ticket(Ticket::Session, &hash(&session), key, until).await?;
        Ok(Some(session))
    }

    /// Ends a session.
    pub async fn sign_out(&self, grant: &Grant, session: Option<&str>) -> Result<()> {
        grant.require(Scope::Search, None)?;
        if let Some(session) = session {
            self.catalog.end_session(&hash(session)).await?;
            self.forget();
        }
        Ok(())
    }
}
