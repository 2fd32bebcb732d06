//! The demo: starts MariaDB, encoder and service, loads the logbook, builds and measures an index,
//! and says where to click. With `--check` it also tries every step and ends.

use crate::child::{Guarded, wait_until};
use crate::mariadb::{MariaDb, free_port};
use clap::Parser;
use indicatif::{ProgressBar, ProgressStyle};
use serde_json::{Value, json};
use std::io;
use std::net::{Ipv4Addr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use zesty_client::connection::Connection;
use zesty_client::load::{LoadFiles, Progress, load_files};
use zesty_client::{Client, wire::Collection};

#[derive(Parser)]
#[command(
    name = "bin/demo",
    version,
    about = "Starts Zesty Lantern with the demo data on this machine",
    after_help = "bin/demo --release builds the programs at full speed first, which takes longer."
)]
pub struct Arguments {
    /// Everything is written here
    #[arg(long, default_value = "data")]
    data: PathBuf,
    /// Port of the service and its console
    #[arg(long, default_value_t = 7411)]
    port: u16,
    /// Try the whole example without a person, then stop
    #[arg(long)]
    check: bool,
    /// Folder with the demo data
    #[arg(long, default_value = "demo", hide = true)]
    demo: PathBuf,
}

type Failure = Box<dyn std::error::Error + Send + Sync>;

const ENCODERS: [&str; 2] = ["lampwright-small", "lampwright-large"];

struct Running {
    service: Guarded,
    _encoder: Guarded,
    database: MariaDb,
    client: Client,
    connection: Connection,
}

pub async fn run(a: Arguments) -> Result<(), Failure> {
    let start = Instant::now();
    let interrupted = tokio::signal::ctrl_c();
    let mut term = tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate())?;
    let work = async {
        let mut running = start_all(&a).await?;
        prepare(&running.client, &a).await?;
        if a.check {
            check(&mut running, &a).await?;
            println!("\nThe whole example works ({:.0} s).", start.elapsed().as_secs_f64());
            return Ok(());
        }
        greet(&running).await?;
        // Until a signal comes, or a child fails.
        loop {
            tokio::time::sleep(Duration::from_millis(500)).await;
            if !running.service.is_running() {
                let log = a.data.join("service.log");
                return Err(format!("the service ended by itself; see {}", log.display()).into());
            }
            if !running.database.is_running() {
                let log = a.data.join("mariadb/mariadb.log");
                return Err(format!("MariaDB ended by itself; see {}", log.display()).into());
            }
        }
    };
    tokio::select! {
        outcome = work => outcome,
        _ = interrupted => { println!("\nStopping what this started."); Ok(()) }
        _ = term.recv() => Ok(()),
    }
}

/// Refuses early, with what to do, what would fail late.
fn look_before(a: &Arguments) -> Result<(), Failure> {
    if let Err(e) = TcpListener::bind((Ipv4Addr::LOCALHOST, a.port)) {
        return Err(format!(
            "port {} cannot be used ({e}). If a demo is running already, use it, or stop it with Ctrl-C; \
             otherwise start on another port: bin/demo --port {}",
            a.port,
            a.port.wrapping_add(100)
        )
        .into());
    }
    std::fs::create_dir_all(&a.data).map_err(|e| {
        format!("cannot write to {} ({e}); give another folder: bin/demo --data FOLDER", a.data.display())
    })?;
    // A full disk shows itself here and not in the middle of a load.
    let probe = a.data.join("space-probe");
    let room = std::fs::write(&probe, vec![1u8; 16 << 20]);
    let _ = std::fs::remove_file(&probe);
    room.map_err(|e| {
        format!(
            "cannot write 16 MB to {} ({e}); the demo needs about 1 GB there: free some space, or give \
                 another folder: bin/demo --data FOLDER",
            a.data.display()
        )
    })?;
    Ok(())
}

fn program(name: &str) -> Result<PathBuf, Failure> {
    let here = std::env::current_exe()?;
    let path = here.with_file_name(name);
    if path.is_file() { Ok(path) } else { Err(format!("{} is not built", path.display()).into()) }
}

