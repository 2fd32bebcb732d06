//! A grant: who asks, and what they may do. Every use case takes one, so no path can forget to check it.

use crate::problem::{Kind, Problem, Result};
use chrono::{DateTime, Utc};
use serde_json::{Map, Value};
use std::sync::Arc;
use zesty_engine::filter::Filter;
pub use zesty_wire::Scope;
use zesty_wire::{self as wire, NewRecord};

/// What a key permits, and by which way it came in. Clones share it.
#[derive(Clone, Debug)]
pub struct Grant(Arc<Parts>);

/// What a grant is made of.
#[derive(Clone, Debug)]
pub struct Parts {
    /// The id of the key that the request came with.
    pub key: i64,
    /// The hash of the secret that was shown, or that the session was made with.
    pub secret: String,
    pub permit: wire::Permit,
    /// The permit's filter, read.
    pub filter: Option<Filter>,
    /// When the secret or the key ends, whichever is first.
    pub secret_ends_at: Option<DateTime<Utc>>,
}

impl Grant {
    pub fn new(parts: Parts) -> Grant {
        Grant(Arc::new(parts))
    }

    /// No scope: every use case refuses it.
    #[cfg(test)]
    pub fn nothing() -> Grant {
        Grant::limited(u32::MAX)
    }

    /// No scope, and so many requests a second.
    #[cfg(test)]
    pub fn limited(requests_per_s: u32) -> Grant {
        let permit = wire::Permit {
            name: "nothing".into(),
            scopes: Vec::new(),
            collections: None,
            filter: None,
            values: Map::new(),
            key_prefix: None,
            searches: None,
            requests_per_s: Some(requests_per_s),
            body_bytes: None,
            expires_at: None,
        };
        Grant::new(Parts { key: 0, secret: String::new(), permit, filter: None, secret_ends_at: None })
    }

    /// The id of the key that the request came with.
    pub fn key(&self) -> i64 {
        self.0.key
    }

    pub fn name(&self) -> &str {
        &self.0.permit.name
    }

    pub fn permit(&self) -> &wire::Permit {
        &self.0.permit
    }

    /// The hash of the secret behind the request.
    pub fn secret(&self) -> &str {
        &self.0.secret
    }

    /// When the secret or the key ends, whichever is first; nothing that is made with it lasts longer.
    pub fn secret_ends_at(&self) -> Option<DateTime<Utc>> {
        self.0.secret_ends_at
    }

    /// The filter that everything through this key is bound to.
    pub fn filter(&self) -> Option<&Filter> {
        self.0.filter.as_ref()
    }

    /// Whether the key is good for all collections and the service itself.
    pub fn is_over_all(&self) -> bool {
        self.0.permit.collections.is_none()
    }

    pub fn covers(&self, collection: &str) -> bool {
        self.0.permit.collections.as_ref().is_none_or(|names| names.iter().any(|n| n == collection))
    }

    /// Whether the key sees, or writes, less than all records of its collections.
    pub fn is_narrow(&self) -> bool {
        let permit = &self.0.permit;
        permit.filter.is_some() || !permit.values.is_empty() || permit.key_prefix.is_some()
    }

    /// Whoever may search may ask what others have saved.
    fn has(&self, scope: Scope) -> bool {
        let scopes = &self.0.permit.scopes;
        scopes.contains(&scope) || scope == Scope::Ask && scopes.contains(&Scope::Search)
    }

    /// Whether this key may ask a saved search of a collection that it covers.
    pub fn may_ask(&self, saved: &str) -> bool {
        self.0.permit.searches.as_ref().is_none_or(|names| names.iter().any(|n| n == saved))
    }

    /// Refuses unless this key may ask a saved search of a collection that it covers.
    pub fn require_asking(&self, saved: &str) -> Result<()> {
        if self.may_ask(saved) {
            return Ok(());
        }
        let name = self.name();
        let detail = format!(
            "key \"{name}\" may not ask the saved search \"{saved}\"; who manages keys can allow it: zesty key allow \
             {name} --search {saved}"
        );
        Err(Problem::new(Kind::NotPermitted, detail).with("scope", Scope::Ask.word()))
    }

