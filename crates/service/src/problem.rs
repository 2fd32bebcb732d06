//! Every way to refuse a request: Problem Details (RFC 9457) with a stable type, a detail that
//! says what would work, and a JSON Pointer to the wrong input.

use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde::Serialize;
use serde_json::{Map, Value, json};
use utoipa::ToSchema;
use zesty_catalog::CatalogError;
use zesty_engine::filter::FilterError;
use zesty_engine::metric::VectorError;
use zesty_engine::names::did_you_mean;

/// The kinds of refusal. The word is the last part of the problem's `type`; words are permanent.
macro_rules! kinds {
    ($($kind:ident $word:literal $status:ident $title:literal,)*) => {
        #[derive(Clone, Copy, Debug, PartialEq, Eq)]
        pub enum Kind { $($kind,)* }
        impl Kind {
            pub const ALL: &[Kind] = &[$(Kind::$kind,)*];
            pub fn word(self) -> &'static str { match self { $(Kind::$kind => $word,)* } }
            pub fn status(self) -> StatusCode { match self { $(Kind::$kind => StatusCode::$status,)* } }
            pub fn title(self) -> &'static str { match self { $(Kind::$kind => $title,)* } }
        }
    };
}

kinds! {
    NoKey "no-key" UNAUTHORIZED "No valid key",
    UnknownRoute "unknown-route" NOT_FOUND "Nothing is served here",
    WrongMethod "wrong-method" METHOD_NOT_ALLOWED "The route does not take this method",
    MalformedJson "malformed-json" BAD_REQUEST "The body is not JSON",
    InvalidText "invalid-utf8" BAD_REQUEST "The body is not UTF-8",
    WrongMedia "wrong-media-type" UNSUPPORTED_MEDIA_TYPE "The body has a type that is not read here",
    TooLarge "body-too-large" PAYLOAD_TOO_LARGE "The body is too large",
    BrokenBody "broken-body" BAD_REQUEST "The body broke off",
    WrongShape "wrong-shape" UNPROCESSABLE_ENTITY "The request does not have the expected shape",
    InvalidName "invalid-name" UNPROCESSABLE_ENTITY "The name cannot be used",
    NameTaken "name-taken" CONFLICT "The name is taken",
    StillUsed "still-used" CONFLICT "It is still in use",
    Conflict "edit-conflict" PRECONDITION_FAILED "The record was changed meanwhile",
    Unknown "unknown-name" NOT_FOUND "No such thing",
    InvalidSchema "invalid-schema" UNPROCESSABLE_ENTITY "The fields are not described correctly",
    InvalidKey "invalid-record-key" UNPROCESSABLE_ENTITY "The record key cannot be used",
    RepeatedKey "repeated-key" UNPROCESSABLE_ENTITY "A key stands twice in one batch",
    WrongField "wrong-field" UNPROCESSABLE_ENTITY "A field is unknown or of the wrong type",
    WrongEncoder "wrong-encoder" UNPROCESSABLE_ENTITY "The vectors come from another encoder",
    Reshaped "shape-changed" CONFLICT "The collection's fields or columns changed meanwhile",
    WrongFile "wrong-file" UNPROCESSABLE_ENTITY "The file cannot be read",
    WrongOffset "wrong-offset" CONFLICT "The upload stands elsewhere",
    WrongVector "wrong-vector" UNPROCESSABLE_ENTITY "A vector does not fit its column",
    InvalidK "invalid-k" UNPROCESSABLE_ENTITY "The number of hits is out of range",
    InvalidSettings "invalid-settings" UNPROCESSABLE_ENTITY "The settings are out of range",
    InvalidFilter "invalid-filter" UNPROCESSABLE_ENTITY "The filter cannot be read",
    InvalidRecipe "invalid-recipe" UNPROCESSABLE_ENTITY "The recipe cannot be read",
    NoEncoder "no-encoder" UNPROCESSABLE_ENTITY "The column has no encoder",
    NotReady "not-ready" CONFLICT "The index is not ready",
    NoMemory "over-memory-budget" UNPROCESSABLE_ENTITY "It would not fit the memory budget",
    NoData "no-data" UNPROCESSABLE_ENTITY "There is nothing to work on",
    EncoderFailed "encoder-failed" BAD_GATEWAY "The encoder did not answer as it should",
    Busy "busy" SERVICE_UNAVAILABLE "Others are in the way",
    Closed "collection-closed" SERVICE_UNAVAILABLE "The collection cannot be opened on this node",
    Unsure "outcome-unknown" SERVICE_UNAVAILABLE "It is not known whether the write was kept",
    NoDatabase "database-unavailable" SERVICE_UNAVAILABLE "The database does not answer",
    NoSpace "no-space" INSUFFICIENT_STORAGE "The disk is full",
    Internal "internal" INTERNAL_SERVER_ERROR "Our mistake",
}

