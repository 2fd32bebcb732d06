//! Rows of collections, columns and query sets that are gone, cleared in the background: in small steps by key, so that
//! no writer waits for them.

use crate::bounded::{Retry, Tx};
use crate::connection::Catalog;
use crate::entity::discarded;
use crate::error::Result;
use sea_orm::ActiveValue::Set;
use sea_orm::{ConnectionTrait, EntityTrait};

/// Rows that one statement deletes.
const STEP: usize = 1000;

#[derive(Clone, Copy)]
pub(crate) enum Discarded {
    Collection,
    Column,
    QuerySet,
    Answers,
    Comparison,
}

impl Discarded {
    fn word(self) -> &'static str {
        match self {
            Discarded::Collection => "collection",
            Discarded::Column => "column",
            Discarded::QuerySet => "query set",
            Discarded::Answers => "answers",
            Discarded::Comparison => "comparison",
        }
    }
}

/// Remembers that the rows of something deleted are to be cleared.
pub(crate) async fn discard(tx: &Tx, what: Discarded, id: i64) -> Result<()> {
    let row = discarded::ActiveModel { kind: Set(what.word().into()), id: Set(id) };
    discarded::Entity::insert(row).exec_without_returning(tx).await?;
    Ok(())
}

impl Catalog {
    /// Clears the rows of everything that was deleted. What it does not come to is cleared the next time.
    pub async fn clear_discarded(&self) -> Result<()> {
        for row in discarded::Entity::find().all(&self.db).await? {
            // The first column of each table's primary key names the owner.
            let tables: &[(&str, &str)] = match row.kind.as_str() {
                "collection" => &[
                    ("records", "collection_id"),
                    ("fills", "collection_id"),
                    ("loads", "collection_id"),
                    ("measurements", "collection_id"),
                    ("watches", "collection_id"),
                    ("captured", "collection_id"),
                    ("observed", "collection_id"),
                    ("saved_versions", "collection_id"),
                    ("saved_searches", "collection_id"),
                ],
                "query set" => &[("queries", "set_id")],
                "comparison" => &[("compared", "comparison_id")],
                "answers" => &[("exact_neighbours", "answers_id")],
                _ => &[("captured", "column_id"), ("vector_blocks", "column_id"), ("unencoded", "column_id")],
            };
            for (table, owner) in tables {
                self.clear(table, owner, row.id).await?;
            }
            discarded::Entity::delete_by_id((row.kind, row.id)).exec(&self.db).await?;
        }
        Ok(())
    }

    async fn clear(&self, table: &str, owner: &str, id: i64) -> Result<()> {
        let sql = format!("DELETE FROM {table} WHERE {owner} = {id} LIMIT {STEP}");
        let mut retry = Retry::default();
        loop {
            match self.db.execute_unprepared(&sql).await.map_err(crate::CatalogError::from) {
                Ok(done) if done.rows_affected() == 0 => return Ok(()),
                Ok(_) => retry = Retry::default(),
                Err(e) if retry.again(&e).await => {}
                Err(e) => return Err(e),
            }
        }
    }
}
