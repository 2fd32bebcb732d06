//! Loads: files read as a job, written in steps, each step noted with what it wrote.
//!
//! A thread of its own reads ahead by one batch; checking, encoding and writing follow in order, so
//! memory is bounded by a few batches. Where a load stands is in the database, committed with the
//! records: after a crash it goes on with the next row.

use crate::edge::blocking;
use crate::edits::merge;
use crate::encoders::{EncodeFailure, Trouble, fill};
use crate::hub::Hub;
use crate::jobs::{Job, Stop};
use crate::live::Live;
use crate::problem::{Kind, Problem, Result};
use crate::routes::records::{RecordInput, checked_record, texts_to_encode, vector_stays};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::collections::HashMap;
use std::fs::File;
use std::io::{Seek, SeekFrom, Write};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use tokio::sync::mpsc;
use utoipa::ToSchema;
use zesty_catalog::{
    CatalogError, Conflicts, LoadStep, Made, RecordWrite, StoredRecord, VectorWrite, encoder, load,
};
use zesty_engine::schema::FieldType;
use zesty_files::{Kind as CellKind, Mapping, Match, Plan, Row, Rows, Shape, VectorSource};

/// How long a load waits for a database or an encoder that does not answer.
const PATIENCE: Duration = Duration::from_secs(120);
/// Records committed together unless a load says otherwise.
pub const BATCH: usize = 1000;
/// Bytes of rows committed together at most; a row that is larger goes alone.
const BATCH_BYTES: usize = 8 << 20;
/// How often a batch is merged again because others wrote to the same records.
const CONFLICTS: u32 = 100;
/// Texts in one request to an encoder.
const TEXTS: usize = 256;

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum BadRows {
    /// The first one stops the load; what stands before it is committed
    #[default]
    Stop,
    /// They go to a file with their reasons, and the load goes on
    SetAside,
}

/// What becomes of a record whose key is there already
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Known {
    /// The row is the whole record from now on
    Replace,
    /// The row's fields and vectors are set, the others stay (RFC 7396)
    Merge,
}

/// Vectors of one column in a file of their own
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LoadVectors {
    /// The collection's default column when absent
    pub column: Option<String>,
    /// An uploaded file: .npy, .fvecs, .bvecs, or one with keys to match by
    pub file: String,
    /// An uploaded file that lists the keys of the rows, one a line
    pub keys: Option<String>,
}

/// What a load is to do
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct LoadInput {
    /// An uploaded file of records; without it the rows of `vectors` are the records, with keys 0, 1, ...
    pub records: Option<String>,
    pub vectors: Vec<LoadVectors>,
    /// `row` (the first vector belongs to the first record, and so on) or `key`
    #[serde(rename = "match")]
    #[schema(value_type = String)]
    pub matching: Match,
    /// The column that holds the keys; `key` when absent
    pub key: Option<String>,
    /// Name in the file to name in the collection
    pub rename: std::collections::BTreeMap<String, String>,
    /// Columns of the file to take; all when absent
    pub only: Option<Vec<String>>,
    pub bad_rows: BadRows,
    /// `replace` when absent, but `merge` for a load of vectors alone: they come to records that have fields
    pub known: Option<Known>,
    /// The encoder that made the vectors; a column of another encoder refuses them
    pub encoder: Option<String>,
    /// Records committed together, 1 to 10,000; 1,000 when absent
    pub batch: Option<usize>,
}

impl LoadInput {
    pub fn files(&self) -> impl Iterator<Item = &String> {
        let beside = self.vectors.iter().flat_map(|v| std::iter::once(&v.file).chain(&v.keys));
        self.records.iter().chain(beside)
    }

    /// As it is kept: with the names of its files, which are gone once it is done.
    pub fn spec(&self, hub: &Hub) -> Value {
        let names: Vec<String> =
            self.files().filter_map(|id| hub.uploads.get(id).ok()).map(|f| f.name).collect();
        json!({"input": self, "names": names})
    }

