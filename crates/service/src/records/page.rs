//! Records read one by one, or page by page in order of their keys or of a field.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::node::threads::blocking;
use crate::problem::{Kind, Problem, Result};
use serde_json::{Value, json};
use std::borrow::Cow;
use zesty_engine::Table;
use zesty_engine::rows::order::{self, SortValue};
use zesty_engine::rows::{LastBlock, VectorColumn};
use zesty_wire as wire;

/// Which records a page holds.
pub struct PageRequest {
    /// The `next` of the page before.
    pub after: Option<String>,
    /// 1 to 1000.
    pub limit: usize,
    pub filter: Option<wire::Filter>,
    /// A field, or -field for the largest first.
    pub sort: Option<String>,
}

/// A place between sorted rows, as text: the value and the key of the row before it.
fn cursor(value: &SortValue, key: &str) -> String {
    let value = match value {
        SortValue::Text(t) => json!(t),
        SortValue::Integer(n) => json!(n),
        SortValue::Number(x) => json!(x),
        SortValue::Boolean(b) => json!(b),
        SortValue::Missing => Value::Null,
    };
    json!([value, key]).to_string()
}

fn read_cursor(text: &str) -> Result<(SortValue, String)> {
    let wrong = || {
        Problem::new(Kind::WrongShape, "after takes the `next` of the page before, with the same sort")
            .at("/after")
    };
    let (value, key): (Value, String) = serde_json::from_str(text).map_err(|_| wrong())?;
    let value = match value {
        Value::Null => SortValue::Missing,
        Value::String(t) => SortValue::Text(t),
        Value::Bool(b) => SortValue::Boolean(b),
        Value::Number(n) => match n.as_i64() {
            Some(n) => SortValue::Integer(n),
            None => SortValue::Number(n.as_f64().ok_or_else(wrong)?),
        },
        _ => return Err(wrong()),
    };
    Ok((value, key))
}

/// A page of records.
pub async fn page(
    grant: &Grant,
    registry: &Registry,
    collection: &str,
    query: PageRequest,
) -> Result<wire::RecordPage> {
    let reach = registry.reach(grant, Scope::Read, collection)?;
    let limit = query.limit;
    if !(1..=1000).contains(&limit) {
        let detail = format!("limit is {limit}; it goes from 1 to 1000");
        return Err(Problem::new(Kind::WrongShape, detail).at("/limit"));
    }
    let table = reach.live.table.load_full();
    let sort = query.sort.as_deref().filter(|s| !s.is_empty()).map(|s| sort_field(&table, s)).transpose()?;
    let after = match (query.after, sort) {
        (Some(text), Some(_)) => Some(read_cursor(&text)?),
        (Some(key), None) => Some((SortValue::Missing, key)),
        (None, _) => None,
    };
    let (records, next) = blocking(move || {
        let rows = reach.allowed(&table, query.filter.as_ref())?;
        let after = after.as_ref().map(|(value, key)| (value, key.as_str()));
        let (field, descending) = sort.unzip();
        let mut rows = order::first(&table, &rows, field, descending.unwrap_or(false), after, limit + 1);
        let more = rows.len() > limit;
        rows.truncate(limit);
        let next = rows.last().filter(|_| more).map(|&row| match field {
            Some(field) => cursor(&order::value(&table, field, row), table.key(row)),
            None => table.key(row).to_owned(),
        });
        let mut last = LastBlock::default();
        let records: Result<_> =
            rows.into_iter().map(|row| record(&reach.live, &table, row, &mut last)).collect();
        Ok((records?, next))
    })
    .await?;
    Ok(wire::RecordPage { records, next })
}

/// A record as a snapshot has it.
fn record(live: &Live, table: &Table, row: u32, last: &mut LastBlock) -> Result<wire::Record> {
    Ok(wire::Record {
        key: table.key(row).to_owned(),
        fields: live.stored_body(table, row, last)?,
        revision: table.row_revision(row),
        vectors: None,
    })
}

/// The field to sort by, and whether the largest comes first.
pub fn sort_field(table: &Table, text: &str) -> Result<(usize, bool)> {
    let name = text.strip_prefix('-').unwrap_or(text);
    let schema = table.schema();
    let at =
        schema.position(name).ok_or_else(|| Problem::unknown("field", name, schema.names()).at("/sort"))?;
    let field = &schema.fields[at];
    if !order::sortable(field.kind, field.stored_only) {
        let what = if field.stored_only { "stored only" } else { field.kind.name() };
        let detail = format!("records cannot be sorted by \"{name}\": it is {what}");
        return Err(Problem::new(Kind::WrongShape, detail).at("/sort"));
    }
    Ok((at, text.starts_with('-')))
}

/// One record, with its vectors when they are asked for.
pub fn show(
    grant: &Grant,
    registry: &Registry,
    collection: &str,
    key: &str,
    with_vectors: bool,
) -> Result<wire::Record> {
    let reach = registry.reach(grant, Scope::Read, collection)?;
    let table = reach.live.table.load_full();
    let row = reach.row(&table, key)?.ok_or_else(|| reach.unknown_record(key))?;
    let given = |c: &VectorColumn| (c.name.clone(), c.given(row).map(Cow::into_owned));
    let vectors = with_vectors.then(|| table.vectors().iter().map(given).collect());
    Ok(wire::Record { vectors, ..record(&reach.live, &table, row, &mut LastBlock::default())? })
}
