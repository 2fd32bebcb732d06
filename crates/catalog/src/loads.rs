//! Loads: how far each has come, noted with the records it wrote, so that it can go on after a
//! crash without a row twice. And vectors that come to records later.

use crate::bounded::{Tx, retried};
use crate::changes::{Fill, Filled, FilledVector, LoadStep, Made, STEP, Written};
use crate::connection::Catalog;
use crate::entity::{fill, load, record, unencoded};
use crate::error::{CatalogError, Result};
use crate::transaction::{Locked, Target};
use chrono::Utc;
use sea_orm::ActiveValue::{NotSet, Set};
use sea_orm::sea_query::{Expr, ExprTrait, OnConflict};
use sea_orm::{ActiveModelTrait, ColumnTrait, EntityTrait, QueryFilter, QueryOrder, QuerySelect};
use serde_json::Value;
use std::collections::HashMap;

impl Catalog {
    pub async fn add_load(
        &self,
        collection: i64,
        name: &str,
        node: &str,
        spec: Value,
        n_before: u64,
    ) -> Result<load::Model> {
        let new = load::ActiveModel {
            id: NotSet,
            collection_id: Set(collection),
            collection: Set(name.into()),
            node: Set(node.into()),
            job_id: Set(0),
            spec: Set(spec),
            state: Set("running".into()),
            position: Set(0),
            n_new: Set(0),
            n_replaced: Set(0),
            n_unchanged: Set(0),
            n_rejected: Set(0),
            n_unencoded: Set(0),
            rejects_bytes: Set(0),
            n_before: Set(n_before as i64),
            error: Set(None),
            created_at: Set(Utc::now()),
            finished_at: Set(None),
        };
        let tx = self.db.begin().await?;
        self.lock(&tx, collection).await?;
        let load = new.insert(&tx).await?;
        tx.commit().await?;
        Ok(load)
    }

    /// The job that works on a load now, and what it is to do.
    pub async fn load_runs(&self, id: i64, job: i64, spec: Value) -> Result<()> {
        let update = load::ActiveModel {
            job_id: Set(job),
            spec: Set(spec),
            state: Set("running".into()),
            error: Set(None),
            finished_at: Set(None),
            ..Default::default()
        };
        let noted =
            load::Entity::update_many().set(update).filter(load::Column::Id.eq(id)).exec(&self.db).await?;
        match noted.rows_affected {
            0 => Err(CatalogError::Missing { what: "load", name: id.to_string() }),
            _ => Ok(()),
        }
    }

    /// A load that is gone with its collection needs no end.
    pub async fn load_ends(&self, id: i64, state: &str, error: Option<String>) -> Result<()> {
        let update = load::ActiveModel {
            state: Set(state.into()),
            error: Set(error),
            finished_at: Set(Some(Utc::now())),
            ..Default::default()
        };
        load::Entity::update_many().set(update).filter(load::Column::Id.eq(id)).exec(&self.db).await?;
        Ok(())
    }

    pub async fn load(&self, id: i64) -> Result<Option<load::Model>> {
        Ok(load::Entity::find_by_id(id).one(&self.db).await?)
    }

    /// Newest first; of one collection, or all.
    pub async fn loads(&self, collection: Option<i64>, limit: u64) -> Result<Vec<load::Model>> {
        let mut find = load::Entity::find();
        if let Some(collection) = collection {
            find = find.filter(load::Column::CollectionId.eq(collection));
        }
        Ok(find.order_by_desc(load::Column::Id).limit(limit).all(&self.db).await?)
    }

    /// Loads that a node left running when it stopped can be resumed.
    pub async fn stop_left_loads(&self, node: &str) -> Result<u64> {
        let stopped = load::Entity::update_many()
            .col_expr(load::Column::State, Expr::value("stopped"))
            .col_expr(
                load::Column::Error,
                Expr::value("the service stopped while this was running; resume it"),
            )
            .filter(load::Column::Node.eq(node))
            .filter(load::Column::State.eq("running"))
            .exec(&self.db)
            .await?;
        Ok(stopped.rows_affected)
    }

    /// Notes a step that wrote nothing: rows that were all set aside.
    pub async fn pass_step(&self, step: &LoadStep) -> Result<()> {
        let tx = self.db.begin().await?;
        self.note_step(&tx, step, &Written::default(), 0).await?;
        tx.commit().await
    }

    pub(crate) async fn note_step(
        &self,
        tx: &Tx,
        step: &LoadStep,
        written: &Written,
        n_unencoded: usize,
    ) -> Result<()> {
        use load::Column as C;
        let plus = |column: C, n: usize| (column, Expr::col(column).add(n as i64));
        let mut update = load::Entity::update_many()
            .col_expr(C::Position, Expr::value(step.position as i64))
            .col_expr(C::RejectsBytes, Expr::value(step.rejects_bytes as i64));
        for (column, value) in [
            plus(C::NNew, written.n_new),
            plus(C::NReplaced, written.n_replaced + step.n_superseded as usize),
            plus(C::NUnchanged, written.n_unchanged),
            plus(C::NRejected, step.n_rejected as usize),
            plus(C::NUnencoded, n_unencoded),
        ] {
            update = update.col_expr(column, value);
        }
        let noted = update.filter(C::Id.eq(step.load)).exec(tx).await?;
        if noted.rows_affected == 0 {
            return Err(CatalogError::Missing { what: "load", name: step.load.to_string() });
        }
        Ok(())
    }

