//! A record held against its collection: key, fields and given vectors.

use crate::collections::live::Live;
use crate::problem::{Kind, Problem, Result};
use std::collections::HashMap;
use zesty_catalog::{CatalogError, RecordBody, RecordWrite, VectorWrite};
use zesty_engine::Table;
use zesty_engine::schema::pointer_step;
use zesty_wire::NewRecord;

/// Bytes of a record's key.
pub const MAX_KEY: usize = 190;

/// Where a record of a batch is, for messages: a pointer and words.
pub type Place<'a> = &'a (dyn Fn(usize) -> (String, String) + Sync);

/// Keys, fields and given vectors of a batch; the first problem refuses it.
pub fn checked_shape(live: &Live, records: Vec<NewRecord>, place: Place<'_>) -> Result<Vec<RecordWrite>> {
    let table = live.table.load_full();
    let mut seen: HashMap<String, usize> = HashMap::with_capacity(records.len());
    let records = records.into_iter().enumerate();
    records.map(|(i, record)| checked_record(live, &table, record, i, &mut seen, place)).collect()
}

pub fn checked_record(
    live: &Live,
    table: &Table,
    record: NewRecord,
    i: usize,
    seen: &mut HashMap<String, usize>,
    place: Place<'_>,
) -> Result<RecordWrite> {
    // Nothing is written of where it is unless something is wrong with it.
    let subject = |key: &str| {
        let (at, words) = place(i);
        (at, format!("{words}record \"{key}\""))
    };
    let is_step = matches!(record.key.as_str(), "." | "..");
    if record.key.is_empty()
        || record.key.len() > MAX_KEY
        || record.key.chars().any(char::is_control)
        || is_step
    {
        let what = match record.key.len() {
            0 => "the key is empty".to_owned(),
            // In an address it would name another one, even percent-encoded.
            _ if is_step => format!("the key is \"{}\"", record.key),
            n if n > MAX_KEY => format!("the key has {n} bytes"),
            _ => "the key holds a control character".to_owned(),
        };
        let (at, words) = place(i);
        let detail = format!("{words}{what}; a key is 1 to {MAX_KEY} bytes of text, and not . or ..");
        return Err(Problem::new(Kind::InvalidKey, detail).at(format!("{at}/key")));
    }
    if let Some(&first) = seen.get(&record.key) {
        let ((first, _), (at, subject)) = (place(first), subject(&record.key));
        let detail = format!("{subject} appears twice in this batch; send each key once");
        return Err(Problem::new(Kind::RepeatedKey, detail).at(format!("{at}/key")).with("first", first));
    }
    table.schema().check(&record.fields).map_err(|e| {
        let (at, subject) = subject(&record.key);
        Problem::new(Kind::WrongField, format!("{subject}: {e}")).at(format!("{at}/fields{}", e.pointer))
    })?;
    let body = RecordBody::from(record.fields);
    let bytes = body.text().len() + record.key.len();
    if bytes > live.record_limit {
        let ((at, words), key, limit) = (place(i), record.key.clone(), live.record_limit);
        let problem = Problem::from(CatalogError::TooLong { key, bytes, limit });
        return Err(Problem { detail: format!("{words}{}", problem.detail), ..problem }.at(at));
    }
    let mut vectors = vec![VectorWrite::Clear; live.columns().len()];
    for (name, vector) in record.vectors {
        let pointer = || format!("{}/vectors{}", place(i).0, pointer_step(&name));
        let column = live.column(Some(&name), "").map_err(|problem| problem.at(pointer()))?;
        if let Some(vector) = vector {
            let dimensions = live.columns()[column].dimensions as usize;
            live.metrics[column].check(&vector, dimensions).map_err(|e| {
                let (_, subject) = subject(&record.key);
                Problem::vector(&e, &format!("{subject}, column \"{name}\":"), pointer())
            })?;
            vectors[column] = VectorWrite::Set(vector);
        }
    }
    seen.insert(record.key.clone(), i);
    Ok(RecordWrite { key: record.key, body, vectors, expected: None, unencoded: Vec::new() })
}
