//! Half of a collection replaced over and over: memory and disk beside those of a fresh load, and every answer beside a
//! model that is kept here.
//!
//! `cargo run --release -p zesty-service --example storm -- --records 200000`

// Requests are deep trees of futures.
#![recursion_limit = "256"]

use clap::Parser;
use rand::seq::SliceRandom;
use rand::{Rng, SeedableRng};
use serde_json::{Value, json};
use std::error::Error;
use std::path::Path;
use std::time::{Duration, Instant};
use zesty_testing::{Running, bytes_of, plain};

#[derive(Parser)]
struct Arguments {
    #[arg(long, default_value_t = 200_000)]
    records: usize,
    #[arg(long, default_value_t = 384)]
    dimensions: usize,
    #[arg(long, default_value_t = 10)]
    rounds: usize,
    /// An index that answers meanwhile; none for exact scans
    #[arg(long)]
    recipe: Option<String>,
}

type Result<T> = std::result::Result<T, Box<dyn Error + Send + Sync>>;

/// The vector that a record has after so many replacements.
fn vector(key: usize, version: u32, d: usize) -> Vec<f32> {
    let mut random = rand::rngs::StdRng::seed_from_u64(((key as u64) << 8) | u64::from(version));
    (0..d).map(|_| random.random_range(-1.0f32..1.0)).collect()
}

fn record(key: usize, version: u32, d: usize) -> Value {
    json!({"key": format!("record-{key}"), "vectors": {"v": vector(key, version, d)},
        "fields": {"version": version, "station": format!("Station {}", key % 36), "note": format!("{key} at {version}")}})
}

async fn write(r: &Running, keys: &[usize], model: &[u32], d: usize) -> Result<()> {
    let records: Vec<Value> = keys.iter().map(|k| record(*k, model[*k], d)).collect();
    r.client.write("c", &records).await.map_err(|e| e.to_string())?;
    Ok(())
}

fn bytes_in(folder: &Path) -> u64 {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    entries
        .map(|e| if e.path().is_dir() { bytes_in(&e.path()) } else { e.metadata().map_or(0, |m| m.len()) })
        .sum()
}

struct Sizes {
    collection: u64,
    disk: u64,
    process: u64,
}

async fn sizes(r: &Running) -> Result<Sizes> {
    let costs = r.client.costs("c").await.map_err(|e| e.to_string())?;
    Ok(Sizes {
        collection: costs.memory + costs.mapped,
        disk: bytes_in(&r.data.join("segments")),
        process: bytes_of(std::process::id(), "RssAnon:"),
    })
}

/// Waits until nothing more is written out or merged.
async fn settle(r: &Running) -> Result<Sizes> {
    let (mut last, mut same) = (0, 0);
    while same < 6 {
        tokio::time::sleep(Duration::from_secs(1)).await;
        let now = sizes(r).await?;
        same = if now.disk == last { same + 1 } else { 0 };
        last = now.disk;
    }
    sizes(r).await
}

#[tokio::main]
async fn main() -> Result<()> {
    let a = Arguments::parse();
    let d = a.dimensions;
    let r = plain().await;
    let fields = json!({"properties": {"version": {"type": "integer"}, "station": {"type": "string"},
        "note": {"type": "string"}}});
    let new = json!({"name": "c", "fields": fields, "columns": [{"name": "v", "dimensions": d}]});
    r.client.create_collection(&new).await.map_err(|e| e.to_string())?;
    let mut model = vec![0u32; a.records];
    let all: Vec<usize> = (0..a.records).collect();
    for keys in all.chunks(1000) {
        write(&r, keys, &model, d).await?;
    }
    if let Some(recipe) = &a.recipe {
        r.build("c", "i", recipe).await;
    }
    let fresh = settle(&r).await?;
    println!(
        "fresh: {:.0} MB of memory, held and mapped; {:.0} MB on disk; {:.0} MB held by the process",
        fresh.collection as f64 / 1e6,
        fresh.disk as f64 / 1e6,
        fresh.process as f64 / 1e6
    );
    let mut random = rand::rngs::StdRng::seed_from_u64(9);
    let (mut checked, mut wrong, mut worst) = (0, 0, [0.0f64; 3]);
    for round in 1..=a.rounds {
        let start = Instant::now();
        let mut half = all.clone();
        half.shuffle(&mut random);
        half.truncate(a.records / 2);
        for keys in half.chunks(1000) {
            keys.iter().for_each(|k| model[*k] += 1);
            write(&r, keys, &model, d).await?;
            // Some that were just written, and some that were not.
            for _ in 0..3 {
                for key in [keys[random.random_range(0..keys.len())], random.random_range(0..a.records)] {
                    let search = json!({"vector": vector(key, model[key], d), "k": 1,
                        "filter": format!("station = 'Station {}'", key % 36)});
                    let found = r.client.search("c", &search).await.map_err(|e| e.to_string())?;
                    let is_right = found.hits.first().is_some_and(|h| {
                        h.key == format!("record-{key}")
                            && h.fields["version"] == model[key]
                            && h.fields["note"] == format!("{key} at {}", model[key])
                    });
                    checked += 1;
                    if !is_right {
                        wrong += 1;
                        eprintln!("wrong: record-{key} at {}: {:?}", model[key], found.hits.first());
                    }
                }
            }
            if random.random_range(0..10) > 0 {
                continue;
            }
            let now = sizes(&r).await?;
            let ratios = [
                now.collection as f64 / fresh.collection as f64,
                now.disk as f64 / fresh.disk as f64,
                now.process as f64 / 1e6,
            ];
            (0..3).for_each(|i| worst[i] = worst[i].max(ratios[i]));
        }
        println!(
            "round {round}: {:.0} records/s; so far at most {:.2} x memory, {:.2} x disk, {:.0} MB held by the process; {wrong} of \
             {checked} answers wrong",
            half.len() as f64 / start.elapsed().as_secs_f64(),
            worst[0],
            worst[1],
            worst[2]
        );
    }
    let end = settle(&r).await?;
    println!(
        "end: {:.2} x memory, {:.2} x disk, {:.0} MB held by the process",
        end.collection as f64 / fresh.collection as f64,
        end.disk as f64 / fresh.disk as f64,
        end.process as f64 / 1e6
    );
    Ok(())
}
