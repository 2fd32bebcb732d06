//! Records: written in batches or streamed as JSON Lines, read, browsed, deleted.

use super::*;
use crate::edge::{MAX_BATCH_BYTES, parse, too_large};
use crate::edits::{self, DeleteInput, DeleteView, PatchManyInput, PatchManyView};
use crate::encoders::fill;
use crate::live::Live;
use axum::body::Body;
use axum::extract::{Query, Request};
use axum::http::{HeaderMap, HeaderValue, header};
use axum::response::{IntoResponse, Response};
use bytes::{Bytes, BytesMut};
use fixedbitset::FixedBitSet;
use futures::StreamExt;
use serde_json::value::RawValue;
use serde_json::{Map, Value, json};
use std::collections::{BTreeMap, HashMap, HashSet};
use zesty_catalog::{CatalogError, Conflicts, KeyAt, RecordWrite, VectorWrite, json_length, vector_column};
use zesty_engine::Table;
use zesty_engine::counts::{FieldCounts, count};
use zesty_engine::order::{self, SortValue};
use zesty_engine::schema::pointer_step;
use zesty_files::{Export, Layout, OutColumn, OutRecord};

/// Records in one JSON batch.
pub const MAX_BATCH: usize = 10_000;
/// Lines of a JSON Lines stream that are committed together, and how many bytes of them at most.
const STREAM_BATCH: usize = 500;
const STREAM_BYTES: usize = 8 << 20;
/// Bytes of a record's key.
pub const MAX_KEY: usize = 190;

#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RecordInput {
    /// The caller's own name for the record: 1 to 190 bytes
    pub key: String,
    #[serde(default, deserialize_with = "zesty_files::json::object")]
    #[schema(value_type = Object)]
    pub fields: Map<String, Value>,
    /// By vector column. A column with an encoder and a template makes what is missing here
    #[serde(default, deserialize_with = "zesty_files::json::vectors")]
    pub vectors: BTreeMap<String, Option<Vec<f32>>>,
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RecordBatch {
    /// Up to 10,000
    #[schema(value_type = Vec<RecordInput>)]
    pub records: Vec<Box<RawValue>>,
    /// Write the good records and list the others as rejected, instead of refusing the batch whole
    #[serde(default)]
    pub set_aside: bool,
    /// The encoder that made the vectors; a column of another encoder refuses them
    pub encoder: Option<String>,
}

/// A record that was not written, and why
#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct Rejected {
    /// Its place in the batch, from 0
    pub at: usize,
    /// The kind of problem
    pub word: String,
    pub detail: String,
}

/// What a write did; it is committed and searchable
#[derive(Clone, Debug, Default, Serialize, ToSchema)]
pub struct WriteView {
    pub read: usize,
    pub new: usize,
    pub replaced: usize,
    /// Already stored as given; left alone
    pub unchanged: usize,
    pub revision: u64,
    /// Only when the batch asked to set bad records aside
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub rejected: Vec<Rejected>,
}

#[derive(Serialize, ToSchema)]
pub struct RecordView {
    pub key: String,
    #[schema(value_type = Object)]
    pub fields: Value,
    /// The revision that wrote it
    pub revision: u64,
    /// As they were given; only when asked for
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>)]
    pub vectors: Option<Value>,
}

#[derive(Serialize, ToSchema)]
pub struct RecordPage {
    pub records: Vec<RecordView>,
    /// Give this as `after` for the next page; null at the end
    pub next: Option<String>,
}

/// Where a record of a batch stands, for messages: a pointer and words.
pub(crate) type Place<'a> = &'a (dyn Fn(usize) -> (String, String) + Sync);

/// Keys, fields and given vectors of a batch; the first problem refuses it.
pub(crate) fn checked_shape(
    live: &Live,
    records: Vec<RecordInput>,
    place: Place<'_>,
) -> Result<Vec<RecordWrite>> {
    let table = live.table.load_full();
    let mut seen: HashMap<String, usize> = HashMap::with_capacity(records.len());
    let records = records.into_iter().enumerate();
    records.map(|(i, record)| checked_record(live, &table, record, i, &mut seen, place)).collect()
}

