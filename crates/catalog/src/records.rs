//! Records and vectors: written in batches that take the next revision, followed by revision.
//!
//! A batch locks its collection's row for the length of its transaction, so that commit order is
//! revision order, and a node that has seen everything up to R lacks exactly what is above R.

use crate::entity::{collection, record, vector};
use crate::loads::{Fill, LoadStep};
use crate::{Catalog, CatalogError, Result};
use chrono::Utc;
use futures::TryStreamExt;
use sea_orm::ActiveValue::{Set, Unchanged};
use sea_orm::sea_query::OnConflict;
use sea_orm::{
    ColumnTrait, DatabaseTransaction, EntityTrait, QueryFilter, QueryResult, QuerySelect, StreamTrait,
    TransactionTrait,
};
use serde_json::Value;
use std::collections::{HashMap, HashSet};

/// Rows in one statement: far below the limit on placeholders, and where inserting is fastest.
const STEP: usize = 1000;

/// A record to write; the vectors, as the caller gave them, in the order of the columns.
#[derive(Clone, Debug)]
pub struct RecordWrite {
    pub key: String,
    pub body: Value,
    pub vectors: Vec<Option<Vec<f32>>>,
    /// The revision that the record must have now; a batch with one that differs is refused whole.
    pub expected: Option<u64>,
    /// Columns whose encoder would not take its text, and why.
    pub unencoded: Vec<(usize, String)>,
}

/// What a batch did.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Written {
    /// The collection's revision before the batch. Others may have written since the caller looked.
    pub before: u64,
    /// After it. The same as before when the batch changed nothing.
    pub revision: u64,
    /// The number of each record that was changed, in the order given; `None` where nothing was to do.
    pub numbers: Vec<Option<u64>>,
    pub n_new: usize,
    pub n_replaced: usize,
    /// Records that were already as given.
    pub n_unchanged: usize,
}

/// What the database has under a key.
struct Known {
    number: i64,
    revision: i64,
    deleted: bool,
}

/// A record as it stands after some revision.
#[derive(Clone, Debug, PartialEq)]
pub struct Change {
    pub number: u64,
    pub key: String,
    pub revision: u64,
    /// `None` when the record was deleted.
    pub body: Option<Value>,
    pub vectors: Vec<Option<Vec<f32>>>,
}

#[derive(Clone, Debug, PartialEq)]
pub struct StoredRecord {
    pub number: u64,
    pub key: String,
    pub revision: u64,
    pub body: Value,
}

/// The same JSON, 1900 and 1900.0 being one number.
fn alike(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Number(a), Value::Number(b)) => {
            a == b || (a.is_f64() != b.is_f64() && a.as_f64() == b.as_f64())
        }
        (Value::Array(a), Value::Array(b)) => a.len() == b.len() && a.iter().zip(b).all(|(a, b)| alike(a, b)),
        (Value::Object(a), Value::Object(b)) => {
            a.len() == b.len() && a.iter().all(|(name, a)| b.get(name).is_some_and(|b| alike(a, b)))
        }
        _ => a == b,
    }
}

pub(crate) fn floats(bytes: &[u8]) -> Vec<f32> {
    bytemuck::pod_collect_to_vec(bytes)
}

impl From<record::Model> for StoredRecord {
    fn from(m: record::Model) -> Self {
        StoredRecord { number: m.number as u64, key: m.key, revision: m.revision as u64, body: m.body }
    }
}

impl Catalog {
    /// Locks the collection, and returns its revision and next record number.
    pub(crate) async fn lock(&self, tx: &DatabaseTransaction, collection: i64) -> Result<(i64, i64)> {
        collection::Entity::find_by_id(collection)
            .select_only()
            .column(collection::Column::Revision)
            .column(collection::Column::NextNumber)
            .lock_exclusive()
            .into_tuple()
            .one(tx)
            .await?
            .ok_or_else(|| CatalogError::Missing { what: "collection", name: collection.to_string() })
    }

