//! The records behind hits: fields, vectors, and records that they refer to.

use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::problem::Result;
use crate::records::page::object;
use crate::search::check::Checked;
use serde_json::{Map, Value};
use std::collections::{HashMap, HashSet};
use zesty_engine::Table;
use zesty_engine::scan::Neighbour;
use zesty_wire::{Followed, Hit, SearchRequest};

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

/// Hits with their fields, and how many of them are not as the search saw them any more.
pub struct Fetched {
    pub hits: Vec<Hit>,
    pub n_changed: usize,
    pub n_gone: usize,
}

/// The records behind the rows, with what the search wants of them.
pub async fn hits(
    registry: &Registry,
    live: &Live,
    input: &SearchRequest,
    checked: &Checked,
    table: &Table,
    rows: &[Neighbour],
) -> Result<Fetched> {
    let numbers: Vec<u64> = rows.iter().map(|n| table.number(n.row)).collect();
    let mut bodies: HashMap<u64, Value> = HashMap::new();
    let (mut n_changed, mut n_gone) = (0, 0);
    let wants_fields = input.fields.as_ref().is_none_or(|f| !f.is_empty());
    if wants_fields || !checked.follow.is_empty() {
        let records = registry.catalog.records(live.id, &numbers).await?;
        let seen: HashMap<u64, u64> =
            rows.iter().map(|n| (table.number(n.row), table.row_revision(n.row))).collect();
        n_gone = numbers.len() - records.len();
        n_changed = records.iter().filter(|r| seen.get(&r.number) != Some(&r.revision)).count();
        bodies = records.into_iter().map(|r| (r.number, r.body)).collect();
    }
    let fetched: Option<HashSet<u64>> = (n_gone > 0).then(|| bodies.keys().copied().collect());
    let mut vectors = Vec::with_capacity(checked.vectors.len());
    for &column in &checked.vectors {
        let about = &live.columns()[column];
        vectors.push((about.name.clone(), registry.catalog.column_vectors(about.id, &numbers).await?));
    }
    // The referenced records of all hits are read together.
    let schema = table.schema();
    let mut followed: Vec<(String, HashMap<String, Followed>)> = Vec::with_capacity(checked.follow.len());
    for (field, to) in &checked.follow {
        let about = &schema.fields[*field];
        let keys = bodies.values().filter_map(|body| about.of(body.as_object()?)?.as_str());
        let other = to.table.load_full();
        let numbers: Vec<u64> = keys.filter_map(|key| Some(other.number(other.row(key)?))).collect();
        let records = registry.catalog.records(to.id, &numbers).await?;
        let of = |r: zesty_catalog::StoredRecord| {
            let found = Followed { collection: to.name.clone(), key: r.key.clone(), fields: r.body };
            (r.key, found)
        };
        followed.push((about.name.clone(), records.into_iter().map(of).collect()));
    }
    let metric = live.metrics[checked.column];
    let hit = |n: &Neighbour| {
        let number = table.number(n.row);
        let mut fields = object(bodies.remove(&number).unwrap_or_default());
        let follow = (!followed.is_empty()).then(|| {
            let of = |(name, records): &(String, HashMap<String, Followed>)| {
                let at = schema.position(name)?;
                let key = schema.fields[at].of(&fields)?.as_str()?;
                records.get(key).cloned()
            };
            followed.iter().map(|f| (f.0.clone(), of(f))).collect()
        });
        if let Some(wanted) = &input.fields {
            keep_fields(&mut fields, "", wanted);
        }
        let given =
            |(name, found): &mut (String, HashMap<u64, Vec<f32>>)| (name.clone(), found.remove(&number));
        Hit {
            key: table.key(n.row).into(),
            distance: metric.distance(n.rank),
            score: metric.score(n.rank),
            fields,
            vectors: (!vectors.is_empty()).then(|| vectors.iter_mut().map(given).collect()),
            follow,
        }
    };
    let there = |n: &&Neighbour| fetched.as_ref().is_none_or(|f| f.contains(&table.number(n.row)));
    Ok(Fetched { hits: rows.iter().filter(there).map(hit).collect(), n_changed, n_gone })
}
