//! Saved searches: versions that never change, and which of them answers.

use crate::bounded::Tx;
use crate::connection::Catalog;
use crate::entity::{saved_search, saved_version};
use crate::error::{CatalogError, Result};
use chrono::Utc;
use sea_orm::ActiveValue::Set;
use sea_orm::sea_query::{Expr, ExprTrait};
use sea_orm::{
    ActiveModelTrait, ColumnTrait, EntityTrait, PaginatorTrait, QueryFilter, QueryOrder, QuerySelect,
};
use serde_json::Value;

/// Versions of one saved search that are kept; the oldest that does not answer makes room.
const MOST_VERSIONS: u64 = 100;

/// A saved search and its versions, newest first.
#[derive(Clone, Debug, PartialEq)]
pub struct Saved {
    pub about: saved_search::Model,
    pub versions: Vec<saved_version::Model>,
}

/// The version of a saved search that answers.
#[derive(Clone, Debug, PartialEq)]
pub struct LiveSaved {
    pub name: String,
    pub version: i32,
    pub definition: Value,
}

fn missing(name: &str) -> CatalogError {
    CatalogError::Missing { what: "saved search", name: name.into() }
}

/// The saved searches of a collection that answer.
pub(crate) async fn live_saved(tx: &Tx, collection: i64) -> Result<Vec<LiveSaved>> {
    let mut live = Vec::new();
    let all = saved_search::Entity::find()
        .filter(saved_search::Column::CollectionId.eq(collection))
        .filter(saved_search::Column::Live.is_not_null())
        .order_by_asc(saved_search::Column::Name)
        .all(tx)
        .await?;
    for saved in all {
        let Some(version) = saved.live else { continue };
        let id = (collection, saved.name.clone(), version);
        if let Some(found) = saved_version::Entity::find_by_id(id).one(tx).await? {
            live.push(LiveSaved { name: saved.name, version, definition: found.definition });
        }
    }
    Ok(live)
}

impl Catalog {
    /// A saved search with all of its versions, the newest first.
    pub async fn saved_search(&self, collection: i64, name: &str) -> Result<Option<Saved>> {
        let tx = self.db.begin_snapshot().await?;
        let about = saved_search::Entity::find_by_id((collection, name.to_owned())).one(&tx).await?;
        let of = saved_version::Column::CollectionId.eq(collection).and(saved_version::Column::Name.eq(name));
        let versions = saved_version::Entity::find().filter(of).order_by_desc(saved_version::Column::Version);
        let versions = versions.all(&tx).await?;
        tx.commit().await?;
        Ok(about.map(|about| Saved { about, versions }))
    }

    /// The saved searches of a collection by name, each with the version that answers and the newest.
    pub async fn saved_searches(&self, collection: i64) -> Result<Vec<Saved>> {
        use {saved_search::Column as S, saved_version::Column as V};
        let tx = self.db.begin_snapshot().await?;
        let all = saved_search::Entity::find().filter(S::CollectionId.eq(collection));
        let all = all.order_by_asc(S::Name).all(&tx).await?;
        let mut out = Vec::with_capacity(all.len());
        for about in all {
            let which = [Some(about.newest), about.live].into_iter().flatten();
            let of = V::CollectionId.eq(collection).and(V::Name.eq(&about.name)).and(V::Version.is_in(which));
            let versions =
                saved_version::Entity::find().filter(of).order_by_desc(V::Version).all(&tx).await?;
            out.push(Saved { about, versions });
        }
        tx.commit().await?;
        Ok(out)
    }

    /// What the saved searches of a collection are called.
    pub async fn saved_names(&self, collection: i64) -> Result<Vec<String>> {
        Ok(saved_search::Entity::find()
            .select_only()
            .column(saved_search::Column::Name)
            .filter(saved_search::Column::CollectionId.eq(collection))
            .into_tuple()
            .all(&self.db)
            .await?)
    }

