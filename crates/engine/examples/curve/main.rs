//! Measures an index on your own vectors: one JSON object a line, told apart by "line".
//!
//! cargo run --release -p zesty-engine --example curve -- --vectors FILE.npy --queries 2000 \
//!     --metric cosine --k 10 --recipe 'graph(links=16, build=200)' --settings beam=10,20,40,80,160

mod plain;

use clap::Parser;
use cpu_time::ProcessTime;
use plain::PlainGraph;
use serde_json::{Value, json};
use std::error::Error;
use std::fs::File;
use std::io::BufReader;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Instant;
use zesty_engine::index::{Description, Index, Limit, Progress, Settings, Source};
use zesty_engine::kernels::Kernels;
use zesty_engine::lines::Aligned;
use zesty_engine::measure::{Sample, recall, recall_ties, score_gap, summarise};
use zesty_engine::scan::{Allowed, Neighbour, Queries, scan, scan_many};
use zesty_engine::{Metric, Recipe, limit};

#[derive(Parser)]
#[command(about = "Recall against speed for one recipe on vectors from an NPY file")]
struct Arguments {
    /// Vectors to index: NPY, f32 or f16, shape [rows, dimensions]
    #[arg(long)]
    vectors: PathBuf,
    /// How many vectors at the end of the file to hold out as queries
    #[arg(long, default_value_t = 1000, conflicts_with = "query_vectors")]
    queries: usize,
    /// Queries from a file of their own, instead of holding some out
    #[arg(long)]
    query_vectors: Option<PathBuf>,
    #[arg(long, default_value = "cosine")]
    metric: Metric,
    #[arg(long, default_value_t = 10)]
    k: usize,
    #[arg(long, default_value = "graph(links=16, build=200)")]
    recipe: String,
    /// Settings to measure, as NAME=VALUE,VALUE,...: beam for graphs, visit for cells
    #[arg(long, default_value = "beam=10,20,40,80,160")]
    settings: String,
    /// With rescore in the recipe: re-ranks this many times k candidates
    #[arg(long, default_value_t = 3)]
    rescore: usize,
    #[arg(long, default_value_t = 1)]
    threads: usize,
    /// Exact scans and settings are measured so many times in turns, and the middle one is told
    #[arg(long, default_value_t = 3)]
    rounds: usize,
    #[arg(long, default_value_t = 1)]
    seed: u64,
    /// Also write the index to this file and open it again
    #[arg(long)]
    file: Option<PathBuf>,
    /// Opens an index file that was written for the same vectors, instead of building
    #[arg(long, conflicts_with_all = ["file", "recipe", "seed"])]
    open: Option<PathBuf>,
    /// Also build a plain graph (links=16, build=200), and measure it at these beams in turns with the rest
    #[arg(long, value_delimiter = ',')]
    plain: Vec<usize>,
    /// Also measure a tuned matrix product of the same shape as the truth, to compare with
    #[arg(long)]
    product: bool,
}

