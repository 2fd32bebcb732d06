//! What it costs to watch the recall of live searches: searches a second over HTTP without and with it, in turns. One JSON
//! object a line.
//!
//! cargo run --release -p zesty-service --example watching -- --budget 0.02

// Requests are deep trees of futures.
#![recursion_limit = "256"]

use clap::Parser;
use serde_json::json;
use std::error::Error;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use zesty_testing::{Running, with_encoder};
use zesty_wire::{RecallCheck, Watch};

#[derive(Parser)]
struct Arguments {
    /// The share of the processor time that exact answers may take
    #[arg(long, default_value_t = 0.02)]
    budget: f64,
    #[arg(long, default_value_t = 30_000)]
    records: usize,
    /// Searches at the same time
    #[arg(long, default_value_t = 4)]
    clients: usize,
    /// Pairs of turns
    #[arg(long, default_value_t = 15)]
    rounds: usize,
    /// Of a turn
    #[arg(long, default_value_t = 3.0)]
    seconds: f64,
}

/// Searches a second while the turn lasts.
async fn turn(r: &Running, vectors: &Arc<Vec<Vec<f32>>>, a: &Arguments) -> f64 {
    let (stop, n) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicUsize::new(0)));
    let start = Instant::now();
    let workers: Vec<_> = (0..a.clients)
        .map(|first| {
            let (client, stop, n) = (r.client.clone(), stop.clone(), n.clone());
            let vectors = vectors.clone();
            tokio::spawn(async move {
                let mut at = first;
                while !stop.load(Ordering::Relaxed) {
                    let search = json!({"vector": vectors[at % vectors.len()], "k": 10, "fields": []});
                    if client.search("logbook", &search).await.is_ok() {
                        n.fetch_add(1, Ordering::Relaxed);
                    }
                    at += 1;
                }
            })
        })
        .collect();
    tokio::time::sleep(Duration::from_secs_f64(a.seconds)).await;
    stop.store(true, Ordering::Relaxed);
    for worker in workers {
        let _ = worker.await;
    }
    n.load(Ordering::Relaxed) as f64 / start.elapsed().as_secs_f64()
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn Error>> {
    let a = Arguments::parse();
    let r = with_encoder().await;
    r.logbook(a.records).await;
    r.build("logbook", "graph", "graph").await;
    let set = json!({"name": "asked", "kind": "jittered", "queries": 400});
    r.finish(r.client.make_query_set("logbook", &set).await?.id).await;
    let queries = r.client.queries("logbook", "asked", 0, 400).await?.queries;
    let vectors = Arc::new(queries.into_iter().map(|q| q.vector).collect::<Vec<_>>());
    let on = Watch { capture: None, recall: Some(RecallCheck { budget: a.budget, floor: None }) };
    let off = Watch { capture: None, recall: None };
    turn(&r, &vectors, &a).await;
    let mut ratios = Vec::new();
    for round in 0..a.rounds {
        // Each goes first as often as the other.
        let mut per_s = [0.0; 2];
        for i in [round % 2, 1 - round % 2] {
            r.client.set_watch("logbook", if i == 0 { &off } else { &on }).await?;
            per_s[i] = turn(&r, &vectors, &a).await;
        }
        ratios.push(per_s[1] / per_s[0]);
        println!(
            "{}",
            json!({"line": "round", "without_per_s": per_s[0], "with_per_s": per_s[1], "ratio": per_s[1] / per_s[0]})
        );
    }
    ratios.sort_by(f64::total_cmp);
    let state = r.client.watch_state("logbook", 1).await?;
    let checked: u64 = state.overall.iter().map(|o| o.searches).sum();
    println!(
        "{}",
        json!({"line": "all", "budget": a.budget, "ratio_middle": ratios[ratios.len() / 2],
        "ratio_lowest": ratios[0], "ratio_highest": ratios[ratios.len() - 1], "spent": state.spent, "checked": checked})
    );
    Ok(())
}
