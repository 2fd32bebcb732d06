//! The way to the database: connecting, and what one statement may carry.

use crate::bounded::{Bounded, STATEMENT};
use crate::error::Result;
use crate::migration;
use sea_orm::{ConnectionTrait, Statement};
use sea_orm_migration::MigratorTrait;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

/// Bytes that a statement may carry at most, whatever the server would take.
const MAX_STATEMENT: usize = 8 << 20;
/// Room in a packet for what surrounds a record: names, lengths, the statement itself.
const PACKET_ROOM: usize = 64 << 10;

/// The tables of one database. Cheap to clone; all clones share a pool of connections.
#[derive(Clone)]
pub struct Catalog {
    pub(crate) db: Bounded,
    /// Bytes that one statement may carry.
    pub(crate) statement_bytes: Arc<AtomicUsize>,
}

impl Catalog {
    /// Connects and brings the tables up to date.
    pub async fn connect(url: &str) -> Result<Catalog> {
        Catalog::connect_within(url, STATEMENT).await
    }

    /// A catalog that connects when it is first asked, and does not look after its tables.
    pub fn lazy(url: &str, limit: Duration) -> Result<Catalog> {
        Ok(Catalog {
            db: Bounded::new(url, limit)?,
            statement_bytes: Arc::new(AtomicUsize::new(PACKET_ROOM)),
        })
    }

    /// Connects, where a statement may take `limit`, and brings the tables up to date.
    pub async fn connect_within(url: &str, limit: Duration) -> Result<Catalog> {
        let db = Bounded::new(url, limit)?;
        db.ping().await?;
        migration::Migrator::up(&db.unbounded(), None).await?;
        let sql = Statement::from_string(db.get_database_backend(), "SELECT @@max_allowed_packet AS packet");
        let packet = db.query_one_raw(sql).await?.and_then(|row| row.try_get::<u64>("", "packet").ok());
        let packet = packet.map_or(1 << 20, |p| p as usize);
        let most = packet.saturating_sub(PACKET_ROOM).clamp(PACKET_ROOM, MAX_STATEMENT);
        Ok(Catalog { db, statement_bytes: Arc::new(AtomicUsize::new(most)) })
    }

    /// Bytes that a record's fields may take as JSON: what the database takes in one statement, up to 8 MiB.
    pub fn record_limit(&self) -> usize {
        self.statement_bytes.load(Ordering::Relaxed)
    }

    /// Whether the database answers within `limit`.
    pub async fn ping(&self, limit: Duration) -> Result<()> {
        Ok(self.db.within(limit).ping().await?)
    }

    pub async fn close(self) {
        self.db.close().await;
    }
}
