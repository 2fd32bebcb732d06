//! A copy of a collection, made inside the database: records and vectors in small steps while writers go on, then what
//! was written meanwhile, the last of it under the collection's lock.

use crate::bounded::{Retry, Tx, retried};
use crate::collections::Collection;
use crate::connection::Catalog;
use crate::entity::{collection, fill, index, saved_search, saved_version, vector_column};
use crate::error::{CatalogError, Result, unless_taken};
use crate::vectors::blocks_of;
use chrono::Utc;
use sea_orm::ActiveValue::{NotSet, Set};
use sea_orm::sea_query::ExprTrait;
use sea_orm::{ActiveModelTrait, ColumnTrait, ConnectionTrait, EntityTrait, QueryFilter, QueryOrder};

/// Record numbers of one step.
const STEP: i64 = 200;
/// Records written meanwhile that are few enough to be copied while writers wait.
const FEW: usize = 200;

/// A clone that is being made. It is hidden until [`Catalog::finish_clone`].
#[derive(Clone, Debug)]
pub struct Cloning {
    pub from: i64,
    pub to: i64,
    shape: i64,
    /// Vector columns, and their copies.
    columns: Vec<(i64, i64)>,
    /// Up to which revision records were copied.
    revision: i64,
    /// Record numbers that there were at the start.
    pub numbers: u64,
}

impl Catalog {
    /// Begins a clone of a collection under a new name, without its records. `node` makes it.
    pub async fn begin_clone(&self, from: &Collection, name: &str, node: &str) -> Result<Cloning> {
        let tx = self.db.begin().await?;
        let now = self.lock_there(&tx, from.about.id).await?;
        let new = collection::ActiveModel {
            id: NotSet,
            name: Set(name.into()),
            description: Set(now.description),
            fields: Set(now.fields),
            revision: Set(0),
            next_number: Set(0),
            shape: Set(0),
            choices: Set(0),
            default_column: Set(now.default_column),
            written_at: Set(now.written_at),
            created_at: Set(Utc::now()),
            hidden: Set(Some("cloning".into())),
            hidden_at: Set(Some(Utc::now())),
            hidden_by: Set(Some(node.into())),
            own_name: Set(None),
        };
        let to = new.insert(&tx).await.map_err(|e| unless_taken(e, "collection", name))?.id;
        let old = vector_column::Entity::find()
            .filter(vector_column::Column::CollectionId.eq(now.id))
            .order_by_asc(vector_column::Column::Id)
            .all(&tx)
            .await?;
        let mut columns = Vec::new();
        for column in old {
            let id = column.id;
            let copy = vector_column::ActiveModel {
                id: NotSet,
                collection_id: Set(to),
                name: Set(column.name),
                dimensions: Set(column.dimensions),
                metric: Set(column.metric),
                encoder: Set(column.encoder),
                template: Set(column.template),
                serving: Set(column.serving),
            };
            columns.push((id, copy.insert(&tx).await?.id));
        }
        tx.commit().await?;
        let numbers = now.next_number as u64;
        Ok(Cloning { from: now.id, to, shape: now.shape, columns, revision: now.revision, numbers })
    }

    /// Copies the records of some numbers; returns the next number to go on with, `None` at the end.
    pub async fn clone_step(&self, cloning: &Cloning, at: i64) -> Result<Option<i64>> {
        let end = at + STEP;
        let numbers: Vec<i64> = (at..end).collect();
        retried(|| self.copy_once(cloning, &numbers)).await?;
        Ok((end < cloning.numbers as i64).then_some(end))
    }

    async fn copy_once(&self, cloning: &Cloning, numbers: &[i64]) -> Result<()> {
        let tx = self.db.begin().await?;
        copy(&tx, cloning, numbers).await?;
        tx.commit().await
    }

    /// Copies what was written since; makes the clone a collection as soon as hardly anything is left to copy.
    pub async fn finish_clone(&self, mut cloning: Cloning, with_indexes: bool) -> Result<Collection> {
        let (mut retry, mut few) = (Retry::default(), FEW);
        loop {
            match self.finish_once(&mut cloning, with_indexes, few).await {
                Err(e) if retry.again(&e).await => {}
                // Who writes faster than is copied waits a little longer each time, so that it ends.
                Ok(false) => few *= 2,
                done => {
                    done?;
                    return self.collection(cloning.to).await;
                }
            }
        }
    }

