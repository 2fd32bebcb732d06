//! Records and vectors: written in batches that take the next revision, followed by revision.
//!
//! A batch locks its collection's row for the length of its transaction, so that commit order is
//! revision order, and a node that has seen everything up to R lacks exactly what is above R.

use crate::bounded::{Tx, retried};
use crate::changes::{
    Change, Conflicts, Fill, Guess, KeyAt, LoadStep, RecordWrite, STEP, StoredRecord, VectorWrite, Written,
    floats,
};
use crate::connection::Catalog;
use crate::entity::{collection, record};
use crate::error::{CatalogError, Result};
use crate::statements::{FEW, Way, at_a_time, free, in_statements, placeholders};
use crate::transaction::{Locked, Target};
use crate::vectors::{joined, vector_of};
use chrono::Utc;
use sea_orm::ActiveValue::{Set, Unchanged};
use sea_orm::{
    ColumnTrait, ConnectionTrait, DbErr, EntityTrait, QueryFilter, QueryOrder, QueryResult, QuerySelect,
    SqlErr,
};
use serde_json::{Map, Value};
use std::collections::{HashMap, HashSet};

/// As MariaDB calls the index of collections and revisions, which was made without a name.
const BY_REVISION: &str = "collection_id_2";

/// What the database has under a key.
struct Known {
    number: i64,
    revision: i64,
    deleted: bool,
}

/// The same JSON, 1900 and 1900.0 being one number.
fn alike(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Number(a), Value::Number(b)) => {
            a == b || (a.is_f64() != b.is_f64() && a.as_f64() == b.as_f64())
        }
        (Value::Array(a), Value::Array(b)) => a.len() == b.len() && a.iter().zip(b).all(|(a, b)| alike(a, b)),
        (Value::Object(a), Value::Object(b)) => alike_fields(a, b),
        _ => a == b,
    }
}

fn alike_fields(a: &Map<String, Value>, b: &Map<String, Value>) -> bool {
    a.len() == b.len() && a.iter().all(|(name, a)| b.get(name).is_some_and(|b| alike(a, b)))
}

/// Whether two vectors are the same: 0.0 is not -0.0.
fn same_bytes(a: &[f32], b: &[f32]) -> bool {
    bytemuck::cast_slice::<f32, u8>(a) == bytemuck::cast_slice::<f32, u8>(b)
}

/// A record on its way into the database.
struct Row<'a> {
    write: &'a RecordWrite,
    number: i64,
    /// Whether the key is there already, if only as a mark of what was deleted.
    is_known: bool,
}

impl Catalog {
    async fn known(&self, tx: &Tx, collection: i64, keys: Vec<&str>) -> Result<HashMap<String, Known>> {
        let mut known = HashMap::new();
        for keys in keys.chunks(STEP) {
            let rows: Vec<(String, i64, i64, bool)> = record::Entity::find()
                .select_only()
                .column(record::Column::Key)
                .column(record::Column::Number)
                .column(record::Column::Revision)
                .column(record::Column::Deleted)
                .filter(record::Column::CollectionId.eq(collection))
                .filter(record::Column::Key.is_in(keys.iter().copied()))
                .into_tuple()
                .all(tx)
                .await?;
            known.extend(
                rows.into_iter()
                    .map(|(key, number, revision, deleted)| (key, Known { number, revision, deleted })),
            );
        }
        Ok(known)
    }

    /// The numbers of records that are stored exactly as they are to be written.
    async fn unchanged(
        &self,
        tx: &Tx,
        collection: i64,
        columns: &[i64],
        writes: &[RecordWrite],
        known: &HashMap<String, Known>,
    ) -> Result<HashSet<i64>> {
        let living: HashMap<i64, &RecordWrite> = writes
            .iter()
            .filter_map(|w| Some((known.get(&w.key).filter(|k| !k.deleted)?.number, w)))
            .collect();
        let numbers: Vec<i64> = living.keys().copied().collect();
        let mut same = HashSet::new();
        for numbers in numbers.chunks(STEP) {
            let bodies: Vec<(i64, Value)> = record::Entity::find()
                .select_only()
                .column(record::Column::Number)
                .column(record::Column::Body)
                .filter(record::Column::CollectionId.eq(collection))
                .filter(record::Column::Number.is_in(numbers.iter().copied()))
                .into_tuple()
                .all(tx)
                .await?;
            let is_alike = |n: &i64, body: &Value| {
                body.as_object().is_some_and(|body| alike_fields(living[n].body.fields(), body))
            };
            let mut alike: HashSet<i64> =
                bodies.into_iter().filter(|(n, body)| is_alike(n, body)).map(|(n, _)| n).collect();
            for (c, &column) in columns.iter().enumerate() {
                if alike.is_empty() {
                    break;
                }
                let asked: Vec<i64> = alike.iter().copied().collect();
                let stored = self.stored_vectors(tx, column, &asked).await?;
                alike.retain(|n| {
                    let stored = stored.get(n);
                    match &living[n].vectors[c] {
                        VectorWrite::Set(v) => stored.is_some_and(|stored| same_bytes(stored, v)),
                        VectorWrite::Clear => stored.is_none(),
                        VectorWrite::Keep => true,
                    }
                });
            }
            same.extend(alike);
        }
        Ok(same)
    }

