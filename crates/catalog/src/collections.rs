//! Collections, their vector columns, and the encoders that columns remember.

use crate::entity::{collection, encoder, index, record, sweep, vector, vector_column};
use crate::error::unless_taken;
use crate::{Catalog, CatalogError, Result};
use chrono::Utc;
use sea_orm::ActiveValue::{NotSet, Set, Unchanged};
use sea_orm::sea_query::Expr;
use sea_orm::{
    ActiveModelTrait, ColumnTrait, ConnectionTrait, EntityTrait, QueryFilter, QueryOrder, QuerySelect,
    Statement, TransactionTrait,
};
use serde_json::Value;

pub struct NewCollection {
    pub name: String,
    pub description: String,
    /// JSON Schema of the fields.
    pub fields: Value,
    pub columns: Vec<NewVectorColumn>,
}

pub struct NewVectorColumn {
    pub name: String,
    pub dimensions: u32,
    pub metric: String,
    pub encoder: Option<String>,
    pub template: Option<String>,
}

/// A collection and its vector columns, in the order they were given.
#[derive(Clone, Debug, PartialEq)]
pub struct Collection {
    pub about: collection::Model,
    pub columns: Vec<vector_column::Model>,
}

impl Catalog {
    pub async fn create_collection(&self, new: NewCollection) -> Result<Collection> {
        let tx = self.db.begin().await?;
        let about = collection::ActiveModel {
            id: NotSet,
            name: Set(new.name.clone()),
            description: Set(new.description),
            fields: Set(new.fields),
            revision: Set(0),
            next_number: Set(0),
            created_at: Set(Utc::now()),
        };
        let about = about.insert(&tx).await.map_err(|e| unless_taken(e, "collection", &new.name))?;
        let mut columns = Vec::new();
        for column in new.columns {
            let model = vector_column::ActiveModel {
                id: NotSet,
                collection_id: Set(about.id),
                name: Set(column.name.clone()),
                dimensions: Set(column.dimensions),
                metric: Set(column.metric),
                encoder: Set(column.encoder),
                template: Set(column.template),
                serving: Set(None),
            };
            columns
                .push(model.insert(&tx).await.map_err(|e| unless_taken(e, "vector column", &column.name))?);
        }
        tx.commit().await?;
        Ok(Collection { about, columns })
    }

    pub async fn collections(&self) -> Result<Vec<Collection>> {
        let all = collection::Entity::find().order_by_asc(collection::Column::Name).all(&self.db).await?;
        let mut columns =
            vector_column::Entity::find().order_by_asc(vector_column::Column::Id).all(&self.db).await?;
        Ok(all
            .into_iter()
            .map(|about| {
                let (mine, rest) = columns.drain(..).partition(|c| c.collection_id == about.id);
                columns = rest;
                Collection { about, columns: mine }
            })
            .collect())
    }

    /// The revision of every collection, by id: what tells a node that it is behind.
    pub async fn revisions(&self) -> Result<Vec<(i64, i64)>> {
        Ok(collection::Entity::find()
            .select_only()
            .column(collection::Column::Id)
            .column(collection::Column::Revision)
            .into_tuple()
            .all(&self.db)
            .await?)
    }

    /// Takes the collection away at once. Its rows are cleared by [`Catalog::clear_orphans`].
    pub async fn delete_collection(&self, id: i64) -> Result<()> {
        let tx = self.db.begin().await?;
        collection::Entity::delete_by_id(id).exec(&tx).await?;
        vector_column::Entity::delete_many()
            .filter(vector_column::Column::CollectionId.eq(id))
            .exec(&tx)
            .await?;
        index::Entity::delete_many().filter(index::Column::CollectionId.eq(id)).exec(&tx).await?;
        sweep::Entity::delete_many().filter(sweep::Column::CollectionId.eq(id)).exec(&tx).await?;
        Ok(tx.commit().await?)
    }

    /// Clears records and vectors whose collection is gone, in small steps that hold no lock long.
    pub async fn clear_orphans(&self) -> Result<()> {
        for sql in [
            "DELETE FROM records WHERE collection_id NOT IN (SELECT id FROM collections) LIMIT 5000",
            "DELETE FROM vectors WHERE column_id NOT IN (SELECT id FROM vector_columns) LIMIT 5000",
        ] {
            while self.db.execute_unprepared(sql).await?.rows_affected() > 0 {}
        }
        Ok(())
    }

    /// Living records and stored bytes of vectors, counted by the database.
    pub async fn count_records(&self, collection: i64) -> Result<u64> {
        use sea_orm::PaginatorTrait;
        Ok(record::Entity::find()
            .filter(record::Column::CollectionId.eq(collection))
            .filter(record::Column::Deleted.eq(false))
            .count(&self.db)
            .await?)
    }

    /// Which index and settings answer searches that name none; `None` for the exact scan.
    pub async fn set_serving(&self, column: i64, serving: Option<Value>) -> Result<()> {
        let model =
            vector_column::ActiveModel { id: Unchanged(column), serving: Set(serving), ..Default::default() };
        model.update(&self.db).await?;
        Ok(())
    }

    pub async fn add_encoder(
        &self,
        name: &str,
        url: &str,
        model: &str,
        dimensions: u32,
    ) -> Result<encoder::Model> {
        let new = encoder::ActiveModel {
            id: NotSet,
            name: Set(name.into()),
            url: Set(url.into()),
            model: Set(model.into()),
            dimensions: Set(dimensions),
            created_at: Set(Utc::now()),
        };
        new.insert(&self.db).await.map_err(|e| unless_taken(e, "encoder", name))
    }

    /// An encoder may move; what it makes may not change, so only the address can be set.
    pub async fn move_encoder(&self, name: &str, url: &str) -> Result<()> {
        encoder::Entity::update_many()
            .col_expr(encoder::Column::Url, Expr::value(url))
            .filter(encoder::Column::Name.eq(name))
            .exec(&self.db)
            .await?;
        Ok(())
    }

    pub async fn encoders(&self) -> Result<Vec<encoder::Model>> {
        Ok(encoder::Entity::find().order_by_asc(encoder::Column::Name).all(&self.db).await?)
    }

    pub async fn encoder(&self, name: &str) -> Result<Option<encoder::Model>> {
        Ok(encoder::Entity::find().filter(encoder::Column::Name.eq(name)).one(&self.db).await?)
    }

    /// Refuses while a column still needs the encoder.
    pub async fn remove_encoder(&self, name: &str) -> Result<()> {
        let gone =
            encoder::Entity::delete_many().filter(encoder::Column::Name.eq(name)).exec(&self.db).await?;
        if gone.rows_affected == 0 {
            return Err(CatalogError::Missing { what: "encoder", name: name.into() });
        }
        Ok(())
    }

    /// Bytes that the vectors of a column take in the database.
    pub async fn vector_bytes(&self, column: i64) -> Result<u64> {
        let sum: Option<Option<i64>> = vector::Entity::find()
            .select_only()
            .column_as(Expr::cust("CAST(SUM(LENGTH(data)) AS SIGNED)"), "n")
            .filter(vector::Column::ColumnId.eq(column))
            .into_tuple()
            .one(&self.db)
            .await?;
        Ok(sum.flatten().unwrap_or(0) as u64)
    }

    pub(crate) fn sql(&self, sql: String, values: Vec<sea_orm::Value>) -> Statement {
        Statement::from_sql_and_values(self.db.get_database_backend(), sql, values)
    }
}