fn main() -> Result<(), Box<dyn Error>> {
    let a = Arguments::parse();
    let recipe: Recipe = a.recipe.parse().map_err(|e: zesty_engine::recipe::RecipeError| {
        format!("--recipe, character {}: {e}", e.offset + 1)
    })?;
    let points = points(&a.settings, a.rescore)?;
    if a.k == 0 || a.threads == 0 || a.rounds == 0 {
        return Err("--k, --threads and --rounds must be 1 or more".into());
    }
    let (mut rows, dimensions) = read_npy(&a.vectors)?;
    let queries = match &a.query_vectors {
        Some(path) => {
            let (queries, d) = read_npy(path)?;
            if d != dimensions {
                return Err(format!("queries have {d} dimensions, vectors {dimensions}").into());
            }
            queries
        }
        None => {
            let n = rows.len() / dimensions;
            if a.queries >= n {
                return Err(format!("--queries {} leaves nothing of {n} rows to index", a.queries).into());
            }
            rows.split_off((n - a.queries) * dimensions)
        }
    };
    let prepare = |values: &[f32], what: &str| -> Result<Aligned<f32>, Box<dyn Error>> {
        let mut all = Aligned::with_capacity(values.len());
        for (i, row) in values.chunks(dimensions).enumerate() {
            let row = a.metric.prepare(row, dimensions).map_err(|e| format!("{what} {i} {e}"))?;
            all.extend(&row);
        }
        Ok(all)
    };
    let queries = prepare(&queries, "query")?;
    let queries = queries.as_slice();
    let vectors = prepare(&rows, "row")?;
    drop(rows);
    let n_rows = vectors.as_slice().len() / dimensions;
    if n_rows == 0 || queries.is_empty() {
        return Err("there must be a row to index and a query at least".into());
    }

    let limit = limit::measure(vectors.as_slice(), dimensions);
    println!(
        "{}",
        json!({"line": "limit", "stream_gb_per_s": limit.stream_gb_per_s,
            "random_distance_ns": limit.random_distance_ns,
            "threads_gb_per_s": limit::stream(vectors.as_slice(), a.threads)})
    );

    // Truth needs the vectors, and some recipes keep only codes of them.
    let plain = vectors.clone();
    let index = match &a.open {
        Some(path) => Index::open(path)?,
        None => built(&a, recipe, (vectors, dimensions))?,
    };
    if (index.len(), index.description().dimensions) != (n_rows, dimensions) {
        let (n, d) = (index.len(), index.description().dimensions);
        return Err(format!("the index is of {n} rows of {d} dimensions, the vectors are not").into());
    }

    let walk = (!a.plain.is_empty()).then(|| {
        let (start, cpu) = (Instant::now(), ProcessTime::now());
        let graph = PlainGraph::build(a.metric, dimensions, plain.as_slice(), (16, 200), a.seed);
        println!(
            "{}",
            json!({"line": "build", "recipe": "plain", "rows": n_rows, "dimensions": dimensions, "threads": 1,
                "seconds": start.elapsed().as_secs_f64(), "cpu_seconds": cpu.elapsed().as_secs_f64()})
        );
        graph
    });

    let block = [(0u32, plain.as_slice())];
    let n_queries = queries.len() / dimensions;
    let start = Instant::now();
    let all = Queries { values: queries, dimensions, excluded: &vec![None; n_queries] };
    let truth = scan_many(&block, a.metric, all, a.k, Allowed::All, a.threads);
    let blocked = n_queries as f64 / start.elapsed().as_secs_f64();
    println!("{}", json!({"line": "truth", "blocked_queries_per_s": blocked}));
    if a.product {
        let side =
            |values: &[f32], n: usize| faer::Mat::from_fn(n, dimensions, |r, c| values[r * dimensions + c]);
        let (left, right) = (side(queries, n_queries), side(plain.as_slice(), n_rows.min(8192)));
        let start = Instant::now();
        let product = &left * right.transpose();
        let flops = 2.0 * (product.nrows() * product.ncols() * dimensions) as f64;
        let tuned = flops / start.elapsed().as_secs_f64() / 1e9;
        let own = 2.0 * (n_rows * dimensions) as f64 * blocked / 1e9;
        println!(
            "{}",
            json!({"line": "product", "truth_gflop_per_s": own, "matrix_product_gflop_per_s": tuned})
        );
    }

    // In turns, each time with the pace of memory at that moment: a busy machine is slow for a while, and its middle
    // is what compares.
    let some = &queries[..n_queries.min(200) * dimensions];
    let mut searches: Vec<(Value, Search<'_>)> = Vec::new();
    for (name, settings) in points {
        let set = json!({name: if name == "visit" { settings.visit } else { settings.beam }});
        let (index, k) = (&index, a.k);
        let search = move |q: &[f32]| {
            let (mut found, work) = index.search(q, k, settings, Allowed::All, Limit::NONE);
            found.iter_mut().for_each(|n| n.row = index.numbers()[n.row as usize] as u32);
            (found, work.distances)
        };
        searches.push((set, Box::new(search)));
    }
    for (graph, beam) in walk.iter().flat_map(|graph| a.plain.iter().map(move |beam| (graph, *beam))) {
        let k = a.k;
        searches.push((json!({"plain": beam}), Box::new(move |q| (graph.search(q, k, beam), 0))));
    }
    let mut exact = Vec::new();
    let mut measured: Vec<Vec<Measured>> = searches.iter().map(|_| Vec::new()).collect();
    for round in 0..a.rounds {
        let read =
            |threads| (plain.as_slice().len() * 4) as f64 / 1e9 / limit::stream(plain.as_slice(), threads);
        let ideal = read(1);
        let (mut scans, _) = each(some, dimensions, a.threads, |q| {
            (scan(block.into_iter(), a.metric, q, a.k, Allowed::All), 0)
        });
        scans.sort_by(|a, b| a.elapsed_us.total_cmp(&b.elapsed_us));
        let per_s = a.threads as f64 * 1e6 / scans[scans.len() / 2].elapsed_us;
        exact.push((per_s, if a.threads == 1 { ideal } else { read(a.threads) }));
        for ((_, search), measured) in searches.iter().zip(&mut measured) {
            if round == 0 {
                each(some, dimensions, a.threads, search); // warm up
            }
            let (answers, seconds) = each(queries, dimensions, a.threads, search);
            let queries_per_s = n_queries as f64 / seconds;
            measured.push(Measured { queries_per_s, per_ideal_scan: queries_per_s * ideal, answers });
        }
    }
    exact.sort_by(|a, b| (a.0 * a.1).total_cmp(&(b.0 * b.1)));
    let shares: Vec<f64> = exact.iter().map(|(queries, ideal)| queries * ideal).collect();
    println!(
        "{}",
        json!({"line": "exact", "queries_per_s": exact[a.rounds / 2].0, "share_of_stream": shares[a.rounds / 2],
            "shares_of_stream": shares})
    );
    for ((settings, _), mut measured) in searches.into_iter().zip(measured) {
        measured.sort_by(|a, b| a.per_ideal_scan.total_cmp(&b.per_ideal_scan));
        let middle = &measured[a.rounds / 2];
        let samples: Vec<Sample> = middle
            .answers
            .iter()
            .zip(&truth)
            .zip(queries.chunks(dimensions))
            .map(|((answer, truth), query)| {
                // With the ranks of the vectors themselves: codes blur them.
                let exact = |n: &Neighbour| {
                    let vector = &plain.as_slice()[n.row as usize * dimensions..][..dimensions];
                    Neighbour { rank: a.metric.rank(Kernels::best(), query, vector), row: n.row }
                };
                let found: Vec<Neighbour> = answer.found.iter().map(exact).collect();
                Sample {
                    recall: recall(&found, truth),
                    recall_ties: recall_ties(&found, truth),
                    gap: score_gap(&found, truth, a.metric),
                    standout: (0, 0),
                    elapsed_us: answer.elapsed_us,
                    distances: answer.distances,
                }
            })
            .collect();
        let mut line = serde_json::to_value(summarise(&samples, a.k, a.seed))?;
        let object = line.as_object_mut().expect("a summary is an object");
        object.insert("line".into(), json!("point"));
        object.insert("settings".into(), settings);
        object.insert("queries_per_s".into(), json!(middle.queries_per_s));
        object.insert("per_ideal_scan".into(), json!(middle.per_ideal_scan));
        let all: Vec<f64> = measured.iter().map(|m| m.per_ideal_scan).collect();
        object.insert("all_per_ideal_scan".into(), json!(all));
        println!("{line}");
    }
    Ok(())
}

/// Builds an index of the vectors, and writes it where that is asked.
fn built(
    a: &Arguments,
    recipe: Recipe,
    (vectors, dimensions): (Aligned<f32>, usize),
) -> Result<Index, Box<dyn Error>> {
    let n_rows = vectors.as_slice().len() / dimensions;
    let source = Source {
        description: Description {
            recipe: String::new(),
            metric: a.metric,
            dimensions,
            revision: 0,
            seed: a.seed,
            rows_at_build: 0,
            owner: String::new(),
        },
        vectors,
        numbers: (0..n_rows as u64).collect(),
    };
    let (start, cpu) = (Instant::now(), ProcessTime::now());
    let index = Index::build(source, recipe, a.threads, &Progress::default())?;
    println!(
        "{}",
        json!({"line": "build", "recipe": recipe.to_string(), "rows": n_rows,
            "dimensions": dimensions, "threads": a.threads,
            "seconds": start.elapsed().as_secs_f64(), "cpu_seconds": cpu.elapsed().as_secs_f64(),
            "bytes_per_row": (index.n_bytes_vectors() + index.n_bytes_structure()) as f64 / n_rows as f64,
            "reachable": index.reachable()})
    );

    match &a.file {
        None => Ok(index),
        Some(path) => {
            let start = Instant::now();
            let bytes = index.write(path)?;
            let write_seconds = start.elapsed().as_secs_f64();
            let start = Instant::now();
            let index = Index::open(path)?;
            let open_seconds = start.elapsed().as_secs_f64();
            println!(
                "{}",
                json!({"line": "file", "bytes": bytes, "write_seconds": write_seconds, "open_seconds": open_seconds})
            );
            Ok(index)
        }
    }
}

/// Answers a query with rows by their numbers, and tells how many distances that took.
type Search<'a> = Box<dyn Fn(&[f32]) -> (Vec<Neighbour>, usize) + Sync + 'a>;

/// One round of one setting.
struct Measured {
    queries_per_s: f64,
    /// Queries in the time that one thread takes to read all vectors once.
    per_ideal_scan: f64,
    answers: Vec<Answer>,
}

struct Answer {
    found: Vec<Neighbour>,
    distances: usize,
    elapsed_us: f64,
}

/// Runs every query once, on so many threads; returns the answers in order and the wall time.
fn each(
    queries: &[f32],
    dimensions: usize,
    threads: usize,
    search: impl Fn(&[f32]) -> (Vec<Neighbour>, usize) + Sync,
) -> (Vec<Answer>, f64) {
    let n = queries.len() / dimensions;
    let next = AtomicUsize::new(0);
    let start = Instant::now();
    let mut answers: Vec<(usize, Answer)> = std::thread::scope(|scope| {
        let workers: Vec<_> = (0..threads)
            .map(|_| {
                scope.spawn(|| {
                    let mut mine = Vec::with_capacity(n);
                    loop {
                        let i = next.fetch_add(1, Ordering::Relaxed);
                        if i >= n {
                            return mine;
                        }
                        let start = Instant::now();
                        let (found, distances) = search(&queries[i * dimensions..][..dimensions]);
                        let elapsed_us = start.elapsed().as_secs_f64() * 1e6;
                        mine.push((i, Answer { found, distances, elapsed_us }));
                    }
                })
            })
            .collect();
        workers.into_iter().flat_map(|w| w.join().expect("a search does not panic")).collect()
    });
    let seconds = start.elapsed().as_secs_f64();
    answers.sort_by_key(|(i, _)| *i);
    (answers.into_iter().map(|(_, a)| a).collect(), seconds)
}

fn points(text: &str, rescore: usize) -> Result<Vec<(&str, Settings)>, String> {
    let wrong = || format!("--settings \"{text}\": write beam=N,N,... or visit=N,N,... with N of 1 or more");
    let (name, list) = text.split_once('=').ok_or_else(wrong)?;
    let most = match name {
        "beam" => Settings::MAX_BEAM,
        "visit" => Settings::MAX_VISIT,
        _ => return Err(wrong()),
    };
    let numbers = list.split(',').map(|n| n.trim().parse().ok().filter(|n| (1..=most).contains(n)));
    let usual = Settings { rescore, ..Settings::default() };
    numbers
        .map(|n| {
            let n = n.ok_or_else(wrong)?;
            Ok((
                name,
                if name == "visit" { Settings { visit: n, ..usual } } else { Settings { beam: n, ..usual } },
            ))
        })
        .collect()
}

fn read_npy(path: &Path) -> Result<(Vec<f32>, usize), Box<dyn Error>> {
    let name = path.display();
    let open = || -> Result<_, Box<dyn Error>> {
        let file = File::open(path).map_err(|e| format!("{name}: {e}"))?;
        Ok(npyz::NpyFile::new(BufReader::new(file)).map_err(|e| format!("{name}: {e}"))?)
    };
    let npy = open()?;
    let [_, dimensions] = *npy.shape() else {
        return Err(format!("{name}: shape {:?}; expected [rows, dimensions]", npy.shape()).into());
    };
    if npy.order() != npyz::Order::C {
        return Err(format!("{name}: is in Fortran order; save it in C order").into());
    }
    let dimensions = dimensions as usize;
    if let Ok(reader) = npy.data::<f32>() {
        return Ok((reader.collect::<Result<_, _>>()?, dimensions));
    }
    match open()?.data::<half::f16>() {
        Ok(reader) => Ok((reader.map(|x| x.map(half::f16::to_f32)).collect::<Result<_, _>>()?, dimensions)),
        Err(_) => Err(format!("{name}: holds neither f32 nor f16").into()),
    }
}
