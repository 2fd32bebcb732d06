//! Records: written in batches or streamed as JSON Lines, read, browsed, deleted.

use super::*;
use crate::edge::{MAX_BODY, parse, too_large};
use crate::encoders::fill;
use crate::live::Live;
use axum::body::Body;
use axum::extract::{Query, Request};
use axum::http::header;
use bytes::{Bytes, BytesMut};
use futures::StreamExt;
use serde_json::{Map, Value, json};
use std::collections::{BTreeMap, HashMap};
use zesty_catalog::RecordWrite;
use zesty_engine::schema::pointer_step;

/// Records in one JSON batch.
pub const MAX_BATCH: usize = 10_000;
/// Lines of a JSON Lines stream that are committed together.
const STREAM_BATCH: usize = 500;
/// Bytes of a record's key.
pub const MAX_KEY: usize = 190;

#[derive(Deserialize, ToSchema)]
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
    /// Up to 10,000; all are written or none
    pub records: Vec<RecordInput>,
}

/// What a write did; it is committed and searchable
#[derive(Clone, Copy, Debug, Default, Serialize, ToSchema)]
pub struct WriteView {
    pub read: usize,
    pub new: usize,
    pub replaced: usize,
    pub revision: u64,
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
    let table = live.table.load_full();
    let mut seen: HashMap<String, usize> = HashMap::with_capacity(records.len());
    let mut writes: Vec<RecordWrite> = Vec::with_capacity(records.len());
    for (i, record) in records.into_iter().enumerate() {
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
        if let Some(first) = seen.insert(record.key.clone(), i) {
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
        writes.push(RecordWrite { key: record.key, body: Value::Object(record.fields), vectors });
    }
    for (c, column) in live.columns().iter().enumerate() {
        let (Some(name), Some(template)) = (&column.encoder, &column.template) else { continue };
        let (mut rows, mut texts) = (Vec::new(), Vec::new());
        for (i, write) in writes.iter().enumerate().filter(|(_, w)| w.vectors[c].is_none()) {
            if let Some(text) = write.body.as_object().and_then(|body| fill(template, body)) {
                rows.push(i);
                texts.push(text);
            }
        }
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
    Ok(writes)
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
            Ok(Json(commit(&hub, &live, batch.records, &|i| (format!("/records/{i}"), String::new())).await?))
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
    let read = records.len();
    let writes = checked(hub, live, records, place).await?;
    if writes.is_empty() {
        return Ok(WriteView { revision: live.table.load().revision(), ..WriteView::default() });
    }
    let written = live.write(hub, writes).await?;
    Ok(WriteView { read, new: written.n_new, replaced: written.n_replaced, revision: written.revision })
}

async fn stream(hub: &Arc<Hub>, live: &Arc<Live>, body: Body) -> Result<WriteView> {
    let mut done = WriteView { revision: live.table.load().revision(), ..WriteView::default() };
    let outcome = stream_into(hub, live, body, &mut done).await;
    outcome.map_err(|problem| {
        let detail = format!("{}; {} records before it are committed", problem.detail, done.read);
        Problem { detail, ..problem }.with("committed", done)
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
            let record = parse(&line, "").map_err(|p| {
                Problem { detail: format!("line {line_number}: {}", p.detail), ..p }.with("line", line_number)
            })?;
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
    done.revision = view.revision;
    Ok(())
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PageQuery {
    after: Option<String>,
    limit: Option<u64>,
}

/// Browse records in order of their keys
#[utoipa::path(get, path = "/api/collections/{collection}/records", tag = "records",
    params(("collection" = String, Path), ("after" = Option<String>, Query, description = "the `next` of the page before"),
        ("limit" = Option<u64>, Query, description = "1 to 1000, 50 when absent")),
    responses((status = 200, body = RecordPage)))]
pub async fn page(
    State(hub): Hubbed,
    Path(name): Path<String>,
    Query(query): Query<PageQuery>,
) -> Result<Json<RecordPage>> {
    let live = hub.collection(&name)?;
    let limit = query.limit.unwrap_or(50);
    if !(1..=1000).contains(&limit) {
        return Err(
            Problem::new(Kind::WrongShape, format!("limit is {limit}; it goes from 1 to 1000")).at("/limit")
        );
    }
    let mut found = hub.catalog.page(live.id, query.after.as_deref(), limit + 1).await?;
    let more = found.len() as u64 > limit;
    found.truncate(limit as usize);
    let next = if more { found.last().map(|r| r.key.clone()) } else { None };
    let records = found
        .into_iter()
        .map(|r| RecordView { key: r.key, fields: r.body, revision: r.revision, vectors: None })
        .collect();
    Ok(Json(RecordPage { records, next }))
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
) -> Result<Json<RecordView>> {
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
    Ok(Json(RecordView { key: record.key, fields: record.body, revision: record.revision, vectors }))
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
