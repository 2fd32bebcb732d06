//! Keys, sign-in links and sessions. A request comes with a Bearer token (RFC 6750), or with the session that a
//! one-time link leaves in a browser; both lead to a [`Grant`].
//!
//! Keys and tickets are 32 random bytes, stored as their SHA-256. A slow password hash would add nothing to 256 random
//! bits, and would cost every request.

use crate::access::believed::{Believed, Open, Opens, Unsaid};
use crate::access::check::{checked_change, checked_key, permit};
use crate::access::grant::{Grant, Parts, Scope};
use crate::collections::registry::Registry;
use crate::node::database::Silence;
use crate::node::random::{hex, random_hex};
use crate::problem::{Kind, Problem, Result};
use chrono::{DateTime, TimeDelta, Utc};
use futures::FutureExt;
use parking_lot::Mutex;
use sha2::{Digest, Sha256};
use std::collections::HashMap;
use std::net::IpAddr;
use std::time::Duration;
use zesty_catalog::Catalog;
use zesty_catalog::access::{KeyEdit, Opened, Ticket};
use zesty_engine::filter::Filter;
use zesty_wire as wire;

const LINK_MINUTES: i64 = 15;
/// How long a browser stays signed in.
pub const SESSION_DAYS: i64 = 30;
/// How long a key that was good is believed while the database does not answer: as long as a session may last.
const BELIEVED_IN_SILENCE: Duration = Duration::from_secs(SESSION_DAYS as u64 * 86_400);

/// Seconds for which a secret may stay good after a rotation.
pub const MOST_OVERLAP_S: u32 = 30 * 86_400;
/// How often it is noted that a key was used.
const NOTED_EVERY: TimeDelta = TimeDelta::minutes(1);

/// When a key was used, and from where.
#[derive(Clone, Copy)]
struct Use {
    at: DateTime<Utc>,
    from: Option<IpAddr>,
    noted: bool,
}

/// The keys that open this service.
pub struct Keys {
    catalog: Catalog,
    /// Secrets seen lately.
    believed: Believed,
    /// The last use of each key.
    used: Mutex<HashMap<i64, Use>>,
}

pub fn new_key() -> String {
    format!("zk_{}", random_hex(32))
}

/// What is stored of a secret.
pub fn hash(secret: &str) -> String {
    hex(Sha256::digest(secret.as_bytes()))
}

impl Keys {
    pub fn new(catalog: Catalog, silence: Silence) -> Keys {
        let asked = catalog.clone();
        let ask = move |opens, digest: [u8; 32]| {
            let catalog = asked.clone();
            async move {
                let hash = hex(digest);
                let opened = match opens {
                    Opens::Session => catalog.session(&hash).await,
                    Opens::Key => catalog.open(&hash).await,
                };
                opened.map_err(Unsaid::Catalog)?.map(open).transpose().map_err(Unsaid::Problem)
            }
            .boxed()
        };
        let believed = Believed::new(Box::new(ask), silence, BELIEVED_IN_SILENCE);
        Keys { catalog, believed, used: Mutex::default() }
    }

    /// What a secret allows; `None` when it opens nothing.
    pub async fn grant(&self, opens: Opens, secret: &str) -> Result<Option<Grant>> {
        self.believed.grant(opens, secret).await
    }

    /// Notes that a key was used; it is kept with the next [`Keys::keep_uses`].
    pub fn used(&self, grant: &Grant, from: Option<IpAddr>) {
        let now = Utc::now();
        let mut used = self.used.lock();
        let last = used.entry(grant.key()).or_insert(Use { at: now, from, noted: false });
        if now - last.at >= NOTED_EVERY || last.from != from {
            *last = Use { at: now, from, noted: false };
        }
    }

    /// Keeps when keys were used last.
    pub async fn keep_uses(&self) -> Result<()> {
        let fresh: Vec<(i64, Use)> =
            self.used.lock().iter().filter(|(_, u)| !u.noted).map(|(k, u)| (*k, *u)).collect();
        let from = |u: &Use| u.from.map_or_else(String::new, |ip| ip.to_string());
        let rows: Vec<_> = fresh.iter().map(|(key, u)| (*key, u.at, from(u))).collect();
        self.catalog.keys_used(&rows).await?;
        let mut used = self.used.lock();
        for (key, kept) in fresh {
            if let Some(last) = used.get_mut(&key).filter(|u| u.at == kept.at) {
                last.noted = true;
            }
        }
        Ok(())
    }

    pub async fn list(&self, grant: &Grant) -> Result<wire::KeyList> {
        grant.require(Scope::Manage, None)?;
        let (keys, old) = (self.catalog.keys().await?, self.catalog.old_secrets().await?);
        let used = self.used.lock().clone();
        let view = |k: zesty_catalog::entity::access_key::Model| wire::Key {
            last_used_at: used.get(&k.id).map(|u| u.at).max(k.last_used_at),
            last_used_from: match used.get(&k.id) {
                Some(here) if Some(here.at) >= k.last_used_at => here.from.map(|ip| ip.to_string()),
                _ => k.last_used_from.clone().filter(|from| !from.is_empty()),
            },
            old_secret_ends_at: old.iter().find(|(key, _)| *key == k.id).map(|(_, at)| *at),
            created_at: k.created_at,
            created_by: k.created_by.clone(),
            permit: permit(k),
        };
        Ok(wire::KeyList { keys: keys.into_iter().map(view).collect() })
    }

    async fn one(&self, grant: &Grant, name: &str) -> Result<wire::Key> {
        let mut keys = self.list(grant).await?.keys;
        match keys.iter().position(|k| k.permit.name == name) {
            Some(at) => Ok(keys.swap_remove(at)),
            None => Err(Problem::unknown("key", name, keys.iter().map(|k| k.permit.name.as_str()))),
        }
    }

