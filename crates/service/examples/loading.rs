//! How fast files become searchable, in how much memory, and how soon a restart answers.
//!
//! `cargo build --release --bins && cargo run --release -p zesty-service --example loading -- --records 200000`
//!
//! Each file is loaded into an empty MariaDB (`innodb_flush_log_at_trx_commit=1`) by a new service on this
//! machine, through the client: from the client's first byte to the last record searchable. Memory is the
//! service's resident set, sampled twenty times a second, next to what the collection says it occupies.

use clap::Parser;
use rand::{Rng, SeedableRng};
use serde_json::{Map, Value, json};
use std::io::{BufRead, BufWriter, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};
use zesty_client::Client;
use zesty_client::load::{LoadFiles, VectorFile, load_files};
use zesty_files::{Export, Layout, OutColumn, OutRecord};
use zesty_local::mariadb::MariaDb;

#[derive(Parser)]
struct Arguments {
    #[arg(long, default_value_t = 200_000)]
    records: usize,
    #[arg(long, default_value_t = 384)]
    dimensions: usize,
    /// Which to measure: npy+parquet, arrow, jsonlines
    #[arg(long, value_delimiter = ',', default_value = "npy+parquet,arrow,jsonlines")]
    files: Vec<String>,
    /// Given by cargo bench; without meaning here
    #[arg(long, hide = true)]
    bench: bool,
}

type Result<T> = std::result::Result<T, Box<dyn std::error::Error>>;

const FIELDS: [(&str, &str); 5] = [
    ("station", "string"),
    ("year", "integer"),
    ("logged", "date"),
    ("severity", "integer"),
    ("visibility", "number"),
];

/// Writes `records` to a file, a portion at a time, always the same ones.
fn generate(path: &Path, layout: Layout, a: &Arguments, fields: bool, vectors: bool) -> Result<()> {
    let mut random = rand::rngs::StdRng::seed_from_u64(7);
    let columns = match vectors {
        true => vec![OutColumn { name: "meaning".into(), dimensions: a.dimensions, encoder: None }],
        false => vec![],
    };
    let keys: Vec<String> = (0..a.records).map(|i| format!("record-{i:08}")).collect();
    let named = if fields { FIELDS.map(|(n, k)| (n.to_owned(), k.to_owned())).to_vec() } else { vec![] };
    let mut export = Export::new(layout, named, columns, &keys)?;
    let mut out = BufWriter::new(std::fs::File::create(path)?);
    for keys in keys.chunks(1000) {
        let portion: Vec<OutRecord> = keys
            .iter()
            .map(|key| {
                let mut body = Map::new();
                if fields {
                    let year = random.random_range(1911..1968);
                    body.insert("station".into(), json!(format!("Station {}", random.random_range(0..36))));
                    body.insert("year".into(), json!(year));
                    body.insert(
                        "logged".into(),
                        json!(format!(
                            "{year}-0{}-1{}",
                            random.random_range(1..10),
                            random.random_range(0..10)
                        )),
                    );
                    body.insert("severity".into(), json!(random.random_range(1..6)));
                    body.insert("visibility".into(), json!(random.random_range(0..200) as f64 / 10.0));
                }
                let vector =
                    vectors.then(|| (0..a.dimensions).map(|_| random.random_range(-1.0f32..1.0)).collect());
                OutRecord { key: key.clone(), fields: body, vectors: vec![vector] }
            })
            .collect();
        out.write_all(&export.write(&portion)?)?;
    }
    out.write_all(&export.finish()?)?;
    out.flush()?;
    Ok(())
}

struct Service {
    child: Child,
    client: Client,
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn start(database: &str, data: &Path) -> Result<Service> {
    let here = std::env::current_exe()?;
    let program = here.parent().and_then(Path::parent).ok_or("no target folder")?.join("zesty-service");
    let mut child = Command::new(program)
        .args(["--listen", "127.0.0.1:0", "--data"])
        .arg(data)
        .env("ZESTY_DATABASE", database)
        .env("ZESTY_LOG", "warn")
        .stdout(Stdio::piped())
        .spawn()?;
    let mut line = String::new();
    std::io::BufReader::new(child.stdout.as_mut().ok_or("no output")?).read_line(&mut line)?;
    let url = line.trim().strip_prefix("listening on ").ok_or("the service did not start")?.to_owned();
    let key = std::fs::read_to_string(data.join("first-key"))?;
    Ok(Service { child, client: Client::new(&url, &key) })
}

/// Resident bytes of a process: all, and of files mapped or read.
fn resident(pid: u32) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or_default();
    let line = status.lines().find(|l| l.starts_with("VmRSS:")).unwrap_or("");
    line.split_whitespace().nth(1).and_then(|n| n.parse::<u64>().ok()).unwrap_or(0) * 1024
}

/// Samples the resident set until told to stop; returns the highest.
struct Sampler(Arc<AtomicBool>, Arc<AtomicU64>, std::thread::JoinHandle<()>);

