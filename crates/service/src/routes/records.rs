//! Records: written in batches or streamed as JSON Lines, read, browsed, deleted.

use super::*;
use crate::edge::{MAX_BODY, parse, too_large};
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
use std::collections::{BTreeMap, BTreeSet, HashMap};
use zesty_catalog::{RecordWrite, StoredRecord, vector_column};
use zesty_engine::Table;
use zesty_engine::counts::{FieldCounts, count};
use zesty_engine::order::{self, SortValue};
use zesty_engine::schema::pointer_step;
use zesty_files::{Export, Layout, OutColumn, OutRecord};

/// Records in one JSON batch.
pub const MAX_BATCH: usize = 10_000;
/// Lines of a JSON Lines stream that are committed together.
const STREAM_BATCH: usize = 500;
/// Bytes of a record's key.
pub const MAX_KEY: usize = 190;

#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RecordInput {
    /// The caller's own name for the record: 1 to 190 bytes
    pub key: String,
    #[serde(default)]
    #[schema(value_type = Object)]
    pub fields: Map<String, Value>,
    /// By vector column. A column with an encoder and a template makes what is missing here
    #[serde(default)]
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
type Place<'a> = &'a (dyn Fn(usize) -> (String, String) + Sync);

/// Checks every record, asks the encoders for missing vectors.
async fn checked(
    hub: &Hub,
    live: &Live,
    records: Vec<RecordInput>,
    place: Place<'_>,
) -> Result<Vec<RecordWrite>> {
    let mut writes = checked_shape(live, records, place)?;
    encode_missing(hub, live, &mut writes, place).await?;
    Ok(writes)
}

