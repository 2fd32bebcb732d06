//! What is kept in MariaDB: collections, records, vectors, indexes' descriptions, jobs, sweeps,
//! keys. The system of record; everything else can be rebuilt from it.
//!
//! Nothing of SeaORM leaves this crate but through [`Catalog`]; errors leave it in four kinds.

pub mod access;
mod bounded;
mod collections;
mod discarded;
pub mod entity;
mod error;
mod loads;
mod migration;
mod nodes;
mod records;
mod work;

pub use collections::{Collection, NewCollection, NewVectorColumn, ShapeChange, Version};
pub use entity::{encoder, index, job, load, sweep, vector_column};
pub use error::CatalogError;
pub use loads::{Fill, Filled, FilledVector, LoadStep, Made};
pub use records::{
    Change, Conflicts, KeyAt, RecordWrite, StoredRecord, Target, VectorWrite, Written, json_length,
};

pub use nodes::GONE_AFTER_S;
pub use work::{Choices, Ready, ServingOf};

use bounded::Bounded;
pub use bounded::STATEMENT;
use sea_orm::{ConnectionTrait, Statement};
use sea_orm_migration::MigratorTrait;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

pub type Result<T, E = CatalogError> = std::result::Result<T, E>;

/// Bytes that a statement may carry at most, whatever the server would take.
const MAX_STATEMENT: usize = 8 << 20;
/// Room in a packet for what surrounds a record: names, lengths, the statement itself.
const PACKET_ROOM: usize = 64 << 10;

/// The tables of one database. Cheap to clone; all clones share a pool of connections.
#[derive(Clone)]
pub struct Catalog {
    db: Bounded,
    /// Bytes that one statement may carry.
    statement_bytes: Arc<AtomicUsize>,
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
