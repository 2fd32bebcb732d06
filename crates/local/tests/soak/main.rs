//! Two tenants write, delete and search while indexes are rebuilt, MariaDB is stopped and the service is killed, again and
//! again. Every answer is held against an exact model. `bin/soak --minutes N` runs it for longer.

// Tests are deep trees of futures.
#![recursion_limit = "256"]

mod model;
mod place;

use model::{DIMENSIONS, Model, is_there, key, record};
use place::Place;
use rand::Rng;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};
use zesty_client::wire::{KeyRequest, Scope, ServingChoice, Settings};
use zesty_client::{Client, Error};

/// Records of a tenant, and of each of its writers.
const RECORDS: usize = 1200;
const WRITERS: usize = 2;
/// How long one request may take before it counts as lost.
const PATIENCE: Duration = Duration::from_secs(40);

/// What the tasks share.
struct Soak {
    stop: AtomicBool,
    /// Whether the service is up: then searches may not fail, whatever the database does.
    up: AtomicBool,
    /// Counts the times it went down.
    falls: AtomicU64,
    refused: AtomicU64,
    unsure: AtomicU64,
    lost: AtomicU64,
}

impl Soak {
    fn goes_on(&self) -> bool {
        !self.stop.load(Ordering::Relaxed)
    }
}

/// How a write ended.
enum Outcome {
    Done,
    /// Surely not written.
    Refused,
    /// Nobody knows.
    Unsure,
}

/// What is sent until its outcome is known.
enum Deed {
    Write(Vec<Value>),
    Delete(String),
}

impl Deed {
    async fn send(&self, c: &Client) -> Outcome {
        match self {
            Deed::Write(records) => {
                outcome(tokio::time::timeout(PATIENCE, c.write("points", records)).await, false)
            }
            Deed::Delete(key) => {
                outcome(tokio::time::timeout(PATIENCE, c.delete_record("points", key)).await, true)
            }
        }
    }
}

fn outcome<T>(answer: Result<Result<T, Error>, tokio::time::error::Elapsed>, is_delete: bool) -> Outcome {
    match answer {
        Ok(Ok(_)) => Outcome::Done,
        Ok(Err(Error::Refused(p))) if is_delete && p.status == 404 => Outcome::Done,
        Ok(Err(Error::Refused(p))) if matches!(p.word(), "outcome-unknown" | "internal") => Outcome::Unsure,
        Ok(Err(Error::Refused(p))) if matches!(p.status, 429 | 503) => Outcome::Refused,
        Ok(Err(Error::Refused(p))) => panic!("a write is refused: {p:?}"),
        _ => Outcome::Unsure,
    }
}

/// Writes the next versions of some records of its own, until the end.
async fn write(soak: Arc<Soak>, c: Client, model: Arc<Model>, own: std::ops::Range<usize>) {
    while soak.goes_on() {
        let now = model.now();
        let n = rand::rng().random_range(1..=20);
        let mut some: Vec<usize> = (0..n).map(|_| rand::rng().random_range(own.clone())).collect();
        some.sort_unstable();
        some.dedup();
        let (write, delete): (Vec<usize>, Vec<usize>) =
            some.into_iter().partition(|at| is_there(now[*at].acked + 1));
        if !write.is_empty() {
            let versions = model.begin(&write);
            let records: Vec<Value> =
                write.iter().zip(versions).map(|(at, v)| record(model.tenant, *at, v)).collect();
            settle((&soak, &c, &model), &write, Deed::Write(records)).await;
        }
        for at in delete {
            model.begin(&[at]);
            settle((&soak, &c, &model), &[at], Deed::Delete(key(model.tenant, at))).await;
        }
    }
}

/// Sends a write until its outcome is known; what may be written is written for good before anything else.
async fn settle((soak, c, model): (&Soak, &Client, &Model), all: &[usize], deed: Deed) {
    let mut maybe = false;
    loop {
        match deed.send(c).await {
            Outcome::Done => return model.acknowledged(all),
            Outcome::Refused if !maybe => {
                soak.refused.fetch_add(1, Ordering::Relaxed);
                model.refused(all);
                tokio::task::yield_now().await;
                return pause().await;
            }
            Outcome::Refused => {}
            Outcome::Unsure => {
                soak.unsure.fetch_add(1, Ordering::Relaxed);
                maybe = true;
            }
        }
        pause().await;
    }
}

