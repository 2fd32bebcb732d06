//! Vector columns: checked, added, shown, dropped.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::LiveIndex;
use crate::collections::recipes::MAX_DIMENSIONS;
use crate::collections::registry::Registry;
use crate::collections::view;
use crate::names::check_name;
use crate::node::encoders::Encoders;
use crate::problem::{Kind, Problem, Result};
use crate::records::template::template_fields;
use std::collections::HashMap;
use std::sync::Arc;
use zesty_catalog::{NewVectorColumn, ShapeChange};
use zesty_engine::{Metric, Schema};
use zesty_wire as wire;

/// The most vector columns of a collection.
pub const MAX_COLUMNS: usize = 16;

/// Adds a vector column to a collection, which may have records.
pub async fn add(
    grant: &Grant,
    registry: &Arc<Registry>,
    encoders: &Encoders,
    collection: &str,
    column: wire::NewColumn,
) -> Result<wire::Collection> {
    let live = registry.collection(grant, Scope::Manage, collection)?;
    check_name("vector column", &column.name, "/name")?;
    if live.columns().len() == MAX_COLUMNS {
        let detail = format!("a collection takes up to {MAX_COLUMNS} vector columns");
        return Err(Problem::new(Kind::WrongShape, detail));
    }
    let schema = live.table.load().schema().clone();
    let column = checked_column(grant, encoders, &schema, column, "").await?;
    Ok(view::collection(&*registry.reshape(&live, ShapeChange::AddColumn(column)).await?))
}

/// Drops a vector column with its vectors, indexes and sweeps.
pub async fn drop_column(
    grant: &Grant,
    registry: &Arc<Registry>,
    (collection, column): (&str, &str),
) -> Result<wire::Collection> {
    let live = registry.collection(grant, Scope::Manage, collection)?;
    let at = live.column(Some(column), "")?;
    let refuse = |detail: String| Err(Problem::new(Kind::StillUsed, detail));
    if live.columns().len() == 1 {
        return refuse(format!("\"{column}\" is the only vector column; add another one first"));
    }
    if live.default_column() == Some(at) {
        return refuse(format!(
            "searches that name no column use \"{column}\"; choose another default column first"
        ));
    }
    let id = live.columns()[at].id;
    let building = |i: &Arc<LiveIndex>| i.model.column_id == id && i.model.state == "building";
    if let Some(index) = live.kept.indexes.load().iter().find(|i| building(i)) {
        return refuse(format!("index \"{}\" of it is being built; cancel its job first", index.model.name));
    }
    let live = registry.reshape(&live, ShapeChange::DropColumn(id)).await?;
    registry.clear_later();
    Ok(view::collection(&live))
}

/// Records that could not be encoded, with the reason; at most `limit` of them.
pub async fn unencoded(
    grant: &Grant,
    registry: &Registry,
    (collection, column): (&str, &str),
    limit: u64,
) -> Result<wire::Unencoded> {
    let live = registry.collection(grant, Scope::Read, collection)?;
    let at = live.column(Some(column), "")?;
    if !(1..=1000).contains(&limit) {
        let detail = format!("limit is {limit}; it goes from 1 to 1000");
        return Err(Problem::new(Kind::WrongShape, detail).at("/limit"));
    }
    let found = registry.catalog.unencoded(live.columns()[at].id, limit).await?;
    let numbers: Vec<u64> = found.iter().map(|(n, _)| *n).collect();
    let mut reasons: HashMap<u64, String> = found.into_iter().collect();
    let table = live.table.load();
    let rows = table.rows_of_numbers(&numbers);
    let records = rows.into_iter().flatten().filter_map(|row| {
        Some(wire::UnencodedRecord {
            reason: reasons.remove(&table.number(row))?,
            key: table.key(row).into(),
        })
    });
    let with = table.alive().intersection_count(table.vectors()[at].vectors.present());
    Ok(wire::Unencoded { n_without_vector: table.n_records() - with, records: records.collect() })
}

/// Forgets an encoder that no column uses.
pub async fn remove_encoder(
    grant: &Grant,
    registry: &Registry,
    encoders: &Encoders,
    name: &str,
) -> Result<()> {
    grant.require(Scope::Manage, None)?;
    for live in registry.all() {
        if live.columns().iter().any(|c| c.encoder.as_deref() == Some(name)) {
            let detail = format!("encoder \"{name}\" is used by collection \"{}\"", live.name);
            return Err(Problem::new(Kind::StillUsed, detail));
        }
    }
    encoders.remove(grant, name).await
}

/// Everything that can be known to be wrong with a column before it is made.
pub async fn checked_column(
    grant: &Grant,
    encoders: &Encoders,
    schema: &Schema,
    column: wire::NewColumn,
    at: &str,
) -> Result<NewVectorColumn> {
    let wrong =
        |part: &str, detail: String| Err(Problem::new(Kind::WrongShape, detail).at(format!("{at}/{part}")));
    let metric: Metric = match column.metric.as_deref().unwrap_or("cosine").parse() {
        Ok(metric) => metric,
        Err(e) => return wrong("metric", e),
    };
    let mut dimensions = column.dimensions;
    if let Some(name) = &column.encoder {
        let encoders = encoders.list(grant).await?.encoders;
        let Some(encoder) = encoders.iter().find(|e| e.name == *name) else {
            return Err(Problem::unknown("encoder", name, encoders.iter().map(|e| e.name.as_str()))
                .at(format!("{at}/encoder")));
        };
        let makes = encoder.dimensions;
        match dimensions {
            Some(d) if d != makes => {
                return Err(Problem::new(
                    Kind::WrongVector,
                    format!(
                        "column \"{}\" asks for {d} dimensions, and encoder \"{name}\" makes {makes}; leave \
                         dimensions out, or write {makes}",
                        column.name
                    ),
                )
                .at(format!("{at}/dimensions"))
                .with("expected", makes)
                .with("got", d));
            }
            _ => dimensions = Some(makes),
        }
    }
    let Some(dimensions) = dimensions else {
        return wrong(
            "dimensions",
            format!("column \"{}\" needs dimensions, or an encoder that knows them", column.name),
        );
    };
    if !(1..=MAX_DIMENSIONS as u32).contains(&dimensions) {
        return wrong(
            "dimensions",
            format!("dimensions are {dimensions}; they go from 1 to {MAX_DIMENSIONS}"),
        );
    }
    if let Some(template) = &column.template {
        if column.encoder.is_none() {
            return wrong(
                "template",
                "a template is read by an encoder; name one, or leave the template out".into(),
            );
        }
        match template_fields(template) {
            Err(e) => return wrong("template", format!("template \"{template}\": {e}")),
            Ok(fields) => {
                if let Some(field) = fields.iter().find(|f| !schema.has(f)) {
                    return Err(Problem::unknown("field", field, schema.names()).at(format!("{at}/template")));
                }
            }
        }
    }
    Ok(NewVectorColumn {
        name: column.name,
        dimensions,
        metric: metric.to_string(),
        encoder: column.encoder,
        template: column.template,
    })
}
