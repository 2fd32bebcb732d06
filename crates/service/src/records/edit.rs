//! Edits of records that are chosen first and changed after: by key, or by what a filter allows.
//!
//! What was chosen may have changed by the time it is written. Each record is changed only at the revision at which
//! it was read; what others changed meanwhile is read again, and the rest is reported as left out.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::reach::Reach;
use crate::collections::registry::Registry;
use crate::names::check_lists;
use crate::node::encoders::Encoders;
use crate::node::threads::blocking;
use crate::problem::{Kind, Problem, Result};
use crate::records::batch::MAX_BATCH;
use crate::records::patch::patched;
use crate::records::select::read_filter;
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;
use zesty_catalog::{Conflicts, KeyAt, StoredRecord, Written};
use zesty_engine::Table;
use zesty_wire as wire;

/// Records that are patched together.
const PATCHED_TOGETHER: usize = 500;
/// Keys of records that one request names.
pub const MOST_KEYS: usize = 100_000;
/// How often what others changed meanwhile is read again.
const ROUNDS: usize = 10;
/// How often an edit of one record is tried again.
const TRIES: usize = 100;
/// Keys of records left out that an answer lists.
const EXAMPLES: usize = 10;

/// What a request over many records means.
enum Selection {
    Keys(Vec<String>),
    Filter(wire::Filter),
}