    /// Everything that can be known to be wrong before a row is read.
    pub fn plan(&self, hub: &Hub, live: &Live) -> Result<Plan> {
        let named = |id: &String, at: &str| hub.uploads.named(id).map_err(|p| p.at(at));
        if let Some(n) = self.batch.filter(|n| !(1..=10_000).contains(n)) {
            let detail = format!("batch is {n}; it goes from 1 to 10,000");
            return Err(Problem::new(Kind::WrongShape, detail).at("/batch"));
        }
        if self.records.is_none() && self.vectors.is_empty() {
            return Err(Problem::new(Kind::WrongShape, "name a file: records, vectors, or both"));
        }
        let mut vectors: Vec<VectorSource> = Vec::new();
        for (i, v) in self.vectors.iter().enumerate() {
            let column = live.column(v.column.as_deref(), &format!("/vectors/{i}/column"))?;
            let column = live.columns()[column].name.clone();
            if vectors.iter().any(|v| v.column == column) {
                let detail = format!("two files bring the vectors of column \"{column}\"");
                return Err(Problem::new(Kind::WrongShape, detail).at(format!("/vectors/{i}/column")));
            }
            vectors.push(VectorSource {
                column,
                file: named(&v.file, &format!("/vectors/{i}/file"))?,
                keys: v.keys.as_ref().map(|k| named(k, &format!("/vectors/{i}/keys"))).transpose()?,
            });
        }
        if let Some(said) = &self.encoder {
            let columns = 0..live.columns().len();
            let beside =
                |c: &usize| vectors.is_empty() || vectors.iter().any(|v| v.column == live.columns()[*c].name);
            columns.filter(beside).try_for_each(|c| live.check_encoder(c, said, "/encoder"))?;
        }
        let table = live.table.load();
        let kind = |kind: FieldType| match kind {
            FieldType::Integer | FieldType::Number => CellKind::Number,
            FieldType::Boolean => CellKind::Boolean,
            FieldType::Strings | FieldType::Integers => CellKind::Array,
            FieldType::String | FieldType::Date | FieldType::Timestamp => CellKind::Text,
        };
        Ok(Plan {
            records: self.records.as_ref().map(|r| named(r, "/records")).transpose()?,
            vectors,
            matching: self.matching,
            mapping: Mapping { key: self.key.clone(), rename: self.rename.clone(), only: self.only.clone() },
            shape: Shape {
                fields: table.schema().fields.iter().map(|f| (f.name.clone(), kind(f.kind))).collect(),
                columns: live.columns().iter().map(|c| c.name.clone()).collect(),
            },
            limits: hub.limits,
            keep_text: self.bad_rows == BadRows::SetAside,
        })
    }
}

pub fn rejects_path(hub: &Hub, load: i64) -> PathBuf {
    hub.data.join("loads").join(format!("{load}.rejects.jsonl"))
}

/// Opens the files; what is wrong with one as a whole is found here. Files that say which encoder made
/// their vectors are believed.
pub fn open(live: &Live, plan: &Plan) -> Result<Rows> {
    let rows = Rows::open(plan).map_err(crate::routes::files::wrong_file)?;
    for (column, said) in &rows.encoders {
        if let Some(column) = live.columns().iter().position(|c| c.name == *column) {
            live.check_encoder(column, said, "/records")?;
        }
    }
    Ok(rows)
}

/// Starts a load, or lets one go on, as a job. `revision` is that of the collection when its records were counted.
pub async fn start(
    hub: &Arc<Hub>,
    live: &Arc<Live>,
    model: load::Model,
    input: LoadInput,
    rows: Rows,
    revision: Option<u64>,
) -> Result<Arc<Job>> {
    let subject = rows.file.clone();
    let (work_hub, name) = (hub.clone(), live.name.clone());
    let spec = input.spec(hub);
    let ready = Arc::new(tokio::sync::Notify::new());
    let go = ready.clone();
    let id = model.id;
    let job = hub
        .jobs
        .start(&hub.catalog, &hub.node, "load", &live.name, &subject, move |job| async move {
            go.notified().await;
            let mut load = Load {
                hub: work_hub,
                job,
                name,
                id: model.id,
                position: model.position as u64,
                rejects_bytes: model.rejects_bytes as u64,
                others_wrote: model.position > 0,
                revision,
                start: Instant::now(),
                began_at: model.position as u64,
                input,
                file: rows.file.clone(),
                unit: rows.unit,
            };
            let done = load.run(rows, &model).await;
            load.end(done).await
        })
        .await?;
    // The job's number is kept with the load before it does anything.
    let noted = hub.catalog.load_runs(id, job.id(), spec).await;
    if noted.is_err() {
        job.progress.cancel();
    }
    ready.notify_one();
    noted?;
    Ok(job)
}

