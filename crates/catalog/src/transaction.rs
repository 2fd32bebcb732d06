//! The lock that makes commit order revision order: a transaction that writes to a collection holds its row.

use crate::bounded::Tx;
use crate::connection::Catalog;
use crate::entity::collection;
use crate::error::{CatalogError, Result};
use sea_orm::{ColumnTrait, EntityTrait, QueryFilter, QuerySelect};

/// What a caller writes to, as it knows it. A write is refused when the collection has another shape by now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Target {
    pub collection: i64,
    pub shape: i64,
    /// The ids of its vector columns, in order.
    pub columns: Vec<i64>,
}

/// A collection's row while its lock is held.
pub(crate) struct Locked {
    pub revision: i64,
    pub next_number: i64,
    pub shape: i64,
}

impl Catalog {
    /// Locks the collection until the transaction ends.
    pub(crate) async fn lock(&self, tx: &Tx, collection: i64) -> Result<Locked> {
        let row: Option<(i64, i64, i64)> = collection::Entity::find_by_id(collection)
            .select_only()
            .column(collection::Column::Revision)
            .column(collection::Column::NextNumber)
            .column(collection::Column::Shape)
            .filter(collection::Column::Hidden.is_null())
            .lock_exclusive()
            .into_tuple()
            .one(tx)
            .await?;
        let (revision, next_number, shape) =
            row.ok_or_else(|| CatalogError::Missing { what: "collection", name: collection.to_string() })?;
        Ok(Locked { revision, next_number, shape })
    }

    /// Locks a collection that may be dropped until the transaction ends.
    pub(crate) async fn lock_hidden(&self, tx: &Tx, collection: i64) -> Result<collection::Model> {
        let row = collection::Entity::find_by_id(collection).lock_exclusive().one(tx).await?;
        row.ok_or_else(|| CatalogError::Missing { what: "collection", name: collection.to_string() })
    }

    /// Locks a collection, with all that its row says, until the transaction ends; one that is dropped is not there.
    pub(crate) async fn lock_there(&self, tx: &Tx, id: i64) -> Result<collection::Model> {
        let there = self.lock_hidden(tx, id).await?;
        match there.hidden {
            None => Ok(there),
            Some(_) => Err(CatalogError::Missing { what: "collection", name: id.to_string() }),
        }
    }

    /// Locks the collection for a write to it as the caller knows it.
    pub(crate) async fn lock_target(&self, tx: &Tx, target: &Target) -> Result<Locked> {
        let locked = self.lock(tx, target.collection).await?;
        if locked.shape != target.shape {
            return Err(CatalogError::Reshaped { now: locked.shape });
        }
        Ok(locked)
    }
}