    /// Refuses unless this grant has `scope` over `what`: a collection by name, or `None` for the service.
    pub fn require(&self, scope: Scope, what: Option<&str>) -> Result<()> {
        let has_scope = self.has(scope);
        let covers = match what {
            Some(name) => self.covers(name),
            None => self.is_over_all(),
        };
        if has_scope && covers {
            return Ok(());
        }
        let (name, word) = (self.name(), scope.word());
        let over = what.map_or("the service".to_owned(), |name| format!("collection \"{name}\""));
        let mut missing = String::new();
        if !has_scope {
            missing += &format!(" --scope {word}");
        }
        if let Some(collection) = what.filter(|_| !covers) {
            missing += &format!(" --collection {collection}");
        }
        let remedy = match what {
            None if !covers => {
                "it is good for named collections only; this takes a key that is good for all of them"
                    .to_owned()
            }
            // To write, a bound key needs values and a prefix; and it cannot tune or manage at all.
            Some(collection) if !has_scope && self.is_narrow() => {
                let bound = match scope {
                    Scope::Write => " --filter ... --value ... --key-prefix ...",
                    _ => "",
                };
                format!(
                    "it is bound to a part of the records, so who manages keys has to make another one: \
                     zesty key make NAME --scope {word} --collection {collection}{bound}"
                )
            }
            _ => format!("who manages keys can allow it: zesty key allow {name}{missing}"),
        };
        let detail = format!("key \"{name}\" does not have the scope \"{word}\" over {over}; {remedy}");
        Err(Problem::new(Kind::NotPermitted, detail).with("scope", word).with("collection", what))
    }

    /// Refuses unless this grant has `scope` over anything.
    pub fn require_anywhere(&self, scope: Scope) -> Result<()> {
        if self.has(scope) {
            return Ok(());
        }
        let (name, word) = (self.name(), scope.word());
        let detail = format!(
            "key \"{name}\" does not have the scope \"{word}\"; who manages keys can allow it: zesty key allow {name} \
             --scope {word}"
        );
        Err(Problem::new(Kind::NotPermitted, detail).with("scope", word))
    }

    /// Refuses a key that sees, or writes, less than all records: what it asks for goes over all of them.
    pub fn require_wide(&self) -> Result<()> {
        if !self.is_narrow() {
            return Ok(());
        }
        let detail = format!(
            "key \"{}\" is bound to a part of the records, and this goes over all of them; it takes a key without a \
             filter, values or key prefix",
            self.name()
        );
        Err(Problem::new(Kind::NotPermitted, detail))
    }

    /// Whether this key may write a record under `key`.
    pub fn may_write_key(&self, key: &str) -> bool {
        self.0.permit.key_prefix.as_ref().is_none_or(|prefix| key.starts_with(prefix.as_str()))
    }

    /// Refuses to write under a record key that is not this key's.
    pub fn require_record_key(&self, key: &str, pointer: &str) -> Result<()> {
        if self.may_write_key(key) {
            return Ok(());
        }
        let prefix = self.0.permit.key_prefix.as_deref().unwrap_or_default();
        let detail = format!(
            "key \"{}\" writes records whose keys begin with \"{prefix}\", and \"{key}\" does not",
            self.name()
        );
        Err(Problem::new(Kind::NotPermitted, detail).at(pointer))
    }

    /// Sets the fixed values in the fields of a record that is written whole.
    pub fn stamp(&self, record: &mut NewRecord, pointer: &str) -> Result<()> {
        self.require_record_key(&record.key, &format!("{pointer}/key"))?;
        self.require_fixed(&record.fields, &format!("{pointer}/fields"))?;
        for (field, value) in &self.0.permit.values {
            record.fields.insert(field.clone(), value.clone());
        }
        Ok(())
    }

    /// Refuses fields that give a fixed field another value.
    pub fn require_fixed(&self, fields: &Map<String, Value>, pointer: &str) -> Result<()> {
        let mut fixed = self.0.permit.values.iter();
        let Some((field, value)) = fixed.find(|(f, v)| fields.get(*f).is_some_and(|given| given != *v))
        else {
            return Ok(());
        };
        let detail = format!(
            "key \"{}\" sets \"{field}\" to {value} in every record, and it cannot be changed; leave the field out",
            self.name()
        );
        Err(Problem::new(Kind::NotPermitted, detail).at(format!("{pointer}/{field}")))
    }
}
