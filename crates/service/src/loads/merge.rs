//! Rows of a load merged into each other, and into the records that are stored.

use crate::collections::live::Live;
use crate::problem::{Kind, Problem, Result};
use crate::records::encode::vector_stays;
use crate::records::patch::merge;
use serde_json::{Map, Value};
use std::collections::HashMap;
use zesty_catalog::{Catalog, RecordWrite, StoredRecord, VectorWrite};

/// Puts the vectors of a record in the order of other columns; what is of a column that is gone is dropped.
pub fn move_columns(write: &mut RecordWrite, old: &[i64], new: &[i64]) {
    let places: Vec<Option<usize>> = new.iter().map(|id| old.iter().position(|o| o == id)).collect();
    let mut vectors = std::mem::take(&mut write.vectors);
    let mut taken = |p: &Option<usize>| {
        p.map_or(VectorWrite::Clear, |p| std::mem::replace(&mut vectors[p], VectorWrite::Clear))
    };
    write.vectors = places.iter().map(&mut taken).collect();
}

/// Makes one row of two that are to be merged into the same record, one after the other.
pub fn compose(first: &mut RecordWrite, then: RecordWrite) {
    fn both(first: &mut Map<String, Value>, then: Map<String, Value>) {
        for (name, value) in then {
            match (first.get_mut(&name), value) {
                (Some(Value::Object(inner)), Value::Object(value)) => both(inner, value),
                (_, value) => drop(first.insert(name, value)),
            }
        }
    }
    let mut fields = std::mem::take(&mut first.body).into_fields();
    both(&mut fields, then.body.into_fields());
    first.body = fields.into();
    for (vector, then) in first.vectors.iter_mut().zip(then.vectors) {
        if then != VectorWrite::Clear {
            *vector = then;
        }
    }
}

/// Rows merged into the records that are stored now, each to be written only if its record is still as it was read,
/// or still not there.
pub async fn merged(catalog: &Catalog, live: &Live, rows: &[RecordWrite]) -> Result<Vec<RecordWrite>> {
    let keys: Vec<&str> = rows.iter().map(|w| w.key.as_str()).collect();
    let stored = catalog.records_by_key(live.id, &keys).await?;
    let mut by_key: HashMap<String, StoredRecord> = stored.into_iter().map(|r| (r.key.clone(), r)).collect();
    let mut writes = rows.to_vec();
    for write in &mut writes {
        let (old, revision) = match by_key.remove(&write.key) {
            Some(StoredRecord { body: Value::Object(old), revision, .. }) => (old, revision),
            Some(_) => return Err(Problem::new(Kind::Internal, "the stored record is not an object")),
            None => (Map::new(), 0),
        };
        let mut body = old.clone();
        merge(&mut body, write.body.fields());
        if revision > 0 {
            for (column, vector) in live.columns().iter().zip(&mut write.vectors) {
                if *vector == VectorWrite::Clear && vector_stays(column, &old, &body) {
                    *vector = VectorWrite::Keep;
                }
            }
        }
        write.body = body.into();
        write.expected = Some(revision);
    }
    Ok(writes)
}
