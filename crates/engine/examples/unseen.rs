//! Proves what a sweep over stored records says of queries that were never indexed: the records of some parts are asked of
//! indexes that never held their part, of one that holds all, and of that one without their part. One JSON object a line.
//!
//! cargo run --release -p zesty-engine --example unseen -- --vectors FILE.npy --recipe graph

use clap::Parser;
use serde_json::json;
use std::error::Error;
use std::fs::File;
use std::io::BufReader;
use std::path::PathBuf;
use zesty_engine::index::{
    Description, Index, Limit, Progress, Settings, Source, held_out_part, held_out_parts, held_out_share,
};
use zesty_engine::lines::Aligned;
use zesty_engine::scan::{Allowed, Queries, scan_many};
use zesty_engine::{Metric, Recipe};

#[derive(Parser)]
struct Arguments {
    /// NPY, f32 or f16, shape [rows, dimensions], in random order
    #[arg(long)]
    vectors: PathBuf,
    #[arg(long, default_value = "cosine")]
    metric: Metric,
    #[arg(long)]
    recipe: Vec<String>,
    #[arg(long, value_delimiter = ',', default_value = "10,20,64")]
    beam: Vec<usize>,
    #[arg(long, value_delimiter = ',', default_value = "2,8,32")]
    visit: Vec<usize>,
    #[arg(long, default_value_t = 1)]
    seed: u64,
    /// Parts whose records ask; an index is built without each
    #[arg(long, default_value_t = 4)]
    parts: usize,
}

const K: usize = 10;

fn main() -> Result<(), Box<dyn Error>> {
    let a = Arguments::parse();
    let npy = npyz::NpyFile::new(BufReader::new(File::open(&a.vectors)?))?;
    let d = npy.shape()[1] as usize;
    let values: Vec<f32> = match npy.data::<f32>() {
        Ok(values) => values.collect::<Result<_, _>>()?,
        Err(npy) => {
            drop(npy);
            let npy = npyz::NpyFile::new(BufReader::new(File::open(&a.vectors)?))?;
            let values = npy.data::<half::f16>().map_err(|_| "neither f32 nor f16")?;
            values.map(|x| x.map(f32::from)).collect::<Result<_, _>>()?
        }
    };
    let mut all = Aligned::with_capacity(values.len());
    for row in values.chunks(d) {
        all.extend(&a.metric.prepare(row, d).map_err(|e| e.to_string())?);
    }
    let n = values.len() / d;
    let share = held_out_share(n);
    let n_parts = held_out_parts(share).min(a.parts);
    let is_of = |part: usize, row: usize| held_out_part(row as u64, share) == Some(part);
    let row = |row: usize| &all.as_slice()[row * d..][..d];
    let parts: Vec<Part> = (0..n_parts)
        .map(|part| {
            let mut others = Aligned::with_capacity(values.len());
            (0..n).filter(|r| !is_of(part, *r)).for_each(|r| others.extend(row(r)));
            let asking = (0..n).filter(|r| is_of(part, *r));
            let queries: Vec<f32> = asking.flat_map(|r| row(r).iter().copied()).collect();
            let numbers: Vec<u64> = (0..n as u64).filter(|r| !is_of(part, *r as usize)).collect();
            let none = vec![None; queries.len() / d];
            let block = [(0, others.as_slice())];
            let asked = Queries { values: &queries, dimensions: d, excluded: &none };
            let truth: Vec<Vec<u64>> = scan_many(&block, a.metric, asked, K, Allowed::All, 2)
                .into_iter()
                .map(|list| list.iter().map(|n| numbers[n.row as usize]).collect())
                .collect();
            Part { others, numbers, queries, truth }
        })
        .collect();
    for recipe in &a.recipe {
        let recipe: Recipe = recipe.parse().map_err(|e: zesty_engine::recipe::RecipeError| e.to_string())?;
        let build = |vectors: Aligned<f32>, numbers: Vec<u64>| {
            let description = Description {
                recipe: String::new(),
                metric: a.metric,
                dimensions: d,
                revision: 0,
                seed: a.seed,
                rows_at_build: 0,
                owner: String::new(),
            };
            Index::build(Source { description, vectors, numbers }, recipe, 2, &Progress::default())
        };
        let held = build(all.clone(), (0..n as u64).collect())?;
        let word = recipe.setting();
        let list = if word == Some("visit") { &a.visit } else { &a.beam };
        // By setting: found by an index that never held the records, by the one that holds them, and by that without them.
        let mut found = vec![[0; 3]; list.len()];
        let mut wanted = 0;
        let mut left_out_s = 0.0;
        for (i, part) in parts.iter().enumerate() {
            let never = build(part.others.clone(), part.numbers.clone())?;
            let withheld = held.nodes_where(|node| is_of(i, held.numbers()[node as usize] as usize));
            let vector = |node: u32| Some(row(held.numbers()[node as usize] as usize));
            let start = std::time::Instant::now();
            let without = held.without(withheld, vector, 2, &Progress::default())?;
            left_out_s += start.elapsed().as_secs_f64();
            wanted += K * part.truth.len();
            for (found, &value) in found.iter_mut().zip(list) {
                let settings = match word {
                    Some("visit") => Settings { visit: value, ..Settings::default() },
                    _ => Settings::beam(value),
                };
                for (found, (index, more)) in found.iter_mut().zip([(&never, 0), (&held, 8), (&without, 0)]) {
                    for (query, truth) in part.queries.chunks(d).zip(&part.truth) {
                        // The records of the part are among those that one of them holds.
                        let hits = index.search(query, K + more, settings, Allowed::All, Limit::NONE).0;
                        let hits = hits.iter().map(|n| index.numbers()[n.row as usize]);
                        let hits = hits.filter(|number| !is_of(i, *number as usize)).take(K);
                        *found += hits.filter(|number| truth.contains(number)).count();
                    }
                }
            }
        }
        for (found, setting) in found.iter().zip(list) {
            let [never, held, without] = found.map(|n| n as f64 / wanted as f64);
            println!(
                "{}",
                json!({"recipe": recipe.to_string(), "setting": setting, "never_indexed": never,
                    "indexed": held, "without": without, "off": without - never,
                    "queries": wanted / K, "left_out_s": left_out_s / parts.len() as f64})
            );
        }
    }
    Ok(())
}

/// Records that are left out together.
struct Part {
    others: Aligned<f32>,
    numbers: Vec<u64>,
    queries: Vec<f32>,
    truth: Vec<Vec<u64>>,
}
