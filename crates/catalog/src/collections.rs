//! Collections, their vector columns, and the encoders that columns remember.

use crate::entity::{collection, encoder, index, record, sweep, vector, vector_column};
use crate::error::unless_taken;
use crate::{Catalog, CatalogError, Result};
use chrono::Utc;
use sea_orm::ActiveValue::{NotSet, Set, Unchanged};
use sea_orm::sea_query::{Expr, ExprTrait};
use sea_orm::{
    ActiveModelTrait, ColumnTrait, ConnectionTrait, DatabaseTransaction, EntityTrait, QueryFilter,
    QueryOrder, QuerySelect, Statement, TransactionTrait,
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

/// A change of what a collection is made of.
pub enum ShapeChange {
    About {
        description: Option<String>,
        fields: Option<Value>,
        default_column: Option<String>,
    },
    AddColumn(NewVectorColumn),
    /// With its indexes and sweeps; its vectors are cleared by [`Catalog::clear_orphans`].
    DropColumn(i64),
}

async fn insert_column(
    tx: &DatabaseTransaction,
    collection: i64,
    column: NewVectorColumn,
) -> Result<vector_column::Model> {
    let model = vector_column::ActiveModel {
        id: NotSet,
        collection_id: Set(collection),
        name: Set(column.name.clone()),
        dimensions: Set(column.dimensions),
        metric: Set(column.metric),
        encoder: Set(column.encoder),
        template: Set(column.template),
        serving: Set(None),
    };
    model.insert(tx).await.map_err(|e| unless_taken(e, "vector column", &column.name))
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
            shape: Set(0),
            default_column: Set(None),
            written_at: Set(None),
            created_at: Set(Utc::now()),
        };
        let about = about.insert(&tx).await.map_err(|e| unless_taken(e, "collection", &new.name))?;
        let mut columns = Vec::new();
        for column in new.columns {
            columns.push(insert_column(&tx, about.id, column).await?);
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

    pub async fn collection(&self, id: i64) -> Result<Collection> {
        let missing = || CatalogError::Missing { what: "collection", name: id.to_string() };
        let about = collection::Entity::find_by_id(id).one(&self.db).await?.ok_or_else(missing)?;
        let columns = vector_column::Entity::find()
            .filter(vector_column::Column::CollectionId.eq(id))
            .order_by_asc(vector_column::Column::Id)
            .all(&self.db)
            .await?;
        Ok(Collection { about, columns })
    }

    /// Changes what a collection is made of, and counts the change, in one step.
    pub async fn change_shape(&self, id: i64, change: ShapeChange) -> Result<Collection> {
        let tx = self.db.begin().await?;
        let mut update = collection::Entity::update_many()
            .col_expr(collection::Column::Shape, Expr::col(collection::Column::Shape).add(1))
            .filter(collection::Column::Id.eq(id));
        match change {
            ShapeChange::About { description, fields, default_column } => {
                if let Some(description) = description {
                    update = update.col_expr(collection::Column::Description, Expr::value(description));
                }
                if let Some(fields) = fields {
                    update = update.col_expr(collection::Column::Fields, Expr::value(fields));
                }
                if let Some(column) = default_column {
                    update = update.col_expr(collection::Column::DefaultColumn, Expr::value(column));
                }
            }
            ShapeChange::AddColumn(column) => drop(insert_column(&tx, id, column).await?),
            ShapeChange::DropColumn(column) => {
                vector_column::Entity::delete_by_id(column).exec(&tx).await?;
                index::Entity::delete_many().filter(index::Column::ColumnId.eq(column)).exec(&tx).await?;
                sweep::Entity::delete_many().filter(sweep::Column::ColumnId.eq(column)).exec(&tx).await?;
            }
        }
        update.exec(&tx).await?;
        tx.commit().await?;
        self.collection(id).await
    }

    /// Revision and shape of every collection, by id: what tells a node that it is behind.
    pub async fn revisions(&self) -> Result<Vec<(i64, i64, i64)>> {
        Ok(collection::Entity::find()
            .select_only()
            .column(collection::Column::Id)
            .column(collection::Column::Revision)
            .column(collection::Column::Shape)
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
            "DELETE FROM unencoded WHERE column_id NOT IN (SELECT id FROM vector_columns) LIMIT 5000",
            "DELETE FROM fills WHERE collection_id NOT IN (SELECT id FROM collections) LIMIT 5000",
            "DELETE FROM loads WHERE collection_id NOT IN (SELECT id FROM collections) LIMIT 5000",
        ] {
            while self.db.execute_unprepared(sql).await?.rows_affected() > 0 {}
        }
        Ok(())
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

    /// Living records, and the bytes of their keys and fields.
    pub async fn record_bytes(&self, collection: i64) -> Result<(u64, u64)> {
        let sum: Option<(i64, Option<i64>)> = record::Entity::find()
            .select_only()
            .column_as(Expr::cust("COUNT(*)"), "n")
            .column_as(Expr::cust("CAST(SUM(LENGTH(`key`) + LENGTH(body)) AS SIGNED)"), "bytes")
            .filter(record::Column::CollectionId.eq(collection))
            .filter(record::Column::Deleted.eq(false))
            .into_tuple()
            .one(&self.db)
            .await?;
        Ok(sum.map_or((0, 0), |(n, bytes)| (n as u64, bytes.unwrap_or(0) as u64)))
    }

    /// Vectors of a column in the database, and their bytes.
    pub async fn vector_bytes(&self, column: i64) -> Result<(u64, u64)> {
        let sum: Option<(i64, Option<i64>)> = vector::Entity::find()
            .select_only()
            .column_as(Expr::cust("COUNT(*)"), "n")
            .column_as(Expr::cust("CAST(SUM(LENGTH(data)) AS SIGNED)"), "bytes")
            .filter(vector::Column::ColumnId.eq(column))
            .into_tuple()
            .one(&self.db)
            .await?;
        Ok(sum.map_or((0, 0), |(n, bytes)| (n as u64, bytes.unwrap_or(0) as u64)))
    }

    pub(crate) fn sql(&self, sql: String, values: Vec<sea_orm::Value>) -> Statement {
        Statement::from_sql_and_values(self.db.get_database_backend(), sql, values)
    }
}
