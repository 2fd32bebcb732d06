//! What a search over HTTP takes above the engine: one connection, eight, and many searches in a request; with all fields
//! and with none; its vector as a list of numbers, and in base64. The engine's own pace is measured in the same process,
//! in turns with HTTP. So is a socket with nothing but the search behind it, which is the least that a service takes; and a
//! route with nothing but the search behind it, which is the least of a service that speaks HTTP by the same packages.
//!
//! `cargo run --release -p zesty-service --example answering -- --records 50000`

// Requests are deep trees of futures.
#![recursion_limit = "256"]

use clap::Parser;
use rand::{Rng, SeedableRng};
use serde_json::{Map, Value, json};
use std::cell::Cell;
use std::error::Error;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use tokio::runtime::{Builder, Runtime};
use zesty_engine::index::{Description, Index, Progress, Settings};
use zesty_engine::rows::{Change, Writer};
use zesty_engine::search::{Attached, Request, run, source_of};
use zesty_engine::until::Until;
use zesty_engine::{Metric, Schema, Table};
use zesty_service::{Config, LaneSizes};
use zesty_testing::connection::Connection;
use zesty_testing::{Running, changed, in_base64};

#[derive(Parser)]
struct Arguments {
    #[arg(long, default_value_t = 50_000)]
    records: usize,
    #[arg(long, default_value_t = 384)]
    dimensions: usize,
    #[arg(long, default_value = "graph | int8 | rescore(f32)")]
    recipe: String,
    #[arg(long, default_value_t = 5)]
    rounds: usize,
    /// Microseconds for which the service keeps cores awake after a request
    #[arg(long, default_value_t = 0)]
    awake_us: u64,
    /// Of a turn
    #[arg(long, default_value_t = 2.0)]
    seconds: f64,
}

// As the service has it.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

type Result<T> = std::result::Result<T, Box<dyn Error + Send + Sync>>;

const CONNECTIONS: usize = 8;
const MANY: usize = 100;

/// Vectors in clusters, as encoders give them.
fn vectors(n: usize, d: usize, seed: u64) -> Vec<Vec<f32>> {
    let mut centers = rand::rngs::StdRng::seed_from_u64(1);
    let centers: Vec<Vec<f32>> =
        (0..200).map(|_| (0..d).map(|_| centers.random_range(-1.0f32..1.0)).collect()).collect();
    let mut random = rand::rngs::StdRng::seed_from_u64(seed);
    (0..n)
        .map(|_| {
            let center = &centers[random.random_range(0..centers.len())];
            center.iter().map(|c| c + random.random_range(-1.0f32..1.0)).collect()
        })
        .collect()
}

fn body(i: usize) -> Map<String, Value> {
    let body = json!({"station": format!("Station {}", i % 36), "year": 1911 + i % 57, "severity": i % 5 + 1,
        "visibility": (i % 200) as f64 / 10.0, "note": format!("lamp trimmed and lens wiped, watch {i} kept until dawn")});
    body.as_object().cloned().unwrap_or_default()
}

fn properties() -> Value {
    json!({"properties": {"station": {"type": "string"}, "year": {"type": "integer"}, "severity": {"type": "integer"},
        "visibility": {"type": "number"}, "note": {"type": "string", "storedOnly": true}}})
}

/// The same collection in the engine alone.
fn engine(a: &Arguments, all: &[Vec<f32>]) -> Result<(Table, Attached)> {
    let schema = Schema::from_json(&properties()).map_err(|e| e.message)?;
    let mut writer = Writer::new(schema, [("v".to_owned(), Metric::Cosine, a.dimensions)]);
    let changes: Vec<Change> = all
        .iter()
        .enumerate()
        .map(|(i, v)| Change {
            number: i as u64,
            key: format!("record-{i}"),
            revision: 1,
            body: Some(body(i)),
            vectors: vec![Some(v.clone()).into()],
        })
        .collect();
    writer.apply(1, &changes);
    let table = writer.snapshot();
    let description = Description {
        recipe: String::new(),
        metric: Metric::Cosine,
        dimensions: a.dimensions,
        revision: 1,
        seed: 1,
        owner: String::new(),
        rows_at_build: 0,
    };
    let source = source_of(&table, 0, description);
    let index = Index::build(source, a.recipe.parse()?, 2, &Progress::default())?;
    let attached = Attached::new(index, &table, 0)?;
    Ok((table, attached))
}