    pub(crate) async fn finish(&self, tx: Tx, collection: i64, revision: i64, next: i64) -> Result<()> {
        let update = collection::ActiveModel {
            id: Unchanged(collection),
            revision: Set(revision),
            next_number: Set(next),
            written_at: Set(Some(Utc::now())),
            ..Default::default()
        };
        collection::Entity::update(update).validate()?.exec(&tx).await?;
        tx.commit().await
    }

    /// Refuses a record that the database could not take in one statement.
    pub(crate) fn check_lengths(&self, given: &[RecordWrite]) -> Result<()> {
        let limit = self.record_limit();
        let too_long = given.iter().find(|w| w.n_bytes() > limit);
        too_long
            .map_or(Ok(()), |w| Err(CatalogError::TooLong { key: w.key.clone(), bytes: w.n_bytes(), limit }))
    }

    /// Inserts new records and replaces known ones, all or none. Keys must differ. Records that are
    /// stored already as given are left alone; a batch of only such takes no revision. The step of the load
    /// that the batch belongs to is noted in the same transaction.
    ///
    /// If the caller takes all keys for new ones, the database is not asked which are known, unless one of them is.
    /// With a `way`, statements are small while others go first, and each waits for them.
    pub async fn write(
        &self,
        target: &Target,
        given: &[RecordWrite],
        conflicts: Conflicts,
        step: Option<&LoadStep>,
        guess: Guess,
        way: Option<&dyn Way>,
    ) -> Result<Written> {
        self.check_lengths(given)?;
        if guess == Guess::AllNew
            && !given.is_empty()
            && given.iter().all(RecordWrite::may_be_new)
            && let Some(written) = retried(|| self.write_new(target, given, step, way)).await?
        {
            return Ok(written);
        }
        retried(|| self.write_once(target, given, conflicts, step, way)).await
    }

    /// Inserts records under new keys. `None`: one of the keys is there, and nothing was written.
    async fn write_new(
        &self,
        target: &Target,
        given: &[RecordWrite],
        step: Option<&LoadStep>,
        way: Option<&dyn Way>,
    ) -> Result<Option<Written>> {
        let tx = self.db.begin().await?;
        let Locked { revision: before, next_number: next, .. } = self.lock_target(&tx, target).await?;
        if !self.insert_new(&tx, target, before + 1, (given, next), way).await? {
            tx.rollback().await?;
            return Ok(None);
        }
        let numbers = next..next + given.len() as i64;
        let written = Written::of_new(before, numbers.clone());
        self.end_write(tx, target, step, (given, &written), numbers.end).await?;
        Ok(Some(written))
    }

    /// Inserts records under new keys, with numbers from `first` on; says whether all keys and numbers were new. If not, the
    /// transaction is to be rolled back.
    pub(crate) async fn insert_new(
        &self,
        tx: &Tx,
        target: &Target,
        revision: i64,
        (given, first): (&[RecordWrite], i64),
        way: Option<&dyn Way>,
    ) -> Result<bool> {
        let numbered = given.iter().zip(first..);
        let rows: Vec<Row<'_>> =
            numbered.map(|(write, number)| Row { write, number, is_known: false }).collect();
        for rows in in_statements(&rows, STEP, self.record_limit(), |row| row.write.n_bytes()) {
            match self.put_records(tx, target, revision, (rows, "", way)).await {
                Ok(()) => self.put_vectors(tx, target, rows, way).await?,
                Err(e) if matches!(e.sql_err(), Some(SqlErr::UniqueConstraintViolation(_))) => {
                    return Ok(false);
                }
                Err(e) => return Err(e.into()),
            }
        }
        Ok(true)
    }