/// A refusal. It becomes a response body at the edge, where the request id is known.
#[derive(Clone, Debug)]
pub struct Problem {
    pub kind: Kind,
    pub detail: String,
    pub pointer: Option<String>,
    pub extra: Vec<(&'static str, Value)>,
}

pub type Result<T, E = Problem> = std::result::Result<T, E>;

impl Problem {
    pub fn new(kind: Kind, detail: impl Into<String>) -> Problem {
        Problem { kind, detail: detail.into(), pointer: None, extra: Vec::new() }
    }

    pub fn at(mut self, pointer: impl Into<String>) -> Problem {
        self.pointer = Some(pointer.into());
        self
    }

    /// The same in a part of a larger request.
    pub fn inside(mut self, pointer: &str) -> Problem {
        self.pointer = Some(format!("{pointer}{}", self.pointer.unwrap_or_default()));
        self
    }

    pub fn with(mut self, name: &'static str, value: impl Serialize) -> Problem {
        self.extra.push((name, json!(value)));
        self
    }

    /// No such collection, column, index, record...; suggests the nearest known name.
    pub fn unknown<'a>(what: &str, name: &str, known: impl IntoIterator<Item = &'a str>) -> Problem {
        let known: Vec<&str> = known.into_iter().collect();
        let hint = did_you_mean(name, known.iter().copied());
        let list = match known.len() {
            0 => String::new(),
            1..=12 if hint.is_empty() => format!("; there is {}", known.join(", ")),
            _ => String::new(),
        };
        Problem::new(Kind::Unknown, format!("there is no {what} \"{name}\"{hint}{list}")).with("what", what)
    }

    pub fn filter(error: &FilterError, text: &str) -> Problem {
        if let Some(pointer) = &error.pointer {
            let place = if pointer.is_empty() { String::new() } else { format!(" at {pointer}") };
            return Problem::new(Kind::InvalidFilter, format!("filter{place}: {error}"))
                .at(format!("/filter{pointer}"))
                .with("at", json!({"pointer": pointer, "message": error.message}));
        }
        let (line, column) = error.place(text);
        Problem::new(Kind::InvalidFilter, format!("filter, line {line}, column {column}: {error}"))
            .at("/filter")
            .with(
                "at",
                json!({"start": error.start, "end": error.end, "line": line, "column": column,
                "message": error.message}),
            )
    }

    /// What the other kinds of a body say of themselves.
    pub fn too_many(what: &str, n: usize, limit: usize) -> Problem {
        Problem::new(Kind::TooLarge, format!("{n} {what}; the limit is {limit}")).with("limit", limit)
    }

    /// `subject` names the record and column.
    pub fn vector(error: &VectorError, subject: &str, pointer: impl Into<String>) -> Problem {
        let problem = Problem::new(Kind::WrongVector, format!("{subject} {error}")).at(pointer);
        match error {
            VectorError::Dimensions { expected, got } => problem.with("expected", expected).with("got", got),
            _ => problem,
        }
    }

    /// The body of the response.
    pub fn body(&self, request_id: &str) -> Value {
        let mut body: Map<String, Value> =
            self.extra.iter().map(|(name, value)| ((*name).into(), value.clone())).collect();
        let kind = self.kind;
        body.insert("type".into(), json!(format!("urn:zesty-lantern:problem:{}", kind.word())));
        body.insert("title".into(), json!(kind.title()));
        body.insert("status".into(), json!(kind.status().as_u16()));
        body.insert("detail".into(), json!(self.detail));
        if let Some(pointer) = &self.pointer {
            body.insert("pointer".into(), json!(pointer));
        }
        body.insert("request_id".into(), json!(request_id));
        Value::Object(body)
    }
}

