//! Edits of records that are chosen first and changed after: by key, or by what a filter allows.
//!
//! What was chosen may have changed by the time it is written. Each record is changed only at the revision at which
//! it was looked at; what others changed meanwhile is looked at again, and the rest is said to be left out.

use crate::edge::blocking;
use crate::hub::Hub;
use crate::live::Live;
use crate::problem::{Kind, Problem, Result};
use crate::routes::FilterInput;
use crate::routes::records::{
    MAX_BATCH, RecordInput, RecordPatch, allowed, checked_shape, encode_missing, unknown_record, vector_stays,
};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;
use utoipa::ToSchema;
use zesty_catalog::{Conflicts, KeyAt, RecordWrite, StoredRecord, VectorWrite, Written};
use zesty_engine::Table;

/// Records that are patched together.
const PATCHED_TOGETHER: usize = 500;
/// How often what others changed meanwhile is looked at again.
const ROUNDS: usize = 10;
/// How often an edit of one record is tried again.
const TRIES: usize = 100;
/// Keys of records left out that an answer lists.
const EXAMPLES: usize = 10;

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PatchManyInput {
    /// Change these records; unknown keys are passed over
    pub keys: Option<Vec<String>>,
    /// Change what this CQL2 filter allows
    pub filter: Option<FilterInput>,
    /// As for one record
    pub patch: RecordPatch,
    /// Count only
    #[serde(default)]
    pub dry_run: bool,
    /// Refuse unless exactly so many would be changed: what the dry run said
    pub expected: Option<usize>,
}

/// What became of the records. `matched` = `changed` + `unchanged` + `left_out`, but for a dry run
#[derive(Serialize, ToSchema)]
pub struct PatchManyView {
    /// Records that were named or allowed, and exist
    pub matched: usize,
    pub changed: usize,
    /// Already as the patch would make them
    pub unchanged: usize,
    /// Changed or deleted by others meanwhile, so that the filter did not allow them any more
    pub left_out: usize,
    /// Keys of some of those
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub left_out_keys: Vec<String>,
    pub revision: u64,
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DeleteInput {
    /// Delete these records; unknown keys are passed over
    pub keys: Option<Vec<String>>,
    /// Delete what this CQL2 filter allows
    pub filter: Option<FilterInput>,
    /// Count only
    #[serde(default)]
    pub dry_run: bool,
    /// Refuse unless exactly so many would be deleted: what the dry run said
    pub expected: Option<usize>,
}

/// What became of the records. `matched` = `deleted` + `left_out`, but for a dry run
#[derive(Serialize, ToSchema)]
pub struct DeleteView {
    /// Records that were named or allowed, and exist
    pub matched: usize,
    pub deleted: usize,
    /// Changed or deleted by others meanwhile, so that the filter did not allow them any more
    pub left_out: usize,
    /// Keys of some of those
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub left_out_keys: Vec<String>,
    pub revision: u64,
}

/// What a request over many records means.
enum Selection {
    Keys(Vec<String>),
    Filter(FilterInput),
}

impl Selection {
    fn of(keys: Option<Vec<String>>, filter: Option<FilterInput>, what: &str) -> Result<Selection> {
        match (keys, filter) {
            (Some(keys), None) => Ok(Selection::Keys(keys)),
            (None, Some(filter)) => {
                if filter.read()?.is_none() {
                    let detail = format!("the filter is empty; to {what} every record write TRUE");
                    return Err(Problem::new(Kind::InvalidFilter, detail).at("/filter"));
                }
                Ok(Selection::Filter(filter))
            }
            _ => Err(Problem::new(Kind::WrongShape, "give one of keys or filter")),
        }
    }