async fn start_all(a: &Arguments) -> Result<Running, Failure> {
    look_before(a)?;
    let data = a.data.canonicalize()?;
    say("MariaDB");
    let database = MariaDb::start(&data.join("mariadb"), None, false)?;

    say("encoder (learns from the notes at the first start)");
    let port = free_port()?;
    let log = data.join("encoder.log");
    let arguments = [
        format!("--corpus={}", a.demo.join("logbook.jsonl.gz").display()),
        format!("--cache={}", data.join("encoder").display()),
        format!("--listen=127.0.0.1:{port}"),
    ];
    let mut encoder = Guarded::start("encoder", &program("zesty-encoder")?, &arguments, &[], &log, None)?;

    say("service");
    let service = start_service(a, &data, &database)?;
    let url = format!("http://127.0.0.1:{}", a.port);
    let key = std::fs::read_to_string(data.join("service/first-key")).map_err(|e| {
        format!(
            "{}/service/first-key cannot be read ({e}), and the database has keys already; make one with \
             `zesty-service --database URL add-key NAME` and write it there, or start afresh in another --data folder",
            data.display()
        )
    })?;
    let connection = Connection { url: url.clone(), key: key.trim().into(), ca: None };
    let client = Client::new(&url, &connection.key);
    client.service().await?;
    if !a.check {
        println!("\n  The console is open. Watch the demo load: {}\n", client.sign_in_link().await?);
    }
    // The encoder listens before it has learned; it answers when it has.
    let ready = format!("http://127.0.0.1:{port}/v2/health/ready");
    wait_answer(&mut encoder, &log, &ready).await?;
    for name in ENCODERS {
        client.put_encoder(name, &format!("http://127.0.0.1:{port}"), name).await?;
    }
    Ok(Running { service, _encoder: encoder, database, client, connection })
}

fn start_service(a: &Arguments, data: &Path, database: &MariaDb) -> Result<Guarded, Failure> {
    let log = data.join("service.log");
    let arguments =
        [format!("--data={}", data.join("service").display()), format!("--listen=127.0.0.1:{}", a.port)];
    let environment = [("ZESTY_DATABASE", database.url("zesty"))];
    let mut service =
        Guarded::start("service", &program("zesty-service")?, &arguments, &environment, &log, None)?;
    // The port answers before the collections are read; "ready" is when a route does.
    let port = a.port;
    wait_until(&mut service, &log, Duration::from_secs(120), || {
        use std::io::{Read, Write};
        let Ok(mut stream) = TcpStream::connect((Ipv4Addr::LOCALHOST, port)) else { return false };
        let _ = stream.set_read_timeout(Some(Duration::from_secs(2)));
        let asked = stream.write_all(b"GET /api/service HTTP/1.0\r\n\r\n");
        let mut answer = [0u8; 12];
        asked.is_ok() && stream.read_exact(&mut answer).is_ok() && answer.ends_with(b"401")
    })?;
    Ok(service)
}

