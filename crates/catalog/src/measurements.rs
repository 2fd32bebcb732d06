//! Query sets, their exact answers, and what was measured with them.

use crate::bounded::Tx;
use crate::comparisons::{discard_measurements, new_measurement};
use crate::connection::Catalog;
use crate::discarded::{Discarded, discard};
use crate::entity::{answer, answers, measurement, query, query_set};
use crate::error::{CatalogError, Result, unless_taken};
use crate::packed::{packed, unpacked};
use chrono::Utc;
use sea_orm::ActiveValue::{NotSet, Set};
use sea_orm::sea_query::SimpleExpr;
use sea_orm::{ActiveModelTrait, ColumnTrait, EntityTrait, QueryFilter, QueryOrder, QuerySelect};
use serde_json::Value;

/// Rows written by one statement.
const STEP: usize = 500;
/// Measurements of a kind that are listed.
const NEWEST: u64 = 200;

pub struct NewQuerySet<'a> {
    pub collection: i64,
    pub column: i64,
    pub name: &'a str,
    pub spec: Value,
    pub revision: u64,
    pub difficulty: Option<Value>,
}

#[derive(Clone, Debug, Default, PartialEq)]
pub struct NewQuery {
    pub vector: Vec<f32>,
    pub number: Option<u64>,
    pub text: Option<String>,
    pub filter: Option<Value>,
    pub relevant: Option<Value>,
}

/// The exact answers of a query set.
#[derive(Clone, Debug, PartialEq)]
pub struct Answers {
    pub k: usize,
    pub revision: u64,
    pub share: f64,
    pub n_rows: usize,
    pub seconds: f64,
    pub neighbours: Vec<Neighbours>,
}

/// Those of one query, nearest first: record numbers and ranks.
#[derive(Clone, Debug, PartialEq)]
pub struct Neighbours {
    pub nearest: Vec<(u64, f32)>,
    pub typical: f32,
}

/// Lets go of query sets and their answers; the rows of both are cleared by [`Catalog::clear_discarded`].
pub(crate) async fn discard_sets(tx: &Tx, of: SimpleExpr) -> Result<()> {
    for set in query_set::Entity::find().filter(of).all(tx).await? {
        discard_answers(tx, set.id).await?;
        query_set::Entity::delete_by_id(set.id).exec(tx).await?;
        discard(tx, Discarded::QuerySet, set.id).await?;
    }
    Ok(())
}

async fn discard_answers(tx: &Tx, set: i64) -> Result<()> {
    for old in answers::Entity::find().filter(answers::Column::SetId.eq(set)).all(tx).await? {
        answers::Entity::delete_by_id(old.id).exec(tx).await?;
        discard(tx, Discarded::Answers, old.id).await?;
    }
    Ok(())
}

/// Targets of a collection, newest first.
pub(crate) async fn targets_of(tx: &Tx, collection: i64) -> Result<Vec<measurement::Model>> {
    Ok(measurement::Entity::find()
        .filter(measurement::Column::CollectionId.eq(collection))
        .filter(measurement::Column::Kind.eq("target"))
        .order_by_desc(measurement::Column::Id)
        .limit(NEWEST)
        .all(tx)
        .await?)
}

impl Catalog {
    /// Keeps a query set: all of it, or nothing.
    pub async fn add_query_set(
        &self,
        set: NewQuerySet<'_>,
        queries: &[NewQuery],
    ) -> Result<query_set::Model> {
        let new = query_set::ActiveModel {
            id: NotSet,
            collection_id: Set(set.collection),
            column_id: Set(set.column),
            name: Set(set.name.into()),
            spec: Set(set.spec),
            n_queries: Set(queries.len() as i64),
            revision: Set(set.revision as i64),
            difficulty: Set(set.difficulty),
            created_at: Set(Utc::now()),
        };
        let tx = self.db.begin().await?;
        self.lock(&tx, set.collection).await?;
        let kept = new.insert(&tx).await.map_err(|e| unless_taken(e, "query set", set.name))?;
        for (i, some) in queries.chunks(STEP).enumerate() {
            let rows = some.iter().enumerate().map(|(j, q)| query::ActiveModel {
                set_id: Set(kept.id),
                position: Set((i * STEP + j) as i64),
                vector: Set(bytemuck::cast_slice(&q.vector).to_vec()),
                number: Set(q.number.map(|n| n as i64)),
                text: Set(q.text.clone()),
                filter: Set(q.filter.clone()),
                relevant: Set(q.relevant.clone()),
            });
            query::Entity::insert_many(rows).exec_without_returning(&tx).await?;
        }
        tx.commit().await?;
        Ok(kept)
    }

    /// The query sets of a collection, by name.
    pub async fn query_sets(&self, collection: i64) -> Result<Vec<query_set::Model>> {
        Ok(query_set::Entity::find()
            .filter(query_set::Column::CollectionId.eq(collection))
            .order_by_asc(query_set::Column::Name)
            .all(&self.db)
            .await?)
    }

    /// Queries of a set in order, from a position on.
    pub async fn queries(&self, set: i64, from: u64, limit: u64) -> Result<Vec<query::Model>> {
        Ok(query::Entity::find()
            .filter(query::Column::SetId.eq(set))
            .filter(query::Column::Position.gte(from as i64))
            .order_by_asc(query::Column::Position)
            .limit(limit)
            .all(&self.db)
            .await?)
    }