struct Load {
    hub: Arc<Hub>,
    job: Arc<Job>,
    name: String,
    id: i64,
    input: LoadInput,
    /// Rows behind it, committed.
    position: u64,
    rejects_bytes: u64,
    /// Others wrote to the collection too, so that its count cannot be foretold.
    others_wrote: bool,
    revision: Option<u64>,
    start: Instant,
    began_at: u64,
    file: String,
    unit: &'static str,
}

/// Rows read together, and how many bytes of the files are behind them.
struct Batch {
    rows: Vec<Row>,
    bytes: u64,
}

fn read_ahead(mut rows: Rows, position: u64, size: usize, send: mpsc::Sender<Result<Batch, String>>) {
    let outcome = (|| {
        rows.pass(position).map_err(|e| e.to_string())?;
        let mut batch = Vec::with_capacity(size);
        let (mut bytes, mut read) = (0, 0);
        while let Some(row) = rows.next() {
            let row = row.map_err(|e| e.to_string());
            let own = row.as_ref().map_or(0, |row| row.n_bytes);
            // What stands before an error of the whole file still counts.
            if (batch.len() == size || bytes + own > BATCH_BYTES || row.is_err()) && !batch.is_empty() {
                let rows = std::mem::replace(&mut batch, Vec::with_capacity(size));
                bytes = 0;
                if send.blocking_send(Ok(Batch { rows, bytes: read })).is_err() {
                    return Ok(());
                }
            }
            batch.push(row?);
            bytes += own;
            read = rows.bytes_read();
        }
        let _ = send.blocking_send(Ok(Batch { rows: batch, bytes: rows.bytes_read() }));
        Ok(())
    })();
    if let Err(why) = outcome {
        let _ = send.blocking_send(Err(why));
    }
}

/// Half a second, doubled up to five.
async fn pause(attempt: u32) {
    tokio::time::sleep(Duration::from_millis((500 << attempt.min(4)).min(5000))).await;
}

impl Load {
    async fn run(&mut self, rows: Rows, model: &load::Model) -> Result<(), Stop> {
        self.job.progress.total.store(rows.total_bytes as usize, Ordering::Relaxed);
        if self.position > 0 {
            self.job.say(format!("going on after {} rows that are committed", self.position));
        }
        let mut rejects = self.rejects().map_err(|e| Stop::Failed(format!("the rejects file: {e}")))?;
        let (send, mut batches) = mpsc::channel(1);
        let (position, size) = (self.position, self.input.batch.unwrap_or(BATCH));
        let reading = tokio::task::spawn_blocking(move || read_ahead(rows, position, size, send));
        let mut counts = Counts::of(model);
        while let Some(batch) = batches.recv().await {
            if self.job.progress.is_cancelled() {
                return Err(Stop::Cancelled);
            }
            let batch = batch.map_err(Stop::Failed)?;
            self.step(batch.rows, &mut rejects, &mut counts).await?;
            self.job.progress.done.store(batch.bytes as usize, Ordering::Relaxed);
            self.job.count(counts.view(self.pace()));
        }
        reading.await.map_err(|e| Stop::Failed(format!("reading stopped: {e}")))?;
        Ok(())
    }

    fn pace(&self) -> f64 {
        (self.position - self.began_at) as f64 / self.start.elapsed().as_secs_f64().max(1e-6)
    }

