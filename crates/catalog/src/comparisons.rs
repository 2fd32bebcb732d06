//! Comparisons query by query: the hits of both sides, and the verdicts of a person.

use crate::connection::Catalog;
use crate::discarded::{Discarded, discard};
use crate::entity::{compared, measurement};
use crate::error::{CatalogError, Result};
use crate::packed::{packed, unpacked};
use chrono::Utc;
use sea_orm::ActiveValue::{NotSet, Set};
use sea_orm::sea_query::{Expr, SimpleExpr};
use sea_orm::{ActiveModelTrait, ColumnTrait, EntityTrait, QueryFilter, QueryOrder, QuerySelect};
use serde_json::Value;

/// Rows written by one statement.
const STEP: usize = 200;

/// A query as both sides answered it.
#[derive(Clone, Debug, PartialEq)]
pub struct ComparedPair {
    /// In its query set.
    pub position: u64,
    /// From 0, the same hits in the same order, to 1, no hit in common.
    pub difference: f64,
    pub figures: Value,
    /// Left and right, nearest first: record numbers and ranks.
    pub hits: [Vec<(u64, f32)>; 2],
    pub verdict: Option<String>,
}

impl From<compared::Model> for ComparedPair {
    fn from(row: compared::Model) -> ComparedPair {
        ComparedPair {
            position: row.position as u64,
            difference: row.difference,
            figures: row.figures,
            hits: [unpacked(&row.left_hits), unpacked(&row.right_hits)],
            verdict: row.verdict,
        }
    }
}

/// Deletes measurements; the queries of comparisons among them are cleared by [`Catalog::clear_discarded`].
pub(crate) async fn discard_measurements(tx: &crate::bounded::Tx, of: SimpleExpr) -> Result<()> {
    let comparisons = measurement::Entity::find()
        .select_only()
        .column(measurement::Column::Id)
        .filter(of.clone())
        .filter(measurement::Column::Kind.eq("comparison"));
    for id in comparisons.into_tuple::<i64>().all(tx).await? {
        discard(tx, Discarded::Comparison, id).await?;
    }
    measurement::Entity::delete_many().filter(of).exec(tx).await?;
    Ok(())
}

/// A measurement to insert, as of now.
pub(crate) fn new_measurement(
    (collection, column): (i64, i64),
    kind: &str,
    spec: Value,
    result: Value,
) -> measurement::ActiveModel {
    measurement::ActiveModel {
        id: NotSet,
        collection_id: Set(collection),
        column_id: Set(column),
        kind: Set(kind.into()),
        spec: Set(spec),
        result: Set(result),
        created_at: Set(Utc::now()),
    }
}

impl Catalog {
    /// Keeps a comparison with every query of it: all, or nothing.
    pub async fn add_comparison(
        &self,
        (collection, column): (i64, i64),
        spec: Value,
        result: Value,
        pairs: &[ComparedPair],
    ) -> Result<measurement::Model> {
        let tx = self.db.begin().await?;
        self.lock(&tx, collection).await?;
        let kept = new_measurement((collection, column), "comparison", spec, result).insert(&tx).await?;
        for some in pairs.chunks(STEP) {
            let rows = some.iter().map(|pair| compared::ActiveModel {
                comparison_id: Set(kept.id),
                position: Set(pair.position as i64),
                difference: Set(pair.difference),
                figures: Set(pair.figures.clone()),
                left_hits: Set(packed(&pair.hits[0])),
                right_hits: Set(packed(&pair.hits[1])),
                verdict: Set(pair.verdict.clone()),
            });
            compared::Entity::insert_many(rows).exec_without_returning(&tx).await?;
        }
        tx.commit().await?;
        Ok(kept)
    }

    /// Queries of a comparison, those that differ most first.
    pub async fn compared(&self, comparison: i64, from: u64, limit: u64) -> Result<Vec<ComparedPair>> {
        let rows = compared::Entity::find()
            .filter(compared::Column::ComparisonId.eq(comparison))
            .order_by_desc(compared::Column::Difference)
            .order_by_asc(compared::Column::Position)
            .offset(from)
            .limit(limit)
            .all(&self.db)
            .await?;
        Ok(rows.into_iter().map(ComparedPair::from).collect())
    }

    pub async fn compared_query(&self, comparison: i64, position: u64) -> Result<Option<ComparedPair>> {
        let row = compared::Entity::find_by_id((comparison, position as i64)).one(&self.db).await?;
        Ok(row.map(ComparedPair::from))
    }

    /// Keeps a verdict in the place of the one before; `None` takes it back.
    pub async fn judge(&self, comparison: i64, position: u64, verdict: Option<&str>) -> Result<()> {
        let tx = self.db.begin().await?;
        let of = compared::Entity::find_by_id((comparison, position as i64)).lock_exclusive();
        let there = of.one(&tx).await?;
        let name = || format!("{position} of comparison {comparison}");
        there.ok_or_else(|| CatalogError::Missing { what: "query", name: name() })?;
        compared::Entity::update_many()
            .col_expr(compared::Column::Verdict, Expr::value(verdict.map(str::to_owned)))
            .filter(compared::Column::ComparisonId.eq(comparison))
            .filter(compared::Column::Position.eq(position as i64))
            .exec(&tx)
            .await?;
        tx.commit().await
    }

    /// How many queries of each comparison have each verdict.
    pub async fn verdicts(&self, comparisons: &[i64]) -> Result<Vec<(i64, String, i64)>> {
        Ok(compared::Entity::find()
            .select_only()
            .column(compared::Column::ComparisonId)
            .column(compared::Column::Verdict)
            .column_as(compared::Column::Position.count(), "n")
            .filter(compared::Column::ComparisonId.is_in(comparisons.iter().copied()))
            .filter(compared::Column::Verdict.is_not_null())
            .group_by(compared::Column::ComparisonId)
            .group_by(compared::Column::Verdict)
            .into_tuple()
            .all(&self.db)
            .await?)
    }
}
