//! Collections, their vector columns, and the encoders that columns remember.

use crate::bounded::{Tx, retried};
use crate::comparisons::discard_measurements;
use crate::connection::Catalog;
use crate::discarded::{Discarded, discard};
use crate::entity::{collection, encoder, index, measurement, query_set, record, vector_column};
use crate::error::unless_taken;
use crate::error::{CatalogError, Result};
use crate::measurements::discard_sets;
use chrono::Utc;
use sea_orm::ActiveValue::{NotSet, Set};
use sea_orm::sea_query::Expr;
use sea_orm::{
    ActiveModelTrait, ColumnTrait, ConnectionTrait, EntityTrait, QueryFilter, QueryOrder, QuerySelect,
    Statement,
};
use serde_json::Value;
use std::time::Duration;

pub struct NewCollection {
    pub name: String,
    pub description: String,
    /// JSON Schema of the fields.
    pub fields: Value,
    pub columns: Vec<NewVectorColumn>,
}

#[derive(Clone)]
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

/// What tells a node that its picture of a collection is old.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Version {
    pub id: i64,
    pub name: String,
    pub revision: i64,
    /// Counts changes of fields and columns.
    pub shape: i64,
    /// Counts changes of indexes and serving choices.
    pub choices: i64,
}

/// A change of what a collection is made of.
#[derive(Clone)]
pub enum ShapeChange {
    About {
        description: Option<String>,
        fields: Option<Value>,
        default_column: Option<String>,
    },
    AddColumn(NewVectorColumn),
    /// With its indexes, query sets and measurements; its vectors are cleared by [`Catalog::clear_discarded`].
    DropColumn(i64),
}

async fn insert_column(tx: &Tx, collection: i64, column: NewVectorColumn) -> Result<vector_column::Model> {
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
            choices: Set(0),
            default_column: Set(None),
            written_at: Set(None),
            created_at: Set(Utc::now()),
            hidden: Set(None),
            hidden_at: Set(None),
            hidden_by: Set(None),
            own_name: Set(None),
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
        let all = collection::Entity::find()
            .filter(collection::Column::Hidden.is_null())
            .order_by_asc(collection::Column::Name)
            .all(&self.db)
            .await?;
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
        let there = collection::Entity::find_by_id(id).filter(collection::Column::Hidden.is_null());
        let about = there.one(&self.db).await?.ok_or_else(missing)?;
        let columns = vector_column::Entity::find()
            .filter(vector_column::Column::CollectionId.eq(id))
            .order_by_asc(vector_column::Column::Id)
            .all(&self.db)
            .await?;
        Ok(Collection { about, columns })
    }

    /// Changes what a collection is made of, and counts the change, in one step. Refused with
    /// [`CatalogError::Reshaped`] unless the collection still has the schema version `from` that the caller read.
    pub async fn change_shape(&self, id: i64, from: i64, change: ShapeChange) -> Result<Collection> {
        retried(|| self.change_shape_once(id, from, change.clone())).await?;
        self.collection(id).await
    }

    async fn change_shape_once(&self, id: i64, from: i64, change: ShapeChange) -> Result<()> {
        let tx = self.db.begin().await?;
        let locked = self.lock(&tx, id).await?;
        if locked.shape != from {
            return Err(CatalogError::Reshaped { now: locked.shape });
        }
        let mut update = collection::Entity::update_many()
            .col_expr(collection::Column::Shape, Expr::value(from + 1))
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
                let of = measurement::Column::ColumnId.eq(column);
                discard_measurements(&tx, of).await?;
                discard_sets(&tx, query_set::Column::ColumnId.eq(column)).await?;
                discard(&tx, Discarded::Column, column).await?;
            }
        }
        update.exec(&tx).await?;
        tx.commit().await
    }

    /// The revision of every collection, by which a node sees that it is behind.
    pub async fn versions(&self) -> Result<Vec<Version>> {
        let all: Vec<(i64, String, i64, i64, i64)> = collection::Entity::find()
            .select_only()
            .column(collection::Column::Id)
            .column(collection::Column::Name)
            .column(collection::Column::Revision)
            .column(collection::Column::Shape)
            .column(collection::Column::Choices)
            .filter(collection::Column::Hidden.is_null())
            .into_tuple()
            .all(&self.db.within(Duration::from_secs(5)))
            .await?;
        let version = |(id, name, revision, shape, choices)| Version { id, name, revision, shape, choices };
        Ok(all.into_iter().map(version).collect())
    }

    /// Takes a collection away for good, dropped before or not. Its rows are cleared by [`Catalog::clear_discarded`].
    pub async fn delete_collection(&self, id: i64) -> Result<()> {
        retried(|| self.delete_collection_once(id)).await
    }

    async fn delete_collection_once(&self, id: i64) -> Result<()> {
        let tx = self.db.begin().await?;
        // Writers hold this lock: none of them writes what nobody would clear.
        self.lock_hidden(&tx, id).await?;
        let columns: Vec<i64> = vector_column::Entity::find()
            .select_only()
            .column(vector_column::Column::Id)
            .filter(vector_column::Column::CollectionId.eq(id))
            .into_tuple()
            .all(&tx)
            .await?;
        discard(&tx, Discarded::Collection, id).await?;
        for column in columns {
            discard(&tx, Discarded::Column, column).await?;
        }
        collection::Entity::delete_by_id(id).exec(&tx).await?;
        vector_column::Entity::delete_many()
            .filter(vector_column::Column::CollectionId.eq(id))
            .exec(&tx)
            .await?;
        index::Entity::delete_many().filter(index::Column::CollectionId.eq(id)).exec(&tx).await?;
        let of = measurement::Column::CollectionId.eq(id);
        discard_measurements(&tx, of).await?;
        discard_sets(&tx, query_set::Column::CollectionId.eq(id)).await?;
        tx.commit().await
    }

    pub async fn add_encoder(
        &self,
        name: &str,
        url: &str,
        model: &str,
        known_vector: &[f32],
    ) -> Result<encoder::Model> {
        let new = encoder::ActiveModel {
            id: NotSet,
            name: Set(name.into()),
            url: Set(url.into()),
            model: Set(model.into()),
            dimensions: Set(known_vector.len() as u32),
            created_at: Set(Utc::now()),
            known_vector: Set(Some(bytemuck::cast_slice(known_vector).to_vec())),
        };
        new.insert(&self.db).await.map_err(|e| unless_taken(e, "encoder", name))
    }

    /// An encoder may move; what it makes may not change, so only the address can be set.
    pub async fn move_encoder(&self, name: &str, url: &str, known_vector: Option<&[f32]>) -> Result<()> {
        let moved = encoder::ActiveModel {
            url: Set(url.into()),
            known_vector: known_vector.map_or(NotSet, |v| Set(Some(bytemuck::cast_slice(v).to_vec()))),
            ..Default::default()
        };
        encoder::Entity::update_many()
            .set(moved)
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
            .one(&self.db.patient())
            .await?;
        Ok(sum.map_or((0, 0), |(n, bytes)| (n as u64, bytes.unwrap_or(0) as u64)))
    }

    pub(crate) fn sql(&self, sql: String, values: Vec<sea_orm::Value>) -> Statement {
        Statement::from_sql_and_values(self.db.get_database_backend(), sql, values)
    }
}
