//! Recall and latency of filtered searches, on any vectors: filters that allow 50 to 0.01% of the rows, of three
//! kinds. `chance` allows rows without regard to the query, `near` what lies near it, `far` what lies far from it.
//!
//! `cargo run --release -p zesty-engine --example filtered -- --vectors FILE.npy --queries 500 --metric cosine`

use clap::Parser;
use serde_json::json;
use std::path::PathBuf;
use std::time::Instant;
use zesty_engine::filter::{Filter, Test};
use zesty_engine::index::{Description, Index, Progress, Settings};
use zesty_engine::large_pages::LargePages;
use zesty_engine::measure::{mean, percentile, recall};
use zesty_engine::rows::{Change, Table, Writer};
use zesty_engine::search::{Answer, Attached, Request, Strategy, run, source_of};
use zesty_engine::until::Until;
use zesty_engine::{Metric, Recipe, Schema};

#[derive(Parser)]
struct Args {
    /// NPY, f32 or f16, shape [rows, dimensions]
    #[arg(long)]
    vectors: PathBuf,
    /// Rows held out from the end as queries
    #[arg(long, default_value_t = 500)]
    queries: usize,
    /// So many of those are asked; all when absent
    #[arg(long)]
    asked: Option<usize>,
    #[arg(long, default_value = "cosine")]
    metric: Metric,
    #[arg(long, default_value_t = 10)]
    k: usize,
    /// Several: one after the other
    #[arg(long, default_values = RECIPES)]
    recipe: Vec<Recipe>,
    #[arg(long, default_value_t = 64)]
    beam: usize,
    #[arg(long, default_value_t = 16)]
    visit: usize,
    #[arg(long, default_value_t = 3)]
    rescore: usize,
    #[arg(long, default_value_t = 2)]
    threads: usize,
    /// Only these kinds and shares
    #[arg(long, value_delimiter = ',', default_value = "chance,near,far")]
    kinds: Vec<String>,
    #[arg(long, value_delimiter = ',', default_values_t = [0.5, 0.1, 0.01, 0.001, 0.0001])]
    shares: Vec<f64>,
    /// A folder where indexes are kept from one run to the next
    #[arg(long)]
    indexes: Option<PathBuf>,
    /// Megabytes of an index from a file that may be copied into large pages, as a service does
    #[arg(long, default_value_t = 0)]
    large_pages_mb: usize,
    /// Every strategy that is possible, not only the one that is chosen
    #[arg(long)]
    each: bool,
}

/// Those that `auto` chooses among, and the fastest.
const RECIPES: [&str; 3] = [
    "graph(links=16, build=200) | int8 | rescore(f32)",
    "graph(links=16, build=200, inline_codes=on) | bits | rescore(f32)",
    "cells(overlap=on) | bits | rescore(f16)",
];

/// A strategy that was taken for every query: times, expected times, recalls.
type Forced = (Strategy, Vec<f64>, Vec<f64>, Vec<f64>);

const GROUPS: usize = 256;

