//! How fast files become searchable, in how much memory, and how soon a restart answers.
//!
//! `cargo build --release --bins && cargo run --release -p zesty-service --example loading -- --records 200000`
//!
//! Each file is loaded into an empty MariaDB (`innodb_flush_log_at_trx_commit=1`) by a new service on this
//! machine, through the client: from the client's first byte to the last record searchable; beside it stands what a bare
//! client writes that sends the same records to the same MariaDB, which is the measure of what a load may take. Memory is the
//! service's resident set, sampled twenty times a second, next to what the collection says it occupies.

use clap::Parser;
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use sea_orm::{ConnectOptions, ConnectionTrait, Database, DbBackend, Statement};
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
use zesty_testing::bytes_of;

#[derive(Parser)]
struct Arguments {
    #[arg(long, default_value_t = 200_000)]
    records: usize,
    #[arg(long, default_value_t = 384)]
    dimensions: usize,
    /// Which to measure: npy+parquet, arrow, jsonlines
    #[arg(long, value_delimiter = ',', default_value = "npy+parquet,arrow,jsonlines")]
    files: Vec<String>,
    /// An index to build after the load; then 10,000 searches are made, and starts are timed with it
    #[arg(long)]
    recipe: Option<String>,
    /// MB that the service may use in all, page cache included, after the load: needs cgroups, and the right to make them
    #[arg(long)]
    limit_mb: Option<u64>,
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

/// Records of a portion.
const PORTION: usize = 1000;

/// Made-up records of these keys.
fn portion(
    keys: &[String],
    random: &mut StdRng,
    a: &Arguments,
    fields: bool,
    vectors: bool,
) -> Vec<OutRecord> {
    keys.iter()
        .map(|key| {
            let mut body = Map::new();
            if fields {
                let year = random.random_range(1911..1968);
                let logged =
                    format!("{year}-0{}-1{}", random.random_range(1..10), random.random_range(0..10));
                body.insert("station".into(), json!(format!("Station {}", random.random_range(0..36))));
                body.insert("year".into(), json!(year));
                body.insert("logged".into(), json!(logged));
                body.insert("severity".into(), json!(random.random_range(1..6)));
                body.insert("visibility".into(), json!(random.random_range(0..200) as f64 / 10.0));
            }
            let vector =
                vectors.then(|| (0..a.dimensions).map(|_| random.random_range(-1.0f32..1.0)).collect());
            OutRecord { key: key.clone(), fields: body, vectors: vec![vector] }
        })
        .collect()
}

fn keys(a: &Arguments) -> Vec<String> {
    (0..a.records).map(|i| format!("record-{i:08}")).collect()
}

/// Rows a second of a client that does nothing but write the same records: one connection, an INSERT of many rows for each
/// portion, and a durable commit for each.
async fn bare(url: &str, a: &Arguments) -> Result<f64> {
    let mut options = ConnectOptions::new(url);
    options.max_connections(1).sqlx_logging(false);
    let database = Database::connect(options).await?;
    let table = "CREATE TABLE bare (id BIGINT PRIMARY KEY, name VARCHAR(255) NOT NULL UNIQUE, body MEDIUMTEXT NOT NULL, \
                 vector MEDIUMBLOB NOT NULL)";
    database.execute_unprepared(table).await?;
    let (mut random, mut n, mut took) = (StdRng::seed_from_u64(7), 0i64, Duration::ZERO);
    for keys in keys(a).chunks(PORTION) {
        let records = portion(keys, &mut random, a, true, true);
        let begin = Instant::now();
        let mut values: Vec<sea_orm::Value> = Vec::with_capacity(4 * records.len());
        for record in records {
            let vector = record.vectors.into_iter().flatten().flatten().flat_map(f32::to_le_bytes);
            let (body, vector) = (serde_json::to_string(&record.fields)?, vector.collect::<Vec<u8>>());
            values.extend([n.into(), record.key.into(), body.into(), vector.into()]);
            n += 1;
        }
        let rows = vec!["(?, ?, ?, ?)"; keys.len()].join(", ");
        let insert = format!("INSERT INTO bare (id, name, body, vector) VALUES {rows}");
        database.execute_raw(Statement::from_sql_and_values(DbBackend::MySql, insert, values)).await?;
        took += begin.elapsed();
    }
    database.execute_unprepared("DROP TABLE bare").await?;
    database.close().await?;
    Ok(a.records as f64 / took.as_secs_f64())
}

/// Writes `records` to a file, a portion at a time, always the same ones.
fn generate(path: &Path, layout: Layout, a: &Arguments, fields: bool, vectors: bool) -> Result<()> {
    let mut random = StdRng::seed_from_u64(7);
    let columns = match vectors {
        true => vec![OutColumn { name: "meaning".into(), dimensions: a.dimensions, encoder: None }],
        false => vec![],
    };
    let keys = keys(a);
    let named = if fields { FIELDS.map(|(n, k)| (n.to_owned(), k.to_owned())).to_vec() } else { vec![] };
    let mut export = Export::new(layout, named, columns, &keys)?;
    let mut out = BufWriter::new(std::fs::File::create(path)?);
    for keys in keys.chunks(PORTION) {
        out.write_all(&export.write(&portion(keys, &mut random, a, fields, vectors))?)?;
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

/// Bytes that a process holds beside mapped files.
fn resident(pid: u32) -> u64 {
    bytes_of(pid, "RssAnon:")
}

/// Makes searches one after the other. Returns the keys of all hits, and the middle of what a search takes in us.
async fn search_many(c: &Client, d: usize, n: usize) -> Result<(Vec<String>, f64)> {
    let mut random = rand::rngs::StdRng::seed_from_u64(11);
    let (mut all, mut times) = (Vec::new(), Vec::new());
    for _ in 0..n {
        let vector: Vec<f32> = (0..d).map(|_| random.random_range(-1.0f32..1.0)).collect();
        let begin = Instant::now();
        let found = c.search("measured", &json!({"vector": vector, "k": 10})).await?;
        times.push(begin.elapsed().as_secs_f64() * 1e6);
        all.extend(found.hits.into_iter().map(|h| h.key));
    }
    times.sort_by(f64::total_cmp);
    Ok((all, times[n / 2]))
}

/// Puts a process into a group of its own that may use so much memory.
fn limit(pid: u32, mb: u64) -> Result<PathBuf> {
    // Version 2 of cgroups, or 1.
    let all = Path::new("/sys/fs/cgroup");
    let (folder, most) = match all.join("cgroup.controllers").exists() {
        true => (all.to_owned(), "memory.max"),
        false => (all.join("memory"), "memory.limit_in_bytes"),
    };
    let group = folder.join(format!("zesty-{pid}"));
    std::fs::create_dir_all(&group)?;
    if !group.join(most).exists() {
        return Err(format!("{} has no control of memory", folder.display()).into());
    }
    std::fs::write(group.join(most), (mb << 20).to_string())?;
    std::fs::write(group.join("cgroup.procs"), pid.to_string())?;
    Ok(group)
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

fn report(when: &str, pid: u32, us: f64) {
    println!(
        "{:12} {when}: {:.0} MB held, {:.0} MB mapped and in memory, {us:.0} us a search",
        "",
        bytes_of(pid, "RssAnon:") as f64 / 1e6,
        bytes_of(pid, "RssFile:") as f64 / 1e6
    );
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
    let bare = bare(&mariadb.url("zesty"), a).await?;
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
    let costs = c.costs("measured").await?;
    let held = costs.memory + costs.mapped;
    println!(
        "{name:12} {:7.1} MB of files  {:6.1} s (sent in {:4.1})  {:8.0} records/s = {:4.2} x a bare client's  peak {:6.1} MB = {:4.2} x the collection's {:6.1} MB, over {:5.1} idle",
        bytes as f64 / 1e6,
        seconds,
        sent.unwrap_or_default().as_secs_f64(),
        a.records as f64 / seconds,
        a.records as f64 / seconds / bare,
        peak as f64 / 1e6,
        (peak - idle) as f64 / held as f64,
        held as f64 / 1e6,
        idle as f64 / 1e6,
    );
    if let Some(recipe) = &a.recipe {
        let job = c.build_index("measured", &json!({"name": "i", "recipe": recipe})).await?;
        let job = c.watch_job(job.id, |_| ()).await?;
        println!("{:12} {recipe}: {}", "", job.log.last().map_or("", |l| &l.text));
    }
    // What is written last must be in segments.
    tokio::time::sleep(Duration::from_secs(15)).await;
    let (hits, us) = search_many(c, a.dimensions, 10_000).await?;
    report("after 10,000 searches", service.child.id(), us);
    drop(service);
    for (how, lose, limited) in
        [("from segments", false, None), ("from segments", false, a.limit_mb), ("segments lost", true, None)]
    {
        if lose {
            std::fs::remove_dir_all(data.join("segments"))?;
        }
        let begin = Instant::now();
        let service = start(&mariadb.url("zesty"), &data)?;
        let group = limited.map(|mb| limit(service.child.id(), mb)).transpose()?;
        let up = begin.elapsed().as_secs_f64();
        let found = service.client.search("measured", &query).await?;
        println!(
            "{:12} restarted, {how}{}: first answer after {:.2} s (listening after {up:.2}), by {:?}",
            "",
            limited.map_or(String::new(), |mb| format!(", at most {mb} MB")),
            begin.elapsed().as_secs_f64(),
            found.via.index
        );
        if !lose {
            let (again, us) = search_many(&service.client, a.dimensions, 10_000).await?;
            let same = hits.iter().zip(&again).filter(|(a, b)| a == b).count();
            report("after 10,000 searches", service.child.id(), us);
            println!("{:12} {same} of {} hits are those of before", "", hits.len());
        }
        drop(service);
        if let Some(group) = group {
            let _ = std::fs::remove_dir(group);
        }
    }
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