    /// The records that are meant now; those that a filter allows, at the revision at which it does. `among` are the
    /// keys to look at, all when absent.
    fn records(&self, table: &Table, among: Option<&[String]>) -> Result<Vec<KeyAt>> {
        match self {
            Selection::Keys(keys) => {
                let known = among.unwrap_or(keys).iter().filter(|k| table.row(k).is_some());
                let known: BTreeSet<&String> = known.collect();
                Ok(known.into_iter().map(|k| KeyAt { key: k.clone(), expected: None }).collect())
            }
            Selection::Filter(filter) => {
                let rows = allowed(table, Some(filter))?;
                let at =
                    |row: u32| KeyAt { key: table.key(row).into(), expected: Some(table.row_revision(row)) };
                Ok(match among {
                    None => rows.ones().map(|r| at(r as u32)).collect(),
                    Some(keys) => {
                        let rows =
                            keys.iter().filter_map(|k| table.row(k)).filter(|r| rows.contains(*r as usize));
                        rows.map(at).collect()
                    }
                })
            }
        }
    }
}

/// Selects on a thread of its own, from everything that is committed.
async fn select(
    hub: &Arc<Hub>,
    id: i64,
    name: &str,
    selection: &Arc<Selection>,
    among: Option<Vec<String>>,
) -> Result<Vec<KeyAt>> {
    let live = hub.by_id(id).ok_or_else(|| Problem::unknown("collection", name, []))?;
    if among.is_some() {
        // Others have written: perhaps on another node.
        hub.follow(&live).await?;
    }
    let live = hub.by_id(id).ok_or_else(|| Problem::unknown("collection", name, []))?;
    let (table, selection) = (live.table.load_full(), selection.clone());
    blocking(move || selection.records(&table, among.as_deref())).await
}

fn expect(expected: Option<usize>, matched: usize, what: &str) -> Result<()> {
    match expected {
        Some(expected) if expected != matched => {
            let detail = format!("{matched} records would be {what}, not {expected}; nothing was");
            Err(Problem::new(Kind::Conflict, detail).at("/expected").with("matched", matched))
        }
        _ => Ok(()),
    }
}

/// What an edit of many came to so far.
#[derive(Default)]
struct Tally {
    written: usize,
    unchanged: usize,
    left_out: usize,
    left_out_keys: Vec<String>,
    revision: u64,
}

impl Tally {
    fn leave_out(&mut self, keys: impl IntoIterator<Item = String>) {
        for key in keys {
            self.left_out += 1;
            if self.left_out_keys.len() < EXAMPLES {
                self.left_out_keys.push(key);
            }
        }
    }
}

/// What is done to the records that were selected.
enum Edit {
    Delete,
    Patch(RecordPatch),
}

impl Edit {
    /// Edits records together. Returns the keys of those that were not edited because they had changed.
    async fn step(
        &self,
        hub: &Arc<Hub>,
        live: &Arc<Live>,
        part: &[KeyAt],
        tally: &mut Tally,
    ) -> Result<Vec<String>> {
        let patch = match self {
            Edit::Patch(patch) => patch,
            Edit::Delete => {
                let written = live.delete(hub, part.to_vec(), Conflicts::LeaveOut).await?;
                tally.written += written.numbers.iter().flatten().count();
                tally.revision = written.revision;
                // What somebody else has deleted is gone, and not by us.
                let gone = part.iter().zip(&written.numbers).enumerate();
                let gone = gone.filter(|(i, (_, n))| n.is_none() && !written.left_out.contains(i));
                tally.leave_out(gone.map(|(_, (k, _))| k.key.clone()));
                return Ok(left_out(part, &written));
            }
        };
        let keys: Vec<&str> = part.iter().map(|k| k.key.as_str()).collect();
        let stored = hub.catalog.records_by_key(live.id, &keys).await?;
        let mut by_key: HashMap<String, StoredRecord> =
            stored.into_iter().map(|r| (r.key.clone(), r)).collect();
        let (mut now, mut changed) = (Vec::new(), Vec::new());
        for KeyAt { key, expected } in part {
            match by_key.remove(key) {
                Some(record) if expected.is_none_or(|e| e == record.revision) => now.push(record),
                // Changed, or deleted, since it was selected.
                _ => changed.push(key.clone()),
            }
        }
        if now.is_empty() {
            return Ok(changed);
        }
        let writes = patched(hub, live, now, patch).await?;
        let keys: Vec<KeyAt> =
            writes.iter().map(|w| KeyAt { key: w.key.clone(), expected: w.expected }).collect();
        let written = live.write(hub, Arc::new(writes), Conflicts::LeaveOut, None).await?;
        tally.written += written.n_replaced;
        tally.unchanged += written.n_unchanged;
        tally.revision = written.revision;
        changed.extend(left_out(&keys, &written));
        Ok(changed)
    }