pub(crate) fn checked_record(
    live: &Live,
    table: &Table,
    record: RecordInput,
    i: usize,
    seen: &mut HashMap<String, usize>,
    place: Place<'_>,
) -> Result<RecordWrite> {
    let (at, words) = place(i);
    let subject = format!("{words}record \"{}\"", record.key);
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
        let detail = format!("{words}{what}; a key is 1 to {MAX_KEY} bytes of text, and not . or ..");
        return Err(Problem::new(Kind::InvalidKey, detail).at(format!("{at}/key")));
    }
    if let Some(&first) = seen.get(&record.key) {
        let (first, _) = place(first);
        let detail = format!("{subject} stands twice in this batch; send each key once");
        return Err(Problem::new(Kind::RepeatedKey, detail).at(format!("{at}/key")).with("first", first));
    }
    table.schema().check(&record.fields).map_err(|e| {
        Problem::new(Kind::WrongField, format!("{subject}: {e}")).at(format!("{at}/fields{}", e.pointer))
    })?;
    // Few records come near the limit, and those alone are measured.
    if rough_bytes(&record.fields) > live.record_limit / 8 {
        let bytes = json_length(&Value::Object(record.fields.clone())) + record.key.len();
        if bytes > live.record_limit {
            let (key, limit) = (record.key.clone(), live.record_limit);
            let problem = Problem::from(CatalogError::TooLong { key, bytes, limit });
            return Err(Problem { detail: format!("{words}{}", problem.detail), ..problem }.at(at));
        }
    }
    let mut vectors = vec![VectorWrite::Clear; live.columns().len()];
    for (name, vector) in record.vectors {
        let pointer = format!("{at}/vectors{}", pointer_step(&name));
        let column = live.column(Some(&name), &pointer)?;
        if let Some(vector) = vector {
            let dimensions = live.columns()[column].dimensions as usize;
            live.metrics[column]
                .prepare(&vector, dimensions)
                .map_err(|e| Problem::vector(&e, &format!("{subject}, column \"{name}\":"), pointer))?;
            vectors[column] = VectorWrite::Set(vector);
        }
    }
    seen.insert(record.key.clone(), i);
    Ok(RecordWrite {
        key: record.key,
        body: Value::Object(record.fields),
        vectors,
        expected: None,
        unencoded: Vec::new(),
    })
}

/// About the bytes of an object as JSON; never less than an eighth of them.
fn rough_bytes(fields: &Map<String, Value>) -> usize {
    let mut bytes = 2;
    let mut todo: Vec<&Value> = Vec::new();
    let members = |fields: &Map<String, Value>| fields.keys().map(|name| name.len() + 4).sum::<usize>();
    bytes += members(fields);
    todo.extend(fields.values());
    while let Some(value) = todo.pop() {
        bytes += 8;
        match value {
            Value::String(text) => bytes += text.len(),
            Value::Array(items) => todo.extend(items),
            Value::Object(inner) => {
                bytes += members(inner);
                todo.extend(inner.values());
            }
            _ => {}
        }
    }
    bytes
}

/// The records that bring no vector in a column and have a text for its encoder: their places, and the texts.
pub(crate) fn texts_to_encode(
    writes: &[RecordWrite],
    column: usize,
    template: &str,
) -> (Vec<usize>, Vec<String>) {
    let lacking = writes.iter().enumerate().filter(|(_, w)| w.vectors[column] == VectorWrite::Clear);
    lacking.filter_map(|(i, w)| Some((i, fill(template, w.body.as_object()?)?))).unzip()
}

/// Whether a record's vector in a column stays when its fields change: nobody encodes it, or the encoder would
/// read the same text.
pub(crate) fn vector_stays(
    column: &vector_column::Model,
    old: &Map<String, Value>,
    new: &Map<String, Value>,
) -> bool {
    let read = |body| column.template.as_ref().and_then(|t| fill(t, body));
    column.encoder.is_none() || read(old) == read(new)
}

/// Asks the encoders for the vectors that records do not bring.
pub(crate) async fn encode_missing(
    hub: &Hub,
    live: &Live,
    writes: &mut [RecordWrite],
    place: Place<'_>,
) -> Result<()> {
    for (c, column) in live.columns().iter().enumerate() {
        let (Some(name), Some(template)) = (&column.encoder, &column.template) else { continue };
        let (rows, texts) = texts_to_encode(writes, c, template);
        if texts.is_empty() {
            continue;
        }
        let encoder = hub.encoder(name).await?;
        let encoded = hub.encoders.encode(&encoder, &texts, column.dimensions).await?;
        for (i, vector) in rows.into_iter().zip(encoded) {
            let (at, words) = place(i);
            live.metrics[c].prepare(&vector, column.dimensions as usize).map_err(|e| {
                let subject = format!("{words}record \"{}\": what encoder \"{name}\" made", writes[i].key);
                Problem::vector(&e, &subject, at)
            })?;
            writes[i].vectors[c] = VectorWrite::Set(vector);
        }
    }
    Ok(())
}