async fn wait_answer(child: &mut Guarded, log: &Path, url: &str) -> Result<(), Failure> {
    let client = Client::new(url, "");
    let start = Instant::now();
    loop {
        let answer = client.request(reqwest::Method::GET, "").timeout(Duration::from_secs(2)).send().await;
        if answer.is_ok_and(|r| r.status().is_success()) {
            return Ok(());
        }
        if !child.is_running() || start.elapsed() > Duration::from_secs(180) {
            return Err(format!("no answer from {url}:\n{}", crate::child::tail(log)).into());
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

fn say(what: &str) {
    println!("  {what}");
}

fn lines(path: &Path) -> io::Result<Vec<Value>> {
    std::fs::read_to_string(path)?
        .lines()
        .map(|l| serde_json::from_str(l).map_err(io::Error::other))
        .collect()
}

/// Brings the demo's collections to where the tour begins; what is there already is left alone.
async fn prepare(client: &Client, a: &Arguments) -> Result<(), Failure> {
    let known = client.collections().await?;
    let has = |name: &str| known.iter().find(|c| c.name == name);
    let stations = lines(&a.demo.join("stations.jsonl"))?;
    if has("stations").is_none_or(|c| c.n_records != stations.len()) {
        say("collection stations: the 36 lights");
        if has("stations").is_none() {
            client.create_collection(&stations_description()).await?;
        }
        let records: Vec<Value> = stations
            .into_iter()
            .map(|mut s| {
                let key = s.as_object_mut().and_then(|o| o.shift_remove("key"));
                json!({"key": key, "fields": s})
            })
            .collect();
        client.write("stations", &records).await?;
    }
    let logbook = match has("logbook") {
        Some(c) => c.clone(),
        None => {
            let fields: Value =
                serde_json::from_str(&std::fs::read_to_string(a.demo.join("logbook.schema.json"))?)?;
            client.create_collection(&logbook_description(fields)).await?
        }
    };
    if logbook.n_records < 30_000 {
        load_logbook(client, &logbook, &a.demo.join("logbook.jsonl.gz")).await?;
    }
    if client.indexes("logbook").await?.is_empty() {
        say("index graph-1: graph(links=16, build=200)");
        let job = client
            .build_index("logbook", &json!({"name": "graph-1", "recipe": "graph(links=16, build=200)"}))
            .await?;
        finished(client, job.id, "building").await?;
    }
    if client.sweeps("logbook").await?.is_empty() {
        say("sweep: what recall at what latency");
        let job = client.run_sweep("logbook", &json!({"indexes": ["graph-1"]})).await?;
        finished(client, job.id, "measuring").await?;
    }
    if client.saved_searches("logbook").await?.is_empty() {
        say("saved search notes-near: for applications");
        let definition: Value =
            serde_json::from_str(&std::fs::read_to_string(a.demo.join("notes-near.json"))?)?;
        let saved = client.save_search("logbook", "notes-near", &definition).await?;
        let newest = saved.versions.first().map_or(1, |v| v.version);
        client.set_live("logbook", "notes-near", newest).await?;
    }
    Ok(())
}

fn stations_description() -> Value {
    let text = |d: &str| json!({"type": "string", "description": d});
    json!({
        "name": "stations",
        "description": "The 36 lights of the coast",
        "fields": {"type": "object", "properties": {
            "name": text("Name of the light"), "code": text("As keys of the logbook begin"),
            "region": text("Stretch of the coast"),
            "first_lit": {"type": "integer", "description": "Year"},
            "height_m": {"type": "integer", "description": "Height of the tower in metres"},
            "character": text("What the light does"), "about": text("What one notices"),
        }},
        "columns": [{"name": "about_small", "encoder": "lampwright-small", "template": "{about}"}],
    })
}

fn logbook_description(mut fields: Value) -> Value {
    fields["properties"]["station"]["refersTo"] = json!("stations");
    json!({
        "name": "logbook",
        "description": "The keepers' logbook of the Coast Lights Office, 1911-1967",
        "fields": fields,
        "columns": [{"name": "meaning", "metric": "cosine", "encoder": "lampwright-large", "template": "{note}"}],
    })
}

async fn load_logbook(client: &Client, logbook: &Collection, file: &Path) -> Result<(), Failure> {
    say("collection logbook: 30,000 notes, encoded on the way");
    let bar =
        ProgressBar::new(0).with_style(ProgressStyle::with_template("    {bar:30} {percent:>3}%  {msg}")?);
    let start = Instant::now();
    let plan = LoadFiles { records: Some(file.into()), ..LoadFiles::default() };
    let loaded = load_files(client, &logbook.name, &plan, |p| {
        if let Progress::Loading(job) = p {
            bar.set_length(job.total as u64);
            bar.set_position(job.done as u64);
            let read = job.counts.as_ref().and_then(|c| c["read"].as_u64()).unwrap_or(0);
            bar.set_message(format!("{read} records"));
        }
    })
    .await?;
    bar.finish_and_clear();
    let seconds = start.elapsed().as_secs_f64();
    println!(
        "    {} read = {} new + {} replaced, {seconds:.1} s ({:.0}/s)",
        loaded.read,
        loaded.new,
        loaded.replaced,
        loaded.read as f64 / seconds
    );
    Ok(())
}

async fn finished(client: &Client, job: i64, what: &str) -> Result<(), Failure> {
    let bar =
        ProgressBar::new(0).with_style(ProgressStyle::with_template("    {bar:30} {percent:>3}%  {msg}")?);
    bar.set_message(what.to_owned());
    let job = client
        .watch_job(job, |j| {
            bar.set_length(j.total as u64);
            bar.set_position(j.done as u64);
        })
        .await?;
    bar.finish_and_clear();
    if job.state != "done" {
        return Err(format!("{what} ended as {}: {}", job.state, job.error.unwrap_or_default()).into());
    }
    if let Some(line) = job.log.iter().rev().find(|l| !l.text.is_empty()) {
        println!("    {}", line.text);
    }
    Ok(())
}

async fn greet(running: &Running) -> Result<(), Failure> {
    let link = running.client.sign_in_link().await?;
    // Another service's connection is not ours to overwrite.
    let saved = match Connection::read() {
        Ok(Some(other)) if other.url != running.connection.url => None,
        _ => running.connection.save().ok(),
    };
    println!("\nZesty Lantern is ready.\n");
    println!("  Console (signs one browser in, once):\n    {link}\n");
    let zesty = program("zesty").map_or("zesty".into(), |p| p.display().to_string());
    println!("  Command line:");
    match saved {
        Some(path) => println!("    (finds the service by {})", path.display()),
        None => {
            println!("    export ZESTY_URL={} ZESTY_KEY={}", running.connection.url, running.connection.key)
        }
    }
    println!("    {zesty} search logbook 'gale tearing at the shutters'\n");
    println!("  Ctrl-C ends everything that this started.");
    Ok(())
}

fn wanted(holds: bool, what: &str) -> Result<(), Failure> {
    if holds {
        println!("  ok  {what}");
        Ok(())
    } else {
        Err(format!("not as it should be: {what}").into())
    }
}

/// The tour, without a person: load, count, search in every way, filter, compare, restart.
async fn check(running: &mut Running, a: &Arguments) -> Result<(), Failure> {
    let c = running.client.clone();
    let logbook = c.collection("logbook").await?;
    wanted(logbook.n_records == 30_000, "30,000 records are in the logbook")?;
    wanted(logbook.columns[0].n_vectors == 30_000, "each has a vector")?;

    let text = json!({"text": "gale tearing at the shutters", "k": 10});
    let found = c.search("logbook", &text).await?;
    let weather = found.hits.iter().filter(|h| h.fields["kind"] == "weather").count();
    wanted(found.hits.len() == 10 && weather >= 8, "a search by text finds storms")?;
    wanted(found.via.index.as_deref() == Some("graph-1"), "it was answered by the index")?;

    let exact = c.search("logbook", &json!({"text": "gale tearing at the shutters", "exact": true})).await?;
    let same = exact.hits.iter().filter(|e| found.hits.iter().any(|f| f.key == e.key)).count();
    wanted(same >= 8, &format!("it agrees with the exact answer on {same} of 10"))?;

    let key = &found.hits[0].key;
    let like = c.search("logbook", &json!({"examples": key})).await?;
    wanted(
        like.hits.len() == 10 && like.hits.iter().all(|h| h.key != *key),
        "a search by record leaves the record out",
    )?;

    let record = c.record("logbook", key, true).await?;
    let vector = json!({"vector": record.vectors.unwrap_or_default()["meaning"], "k": 1});
    let own = c.search("logbook", &vector).await?;
    wanted(own.hits[0].score > 0.9999, "a search by a record's vector finds its like")?;

    let filter = "severity >= 4 AND year BETWEEN 1920 AND 1929";
    let filtered =
        c.search("logbook", &json!({"text": "ship on the rocks", "filter": filter, "k": 20})).await?;
    let fits = |h: &zesty_client::wire::Hit| {
        h.fields["severity"].as_i64() >= Some(4)
            && (1920..1930).contains(&h.fields["year"].as_i64().unwrap_or(0))
    };
    wanted(
        filtered.hits.len() == 20 && filtered.hits.iter().all(fits),
        "a filter holds for every hit, and k are found",
    )?;

    let values =
        [("q", "ship on the rocks"), ("n", "5"), ("since", "1930")].map(|(n, v)| (n.into(), v.into()));
    let asked = c.ask_saved("logbook", "notes-near", None, &values).await?;
    let recent = |h: &zesty_client::wire::Hit| h.fields["logged"].as_str() >= Some("1930");
    wanted(asked.hits.len() == 5 && asked.hits.iter().all(recent), "a saved search keeps to its filter")?;

    let sweep = c.sweeps("logbook").await?.remove(0);
    let good = sweep.result.points.iter().find(|p| p.figures.recall_mean >= 0.95);
    let good = good.ok_or("no beam of the sweep reaches recall 0.95")?;
    let exact = sweep.result.query_sets[0].exact.as_ref().ok_or("the sweep timed no exact scan")?;
    let ratio = good.queries_per_s / exact.queries_per_s;
    wanted(
        true,
        &format!(
            "recall {:.3} at {}, {ratio:.0} times the exact scan's pace",
            good.figures.recall_mean, good.settings
        ),
    )?;

    let extra = json!({"key": "check-1", "fields": {"note": "The Inspector's goat has eaten the fog bell rope.", "kind": "animals"}});
    c.write("logbook", &[extra]).await?;
    let fresh =
        c.search("logbook", &json!({"text": "Inspector's goat ate the fog bell rope", "k": 1})).await?;
    wanted(fresh.hits[0].key == "check-1", "a record is found as soon as it is written")?;

    running.service.stop();
    running.service = start_service(a, &a.data.canonicalize()?, &running.database)?;
    let again = c.search("logbook", &text).await?;
    let keys =
        |s: &zesty_client::wire::SearchAnswer| s.hits.iter().map(|h| h.key.clone()).collect::<Vec<_>>();
    wanted(keys(&again) == keys(&found), "after a restart the answers are the same")?;
    wanted(again.via.index.as_deref() == Some("graph-1"), "and the index came back without rebuilding")?;
    c.delete_record("logbook", "check-1").await?;
    wanted(c.collection("logbook").await?.n_records == 30_000, "the extra record is gone again")?;
    Ok(())
}
