//! Proves what a sweep over stored records says of queries that were never indexed: the same records are asked of an
//! index that never held them, of one that holds them, and of that one without them. One JSON object a line.
//!
//! cargo run --release -p zesty-engine --example unseen -- --vectors FILE.npy --recipe graph

use clap::Parser;
use serde_json::json;
use std::error::Error;
use std::fs::File;
use std::io::BufReader;
use std::path::PathBuf;
use zesty_engine::index::{
    Description, Index, Limit, Progress, Settings, Source, held_out_share, is_held_out,
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
    let asks = |row: usize| is_held_out(row as u64, share);
    let row = |row: usize| &all.as_slice()[row * d..][..d];
    let mut others = Aligned::with_capacity(values.len());
    (0..n).filter(|r| !asks(*r)).for_each(|r| others.extend(row(r)));
    let queries: Vec<f32> = (0..n).filter(|r| asks(*r)).flat_map(|r| row(r).iter().copied()).collect();
    let numbers: Vec<u64> = (0..n as u64).filter(|r| !asks(*r as usize)).collect();
    let none = vec![None; queries.len() / d];
    let block = [(0, others.as_slice())];
    let asked = Queries { values: &queries, dimensions: d, excluded: &none };
    let truth: Vec<Vec<u64>> = scan_many(&block, a.metric, asked, K, Allowed::All, 2)
        .into_iter()
        .map(|list| list.iter().map(|n| numbers[n.row as usize]).collect())
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
        let never = build(others.clone(), numbers.clone())?;
        let held = build(all.clone(), (0..n as u64).collect())?;
        let withheld = held.nodes_where(|node| asks(held.numbers()[node as usize] as usize));
        let vector = |node: u32| Some(row(held.numbers()[node as usize] as usize));
        let without = held.without(withheld, vector, 2, &Progress::default())?;
        let word = recipe.setting();
        let list = if word == Some("visit") { &a.visit } else { &a.beam };
        for &value in list {
            let settings = match word {
                Some("visit") => Settings { visit: value, ..Settings::default() },
                _ => Settings::beam(value),
            };
            let recall = |index: &Index, itself: bool| {
                let mut found = 0;
                for (query, truth) in queries.chunks(d).zip(&truth) {
                    let own = |number: u64| asks(number as usize);
                    let k = if itself { K + 8 } else { K };
                    let hits = index.search(query, k, settings, Allowed::All, Limit::NONE).0;
                    let hits = hits.iter().map(|n| index.numbers()[n.row as usize]);
                    let hits = hits.filter(|n| !itself || !own(*n)).take(K);
                    found += hits.filter(|n| truth.contains(n)).count();
                }
                found as f64 / (K * truth.len()) as f64
            };
            let (never, held, without) =
                (recall(&never, false), recall(&held, true), recall(&without, false));
            println!(
                "{}",
                json!({"recipe": recipe.to_string(), "setting": value, "never_indexed": never,
                    "indexed": held, "without": without, "off": without - never})
            );
        }
    }
    Ok(())
}