/// Write records: a JSON batch (all or none), or a stream of JSON Lines
///
/// With `Content-Type: application/jsonl` each line is one record, and every 500 lines are committed
/// together; a wrong line stops the stream, what was committed before it stays, and the answer says how much.
#[utoipa::path(post, path = "/api/collections/{collection}/records", tag = "records",
    params(("collection" = String, Path)), request_body = RecordBatch,
    responses((status = 200, body = WriteView), (status = 422, body = crate::problem::ProblemBody),
        (status = 502, body = crate::problem::ProblemBody)))]
pub async fn write(
    State(hub): Hubbed,
    Path(name): Path<String>,
    request: Request,
) -> Result<Json<WriteView>> {
    let live = hub.collection(&name)?;
    let media = request.headers().get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or("");
    match media.split(';').next().unwrap_or("").trim() {
        "application/json" => {
            let (parts, body) = request.into_parts();
            let held = hub.bodies.read(&parts.headers, body, MAX_BATCH_BYTES).await?;
            let checking = live.clone();
            let batch = blocking(move || read_batch(&checking, &held.bytes)).await?;
            let place = |i: usize| (format!("/records/{i}"), String::new());
            let Batch { mut writes, rejected, n_read } = batch;
            encode_missing(&hub, &live, &mut writes, &place).await?;
            let view = write_checked(&hub, &live, writes).await?;
            Ok(Json(WriteView { read: n_read, rejected, ..view }))
        }
        "application/jsonl" | "application/x-ndjson" => {
            stream(&hub, &live, request.into_body()).await.map(Json)
        }
        other => Err(Problem::new(
            Kind::WrongMedia,
            format!(
                "Content-Type is \"{other}\"; send application/json with {{\"records\": [...]}}, or application/jsonl"
            ),
        )),
    }
}

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
    let one = |i: usize| parse::<RecordInput>(batch.records[i].get().as_bytes(), &place(i).0);
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

async fn write_checked(hub: &Arc<Hub>, live: &Arc<Live>, writes: Vec<RecordWrite>) -> Result<WriteView> {
    let read = writes.len();
    if writes.is_empty() {
        return Ok(WriteView { revision: live.table.load().revision(), ..WriteView::default() });
    }
    let written = live.write(hub, Arc::new(writes), Conflicts::Refuse, None).await?;
    Ok(WriteView {
        read,
        new: written.n_new,
        replaced: written.n_replaced,
        unchanged: written.n_unchanged,
        revision: written.revision,
        rejected: Vec::new(),
    })
}

async fn stream(hub: &Arc<Hub>, live: &Arc<Live>, body: Body) -> Result<WriteView> {
    let mut done = WriteView { revision: live.table.load().revision(), ..WriteView::default() };
    let outcome = stream_into(hub, live, body, &mut done).await;
    outcome.map_err(|problem| {
        let detail = format!("{}; {} records before it are committed", problem.detail, done.read);
        Problem { detail, ..problem }.with("committed", &done)
    })?;
    Ok(done)
}

/// Lines of a stream that are to be committed together.
#[derive(Default)]
struct Lines {
    /// Line number and text.
    lines: Vec<(usize, Bytes)>,
    n_bytes: usize,
}

async fn stream_into(hub: &Arc<Hub>, live: &Arc<Live>, body: Body, done: &mut WriteView) -> Result<()> {
    let mut chunks = body.into_data_stream();
    let mut rest = BytesMut::new();
    let mut batch = Lines::default();
    let mut line_number = 0;
    let mut searched = 0;
    let mut ended = false;
    while !ended {
        match chunks.next().await {
            Some(Ok(chunk)) => rest.extend_from_slice(&chunk),
            Some(Err(e)) => {
                let detail = format!("the stream broke off after line {line_number}: {e}");
                return Err(Problem::new(Kind::BrokenBody, detail));
            }
            None => ended = true,
        }
        loop {
            let line = match rest[searched..].iter().position(|b| *b == b'\n') {
                Some(end) => rest.split_to(searched + end + 1).freeze(),
                None if ended && !rest.is_empty() => rest.split().freeze(),
                None => break,
            };
            searched = 0;
            line_number += 1;
            if !line.iter().all(u8::is_ascii_whitespace) {
                batch.n_bytes += line.len();
                batch.lines.push((line_number, line));
            }
            if batch.lines.len() == STREAM_BATCH || batch.n_bytes > STREAM_BYTES {
                commit_lines(hub, live, std::mem::take(&mut batch), done).await?;
            }
        }
        searched = rest.len();
        if searched > MAX_BATCH_BYTES {
            return Err(Problem {
                detail: format!("line {} is longer than {} MiB", line_number + 1, MAX_BATCH_BYTES >> 20),
                ..too_large(MAX_BATCH_BYTES)
            });
        }
    }
    commit_lines(hub, live, batch, done).await
}