    /// The rejects file, without what an unfinished step may have left in it.
    fn rejects(&self) -> std::io::Result<Option<File>> {
        if self.input.bad_rows == BadRows::Stop {
            return Ok(None);
        }
        let path = rejects_path(&self.hub, self.id);
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder)?;
        }
        let mut file = File::options().create(true).truncate(false).write(true).open(path)?;
        file.set_len(self.rejects_bytes)?;
        file.seek(SeekFrom::End(0))?;
        Ok(Some(file))
    }

    /// Checks, encodes and commits rows that belong together.
    async fn step(
        &mut self,
        rows: Vec<Row>,
        rejects: &mut Option<File>,
        counts: &mut Counts,
    ) -> Result<(), Stop> {
        let live = self.hub.collection(&self.name)?;
        let table = live.table.load_full();
        let (mut writes, mut bad, mut passed) =
            (Vec::<RecordWrite>::with_capacity(rows.len()), Vec::new(), 0);
        let merge = match self.input.known {
            Some(known) => known == Known::Merge,
            None => self.input.records.is_none(),
        };
        // Of one key twice in a file the later row wins; where rows are merged, it is merged into the earlier one.
        let mut places: HashMap<String, usize> = HashMap::with_capacity(rows.len());
        let mut n_superseded = 0;
        let mut stop = None;
        for row in rows {
            let place = format!("{} {}", self.unit, row.n);
            let checked = match row.record {
                Err(wrong) => Err((wrong.reason, Some(wrong.text), None)),
                Ok(record) => {
                    let input =
                        RecordInput { key: record.key, fields: record.fields, vectors: record.vectors };
                    // Kept only where it may be needed: a copy of every record would cost more than its check.
                    let copy = (rejects.is_some() && row.text.is_none()).then(|| input.clone());
                    let at = |_: usize| (String::new(), String::new());
                    checked_record(&live, &table, input, 0, &mut HashMap::new(), &at)
                        .map_err(|p| (p.detail, None, copy))
                }
            };
            match (checked, rejects.is_some()) {
                (Ok(write), _) => match places.get(&write.key) {
                    Some(&place) => {
                        match merge {
                            true => compose(&mut writes[place], write),
                            false => writes[place] = write,
                        }
                        n_superseded += 1;
                    }
                    None => {
                        places.insert(write.key.clone(), writes.len());
                        writes.push(write);
                    }
                },
                (Err((reason, text, record)), true) => {
                    let mut rejected = json!({self.unit: row.n, "reason": reason});
                    if let Some(text) = text {
                        rejected["text"] = json!(text);
                    }
                    let whole =
                        row.text.unwrap_or_else(|| record.map_or("{}".into(), |r| json!(r).to_string()));
                    bad.push(with_member(&whole, "rejected", &rejected));
                }
                (Err((reason, ..)), false) => {
                    stop = Some(format!(
                        "{}, {place}: {reason}; what stands before it is committed: mend the file and load it again, \
                         or resume with bad rows set aside",
                        self.file
                    ));
                    break;
                }
            }
            passed += 1;
        }
        if let Some(file) = rejects {
            for line in &bad {
                let written = writeln!(file, "{line}");
                written.map_err(|e| Stop::Failed(format!("the rejects file cannot be written: {e}")))?;
            }
            if !bad.is_empty() {
                let length = file.sync_data().and_then(|()| file.stream_position());
                self.rejects_bytes = length.map_err(|e| Stop::Failed(format!("the rejects file: {e}")))?;
            }
        }
        if passed > 0 {
            let step = LoadStep {
                load: self.id,
                position: self.position + passed,
                n_rejected: bad.len() as u64,
                n_superseded,
                rejects_bytes: self.rejects_bytes,
            };
            let columns = live.target().columns;
            self.commit(writes, columns, step, counts, merge).await?;
        }
        stop.map_or(Ok(()), |why| Err(Stop::Failed(why)))
    }

    /// Commits a step. A database that does not answer is waited for; rows that are merged into what others write at
    /// the same time are merged again.
    async fn commit(
        &mut self,
        given: Vec<RecordWrite>,
        mut columns: Vec<i64>,
        step: LoadStep,
        counts: &mut Counts,
        merge: bool,
    ) -> Result<(), Stop> {
        let (waiting, mut given) = (Instant::now(), Arc::new(given));
        let (mut attempt, mut conflicts) = (0, 0);
        let mut ready: Option<Arc<Vec<RecordWrite>>> = None;
        loop {
            let live = self.hub.collection(&self.name)?;
            let now = live.target().columns;
            if now != columns {
                // Columns came or went since the batch was checked.
                Arc::make_mut(&mut given).iter_mut().for_each(|write| move_columns(write, &columns, &now));
                columns = now;
                ready = None;
            }
            let writes = match ready.take() {
                Some(writes) => writes,
                None => {
                    let writes = match merge {
                        true => match merged(&self.hub, &live, &given).await {
                            Err(p) if is_passing(p.kind) && waiting.elapsed() < PATIENCE => {
                                self.wait(&mut attempt).await?;
                                continue;
                            }
                            writes => Arc::new(writes?),
                        },
                        false => given.clone(),
                    };
                    encode_patiently(&self.hub, &live, writes, &self.job).await?
                }
            };
            let tried = if writes.is_empty() {
                self.hub.catalog.pass_step(&step).await.map(|()| None).map_err(Problem::from)
            } else {
                live.write(&self.hub, writes.clone(), Conflicts::Refuse, Some(step.clone())).await.map(Some)
            };
            match tried {
                Ok(written) => {
                    if let Some(w) = written {
                        self.others_wrote |= self.revision.is_some_and(|r| r != w.before);
                        self.revision = Some(w.revision);
                        counts.new += w.n_new as i64;
                        counts.replaced += w.n_replaced as i64 + step.n_superseded as i64;
                        counts.unchanged += w.n_unchanged as i64;
                        counts.unencoded += writes.iter().filter(|w| !w.unencoded.is_empty()).count() as i64;
                    }
                    counts.rejected += step.n_rejected as i64;
                    self.position = step.position;
                    return Ok(());
                }
                // The shape changed between the look above and the write.
                Err(p) if p.kind == Kind::Reshaped => {}
                // Somebody else wrote one of the records: what it is merged into is read again.
                Err(p) if p.kind == Kind::Conflict && merge && conflicts < CONFLICTS => {
                    self.others_wrote = true;
                    conflicts += 1;
                }
                Err(p) if is_passing(p.kind) && waiting.elapsed() < PATIENCE => {
                    self.wait(&mut attempt).await?;
                    // The commit may have succeeded and its answer been lost.
                    if let Ok(Some(now)) = self.hub.catalog.load(self.id).await
                        && now.position as u64 >= step.position
                    {
                        self.hub.follow(&live).await?;
                        *counts = Counts::of(&now);
                        self.others_wrote = true;
                        self.position = step.position;
                        return Ok(());
                    }
                    ready = Some(writes);
                }
                Err(p) => return Err(p.into()),
            }
        }
    }

    /// Waits for a database that does not answer.
    async fn wait(&self, attempt: &mut u32) -> Result<(), Stop> {
        if *attempt == 0 {
            self.job.say("MariaDB does not answer; waiting for it");
        }
        *attempt += 1;
        pause(*attempt).await;
        if self.job.progress.is_cancelled() {
            return Err(Stop::Cancelled);
        }
        Ok(())
    }

    /// Notes how it ended and reconciles.
    async fn end(&mut self, done: Result<(), Stop>) -> Result<Value, Stop> {
        let state = match &done {
            Ok(()) => "done",
            Err(Stop::Cancelled) => "cancelled",
            Err(Stop::Failed(_)) => "stopped",
        };
        let why = match &done {
            Err(Stop::Failed(why)) => Some(why.clone()),
            _ => None,
        };
        let mut attempt = 0;
        while let Err(e) = self.hub.catalog.load_ends(self.id, state, why.clone()).await {
            tracing::warn!("cannot record the end of load {} yet: {e}", self.id);
            if matches!(e, CatalogError::Internal(_)) {
                break;
            }
            attempt += 1;
            pause(attempt).await;
        }
        done?;
        let model = self.hub.catalog.load(self.id).await?;
        let model =
            model.ok_or_else(|| Stop::Failed("the load is gone: its collection was deleted".into()))?;
        for file in self.input.files() {
            self.hub.uploads.remove(file);
        }
        let live = self.hub.collection(&self.name)?;
        let (in_database, _) = self.hub.catalog.record_bytes(live.id).await?;
        let on_node = live.table.load().n_records() as u64;
        let counts = Counts::of(&model);
        let read = model.position;
        let sum = counts.new + counts.replaced + counts.unchanged + counts.rejected;
        let foretold = (model.n_before + counts.new) as u64 == in_database;
        let adds_up = read == sum && (foretold || self.others_wrote);
        let (hub, looking) = (self.hub.clone(), live.clone());
        let mut notices = blocking(move || Ok(dangling(&hub, &looking))).await?;
        if !adds_up {
            notices.push(format!(
                "the counts do not add up: {read} read, {sum} accounted for; {} records before, {in_database} now",
                model.n_before
            ));
        }
        if counts.unencoded > 0 {
            notices.push(format!(
                "{} records have no vector because the encoder would not take their text; `zesty column unencoded {}` \
                 says why, and `zesty column fill` tries again",
                counts.unencoded, self.name
            ));
        }
        notices.iter().for_each(|n| self.job.say(n.clone()));
        let mut result = counts.view(self.pace());
        result["load"] = json!(self.id);
        result["read"] = json!(read);
        result["before"] = json!(model.n_before);
        result["in_database"] = json!(in_database);
        result["on_node"] = json!(on_node);
        result["others_wrote"] = json!(self.others_wrote && !foretold);
        result["adds_up"] = json!(adds_up);
        result["notices"] = json!(notices);
        result["revision"] = json!(live.table.load().revision());
        Ok(result)
    }
}

