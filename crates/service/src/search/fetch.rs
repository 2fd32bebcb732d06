//! The records behind hits: fields, vectors, and records that they refer to.

use crate::collections::live::Live;
use crate::collections::reach::{Reach, Within};
use crate::problem::{Problem, Result};
use crate::search::check::Checked;
use serde_json::{Map, Value};
use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::Arc;
use zesty_engine::Table;
use zesty_engine::rows::LastBlock;
use zesty_engine::scan::Neighbour;
use zesty_wire::{Body, Followed, Hit, SearchRequest};

/// Leaves the members that are wanted, by dotted path; a wanted object stays whole.
fn keep_fields(fields: &mut Map<String, Value>, path: &str, wanted: &[String]) {
    fields.retain(|name, value| {
        let full = format!("{path}{name}");
        if wanted.contains(&full) {
            return true;
        }
        match value {
            Value::Object(inner) => {
                keep_fields(inner, &format!("{full}."), wanted);
                !inner.is_empty()
            }
            _ => false,
        }
    });
}

/// A collection that a field refers to.
struct Other<'a> {
    field: usize,
    to: &'a Reach,
    table: Arc<Table>,
    within: Within,
}

/// The records behind the rows, with what the search wants of them, as they are in the snapshot that was searched.
pub fn hits(
    live: &Live,
    input: &SearchRequest,
    checked: &Checked,
    table: &Table,
    rows: &[Neighbour],
) -> Result<Vec<Hit>> {
    let wants_fields = input.fields.as_ref().is_none_or(|f| !f.is_empty());
    // Other collections' records are as they are now.
    let others = checked.follow.iter().map(|(field, to)| {
        let table = to.live.table.load_full();
        Ok(Other { field: *field, to, within: to.within(&table)?, table })
    });
    let others = others.collect::<Result<Vec<_>>>()?;
    let schema = table.schema();
    let metric = live.metrics[checked.column];
    let mut last = LastBlock::default();
    let mut hit = |(n, key): (&Neighbour, &str)| {
        let mut fields = match wants_fields || !others.is_empty() {
            true => live.stored_body(table, n.row, &mut last)?,
            false => Body::default(),
        };
        let mut follow = None;
        for Other { field, to, table: other, within } in &others {
            let about = &schema.fields[*field];
            let key = about.of(&fields).and_then(Value::as_str);
            let row = key.and_then(|key| within.row(other, key));
            let followed = key.zip(row).map(|(key, row)| {
                let fields = to.live.stored_body(other, row, &mut LastBlock::default())?;
                Ok::<_, Problem>(Followed { collection: to.live.name.clone(), key: key.to_owned(), fields })
            });
            follow.get_or_insert_with(HashMap::new).insert(about.name.clone(), followed.transpose()?);
        }
        if let Some(wanted) = &input.fields {
            let mut kept = Map::from(fields);
            keep_fields(&mut kept, "", wanted);
            fields = kept.into();
        }
        let given = |column: &usize| {
            let own = &table.vectors()[*column];
            (own.name.clone(), own.given(n.row).map(Cow::into_owned))
        };
        Ok(Hit {
            key: key.into(),
            distance: metric.distance(n.rank),
            score: metric.score(n.rank),
            fields,
            vectors: (!checked.vectors.is_empty()).then(|| checked.vectors.iter().map(given).collect()),
            follow,
        })
    };
    // Keys lie anywhere in memory: they are waited for together.
    let keys: Vec<&str> = rows.iter().map(|n| table.key(n.row)).collect();
    rows.iter().zip(keys).map(&mut hit).collect()
}
