//! Collections created and changed.

use crate::access::grant::{Grant, Scope};
use crate::collections::columns::{MAX_COLUMNS, checked_column};
use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::collections::view;
use crate::names::check_name;
use crate::node::encoders::Encoders;
use crate::problem::{Kind, Problem, Result};
use serde_json::{Value, json};
use std::sync::Arc;
use zesty_catalog::{NewCollection, NewVectorColumn, ShapeChange};
use zesty_engine::Schema;
use zesty_wire as wire;

/// How often a change is tried again that does not depend on the fields.
const TRIES: u32 = 100;

/// The collections that `grant` may use.
pub fn list(grant: &Grant, registry: &Registry) -> Result<wire::CollectionList> {
    let all = registry.granted(grant, Scope::Search)?;
    // One that the key's filter does not fit is left out.
    Ok(wire::CollectionList {
        collections: all.iter().filter_map(|reach| view::reached(reach).ok()).collect(),
    })
}

pub fn show(grant: &Grant, registry: &Registry, collection: &str) -> Result<wire::Collection> {
    view::reached(&registry.reach(grant, Scope::Search, collection)?)
}

pub async fn create(
    grant: &Grant,
    registry: &Arc<Registry>,
    encoders: &Encoders,
    request: wire::NewCollection,
) -> Result<wire::Collection> {
    grant.require(Scope::Manage, None)?;
    check_name("collection", &request.name, "/name")?;
    let fields = request.fields.unwrap_or_else(|| json!({"type": "object", "properties": {}}));
    let schema = checked_schema(grant, registry, &fields, &request.name)?;
    if request.columns.len() > MAX_COLUMNS {
        return Err(Problem::too_many("vector columns", request.columns.len(), MAX_COLUMNS).at("/columns"));
    }
    let mut columns: Vec<NewVectorColumn> = Vec::new();
    for (i, column) in request.columns.into_iter().enumerate() {
        let at = format!("/columns/{i}");
        check_name("vector column", &column.name, &format!("{at}/name"))?;
        if columns.iter().any(|c| c.name == column.name) {
            let detail = format!("two vector columns are named \"{}\"", column.name);
            return Err(Problem::new(Kind::InvalidName, detail).at(format!("{at}/name")));
        }
        columns.push(checked_column(grant, encoders, &schema, column, &at).await?);
    }
    let new = NewCollection {
        name: request.name,
        description: request.description,
        fields: schema.to_json(),
        columns,
    };
    Ok(view::collection(&*registry.create(new).await?))
}

/// Changes description, fields or default column. With `expected` the collection must still be at that version of
/// its schema. Without it, too, a change of fields is refused when another one came between.
pub async fn patch(
    grant: &Grant,
    registry: &Arc<Registry>,
    collection: &str,
    patch: &wire::CollectionPatch,
    expected: Option<i64>,
) -> Result<wire::Collection> {
    let mut tries = 0;
    loop {
        let live = registry.collection(grant, Scope::Manage, collection)?;
        let version = live.schema_version();
        if let Some(expected) = expected.filter(|e| *e != version) {
            let detail = format!(
                "fields or columns of \"{collection}\" have changed: they are at version {version} now, not {expected}; \
                 read the collection again"
            );
            return Err(Problem::new(Kind::Conflict, detail).with("schema_version", version));
        }
        let change = checked_change(grant, registry, &live, patch)?;
        match registry.reshape(&live, change).await {
            // What does not replace the fields goes with any of them.
            Err(p) if p.kind == Kind::Reshaped && patch.fields.is_none() && tries < TRIES => tries += 1,
            Err(p) if p.kind == Kind::Reshaped => {
                let detail = format!(
                    "another change of \"{collection}\" came between, and this one would undo it; read the collection \
                     again and repeat the change"
                );
                return Err(Problem { detail, ..p });
            }
            changed => return Ok(view::collection(&*changed?)),
        }
    }
}

/// Reads a schema; collections that it refers to must be there.
fn checked_schema(grant: &Grant, registry: &Registry, fields: &Value, own: &str) -> Result<Schema> {
    let schema = Schema::from_json(fields)
        .map_err(|e| Problem::new(Kind::InvalidSchema, e.message).at(format!("/fields{}", e.pointer)))?;
    for field in &schema.fields {
        if let Some(to) = field.refers_to.as_deref().filter(|to| *to != own) {
            let at = format!("/fields/properties/{}/refersTo", field.name.replace('.', "/properties/"));
            registry.collection(grant, Scope::Search, to).map_err(|p| {
                Problem {
                    detail: format!("{}; create what \"{}\" refers to first", p.detail, field.name),
                    ..p
                }
                .at(at)
            })?;
        }
    }
    Ok(schema)
}

fn checked_change(
    grant: &Grant,
    registry: &Registry,
    live: &Live,
    patch: &wire::CollectionPatch,
) -> Result<ShapeChange> {
    let fields = match &patch.fields {
        None => None,
        Some(fields) => {
            let schema = checked_schema(grant, registry, fields, &live.name)?;
            live.table.load().schema().change_to(&schema).map_err(|e| {
                Problem::new(Kind::InvalidSchema, e.message).at(format!("/fields{}", e.pointer))
            })?;
            Some(schema.to_json())
        }
    };
    if let Some(column) = &patch.default_column {
        live.column(Some(column), "/default_column")?;
    }
    let (description, default_column) = (patch.description.clone(), patch.default_column.clone());
    Ok(ShapeChange::About { description, fields, default_column })
}

impl Registry {
    /// Changes what a collection is made of, in the database and here. `live` is what the change was checked
    /// against: with a newer schema by now, it is refused.
    pub(super) async fn reshape(self: &Arc<Self>, live: &Live, change: ShapeChange) -> Result<Arc<Live>> {
        let _changing = self.changing.lock().await;
        let dropped: Vec<i64> = match &change {
            ShapeChange::DropColumn(column) => {
                let indexes = live.kept.indexes.load();
                indexes.iter().filter(|i| i.model.column_id == *column).map(|i| i.model.id).collect()
            }
            _ => Vec::new(),
        };
        let changed = self.catalog.change_shape(live.id, live.schema_version(), change).await;
        let refreshed = self.refresh_locked(live.id).await;
        changed?;
        let next = refreshed?.ok_or_else(|| Problem::unknown("collection", &live.name, []))?;
        for index in dropped {
            self.folder.remove_index(index);
        }
        Ok(next)
    }

    async fn create(self: &Arc<Self>, new: zesty_catalog::NewCollection) -> Result<Arc<Live>> {
        let _changing = self.changing.lock().await;
        let collection = self.catalog.create_collection(new).await?;
        let id = collection.about.id;
        if self.by_id(id).is_none() {
            self.open(collection).await?;
        }
        self.get(id)
    }
}