    /// Whether the clone is a collection now.
    async fn finish_once(&self, cloning: &mut Cloning, with_indexes: bool, few: usize) -> Result<bool> {
        let tx = self.db.begin().await?;
        let locked = self.lock(&tx, cloning.from).await?;
        if locked.shape != cloning.shape {
            return Err(CatalogError::Reshaped { now: locked.shape });
        }
        let numbers = self.written_since(&tx, cloning).await?;
        if numbers.len() > few {
            // Not while writers wait.
            tx.commit().await?;
            for some in numbers.chunks(STEP as usize) {
                self.copy_once(cloning, some).await?;
            }
            cloning.revision = locked.revision;
            return Ok(false);
        }
        if !numbers.is_empty() {
            copy(&tx, cloning, &numbers).await?;
        }
        for (from, to) in &cloning.columns {
            let unencoded = format!(
                "INSERT INTO unencoded (column_id, number, reason) SELECT {to}, number, reason FROM unencoded \
                 WHERE column_id = {from}"
            );
            tx.execute_unprepared(&unencoded).await?;
        }
        if with_indexes {
            copy_indexes(&tx, cloning).await?;
        } else {
            vector_column::Entity::update_many()
                .set(vector_column::ActiveModel { serving: Set(None), ..Default::default() })
                .filter(vector_column::Column::CollectionId.eq(cloning.to))
                .exec(&tx)
                .await?;
        }
        copy_saved(&tx, cloning).await?;
        let there = collection::ActiveModel {
            revision: Set(locked.revision),
            next_number: Set(locked.next_number),
            hidden: Set(None),
            hidden_at: Set(None),
            hidden_by: Set(None),
            ..Default::default()
        };
        let of = collection::Column::Id.eq(cloning.to);
        let done = collection::Entity::update_many().set(there).filter(of).exec(&tx).await?;
        if done.rows_affected == 0 {
            return Err(CatalogError::Missing { what: "clone", name: cloning.to.to_string() });
        }
        tx.commit().await?;
        Ok(true)
    }

    /// Numbers of records that were written, or given vectors, since the last copy.
    async fn written_since(&self, tx: &Tx, cloning: &Cloning) -> Result<Vec<i64>> {
        let sql = "SELECT number FROM records WHERE collection_id = ? AND revision > ?";
        let values = vec![cloning.from.into(), cloning.revision.into()];
        let mut numbers = Vec::new();
        tx.each_row(self.sql(sql.into(), values), |row| {
            numbers.push(row.try_get::<i64>("", "number")?);
            Ok(())
        })
        .await?;
        let fills = fill::Entity::find()
            .filter(fill::Column::CollectionId.eq(cloning.from))
            .filter(fill::Column::Revision.gt(cloning.revision))
            .all(tx)
            .await?;
        numbers.extend(fills.iter().flat_map(|f| bytemuck::pod_collect_to_vec::<u8, i64>(&f.numbers)));
        numbers.sort_unstable();
        numbers.dedup();
        Ok(numbers)
    }
}

fn list(numbers: impl IntoIterator<Item = i64>) -> String {
    let all: Vec<String> = numbers.into_iter().map(|number| number.to_string()).collect();
    all.join(",")
}

/// Copies records, in place of those that the clone has, and the blocks that their vectors lie in.
async fn copy(tx: &Tx, cloning: &Cloning, numbers: &[i64]) -> Result<()> {
    let Cloning { from, to, columns, .. } = cloning;
    let some = list(numbers.iter().copied());
    let records = format!(
        "REPLACE INTO records (collection_id, number, `key`, revision, deleted, body) \
         SELECT {to}, number, `key`, revision, deleted, body FROM records \
         WHERE collection_id = {from} AND number IN ({some})"
    );
    tx.execute_unprepared(&records).await?;
    let blocks = list(blocks_of(numbers));
    for (from, to) in columns {
        let old = format!("DELETE FROM vector_blocks WHERE column_id = {to} AND block IN ({blocks})");
        tx.execute_unprepared(&old).await?;
        let new = format!(
            "INSERT INTO vector_blocks (column_id, block, taken, data) SELECT {to}, block, taken, data \
             FROM vector_blocks WHERE column_id = {from} AND block IN ({blocks})"
        );
        tx.execute_unprepared(&new).await?;
    }
    Ok(())
}

/// Describes the same indexes; each node builds them from the records.
async fn copy_indexes(tx: &Tx, cloning: &Cloning) -> Result<()> {
    let of = index::Column::CollectionId.eq(cloning.from).and(index::Column::State.eq("ready"));
    for old in index::Entity::find().filter(of).order_by_asc(index::Column::Id).all(tx).await? {
        let column = cloning.columns.iter().find(|(from, _)| *from == old.column_id);
        let Some((_, column)) = column else { continue };
        let copy = index::ActiveModel {
            id: NotSet,
            collection_id: Set(cloning.to),
            column_id: Set(*column),
            name: Set(old.name),
            recipe: Set(old.recipe),
            state: Set(old.state),
            revision: Set(old.revision),
            n_rows: Set(old.n_rows),
            n_bytes: Set(old.n_bytes),
            build_seconds: Set(old.build_seconds),
            seed: Set(old.seed),
            error: Set(None),
            created_at: Set(Utc::now()),
            node: Set(old.node),
        };
        copy.insert(tx).await?;
    }
    Ok(())
}

async fn copy_saved(tx: &Tx, cloning: &Cloning) -> Result<()> {
    let searches = saved_search::Entity::find().filter(saved_search::Column::CollectionId.eq(cloning.from));
    for old in searches.all(tx).await? {
        let copy = saved_search::Model { collection_id: cloning.to, ..old };
        saved_search::Entity::insert(saved_search::ActiveModel::from(copy).reset_all())
            .exec_without_returning(tx)
            .await?;
    }
    let versions = saved_version::Entity::find().filter(saved_version::Column::CollectionId.eq(cloning.from));
    for old in versions.all(tx).await? {
        let copy = saved_version::Model { collection_id: cloning.to, ..old };
        saved_version::Entity::insert(saved_version::ActiveModel::from(copy).reset_all())
            .exec_without_returning(tx)
            .await?;
    }
    Ok(())
}