fn read(path: &PathBuf) -> Result<(Vec<f32>, usize), Box<dyn std::error::Error>> {
    let file = npyz::NpyFile::new(std::io::BufReader::new(std::fs::File::open(path)?))?;
    let [_, dimensions] = file.shape() else { return Err("the array has two dimensions".into()) };
    let dimensions = *dimensions as usize;
    let values = match file.dtype() {
        npyz::DType::Plain(t) if t.size_field() == 2 => {
            file.into_vec::<half::f16>()?.into_iter().map(half::f16::to_f32).collect()
        }
        _ => file.into_vec::<f32>()?,
    };
    Ok((values, dimensions))
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let args = Args::parse();
    let (values, d) = read(&args.vectors)?;
    let all: Vec<Vec<f32>> = values.chunks(d).map(|v| args.metric.prepare(v, d)).collect::<Result<_, _>>()?;
    let n = all.len().saturating_sub(args.queries);
    let (rows, queries) = all.split_at(n);
    let queries = &queries[..args.asked.unwrap_or(args.queries).min(queries.len())];

    // Groups of rows that lie together: each row goes to the nearest of some rows.
    let centers: Vec<&Vec<f32>> = (0..GROUPS.min(n)).map(|g| &rows[g * n / GROUPS.min(n)]).collect();
    let kernels = zesty_engine::kernels::Kernels::best();
    let rank = |a: &[f32], b: &[f32]| args.metric.rank(kernels, a, b);
    let group = |v: &[f32]| {
        let ranks = centers.iter().map(|c| rank(c, v)).enumerate();
        ranks.min_by(|a, b| a.1.total_cmp(&b.1)).map_or(0, |g| g.0)
    };
    let groups: Vec<usize> = rows.iter().map(|v| group(v)).collect();
    let mut sizes = vec![0; centers.len()];
    groups.iter().for_each(|g| sizes[*g] += 1);
    let chance = |row: usize| ((row as u64 + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 32) % 1_000_000;

    let schema = Schema::from_json(&json!({"properties": {
        "place": {"type": "integer"}, "chance": {"type": "integer"}}}))?;
    let mut writer = Writer::new(schema, [("v".to_owned(), args.metric, d)]);
    for (start, some) in rows.chunks(4096).enumerate().map(|(i, c)| (i * 4096, c)) {
        let change = |(i, v): (usize, &Vec<f32>)| {
            let row = start + i;
            let body = json!({"place": groups[row], "chance": chance(row)});
            let body = body.as_object().cloned();
            Change {
                number: row as u64,
                key: row.to_string(),
                revision: 1,
                body,
                vectors: vec![Some(v.clone()).into()],
            }
        };
        writer.apply(1, &some.iter().enumerate().map(change).collect::<Vec<_>>());
    }
    let table = writer.snapshot();
    for &recipe in &args.recipe {
        let description = Description {
            recipe: String::new(),
            metric: args.metric,
            dimensions: d,
            revision: 1,
            seed: 7,
            rows_at_build: 0,
            owner: String::new(),
        };
        // As the table holds them: a vector of length 1 that is prepared again may end in another bit.
        let source = source_of(&table, 0, description);
        let start = Instant::now();
        // A file that is named is written once, and read from then on.
        let path =
            args.indexes.as_ref().map(|folder| folder.join(recipe.to_string().replace([' ', '|'], "")));
        let index = match path.as_ref().filter(|path| path.exists()) {
            Some(path) => Index::open_into(path, &LargePages::new(args.large_pages_mb << 20))?,
            None => Index::build(source, recipe, args.threads, &Progress::default())?,
        };
        println!("\n{n} rows of {d}, {recipe}, made in {:.1} s", start.elapsed().as_secs_f64());
        if let Some(path) = path.filter(|path| !path.exists()) {
            index.write(&path)?;
        }
        let attached = Attached::new(index, &table, 0)?;
        let filter =
            |kind: &str, share: f64, query: &[f32]| filter(kind, share, n, query, &centers, &sizes, rank);
        Program { args: &args, table: &table, attached: &attached, queries }.measure(&filter)?;
    }
    Ok(())
}

struct Program<'a> {
    args: &'a Args,
    table: &'a Table,
    attached: &'a Attached,
    queries: &'a [Vec<f32>],
}