fn search(table: &Table, attached: &Attached, query: &[f32]) -> usize {
    let request = Request {
        column: 0,
        query,
        k: 10,
        filter: None,
        excluded: &[],
        index: Some((attached, Settings::default())),
        only: None,
        until: Until::NONE,
    };
    run(table, request).nearest.len()
}

/// Sends a request whose answer has to be 200; returns the bytes of the answer.
async fn ask(connection: &mut Connection, request: &[u8]) -> Result<usize> {
    match connection.ask(request).await? {
        answered if answered.status == 200 => Ok(answered.n_bytes),
        answered => Err(format!("the service answered {}", answered.status).into()),
    }
}

fn request(r: &Running, path: &str, body: &Value) -> Vec<u8> {
    let body = body.to_string();
    let head = format!(
        "POST /api/collections/c/{path} HTTP/1.1\r\nhost: z\r\nauthorization: Bearer {}\r\n\
         content-type: application/json\r\ncontent-length: {}\r\n\r\n",
        r.key,
        body.len()
    );
    [head.as_bytes(), body.as_bytes()].concat()
}

fn middle(mut all: Vec<f64>) -> f64 {
    all.sort_by(f64::total_cmp);
    all.get(all.len() / 2).copied().unwrap_or(f64::NAN)
}

/// The middle of what one request takes on one connection, in microseconds.
async fn latency(url: &str, requests: &[Vec<u8>], seconds: f64) -> Result<f64> {
    let mut connection = Connection::open(url).await?;
    let (start, mut all) = (Instant::now(), Vec::new());
    for request in requests.iter().cycle() {
        let begin = Instant::now();
        ask(&mut connection, request).await?;
        all.push(begin.elapsed().as_secs_f64() * 1e6);
        if start.elapsed().as_secs_f64() > seconds {
            break;
        }
    }
    Ok(middle(all))
}

/// Requests a second on several connections.
async fn throughput(r: &Running, requests: &[Vec<u8>], seconds: f64) -> Result<f64> {
    let (start, done) = (Instant::now(), Cell::new(0));
    let one = async |first: usize| {
        let mut connection = Connection::open(&r.url).await?;
        let mut at = first * 37;
        while start.elapsed().as_secs_f64() < seconds {
            ask(&mut connection, &requests[at % requests.len()]).await?;
            done.set(done.get() + 1);
            at += 1;
        }
        Ok::<(), Box<dyn Error + Send + Sync>>(())
    };
    futures::future::try_join_all((0..CONNECTIONS).map(one)).await?;
    Ok(f64::from(done.get()) / start.elapsed().as_secs_f64())
}

/// The engine alone: the middle of one search in microseconds on one thread, and searches a second on two.
fn engine_pace(table: &Table, attached: &Attached, queries: &[Vec<f32>], seconds: f64) -> (f64, f64) {
    let (start, mut all) = (Instant::now(), Vec::new());
    for query in queries.iter().cycle() {
        let begin = Instant::now();
        search(table, attached, query);
        all.push(begin.elapsed().as_secs_f64() * 1e6);
        if start.elapsed().as_secs_f64() > seconds {
            break;
        }
    }
    let (start, done) = (Instant::now(), AtomicUsize::new(0));
    std::thread::scope(|scope| {
        for first in 0..2 {
            let done = &done;
            scope.spawn(move || {
                let mut at = first * 37;
                while start.elapsed().as_secs_f64() < seconds {
                    search(table, attached, &queries[at % queries.len()]);
                    done.fetch_add(1, Ordering::Relaxed);
                    at += 1;
                }
            });
        }
    });
    (middle(all), done.load(Ordering::Relaxed) as f64 / start.elapsed().as_secs_f64())
}