    /// Some queries of a set, by their positions.
    pub async fn queries_at(&self, set: i64, positions: &[u64]) -> Result<Vec<query::Model>> {
        Ok(query::Entity::find()
            .filter(query::Column::SetId.eq(set))
            .filter(query::Column::Position.is_in(positions.iter().map(|at| *at as i64)))
            .all(&self.db)
            .await?)
    }

    pub async fn delete_query_set(&self, set: &query_set::Model) -> Result<()> {
        let tx = self.db.begin().await?;
        self.lock(&tx, set.collection_id).await?;
        discard_sets(&tx, query_set::Column::Id.eq(set.id)).await?;
        tx.commit().await
    }

    /// What exact answers are kept, by query set, newest first.
    pub async fn kept_answers(&self, sets: &[i64]) -> Result<Vec<answers::Model>> {
        Ok(answers::Entity::find()
            .filter(answers::Column::SetId.is_in(sets.iter().copied()))
            .order_by_desc(answers::Column::Id)
            .all(&self.db)
            .await?)
    }

    /// The exact answers of a set, in the order of its queries.
    pub async fn answers(&self, kept: &answers::Model) -> Result<Answers> {
        let rows = answer::Entity::find()
            .filter(answer::Column::AnswersId.eq(kept.id))
            .order_by_asc(answer::Column::Position)
            .all(&self.db)
            .await?;
        let neighbours =
            rows.into_iter().map(|r| Neighbours { nearest: unpacked(&r.neighbours), typical: r.typical });
        Ok(Answers {
            k: kept.k as usize,
            revision: kept.revision as u64,
            share: kept.share,
            n_rows: kept.n_rows as usize,
            seconds: kept.seconds,
            neighbours: neighbours.collect(),
        })
    }

    /// Keeps the exact answers of a set in the place of those it had.
    pub async fn put_answers(&self, set: &query_set::Model, new: &Answers) -> Result<()> {
        let tx = self.db.begin().await?;
        self.lock(&tx, set.collection_id).await?;
        let there = query_set::Entity::find_by_id(set.id).one(&tx).await?;
        there.ok_or_else(|| CatalogError::Missing { what: "query set", name: set.name.clone() })?;
        discard_answers(&tx, set.id).await?;
        let kept = answers::ActiveModel {
            id: NotSet,
            set_id: Set(set.id),
            k: Set(new.k as i32),
            revision: Set(new.revision as i64),
            share: Set(new.share),
            n_rows: Set(new.n_rows as i64),
            seconds: Set(new.seconds),
            created_at: Set(Utc::now()),
        };
        let kept = kept.insert(&tx).await?;
        for (i, some) in new.neighbours.chunks(STEP).enumerate() {
            let rows = some.iter().enumerate().map(|(j, n)| answer::ActiveModel {
                answers_id: Set(kept.id),
                position: Set((i * STEP + j) as i64),
                neighbours: Set(packed(&n.nearest)),
                typical: Set(n.typical),
            });
            answer::Entity::insert_many(rows).exec_without_returning(&tx).await?;
        }
        tx.commit().await
    }

    /// Keeps what was measured. A target changes which settings a search may ask for, so other nodes are told.
    pub async fn add_measurement(
        &self,
        (collection, column): (i64, i64),
        kind: &str,
        spec: Value,
        result: Value,
    ) -> Result<measurement::Model> {
        let tx = self.db.begin().await?;
        self.lock(&tx, collection).await?;
        let kept = new_measurement((collection, column), kind, spec, result).insert(&tx).await?;
        if kind == "target" {
            self.count_choice(&tx, collection).await?;
        }
        tx.commit().await?;
        Ok(kept)
    }

    /// Measurements of a kind, newest first.
    pub async fn measurements(&self, collection: i64, kind: &str) -> Result<Vec<measurement::Model>> {
        Ok(measurement::Entity::find()
            .filter(measurement::Column::CollectionId.eq(collection))
            .filter(measurement::Column::Kind.eq(kind))
            .order_by_desc(measurement::Column::Id)
            .limit(NEWEST)
            .all(&self.db)
            .await?)
    }

    pub async fn measurement(
        &self,
        collection: i64,
        kind: &str,
        id: i64,
    ) -> Result<Option<measurement::Model>> {
        Ok(measurement::Entity::find_by_id(id)
            .filter(measurement::Column::CollectionId.eq(collection))
            .filter(measurement::Column::Kind.eq(kind))
            .one(&self.db)
            .await?)
    }

    /// A measurement of any kind.
    pub async fn any_measurement(&self, collection: i64, id: i64) -> Result<Option<measurement::Model>> {
        Ok(measurement::Entity::find_by_id(id)
            .filter(measurement::Column::CollectionId.eq(collection))
            .one(&self.db)
            .await?)
    }

    pub async fn delete_measurement(&self, kept: &measurement::Model) -> Result<()> {
        let tx = self.db.begin().await?;
        self.lock(&tx, kept.collection_id).await?;
        discard_measurements(&tx, measurement::Column::Id.eq(kept.id)).await?;
        if kept.kind == "target" {
            self.count_choice(&tx, kept.collection_id).await?;
        }
        tx.commit().await
    }
}
