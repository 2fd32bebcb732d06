//! Problem Details (RFC 9457): every way in which the service refuses a request.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// The kinds of refusal. The word is the last part of the problem's `type`; words are permanent.
macro_rules! kinds {
    ($($kind:ident $word:literal $status:literal $title:literal,)*) => {
        /// A kind of refusal.
        #[derive(Clone, Copy, Debug, PartialEq, Eq)]
        pub enum Kind { $($kind,)* }
        impl Kind {
            pub const ALL: &[Kind] = &[$(Kind::$kind,)*];
            /// The last part of the problem's `type`.
            pub fn word(self) -> &'static str { match self { $(Kind::$kind => $word,)* } }
            /// The HTTP status.
            pub fn status(self) -> u16 { match self { $(Kind::$kind => $status,)* } }
            /// A short title for people.
            pub fn title(self) -> &'static str { match self { $(Kind::$kind => $title,)* } }
        }
    };
}

kinds! {
    NoKey "no-key" 401 "No valid key",
    NotPermitted "not-permitted" 403 "The key does not permit this",
    UnknownRoute "unknown-route" 404 "Nothing is served here",
    WrongMethod "wrong-method" 405 "The route does not take this method",
    MalformedJson "malformed-json" 400 "The body is not JSON",
    InvalidText "invalid-utf8" 400 "The body is not UTF-8",
    WrongMedia "wrong-media-type" 415 "This route does not read bodies of this type",
    TooLarge "body-too-large" 413 "The body is too large",
    BrokenBody "broken-body" 400 "The connection broke before the body ended",
    WrongShape "wrong-shape" 422 "The request does not have the expected shape",
    InvalidName "invalid-name" 422 "The name is not allowed",
    NameTaken "name-taken" 409 "The name is taken",
    StillUsed "still-used" 409 "It is still in use",
    Conflict "edit-conflict" 412 "Somebody else changed the record",
    Unknown "unknown-name" 404 "There is nothing of this name",
    InvalidSchema "invalid-schema" 422 "The description of the fields is not valid",
    InvalidKey "invalid-record-key" 422 "The record key is not allowed",
    RepeatedKey "repeated-key" 422 "One batch contains a key twice",
    WrongField "wrong-field" 422 "A field is unknown or has the wrong type",
    WrongEncoder "wrong-encoder" 422 "The vectors come from another encoder",
    Reshaped "shape-changed" 409 "The fields or columns of the collection have changed",
    WrongFile "wrong-file" 422 "The file is not readable",
    WrongOffset "wrong-offset" 409 "The upload continues at another offset",
    WrongVector "wrong-vector" 422 "A vector does not fit its column",
    InvalidK "invalid-k" 422 "The number of hits is out of range",
    InvalidSettings "invalid-settings" 422 "The settings are out of range",
    InvalidFilter "invalid-filter" 422 "The filter is not valid",
    InvalidRecipe "invalid-recipe" 422 "The recipe is not valid",
    NoEncoder "no-encoder" 422 "The column has no encoder",
    NotReady "not-ready" 409 "It is not ready",
    NoMemory "over-memory-budget" 422 "It does not fit the memory budget",
    NoData "no-data" 422 "There is no data to work on",
    EncoderFailed "encoder-failed" 502 "The encoder did not give a usable answer",
    Busy "busy" 503 "Other requests hold what it needs",
    Overloaded "overloaded" 503 "The service has as much to do as it can",
    TooMany "too-many-requests" 429 "The key has made as many requests as it may",
    Closed "collection-closed" 503 "This node cannot open the collection",
    Unsure "outcome-unknown" 503 "The outcome of the write is not known",
    NoDatabase "database-unavailable" 503 "The database does not answer",
    NoSpace "no-space" 507 "The disk is full",
    Internal "internal" 500 "The service made a mistake",
}

/// What every `type` begins with.
pub const TYPE_PREFIX: &str = "urn:zesty-lantern:problem:";

/// Problem Details (RFC 9457)
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Problem {
    /// `urn:zesty-lantern:problem:` and a permanent word
    pub r#type: String,
    pub title: String,
    pub status: u16,
    /// What is wrong, where, and what would work
    pub detail: String,
    /// JSON Pointer to the wrong input
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pointer: Option<String>,
    pub request_id: String,
    /// Numbers and names that belong to this kind, such as `expected` and `got`
    #[serde(flatten)]
    #[cfg_attr(feature = "openapi", schema(ignore))]
    pub rest: Map<String, Value>,
}

impl Problem {
    /// The permanent word at the end of the type.
    pub fn word(&self) -> &str {
        self.r#type.strip_prefix(TYPE_PREFIX).unwrap_or("")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashSet;

    #[test]
    fn words_are_unique_and_plain() {
        let words: HashSet<_> = Kind::ALL.iter().map(|k| k.word()).collect();
        assert_eq!(words.len(), Kind::ALL.len());
        assert!(words.iter().all(|w| w.chars().all(|c| c.is_ascii_lowercase() || c == '-' || c == '8')));
    }
}
