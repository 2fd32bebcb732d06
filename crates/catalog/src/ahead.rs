//! New records that are inserted before it is their turn. While one batch of a load is committed, those behind it are
//! inserted already, each in a transaction of its own that nobody sees; only their commits wait for each other.
//!
//! Their numbers are claimed first, so that nobody else gives them away. The lock of the collection is taken at the end, when
//! a batch gets its revision: commit order stays revision order.

use crate::bounded::{Tx, retried};
use crate::changes::{LoadStep, RecordWrite, Written};
use crate::connection::Catalog;
use crate::entity::{collection, record};
use crate::error::{CatalogError, Result};
use crate::statements::Way;
use crate::transaction::Target;
use crate::vectors::RECORDS;
use sea_orm::ActiveValue::{Set, Unchanged};
use sea_orm::{ColumnTrait, EntityTrait, QueryFilter};
use std::ops::Range;

/// Numbers for records to come. They are those of whole blocks of vectors, so that nobody else changes one of these.
#[derive(Debug, Default)]
pub struct Claimed(Range<i64>);

fn whole_blocks(n: i64) -> i64 {
    let of = RECORDS as i64;
    (n + of - 1) / of * of
}

impl Claimed {
    /// Takes numbers for so many records; `None` if there are not so many.
    pub fn take(&mut self, n: usize) -> Option<Range<i64>> {
        let taken = self.0.start..self.0.start + n as i64;
        let rest = whole_blocks(taken.end);
        (rest <= self.0.end).then(|| {
            self.0.start = rest;
            taken
        })
    }
}

/// Records that are inserted and not committed. Dropped, they are rolled back in a while.
pub struct Ahead {
    tx: Tx,
    target: Target,
    numbers: Range<i64>,
    /// That they were inserted with.
    revision: i64,
}

impl Ahead {
    /// Rolls back, so that nobody waits for it when this returns.
    pub async fn undo(self) -> Result<()> {
        self.tx.rollback().await
    }
}

impl Catalog {
    /// Claims numbers for at least so many records.
    pub async fn claim(&self, target: &Target, n: usize) -> Result<Claimed> {
        retried(|| self.claim_once(target, n)).await
    }

    async fn claim_once(&self, target: &Target, n: usize) -> Result<Claimed> {
        let tx = self.db.begin().await?;
        let from = whole_blocks(self.lock_target(&tx, target).await?.next_number);
        let to = from + whole_blocks(n as i64);
        let update = collection::ActiveModel {
            id: Unchanged(target.collection),
            next_number: Set(to),
            ..Default::default()
        };
        collection::Entity::update(update).validate()?.exec(&tx).await?;
        tx.commit().await?;
        Ok(Claimed(from..to))
    }

    /// Inserts records under new keys, with numbers of a claim, as of the revision that they are likely to get. `None`: one
    /// of the keys or numbers is there, or is expected to be, and nothing is inserted.
    pub async fn insert_ahead(
        &self,
        target: &Target,
        given: &[RecordWrite],
        numbers: Range<i64>,
        revision: u64,
        way: Option<&dyn Way>,
    ) -> Result<Option<Ahead>> {
        self.check_lengths(given)?;
        if !given.iter().all(RecordWrite::may_be_new) {
            return Ok(None);
        }
        let tx = self.db.begin().await?;
        let revision = revision as i64;
        if !self.insert_new(&tx, target, revision, (given, numbers.start), way).await? {
            tx.rollback().await?;
            return Ok(None);
        }
        Ok(Some(Ahead { tx, target: target.clone(), numbers, revision }))
    }

    /// Commits what was inserted ahead of its turn, with the step of the load that it is. If it fails, nothing is kept,
    /// unless the error says that nobody knows.
    pub async fn commit_ahead(
        &self,
        ahead: Ahead,
        given: &[RecordWrite],
        step: Option<&LoadStep>,
    ) -> Result<Written> {
        let Ahead { tx, target, numbers, revision: foreseen } = ahead;
        let locked = self.lock_target(&tx, &target).await?;
        if locked.next_number < numbers.end {
            // The database was restored to what it was before the claim.
            return Err(CatalogError::Busy("the numbers of the records are free again".into()));
        }
        let revision = locked.revision + 1;
        if revision != foreseen {
            record::Entity::update_many()
                .set(record::ActiveModel { revision: Set(revision), ..Default::default() })
                .filter(record::Column::CollectionId.eq(target.collection))
                .filter(record::Column::Number.between(numbers.start, numbers.end - 1))
                .exec(&tx)
                .await?;
        }
        let written = Written::of_new(locked.revision, numbers);
        self.end_write(tx, &target, step, (given, &written), locked.next_number).await?;
        Ok(written)
    }
}