#[derive(Clone, Copy)]
struct Counts {
    new: i64,
    replaced: i64,
    unchanged: i64,
    rejected: i64,
    unencoded: i64,
}

impl Counts {
    fn of(m: &load::Model) -> Counts {
        Counts {
            new: m.n_new,
            replaced: m.n_replaced,
            unchanged: m.n_unchanged,
            rejected: m.n_rejected,
            unencoded: m.n_unencoded,
        }
    }

    fn view(&self, pace: f64) -> Value {
        let Counts { new, replaced, unchanged, rejected, unencoded } = self;
        json!({"read": new + replaced + unchanged + rejected, "new": new, "replaced": replaced,
            "unchanged": unchanged, "rejected": rejected, "unencoded": unencoded, "rows_per_s": pace.round()})
    }
}

/// The text of a JSON object with one more member, every digit of the others as it stood.
fn with_member(object: &str, name: &str, value: &Value) -> String {
    let body = object.trim_end().strip_suffix('}').unwrap_or("{").trim_end();
    let comma = if body.ends_with('{') { "" } else { "," };
    format!("{body}{comma}{}:{value}}}", json!(name))
}

/// Whether a refusal may pass by waiting.
fn is_passing(kind: Kind) -> bool {
    matches!(kind, Kind::NoDatabase | Kind::Busy | Kind::Unsure)
}

