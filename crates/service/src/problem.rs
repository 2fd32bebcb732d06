//! A refusal: its kind, a detail that says what would work, and a JSON Pointer to the wrong input. The HTTP layer
//! turns it into Problem Details (RFC 9457).

use serde::Serialize;
use serde_json::{Map, Value, json};
use zesty_catalog::CatalogError;
use zesty_engine::filter::FilterError;
use zesty_engine::metric::VectorError;
use zesty_engine::names::did_you_mean;
pub use zesty_wire::problem::Kind;
use zesty_wire::problem::TYPE_PREFIX;

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
            1..=12 if hint.is_empty() => format!("; choose from {}", known.join(", ")),
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
        body.insert("type".into(), json!(format!("{TYPE_PREFIX}{}", kind.word())));
        body.insert("title".into(), json!(kind.title()));
        body.insert("status".into(), json!(kind.status()));
        body.insert("detail".into(), json!(self.detail));
        if let Some(pointer) = &self.pointer {
            body.insert("pointer".into(), json!(pointer));
        }
        body.insert("request_id".into(), json!(request_id));
        Value::Object(body)
    }
}

/// Whether something broke off because a body is longer than it may be.
pub fn is_length_limit(error: &(dyn std::error::Error + 'static)) -> bool {
    let mut cause = Some(error);
    while let Some(error) = cause {
        if error.is::<http_body_util::LengthLimitError>() {
            return true;
        }
        cause = error.source();
    }
    false
}

impl From<CatalogError> for Problem {
    fn from(error: CatalogError) -> Self {
        match error {
            CatalogError::Exists { what, name } => {
                Problem::new(Kind::NameTaken, format!("the {what} \"{name}\" exists already"))
                    .with("what", what)
            }
            CatalogError::Missing { what, name } => Problem::unknown(what, &name, []),
            CatalogError::TooMany { what, most } => {
                Problem::new(Kind::WrongShape, format!("there are {most} {what} already; remove one first"))
            }
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_unknown_name_suggests_the_nearest_or_lists_what_there_is() {
        let near = Problem::unknown("collection", "logbok", ["logbook", "stations"]);
        assert!(near.detail.ends_with("did you mean \"logbook\"?"), "{}", near.detail);
        let far = Problem::unknown("collection", "zq", ["logbook"]);
        assert!(far.detail.ends_with("choose from logbook"), "{}", far.detail);
    }
}
