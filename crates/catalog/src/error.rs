//! The kinds of failure that callers can tell apart, sorted by the database's error codes.

use sea_orm::sqlx::Error as SqlxError;
use sea_orm::sqlx::mysql::MySqlDatabaseError;
use sea_orm::{DbErr, RuntimeErr, SqlErr};

#[derive(Debug, thiserror::Error)]
pub enum CatalogError {
    /// A name or key that is taken.
    #[error("{what} \"{name}\" exists already")]
    Exists { what: &'static str, name: String },
    #[error("there is no {what} \"{name}\"")]
    Missing { what: &'static str, name: String },
    /// As many as there may be.
    #[error("there are {most} {what}")]
    TooMany { what: &'static str, most: u64 },
    /// A record is not at the revision that the writer expected; 0 when there is none.
    #[error("record \"{key}\" is at revision {revision} now")]
    Changed { key: String, revision: u64 },
    /// The collection's fields or columns are not those that the caller knows.
    #[error("fields or columns of the collection have changed (version {now} now)")]
    Reshaped { now: i64 },
    /// A record that the database cannot take in one statement.
    #[error("record \"{key}\" takes {bytes} bytes, and the limit is {limit}")]
    TooLong { key: String, bytes: usize, limit: usize },
    /// The database does not answer, or broke off before anything was committed.
    #[error("the database does not answer: {0}")]
    Unavailable(String),
    /// The answer to a commit was lost: the write may be kept or not.
    #[error("the database broke off while it committed: {0}")]
    Unsure(String),
    /// Other writers hold what this one needs, and trying again did not help. Nothing was written.
    #[error("other writers held the rows for too long: {0}")]
    Busy(String),
    /// The database does not let its user do this.
    #[error("the database denies access: {0}")]
    Denied(String),
    /// The database's disk is full.
    #[error("the database has no space left: {0}")]
    Full(String),
    /// Ours: a statement the database refuses, or stored data that makes no sense.
    #[error("the database refused: {0}")]
    Internal(String),
}

/// Codes of MariaDB, https://mariadb.com/kb/en/mariadb-error-code-reference/.
fn by_code(code: u16, text: String) -> CatalogError {
    match code {
        // Lock wait timeout, deadlock, record changed since it was read.
        1205 | 1213 | 1020 => CatalogError::Busy(text),
        // Write error, disk full, error writing file, table full.
        3 | 1021 | 1026 | 1114 => CatalogError::Full(text),
        // Access denied: to the database, for the user, to a command, table or column; or a privilege is missing.
        1044 | 1045 | 1142 | 1143 | 1227 | 1698 => CatalogError::Denied(text),
        // Too many connections, shutdown, aborted or killed connection, packets out of order, read-only server,
        // interrupted, over its time, lost or gone, not yet part of its cluster.
        1040
        | 1043
        | 1053
        | 1077
        | 1079
        | 1129
        | 1152
        | 1158..=1161
        | 1184
        | 1203
        | 1226
        | 1290
        | 1317
        | 1836
        | 1927
        | 1969
        | 2006
        | 2013
        | 1047
        | 4108 => CatalogError::Unavailable(text),
        _ => CatalogError::Internal(text),
    }
}

impl From<DbErr> for CatalogError {
    fn from(error: DbErr) -> Self {
        let text = error.to_string();
        let driver = match &error {
            DbErr::Exec(RuntimeErr::SqlxError(e))
            | DbErr::Query(RuntimeErr::SqlxError(e))
            | DbErr::Conn(RuntimeErr::SqlxError(e)) => e,
            DbErr::ConnectionAcquire(_) | DbErr::Conn(_) => return CatalogError::Unavailable(text),
            _ => return CatalogError::Internal(text),
        };
        match &**driver {
            SqlxError::Database(e) => match e.try_downcast_ref::<MySqlDatabaseError>() {
                Some(e) => by_code(e.number(), text),
                None => CatalogError::Internal(text),
            },
            SqlxError::Io(_)
            | SqlxError::Tls(_)
            | SqlxError::Protocol(_)
            | SqlxError::PoolTimedOut
            | SqlxError::PoolClosed
            | SqlxError::WorkerCrashed => CatalogError::Unavailable(text),
            _ => CatalogError::Internal(text),
        }
    }
}

pub type Result<T, E = CatalogError> = std::result::Result<T, E>;

/// Turns a violated unique key into [`CatalogError::Exists`].
pub(crate) fn unless_taken(error: DbErr, what: &'static str, name: &str) -> CatalogError {
    match error.sql_err() {
        Some(SqlErr::UniqueConstraintViolation(_)) => CatalogError::Exists { what, name: name.into() },
        _ => error.into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn errors_are_sorted_by_code_and_not_by_words() {
        let kind = |code| by_code(code, "the disk is full, a shutdown was closed".into());
        assert!(matches!(kind(1213), CatalogError::Busy(_)) && matches!(kind(1205), CatalogError::Busy(_)));
        assert!(matches!(kind(1114), CatalogError::Full(_)));
        assert!(matches!(kind(1045), CatalogError::Denied(_)));
        assert!(matches!(kind(1053), CatalogError::Unavailable(_)));
        assert!(matches!(kind(1064), CatalogError::Internal(_)), "words do not count");
    }
}