/// Puts the vectors of a record in the order of other columns; what is of a column that is gone is dropped.
fn move_columns(write: &mut RecordWrite, old: &[i64], new: &[i64]) {
    let places: Vec<Option<usize>> = new.iter().map(|id| old.iter().position(|o| o == id)).collect();
    let mut vectors = std::mem::take(&mut write.vectors);
    let mut taken = |p: &Option<usize>| {
        p.map_or(VectorWrite::Clear, |p| std::mem::replace(&mut vectors[p], VectorWrite::Clear))
    };
    write.vectors = places.iter().map(&mut taken).collect();
}

/// Makes one row of two that are to be merged into the same record, one after the other.
fn compose(first: &mut RecordWrite, then: RecordWrite) {
    fn both(first: &mut Map<String, Value>, then: Map<String, Value>) {
        for (name, value) in then {
            match (first.get_mut(&name), value) {
                (Some(Value::Object(inner)), Value::Object(value)) => both(inner, value),
                (_, value) => drop(first.insert(name, value)),
            }
        }
    }
    if let (Value::Object(first), Value::Object(then)) = (&mut first.body, then.body) {
        both(first, then);
    }
    for (vector, then) in first.vectors.iter_mut().zip(then.vectors) {
        if then != VectorWrite::Clear {
            *vector = then;
        }
    }
}

/// Rows merged into the records that are stored now, each to be written only if its record is still as it was read,
/// or still not there.
async fn merged(hub: &Hub, live: &Live, rows: &[RecordWrite]) -> Result<Vec<RecordWrite>> {
    let keys: Vec<&str> = rows.iter().map(|w| w.key.as_str()).collect();
    let stored = hub.catalog.records_by_key(live.id, &keys).await?;
    let mut by_key: HashMap<String, StoredRecord> = stored.into_iter().map(|r| (r.key.clone(), r)).collect();
    let mut writes = rows.to_vec();
    for write in &mut writes {
        let (old, revision) = match by_key.remove(&write.key) {
            Some(StoredRecord { body: Value::Object(old), revision, .. }) => (old, revision),
            Some(_) => return Err(Problem::new(Kind::Internal, "the stored record is no object")),
            None => (Map::new(), 0),
        };
        let mut body = old.clone();
        if let Value::Object(patch) = &write.body {
            merge(&mut body, patch);
        }
        if revision > 0 {
            for (column, vector) in live.columns().iter().zip(&mut write.vectors) {
                if *vector == VectorWrite::Clear && vector_stays(column, &old, &body) {
                    *vector = VectorWrite::Keep;
                }
            }
        }
        write.body = Value::Object(body);
        write.expected = Some(revision);
    }
    Ok(writes)
}