    pub async fn create(
        &self,
        grant: &Grant,
        registry: &Registry,
        request: wire::KeyRequest,
    ) -> Result<wire::NewKey> {
        grant.require(Scope::Manage, None)?;
        let key = new_key();
        let new = checked_key(grant, registry, request, hash(&key))?;
        let name = self.catalog.add_key(new).await?.name;
        Ok(wire::NewKey { name, key, old_secret_ends_at: None })
    }

    /// Changes what a key permits.
    pub async fn change(
        &self,
        grant: &Grant,
        registry: &Registry,
        name: &str,
        change: wire::KeyChange,
    ) -> Result<wire::Key> {
        grant.require(Scope::Manage, None)?;
        self.one(grant, name).await?;
        let edit = self.catalog.change_key(name, |key| checked_change(grant, registry, key, &change)).await?;
        refuse_last(edit?)?;
        self.believed.forget();
        self.one(grant, name).await
    }

    /// Gives a key a new secret; the one before stays good for a while.
    pub async fn rotate(
        &self,
        grant: &Grant,
        name: &str,
        request: wire::RotateRequest,
    ) -> Result<wire::NewKey> {
        grant.require(Scope::Manage, None)?;
        if request.overlap_s > MOST_OVERLAP_S {
            let detail = format!("overlap_s is {}; it goes from 0 to {MOST_OVERLAP_S}", request.overlap_s);
            return Err(Problem::new(Kind::WrongShape, detail).at("/overlap_s"));
        }
        let known = self.one(grant, name).await?;
        // A secret without an end would let a key that ends live on in other hands.
        if grant.secret_ends_at().is_some_and(|at| known.permit.expires_at.is_none_or(|end| end > at)) {
            let detail =
                format!("your own key ends before \"{name}\" does, so it cannot make a secret for it");
            return Err(Problem::new(Kind::NotPermitted, detail));
        }
        let key = new_key();
        let overlap = TimeDelta::seconds(request.overlap_s.into());
        let old_secret_ends_at = self.catalog.rotate_key(name, &hash(&key), overlap).await?;
        self.believed.forget();
        Ok(wire::NewKey { name: name.into(), key, old_secret_ends_at })
    }

    /// Removes a key, and ends the sessions that were signed in with it.
    pub async fn remove(&self, grant: &Grant, name: &str) -> Result<()> {
        grant.require(Scope::Manage, None)?;
        self.one(grant, name).await?;
        refuse_last(self.catalog.remove_key(name).await?)?;
        self.believed.forget();
        Ok(())
    }

    /// What the key of the request permits, and what it sees now.
    pub fn own(&self, grant: &Grant, registry: &Registry) -> wire::OwnKey {
        let scope = grant.permit().scopes.first().copied();
        let reaches = scope.and_then(|scope| registry.granted(grant, scope).ok()).unwrap_or_default();
        let seen = reaches.iter().map(|reach| {
            let n_records = reach.n_records(&reach.live.table.load());
            wire::Seen {
                collection: reach.live.name.clone(),
                trouble: n_records.as_ref().err().map(|p| p.detail.clone()),
                n_records: n_records.unwrap_or(0),
            }
        });
        wire::OwnKey { permit: grant.permit().clone(), sees: seen.collect() }
    }

    /// A link that signs one browser in, once.
    pub async fn sign_in_link(&self, grant: &Grant) -> Result<wire::SignInLink> {
        grant.require_anywhere(Scope::Search)?;
        let ticket = random_hex(32);
        let expires_at = Utc::now() + TimeDelta::minutes(LINK_MINUTES);
        let opened = (grant.key(), grant.secret());
        self.catalog.add_ticket(Ticket::Link, &hash(&ticket), opened, expires_at).await?;
        Ok(wire::SignInLink { path: format!("/sign-in/{ticket}"), expires_at })
    }

    /// Uses a link up; returns the secret of a new session, or `None` when the link is used or too old.
    pub async fn sign_in(&self, ticket: &str) -> Result<Option<String>> {
        let Some(opened) = self.catalog.take_link(&hash(ticket)).await? else { return Ok(None) };
        let session = random_hex(32);
        let until = Utc::now() + TimeDelta::days(SESSION_DAYS);
        let from = (opened.key.id, opened.secret.as_str());
        self.catalog.add_ticket(Ticket::Session, &hash(&session), from, until).await?;
        Ok(Some(session))
    }

    /// Ends a session.
    pub async fn sign_out(&self, grant: &Grant, session: Option<&str>) -> Result<()> {
        grant.require_anywhere(Scope::Search)?;
        if let Some(session) = session {
            self.catalog.end_session(&hash(session)).await?;
            self.believed.forget();
        }
        Ok(())
    }
}

/// What the database says that a secret opens.
fn open(opened: Opened) -> Result<Open> {
    let Opened { key, secret, ends_at, secret_ends_at } = opened;
    let id = key.id;
    let permit = permit(key);
    let filter = permit.filter.as_deref().map(Filter::from_text).transpose().map_err(|e| {
        Problem::new(Kind::Internal, format!("the filter of key \"{}\" cannot be read: {e}", permit.name))
    })?;
    let grant = Grant::new(Parts { key: id, secret, permit, filter, secret_ends_at });
    Ok(Open { grant, ends_at })
}

fn refuse_last(edit: KeyEdit) -> Result<()> {
    match edit {
        KeyEdit::Done => Ok(()),
        KeyEdit::LastManager => {
            let detail = "this is the last key that manages everything; make another one first, or nobody can manage \
                          the service";
            Err(Problem::new(Kind::StillUsed, detail))
        }
    }
}
