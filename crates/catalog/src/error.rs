//! The kinds of failure that callers can tell apart.

use sea_orm::{DbErr, RuntimeErr, SqlErr};

#[derive(Debug, thiserror::Error)]
pub enum CatalogError {
    /// A name or key that is taken.
    #[error("{what} \"{name}\" exists already")]
    Exists { what: &'static str, name: String },
    #[error("there is no {what} \"{name}\"")]
    Missing { what: &'static str, name: String },
    /// A record is not at the revision that the writer expected; 0 when there is none.
    #[error("record \"{key}\" is at revision {revision} now")]
    Changed { key: String, revision: u64 },
    /// The database does not answer, or broke off. Nothing is known of a write under way.
    #[error("the database does not answer: {0}")]
    Unavailable(String),
    /// The database's disk is full.
    #[error("the database has no space left: {0}")]
    Full(String),
    /// Ours: a statement the database refuses, or stored data that makes no sense.
    #[error("the database refused: {0}")]
    Internal(String),
}

impl From<DbErr> for CatalogError {
    fn from(error: DbErr) -> Self {
        let text = error.to_string();
        match &error {
            DbErr::ConnectionAcquire(_) | DbErr::Conn(_) => CatalogError::Unavailable(text),
            // Broken pipes and the server's own goodbye come as errors of the statement under way.
            DbErr::Exec(RuntimeErr::SqlxError(e)) | DbErr::Query(RuntimeErr::SqlxError(e)) => {
                let shown = e.to_string();
                let gone =
                    ["communicating with database", "pool timed out", "shutdown", "closed", "gone away"];
                let full = ["is full", "Disk full", "No space left"];
                if full.iter().any(|f| shown.contains(f)) {
                    CatalogError::Full(text)
                } else if gone.iter().any(|g| shown.contains(g)) {
                    CatalogError::Unavailable(text)
                } else {
                    CatalogError::Internal(text)
                }
            }
            _ => CatalogError::Internal(text),
        }
    }
}

/// Turns a violated unique key into [`CatalogError::Exists`].
pub(crate) fn unless_taken(error: DbErr, what: &'static str, name: &str) -> CatalogError {
    match error.sql_err() {
        Some(SqlErr::UniqueConstraintViolation(_)) => CatalogError::Exists { what, name: name.into() },
        _ => error.into(),
    }
}