/// Commits lines; of one key twice the later line wins, in a batch of its own.
async fn commit_lines(hub: &Arc<Hub>, live: &Arc<Live>, batch: Lines, done: &mut WriteView) -> Result<()> {
    let read = |(n, line): (usize, Bytes)| {
        let record: Result<RecordInput> = parse(&line, "");
        record
            .map(|r| (n, r))
            .map_err(|p| Problem { detail: format!("line {n}: {}", p.detail), ..p }.with("line", n))
    };
    let all = blocking(move || batch.lines.into_iter().map(read).collect::<Result<Vec<_>>>()).await?;
    let mut parts: Vec<Vec<(usize, RecordInput)>> = vec![Vec::new()];
    let mut keys = HashSet::new();
    for (n, record) in all {
        if !keys.insert(record.key.clone()) {
            keys.clear();
            keys.insert(record.key.clone());
            parts.push(Vec::new());
        }
        parts.last_mut().expect("there is one").push((n, record));
    }
    for part in parts {
        let (lines, records): (Vec<usize>, Vec<RecordInput>) = part.into_iter().unzip();
        let checking = live.clone();
        let (mut writes, lines) = blocking(move || {
            let place = |i: usize| (String::new(), format!("line {}, ", lines[i]));
            Ok((checked_shape(&checking, records, &place)?, lines))
        })
        .await?;
        let place = |i: usize| (String::new(), format!("line {}, ", lines[i]));
        encode_missing(hub, live, &mut writes, &place).await?;
        let view = write_checked(hub, live, writes).await?;
        done.read += view.read;
        done.new += view.new;
        done.replaced += view.replaced;
        done.unchanged += view.unchanged;
        done.revision = view.revision;
    }
    Ok(())
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PageQuery {
    after: Option<String>,
    limit: Option<u64>,
    filter: Option<FilterInput>,
    sort: Option<String>,
}

/// The living rows that a filter allows; all without one.
pub(crate) fn allowed(table: &Table, filter: Option<&FilterInput>) -> Result<FixedBitSet> {
    let read = read_and_compile(table.schema(), filter)?;
    Ok(read.map_or_else(|| table.alive().to_set(), |(_, test)| test.run(table)))
}

/// A place between sorted rows, as text: the value and the key of the row before it.
fn cursor(value: &SortValue, key: &str) -> String {
    let value = match value {
        SortValue::Text(t) => json!(t),
        SortValue::Integer(n) => json!(n),
        SortValue::Number(x) => json!(x),
        SortValue::Boolean(b) => json!(b),
        SortValue::Missing => Value::Null,
    };
    json!([value, key]).to_string()
}

fn read_cursor(text: &str) -> Result<(SortValue, String)> {
    let wrong = || {
        Problem::new(Kind::WrongShape, "after takes the `next` of the page before, with the same sort")
            .at("/after")
    };
    let (value, key): (Value, String) = serde_json::from_str(text).map_err(|_| wrong())?;
    let value = match value {
        Value::Null => SortValue::Missing,
        Value::String(t) => SortValue::Text(t),
        Value::Bool(b) => SortValue::Boolean(b),
        Value::Number(n) => match n.as_i64() {
            Some(n) => SortValue::Integer(n),
            None => SortValue::Number(n.as_f64().ok_or_else(wrong)?),
        },
        _ => return Err(wrong()),
    };
    Ok((value, key))
}

/// Browse records in order of their keys, or of a field
#[utoipa::path(get, path = "/api/collections/{collection}/records", tag = "records",
    params(("collection" = String, Path), ("after" = Option<String>, Query, description = "the `next` of the page before"),
        ("limit" = Option<u64>, Query, description = "1 to 1000, 50 when absent"),
        ("filter" = Option<String>, Query, description = "CQL2, text or JSON"),
        ("sort" = Option<String>, Query, description = "a field, or -field for the largest first; missing values come last")),
    responses((status = 200, body = RecordPage), (status = 422, body = crate::problem::ProblemBody)))]
