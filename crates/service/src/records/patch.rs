//! JSON Merge Patch (RFC 7396) of stored records.

use crate::collections::live::Live;
use crate::node::encoders::Encoders;
use crate::node::threads::blocking;
use crate::problem::{Kind, Problem, Result};
use crate::records::check::checked_shape;
use crate::records::encode::{encode_missing, vector_stays};
use serde_json::{Map, Value};
use std::sync::Arc;
use zesty_catalog::{RecordWrite, StoredRecord, VectorWrite};
use zesty_wire::{NewRecord, RecordPatch};

/// Merges a patch into fields: objects are merged, null removes, anything else replaces. The depth of both is bounded
/// by their parser and by the schema.
pub fn merge(fields: &mut Map<String, Value>, patch: &Map<String, Value>) {
    let mut merged = Value::Object(std::mem::take(fields));
    json_patch::merge(&mut merged, &Value::Object(patch.clone()));
    if let Value::Object(merged) = merged {
        *fields = merged;
    }
}

/// Stored records with a patch merged in, each to be written at the revision at which it was read. Vectors stay, but
/// for those that the patch brings, and those whose encoder would read another text.
pub async fn patched(
    encoders: &Encoders,
    live: &Arc<Live>,
    stored: Vec<StoredRecord>,
    patch: &RecordPatch,
) -> Result<Vec<RecordWrite>> {
    let (checking, patch) = (live.clone(), patch.clone());
    let mut writes = blocking(move || {
        let (mut inputs, mut old) = (Vec::new(), Vec::new());
        for record in stored {
            let Value::Object(body) = record.body else {
                return Err(Problem::new(Kind::Internal, "the stored record is not an object"));
            };
            let mut fields = body.clone();
            merge(&mut fields, &patch.fields);
            inputs.push(NewRecord { key: record.key, fields, vectors: patch.vectors.clone() });
            old.push((body, record.revision));
        }
        let place = |_: usize| (String::new(), String::new());
        let mut writes = checked_shape(&checking, inputs, &place)?;
        for (write, (old, revision)) in writes.iter_mut().zip(&old) {
            for (c, column) in checking.columns().iter().enumerate() {
                let stays = vector_stays(column, old, write.body.fields());
                if stays && !patch.vectors.contains_key(&column.name) {
                    write.vectors[c] = VectorWrite::Keep;
                }
            }
            write.expected = Some(*revision);
        }
        Ok(writes)
    })
    .await?;
    encode_missing(encoders, live, &mut writes, &|_| (String::new(), String::new())).await?;
    Ok(writes)
}