/// Keys, fields and given vectors of a batch; the first problem refuses it.
fn checked_shape(live: &Live, records: Vec<RecordInput>, place: Place<'_>) -> Result<Vec<RecordWrite>> {
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
    if record.key.is_empty() || record.key.len() > MAX_KEY || record.key.chars().any(char::is_control) {
        let what = match record.key.len() {
            0 => "the key is empty".to_owned(),
            n if n > MAX_KEY => format!("the key has {n} bytes"),
            _ => "the key holds a control character".to_owned(),
        };
        let detail = format!("{words}{what}; a key is 1 to {MAX_KEY} bytes of text");
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
    let mut vectors = vec![None; live.columns().len()];
    for (name, vector) in record.vectors {
        let pointer = format!("{at}/vectors{}", pointer_step(&name));
        let column = live.column(Some(&name), &pointer)?;
        if let Some(vector) = vector {
            let dimensions = live.columns()[column].dimensions as usize;
            live.metrics[column]
                .prepare(&vector, dimensions)
                .map_err(|e| Problem::vector(&e, &format!("{subject}, column \"{name}\":"), pointer))?;
            vectors[column] = Some(vector);
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

/// The records that bring no vector in a column and have a text for its encoder: their places, and the texts.
pub(crate) fn texts_to_encode(
    writes: &[RecordWrite],
    column: usize,
    template: &str,
) -> (Vec<usize>, Vec<String>) {
    let lacking = writes.iter().enumerate().filter(|(_, w)| w.vectors[column].is_none());
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
async fn encode_missing(hub: &Hub, live: &Live, writes: &mut [RecordWrite], place: Place<'_>) -> Result<()> {
    for (c, column) in live.columns().iter().enumerate() {
        let (Some(name), Some(template)) = (&column.encoder, &column.template) else { continue };
        let (rows, texts) = texts_to_encode(writes, c, template);
        if texts.is_empty() {
            continue;
        }
        let encoder = hub.catalog.encoder(name).await?;
        let encoder = encoder.ok_or_else(|| Problem::unknown("encoder", name, []))?;
        let encoded = hub.encoders.encode(&encoder, &texts, column.dimensions).await?;
        for (i, vector) in rows.into_iter().zip(encoded) {
            let (at, words) = place(i);
            live.metrics[c].prepare(&vector, column.dimensions as usize).map_err(|e| {
                let subject = format!("{words}record \"{}\": what encoder \"{name}\" made", writes[i].key);
                Problem::vector(&e, &subject, at)
            })?;
            writes[i].vectors[c] = Some(vector);
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
            let bytes =
                axum::body::to_bytes(request.into_body(), MAX_BODY).await.map_err(|_| too_large(MAX_BODY))?;
            let batch: RecordBatch = parse(&bytes, "")?;
            if batch.records.len() > MAX_BATCH {
                let n = batch.records.len();
                let detail = format!(
                    "{n} records in one batch; the limit is {MAX_BATCH}; send several, or JSON Lines"
                );
                return Err(Problem::new(Kind::TooLarge, detail).at("/records").with("limit", MAX_BATCH));
            }
            if let Some(said) = &batch.encoder {
                (0..live.columns().len()).try_for_each(|c| live.check_encoder(c, said, "/encoder"))?;
            }
            let place = |i: usize| (format!("/records/{i}"), String::new());
            let one = |i: usize| parse::<RecordInput>(batch.records[i].get().as_bytes(), &place(i).0);
            let all = 0..batch.records.len();
            if !batch.set_aside {
                let records = all.map(one).collect::<Result<_>>()?;
                return Ok(Json(commit(&hub, &live, records, &place).await?));
            }
            let table = live.table.load_full();
            let mut seen = HashMap::new();
            let (mut writes, mut rejected) = (Vec::new(), Vec::new());
            for i in all {
                match one(i).and_then(|r| checked_record(&live, &table, r, i, &mut seen, &place)) {
                    Ok(write) => writes.push(write),
                    Err(p) => rejected.push(Rejected { at: i, word: p.kind.word().into(), detail: p.detail }),
                }
            }
            encode_missing(&hub, &live, &mut writes, &place).await?;
            let view = write_checked(&hub, &live, writes).await?;
            Ok(Json(WriteView { read: batch.records.len(), rejected, ..view }))
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

async fn commit(
    hub: &Arc<Hub>,
    live: &Arc<Live>,
    records: Vec<RecordInput>,
    place: Place<'_>,
) -> Result<WriteView> {
    let writes = checked(hub, live, records, place).await?;
    write_checked(hub, live, writes).await
}

async fn write_checked(hub: &Arc<Hub>, live: &Arc<Live>, writes: Vec<RecordWrite>) -> Result<WriteView> {
    let read = writes.len();
    if writes.is_empty() {
        return Ok(WriteView { revision: live.table.load().revision(), ..WriteView::default() });
    }
    let written = live.write(hub, Arc::new(writes), None).await?;
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

async fn stream_into(hub: &Arc<Hub>, live: &Arc<Live>, body: Body, done: &mut WriteView) -> Result<()> {
    let mut chunks = body.into_data_stream();
    let mut rest = BytesMut::new();
    let mut batch: Vec<(usize, RecordInput)> = Vec::with_capacity(STREAM_BATCH);
    let mut line_number = 0;
    let mut ended = false;
    while !ended {
        match chunks.next().await {
            Some(Ok(chunk)) => rest.extend_from_slice(&chunk),
            Some(Err(e)) => {
                return Err(Problem::new(
                    Kind::MalformedJson,
                    format!("the stream broke off after line {line_number}: {e}"),
                ));
            }
            None => ended = true,
        }
        let mut lines: Vec<Bytes> = Vec::new();
        while let Some(end) = rest.iter().position(|b| *b == b'\n') {
            lines.push(rest.split_to(end + 1).freeze());
        }
        if ended {
            lines.push(rest.split().freeze());
        } else if rest.len() > MAX_BODY {
            return Err(Problem {
                detail: format!("line {} is longer than {} MiB", line_number + 1, MAX_BODY >> 20),
                ..too_large(MAX_BODY)
            });
        }
        for line in lines {
            line_number += 1;
            if line.iter().all(u8::is_ascii_whitespace) {
                continue;
            }
            let record: RecordInput = parse(&line, "").map_err(|p| {
                Problem { detail: format!("line {line_number}: {}", p.detail), ..p }.with("line", line_number)
            })?;
            // Of one key twice in a stream the later line wins, also when both would fall in one batch.
            if batch.iter().any(|(_, r)| r.key == record.key) {
                commit_lines(hub, live, &mut batch, done).await?;
            }
            batch.push((line_number, record));
            if batch.len() == STREAM_BATCH {
                commit_lines(hub, live, &mut batch, done).await?;
            }
        }
    }
    commit_lines(hub, live, &mut batch, done).await
}

async fn commit_lines(
    hub: &Arc<Hub>,
    live: &Arc<Live>,
    batch: &mut Vec<(usize, RecordInput)>,
    done: &mut WriteView,
) -> Result<()> {
    let (lines, records): (Vec<usize>, Vec<RecordInput>) = batch.drain(..).unzip();
    let place = |i: usize| (String::new(), format!("line {}, ", lines[i]));
    let view = commit(hub, live, records, &place).await?;
    done.read += view.read;
    done.new += view.new;
    done.replaced += view.replaced;
    done.unchanged += view.unchanged;
    done.revision = view.revision;
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
    Ok(read.map_or_else(|| table.alive().clone(), |(_, test)| test.run(table)))
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

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RecordPatch {
    /// Members are set; null takes a value away
    #[serde(default)]
    #[schema(value_type = Object)]
    pub fields: Map<String, Value>,
    /// By vector column; null takes a vector away
    #[serde(default)]
    pub vectors: BTreeMap<String, Option<Vec<f32>>>,
}

/// JSON Merge Patch (RFC 7396): objects are merged, null takes away, anything else replaces.
pub(crate) fn merge(fields: &mut Map<String, Value>, patch: &Map<String, Value>) {
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
    let live = hub.collection(&name)?;
    let expected = if_match(&headers)?;
    loop {
        let now = hub.catalog.record(live.id, &key).await?.ok_or_else(|| unknown_record(&live, &key))?;
        let revision = now.revision;
        let mut writes = patched(&hub, &live, vec![now], &patch).await?;
        writes[0].expected = Some(expected.unwrap_or(revision));
        let body = writes[0].body.clone();
        match live.write(&hub, Arc::new(writes), None).await {
            // Somebody was faster, and the caller does not insist on what they saw: once more.
            Err(p) if p.kind == Kind::Conflict && expected.is_none() => continue,
            Err(p) => return Err(p),
            Ok(written) => {
                let revision = if written.n_unchanged == 1 { revision } else { written.revision };
                return Ok((etag(revision), Json(RecordView { key, fields: body, revision, vectors: None })));
            }
        }
    }
}

/// Stored records with a patch merged in. Vectors stay, but for those that the patch brings, and those whose
/// encoder would read another text.
async fn patched(
    hub: &Hub,
    live: &Live,
    stored: Vec<StoredRecord>,
    patch: &RecordPatch,
) -> Result<Vec<RecordWrite>> {
    let numbers: Vec<u64> = stored.iter().map(|r| r.number).collect();
    let (mut inputs, mut old) = (Vec::new(), Vec::new());
    for record in &stored {
        let Value::Object(body) = record.body.clone() else {
            return Err(Problem::new(Kind::Internal, "the stored record is no object"));
        };
        let mut fields = body.clone();
        merge(&mut fields, &patch.fields);
        inputs.push(RecordInput { key: record.key.clone(), fields, vectors: patch.vectors.clone() });
        old.push(body);
    }
    let place = |_: usize| (String::new(), String::new());
    let mut writes = checked_shape(live, inputs, &place)?;
    for (c, column) in live.columns().iter().enumerate() {
        if patch.vectors.contains_key(&column.name) {
            continue;
        }
        let mut vectors = hub.catalog.column_vectors(column.id, &numbers).await?;
        for ((write, old), number) in writes.iter_mut().zip(&old).zip(&numbers) {
            if write.body.as_object().is_some_and(|new| vector_stays(column, old, new)) {
                write.vectors[c] = vectors.remove(number);
            }
        }
    }
    encode_missing(hub, live, &mut writes, &place).await?;
    for (write, stored) in writes.iter_mut().zip(&stored) {
        write.expected = Some(stored.revision);
    }
    Ok(writes)
}

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

#[derive(Serialize, ToSchema)]
pub struct PatchManyView {
    /// Records that were named or allowed, and exist
    pub matched: usize,
    pub changed: usize,
    /// Already as the patch would make them
    pub unchanged: usize,
    pub revision: u64,
}

/// Change records by key or by filter (JSON Merge Patch, RFC 7396); a dry run counts first
///
/// In batches of 500, each all or none; what a wrong value or a broken connection stops can be repeated, and finds the
/// earlier batches unchanged.
#[utoipa::path(post, path = "/api/collections/{collection}/patches", tag = "records",
    params(("collection" = String, Path)), request_body = PatchManyInput,
    responses((status = 200, body = PatchManyView), (status = 412, body = crate::problem::ProblemBody),
        (status = 422, body = crate::problem::ProblemBody)))]
pub async fn patch_many(
    State(hub): Hubbed,
    Path(name): Path<String>,
    Input(input): Input<PatchManyInput>,
) -> Result<Json<PatchManyView>> {
    let live = hub.collection(&name)?;
    let table = live.table.load_full();
    let keys = chosen(&table, input.keys, input.filter, "change")?;
    let matched = keys.len();
    expect(input.expected, matched, "changed")?;
    let mut view = PatchManyView { matched, changed: 0, unchanged: 0, revision: table.revision() };
    if input.dry_run {
        return Ok(Json(view));
    }
    for keys in keys.chunks(500) {
        let numbers: Vec<u64> = keys.iter().filter_map(|k| Some(table.number(table.row(k)?))).collect();
        loop {
            let stored = hub.catalog.records(live.id, &numbers).await?;
            let writes = patched(&hub, &live, stored, &input.patch).await?;
            if writes.is_empty() {
                break;
            }
            match live.write(&hub, Arc::new(writes), None).await {
                // One of them was changed meanwhile: read them again.
                Err(p) if p.kind == Kind::Conflict => {}
                Err(p) => return Err(p),
                Ok(written) => {
                    view.changed += written.n_replaced;
                    view.unchanged += written.n_unchanged;
                    view.revision = written.revision;
                    break;
                }
            }
        }
    }
    Ok(Json(view))
}

/// The keys that a request over many records means.
fn chosen(
    table: &Table,
    keys: Option<Vec<String>>,
    filter: Option<FilterInput>,
    what: &str,
) -> Result<Vec<String>> {
    match (keys, filter) {
        (Some(keys), None) => {
            let known: BTreeSet<String> = keys.into_iter().filter(|k| table.row(k).is_some()).collect();
            Ok(known.into_iter().collect())
        }
        (None, Some(filter)) => {
            if filter.read()?.is_none() {
                let detail = format!("the filter is empty; to {what} every record write TRUE");
                return Err(Problem::new(Kind::InvalidFilter, detail).at("/filter"));
            }
            Ok(allowed(table, Some(&filter))?.ones().map(|r| table.key(r as u32).to_owned()).collect())
        }
        _ => Err(Problem::new(Kind::WrongShape, "give one of keys or filter")),
    }
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

#[derive(Serialize, ToSchema)]
pub struct DeleteView {
    /// Records that were named or allowed, and exist
    pub matched: usize,
    pub deleted: usize,
    pub revision: u64,
}

/// Delete records by key or by filter; a dry run counts first
#[utoipa::path(post, path = "/api/collections/{collection}/deletions", tag = "records",
    params(("collection" = String, Path)), request_body = DeleteInput,
    responses((status = 200, body = DeleteView), (status = 412, body = crate::problem::ProblemBody),
        (status = 422, body = crate::problem::ProblemBody)))]
pub async fn delete_many(
    State(hub): Hubbed,
    Path(name): Path<String>,
    Input(input): Input<DeleteInput>,
) -> Result<Json<DeleteView>> {
    let live = hub.collection(&name)?;
    let table = live.table.load_full();
    let keys = chosen(&table, input.keys, input.filter, "delete")?;
    let matched = keys.len();
    expect(input.expected, matched, "deleted")?;
    let mut view = DeleteView { matched, deleted: 0, revision: table.revision() };
    if !input.dry_run {
        for keys in keys.chunks(MAX_BATCH) {
            let (deleted, revision) = live.delete(&hub, keys.to_vec()).await?;
            view.deleted += deleted;
            view.revision = revision;
        }
    }
    Ok(Json(view))
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
    let mut rows = allowed(&table, query.filter.as_ref())?;
    let one = query.column.as_deref().map(|c| live.column(Some(c), "/column")).transpose()?;
    let columns: Vec<usize> = match one {
        Some(column) => vec![column],
        None if layout.is_vectors() => vec![live.default_column()],
        None if query.vectors => (0..live.columns().len()).collect(),
        None => Vec::new(),
    };
    if layout.is_vectors() || (layout == Layout::Keys && one.is_some()) {
        rows.intersect_with(table.vectors()[columns[0]].vectors.present());
    }
    let rows: Vec<u32> = rows.ones().map(|r| r as u32).collect();
    let keys: Vec<String> = match layout.is_vectors() {
        true => rows.iter().map(|r| table.key(*r).to_owned()).collect(),
        false => Vec::new(),
    };
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
            let Some(numbers) = portions.next() else { return Some((export.finish(), None)) };
            let written = match export_portion(&hub, &live, &numbers, &columns).await {
                Ok(records) => export.write(&records),
                Err(p) => Err(std::io::Error::other(p.detail)),
            };
            let failed = written.is_err();
            Some((written, (!failed).then_some((export, portions))))
        }
    });
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

/// Delete one record
#[utoipa::path(delete, path = "/api/collections/{collection}/records/{key}", tag = "records",
    params(("collection" = String, Path), ("key" = String, Path)),
    responses((status = 204), (status = 404, body = crate::problem::ProblemBody)))]
pub async fn delete(State(hub): Hubbed, Path((name, key)): Path<(String, String)>) -> Result<StatusCode> {
    let live = hub.collection(&name)?;
    let (gone, _) = live.delete(&hub, vec![key.clone()]).await?;
    if gone == 0 {
        return Err(unknown_record(&live, &key));
    }
    Ok(StatusCode::NO_CONTENT)
}