pub async fn page(
    State(hub): Hubbed,
    Path(name): Path<String>,
    Query(query): Query<PageQuery>,
) -> Result<Json<RecordPage>> {
    let live = hub.collection(&name)?;
    let limit = query.limit.unwrap_or(50) as usize;
    if !(1..=1000).contains(&limit) {
        let detail = format!("limit is {limit}; it goes from 1 to 1000");
        return Err(Problem::new(Kind::WrongShape, detail).at("/limit"));
    }
    let table = live.table.load_full();
    let sort = query.sort.as_deref().filter(|s| !s.is_empty()).map(|s| sort_field(&table, s)).transpose()?;
    let after = match (query.after, sort) {
        (Some(text), Some(_)) => Some(read_cursor(&text)?),
        (Some(key), None) => Some((SortValue::Missing, key)),
        (None, _) => None,
    };
    let (numbers, next) = blocking(move || {
        let rows = allowed(&table, query.filter.as_ref())?;
        let after = after.as_ref().map(|(value, key)| (value, key.as_str()));
        let (field, descending) = sort.unzip();
        let mut rows = order::first(&table, &rows, field, descending.unwrap_or(false), after, limit + 1);
        let more = rows.len() > limit;
        rows.truncate(limit);
        let next = rows.last().filter(|_| more).map(|&row| match field {
            Some(field) => cursor(&order::value(&table, field, row), table.key(row)),
            None => table.key(row).to_owned(),
        });
        Ok((rows.into_iter().map(|r| table.number(r)).collect::<Vec<u64>>(), next))
    })
    .await?;
    let found = hub.catalog.records(live.id, &numbers).await?;
    let mut by_number: HashMap<u64, _> = found.into_iter().map(|r| (r.number, r)).collect();
    let records = numbers
        .iter()
        .filter_map(|n| by_number.remove(n))
        .map(|r| RecordView { key: r.key, fields: r.body, revision: r.revision, vectors: None })
        .collect();
    Ok(Json(RecordPage { records, next }))
}

/// The field to sort by, and whether the largest comes first.
pub(crate) fn sort_field(table: &Table, text: &str) -> Result<(usize, bool)> {
    let name = text.strip_prefix('-').unwrap_or(text);
    let schema = table.schema();
    let at =
        schema.position(name).ok_or_else(|| Problem::unknown("field", name, schema.names()).at("/sort"))?;
    let field = &schema.fields[at];
    if !order::sortable(field.kind, field.stored_only) {
        let what = if field.stored_only { "stored only" } else { field.kind.name() };
        let detail = format!("records cannot be sorted by \"{name}\": it is {what}");
        return Err(Problem::new(Kind::WrongShape, detail).at("/sort"));
    }
    Ok((at, text.starts_with('-')))
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ShowQuery {
    #[serde(default)]
    vectors: bool,
}

pub(crate) fn unknown_record(live: &Live, key: &str) -> Problem {
    let near = live.table.load().nearest_key(key);
    Problem::unknown("record", key, near.as_deref())
}

/// Read one record
#[utoipa::path(get, path = "/api/collections/{collection}/records/{key}", tag = "records",
    params(("collection" = String, Path), ("key" = String, Path),
        ("vectors" = Option<bool>, Query, description = "with its vectors, as they were given")),
    responses((status = 200, body = RecordView), (status = 404, body = crate::problem::ProblemBody)))]
pub async fn show(
    State(hub): Hubbed,
    Path((name, key)): Path<(String, String)>,
    Query(query): Query<ShowQuery>,
) -> Result<(HeaderMap, Json<RecordView>)> {
    let live = hub.collection(&name)?;
    let record = hub.catalog.record(live.id, &key).await?.ok_or_else(|| unknown_record(&live, &key))?;
    let vectors = if query.vectors {
        let ids: Vec<i64> = live.columns().iter().map(|c| c.id).collect();
        let vectors = hub.catalog.vectors(&ids, record.number).await?;
        let named = live.columns().iter().zip(vectors).map(|(c, v)| (c.name.clone(), json!(v)));
        Some(Value::Object(named.collect()))
    } else {
        None
    };
    Ok((
        etag(record.revision),
        Json(RecordView { key: record.key, fields: record.body, revision: record.revision, vectors }),
    ))
}