impl From<CatalogError> for Problem {
    fn from(error: CatalogError) -> Self {
        match error {
            CatalogError::Exists { what, name } => {
                Problem::new(Kind::NameTaken, format!("the {what} \"{name}\" exists already"))
                    .with("what", what)
            }
            CatalogError::Missing { what, name } => Problem::unknown(what, &name, []),
            CatalogError::Changed { key, revision } => Problem::new(
                Kind::Conflict,
                match revision {
                    0 => format!("record \"{key}\" does not exist now"),
                    _ => format!(
                        "record \"{key}\" is at revision {revision} now; read it again and repeat the edit"
                    ),
                },
            )
            .with("revision", revision),
            CatalogError::Reshaped { .. } => Problem::new(
                Kind::Reshaped,
                "fields or columns of the collection changed meanwhile; nothing was written: send it again",
            ),
            CatalogError::TooLong { key, bytes, limit } => Problem::new(
                Kind::TooLarge,
                format!(
                    "record \"{key}\" takes {bytes} bytes as JSON, and a record may take {limit}; nothing was written"
                ),
            )
            .with("limit_bytes", limit),
            CatalogError::Busy(detail) => {
                tracing::warn!(%detail, "a transaction was given up");
                Problem::new(
                    Kind::Busy,
                    "other writers held the same records or the collection for too long, so nothing was written; try \
                     again",
                )
            }
            CatalogError::Unsure(detail) => {
                tracing::warn!(%detail, "the answer to a commit was lost");
                Problem::new(
                    Kind::Unsure,
                    "MariaDB broke off while it committed, so the write may be kept or not; read the records, or send \
                     the same write again: it replaces records by key",
                )
            }
            CatalogError::Denied(detail) => {
                tracing::error!(%detail, "the database denies access");
                Problem::new(
                    Kind::NoDatabase,
                    "MariaDB denies the service's user what it needs, so nothing was read or written; the service's log \
                     says what to grant",
                )
            }
            CatalogError::Unavailable(detail) => {
                tracing::warn!(%detail, "the database does not answer");
                Problem::new(
                    Kind::NoDatabase,
                    "MariaDB does not answer, so nothing was read or written; try again when it is back",
                )
            }
            CatalogError::Full(detail) => {
                tracing::error!(%detail, "the database's disk is full");
                Problem::new(
                    Kind::NoSpace,
                    "the disk that MariaDB writes to is full, so nothing was written; free some space and try again",
                )
            }
            CatalogError::Internal(detail) => {
                tracing::error!(%detail, "the database refused a statement");
                Problem::new(Kind::Internal, "the database refused a statement; the service's log says more")
            }
        }
    }
}

/// The response travels with its problem; [`crate::edge::finish`] writes the body.
impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let mut response = self.kind.status().into_response();
        let headers = response.headers_mut();
        match self.kind {
            Kind::NoKey => {
                headers.insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"));
            }
            Kind::NoDatabase | Kind::Busy | Kind::Closed => {
                headers.insert(header::RETRY_AFTER, HeaderValue::from_static("2"));
            }
            _ => {}
        }
        response.extensions_mut().insert(self);
        response
    }
}

/// Problem Details (RFC 9457).
#[derive(Serialize, ToSchema)]
#[schema(as = Problem)]
pub struct ProblemBody {
    /// `urn:zesty-lantern:problem:` and a permanent word
    pub r#type: String,
    pub title: String,
    pub status: u16,
    /// What is wrong, where, and what would work
    pub detail: String,
    /// JSON Pointer to the wrong input
    pub pointer: Option<String>,
    pub request_id: String,
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

    #[test]
    fn an_unknown_name_suggests_the_nearest_or_lists_what_there_is() {
        let near = Problem::unknown("collection", "logbok", ["logbook", "stations"]);
        assert!(near.detail.ends_with("did you mean \"logbook\"?"), "{}", near.detail);
        let far = Problem::unknown("collection", "zq", ["logbook"]);
        assert!(far.detail.ends_with("there is logbook"), "{}", far.detail);
    }
}