impl Sampler {
    fn start(pid: u32) -> Sampler {
        let (stop, peak) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
        let (told, highest) = (stop.clone(), peak.clone());
        let thread = std::thread::spawn(move || {
            while !told.load(Ordering::Relaxed) {
                highest.fetch_max(resident(pid), Ordering::Relaxed);
                std::thread::sleep(Duration::from_millis(50));
            }
        });
        Sampler(stop, peak, thread)
    }
    fn stop(self) -> u64 {
        self.0.store(true, Ordering::Relaxed);
        let _ = self.2.join();
        self.1.load(Ordering::Relaxed)
    }
}

async fn measure(name: &str, a: &Arguments, folder: &Path) -> Result<()> {
    let file = |n: &str| folder.join(n);
    let (records, vectors): (PathBuf, Vec<_>) = match name {
        "npy+parquet" => {
            generate(&file("fields.parquet"), Layout::Parquet, a, true, false)?;
            generate(&file("vectors.npy"), Layout::Npy, a, false, true)?;
            (file("fields.parquet"), vec![(None, file("vectors.npy"), None)])
        }
        "arrow" => {
            generate(&file("all.arrow"), Layout::Arrow, a, true, true)?;
            (file("all.arrow"), vec![])
        }
        "jsonlines" => {
            generate(&file("all.jsonl"), Layout::JsonLines, a, true, true)?;
            (file("all.jsonl"), vec![])
        }
        other => return Err(format!("unknown files \"{other}\"").into()),
    };
    let bytes: u64 = std::iter::once(&records)
        .chain(vectors.iter().map(|(_, v, _): &(Option<String>, PathBuf, Option<PathBuf>)| v))
        .map(|p| std::fs::metadata(p).map_or(0, |m| m.len()))
        .sum();
    let database = folder.join("mariadb");
    let _ = std::fs::remove_dir_all(&database);
    let mut mariadb = MariaDb::start(&database, None, false)?;
    let data = folder.join("service");
    let _ = std::fs::remove_dir_all(&data);
    let service = start(&mariadb.url("zesty"), &data)?;
    let c = &service.client;
    let property = |kind: &str| match kind {
        "date" => json!({"type": "string", "format": "date"}),
        other => json!({"type": other}),
    };
    let properties: Map<String, Value> = FIELDS.iter().map(|(n, k)| ((*n).to_owned(), property(k))).collect();
    c.create_collection(&json!({"name": "measured", "fields": {"properties": properties},
        "columns": [{"name": "meaning", "dimensions": a.dimensions}]}))
        .await?;
    let query = json!({"vector": vec![1.0; a.dimensions], "k": 10});
    let idle = resident(service.child.id());
    let sampler = Sampler::start(service.child.id());
    let begin = Instant::now();
    let mut sent = None;
    let vectors = vectors.into_iter().map(|(column, file, keys)| VectorFile { column, file, keys });
    let plan = LoadFiles { records: Some(records), vectors: vectors.collect(), ..LoadFiles::default() };
    let done = load_files(c, "measured", &plan, |p| {
        if let zesty_client::load::Progress::Loading(_) = p {
            sent.get_or_insert_with(|| begin.elapsed());
        }
    })
    .await?;
    let seconds = begin.elapsed().as_secs_f64();
    let peak = sampler.stop();
    let found = c.search("measured", &query).await?;
    if !done.adds_up || done.new != a.records as u64 || found.hits.len() != 10 {
        return Err(format!("not everything is there: {done:?}").into());
    }
    let held = c.costs("measured").await?.memory;
    println!(
        "{name:12} {:7.1} MB of files  {:6.1} s (sent in {:4.1})  {:8.0} records/s  peak {:6.1} MB = {:4.2} x the collection's {:6.1} MB, over {:5.1} idle",
        bytes as f64 / 1e6,
        seconds,
        sent.unwrap_or_default().as_secs_f64(),
        a.records as f64 / seconds,
        peak as f64 / 1e6,
        (peak - idle) as f64 / held as f64,
        held as f64 / 1e6,
        idle as f64 / 1e6,
    );
    drop(service);
    let begin = Instant::now();
    let service = start(&mariadb.url("zesty"), &data)?;
    let up = begin.elapsed().as_secs_f64();
    let found = service.client.search("measured", &query).await?;
    println!(
        "{:12} restarted: first answer after {:.2} s (listening after {up:.2}), {} hits, {:.1} MB resident",
        "",
        begin.elapsed().as_secs_f64(),
        found.hits.len(),
        resident(service.child.id()) as f64 / 1e6
    );
    drop(service);
    mariadb.stop();
    Ok(())
}

#[tokio::main]
async fn main() -> Result<()> {
    let a = Arguments::parse();
    let folder = tempfile::tempdir()?;
    println!("{} records of {} dimensions and {} fields", a.records, a.dimensions, FIELDS.len());
    for name in &a.files {
        measure(name, &a, folder.path()).await?;
    }
    Ok(())
}