/// As a client waits that was told when to come again.
async fn pause() {
    tokio::time::sleep(Duration::from_millis(200)).await;
}

async fn search(soak: Arc<Soak>, c: Client, model: Arc<Model>) {
    while soak.goes_on() {
        let query: Vec<f32> = (0..DIMENSIONS).map(|_| rand::rng().random_range(-1.0f32..1.0)).collect();
        let k = rand::rng().random_range(1..=30);
        let exact = rand::rng().random_range(0..3) == 0;
        let falls = soak.falls.load(Ordering::SeqCst);
        let was_up = soak.up.load(Ordering::SeqCst);
        let before = model.now();
        let request = json!({"vector": query, "k": k, "exact": exact, "filter": "v > 0 OR v IS NULL"});
        let answer = tokio::time::timeout(PATIENCE, c.search("points", &request)).await;
        let after = model.now();
        match answer {
            Ok(Ok(found)) => model.check(&query, k, &found, &before, &after),
            Ok(Err(Error::Refused(p))) if matches!(p.word(), "overloaded" | "too-many-requests") => {
                pause().await
            }
            other => {
                let still_up = soak.up.load(Ordering::SeqCst) && soak.falls.load(Ordering::SeqCst) == falls;
                if was_up && still_up {
                    soak.lost.fetch_add(1, Ordering::Relaxed);
                    model.is_wrong(format!("a search fails while the service is up: {other:?}"));
                }
                pause().await;
            }
        }
    }
}

/// Builds indexes, serves by them and drops the one before, while the database lets it.
async fn rebuild(soak: Arc<Soak>, c: Client) -> usize {
    let recipes = ["graph(links=8, build=60)", "graph(links=8, build=60) | int8 | rescore(f32)", "cells(16)"];
    let mut built = 0;
    for (n, recipe) in recipes.iter().cycle().enumerate() {
        if !soak.goes_on() {
            break;
        }
        let name = format!("g{n}");
        let turn = async {
            let job = c.build_index("points", &json!({"name": name, "recipe": recipe})).await?;
            c.watch_job(job.id, |_| ()).await?;
            let settings = Settings { beam: Some(60), visit: Some(6), ..Settings::default() };
            let choice = ServingChoice { index: name.clone(), settings, recall: None };
            c.set_serving("points", "place", Some(&choice)).await?;
            // Those too that a turn left behind which broke off.
            for other in c.indexes("points").await?.iter().filter(|i| i.name != name) {
                c.drop_index("points", &other.name).await?;
            }
            Ok::<_, Error>(())
        };
        match tokio::time::timeout(PATIENCE, turn).await {
            Ok(Ok(())) => built += 1,
            _ => pause().await,
        }
    }
    built
}