    async fn known(
        &self,
        tx: &DatabaseTransaction,
        collection: i64,
        keys: Vec<&str>,
    ) -> Result<HashMap<String, Known>> {
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
        tx: &DatabaseTransaction,
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
            let mut alike: HashSet<i64> =
                bodies.into_iter().filter(|(n, body)| alike(&living[n].body, body)).map(|(n, _)| n).collect();
            for (c, &column) in columns.iter().enumerate() {
                if alike.is_empty() {
                    break;
                }
                let stored: HashMap<i64, Vec<u8>> = vector::Entity::find()
                    .filter(vector::Column::ColumnId.eq(column))
                    .filter(vector::Column::Number.is_in(alike.iter().copied()))
                    .all(tx)
                    .await?
                    .into_iter()
                    .map(|v| (v.number, v.data))
                    .collect();
                alike.retain(|n| {
                    let wanted = living[n].vectors[c].as_deref().map(bytemuck::cast_slice::<f32, u8>);
                    wanted == stored.get(n).map(Vec::as_slice)
                });
            }
            same.extend(alike);
        }
        Ok(same)
    }

    pub(crate) async fn finish(
        &self,
        tx: DatabaseTransaction,
        collection: i64,
        revision: i64,
        next: i64,
    ) -> Result<()> {
        let update = collection::ActiveModel {
            id: Unchanged(collection),
            revision: Set(revision),
            next_number: Set(next),
            written_at: Set(Some(Utc::now())),
            ..Default::default()
        };
        collection::Entity::update(update).validate()?.exec(&tx).await?;
        Ok(tx.commit().await?)
    }

    /// Inserts new records and replaces known ones, all or none. Keys must differ. Records that are
    /// stored already as given are left alone; a batch of only such takes no revision. The step of the load
    /// that the batch belongs to is noted in the same transaction.
    pub async fn write(
        &self,
        collection: i64,
        columns: &[i64],
        given: &[RecordWrite],
        step: Option<&LoadStep>,
    ) -> Result<Written> {
        let tx = self.db.begin().await?;
        let (before, mut next) = self.lock(&tx, collection).await?;
        let revision = before + 1;
        let known = self.known(&tx, collection, given.iter().map(|w| w.key.as_str()).collect()).await?;
        for write in given {
            let now = known.get(&write.key).filter(|k| !k.deleted).map_or(0, |k| k.revision as u64);
            if write.expected.is_some_and(|expected| expected != now) {
                return Err(CatalogError::Changed { key: write.key.clone(), revision: now });
            }
        }
        let same = self.unchanged(&tx, collection, columns, given, &known).await?;
        let is_same = |w: &RecordWrite| known.get(&w.key).is_some_and(|k| same.contains(&k.number));
        let writes: Vec<&RecordWrite> = given.iter().filter(|w| !is_same(w)).collect();
        let mut n_replaced = 0;
        let numbers: Vec<i64> = writes
            .iter()
            .map(|w| match known.get(&w.key) {
                Some(k) => {
                    n_replaced += usize::from(!k.deleted);
                    k.number
                }
                None => {
                    next += 1;
                    next - 1
                }
            })
            .collect();
        let mut changed = numbers.iter();
        let written = Written {
            before: before as u64,
            revision: if writes.is_empty() { before } else { revision } as u64,
            n_new: writes.len() - n_replaced,
            n_replaced,
            n_unchanged: same.len(),
            numbers: given
                .iter()
                .map(|w| if is_same(w) { None } else { changed.next().map(|n| *n as u64) })
                .collect(),
        };
        if let Some(step) = step {
            let n_unencoded = given.iter().filter(|w| !w.unencoded.is_empty()).count();
            self.note_step(&tx, step, &written, n_unencoded).await?;
        }
        if writes.is_empty() {
            tx.commit().await?;
            return Ok(written);
        }
        for (writes, numbers) in writes.chunks(STEP).zip(numbers.chunks(STEP)) {
            let rows = writes.iter().zip(numbers).map(|(w, &number)| record::ActiveModel {
                collection_id: Set(collection),
                number: Set(number),
                key: Set(w.key.clone()),
                revision: Set(revision),
                deleted: Set(false),
                body: Set(w.body.clone()),
            });
            use record::Column as C;
            record::Entity::insert_many(rows)
                .on_conflict(
                    OnConflict::columns([C::CollectionId, C::Number])
                        .update_columns([C::Revision, C::Deleted, C::Body])
                        .to_owned(),
                )
                .exec_without_returning(&tx)
                .await?;
            for (c, &column) in columns.iter().enumerate() {
                let (mut some, mut none) = (Vec::new(), Vec::new());
                for (w, &number) in writes.iter().zip(numbers) {
                    match &w.vectors[c] {
                        Some(v) => some.push((number, v)),
                        None if known.contains_key(&w.key) => none.push(number),
                        None => {}
                    }
                }
                // Wide vectors: keep a statement well under the packet limit.
                let wide = some.first().map_or(1, |(_, v)| v.len() * 4);
                for some in some.chunks((8_000_000 / wide).clamp(1, STEP)) {
                    let rows = some.iter().map(|(number, v)| vector::ActiveModel {
                        column_id: Set(column),
                        number: Set(*number),
                        data: Set(bytemuck::cast_slice(v).to_vec()),
                    });
                    vector::Entity::insert_many(rows)
                        .on_conflict(
                            OnConflict::columns([vector::Column::ColumnId, vector::Column::Number])
                                .update_columns([vector::Column::Data])
                                .to_owned(),
                        )
                        .exec_without_returning(&tx)
                        .await?;
                }
                self.drop_vectors(&tx, column, none).await?;
                let replaced = writes.iter().zip(numbers).filter(|(w, _)| known.contains_key(&w.key));
                let replaced = replaced.map(|(_, number)| *number).collect();
                let reasons = writes.iter().zip(numbers).flat_map(|(w, &number)| {
                    let mine = w.unencoded.iter().filter(move |(at, _)| *at == c);
                    mine.map(move |(_, reason)| (number, reason.clone()))
                });
                self.note_unencoded(&tx, column, replaced, reasons.collect()).await?;
            }
        }
        self.finish(tx, collection, revision, next).await?;
        Ok(written)
    }

    pub(crate) async fn drop_vectors(
        &self,
        tx: &DatabaseTransaction,
        column: i64,
        numbers: Vec<i64>,
    ) -> Result<()> {
        for numbers in numbers.chunks(STEP) {
            vector::Entity::delete_many()
                .filter(vector::Column::ColumnId.eq(column))
                .filter(vector::Column::Number.is_in(numbers.iter().copied()))
                .exec(tx)
                .await?;
        }
        Ok(())
    }

    /// Deletes records by key. Each leaves a mark with its last revision, so that followers learn
    /// of it; unknown keys are passed over.
    pub async fn delete(&self, collection: i64, columns: &[i64], keys: &[String]) -> Result<Written> {
        let tx = self.db.begin().await?;
        let (before, next) = self.lock(&tx, collection).await?;
        let known = self.known(&tx, collection, keys.iter().map(String::as_str).collect()).await?;
        let numbers: Vec<Option<i64>> =
            keys.iter().map(|k| known.get(k).filter(|k| !k.deleted).map(|k| k.number)).collect();
        let gone: Vec<i64> = numbers.iter().flatten().copied().collect();
        if gone.is_empty() {
            let before = before as u64;
            let numbers = vec![None; keys.len()];
            return Ok(Written { before, revision: before, numbers, ..Written::default() });
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
        for &column in columns {
            self.drop_vectors(&tx, column, gone.clone()).await?;
        }
        self.finish(tx, collection, revision, next).await?;
        Ok(Written {
            before: before as u64,
            revision: revision as u64,
            numbers: numbers.into_iter().map(|n| n.map(|n| n as u64)).collect(),
            ..Written::default()
        })
    }

    /// Hands over every record that changed after `after`, in record order and in portions, from
    /// one consistent view. Returns the revision of that view.
    pub async fn follow(
        &self,
        collection: i64,
        columns: &[i64],
        after: u64,
        mut each: impl FnMut(Vec<Change>),
        mut each_fill: impl FnMut(Fill),
    ) -> Result<u64> {
        let tx = self.db.begin().await?;
        let revision: Option<i64> = collection::Entity::find_by_id(collection)
            .select_only()
            .column(collection::Column::Revision)
            .into_tuple()
            .one(&tx)
            .await?;
        let revision = revision
            .ok_or_else(|| CatalogError::Missing { what: "collection", name: collection.to_string() })?;
        let mut sql = "SELECT r.number, r.`key`, r.revision, r.deleted, r.body".to_owned();
        let mut joins = String::new();
        for (i, column) in columns.iter().enumerate() {
            sql += &format!(", v{i}.data AS v{i}");
            joins +=
                &format!(" LEFT JOIN vectors v{i} ON v{i}.column_id = {column} AND v{i}.number = r.number");
        }
        sql +=
            &format!(" FROM records r{joins} WHERE r.collection_id = ? AND r.revision > ? ORDER BY r.number");
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
        {
            let mut rows = tx.stream_raw(statement).await?;
            let mut portion = Vec::with_capacity(STEP);
            while let Some(row) = rows.try_next().await? {
                portion.push(read(row)?);
                if portion.len() == STEP {
                    each(std::mem::replace(&mut portion, Vec::with_capacity(STEP)));
                }
            }
            if !portion.is_empty() {
                each(portion);
            }
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

    pub async fn record(&self, collection: i64, key: &str) -> Result<Option<StoredRecord>> {
        let found = record::Entity::find()
            .filter(record::Column::CollectionId.eq(collection))
            .filter(record::Column::Key.eq(key))
            .filter(record::Column::Deleted.eq(false))
            .one(&self.db)
            .await?;
        Ok(found.map(Into::into))
    }

    /// Living records by number, in no particular order.
    pub async fn records(&self, collection: i64, numbers: &[u64]) -> Result<Vec<StoredRecord>> {
        let mut all = Vec::with_capacity(numbers.len());
        for numbers in numbers.chunks(STEP) {
            let some = record::Entity::find()
                .filter(record::Column::CollectionId.eq(collection))
                .filter(record::Column::Number.is_in(numbers.iter().map(|n| *n as i64)))
                .filter(record::Column::Deleted.eq(false))
                .all(&self.db)
                .await?;
            all.extend(some.into_iter().map(StoredRecord::from));
        }
        Ok(all)
    }

    /// The vectors of some records in one column, as they were given, by number.
    pub async fn column_vectors(&self, column: i64, numbers: &[u64]) -> Result<HashMap<u64, Vec<f32>>> {
        let mut all = HashMap::with_capacity(numbers.len());
        for numbers in numbers.chunks(STEP) {
            let some = vector::Entity::find()
                .filter(vector::Column::ColumnId.eq(column))
                .filter(vector::Column::Number.is_in(numbers.iter().map(|n| *n as i64)))
                .all(&self.db)
                .await?;
            all.extend(some.into_iter().map(|v| (v.number as u64, floats(&v.data))));
        }
        Ok(all)
    }

    /// The vectors of a record as they were given, one for each of `columns`.
    pub async fn vectors(&self, columns: &[i64], number: u64) -> Result<Vec<Option<Vec<f32>>>> {
        let found = vector::Entity::find()
            .filter(vector::Column::ColumnId.is_in(columns.iter().copied()))
            .filter(vector::Column::Number.eq(number as i64))
            .all(&self.db)
            .await?;
        Ok(columns
            .iter()
            .map(|c| found.iter().find(|v| v.column_id == *c).map(|v| floats(&v.data)))
            .collect())
    }
}