/// References to records that are not there, field by field.
fn dangling(hub: &Hub, live: &Live) -> Vec<String> {
    let table = live.table.load();
    let fields = table.schema().fields.iter().enumerate();
    fields
        .filter_map(|(i, field)| {
            let lost = lost_references(hub, live, i)?;
            let (n, example) = lost;
            let to = field.refers_to.as_deref().unwrap_or("");
            (n > 0).then(|| {
                format!(
                    "{n} records refer by \"{}\" to records that {to} does not have, such as \"{example}\"",
                    field.name
                )
            })
        })
        .collect()
}

/// How many records refer to what is not there, and one key they name; `None` for a field that is no reference.
pub fn lost_references(hub: &Hub, live: &Live, field: usize) -> Option<(usize, String)> {
    use zesty_engine::table::Column;
    let table = live.table.load();
    let to = table.schema().fields[field].refers_to.as_ref()?;
    let Column::Text(texts) = table.column(field) else { return None };
    let other = hub.collection(to).ok().map(|l| l.table.load_full());
    let there: Vec<bool> =
        texts.dictionary().map(|key| other.as_ref().is_some_and(|t| t.row(key).is_some())).collect();
    let mut lost =
        table.alive().ones().filter_map(|r| texts.code_of(r as u32)).filter(|c| !there[*c as usize]);
    let first = lost.next();
    let example = first.map_or(String::new(), |c| texts.text(c).to_owned());
    Some((lost.count() + usize::from(first.is_some()), example))
}

/// Vectors of texts, or the reason why there is none, text by text. An encoder that does not answer is
/// waited for; texts that it refuses are found by halving.
async fn vectors_of(
    hub: &Hub,
    live: &Live,
    column: usize,
    encoder: &encoder::Model,
    texts: &[String],
    job: &Job,
) -> Result<Vec<Result<Vec<f32>, String>>, Stop> {
    let dimensions = live.columns()[column].dimensions;
    let mut out: Vec<Option<Result<Vec<f32>, String>>> = vec![None; texts.len()];
    let mut todo: Vec<(usize, usize)> =
        (0..texts.len()).step_by(TEXTS).map(|at| (at, (at + TEXTS).min(texts.len()))).rev().collect();
    let (mut waiting, mut attempt) = (None, 0);
    while let Some((from, to)) = todo.pop() {
        if job.progress.is_cancelled() {
            return Err(Stop::Cancelled);
        }
        match hub.encoders.encode(encoder, &texts[from..to], dimensions).await {
            Ok(vectors) => {
                (waiting, attempt) = (None, 0);
                for (place, vector) in out[from..to].iter_mut().zip(vectors) {
                    *place = Some(match live.metrics[column].prepare(&vector, dimensions as usize) {
                        Ok(_) => Ok(vector),
                        Err(e) => Err(format!("what encoder \"{}\" made {e}", encoder.name)),
                    });
                }
            }
            Err(EncodeFailure { trouble: Trouble::Wrong, problem }) => return Err(problem.into()),
            Err(EncodeFailure { trouble: Trouble::Refused, problem }) => {
                if to - from == 1 {
                    out[from] = Some(Err(problem.detail));
                } else {
                    let middle = from + (to - from) / 2;
                    todo.push((middle, to));
                    todo.push((from, middle));
                }
            }
            Err(EncodeFailure { trouble: Trouble::Later, problem }) => {
                let since = *waiting.get_or_insert_with(Instant::now);
                if since.elapsed() > PATIENCE {
                    return Err(problem.into());
                }
                if attempt == 0 {
                    job.say(format!("{}; trying again", problem.detail));
                }
                attempt += 1;
                pause(attempt).await;
                todo.push((from, to));
            }
        }
    }
    Ok(out.into_iter().map(|o| o.unwrap_or_else(|| Err("was not encoded".into()))).collect())
}