/// Waits until so many more writes were acknowledged.
async fn after_writes(models: &[Arc<Model>], more: u64) {
    let all = || models.iter().map(|m| m.writes.load(Ordering::Relaxed)).sum::<u64>();
    let wanted = all() + more;
    while all() < wanted {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn two_tenants_live_through_stops_and_kills() {
    let minutes: f64 = std::env::var("ZESTY_SOAK_MINUTES").ok().and_then(|m| m.parse().ok()).unwrap_or(0.3);
    let folder = tempfile::tempdir().unwrap();
    let mut place = Place::new(folder.path()).unwrap();
    let manager = Client::new(&place.url(), place.first_key().unwrap().trim());
    let fields = json!({"properties": {"tenant": {"type": "string"}, "v": {"type": "integer"}}});
    let columns = json!([{"name": "place", "dimensions": DIMENSIONS, "metric": "euclidean"}]);
    manager
        .create_collection(&json!({"name": "points", "fields": fields, "columns": columns}))
        .await
        .unwrap();
    let soak = Arc::new(Soak {
        stop: AtomicBool::default(),
        up: AtomicBool::new(true),
        falls: AtomicU64::default(),
        refused: AtomicU64::default(),
        unsure: AtomicU64::default(),
        lost: AtomicU64::default(),
    });
    let models = ["a", "b"].map(|tenant| Arc::new(Model::new(tenant, RECORDS)));
    let (mut tasks, mut tenants) = (tokio::task::JoinSet::new(), Vec::new());
    for model in &models {
        let request = KeyRequest {
            name: format!("tenant-{}", model.tenant),
            scopes: vec![Scope::Search, Scope::Read, Scope::Write],
            collections: Some(vec!["points".into()]),
            filter: Some(format!("tenant = '{}'", model.tenant)),
            values: json!({"tenant": model.tenant}).as_object().unwrap().clone(),
            key_prefix: Some(format!("{}:", model.tenant)),
            ..KeyRequest::default()
        };
        let c = manager.with_key(&manager.make_key(&request).await.unwrap().key);
        let share = RECORDS / WRITERS;
        for w in 0..WRITERS {
            tasks.spawn(write(soak.clone(), c.clone(), model.clone(), w * share..(w + 1) * share));
        }
        tasks.spawn(search(soak.clone(), c.clone(), model.clone()));
        tenants.push(c);
    }
    let building = tokio::spawn(rebuild(soak.clone(), manager.clone()));

    let end = Instant::now() + Duration::from_secs_f64(minutes * 60.0);
    let (mut stops, mut kills, mut memory) = (0, 0, Vec::new());
    // In a long run what breaks is seldom enough for much to happen between.
    let between = if minutes > 2.0 { 5_000 } else { 800 };
    while Instant::now() < end || kills == 0 {
        after_writes(&models, between).await;
        memory.extend(place.resident());
        place.stop_database();
        stops += 1;
        let told = soak.refused.load(Ordering::Relaxed) + soak.unsure.load(Ordering::Relaxed);
        while soak.refused.load(Ordering::Relaxed) + soak.unsure.load(Ordering::Relaxed) < told + 8 {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        place.start_database().unwrap();
        after_writes(&models, between).await;
        memory.extend(place.resident());
        soak.up.store(false, Ordering::SeqCst);
        soak.falls.fetch_add(1, Ordering::SeqCst);
        place.kill_service().unwrap();
        kills += 1;
        place.start_service().unwrap();
        soak.up.store(true, Ordering::SeqCst);
    }
    after_writes(&models, between).await;
    memory.extend(place.resident());
    soak.stop.store(true, Ordering::Relaxed);
    while let Some(ended) = tasks.join_next().await {
        ended.unwrap();
    }
    let built = building.await.unwrap();

    for (model, c) in models.iter().zip(&tenants) {
        let text = c.request(reqwest::Method::GET, "/api/collections/points/export").send().await.unwrap();
        let text = text.error_for_status().unwrap().text().await.unwrap();
        let held: BTreeMap<String, u64> = text
            .lines()
            .map(|line| {
                let record: Value = serde_json::from_str(line).unwrap();
                (record["key"].as_str().unwrap().to_owned(), record["fields"]["v"].as_u64().unwrap())
            })
            .collect();
        let there = model.now().into_iter().enumerate().filter(|(_, v)| is_there(v.acked));
        let wanted: BTreeMap<String, u64> =
            there.map(|(at, v)| (key(model.tenant, at), u64::from(v.acked))).collect();
        assert_eq!(held, wanted, "what tenant {} holds at the end", model.tenant);
    }
    let sum =
        |of: fn(&Model) -> &AtomicU64| models.iter().map(|m| of(m).load(Ordering::Relaxed)).sum::<u64>();
    let mb: Vec<u64> = memory.iter().map(|b| b / 1_000_000).collect();
    println!(
        "soak: {} searches and {} writes held against the model; {} refused, {} of unknown outcome; {built} indexes built, \
         MariaDB stopped {stops} times, the service killed {kills} times; memory in MB: {mb:?}",
        sum(|m| &m.searches),
        sum(|m| &m.writes),
        soak.refused.load(Ordering::Relaxed),
        soak.unsure.load(Ordering::Relaxed),
    );
    let wrong: Vec<String> = models.iter().flat_map(|m| m.wrong.lock().clone()).collect();
    assert!(wrong.is_empty(), "{} wrong answers, such as {:?}", wrong.len(), &wrong[..wrong.len().min(5)]);
    assert_eq!(soak.lost.load(Ordering::Relaxed), 0);
}