/// The least that any service takes: a thread that reads a query from a socket, searches, and writes ten numbers. The
/// middle of one such search in microseconds, as its caller sees it.
fn least(table: &Table, attached: &Attached, queries: &[Vec<f32>], seconds: f64) -> Result<f64> {
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let mut stream = TcpStream::connect(listener.local_addr()?)?;
    stream.set_nodelay(true)?;
    let n_bytes = queries.first().map_or(0, |q| q.len() * size_of::<f32>());
    std::thread::scope(|scope| {
        scope.spawn(move || -> Result<()> {
            let (mut stream, _) = listener.accept()?;
            stream.set_nodelay(true)?;
            let (mut bytes, mut query) = (vec![0; n_bytes], Vec::new());
            while stream.read_exact(&mut bytes).is_ok() {
                query.clear();
                query.extend(bytes.chunks_exact(4).map(|b| f32::from_le_bytes([b[0], b[1], b[2], b[3]])));
                stream.write_all(&[search(table, attached, &query) as u8; 80])?;
            }
            Ok(())
        });
        let (start, mut all) = (Instant::now(), Vec::new());
        let mut answer = [0; 80];
        for query in queries.iter().cycle() {
            let bytes: Vec<u8> = query.iter().flat_map(|x| x.to_le_bytes()).collect();
            let begin = Instant::now();
            stream.write_all(&bytes)?;
            stream.read_exact(&mut answer)?;
            all.push(begin.elapsed().as_secs_f64() * 1e6);
            if start.elapsed().as_secs_f64() > seconds {
                break;
            }
        }
        drop(stream);
        Ok(middle(all))
    })
}

/// The least that a service takes which speaks HTTP as this one does: a route with nothing but the search behind it.
async fn plain(
    serving: &Runtime,
    engine: &Arc<(Table, Attached)>,
    queries: &[Vec<f32>],
    seconds: f64,
) -> Result<f64> {
    let listener = serving.spawn(tokio::net::TcpListener::bind("127.0.0.1:0")).await??;
    let url = format!("http://{}", listener.local_addr()?);
    let engine = engine.clone();
    let answer = async move |bytes: axum::body::Bytes| {
        let query: Vec<f32> = bytemuck::pod_collect_to_vec(&bytes);
        vec![search(&engine.0, &engine.1, &query) as u8; 80]
    };
    let routes = axum::Router::new().route("/", axum::routing::post(answer));
    let served = serving.spawn(async move { axum::serve(listener, routes).await });
    let requests: Vec<Vec<u8>> = queries
        .iter()
        .map(|query| {
            let bytes = bytemuck::cast_slice::<f32, u8>(query);
            let head = format!("POST / HTTP/1.1\r\nhost: z\r\ncontent-length: {}\r\n\r\n", bytes.len());
            [head.as_bytes(), bytes].concat()
        })
        .collect();
    let took = latency(&url, &requests, seconds).await;
    served.abort();
    took
}

fn main() -> Result<()> {
    // The service as its program starts it, but in this process: on threads of its own.
    let cores = std::thread::available_parallelism()?.get();
    let serving = Builder::new_multi_thread().worker_threads(cores.max(2)).enable_all().build()?;
    let a = Arguments::parse();
    let lanes = LaneSizes { awake: Duration::from_micros(a.awake_us), ..LaneSizes::of_cores(cores) };
    let r = serving.block_on(changed(|config| Config { lanes, ..config }));
    let client = Builder::new_current_thread().enable_all().build()?;
    client.block_on(measure(a, &serving, &r))
}