    /// Forgets the reasons of records that have been written again, and keeps new ones.
    pub(crate) async fn note_unencoded(
        &self,
        tx: &Tx,
        column: i64,
        replaced: Vec<i64>,
        reasons: Vec<(i64, String)>,
    ) -> Result<()> {
        if !replaced.is_empty() {
            unencoded::Entity::delete_many()
                .filter(unencoded::Column::ColumnId.eq(column))
                .filter(unencoded::Column::Number.is_in(replaced))
                .exec(tx)
                .await?;
        }
        if reasons.is_empty() {
            return Ok(());
        }
        let rows = reasons.into_iter().map(|(number, reason)| unencoded::ActiveModel {
            column_id: Set(column),
            number: Set(number),
            reason: Set(reason),
        });
        unencoded::Entity::insert_many(rows)
            .on_conflict(
                OnConflict::columns([unencoded::Column::ColumnId, unencoded::Column::Number])
                    .update_column(unencoded::Column::Reason)
                    .to_owned(),
            )
            .exec_without_returning(tx)
            .await?;
        Ok(())
    }

    /// Records whose text the encoder of a column would not take: number and reason.
    pub async fn unencoded(&self, column: i64, limit: u64) -> Result<Vec<(u64, String)>> {
        let found = unencoded::Entity::find()
            .filter(unencoded::Column::ColumnId.eq(column))
            .order_by_asc(unencoded::Column::Number)
            .limit(limit)
            .all(&self.db)
            .await?;
        Ok(found.into_iter().map(|u| (u.number as u64, u.reason)).collect())
    }

    /// Gives records a vector in one column, or a reason why they have none. A record that is not at
    /// the expected revision any more is passed over: its text may be another.
    pub async fn set_vectors(&self, target: &Target, column: i64, made: &[Made]) -> Result<Filled> {
        retried(|| self.set_vectors_once(target, column, made)).await
    }

    async fn set_vectors_once(&self, target: &Target, column: i64, made: &[Made]) -> Result<Filled> {
        let collection = target.collection;
        let tx = self.db.begin().await?;
        let Locked { revision: before, next_number: next, .. } = self.lock_target(&tx, target).await?;
        let revision = before + 1;
        let mut now: HashMap<i64, (i64, String)> = HashMap::new();
        for made in made.chunks(STEP) {
            let rows: Vec<(i64, i64, String)> = record::Entity::find()
                .select_only()
                .column(record::Column::Number)
                .column(record::Column::Revision)
                .column(record::Column::Key)
                .filter(record::Column::CollectionId.eq(collection))
                .filter(record::Column::Deleted.eq(false))
                .filter(record::Column::Number.is_in(made.iter().map(|m| m.number as i64)))
                .into_tuple()
                .all(&tx)
                .await?;
            now.extend(rows.into_iter().map(|(number, revision, key)| (number, (revision, key))));
        }
        let (mut vectors, mut reasons) = (Vec::new(), Vec::new());
        for Made { number, revision, vector } in made {
            match vector {
                _ if now.get(&(*number as i64)).is_none_or(|(r, _)| *r != *revision as i64) => {}
                Ok(vector) => vectors.push((*number as i64, vector.as_slice())),
                Err(reason) => reasons.push((*number as i64, reason.clone())),
            }
        }
        let numbers: Vec<i64> = vectors.iter().map(|(n, _)| *n).collect();
        self.note_unencoded(&tx, column, numbers.clone(), reasons).await?;
        if vectors.is_empty() {
            tx.commit().await?;
            let fill = Fill { revision: before as u64, column, vectors: Vec::new() };
            return Ok(Filled { before: before as u64, fill });
        }
        self.change_vectors(&tx, column, vectors.iter().map(|(n, v)| (*n, Some(*v))), None).await?;
        let log = fill::ActiveModel {
            collection_id: Set(collection),
            revision: Set(revision),
            column_id: Set(column),
            numbers: Set(bytemuck::cast_slice(&numbers).to_vec()),
        };
        fill::Entity::insert(log).exec_without_returning(&tx).await?;
        self.finish(tx, collection, revision, next).await?;
        let vectors = vectors.into_iter().filter_map(|(n, v)| {
            Some(FilledVector { number: n as u64, key: now.remove(&n)?.1, vector: v.to_vec() })
        });
        let vectors = vectors.collect();
        Ok(Filled { before: before as u64, fill: Fill { revision: revision as u64, column, vectors } })
    }

    pub(crate) async fn fills(&self, tx: &Tx, collection: i64, after: u64) -> Result<Vec<Fill>> {
        let logged = fill::Entity::find()
            .filter(fill::Column::CollectionId.eq(collection))
            .filter(fill::Column::Revision.gt(after as i64))
            .order_by_asc(fill::Column::Revision)
            .all(tx)
            .await?;
        let mut fills = Vec::with_capacity(logged.len());
        for log in logged {
            let numbers: Vec<i64> = bytemuck::pod_collect_to_vec(&log.numbers);
            let mut vectors = Vec::with_capacity(numbers.len());
            for numbers in numbers.chunks(STEP) {
                let mut found = self.stored_vectors(tx, log.column_id, numbers).await?;
                let keys: Vec<(i64, String)> = record::Entity::find()
                    .select_only()
                    .column(record::Column::Number)
                    .column(record::Column::Key)
                    .filter(record::Column::CollectionId.eq(collection))
                    .filter(record::Column::Deleted.eq(false))
                    .filter(record::Column::Number.is_in(numbers.iter().copied()))
                    .into_tuple()
                    .all(tx)
                    .await?;
                vectors.extend(keys.into_iter().filter_map(|(number, key)| {
                    Some(FilledVector { number: number as u64, key, vector: found.remove(&number)? })
                }));
            }
            fills.push(Fill { revision: log.revision as u64, column: log.column_id, vectors });
        }
        Ok(fills)
    }
}