impl Selection {
    fn of(keys: Option<Vec<String>>, filter: Option<wire::Filter>, what: &str) -> Result<Selection> {
        match (keys, filter) {
            (Some(keys), None) => {
                check_lists([("/keys", keys.len())], MOST_KEYS)?;
                Ok(Selection::Keys(keys))
            }
            (None, Some(filter)) => {
                if read_filter(&filter)?.is_none() {
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
    fn records(&self, reach: &Reach, table: &Table, among: Option<&[String]>) -> Result<Vec<KeyAt>> {
        let at = |row: u32| KeyAt { key: table.key(row).into(), expected: Some(table.row_revision(row)) };
        match self {
            Selection::Keys(keys) => {
                let within = reach.within(table)?;
                let keys: BTreeSet<&String> = among.unwrap_or(keys).iter().collect();
                let chosen = keys.into_iter().filter_map(|k| within.row(table, k)).map(at);
                // Whether a bound key sees a record is known of it as it is now.
                let expected = |at: KeyAt| KeyAt { expected: at.expected.filter(|_| reach.is_bound()), ..at };
                Ok(chosen.map(expected).collect())
            }
            Selection::Filter(filter) => {
                let rows = reach.allowed(table, Some(filter))?;
                let mut chosen: Vec<KeyAt> = match among {
                    None => rows.ones().map(|r| at(r as u32)).collect(),
                    Some(keys) => {
                        let rows =
                            keys.iter().filter_map(|k| table.row(k)).filter(|r| rows.contains(*r as usize));
                        rows.map(at).collect()
                    }
                };
                chosen.retain(|at| reach.grant.may_write_key(&at.key));
                Ok(chosen)
            }
        }
    }

    /// Refuses record keys that are not the key's to write.
    fn check_keys(&self, grant: &Grant) -> Result<()> {
        let Selection::Keys(keys) = self else { return Ok(()) };
        let mut keys = keys.iter().enumerate();
        keys.try_for_each(|(i, key)| grant.require_record_key(key, &format!("/keys/{i}")))
    }
}

/// Selects on a thread of its own, from everything that is committed.
async fn select(
    registry: &Arc<Registry>,
    reach: &Reach,
    selection: &Arc<Selection>,
    among: Option<Vec<String>>,
) -> Result<Vec<KeyAt>> {
    let (id, name) = (reach.live.id, &reach.live.name);
    let live = registry.by_id(id).ok_or_else(|| Problem::unknown("collection", name, []))?;
    if among.is_some() {
        // Others have written: perhaps on another node.
        registry.follow(&live).await?;
    }
    let live = registry.by_id(id).ok_or_else(|| Problem::unknown("collection", name, []))?;
    let reach = Reach { live, grant: reach.grant.clone() };
    let (table, selection) = (reach.live.table.load_full(), selection.clone());
    blocking(move || selection.records(&reach, &table, among.as_deref())).await
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
    Patch(wire::RecordPatch),
}

impl Edit {
    /// Edits records together. Returns the keys of those that were not edited because they had changed.
    async fn step(
        &self,
        registry: &Arc<Registry>,
        encoders: &Encoders,
        live: &Arc<Live>,
        part: &[KeyAt],
        tally: &mut Tally,
    ) -> Result<Vec<String>> {
        let patch = match self {
            Edit::Patch(patch) => patch,
            Edit::Delete => {
                let written = live.delete(registry, part.to_vec(), Conflicts::LeaveOut).await?;
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
        let stored = registry.catalog.records_by_key(live.id, &keys).await?;
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
        let writes = patched(encoders, live, now, patch).await?;
        let keys: Vec<KeyAt> =
            writes.iter().map(|w| KeyAt { key: w.key.clone(), expected: w.expected }).collect();
        let written = live.write(registry, Arc::new(writes), Conflicts::LeaveOut).await?;
        tally.written += written.n_replaced;
        tally.unchanged += written.n_unchanged;
        tally.revision = written.revision;
        changed.extend(left_out(&keys, &written));
        Ok(changed)
    }

    /// Edits what is selected, `together` at a time, and looks again at what others changed meanwhile.
    async fn run(
        &self,
        registry: &Arc<Registry>,
        encoders: &Encoders,
        reach: &Reach,
        selection: Arc<Selection>,
        mut todo: Vec<KeyAt>,
    ) -> Result<Tally> {
        let live = &reach.live;
        let mut tally = Tally { revision: live.table.load().revision(), ..Tally::default() };
        let together = if matches!(self, Edit::Delete) { MAX_BATCH } else { PATCHED_TOGETHER };
        let mut rounds = 0;
        while !todo.is_empty() {
            let mut changed = Vec::new();
            for part in todo.chunks(together) {
                let mut tries = 0;
                loop {
                    // The collection may take another shape, and another `Live`, on the way.
                    let now = registry
                        .by_id(live.id)
                        .ok_or_else(|| Problem::unknown("collection", &live.name, []))?;
                    match self.step(registry, encoders, &now, part, &mut tally).await {
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
            todo = select(registry, reach, &selection, Some(changed.clone())).await?;
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
pub async fn delete_many(
    grant: &Grant,
    registry: &Arc<Registry>,
    encoders: &Encoders,
    collection: &str,
    request: wire::DeleteRequest,
) -> Result<wire::Deleted> {
    let reach = registry.reach(grant, Scope::Write, collection)?;
    let selection = Arc::new(Selection::of(request.keys, request.filter, "delete")?);
    selection.check_keys(grant)?;
    let selected = select(registry, &reach, &selection, None).await?;
    let matched = selected.len();
    expect(request.expected, matched, "deleted")?;
    let selected = if request.dry_run { Vec::new() } else { selected };
    let tally = Edit::Delete.run(registry, encoders, &reach, selection, selected).await?;
    Ok(wire::Deleted {
        matched,
        deleted: tally.written,
        left_out: tally.left_out,
        left_out_keys: tally.left_out_keys,
        revision: tally.revision,
    })
}

/// Changes records by key or by filter.
pub async fn patch_many(
    grant: &Grant,
    registry: &Arc<Registry>,
    encoders: &Encoders,
    collection: &str,
    request: wire::PatchRequest,
) -> Result<wire::Patched> {
    let reach = registry.reach(grant, Scope::Write, collection)?;
    let selection = Arc::new(Selection::of(request.keys, request.filter, "change")?);
    selection.check_keys(grant)?;
    grant.require_fixed(&request.patch.fields, "/patch/fields")?;
    let selected = select(registry, &reach, &selection, None).await?;
    let matched = selected.len();
    expect(request.expected, matched, "changed")?;
    let selected = if request.dry_run { Vec::new() } else { selected };
    let tally = Edit::Patch(request.patch).run(registry, encoders, &reach, selection, selected).await?;
    Ok(wire::Patched {
        matched,
        changed: tally.written,
        unchanged: tally.unchanged,
        left_out: tally.left_out,
        left_out_keys: tally.left_out_keys,
        revision: tally.revision,
    })
}

/// Changes one record. With `expected` it must still be at that revision.
pub async fn patch_one(
    grant: &Grant,
    registry: &Arc<Registry>,
    encoders: &Encoders,
    (collection, key): (&str, &str),
    patch: &wire::RecordPatch,
    expected: Option<u64>,
) -> Result<wire::Record> {
    grant.require_record_key(key, "")?;
    grant.require_fixed(&patch.fields, "/fields")?;
    let mut tries = 0;
    loop {
        let reach = registry.reach(grant, Scope::Write, collection)?;
        let live = reach.live.clone();
        let now = registry.catalog.record(live.id, key).await?.ok_or_else(|| reach.unknown_record(key))?;
        let revision = now.revision;
        if reach.is_bound() {
            let own = own_revision(registry, &reach, key, revision).await?;
            let own = own.ok_or_else(|| reach.unknown_record(key))?;
            if own != revision && tries < TRIES {
                // Somebody wrote it while it was read.
                tries += 1;
                continue;
            }
        }
        let mut writes = patched(encoders, &live, vec![now], patch).await?;
        writes[0].expected = Some(expected.unwrap_or(revision));
        let fields = writes[0].body.fields().clone();
        let record =
            |revision| wire::Record { key: key.to_owned(), fields: fields.into(), revision, vectors: None };
        tries += 1;
        match live.write(registry, Arc::new(writes), Conflicts::Refuse).await {
            // Somebody was faster, and the caller does not insist on what they saw: once more.
            Err(p) if p.kind == Kind::Conflict && expected.is_none() && tries < TRIES => {}
            Err(p) if p.kind == Kind::Reshaped && tries < TRIES => {}
            Err(p) => return Err(p),
            Ok(written) if written.n_unchanged == 1 => return Ok(record(revision)),
            Ok(written) => return Ok(record(written.revision)),
        }
    }
}

/// Deletes one record. With `expected` it must still be at that revision.
pub async fn delete_one(
    grant: &Grant,
    registry: &Arc<Registry>,
    (collection, key): (&str, &str),
    expected: Option<u64>,
) -> Result<()> {
    grant.require_record_key(key, "")?;
    let mut tries = 0;
    loop {
        let reach = registry.reach(grant, Scope::Write, collection)?;
        let mut seen = expected;
        if reach.is_bound() {
            let own = own_revision(registry, &reach, key, expected.unwrap_or(0)).await?;
            let own = own.ok_or_else(|| reach.unknown_record(key))?;
            seen = Some(expected.unwrap_or(own));
        }
        let one = KeyAt { key: key.to_owned(), expected: seen };
        tries += 1;
        match reach.live.delete(registry, vec![one], Conflicts::Refuse).await {
            // Somebody was faster, and the caller does not insist on what they saw: once more.
            Err(p) if p.kind == Kind::Conflict && expected.is_none() && tries < TRIES => {
                registry.follow(&reach.live).await?;
            }
            Err(p) => return Err(p),
            Ok(written) if written.numbers.iter().flatten().count() == 0 => {
                return Err(reach.unknown_record(key));
            }
            Ok(_) => return Ok(()),
        }
    }
}

/// The revision of a record that the key sees, here at `least` or later if there is one; `None` when it sees none.
async fn own_revision(registry: &Arc<Registry>, reach: &Reach, key: &str, least: u64) -> Result<Option<u64>> {
    if reach.live.table.load().revision() < least {
        // Another node wrote it.
        registry.follow(&reach.live).await?;
    }
    let table = reach.live.table.load();
    Ok(reach.row(&table, key)?.map(|row| table.row_revision(row)))
}