async fn measure(a: Arguments, serving: &Runtime, r: &Running) -> Result<()> {
    let all = vectors(a.records, a.dimensions, 2);
    let asked = vectors(500, a.dimensions, 3);
    let engine = Arc::new(engine(&a, &all)?);
    let (table, attached) = (&engine.0, &engine.1);
    let prepared: Vec<Vec<f32>> =
        asked.iter().filter_map(|v| Metric::Cosine.prepare(v, a.dimensions).ok()).collect();
    let problem = |e: zesty_client::Error| -> Box<dyn Error + Send + Sync> { e.to_string().into() };
    let new =
        json!({"name": "c", "fields": properties(), "columns": [{"name": "v", "dimensions": a.dimensions}]});
    r.client.create_collection(&new).await.map_err(problem)?;
    for (from, some) in all.chunks(1000).enumerate() {
        let records = some.iter().enumerate().map(|(i, v)| {
            let i = from * 1000 + i;
            json!({"key": format!("record-{i}"), "fields": body(i), "vectors": {"v": v}})
        });
        r.client.write("c", &records.collect::<Vec<_>>()).await.map_err(problem)?;
    }
    r.build("c", "i", &a.recipe).await;
    let vector = |v: &Vec<f32>, is_text: bool| match is_text {
        true => json!(in_base64(v)),
        false => json!(v),
    };
    let query = |v, is_text, fields: bool| match fields {
        true => json!({"vector": vector(v, is_text), "k": 10}),
        false => json!({"vector": vector(v, is_text), "k": 10, "fields": []}),
    };
    let one = |is_text, fields| {
        asked.iter().map(|v| request(r, "search", &query(v, is_text, fields))).collect::<Vec<_>>()
    };
    let many = |is_text| {
        let all = asked.chunks(MANY).map(|some| {
            let searches: Vec<Value> = some.iter().map(|v| query(v, is_text, false)).collect();
            request(r, "searches", &json!({ "searches": searches }))
        });
        all.collect::<Vec<_>>()
    };
    let ways = [("list", false), ("base64", true)]
        .map(|(name, is_text)| (name, one(is_text, true), one(is_text, false), many(is_text)));
    let s = a.seconds;
    println!(
        "round  vector  engine us  bare socket us above  bare HTTP us above  all fields us above  no fields us above  engine /s  all fields  no fields  many"
    );
    let tell = |round: &str,
                name: &str,
                [us, least, plain, full, bare, per_s, fulls, bares, manys]: [f64; 9]| {
        println!(
            "{round:6} {name:6}  {us:9.1}  {least:20.1}  {plain:18.1}  {full:19.1}  {bare:18.1}  {per_s:9.0}  {fulls:10.3}  {bares:9.3}  {manys:.3}"
        );
    };
    let mut rows: [Vec<[f64; 9]>; 2] = Default::default();
    for round in 0..=a.rounds {
        for ((name, full, bare, many), rows) in ways.iter().zip(&mut rows) {
            let (engine_us, engine_per_s) = engine_pace(table, attached, &prepared, s / 2.0);
            let row = [
                engine_us,
                least(table, attached, &prepared, s / 2.0)? - engine_us,
                plain(serving, &engine, &prepared, s / 2.0).await? - engine_us,
                latency(&r.url, full, s).await? - engine_us,
                latency(&r.url, bare, s).await? - engine_us,
                engine_per_s,
                throughput(r, full, s).await? / engine_per_s,
                throughput(r, bare, s).await? / engine_per_s,
                throughput(r, many, s).await? * MANY as f64 / engine_per_s,
            ];
            tell(&round.to_string(), name, row);
            // The first warms up.
            if round > 0 {
                rows.push(row);
            }
        }
    }
    for ((name, ..), rows) in ways.iter().zip(&rows) {
        let column = |at: usize| middle(rows.iter().map(|row| row[at]).collect());
        tell("middle", name, std::array::from_fn(column));
    }
    Ok(())
}
