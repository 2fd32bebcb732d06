//! A JSON batch of records: written whole, or without the records that are wrong.

use crate::access::grant::{Grant, Scope};
use crate::collections::reach::Reach;
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
    let reach = registry.reach(grant, Scope::Write, collection)?;
    let checking = reach.clone();
    let Batch { mut writes, rejected, n_read } = blocking(move || read_batch(&checking, &json)).await?;
    let place = |i: usize| (format!("/records/{i}"), String::new());
    encode_missing(encoders, &reach.live, &mut writes, &place).await?;
    let written = write_checked(registry, &reach, writes).await?;
    Ok(Written { read: n_read, rejected, ..written })
}

/// How often a write is tried again because somebody else wrote the same records.
const TRIES: usize = 100;

/// Lets a write replace only what the key sees, as it is now.
fn only_own(reach: &Reach, writes: &mut [RecordWrite]) -> Result<()> {
    let table = reach.live.table.load_full();
    let within = reach.within(&table)?;
    for write in writes {
        let row = table.row(&write.key);
        if row.is_some_and(|row| !within.has(row)) {
            let detail = format!(
                "record \"{}\" is not inside the filter of key \"{}\", so the key cannot write it; nothing was written",
                write.key,
                reach.grant.name()
            );
            return Err(Problem::new(Kind::NotPermitted, detail));
        }
        write.expected = Some(row.map_or(0, |row| table.row_revision(row)));
    }
    Ok(())
}

/// Records in one JSON batch.
pub const MAX_BATCH: usize = 10_000;

/// A JSON batch that was checked.
struct Batch {
    writes: Vec<RecordWrite>,
    rejected: Vec<Rejected>,
    n_read: usize,
}

fn read_batch(reach: &Reach, bytes: &[u8]) -> Result<Batch> {
    let live = &reach.live;
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
    let one = |i: usize| {
        let mut record = parse::<NewRecord>(batch.records[i].get().as_bytes(), &place(i).0)?;
        reach.grant.stamp(&mut record, &place(i).0)?;
        Ok(record)
    };
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

/// Writes records that were checked, if none of them stands in place of one that the key does not see.
pub async fn write_checked(
    registry: &Arc<Registry>,
    reach: &Reach,
    writes: Vec<RecordWrite>,
) -> Result<Written> {
    let (live, read) = (&reach.live, writes.len());
    if writes.is_empty() {
        return Ok(Written { revision: live.table.load().revision(), ..Written::default() });
    }
    let mut writes = Arc::new(writes);
    let mut tries = 0;
    let written = loop {
        if reach.is_bound() {
            only_own(reach, Arc::<Vec<_>>::make_mut(&mut writes))?;
        }
        match live.write(registry, writes.clone(), Conflicts::Refuse).await {
            // Somebody wrote one of them since it was looked at.
            Err(p) if p.kind == Kind::Conflict && reach.is_bound() && tries < TRIES => {
                tries += 1;
                registry.follow(live).await?;
            }
            written => break written?,
        }
    };
    Ok(Written {
        read,
        new: written.n_new,
        replaced: written.n_replaced,
        unchanged: written.n_unchanged,
        revision: written.revision,
        rejected: Vec::new(),
    })
}