    /// Notes the step that a batch belongs to, the collection's new revision and the next number, and commits.
    pub(crate) async fn end_write(
        &self,
        tx: Tx,
        target: &Target,
        step: Option<&LoadStep>,
        (given, written): (&[RecordWrite], &Written),
        next: i64,
    ) -> Result<()> {
        if let Some(step) = step {
            let n_unencoded = given.iter().filter(|w| !w.unencoded.is_empty()).count();
            self.note_step(&tx, step, written, n_unencoded).await?;
        }
        match written.revision == written.before {
            true => tx.commit().await,
            false => self.finish(tx, target.collection, written.revision as i64, next).await,
        }
    }

    async fn write_once(
        &self,
        target: &Target,
        given: &[RecordWrite],
        conflicts: Conflicts,
        step: Option<&LoadStep>,
        way: Option<&dyn Way>,
    ) -> Result<Written> {
        let collection = target.collection;
        let tx = self.db.begin().await?;
        let Locked { revision: before, next_number: mut next, .. } = self.lock_target(&tx, target).await?;
        let revision = before + 1;
        let known = self.known(&tx, collection, given.iter().map(|w| w.key.as_str()).collect()).await?;
        let mut left_out = Vec::new();
        for (i, write) in given.iter().enumerate() {
            let now = known.get(&write.key).filter(|k| !k.deleted).map_or(0, |k| k.revision as u64);
            if write.expected.is_some_and(|expected| expected != now) {
                match conflicts {
                    Conflicts::Refuse => {
                        return Err(CatalogError::Changed { key: write.key.clone(), revision: now });
                    }
                    Conflicts::LeaveOut => left_out.push(i),
                }
            }
        }
        let same = self.unchanged(&tx, collection, &target.columns, given, &known).await?;
        let is_same = |w: &RecordWrite| known.get(&w.key).is_some_and(|k| same.contains(&k.number));
        let stays = |i: usize| left_out.binary_search(&i).is_ok() || is_same(&given[i]);
        let changes: Vec<usize> = (0..given.len()).filter(|i| !stays(*i)).collect();
        let mut n_replaced = 0;
        let mut numbers = vec![None; given.len()];
        for &i in &changes {
            numbers[i] = Some(match known.get(&given[i].key) {
                Some(k) => {
                    n_replaced += usize::from(!k.deleted);
                    k.number as u64
                }
                None => {
                    next += 1;
                    next as u64 - 1
                }
            });
        }
        let written = Written {
            before: before as u64,
            revision: if changes.is_empty() { before } else { revision } as u64,
            n_new: changes.len() - n_replaced,
            n_replaced,
            n_unchanged: given.len() - changes.len() - left_out.len(),
            numbers,
            left_out,
        };
        let rows: Vec<Row<'_>> = changes
            .iter()
            .map(|&i| Row {
                write: &given[i],
                number: written.numbers[i].unwrap_or_default() as i64,
                is_known: known.contains_key(&given[i].key),
            })
            .collect();
        for rows in in_statements(&rows, STEP, self.record_limit(), |row| row.write.n_bytes()) {
            let replace = " ON DUPLICATE KEY UPDATE \
                           revision = VALUES(revision), deleted = VALUES(deleted), body = VALUES(body)";
            self.put_records(&tx, target, revision, (rows, replace, way)).await?;
            self.put_vectors(&tx, target, rows, way).await?;
        }
        self.end_write(tx, target, step, (given, &written), next).await?;
        Ok(written)
    }