/// A record's revision is its entity tag.
fn etag(revision: u64) -> HeaderMap {
    let value = HeaderValue::from_str(&format!("\"{revision}\"")).expect("digits");
    HeaderMap::from_iter([(header::ETAG, value)])
}

/// The revision in `If-Match`, when there is one.
fn if_match(headers: &HeaderMap) -> Result<Option<u64>> {
    let Some(value) = headers.get(header::IF_MATCH) else { return Ok(None) };
    let revision = value.to_str().ok().and_then(|v| v.trim().trim_matches('"').parse().ok());
    revision.map(Some).ok_or_else(|| {
        Problem::new(Kind::WrongShape, "If-Match takes the ETag of the record, such as \"17\"")
    })
}

#[derive(Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RecordPatch {
    /// Members are set; null takes a value away
    #[serde(default, deserialize_with = "zesty_files::json::object")]
    #[schema(value_type = Object)]
    pub fields: Map<String, Value>,
    /// By vector column; null takes a vector away
    #[serde(default, deserialize_with = "zesty_files::json::vectors")]
    pub vectors: BTreeMap<String, Option<Vec<f32>>>,
}

/// Change some fields of a record (JSON Merge Patch, RFC 7396)
///
/// Vectors stay, but for those that the patch brings, and those whose encoder would now read another text: they
/// are made anew. With `If-Match` the edit is refused when the record has changed since.
#[utoipa::path(patch, path = "/api/collections/{collection}/records/{key}", tag = "records",
    params(("collection" = String, Path), ("key" = String, Path)),
    request_body(content = RecordPatch, content_type = "application/merge-patch+json"),
    responses((status = 200, body = RecordView), (status = 404, body = crate::problem::ProblemBody),
        (status = 412, body = crate::problem::ProblemBody)))]
pub async fn patch(
    State(hub): Hubbed,
    Path((name, key)): Path<(String, String)>,
    headers: HeaderMap,
    Input(patch): Input<RecordPatch>,
) -> Result<(HeaderMap, Json<RecordView>)> {
    let expected = if_match(&headers)?;
    let (revision, body) = edits::patch_one(&hub, &name, &key, &patch, expected).await?;
    Ok((etag(revision), Json(RecordView { key, fields: body, revision, vectors: None })))
}

/// Change records by key or by filter (JSON Merge Patch, RFC 7396); a dry run counts first
///
/// In batches of 500, each all or none; what a wrong value or a broken connection stops can be repeated, and finds the
/// earlier batches unchanged. With a filter, a record that others change meanwhile is looked at again, and changed only
/// if the filter still allows it; `left_out` counts the others.
#[utoipa::path(post, path = "/api/collections/{collection}/patches", tag = "records",
    params(("collection" = String, Path)), request_body = PatchManyInput,
    responses((status = 200, body = PatchManyView), (status = 412, body = crate::problem::ProblemBody),
        (status = 422, body = crate::problem::ProblemBody)))]
pub async fn patch_many(
    State(hub): Hubbed,
    Path(name): Path<String>,
    Input(input): Input<PatchManyInput, MAX_LIST>,
) -> Result<Json<PatchManyView>> {
    edits::patch_many(&hub, &name, input).await.map(Json)
}

/// Delete records by key or by filter; a dry run counts first
///
/// With a filter, a record that others change meanwhile is looked at again, and deleted only if the filter still allows
/// it; `left_out` counts the others.
#[utoipa::path(post, path = "/api/collections/{collection}/deletions", tag = "records",
    params(("collection" = String, Path)), request_body = DeleteInput,
    responses((status = 200, body = DeleteView), (status = 412, body = crate::problem::ProblemBody),
        (status = 422, body = crate::problem::ProblemBody)))]
