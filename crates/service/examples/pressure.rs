//! What a running service does under more searches than it can carry, and beside background work.
//!
//! Searches are sent at a fixed rate, whether earlier ones were answered or not (an open loop). First one at a time and
//! eight at a time, which tells the capacity; then at a share of it while an index is built; then at a multiple of it.
//! Where it may, this program goes before the service: on one machine, a client that waits for a core would count its own
//! waits.
//!
//! `cargo run --release -p zesty-service --example pressure -- --url URL --key KEY --collection NAME [--process PID]`

use clap::Parser;
use serde_json::{Value, json};
use std::cell::{Cell, RefCell};
use std::error::Error;
use std::rc::Rc;
use std::time::{Duration, Instant};
use zesty_client::Client;
use zesty_testing::connection::{Answered, Connection};
use zesty_testing::{bytes_of, in_base64};

#[derive(Parser)]
struct Arguments {
    #[arg(long, env = "ZESTY_URL")]
    url: String,
    #[arg(long, env = "ZESTY_KEY")]
    key: String,
    #[arg(long)]
    collection: String,
    /// Seconds of each part
    #[arg(long, default_value_t = 10.0)]
    seconds: f64,
    /// Times the capacity that is sent beyond it
    #[arg(long, default_value_t = 4.0)]
    times: f64,
    /// Share of the capacity that is sent beside a build
    #[arg(long, default_value_t = 0.5)]
    share: f64,
    /// Recipe of the index that is built meanwhile; none when absent
    #[arg(long)]
    build: Option<String>,
    /// A shell command that runs meanwhile, such as a load
    #[arg(long)]
    beside: Option<String>,
    /// The service's process, to tell its memory
    #[arg(long)]
    process: Option<u32>,
    /// Fields of each hit: all when set
    #[arg(long)]
    fields: bool,
    /// A CQL2 filter of every search
    #[arg(long)]
    filter: Option<String>,
}

type Result<T> = std::result::Result<T, Box<dyn Error + Send + Sync>>;

/// Connections at the same time.
const MOST: usize = 2000;

/// What a part of the measurement saw, times in seconds.
#[derive(Default)]
struct Seen {
    accepted: Vec<f64>,
    refused: Vec<f64>,
    broken: usize,
    unsent: usize,
}

fn at(sorted: &[f64], share: f64) -> f64 {
    let last = sorted.len().saturating_sub(1);
    sorted.get((last as f64 * share).round() as usize).copied().unwrap_or(f64::NAN) * 1e3
}

impl Seen {
    fn tell(&mut self, what: &str, seconds: f64) -> (f64, f64) {
        self.accepted.sort_by(f64::total_cmp);
        self.refused.sort_by(f64::total_cmp);
        let (n, p99) = (self.accepted.len() as f64 / seconds, at(&self.accepted, 0.99));
        println!(
            "{what:<34} {n:7.0} answered/s  p50 {:6.2} ms  p99 {p99:6.2} ms  max {:7.2} ms   refused {:7.0}/s  p50 {:5.2} ms  p99 \
             {:6.2} ms   broken {}  unsent {}",
            at(&self.accepted, 0.5),
            at(&self.accepted, 1.0),
            self.refused.len() as f64 / seconds,
            at(&self.refused, 0.5),
            at(&self.refused, 0.99),
            self.broken,
            self.unsent,
        );
        (n, p99)
    }

    fn note(&mut self, answer: Result<Answered>, took: f64) {
        match answer.map(|a| a.status) {
            Ok(200) => self.accepted.push(took),
            Ok(429 | 503) => self.refused.push(took),
            _ => self.broken += 1,
        }
    }
}

struct Target {
    address: String,
    requests: Vec<Vec<u8>>,
}

