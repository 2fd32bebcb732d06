//! A JSON batch of records: written whole, or without the records that are wrong.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::json::parse;
use crate::node::encoders::Encoders;
use crate::node::threads::blocking;
use crate::problem::{Kind, Problem, Result};
use crate::records::check::checked_record;
use crate::records::encode::encode_missing;
use bytes::Bytes;
use std::collections::HashMap;
use std::sync::Arc;
use zesty_catalog::{Conflicts, RecordWrite};
use zesty_wire::{NewRecord, RecordBatch, Rejected, Written};

/// Writes a JSON batch. It is committed and searchable when this returns.
pub async fn write(
    grant: &Grant,
    registry: &Arc<Registry>,
    encoders: &Encoders,
    collection: &str,
    json: Bytes,
) -> Result<Written> {
    let live = registry.collection(grant, Scope::Write, collection)?;
    let checking = live.clone();
    let Batch { mut writes, rejected, n_read } = blocking(move || read_batch(&checking, &json)).await?;
    let place = |i: usize| (format!("/records/{i}"), String::new());
    encode_missing(encoders, &live, &mut writes, &place).await?;
    let written = write_checked(registry, &live, writes).await?;
    Ok(Written { read: n_read, rejected, ..written })
}

/// Records in one JSON batch.
pub const MAX_BATCH: usize = 10_000;

/// A JSON batch that was checked.
struct Batch {
    writes: Vec<RecordWrite>,
    rejected: Vec<Rejected>,
    n_read: usize,
}

fn read_batch(live: &Live, bytes: &[u8]) -> Result<Batch> {
    let batch: RecordBatch = parse(bytes, "")?;
    let n_read = batch.records.len();
    if n_read > MAX_BATCH {
        let detail =
            format!("{n_read} records in one batch; the limit is {MAX_BATCH}; send several, or JSON Lines");
        return Err(Problem::new(Kind::TooLarge, detail).at("/records").with("limit", MAX_BATCH));
    }
    if let Some(said) = &batch.encoder {
        (0..live.columns().len()).try_for_each(|c| live.check_encoder(c, said, "/encoder"))?;
    }
    let table = live.table.load_full();
    let place = |i: usize| (format!("/records/{i}"), String::new());
    let one = |i: usize| parse::<NewRecord>(batch.records[i].get().as_bytes(), &place(i).0);
    let mut seen = HashMap::new();
    let (mut writes, mut rejected) = (Vec::with_capacity(n_read), Vec::new());
    for i in 0..n_read {
        match one(i).and_then(|r| checked_record(live, &table, r, i, &mut seen, &place)) {
            Ok(write) => writes.push(write),
            Err(p) if !batch.set_aside => return Err(p),
            Err(p) => rejected.push(Rejected { at: i, word: p.kind.word().into(), detail: p.detail }),
        }
    }
    Ok(Batch { writes, rejected, n_read })
}

pub async fn write_checked(
    registry: &Arc<Registry>,
    live: &Arc<Live>,
    writes: Vec<RecordWrite>,
) -> Result<Written> {
    let read = writes.len();
    if writes.is_empty() {
        return Ok(Written { revision: live.table.load().revision(), ..Written::default() });
    }
    let written = live.write(registry, Arc::new(writes), Conflicts::Refuse, None).await?;
    Ok(Written {
        read,
        new: written.n_new,
        replaced: written.n_replaced,
        unchanged: written.n_unchanged,
        revision: written.revision,
        rejected: Vec::new(),
    })
}