pub async fn delete_many(
    State(hub): Hubbed,
    Path(name): Path<String>,
    Input(input): Input<DeleteInput, MAX_LIST>,
) -> Result<Json<DeleteView>> {
    edits::delete_many(&hub, &name, input).await.map(Json)
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FieldsQuery {
    filter: Option<FilterInput>,
    limit: Option<usize>,
}

#[derive(Serialize, ToSchema)]
pub struct FieldView {
    pub name: String,
    /// string, integer, number, boolean, date, timestamp, array of strings, array of integers
    pub r#type: String,
    pub description: Option<String>,
    /// Kept in the database only: it can be tested with IS NULL and nothing else
    pub stored_only: bool,
    /// The collection whose records its values name
    pub refers_to: Option<String>,
    /// Records that name one that is not there
    pub n_lost_references: Option<usize>,
    /// Bytes in memory
    pub n_bytes: usize,
    /// Present, missing and distinct counts, the most frequent values, and a histogram
    #[serde(flatten)]
    #[schema(value_type = Object)]
    pub counts: FieldCounts,
}

#[derive(Serialize, ToSchema)]
pub struct FieldList {
    /// Records that were counted
    pub n_records: usize,
    pub fields: Vec<FieldView>,
}

/// Count the values of every field
#[utoipa::path(get, path = "/api/collections/{collection}/fields", tag = "records",
    params(("collection" = String, Path),
        ("filter" = Option<String>, Query, description = "count only what this CQL2 filter allows"),
        ("limit" = Option<usize>, Query, description = "values listed per field, 0 to 1000, 10 when absent")),
    responses((status = 200, body = FieldList), (status = 422, body = crate::problem::ProblemBody)))]
pub async fn fields(
    State(hub): Hubbed,
    Path(name): Path<String>,
    Query(query): Query<FieldsQuery>,
) -> Result<Json<FieldList>> {
    let live = hub.collection(&name)?;
    let limit = query.limit.unwrap_or(10);
    if limit > 1000 {
        let detail = format!("limit is {limit}; it goes from 0 to 1000");
        return Err(Problem::new(Kind::WrongShape, detail).at("/limit"));
    }
    blocking(move || {
        let table = live.table.load_full();
        let rows = allowed(&table, query.filter.as_ref())?;
        let fields = table.schema().fields.iter().enumerate().map(|(i, f)| FieldView {
            name: f.name.clone(),
            r#type: f.kind.name().into(),
            description: f.description.clone(),
            stored_only: f.stored_only,
            refers_to: f.refers_to.clone(),
            n_lost_references: crate::loads::lost_references(&hub, &live, i).map(|(n, _)| n),
            n_bytes: table.column(i).n_bytes(),
            counts: count(&table, i, &rows, limit),
        });
        Ok(Json(FieldList { n_records: rows.count_ones(..), fields: fields.collect() }))
    })
    .await
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ExportQuery {
    filter: Option<FilterInput>,
    #[serde(default)]
    vectors: bool,
    format: Option<String>,
    column: Option<String>,
}

/// Records that are read and written together in an export.
const EXPORT_STEP: usize = 500;

/// Export records, all or those that a filter allows
///
/// In the order they were written, from one snapshot of which records there are. `jsonlines` (when absent), `csv`,
/// `parquet` and `arrow` (an IPC stream) hold keys, fields and, with `vectors=true`, vectors: what a load takes. `npy`
/// and `safetensors` hold the vectors of one column, of the records that have one; `keys` the keys of the records,
/// in the same order, or with `column` of those that `npy` holds.
#[utoipa::path(get, path = "/api/collections/{collection}/export", tag = "records",
    params(("collection" = String, Path), ("filter" = Option<String>, Query, description = "CQL2, text or JSON"),
        ("format" = Option<String>, Query, description = "jsonlines, csv, parquet, arrow, npy, safetensors or keys"),
        ("vectors" = Option<bool>, Query, description = "with vectors, as they were given"),
        ("column" = Option<String>, Query, description = "only this vector column")),
    responses((status = 200, content_type = "application/jsonl", body = String),
        (status = 422, body = crate::problem::ProblemBody)))]