/// Makes the vectors that records do not bring. A record whose text the encoder does not take stays
/// without, and says why.
async fn encode_patiently(
    hub: &Hub,
    live: &Live,
    mut writes: Arc<Vec<RecordWrite>>,
    job: &Job,
) -> Result<Arc<Vec<RecordWrite>>, Stop> {
    for (c, column) in live.columns().iter().enumerate() {
        let (Some(name), Some(template)) = (&column.encoder, &column.template) else { continue };
        let (rows, texts) = texts_to_encode(&writes, c, template);
        if texts.is_empty() {
            continue;
        }
        let encoder = hub.encoder(name).await?;
        let made = vectors_of(hub, live, c, &encoder, &texts, job).await?;
        // Copied only where something is made: most batches bring all that they need.
        let writes = Arc::make_mut(&mut writes);
        for (i, made) in rows.into_iter().zip(made) {
            match made {
                Ok(vector) => writes[i].vectors[c] = VectorWrite::Set(vector),
                Err(reason) => writes[i].unencoded.push((c, reason)),
            }
        }
    }
    Ok(writes)
}

/// Gives every record that has a text and no vector in a column a vector.
pub async fn fill_column(hub: &Arc<Hub>, name: &str, column: i64, job: &Arc<Job>) -> Result<Value, Stop> {
    let live = hub.collection(name)?;
    let position = |live: &Live| {
        let found = live.columns().iter().position(|c| c.id == column);
        found.ok_or_else(|| Stop::Failed("the column is gone".into()))
    };
    let at = position(&live)?;
    let table = live.table.load_full();
    let mut lacking = table.alive().to_set();
    table.vectors()[at].vectors.present().take_from(&mut lacking);
    let rows: Vec<u32> = lacking.ones().map(|r| r as u32).collect();
    job.progress.total.store(rows.len(), Ordering::Relaxed);
    let (mut filled, mut failed, mut without) = (0, 0, 0);
    for portion in rows.chunks(1000) {
        // Each time anew: the collection may have taken another shape meanwhile.
        let live = hub.collection(name)?;
        let at = position(&live)?;
        let about = live.columns()[at].clone();
        let (Some(encoder), Some(template)) = (&about.encoder, &about.template) else {
            return Err(Stop::Failed(format!("column \"{}\" has no encoder with a template", about.name)));
        };
        let encoder = hub.encoder(encoder).await?;
        let numbers: Vec<u64> = portion.iter().map(|r| table.number(*r)).collect();
        let (mut records, mut texts) = (Vec::new(), Vec::new());
        for record in hub.catalog.records(live.id, &numbers).await? {
            match record.body.as_object().and_then(|body| fill(template, body)) {
                Some(text) => {
                    texts.push(text);
                    records.push((record.number, record.revision));
                }
                None => without += 1,
            }
        }
        let made = vectors_of(hub, &live, at, &encoder, &texts, job).await?;
        let given: Vec<_> = records
            .into_iter()
            .zip(made)
            .map(|((number, revision), made)| {
                failed += usize::from(made.is_err());
                Made { number, revision, vector: made }
            })
            .collect();
        // A packet of the database has its limit.
        let step = (BATCH_BYTES / (about.dimensions as usize * 4)).clamp(1, 1000);
        for given in given.chunks(step) {
            filled += loop {
                match hub.collection(name)?.fill(hub, column, given.to_vec()).await {
                    // The collection took another shape meanwhile; the column is still there, or the next look says so.
                    Err(p) if p.kind == Kind::Reshaped => position(&*hub.collection(name)?).map(drop)?,
                    filled => break filled?,
                }
            };
        }
        job.progress.done.fetch_add(portion.len(), Ordering::Relaxed);
        job.count(json!({"filled": filled, "unencoded": failed, "without_text": without}));
        if job.progress.is_cancelled() {
            return Err(Stop::Cancelled);
        }
    }
    job.say(format!("{filled} records were given a vector, {failed} could not be, {without} have no text"));
    Ok(json!({"filled": filled, "unencoded": failed, "without_text": without}))
}