    /// Edits what is selected, `together` at a time, and looks again at what others changed meanwhile.
    async fn run(
        &self,
        hub: &Arc<Hub>,
        live: &Arc<Live>,
        selection: Arc<Selection>,
        mut todo: Vec<KeyAt>,
        together: usize,
    ) -> Result<Tally> {
        let mut tally = Tally { revision: live.table.load().revision(), ..Tally::default() };
        let mut rounds = 0;
        while !todo.is_empty() {
            let mut changed = Vec::new();
            for part in todo.chunks(together) {
                let mut tries = 0;
                loop {
                    // The collection may take another shape, and another `Live`, on the way.
                    let now =
                        hub.by_id(live.id).ok_or_else(|| Problem::unknown("collection", &live.name, []))?;
                    match self.step(hub, &now, part, &mut tally).await {
                        Err(p) if p.kind == Kind::Reshaped && tries < TRIES => tries += 1,
                        other => break changed.extend(other?),
                    }
                }
            }
            rounds += 1;
            if changed.is_empty() {
                break;
            }
            if rounds == ROUNDS {
                tally.leave_out(changed);
                break;
            }
            todo = select(hub, live.id, &live.name, &selection, Some(changed.clone())).await?;
            let still: BTreeSet<&str> = todo.iter().map(|k| k.key.as_str()).collect();
            tally.leave_out(changed.into_iter().filter(|k| !still.contains(k.as_str())));
        }
        Ok(tally)
    }
}

fn left_out(part: &[KeyAt], written: &Written) -> Vec<String> {
    written.left_out.iter().map(|i| part[*i].key.clone()).collect()
}

/// Deletes records by key or by filter.
pub async fn delete_many(hub: &Arc<Hub>, name: &str, input: DeleteInput) -> Result<DeleteView> {
    let live = hub.collection(name)?;
    let selection = Arc::new(Selection::of(input.keys, input.filter, "delete")?);
    let selected = select(hub, live.id, name, &selection, None).await?;
    let matched = selected.len();
    expect(input.expected, matched, "deleted")?;
    let selected = if input.dry_run { Vec::new() } else { selected };
    let tally = Edit::Delete.run(hub, &live, selection, selected, MAX_BATCH).await?;
    Ok(DeleteView {
        matched,
        deleted: tally.written,
        left_out: tally.left_out,
        left_out_keys: tally.left_out_keys,
        revision: tally.revision,
    })
}

/// Changes records by key or by filter.
pub async fn patch_many(hub: &Arc<Hub>, name: &str, input: PatchManyInput) -> Result<PatchManyView> {
    let live = hub.collection(name)?;
    let selection = Arc::new(Selection::of(input.keys, input.filter, "change")?);
    let selected = select(hub, live.id, name, &selection, None).await?;
    let matched = selected.len();
    expect(input.expected, matched, "changed")?;
    let selected = if input.dry_run { Vec::new() } else { selected };
    let tally = Edit::Patch(input.patch).run(hub, &live, selection, selected, PATCHED_TOGETHER).await?;
    Ok(PatchManyView {
        matched,
        changed: tally.written,
        unchanged: tally.unchanged,
        left_out: tally.left_out,
        left_out_keys: tally.left_out_keys,
        revision: tally.revision,
    })
}

/// Changes one record; `expected` is the revision that the caller insists on. Returns its revision and fields.
pub async fn patch_one(
    hub: &Arc<Hub>,
    name: &str,
    key: &str,
    patch: &RecordPatch,
    expected: Option<u64>,
) -> Result<(u64, Value)> {
    let mut tries = 0;
    loop {
        let live = hub.collection(name)?;
        let now = hub.catalog.record(live.id, key).await?.ok_or_else(|| unknown_record(&live, key))?;
        let revision = now.revision;
        let mut writes = patched(hub, &live, vec![now], patch).await?;
        writes[0].expected = Some(expected.unwrap_or(revision));
        let body = writes[0].body.clone();
        tries += 1;
        match live.write(hub, Arc::new(writes), Conflicts::Refuse, None).await {
            // Somebody was faster, and the caller does not insist on what they saw: once more.
            Err(p) if p.kind == Kind::Conflict && expected.is_none() && tries < TRIES => {}
            Err(p) if p.kind == Kind::Reshaped && tries < TRIES => {}
            Err(p) => return Err(p),
            Ok(written) if written.n_unchanged == 1 => return Ok((revision, body)),
            Ok(written) => return Ok((written.revision, body)),
        }
    }
}

/// JSON Merge Patch (RFC 7396): objects are merged, null takes away, anything else replaces. The depth of both is
/// bounded by their parser and by the schema.
pub fn merge(fields: &mut Map<String, Value>, patch: &Map<String, Value>) {
    for (name, value) in patch {
        match value {
            Value::Null => drop(fields.shift_remove(name)),
            Value::Object(inner) => {
                let slot = fields.entry(name.as_str()).or_insert(Value::Null);
                if !slot.is_object() {
                    *slot = Value::Object(Map::new());
                }
                if let Value::Object(old) = slot {
                    merge(old, inner);
                }
            }
            value => drop(fields.insert(name.clone(), value.clone())),
        }
    }
}

/// Stored records with a patch merged in, each to be written at the revision at which it was read. Vectors stay, but
/// for those that the patch brings, and those whose encoder would read another text.
pub async fn patched(
    hub: &Hub,
    live: &Arc<Live>,
    stored: Vec<StoredRecord>,
    patch: &RecordPatch,
) -> Result<Vec<RecordWrite>> {
    let (checking, patch) = (live.clone(), patch.clone());
    let mut writes = blocking(move || {
        let (mut inputs, mut old) = (Vec::new(), Vec::new());
        for record in stored {
            let Value::Object(body) = record.body else {
                return Err(Problem::new(Kind::Internal, "the stored record is no object"));
            };
            let mut fields = body.clone();
            merge(&mut fields, &patch.fields);
            inputs.push(RecordInput { key: record.key, fields, vectors: patch.vectors.clone() });
            old.push((body, record.revision));
        }
        let place = |_: usize| (String::new(), String::new());
        let mut writes = checked_shape(&checking, inputs, &place)?;
        for (write, (old, revision)) in writes.iter_mut().zip(&old) {
            for (c, column) in checking.columns().iter().enumerate() {
                let stays = write.body.as_object().is_some_and(|new| vector_stays(column, old, new));
                if stays && !patch.vectors.contains_key(&column.name) {
                    write.vectors[c] = VectorWrite::Keep;
                }
            }
            write.expected = Some(*revision);
        }
        Ok(writes)
    })
    .await?;
    encode_missing(hub, live, &mut writes, &|_| (String::new(), String::new())).await?;
    Ok(writes)
}
