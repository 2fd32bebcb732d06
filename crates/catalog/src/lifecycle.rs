//! Collections dropped and restored, renamed, and swapped.

use crate::bounded::{Tx, retried};
use crate::collections::Collection;
use crate::connection::Catalog;
use crate::entity::{access_key, collection, job, load};
use crate::error::{CatalogError, Result, unless_taken};
use chrono::{DateTime, Utc};
use sea_orm::ActiveValue::{Set, Unchanged};
use sea_orm::sea_query::{Expr, ExprTrait};
use sea_orm::{ColumnTrait, EntityTrait, QueryFilter, QueryOrder};
use serde_json::{Value, json};

/// The name of a collection that is out of the way: no other can have it.
fn aside(id: i64) -> String {
    format!("~{id}")
}

/// Puts another name wherever a field refers to a collection; whether one did.
fn refer(fields: &mut Value, from: &str, to: &str) -> bool {
    match fields {
        Value::Object(members) => members.iter_mut().fold(false, |any, (name, value)| {
            let refers = name == "refersTo" && value == from;
            if refers {
                *value = json!(to);
            }
            refers | refer(value, from, to) | any
        }),
        Value::Array(items) => items.iter_mut().fold(false, |any, item| refer(item, from, to) | any),
        _ => false,
    }
}

async fn update(tx: &Tx, id: i64, model: collection::ActiveModel) -> Result<()> {
    let of = collection::Column::Id.eq(id);
    collection::Entity::update_many().set(model).filter(of).exec(tx).await?;
    Ok(())
}

async fn set_name(tx: &Tx, id: i64, name: &str) -> Result<()> {
    collection::Entity::update_many()
        .col_expr(collection::Column::Name, Expr::value(name))
        .col_expr(collection::Column::Shape, Expr::col(collection::Column::Shape).add(1))
        .filter(collection::Column::Id.eq(id))
        .exec(tx)
        .await
        .map_err(|e| unless_taken(e, "collection", name))?;
    Ok(())
}

impl Catalog {
    /// Takes a collection away at once, so that it can be restored. `by` is the key that does it.
    pub async fn drop_collection(&self, id: i64, by: &str) -> Result<()> {
        retried(|| self.drop_collection_once(id, by)).await
    }

    async fn drop_collection_once(&self, id: i64, by: &str) -> Result<()> {
        let tx = self.db.begin().await?;
        // Writers hold this lock: none of them writes to it afterwards.
        let now = self.lock_there(&tx, id).await?;
        let dropped = collection::ActiveModel {
            name: Set(aside(id)),
            own_name: Set(Some(now.name)),
            hidden: Set(Some("dropped".into())),
            hidden_at: Set(Some(Utc::now())),
            hidden_by: Set(Some(by.into())),
            ..Default::default()
        };
        update(&tx, id, dropped).await?;
        tx.commit().await
    }

    /// Collections that can be restored, the last dropped first.
    pub async fn dropped(&self) -> Result<Vec<collection::Model>> {
        Ok(collection::Entity::find()
            .filter(collection::Column::Hidden.eq("dropped"))
            .order_by_desc(collection::Column::HiddenAt)
            .all(&self.db)
            .await?)
    }

    /// Brings a dropped collection back, under its own name or another.
    pub async fn restore_collection(&self, id: i64, name: &str) -> Result<Collection> {
        let tx = self.db.begin().await?;
        let now = self.lock_hidden(&tx, id).await?;
        if now.hidden.as_deref() != Some("dropped") {
            return Err(CatalogError::Missing { what: "dropped collection", name: id.to_string() });
        }
        set_name(&tx, id, name).await?;
        let there = collection::ActiveModel {
            own_name: Set(None),
            hidden: Set(None),
            hidden_at: Set(None),
            hidden_by: Set(None),
            ..Default::default()
        };
        update(&tx, id, there).await?;
        tx.commit().await?;
        self.collection(id).await
    }

    /// Deletes for good what was dropped before a time, and clones that `node` did not finish.
    pub async fn purge_hidden(&self, before: DateTime<Utc>, node: Option<&str>) -> Result<u64> {
        use collection::Column as C;
        let old = C::Hidden.is_not_null().and(C::HiddenAt.lt(before));
        let left = C::Hidden.eq("cloning").and(C::HiddenBy.eq(node));
        let gone = match node {
            Some(_) => old.or(left),
            None => old,
        };
        let all = collection::Entity::find().filter(gone).all(&self.db).await?;
        for one in &all {
            match self.delete_collection(one.id).await {
                // Another node was faster.
                Err(CatalogError::Missing { .. }) => {}
                deleted => deleted?,
            }
        }
        Ok(all.len() as u64)
    }

