//! Holds targets to their word: finds the settings for a recall on the records of a collection, and asks the index
//! queries that were never loaded. One JSON object a line.
//!
//! cargo run --release -p zesty-engine --example promises -- --vectors FILE.npy --recipe graph --seeds 10

use clap::Parser;
use rand::SeedableRng;
use rand::seq::SliceRandom;
use serde_json::{Map, json};
use std::error::Error;
use std::fs::File;
use std::io::BufReader;
use std::path::PathBuf;
use zesty_engine::index::{Description, Index, Progress};
use zesty_engine::measure::*;
use zesty_engine::rows::{Change, Writer};
use zesty_engine::search::{Attached, source_of};
use zesty_engine::{Metric, Recipe, Schema};

#[derive(Parser)]
struct Arguments {
    /// NPY, f32 or f16, shape [rows, dimensions]
    #[arg(long)]
    vectors: PathBuf,
    #[arg(long, default_value = "cosine")]
    metric: Metric,
    #[arg(long, default_value = "graph")]
    recipe: String,
    /// Queries that are never loaded
    #[arg(long, default_value_t = 5000)]
    unseen: usize,
    #[arg(long, value_delimiter = ',', default_value = "0.9,0.95,0.99")]
    recall: Vec<f64>,
    #[arg(long, default_value_t = 10)]
    seeds: u64,
}

const K: usize = 10;

fn main() -> Result<(), Box<dyn Error>> {
    let a = Arguments::parse();
    let recipe: Recipe = a.recipe.parse().map_err(|e: zesty_engine::recipe::RecipeError| e.to_string())?;
    let open = || npyz::NpyFile::new(BufReader::new(File::open(&a.vectors)?));
    let d = open()?.shape()[1] as usize;
    let values: Vec<f32> = match open()?.data::<f32>() {
        Ok(values) => values.collect::<Result<_, _>>()?,
        Err(_) => {
            let values = open()?.data::<half::f16>().map_err(|_| "neither f32 nor f16")?;
            values.map(|x| x.map(f32::from)).collect::<Result<_, _>>()?
        }
    };
    let mut rows: Vec<Vec<f32>> = Vec::new();
    for row in values.chunks(d) {
        rows.push(a.metric.prepare(row, d).map_err(|e| e.to_string())?);
    }
    drop(values);
    for seed in 1..=a.seeds {
        rows.shuffle(&mut rand_chacha::ChaCha8Rng::seed_from_u64(seed));
        let (unseen, loaded) = rows.split_at(a.unseen);
        let schema = Schema::from_json(&json!({"properties": {}}))?;
        let mut writer = Writer::new(schema, [("v".to_owned(), a.metric, d)]);
        for (i, some) in loaded.chunks(1000).enumerate() {
            let changes: Vec<Change> = some
                .iter()
                .enumerate()
                .map(|(j, row)| {
                    let number = (i * 1000 + j) as u64;
                    let vectors = vec![Some(row.clone()).into()];
                    let key = number.to_string();
                    Change { number, key, revision: i as u64 + 1, body: Some(Map::new()), vectors }
                })
                .collect();
            writer.apply(i as u64 + 1, &changes);
        }
        let table = writer.snapshot();
        let description = Description {
            recipe: String::new(),
            metric: a.metric,
            dimensions: d,
            revision: table.revision(),
            seed,
            rows_at_build: 0,
            owner: String::new(),
        };
        // As the table holds them: a vector of length 1 that is prepared again may end in another bit.
        let source = source_of(&table, 0, description);
        let index = Index::build(source, recipe, 2, &Progress::default())?;
        let attached = Attached::new(index, &table, 0)?;
        let work = Progress::default();
        let share = zesty_engine::index::held_out_share(loaded.len());
        let drawn = draw(&table, 0, Draw::Sampled, 10_000, seed, (2, &work))?;
        let set = QuerySet { vectors: &drawn.vectors, records: &drawn.records, filters: None };
        let parts = hold_out(&table, 0, set, share, true);
        let start = std::time::Instant::now();
        let without = parts.index(&attached, 0, (2, &work))?;
        let left_out_s = start.elapsed().as_secs_f64();
        let known = exact(&parts, 0, set, K, (2, &work))?;
        let stage = Stage { parts: &parts, index: &without, set, known: &known };
        let flat: Vec<f32> = unseen.iter().flatten().copied().collect();
        let nobody = vec![None; unseen.len()];
        let others = QuerySet { vectors: &flat, records: &nobody, filters: None };
        let whole = Parts::whole(table.clone(), unseen.len());
        let truth = exact(&whole, 0, others, K, (2, &work))?;
        for &recall in &a.recall {
            let target = Target { aim: Aim::Mean, recall, k: K };
            let solved = solve(0, &[stage], target, None, &work)?;
            let trial = Trial { index: 0, settings: solved.settings, k: K, clients: 1 };
            let spec = SweepSpec {
                column: 0,
                set: others,
                known: &truth,
                indexes: &[&[InPart::Whole(&attached)]],
                trials: &[trial],
                rounds: 1,
                seed: 1,
            };
            let got = sweep(&whole, &spec, &work, |_| {})?.points[0].point.summary.recall_mean;
            let said = &solved.verified.overall;
            println!(
                "{}",
                json!({"recipe": recipe.to_string(), "seed": seed, "asked": recall, "reached": solved.is_reached(target),
                    "settings": solved.settings, "reported": said.recall_mean, "never_seen": got,
                    "off": said.recall_mean - got, "interval": said.recall_interval,
                    "held": said.recall_interval.contains(got), "queries": drawn.records.len(),
                    "parts": parts.all().len(), "left_out_s": left_out_s})
            );
        }
    }
    Ok(())
}