/// So many at a time, each sent when the one before was answered.
async fn closed(target: &Rc<Target>, n: usize, seconds: f64) -> Result<Seen> {
    let seen = Rc::new(RefCell::new(Seen::default()));
    let start = Instant::now();
    let workers = (0..n).map(|w| {
        let (target, seen) = (target.clone(), seen.clone());
        tokio::task::spawn_local(async move {
            let mut connection = Connection::open(&target.address).await?;
            let mut i = w * 31;
            while start.elapsed().as_secs_f64() < seconds {
                let began = Instant::now();
                let status = connection.ask(&target.requests[i % target.requests.len()]).await;
                seen.borrow_mut().note(status, began.elapsed().as_secs_f64());
                i += 1;
            }
            Ok::<_, Box<dyn Error + Send + Sync>>(())
        })
    });
    for worker in workers.collect::<Vec<_>>() {
        worker.await??;
    }
    Ok(Rc::try_unwrap(seen).map_err(|_| "still used")?.into_inner())
}

/// At a rate, while `goes_on` says so.
async fn open(target: &Rc<Target>, rate: f64, goes_on: impl Fn(f64) -> bool) -> (Seen, f64) {
    let seen = Rc::new(RefCell::new(Seen::default()));
    let idle: Rc<RefCell<Vec<Connection>>> = Rc::default();
    let busy = Rc::new(Cell::new(0));
    let start = Instant::now();
    let mut sent = 0usize;
    let mut tick = tokio::time::interval(Duration::from_millis(1));
    while goes_on(start.elapsed().as_secs_f64()) {
        tick.tick().await;
        while (sent as f64) < start.elapsed().as_secs_f64() * rate {
            sent += 1;
            if busy.get() >= MOST {
                seen.borrow_mut().unsent += 1;
                continue;
            }
            busy.set(busy.get() + 1);
            let (target, seen, idle, busy) = (target.clone(), seen.clone(), idle.clone(), busy.clone());
            tokio::task::spawn_local(async move {
                let began = Instant::now();
                let free = idle.borrow_mut().pop();
                let connection = match free {
                    Some(connection) => Ok(connection),
                    None => Connection::open(&target.address).await,
                };
                match connection {
                    Ok(mut connection) => {
                        let request = &target.requests[sent % target.requests.len()];
                        let mut status = connection.ask(request).await;
                        // The service closes what was idle for long.
                        if status.is_err()
                            && let Ok(fresh) = Connection::open(&target.address).await
                        {
                            connection = fresh;
                            status = connection.ask(request).await;
                        }
                        let whole = status.is_ok();
                        seen.borrow_mut().note(status, began.elapsed().as_secs_f64());
                        if whole {
                            idle.borrow_mut().push(connection);
                        }
                    }
                    Err(_) => seen.borrow_mut().broken += 1,
                }
                busy.set(busy.get() - 1);
            });
        }
    }
    let seconds = start.elapsed().as_secs_f64();
    while busy.get() > 0 && start.elapsed().as_secs_f64() < seconds + 60.0 {
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
    println!("  {} connections", idle.borrow().len());
    (seen.take(), seconds)
}

fn request(a: &Arguments, address: &str, path: &str, body: &Value) -> Vec<u8> {
    let (key, body) = (&a.key, body.to_string());
    format!(
        "POST {path} HTTP/1.1\r\nhost: {address}\r\nauthorization: Bearer {key}\r\ncontent-type: application/json\r\n\
         content-length: {}\r\n\r\n{body}",
        body.len()
    )
    .into_bytes()
}

async fn target(a: &Arguments, client: &Client) -> Result<Rc<Target>> {
    let address = a.url.trim_start_matches("http://").trim_end_matches('/').to_owned();
    let collection = client.collection(&a.collection).await?;
    let column = collection.default_column.ok_or("the collection has no vector column")?;
    let page = client.records(&a.collection, None, 200, None, None).await?;
    let path = format!("/api/collections/{}/search", a.collection);
    let mut requests = Vec::new();
    for record in page.records {
        let record = client.record(&a.collection, &record.key, true).await?;
        let vector = record.vectors.and_then(|v| v.get(&column).cloned().flatten());
        let vector = vector.ok_or("a record has no vector")?;
        let mut body = json!({"vector": in_base64(&vector), "k": 10});
        if !a.fields {
            body["fields"] = json!([]);
        }
        if let Some(filter) = &a.filter {
            body["filter"] = json!(filter);
        }
        requests.push(request(a, &address, &path, &body));
    }
    Ok(Rc::new(Target { address, requests }))
}

/// The longest answer of the health route, and the median, until `stop`.
async fn health(address: String, stop: Rc<Cell<bool>>) -> Vec<f64> {
    let request = format!("GET /health/ready HTTP/1.1\r\nhost: {address}\r\n\r\n");
    let mut all = Vec::new();
    while !stop.get() {
        let began = Instant::now();
        // A connection of its own each time, as a balancer may have.
        if let Ok(mut connection) = Connection::open(&address).await {
            let _ = connection.ask(request.as_bytes()).await;
        }
        all.push(began.elapsed().as_secs_f64());
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    all.sort_by(f64::total_cmp);
    all
}

async fn measure(a: Arguments) -> Result<()> {
    let client = Client::new(&a.url, &a.key);
    let target = target(&a, &client).await?;
    let memory = || a.process.map_or(0, |p| bytes_of(p, "RssAnon:")) / 1_000_000;
    closed(&target, 8, 2.0).await?;
    println!("memory {} MB", memory());
    let (_, unloaded) = closed(&target, 1, a.seconds).await?.tell("one at a time", a.seconds);
    let (capacity, _) = closed(&target, 8, a.seconds).await?.tell("eight at a time", a.seconds);

    let half = capacity * a.share;
    let (mut seen, seconds) = open(&target, half, |s| s < a.seconds).await;
    let (_, alone) = seen.tell(&format!("{:.0}/s", half), seconds);
    if let Some(recipe) = &a.build {
        let input = json!({"name": "pressure", "recipe": recipe});
        let job = client.build_index(&a.collection, &input).await?;
        let (done, watching) = (Rc::new(Cell::new(false)), client.clone());
        let ended = done.clone();
        let watch = tokio::task::spawn_local(async move {
            while watching.job(job.id).await.is_ok_and(|job| job.state == "running") {
                tokio::time::sleep(Duration::from_millis(500)).await;
            }
            ended.set(true);
        });
        let (mut seen, seconds) = open(&target, half, |s| !done.get() && s < 600.0).await;
        let (_, beside) = seen.tell(&format!("{half:.0}/s beside a build"), seconds);
        watch.await?;
        println!("  p99 beside the build: {:.2} times that without; it took {seconds:.1} s", beside / alone);
        client.drop_index(&a.collection, "pressure").await?;
    }

    if let Some(command) = &a.beside {
        let done = Rc::new(Cell::new(false));
        let (ended, command) = (done.clone(), command.clone());
        let run = move || {
            let ran = std::process::Command::new("sh")
                .args(["-c", &command])
                .stdout(std::process::Stdio::null())
                .status();
            ran.map(|status| status.success())
        };
        let watch = tokio::task::spawn_local(async move {
            let ran = tokio::task::spawn_blocking(run).await;
            ended.set(true);
            ran
        });
        let (mut seen, seconds) = open(&target, half, |s| !done.get() && s < 600.0).await;
        let (_, beside) = seen.tell(&format!("{half:.0}/s beside the command"), seconds);
        if !watch.await??? {
            return Err("the command failed".into());
        }
        println!(
            "  p99 beside the command: {:.2} times that without; it took {seconds:.1} s",
            beside / alone
        );
    }

    let stop = Rc::new(Cell::new(false));
    let watching = tokio::task::spawn_local(health(target.address.clone(), stop.clone()));
    let before = memory();
    let (mut seen, seconds) = open(&target, capacity * a.times, |s| s < a.seconds).await;
    let (_, loaded) = seen.tell(&format!("{:.0}/s ({} times)", capacity * a.times, a.times), seconds);
    stop.set(true);
    let health = watching.await?;
    println!(
        "  p99 of what was accepted: {:.2} times that of one at a time; health p50 {:.2} ms, max {:.2} ms; memory {before} to {} MB",
        loaded / unloaded,
        at(&health, 0.5),
        at(&health, 1.0),
        memory()
    );
    Ok(())
}

/// How far this program goes before others; only root may.
const NICE: i32 = -10;

fn main() -> Result<()> {
    if let Err(e) = rustix::process::setpriority_process(None, NICE) {
        println!("this program's own waits for a core are counted: {e}");
    }
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    tokio::task::LocalSet::new().block_on(&runtime, measure(Arguments::parse()))
}
