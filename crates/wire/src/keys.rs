//! Keys: what they permit, and the list of what was done with them.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::fmt;

/// A kind of use that a key permits
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Scope {
    /// Ask the saved searches that are live
    Ask,
    /// Search, and see what searches need: collections, fields, filters
    Search,
    /// Read, count and export records
    Read,
    /// Write, change and delete records; load files
    Write,
    /// Build indexes, measure them, and choose what serves
    Tune,
    /// Create, change and delete collections; manage keys and encoders
    Manage,
}

impl Scope {
    pub const ALL: [Scope; 6] =
        [Scope::Ask, Scope::Search, Scope::Read, Scope::Write, Scope::Tune, Scope::Manage];

    /// The word that people use.
    pub fn word(self) -> &'static str {
        match self {
            Scope::Ask => "ask",
            Scope::Search => "search",
            Scope::Read => "read",
            Scope::Write => "write",
            Scope::Tune => "tune",
            Scope::Manage => "manage",
        }
    }
}

impl fmt::Display for Scope {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

impl std::str::FromStr for Scope {
    type Err = String;

    fn from_str(word: &str) -> Result<Scope, String> {
        let known = Scope::ALL.into_iter().find(|s| s.word() == word);
        known.ok_or_else(|| {
            format!("there is no scope \"{word}\"; choose from ask, search, read, write, tune, manage")
        })
    }
}

/// What a key permits
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Permit {
    pub name: String,
    pub scopes: Vec<Scope>,
    /// The collections it is good for; null for all of them and the service itself
    #[cfg_attr(feature = "openapi", schema(required))]
    pub collections: Option<Vec<String>>,
    /// CQL2 text: records outside of it do not exist for this key
    #[cfg_attr(feature = "openapi", schema(required))]
    pub filter: Option<String>,
    /// Fields that are set in every record it writes
    #[cfg_attr(feature = "openapi", schema(value_type = Object))]
    pub values: Map<String, Value>,
    /// How the keys of records begin that it may write
    #[cfg_attr(feature = "openapi", schema(required))]
    pub key_prefix: Option<String>,
    /// The saved searches that it may ask; null for all that are live
    #[cfg_attr(feature = "openapi", schema(required))]
    pub searches: Option<Vec<String>>,
    /// Requests that each node takes from it in a second; null for as many as come
    #[cfg_attr(feature = "openapi", schema(required))]
    pub requests_per_s: Option<u32>,
    /// Bytes that the body of one of its requests may have; null for what the routes take
    #[cfg_attr(feature = "openapi", schema(required))]
    pub body_bytes: Option<u64>,
    /// When it ends; null for never
    #[cfg_attr(feature = "openapi", schema(required))]
    pub expires_at: Option<DateTime<Utc>>,
}

/// A key, without its secret
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Key {
    pub permit: Permit,
    pub created_at: DateTime<Utc>,
    /// The key that made it; null for the first one, and for those made on the service's machine
    #[cfg_attr(feature = "openapi", schema(required))]
    pub created_by: Option<String>,
    /// When it was last used, to the minute
    #[cfg_attr(feature = "openapi", schema(required))]
    pub last_used_at: Option<DateTime<Utc>>,
    /// The address it was last used from
    #[cfg_attr(feature = "openapi", schema(required))]
    pub last_used_from: Option<String>,
    /// After a rotation: when the secret before ends
    #[cfg_attr(feature = "openapi", schema(required))]
    pub old_secret_ends_at: Option<DateTime<Utc>>,
}

/// Every key
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct KeyList {
    pub keys: Vec<Key>,
}

/// A key to make
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct KeyRequest {
    pub name: String,
    /// At least one
    pub scopes: Vec<Scope>,
    /// Up to 100 names; all collections, and the service itself, when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub collections: Option<Vec<String>>,
    /// CQL2 text that all it sees is bound to. Goes with the scopes ask, search, read and write, over named collections
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub filter: Option<String>,
    /// Fields that are set in every record it writes. With a filter and the scope write, they must satisfy the filter
    #[serde(default, skip_serializing_if = "Map::is_empty")]
    #[cfg_attr(feature = "openapi", schema(value_type = Object))]
    pub values: Map<String, Value>,
    /// How the keys of records begin that it may write, 1 to 64 bytes. With a filter and the scope write it is needed,
    /// so that tenants cannot meet under one record key
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_prefix: Option<String>,
    /// Saved searches that it may ask, up to 100 names; all that are live when absent. Goes with the scope ask alone
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub searches: Option<Vec<String>>,
    /// Requests that each node takes from it in a second, 1 to 100000; as many as come when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub requests_per_s: Option<u32>,
    /// Bytes that the body of one of its requests may have, at least 1024; what the routes take when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub body_bytes: Option<u64>,
    /// When it ends; never when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires_at: Option<DateTime<Utc>>,
}

/// A change of what a key permits
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct KeyChange {
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub add_scopes: Vec<Scope>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub remove_scopes: Vec<Scope>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub add_collections: Vec<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub remove_collections: Vec<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub add_searches: Vec<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub remove_searches: Vec<String>,
    /// Another rate, 1 to 100000; 0 for none
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub requests_per_s: Option<u32>,
    /// Another limit of bodies, at least 1024; 0 for none
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub body_bytes: Option<u64>,
    /// A new end
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires_at: Option<DateTime<Utc>>,
}

/// A new secret for a key
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RotateRequest {
    /// Seconds for which the secret before stays good, 0 to 2592000 (30 days)
    #[serde(default)]
    pub overlap_s: u32,
}

/// A secret that was made
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct NewKey {
    pub name: String,
    /// Shown only once; the service keeps its hash
    pub key: String,
    /// After a rotation: when the secret before ends
    #[cfg_attr(feature = "openapi", schema(required))]
    pub old_secret_ends_at: Option<DateTime<Utc>>,
}

/// What the key of the request permits, and what it sees
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct OwnKey {
    pub permit: Permit,
    /// The collections that are there and that it is good for
    pub sees: Vec<Seen>,
}

/// A collection as a key sees it
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Seen {
    pub collection: String,
    /// Records that the key's filter allows
    pub n_records: usize,
    /// Why the key's filter does not fit the collection, where it does not: then the key sees nothing of it
    #[cfg_attr(feature = "openapi", schema(required))]
    pub trouble: Option<String>,
}

/// Something that was done, or refused
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct AuditEntry {
    pub id: i64,
    pub at: DateTime<Utc>,
    /// The name of the key that asked
    pub key: String,
    /// The HTTP method
    pub method: String,
    /// The path of the request
    pub path: String,
    /// The HTTP status of the answer
    pub status: u16,
    /// The address that asked
    pub from: String,
    pub request_id: String,
}

/// What was done, newest first
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct AuditList {
    pub entries: Vec<AuditEntry>,
    /// Give it as `before` for the page after this one
    #[cfg_attr(feature = "openapi", schema(required))]
    pub next: Option<i64>,
}