    /// Gives a collection another name, and with it whatever names it: fields that refer to it, keys, jobs and loads.
    pub async fn rename_collection(&self, id: i64, to: &str) -> Result<()> {
        retried(|| self.rename_once(id, to)).await
    }

    async fn rename_once(&self, id: i64, to: &str) -> Result<()> {
        let tx = self.db.begin().await?;
        let from = self.lock_there(&tx, id).await?.name;
        set_name(&tx, id, to).await?;
        for other in collection::Entity::find().order_by_asc(collection::Column::Id).all(&tx).await? {
            // Most refer to nothing; those that do are read again under their lock.
            if !refer(&mut other.fields.clone(), &from, to) {
                continue;
            }
            let mut now = self.lock_hidden(&tx, other.id).await?;
            refer(&mut now.fields, &from, to);
            let shape = if other.id == id { now.shape } else { now.shape + 1 };
            let fields =
                collection::ActiveModel { fields: Set(now.fields), shape: Set(shape), ..Default::default() };
            update(&tx, other.id, fields).await?;
        }
        for key in access_key::Entity::find().all(&tx).await? {
            let Some(mut names) = key.collections.as_ref().and_then(Value::as_array).cloned() else {
                continue;
            };
            if !names.iter().any(|n| n == from.as_str()) {
                continue;
            }
            names.iter_mut().filter(|n| **n == from.as_str()).for_each(|n| *n = json!(to));
            let key = access_key::ActiveModel {
                id: Unchanged(key.id),
                collections: Set(Some(Value::Array(names))),
                ..Default::default()
            };
            access_key::Entity::update(key).validate()?.exec(&tx).await?;
        }
        let of_jobs = job::Entity::update_many().col_expr(job::Column::Collection, Expr::value(to));
        of_jobs.filter(job::Column::Collection.eq(from.as_str())).exec(&tx).await?;
        let of_loads = load::Entity::update_many().col_expr(load::Column::Collection, Expr::value(to));
        of_loads.filter(load::Column::CollectionId.eq(id)).exec(&tx).await?;
        tx.commit().await
    }

    /// Two collections take each other's names; whatever names them keeps to the names.
    pub async fn swap_collections(&self, (a, b): (i64, i64)) -> Result<()> {
        retried(|| self.swap_once((a, b))).await
    }

    async fn swap_once(&self, (a, b): (i64, i64)) -> Result<()> {
        let tx = self.db.begin().await?;
        // In one order, whoever swaps.
        let (a, b) = (Ord::min(a, b), Ord::max(a, b));
        let (of_a, of_b) = (self.lock_there(&tx, a).await?.name, self.lock_there(&tx, b).await?.name);
        let out_of_the_way = collection::ActiveModel { name: Set(aside(a)), ..Default::default() };
        update(&tx, a, out_of_the_way).await?;
        set_name(&tx, b, &of_a).await?;
        set_name(&tx, a, &of_b).await?;
        tx.commit().await
    }

    /// Jobs of any node that run on a collection, but those that absorb.
    pub async fn working_on(&self, collection: &str) -> Result<Vec<job::Model>> {
        Ok(job::Entity::find()
            .filter(job::Column::State.eq("running"))
            .filter(job::Column::Collection.eq(collection))
            .filter(job::Column::Kind.ne("absorb"))
            .all(&self.db)
            .await?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn references_follow_a_name_wherever_they_stand() {
        let mut fields = json!({"properties": {"a": {"refersTo": "ports"}, "b": {"refersTo": "docks"},
            "c": {"properties": {"d": {"items": [{"refersTo": "ports"}]}, "ports": {"description": "ports"}}}}});
        assert!(refer(&mut fields, "ports", "harbours"));
        assert!(!refer(&mut fields, "ports", "harbours"));
        assert_eq!(fields.to_string().matches("\"harbours\"").count(), 2);
        assert!(fields.to_string().contains("\"ports\":{\"description\":\"ports\"}"));
    }
}