impl Program<'_> {
    fn ask(&self, query: &[f32], test: Option<&Test>, index: bool, only: Option<Strategy>) -> Answer {
        let Args { beam, visit, rescore, k, .. } = *self.args;
        let index = index.then_some((self.attached, Settings { beam, visit, rescore }));
        run(
            self.table,
            Request { column: 0, query, k, filter: test, excluded: &[], index, only, until: Until::NONE },
        )
    }

    fn measure(
        &self,
        filter: &dyn Fn(&str, f64, &[f32]) -> String,
    ) -> Result<(), Box<dyn std::error::Error>> {
        // All that comes after the filter.
        let took = |answer: &Answer| answer.plan_us + answer.search_us;
        let median = |times: &[f64]| percentile(times, 0.5).unwrap_or(0.0);
        // The usual search, and its recall.
        let (mut free, mut free_us) = (Vec::new(), Vec::new());
        // A bit of every dimension of every row, and two numbers, read one after the other.
        let d = self.queries.first().map_or(0, Vec::len);
        let codes = vec![1.0f32; self.table.len() * (d.div_ceil(8) + 8) / 4];
        let mut readings = Vec::new();
        for query in self.queries {
            let start = Instant::now();
            std::hint::black_box(zesty_engine::kernels::Kernels::best().read(&codes));
            readings.push(start.elapsed().as_secs_f64() * 1e6);
            let answer = self.ask(query, None, true, None);
            free.push(recall(&answer.nearest, &self.ask(query, None, false, None).nearest));
            free_us.push(took(&answer));
        }
        let free = mean(&free);
        println!(
            "without a filter: recall {free:.4}, p50 {:.0} us; one reading of {} bytes of short codes: {:.0} us",
            median(&free_us),
            4 * codes.len(),
            median(&readings)
        );
        println!(
            "{:6} {:>6} {:>8} {:>7} {:>7} {:>5} {:>8} {:>8} {:>8} {:>6} {:>7} {:>7}  strategies",
            "kind",
            "share",
            "allowed",
            "recall",
            "less",
            "p5",
            "p50 us",
            "scan us",
            "usual us",
            "ratio",
            "planned",
            "filter"
        );
        for kind in &self.args.kinds {
            for &share in &self.args.shares {
                let (mut recalls, mut times, mut scans, mut usual) = (vec![], vec![], vec![], vec![]);
                let (mut filters, mut planned) = (vec![], 0);
                let mut taken: Vec<(Strategy, usize)> = Vec::new();
                let mut allowed = 0;
                let mut each: Vec<Forced> = Vec::new();
                // Each kind of search on its own for some queries at a time: none finds the caches as another left them
                // for the same query, and what else the machine does falls on all alike.
                for (turn, some) in self.queries.chunks(25).enumerate() {
                    let tests = some.iter().map(|query| {
                        Filter::from_text(&filter(kind, share, query))?.compile(self.table.schema())
                    });
                    let tests: Vec<Test> = tests.collect::<Result<_, _>>()?;
                    let asked = || some.iter().zip(&tests);
                    // What each filter allows is found first, so that running it leaves no search the caches as it likes.
                    let whole =
                        asked().map(|(query, test)| self.ask(query, Some(test), false, None).filter_us);
                    filters.extend(whole);
                    usual.extend(some.iter().map(|query| took(&self.ask(query, None, true, None))));
                    // Whoever comes second finds the same rows in the caches, so each does in turn.
                    let with = |index: bool| -> Vec<Answer> {
                        asked().map(|(query, test)| self.ask(query, Some(test), index, None)).collect()
                    };
                    let (first, second) = (with(turn % 2 == 0), with(turn % 2 == 1));
                    let (answers, truths) = if turn % 2 == 0 { (first, second) } else { (second, first) };
                    for (answer, truth) in answers.iter().zip(&truths) {
                        scans.push(took(truth));
                        times.push(took(answer));
                        recalls.push(recall(&answer.nearest, &truth.nearest));
                        let all = self.args.k.min(answer.plan.allowed);
                        assert_eq!(answer.nearest.len(), all, "k hits whenever k rows match");
                        allowed += answer.plan.allowed;
                        let strategy = answer.plan.strategy;
                        let plan = answer.plan.considered.iter().find(|c| c.strategy == strategy);
                        let off = plan.map_or(0.0, |c| c.expected_us / answer.search_us);
                        planned += usize::from((1.0 / 1.5..=1.5).contains(&off));
                        match taken.iter_mut().find(|t| t.0 == strategy) {
                            Some(t) => t.1 += 1,
                            None => taken.push((strategy, 1)),
                        }
                    }
                    let possible: Vec<Strategy> =
                        answers[0].plan.considered.iter().map(|c| c.strategy).collect();
                    for strategy in possible.into_iter().filter(|_| self.args.each) {
                        let at = each.iter().position(|e| e.0 == strategy).unwrap_or_else(|| {
                            each.push((strategy, vec![], vec![], vec![]));
                            each.len() - 1
                        });
                        for ((query, test), truth) in asked().zip(&truths) {
                            let one = self.ask(query, Some(test), true, Some(strategy));
                            let expected = one.plan.considered.iter().find(|c| c.strategy == strategy);
                            each[at].1.push(one.search_us);
                            each[at].2.push(expected.map_or(0.0, |c| c.expected_us));
                            each[at].3.push(recall(&one.nearest, &truth.nearest));
                        }
                    }
                }
                let (p50, scan, usual) = (median(&times), median(&scans), median(&usual));
                let strategies: Vec<String> = taken.iter().map(|(s, n)| format!("{s:?} {n}")).collect();
                println!(
                    "{kind:6} {:5}% {:8} {:7.4} {:7.4} {:5.2} {p50:8.0} {scan:8.0} {usual:8.0} {:6.2} {:6.0}% {:7.0}  {}",
                    share * 100.0,
                    allowed / self.queries.len(),
                    mean(&recalls),
                    free - mean(&recalls),
                    percentile(&recalls, 0.05).unwrap_or(0.0),
                    p50 / scan.min(usual),
                    planned as f64 / self.queries.len() as f64 * 100.0,
                    median(&filters),
                    strategies.join(", ")
                );
                for (strategy, took, expected, recalls) in each {
                    println!(
                        "       {:15} p50 {:6.0} us, expected {:6.0}, recall {:.4}",
                        format!("{strategy:?}"),
                        median(&took),
                        median(&expected),
                        mean(&recalls)
                    );
                }
            }
        }
        Ok(())
    }
}

/// A filter that allows this share of the rows, as text.
fn filter(
    kind: &str,
    share: f64,
    n: usize,
    query: &[f32],
    centers: &[&Vec<f32>],
    sizes: &[usize],
    rank: impl Fn(&[f32], &[f32]) -> f32,
) -> String {
    let below = |share: f64| format!("chance < {}", (share * 1e6).round());
    if kind == "chance" {
        return below(share);
    }
    let mut order: Vec<(f32, usize)> = centers.iter().enumerate().map(|(g, c)| (rank(c, query), g)).collect();
    order.sort_by(|a, b| a.0.total_cmp(&b.0));
    if kind == "far" {
        order.reverse();
    }
    // Whole groups while they fit, then a part of the next.
    let mut room = share * n as f64;
    let mut whole = Vec::new();
    for (_, g) in order {
        let size = sizes[g] as f64;
        if size > room {
            let part = format!("place = {g} AND {}", below(room / size));
            return match whole.is_empty() {
                true => part,
                false => format!("place IN ({}) OR {part}", whole.join(", ")),
            };
        }
        room -= size;
        whole.push(g.to_string());
    }
    format!("place IN ({})", whole.join(", "))
}