    /// Inserts records that fit one statement, which ends with what happens to those that are there.
    async fn put_records(
        &self,
        tx: &Tx,
        target: &Target,
        revision: i64,
        (rows, end, way): (&[Row<'_>], &str, Option<&dyn Way>),
    ) -> Result<(), DbErr> {
        for rows in rows.chunks(at_a_time(way, FEW)) {
            free(way).await;
            let values = rows.iter().flat_map(|r| {
                let (key, body) = (r.write.key.as_str(), r.write.body.text());
                let target: [sea_orm::Value; 2] = [target.collection.into(), r.number.into()];
                target.into_iter().chain([key.into(), revision.into(), false.into(), body.into()])
            });
            let sql = format!(
                "INSERT INTO records (collection_id, number, `key`, revision, deleted, body) VALUES {}{end}",
                placeholders::<6>(rows.len())
            );
            tx.execute_raw(self.sql(sql, values.collect())).await?;
        }
        Ok(())
    }

    /// Inserts, replaces or clears the vectors of records.
    async fn put_vectors(
        &self,
        tx: &Tx,
        target: &Target,
        rows: &[Row<'_>],
        way: Option<&dyn Way>,
    ) -> Result<()> {
        for (c, &column) in target.columns.iter().enumerate() {
            let vectors = rows.iter().filter_map(|r| match &r.write.vectors[c] {
                VectorWrite::Set(v) => Some((r.number, Some(v.as_slice()))),
                VectorWrite::Clear if r.is_known => Some((r.number, None)),
                VectorWrite::Clear | VectorWrite::Keep => None,
            });
            self.change_vectors(tx, column, vectors, way).await?;
            // Where a vector stays, so does what is known of its text.
            let replaced = rows.iter().filter(|r| r.is_known && r.write.vectors[c] != VectorWrite::Keep);
            let replaced = replaced.map(|r| r.number).collect();
            let reasons = rows.iter().flat_map(|r| {
                let mine = r.write.unencoded.iter().filter(move |(at, _)| *at == c);
                mine.map(move |(_, reason)| (r.number, reason.clone()))
            });
            self.note_unencoded(tx, column, replaced, reasons.collect()).await?;
        }
        Ok(())
    }

    /// Deletes records by key. Each leaves a mark with its last revision, so that followers learn
    /// of it; unknown keys are passed over.
    pub async fn delete(&self, target: &Target, keys: &[KeyAt], conflicts: Conflicts) -> Result<Written> {
        retried(|| self.delete_once(target, keys, conflicts)).await
    }

    async fn delete_once(&self, target: &Target, keys: &[KeyAt], conflicts: Conflicts) -> Result<Written> {
        let collection = target.collection;
        let tx = self.db.begin().await?;
        let Locked { revision: before, next_number: next, .. } = self.lock_target(&tx, target).await?;
        let known = self.known(&tx, collection, keys.iter().map(|k| k.key.as_str()).collect()).await?;
        let mut left_out = Vec::new();
        let mut numbers = vec![None; keys.len()];
        for (i, KeyAt { key, expected }) in keys.iter().enumerate() {
            let Some(now) = known.get(key).filter(|k| !k.deleted) else { continue };
            if expected.is_none_or(|expected| expected == now.revision as u64) {
                numbers[i] = Some(now.number as u64);
                continue;
            }
            match conflicts {
                Conflicts::Refuse => {
                    return Err(CatalogError::Changed { key: key.clone(), revision: now.revision as u64 });
                }
                Conflicts::LeaveOut => left_out.push(i),
            }
        }
        let gone: Vec<i64> = numbers.iter().flatten().map(|n| *n as i64).collect();
        if gone.is_empty() {
            let before = before as u64;
            return Ok(Written { before, revision: before, numbers, left_out, ..Written::default() });
        }
        let revision = before + 1;
        for gone in gone.chunks(STEP) {
            record::Entity::update_many()
                .set(record::ActiveModel {
                    revision: Set(revision),
                    deleted: Set(true),
                    body: Set(Value::Object(Default::default())),
                    ..Default::default()
                })
                .filter(record::Column::CollectionId.eq(collection))
                .filter(record::Column::Number.is_in(gone.iter().copied()))
                .exec(&tx)
                .await?;
        }
        for &column in &target.columns {
            self.change_vectors(&tx, column, gone.iter().map(|number| (*number, None)), None).await?;
            self.note_unencoded(&tx, column, gone.clone(), Vec::new()).await?;
        }
        self.finish(tx, collection, revision, next).await?;
        let (before, revision) = (before as u64, revision as u64);
        Ok(Written { before, revision, numbers, left_out, ..Written::default() })
    }

    /// Hands over every record that changed after `after`, in portions, from one consistent view: those of a later
    /// revision later, or all in record order where it begins at the beginning. Returns the revision of that view. Refused
    /// when the collection has another shape than the caller knows: what the new columns hold would be missed for good.
    pub async fn follow(
        &self,
        target: &Target,
        after: u64,
        mut each: impl FnMut(Vec<Change>),
        mut each_fill: impl FnMut(Fill),
    ) -> Result<u64> {
        let (collection, columns) = (target.collection, &target.columns);
        let tx = self.db.patient().begin_snapshot().await?;
        let now: Option<(i64, i64)> = collection::Entity::find_by_id(collection)
            .select_only()
            .column(collection::Column::Revision)
            .column(collection::Column::Shape)
            .into_tuple()
            .one(&tx)
            .await?;
        let (revision, shape) =
            now.ok_or_else(|| CatalogError::Missing { what: "collection", name: collection.to_string() })?;
        if shape != target.shape {
            return Err(CatalogError::Reshaped { now: shape });
        }
        let mut sql = "SELECT r.number, r.`key`, r.revision, r.deleted, r.body".to_owned();
        let mut joins = String::new();
        for (i, column) in columns.iter().enumerate() {
            let block = format!("b{i}");
            sql += &format!(", {} AS v{i}", vector_of(&block, "r.number"));
            joins += &joined(&block, *column, "r.number");
        }
        // Left to itself the database reads the whole collection for the few records that have changed.
        let (by, order) = match after {
            0 => ("PRIMARY", "r.number"),
            _ => (BY_REVISION, "r.revision, r.number"),
        };
        sql += &format!(
            " FROM records r FORCE INDEX ({by}){joins} WHERE r.collection_id = ? AND r.revision > ? ORDER BY {order}"
        );
        let statement = self.sql(sql, vec![collection.into(), (after as i64).into()]);
        let read = |row: QueryResult| -> std::result::Result<Change, sea_orm::DbErr> {
            let deleted: bool = row.try_get("", "deleted")?;
            let vectors = (0..columns.len())
                .map(|i| Ok(row.try_get::<Option<Vec<u8>>>("", &format!("v{i}"))?.map(|b| floats(&b))))
                .collect::<std::result::Result<_, sea_orm::DbErr>>()?;
            Ok(Change {
                number: row.try_get::<i64>("", "number")? as u64,
                key: row.try_get("", "key")?,
                revision: row.try_get::<i64>("", "revision")? as u64,
                body: if deleted { None } else { Some(row.try_get("", "body")?) },
                vectors,
            })
        };
        let mut portion = Vec::with_capacity(STEP);
        tx.each_row(statement, |row| {
            portion.push(read(row)?);
            if portion.len() == STEP {
                each(std::mem::replace(&mut portion, Vec::with_capacity(STEP)));
            }
            Ok(())
        })
        .await?;
        if !portion.is_empty() {
            each(portion);
        }
        // Whoever begins at the beginning has just read every vector there is.
        if after > 0 {
            for fill in self.fills(&tx, collection, after).await? {
                each_fill(fill);
            }
        }
        tx.commit().await?;
        Ok(revision as u64)
    }

    /// The living records that were written last of those that have not changed since a revision.
    pub async fn last_written(&self, collection: i64, until: u64, limit: u64) -> Result<Vec<StoredRecord>> {
        let found = record::Entity::find()
            .filter(record::Column::CollectionId.eq(collection))
            .filter(record::Column::Revision.lte(until as i64))
            .filter(record::Column::Deleted.eq(false))
            .order_by_desc(record::Column::Revision)
            .limit(limit)
            .all(&self.db)
            .await?;
        Ok(found.into_iter().map(StoredRecord::from).collect())
    }

    /// Living records by key, in no particular order; unknown keys are passed over.
    pub async fn records_by_key(&self, collection: i64, keys: &[&str]) -> Result<Vec<StoredRecord>> {
        let mut all = Vec::with_capacity(keys.len());
        for keys in keys.chunks(STEP) {
            let some = record::Entity::find()
                .filter(record::Column::CollectionId.eq(collection))
                .filter(record::Column::Key.is_in(keys.iter().copied()))
                .filter(record::Column::Deleted.eq(false))
                .all(&self.db)
                .await?;
            all.extend(some.into_iter().map(StoredRecord::from));
        }
        Ok(all)
    }

    pub async fn record(&self, collection: i64, key: &str) -> Result<Option<StoredRecord>> {
        let found = record::Entity::find()
            .filter(record::Column::CollectionId.eq(collection))
            .filter(record::Column::Key.eq(key))
            .filter(record::Column::Deleted.eq(false))
            .one(&self.db)
            .await?;
        Ok(found.map(Into::into))
    }
}
