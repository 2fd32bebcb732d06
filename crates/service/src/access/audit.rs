//! The audit list: who did what, when, from where. Kept in MariaDB; what waits to be written is bounded.

use crate::access::grant::{Grant, Scope};
use crate::problem::{Kind, Problem, Result};
use parking_lot::Mutex;
use zesty_catalog::{Catalog, audit_entry};
use zesty_wire as wire;

/// Entries that wait to be written at the same time.
const MOST: usize = 10_000;
/// Entries that are written with one statement.
const TOGETHER: usize = 500;
/// Entries of one answer.
const MOST_LISTED: usize = 1000;

/// Characters of a path that are kept.
const MOST_PATH: usize = 500;

/// What was done with keys on this node, and is on its way to the database.
pub struct Audit {
    catalog: Catalog,
    waiting: Mutex<Vec<audit_entry::Model>>,
    /// Held while entries are written: they are kept in order.
    writing: tokio::sync::Mutex<()>,
}

fn cut(text: &str, most: usize) -> String {
    text.chars().take(most).collect()
}

impl Audit {
    pub fn new(catalog: Catalog) -> Audit {
        Audit { catalog, waiting: Mutex::default(), writing: tokio::sync::Mutex::default() }
    }

    /// Adds an entry to those that wait.
    pub fn note(&self, entry: wire::AuditEntry) {
        let wire::AuditEntry { at, key, method, path, status, from, request_id, .. } = entry;
        let mut waiting = self.waiting.lock();
        if waiting.len() >= MOST {
            tracing::warn!(key, method, path, status, "the audit list is full; this is in the log alone");
            return;
        }
        waiting.push(audit_entry::Model {
            id: 0,
            at,
            key_name: key,
            method,
            path: cut(&path, MOST_PATH),
            status: i16::try_from(status).unwrap_or(i16::MAX),
            came_from: from,
            request_id: cut(&request_id, 100),
        });
    }

    /// Writes what waits. What cannot be written waits on.
    pub async fn keep(&self) -> Result<()> {
        let _writing = self.writing.lock().await;
        loop {
            let next: Vec<_> = self.waiting.lock().iter().take(TOGETHER).cloned().collect();
            if next.is_empty() {
                return Ok(());
            }
            let n = next.len();
            self.catalog.add_audit(next).await?;
            self.waiting.lock().drain(..n);
        }
    }

    /// The newest entries, or those before one of them.
    pub async fn list(&self, grant: &Grant, before: Option<i64>, limit: usize) -> Result<wire::AuditList> {
        grant.require(Scope::Manage, None)?;
        if !(1..=MOST_LISTED).contains(&limit) {
            let detail = format!("limit is {limit}; it goes from 1 to {MOST_LISTED}");
            return Err(Problem::new(Kind::WrongShape, detail).at("/limit"));
        }
        self.keep().await?;
        let mut entries = self.catalog.audit(before, limit as u64 + 1).await?;
        let more = entries.len() > limit;
        entries.truncate(limit);
        let next = entries.last().filter(|_| more).map(|e| e.id);
        let view = |e: audit_entry::Model| wire::AuditEntry {
            id: e.id,
            at: e.at,
            key: e.key_name,
            method: e.method,
            path: e.path,
            status: e.status as u16,
            from: e.came_from,
            request_id: e.request_id,
        };
        Ok(wire::AuditList { entries: entries.into_iter().map(view).collect(), next })
    }
}