pub async fn export(
    State(hub): Hubbed,
    Path(name): Path<String>,
    Query(query): Query<ExportQuery>,
) -> Result<Response> {
    let live = hub.collection(&name)?;
    let table = live.table.load_full();
    let format = query.format.as_deref().unwrap_or("jsonlines");
    let layout = Layout::ALL.into_iter().find(|l| l.name() == format).ok_or_else(|| {
        let known = Layout::ALL.map(Layout::name).join(", ");
        Problem::new(Kind::WrongShape, format!("format is \"{format}\"; it is one of {known}")).at("/format")
    })?;
    let one = query.column.as_deref().map(|c| live.column(Some(c), "/column")).transpose()?;
    let columns: Vec<usize> = match one {
        Some(column) => vec![column],
        None if layout.is_vectors() => vec![live.column(None, "/column")?],
        None if query.vectors => (0..live.columns().len()).collect(),
        None => Vec::new(),
    };
    let with_vector = (layout.is_vectors() || (layout == Layout::Keys && one.is_some())).then(|| columns[0]);
    let (selecting, filter) = (table.clone(), query.filter);
    let (rows, keys) = blocking(move || {
        let mut rows = allowed(&selecting, filter.as_ref())?;
        if let Some(column) = with_vector {
            selecting.vectors()[column].vectors.present().keep_in(&mut rows);
        }
        let rows: Vec<u32> = rows.ones().map(|r| r as u32).collect();
        let keys: Vec<String> = match layout.is_vectors() {
            true => rows.iter().map(|r| selecting.key(*r).to_owned()).collect(),
            false => Vec::new(),
        };
        Ok((rows, keys))
    })
    .await?;
    let fields = table.schema().fields.iter().map(|f| (f.name.clone(), f.kind.name().to_owned()));
    let out_columns = columns.iter().map(|c| {
        let about = &live.columns()[*c];
        OutColumn {
            name: about.name.clone(),
            dimensions: about.dimensions as usize,
            encoder: about.encoder.clone(),
        }
    });
    let broken =
        |e: std::io::Error| Problem::new(Kind::Internal, format!("the export cannot be written: {e}"));
    let export = Export::new(layout, fields.collect(), out_columns.collect(), &keys).map_err(broken)?;
    let n_records = rows.len();
    let revision = table.revision();
    let portions: Vec<Vec<u64>> =
        rows.chunks(EXPORT_STEP).map(|rows| rows.iter().map(|r| table.number(*r)).collect()).collect();
    let stream = futures::stream::unfold(Some((export, portions.into_iter())), move |state| {
        let (hub, live, columns) = (hub.clone(), live.clone(), columns.clone());
        async move {
            let (mut export, mut portions) = state?;
            let records = match portions.next() {
                Some(numbers) => Some(export_portion(&hub, &live, &numbers, &columns).await),
                None => None,
            };
            // Compressing and laying out columns takes long enough to hold up other requests.
            let written = blocking(move || {
                let (written, ended) = match records {
                    Some(Ok(records)) => (export.write(&records), false),
                    Some(Err(p)) => (Err(std::io::Error::other(p.detail)), true),
                    None => return Ok((export.finish(), None)),
                };
                let ended = ended || written.is_err();
                Ok((written, (!ended).then_some((export, portions))))
            });
            Some(written.await.unwrap_or_else(|p| (Err(std::io::Error::other(p.detail)), None)))
        }
    });
    // Compression asks once more after the end.
    let stream = stream.fuse();
    let mut response = Body::from_stream(stream).into_response();
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(layout.media_type()));
    headers.insert("x-record-count", HeaderValue::from(n_records));
    headers.insert("x-revision", HeaderValue::from(revision));
    Ok(response)
}

async fn export_portion(
    hub: &Hub,
    live: &Live,
    numbers: &[u64],
    columns: &[usize],
) -> Result<Vec<OutRecord>> {
    let mut records = hub.catalog.records(live.id, numbers).await?;
    let order: HashMap<u64, usize> = numbers.iter().enumerate().map(|(i, n)| (*n, i)).collect();
    records.sort_by_key(|r| order.get(&r.number).copied());
    let mut by_column = Vec::new();
    for column in columns {
        by_column.push(hub.catalog.column_vectors(live.columns()[*column].id, numbers).await?);
    }
    let out = records.into_iter().map(|r| OutRecord {
        vectors: by_column.iter_mut().map(|vectors| vectors.remove(&r.number)).collect(),
        key: r.key,
        fields: match r.body {
            Value::Object(fields) => fields,
            _ => Map::new(),
        },
    });
    Ok(out.collect())
}

/// Delete one record; with `If-Match` only when it has not changed since
#[utoipa::path(delete, path = "/api/collections/{collection}/records/{key}", tag = "records",
    params(("collection" = String, Path), ("key" = String, Path)),
    responses((status = 204), (status = 404, body = crate::problem::ProblemBody),
        (status = 412, body = crate::problem::ProblemBody)))]
pub async fn delete(
    State(hub): Hubbed,
    Path((name, key)): Path<(String, String)>,
    headers: HeaderMap,
) -> Result<StatusCode> {
    let live = hub.collection(&name)?;
    let one = KeyAt { key: key.clone(), expected: if_match(&headers)? };
    let written = live.delete(&hub, vec![one], Conflicts::Refuse).await?;
    if written.numbers.iter().flatten().count() == 0 {
        return Err(unknown_record(&live, &key));
    }
    Ok(StatusCode::NO_CONTENT)
}