    /// Adds a version, of a saved search that may be new; it does not answer yet. Refuses a new one beyond `most`.
    pub async fn add_saved_version(
        &self,
        collection: i64,
        name: &str,
        (definition, made_by): (Value, &str),
        most: u64,
    ) -> Result<i32> {
        use saved_version::Column as C;
        let tx = self.db.begin().await?;
        self.lock(&tx, collection).await?;
        let about = saved_search::Entity::find_by_id((collection, name.to_owned())).one(&tx).await?;
        let version = about.as_ref().map_or(1, |a| a.newest + 1);
        match &about {
            Some(about) => {
                let newest = saved_search::ActiveModel { newest: Set(version), ..about.clone().into() };
                newest.update(&tx).await?;
            }
            None => {
                let of = saved_search::Column::CollectionId.eq(collection);
                if saved_search::Entity::find().filter(of).count(&tx).await? >= most {
                    return Err(CatalogError::TooMany { what: "saved searches", most });
                }
                let new = saved_search::ActiveModel {
                    collection_id: Set(collection),
                    name: Set(name.into()),
                    live: Set(None),
                    newest: Set(version),
                };
                saved_search::Entity::insert(new).exec_without_returning(&tx).await?;
            }
        }
        let new = saved_version::ActiveModel {
            collection_id: Set(collection),
            name: Set(name.into()),
            version: Set(version),
            definition: Set(definition),
            made_at: Set(Utc::now()),
            made_by: Set(made_by.into()),
        };
        saved_version::Entity::insert(new).exec_without_returning(&tx).await?;
        let of = C::CollectionId.eq(collection).and(C::Name.eq(name));
        let there = saved_version::Entity::find().filter(of.clone()).count(&tx).await?;
        if there > MOST_VERSIONS {
            let live = about.and_then(|a| a.live).unwrap_or(0);
            let oldest: Option<i32> = saved_version::Entity::find()
                .select_only()
                .column(C::Version)
                .filter(of.clone().and(C::Version.ne(live)))
                .order_by_asc(C::Version)
                .limit(1)
                .into_tuple()
                .one(&tx)
                .await?;
            let oldest = of.and(C::Version.eq(oldest));
            saved_version::Entity::delete_many().filter(oldest).exec(&tx).await?;
        }
        tx.commit().await?;
        Ok(version)
    }

    /// Makes a version the one that answers, or none of them.
    pub async fn set_live_version(&self, collection: i64, name: &str, version: Option<i32>) -> Result<()> {
        let tx = self.db.begin().await?;
        self.lock(&tx, collection).await?;
        let id = (collection, name.to_owned());
        saved_search::Entity::find_by_id(id).one(&tx).await?.ok_or_else(|| missing(name))?;
        if let Some(version) = version {
            let id = (collection, name.to_owned(), version);
            let there = saved_version::Entity::find_by_id(id).one(&tx).await?;
            let name = format!("{version} of \"{name}\"");
            there.ok_or(CatalogError::Missing { what: "version", name })?;
        }
        let of = saved_search::Column::CollectionId.eq(collection).and(saved_search::Column::Name.eq(name));
        saved_search::Entity::update_many()
            .col_expr(saved_search::Column::Live, Expr::value(version))
            .filter(of)
            .exec(&tx)
            .await?;
        self.count_choice(&tx, collection).await?;
        tx.commit().await
    }

    /// Removes a saved search with all of its versions.
    pub async fn remove_saved_search(&self, collection: i64, name: &str) -> Result<()> {
        let tx = self.db.begin().await?;
        self.lock(&tx, collection).await?;
        let id = (collection, name.to_owned());
        if saved_search::Entity::delete_by_id(id).exec(&tx).await?.rows_affected == 0 {
            return Err(missing(name));
        }
        let of = saved_version::Column::CollectionId.eq(collection).and(saved_version::Column::Name.eq(name));
        saved_version::Entity::delete_many().filter(of).exec(&tx).await?;
        self.count_choice(&tx, collection).await?;
        tx.commit().await
    }
}
