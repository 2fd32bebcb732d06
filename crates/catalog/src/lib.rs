//! What is kept in MariaDB: collections, records, vectors, indexes' descriptions, jobs, sweeps,
//! keys. The system of record; everything else can be rebuilt from it.
//!
//! Nothing of SeaORM leaves this crate but through [`Catalog`]; errors leave it in four kinds.

pub mod access;
mod collections;
pub mod entity;
mod error;
mod loads;
mod migration;
mod records;
mod work;

pub use collections::{Collection, NewCollection, NewVectorColumn, ShapeChange};
pub use entity::{encoder, index, job, load, sweep, vector_column};
pub use error::CatalogError;
pub use loads::{Fill, LoadStep};
pub use records::{Change, RecordWrite, StoredRecord, Written};

use sea_orm::{ConnectOptions, Database, DatabaseConnection};
use sea_orm_migration::MigratorTrait;
use std::time::Duration;

pub type Result<T> = std::result::Result<T, CatalogError>;

/// The tables of one database. Cheap to clone; all clones share a pool of connections.
#[derive(Clone)]
pub struct Catalog {
    db: DatabaseConnection,
}

impl Catalog {
    /// Connects and brings the tables up to date.
    pub async fn connect(url: &str) -> Result<Catalog> {
        let mut options = ConnectOptions::new(url);
        options
            .max_connections(16)
            .acquire_timeout(Duration::from_secs(10))
            .connect_timeout(Duration::from_secs(10))
            .sqlx_logging(false);
        let db = Database::connect(options).await?;
        migration::Migrator::up(&db, None).await?;
        Ok(Catalog { db })
    }

    /// Whether the database answers.
    pub async fn ping(&self) -> Result<()> {
        Ok(self.db.ping().await?)
    }

    pub async fn close(self) {
        let _ = self.db.close().await;
    }
}
