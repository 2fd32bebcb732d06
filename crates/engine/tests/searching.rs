//! Graphs and searches held to the exact answer, on made-up data.

use proptest::prelude::*;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::{Map, json};
use zesty_engine::filter::Filter;
use zesty_engine::index::{
    BuildError, Description, FORMAT_VERSION, FileError, Index, Limit, Progress, Settings, Source,
};
use zesty_engine::kernels::Kernels;
use zesty_engine::lines::Aligned;
use zesty_engine::measure::{mean, recall, recall_ties};
use zesty_engine::recipe::{DataShape, Route};
use zesty_engine::scan::{Allowed, Neighbour, Queries, scan, scan_many};
use zesty_engine::search::{Answer, Attached, Request, Strategy as Plan, run};
use zesty_engine::table::{Change, Table, Writer};
use zesty_engine::{Metric, Recipe, Schema};

const D: usize = 24;

/// Points around random centres, as encoders make them.
fn points(n: usize, metric: Metric, seed: u64) -> Vec<Vec<f32>> {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let centres: Vec<Vec<f32>> =
        (0..40).map(|_| (0..D).map(|_| rng.random_range(-1.0..1.0)).collect()).collect();
    (0..n)
        .map(|_| {
            let centre = &centres[rng.random_range(0..centres.len())];
            let v: Vec<f32> = centre.iter().map(|c| c + rng.random_range(-0.6f32..0.6)).collect();
            metric.prepare(&v, D).unwrap()
        })
        .collect()
}

fn source(points: &[Vec<f32>], metric: Metric) -> Source {
    let mut vectors = Aligned::default();
    points.iter().for_each(|p| vectors.extend(p));
    let dimensions = points.first().map_or(D, Vec::len);
    Source {
        description: Description {
            recipe: String::new(),
            metric,
            dimensions,
            revision: 1,
            seed: 7,
            rows_at_build: 0,
            owner: String::new(),
        },
        vectors,
        numbers: (0..points.len() as u64).collect(),
    }
}

fn build(points: &[Vec<f32>], metric: Metric, recipe: &str, threads: usize) -> Index {
    Index::build(source(points, metric), recipe.parse().unwrap(), threads, &Progress::default()).unwrap()
}

fn search(index: &Index, query: &[f32], k: usize, beam: usize) -> Vec<Neighbour> {
    index.search(query, k, Settings::beam(beam), Allowed::All, Limit::NONE).0
}

fn recalls(index: &Index, queries: &[Vec<f32>], metric: Metric, beam: usize) -> Vec<f64> {
    queries
        .iter()
        .map(|q| {
            let truth = scan(std::iter::once((0, index.vectors().unwrap())), metric, q, 10, Allowed::All);
            recall(&search(index, q, 10, beam), &truth)
        })
        .collect()
}

#[test]
fn graphs_find_the_true_neighbours_under_every_metric_layered_or_flat_on_one_thread_or_two() {
    for metric in [Metric::Cosine, Metric::Euclidean, Metric::Dot] {
        let all = points(4100, metric, 3);
        let (rows, queries) = all.split_at(4000);
        for recipe in ["graph(links=12, build=100)", "graph(links=12, build=100, layers=off)"] {
            for threads in [1, 2] {
                let index = build(rows, metric, recipe, threads);
                let narrow = mean(&recalls(&index, queries, metric, 16));
                let wide = mean(&recalls(&index, queries, metric, 150));
                assert!(wide > 0.98, "{metric} {recipe} {threads}: {wide}");
                assert!(wide >= narrow, "{metric} {recipe}: {narrow} then {wide}");
                assert_eq!(index.reachable(), rows.len(), "{metric} {recipe}");
            }
        }
    }
}

#[test]
fn one_thread_and_one_seed_give_one_graph() {
    let rows = points(1500, Metric::Cosine, 5);
    let folder = tempfile::tempdir().unwrap();
    let bytes = |name: &str| {
        let path = folder.path().join(name);
        build(&rows, Metric::Cosine, "graph(links=8, build=40)", 1).write(&path).unwrap();
        std::fs::read(path).unwrap()
    };
    assert!(bytes("a") == bytes("b"));
}

#[test]
fn awkward_data_builds_and_answers() {
    let cases: Vec<(&str, Vec<Vec<f32>>)> = vec![
        ("no rows", vec![]),
        ("one row", vec![vec![1.0; D]]),
        ("two rows", vec![vec![1.0; D], vec![0.5; D]]),
        ("all alike", vec![vec![0.25; D]; 300]),
        ("one dimension", (0..200).map(|i| vec![i as f32]).collect()),
        ("fewer rows than links", points(5, Metric::Euclidean, 1)),
    ];
    for (name, rows) in cases {
        let d = rows.first().map_or(D, Vec::len);
        let query = vec![0.4; d];
        for recipe in ["scan", "graph", "graph(layers=off)"] {
            let index = build(&rows, Metric::Euclidean, recipe, 2);
            let found = search(&index, &query, 10, 50);
            let truth = scan(
                std::iter::once((0, index.vectors().unwrap())),
                Metric::Euclidean,
                &query,
                10,
                Allowed::All,
            );
            assert_eq!(found.len(), rows.len().min(10), "{name} {recipe}");
            assert_eq!(recall_ties(&found, &truth), 1.0, "{name} {recipe}");
        }
    }
}

#[test]
fn every_row_can_be_reached_among_copies_and_in_any_order() {
    let mut rng = ChaCha8Rng::seed_from_u64(31);
    let mut rows = points(2500, Metric::Cosine, 30);
    for _ in 0..250 {
        rows.push(rows[rng.random_range(0..2500)].clone());
    }
    let same = rows[7].clone();
    rows.extend((0..300).map(|_| same.clone()));
    use rand::seq::SliceRandom;
    rows.shuffle(&mut rng);
    let mut sorted = rows.clone();
    sorted.sort_by(|a, b| a.partial_cmp(b).unwrap());
    for rows in [rows, sorted] {
        for recipe in ["graph(links=6, build=60)", "graph(links=6, build=60, layers=off)"] {
            for threads in [1, 2] {
                let index = build(&rows, Metric::Cosine, recipe, threads);
                assert_eq!(index.reachable(), rows.len(), "{recipe} on {threads}");
                let found: Vec<f64> = rows
                    .iter()
                    .step_by(37)
                    .map(|q| {
                        let block = std::iter::once((0, index.vectors().unwrap()));
                        let truth = scan(block, Metric::Cosine, q, 10, Allowed::All);
                        recall_ties(&search(&index, q, 10, 320), &truth)
                    })
                    .collect();
                assert!(mean(&found) > 0.99, "{recipe} on {threads}: {}", mean(&found));
            }
        }
    }
}

/// One of each kind of structure and code.
const KINDS: [&str; 11] = [
    "scan | pq(1, bits=4) | rescore(f32)",
    "graph(links=4, build=20) | pq(1)",
    "graph(links=4, build=20, beside=on) | bits | rescore(f32)",
    "center | graph(links=4, build=20, layers=off) | int8 | rescore(f16)",
    "cells | bits | rescore(f32)",
    "cells(spill=on) | bits",
    "center | cells(5, router=graph, spill=on) | bits | rescore(int8)",
    "cells(1, router=graph) | f16",
    "center | cells(1) | pq(1)",
    "rotate | cells | pq(1, bits=4) | rescore(int8)",
    "scan | bits(3)",
];

#[test]
fn every_kind_of_index_takes_awkward_data() {
    let mut rng = ChaCha8Rng::seed_from_u64(77);
    let mut random = |n: usize, d: usize, scale: f32| -> Vec<Vec<f32>> {
        (0..n).map(|_| (0..d).map(|_| scale * rng.random_range(-1.0..1.0f32)).collect()).collect()
    };
    let some = random(60, 7, 1.0);
    let mut copies = some.clone();
    copies.extend((0..200).map(|_| some[3].clone()));
    let cases: Vec<(&str, Metric, Vec<Vec<f32>>)> = vec![
        ("one row", Metric::Cosine, random(1, 9, 1.0)),
        ("two rows", Metric::Dot, random(2, 9, 1.0)),
        ("all rows alike", Metric::Cosine, vec![some[0].clone(); 150]),
        ("many copies", Metric::Euclidean, copies),
        ("zeros", Metric::Dot, vec![vec![0.0; 7]; 40]),
        ("zeros among others", Metric::Euclidean, [some.clone(), vec![vec![0.0; 7]; 40]].concat()),
        ("one dimension", Metric::Euclidean, random(120, 1, 1.0)),
        ("one dimension, two directions", Metric::Cosine, random(120, 1, 1.0)),
        ("16,384 dimensions", Metric::Cosine, random(40, 16_384, 1.0)),
        ("lengths near the limit", Metric::Euclidean, random(90, 7, 2e18)),
        ("tiny values", Metric::Dot, random(90, 7, 1e-30)),
        (
            "far from the origin",
            Metric::Euclidean,
            some.iter().map(|r| r.iter().map(|x| 1e4 + x).collect()).collect(),
        ),
    ];
    for (case, metric, rows) in cases {
        let d = rows[0].len();
        let rows: Vec<Vec<f32>> = rows.iter().map(|r| metric.prepare(r, d).unwrap()).collect();
        for text in KINDS {
            let recipe: Recipe = text.parse().unwrap();
            let mut vectors = Aligned::with_capacity(rows.len() * d);
            rows.iter().for_each(|r| vectors.extend(r));
            let description = Description {
                recipe: String::new(),
                metric,
                dimensions: d,
                revision: 1,
                seed: 1,
                rows_at_build: 0,
                owner: String::new(),
            };
            let source = Source { description, vectors, numbers: (0..rows.len() as u64).collect() };
            let shape = DataShape { rows: rows.len(), dimensions: d, metric };
            let index = match (Index::build(source, recipe, 2, &Progress::default()), recipe.check(shape)) {
                (Ok(index), Ok(())) => index,
                // Refused rather than kept as infinities or zeros.
                (Err(BuildError::Data(why)), Ok(())) if text.contains("f16") && why.contains("65,504") => {
                    assert!(["lengths near the limit", "tiny values"].contains(&case), "{case}, {text}");
                    continue;
                }
                (Err(BuildError::Data(why)), Err(expected)) => {
                    assert_eq!(why, expected, "{case}, {text}");
                    continue;
                }
                (built, check) => panic!("{case}, {text}: {:?} after {check:?}", built.err()),
            };
            assert_eq!(index.reachable(), rows.len(), "{case}, {text}");
            for query in rows.iter().step_by(1 + rows.len() / 4) {
                let settings = Settings { beam: 50, visit: 50, rescore: 5 };
                let found = index.search(query, 5, settings, Allowed::All, Limit::NONE).0;
                assert_eq!(found.len(), rows.len().min(5), "{case}, {text}");
                assert!(found.iter().all(|f| f.rank.is_finite()), "{case}, {text}: {found:?}");
            }
        }
    }
    for text in KINDS.into_iter().chain(["graph", "scan"]) {
        let built = Index::build(source(&[], Metric::Dot), text.parse().unwrap(), 1, &Progress::default());
        match built {
            Ok(index) => assert!(index.is_empty()),
            Err(e) => assert!(e.to_string().contains("no rows yet"), "{text}: {e}"),
        }
    }
}

#[test]
fn every_kind_of_file_notices_every_flipped_bit_and_every_build_can_be_cancelled() {
    let rows = points(260, Metric::Euclidean, 9);
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("index");
    let mut rng = ChaCha8Rng::seed_from_u64(4);
    for text in KINDS.into_iter().chain(["reduce(8) | cells(4x6) | bits(2)"]) {
        let index = build(&rows, Metric::Euclidean, text, 1);
        index.write(&path).unwrap();
        let good = std::fs::read(&path).unwrap();
        let header = 8 + u64::from_le_bytes(good[..8].try_into().unwrap()) as usize;
        for _ in 0..60 {
            let at = rng.random_range(header..good.len());
            let mut bad = good.clone();
            bad[at] ^= 1 << rng.random_range(0..8);
            std::fs::write(&path, &bad).unwrap();
            assert!(Index::open(&path).is_err(), "{text}: a flip at {at} went unnoticed");
        }
        let progress = Progress::default();
        progress.cancel();
        let built = Index::build(source(&rows, Metric::Euclidean), text.parse().unwrap(), 2, &progress);
        assert_eq!(built.err(), Some(BuildError::Cancelled), "{text}");
    }
}

#[test]
fn a_search_that_widens_looks_into_no_cell_twice() {
    let rows = leaning(3000, 40, Metric::Euclidean, 6);
    for recipe in [
        "cells(200)",
        "cells(200, router=graph)",
        "cells(16x16)",
        "cells(200, spill=on) | bits | rescore(f32)",
    ] {
        let index = build(&rows, Metric::Euclidean, recipe, 1);
        let only = index.nodes_where(|node| node % 60 == 7);
        let settings = Settings { visit: 1, ..Settings::default() };
        for query in rows.iter().step_by(40) {
            let found = index.search(query, 30, settings, Allowed::Only(&only), Limit::NONE).0;
            let mut nodes: Vec<u32> = found.iter().map(|n| n.row).collect();
            nodes.sort_unstable();
            nodes.dedup();
            assert_eq!((found.len(), nodes.len()), (30, 30), "{recipe}");
        }
    }
}

#[test]
fn spilled_rows_are_found_with_fewer_visits() {
    for metric in [Metric::Cosine, Metric::Dot, Metric::Euclidean] {
        let all = leaning(6060, 128, metric, 16);
        let (rows, queries) = all.split_at(6000);
        let flat: Vec<f32> = rows.iter().flatten().copied().collect();
        let recall_of = |recipe: &str, visit: usize| {
            let index = build(rows, metric, recipe, 2);
            let folder = tempfile::tempdir().unwrap();
            let path = folder.path().join("index");
            index.write(&path).unwrap();
            let opened = Index::open(&path).unwrap();
            let settings = Settings { visit, rescore: 8, ..Settings::default() };
            let found = queries.iter().map(|q| {
                let truth = scan(std::iter::once((0, &flat[..])), metric, q, 10, Allowed::All);
                let truth: Vec<u64> = truth.iter().map(|t| u64::from(t.row)).collect();
                let numbers = |index: &Index| -> Vec<u64> {
                    let found = index.search(q, 10, settings, Allowed::All, Limit::NONE).0;
                    found.iter().map(|f| index.numbers()[f.row as usize]).collect()
                };
                let found = numbers(&index);
                assert_eq!(found, numbers(&opened), "{recipe}, {metric}: the file answers alike");
                let mut once = found.clone();
                once.sort_unstable();
                once.dedup();
                assert_eq!(once.len(), 10, "{recipe}, {metric}: no row comes twice");
                found.iter().filter(|n| truth.contains(n)).count() as f64 / 10.0
            });
            mean(&found.collect::<Vec<_>>())
        };
        let plain = recall_of("cells(128) | bits | rescore(f32)", 6);
        let spilled = recall_of("cells(128, spill=on) | bits | rescore(f32)", 6);
        assert!(1.0 - spilled < 0.6 * (1.0 - plain), "{metric}: {spilled} after {plain}");
        let spilled = recall_of("cells(600, spill=on) | bits | rescore(f32)", 100);
        assert!(spilled > 0.97, "{metric}: {spilled}");
    }
}

#[test]
fn renewing_twice_after_half_of_the_rows_changed_loses_no_recall() {
    let mut rng = ChaCha8Rng::seed_from_u64(8);
    let d = 48;
    let all = leaning(6100, d, Metric::Cosine, 12);
    let (pool, queries) = all.split_at(6000);
    for recipe in [
        "graph(links=8, build=60)",
        "graph(links=8, build=60, layers=off) | int8 | rescore(f32)",
        "graph(links=8, build=60, beside=on) | bits | rescore(f32)",
        "center | cells(40) | pq(12) | rescore(f32)",
        "cells(80, spill=on) | bits | rescore(f32)",
    ] {
        let recipe: Recipe = recipe.parse().unwrap();
        let source = |numbers: &[u64]| {
            let mut vectors = Aligned::with_capacity(numbers.len() * d);
            numbers.iter().for_each(|n| vectors.extend(&pool[*n as usize % 6000]));
            let description = Description {
                recipe: String::new(),
                metric: Metric::Cosine,
                dimensions: d,
                revision: 1,
                seed: 1,
                rows_at_build: 0,
                owner: String::new(),
            };
            Source { description, vectors, numbers: numbers.to_vec() }
        };
        let progress = Progress::default();
        let mut numbers: Vec<u64> = (0..4000).collect();
        let mut index = Index::build(source(&numbers), recipe, 1, &progress).unwrap();
        for turn in 0..2 {
            // Every second record is deleted; as many come, some of them the same vectors under new numbers.
            let stays: Vec<bool> = (0..index.len()).map(|_| rng.random()).collect();
            let alive = index.nodes_where(|node| stays[node as usize]);
            numbers = alive.ones().map(|n| index.numbers()[n]).collect();
            let come = 4000 - numbers.len() as u64;
            numbers.extend((0..come).map(|i| 6000 * (turn + 1) + (2000 * turn + i) % 6000));
            index = index.renew(source(&numbers), &alive, 2, &progress).unwrap();
            assert_eq!((index.len(), index.reachable()), (4000, 4000), "{recipe}");
        }
        let fresh = Index::build(source(&numbers), recipe, 1, &progress).unwrap();
        let flat: Vec<f32> = numbers.iter().flat_map(|n| &pool[*n as usize % 6000]).copied().collect();
        let recall_of = |index: &Index| {
            let settings = Settings { beam: 24, visit: 6, rescore: 4 };
            let found = queries.iter().map(|q| {
                let truth = scan(std::iter::once((0, &flat[..])), Metric::Cosine, q, 10, Allowed::All);
                let truth: Vec<u64> = truth.iter().map(|t| numbers[t.row as usize]).collect();
                let found = index.search(q, 10, settings, Allowed::All, Limit::NONE).0;
                let hits = found.iter().filter(|f| truth.contains(&index.numbers()[f.row as usize]));
                hits.count() as f64 / 10.0
            });
            mean(&found.collect::<Vec<_>>())
        };
        let (renewed, fresh) = (recall_of(&index), recall_of(&fresh));
        assert!(renewed > fresh - 0.01, "{recipe}: {renewed} renewed, {fresh} fresh");
    }
}

#[test]
fn a_cancelled_build_stops() {
    let progress = Progress::default();
    progress.cancel();
    let rows = points(500, Metric::Dot, 1);
    let built = Index::build(source(&rows, Metric::Dot), "graph".parse().unwrap(), 2, &progress);
    assert_eq!(built.err(), Some(BuildError::Cancelled));
}

#[test]
fn a_file_gives_the_same_answers_and_every_flipped_bit_is_noticed() {
    let rows = points(300, Metric::Cosine, 9);
    let index = build(&rows, Metric::Cosine, "graph(links=4, build=20)", 1);
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("index");
    let written = index.write(&path).unwrap();
    let good = std::fs::read(&path).unwrap();
    assert_eq!(written, good.len() as u64);

    let opened = Index::open(&path).unwrap();
    assert_eq!(opened.description(), index.description());
    assert_eq!(opened.vectors().unwrap().as_ptr() as usize % 64, 0, "vectors begin on a cache line");
    for q in &rows[..20] {
        assert_eq!(search(&opened, q, 5, 20), search(&index, q, 5, 20));
    }

    let mut rng = ChaCha8Rng::seed_from_u64(4);
    let header = 8 + u64::from_le_bytes(good[..8].try_into().unwrap()) as usize;
    for i in 0..400 {
        // Half of the flips in the header, half in the tensors.
        let at = if i % 2 == 0 { rng.random_range(0..header) } else { rng.random_range(header..good.len()) };
        let mut bad = good.clone();
        bad[at] ^= 1 << rng.random_range(0..8);
        std::fs::write(&path, &bad).unwrap();
        match Index::open(&path) {
            Err(_) => {}
            // Padding and the spelling of JSON do not matter; what was read must be the same.
            Ok(same) => {
                assert!(at < header, "a flip at {at} went unnoticed");
                assert_eq!(same.description(), index.description());
                assert_eq!(search(&same, &rows[0], 5, 20), search(&index, &rows[0], 5, 20));
            }
        }
    }
    for length in [0, 5, header - 1, header + 10, good.len() - 1] {
        std::fs::write(&path, &good[..length]).unwrap();
        assert!(matches!(Index::open(&path), Err(FileError::Damaged(_) | FileError::Io(_))), "{length}");
    }
    let version = |n: u32| format!("\"zesty_index\":\"{n}\"");
    let text = String::from_utf8_lossy(&good[8..header]).replace(&version(FORMAT_VERSION), &version(9));
    let other = [&good[..8], text.as_bytes(), &good[header..]].concat();
    std::fs::write(&path, other).unwrap();
    let error = Index::open(&path).err().unwrap().to_string();
    assert!(error.contains("version 9"), "{error}");
}

fn schema() -> Schema {
    Schema::from_json(&json!({"properties": {"n": {"type": "integer"}, "odd": {"type": "boolean"}}})).unwrap()
}

fn change(number: u64, revision: u64, vector: Option<Vec<f32>>) -> Change {
    let body: Map<_, _> =
        [("n".into(), json!(number)), ("odd".into(), json!(number % 2 == 1))].into_iter().collect();
    Change { number, key: format!("k{number}"), revision, body: Some(body), vectors: vec![vector.into()] }
}

fn writer(rows: &[Vec<f32>], metric: Metric) -> Writer {
    let mut writer = Writer::new(schema(), [("v".to_owned(), metric, D)]);
    let all: Vec<_> = rows.iter().enumerate().map(|(i, r)| change(i as u64, 1, Some(r.clone()))).collect();
    writer.apply(1, &all);
    writer
}

fn attached(table: &Table, metric: Metric, recipe: &str) -> Attached {
    let vectors = &table.vectors()[0].vectors;
    let mut source = source(&[], metric);
    source.description.revision = table.revision();
    for row in table.alive().ones().filter(|r| vectors.present().contains(*r)) {
        source.vectors.extend(vectors.row(row as u32));
        source.numbers.push(table.number(row as u32));
    }
    let recipe: Recipe = recipe.parse().unwrap();
    Attached::new(Index::build(source, recipe, 1, &Progress::default()).unwrap(), table, 0).unwrap()
}

fn ask(
    table: &Table,
    query: &[f32],
    k: usize,
    filter: Option<&str>,
    index: Option<(&Attached, Settings)>,
) -> Answer {
    let test = filter.map(|f| Filter::from_text(f).unwrap().compile(table.schema()).unwrap());
    run(
        table,
        Request { column: 0, query, k, filter: test.as_ref(), excluded: &[], index, only: None, until: None },
    )
}

fn keys(table: &Table, answer: &Answer) -> Vec<String> {
    answer.nearest.iter().map(|n| table.key(n.row).to_owned()).collect()
}

#[test]
fn filtered_searches_return_k_hits_at_every_selectivity_and_the_plan_changes_on_the_way() {
    let all = points(6050, Metric::Cosine, 21);
    let (rows, queries) = all.split_at(6000);
    let table = writer(rows, Metric::Cosine).snapshot();
    let index = attached(&table, Metric::Cosine, "graph(links=12, build=80)");
    let settings = Settings::beam(40);
    let mut strategies = Vec::new();
    for below in [0, 1, 5, 30, 300, 3000, 6000] {
        let filter = format!("n < {below}");
        let mut found = Vec::new();
        for query in queries {
            let exact = ask(&table, query, 10, Some(&filter), None);
            let answer = ask(&table, query, 10, Some(&filter), Some((&index, settings)));
            assert_eq!(answer.nearest.len(), below.min(10), "{filter}");
            assert_eq!(answer.plan.allowed, below);
            found.push(recall(&answer.nearest, &exact.nearest));
            strategies.push(answer.plan.strategy);
        }
        assert!(mean(&found) > 0.93, "{filter}: {}", mean(&found));
    }
    assert!(strategies.contains(&Plan::ScanAllowed) && strategies.contains(&Plan::WalkAllowed));
}

#[test]
fn filters_near_and_far_from_the_query_keep_their_recall_whatever_is_taken() {
    let all = points(8040, Metric::Cosine, 77);
    let (rows, queries) = all.split_at(8000);
    // Rows in the order of their first component: a range of n lies near some queries and far from others.
    let mut rows = rows.to_vec();
    rows.sort_by(|a, b| a[0].total_cmp(&b[0]));
    let table = writer(&rows, Metric::Cosine).snapshot();
    for recipe in [
        "graph(links=12, build=80)",
        "graph(links=12, build=80) | int8",
        "cells(64) | bits | rescore(f32)",
        "cells(64, spill=on) | bits | rescore(f32)",
        "cells(64)",
        "scan | int8",
    ] {
        let index = attached(&table, Metric::Cosine, recipe);
        let settings = Settings { beam: 80, visit: 24, rescore: 8 };
        for filter in ["n < 4000", "n >= 4000", "n < 800", "n BETWEEN 3600 AND 4400", "n >= 7920"] {
            let mut found = Vec::new();
            let mut stepped = 0;
            for query in queries {
                let exact = ask(&table, query, 10, Some(filter), None);
                let test = Filter::from_text(filter).unwrap().compile(table.schema()).unwrap();
                for only in [None, Some(Plan::ScanStored), Some(Plan::ThenScan)] {
                    let request = Request {
                        column: 0,
                        query,
                        k: 10,
                        filter: Some(&test),
                        excluded: &[],
                        index: Some((&index, settings)),
                        only,
                        until: None,
                    };
                    let answer = run(&table, request);
                    assert_eq!(answer.nearest.len(), 10);
                    assert!(answer.nearest.iter().all(|n| test.run(&table).contains(n.row as usize)));
                    found.push(recall(&answer.nearest, &exact.nearest));
                    stepped += answer.work.stepped_over;
                }
            }
            assert!(mean(&found) > 0.93, "{recipe}, {filter}: {} ({stepped})", mean(&found));
        }
    }
}

#[test]
fn a_search_whose_time_is_up_answers_with_what_it_has() {
    let rows = points(6000, Metric::Cosine, 79);
    let table = writer(&rows, Metric::Cosine).snapshot();
    let filter = Filter::from_text("n < 5000").unwrap().compile(table.schema()).unwrap();
    for recipe in
        ["graph(links=12, build=80)", "graph(links=12, build=80) | int8", "cells(64)", "scan | bits"]
    {
        let index = attached(&table, Metric::Cosine, recipe);
        for index in [None, Some((&index, Settings { beam: 500, visit: 60, rescore: 1 }))] {
            for filter in [None, Some(&filter)] {
                let request = Request {
                    column: 0,
                    query: &rows[17],
                    k: 10,
                    filter,
                    excluded: &[],
                    index,
                    only: None,
                    until: None,
                };
                let whole = run(&table, request);
                assert!(!whole.cut && whole.nearest.len() == 10);
                // The time was up before it began: little is looked at, and nothing breaks.
                let cut = run(&table, Request { until: Some(std::time::Instant::now()), ..request });
                assert!(cut.cut, "{recipe}");
                assert!(
                    cut.work.distances < whole.work.distances,
                    "{recipe}: {:?} {:?}",
                    cut.work,
                    whole.work
                );
                assert!(cut.nearest.is_sorted());
            }
        }
    }
}

#[test]
fn a_walk_among_allowed_nodes_steps_over_the_others() {
    let all = points(8040, Metric::Cosine, 78);
    let (rows, queries) = all.split_at(8000);
    let index = build(rows, Metric::Cosine, "graph(links=12, build=80)", 1);
    for every in [2, 5, 12] {
        let only = index.nodes_where(|node| node.is_multiple_of(every));
        let (mut found, mut stepped) = (Vec::new(), 0);
        for query in queries {
            let (near, work, complete) =
                index.search(query, 10, Settings::beam(80), Allowed::Only(&only), Limit::NONE);
            assert!(complete && near.iter().all(|n| only.contains(n.row as usize)));
            let (truth, _) = index.scan_stored(query, 10, Settings::default(), Allowed::Only(&only), None);
            found.push(recall(&near, &truth));
            stepped += work.stepped_over;
        }
        assert!(mean(&found) > 0.93, "every {every}: {}", mean(&found));
        assert!(stepped > 0 || every == 2);
    }
}

#[test]
fn sketches_find_what_filters_leave_far_away() {
    let (n, d) = (5003, 64);
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("index");
    for (metric, recipe) in [
        (Metric::Cosine, "graph(links=6, build=40) | int8 | rescore(f32)"),
        (Metric::Euclidean, "graph(links=6, build=40)"),
        (Metric::Dot, "center | reduce(40) | graph(links=6, build=40) | bits | rescore(int8)"),
    ] {
        let mut all = leaning(n + 40, d, metric, 21);
        let queries = all.split_off(n);
        // A range of n lies near some queries and far from others.
        all.sort_by(|a, b| a[0].total_cmp(&b[0]));
        let mut writer = Writer::new(schema(), [("v".to_owned(), metric, d)]);
        let changes: Vec<_> = (0..n).map(|i| change(i as u64, 1, Some(all[i].clone()))).collect();
        writer.apply(1, &changes);
        let table = writer.snapshot();
        let index = build(&all, metric, recipe, 1);
        let shape = DataShape { rows: n, dimensions: d, metric };
        bytes_are_as_expected(&index, shape, 0.02);

        index.write(&path).unwrap();
        let good = std::fs::read(&path).unwrap();
        let opened = Index::open(&path).unwrap();
        let some = index.nodes_where(|node| node % 5 == 0);
        let by_sketches =
            |index: &Index| index.scan_sketches(&queries[0], 10, Settings::default(), &some, None).0;
        assert_eq!(by_sketches(&opened), by_sketches(&index), "{recipe}");
        assert!(by_sketches(&index).iter().all(|found| some.contains(found.row as usize)));
        // Renewed, what was learned stays, and every row has a sketch.
        let alive = index.nodes_where(|node| node % 2 == 0);
        let renewed = index.renew(source(&all, metric), &alive, 1, &Progress::default()).unwrap();
        let every = renewed.nodes_where(|_| true);
        let nearest = renewed.scan_sketches(&all[77], 1, Settings::default(), &every, None).0[0];
        if metric != Metric::Dot {
            assert_eq!(renewed.numbers()[nearest.row as usize], 77, "{recipe}");
        }
        let mut rng = ChaCha8Rng::seed_from_u64(5);
        for _ in 0..20 {
            let mut bad = good.clone();
            let at = rng.random_range(good.len() / 2..good.len());
            bad[at] ^= 1 << rng.random_range(0..8);
            std::fs::write(&path, &bad).unwrap();
            assert!(matches!(Index::open(&path), Err(FileError::Damaged(_))), "{recipe}: a flip at {at}");
        }

        std::fs::write(&path, &good).unwrap();
        let index = Attached::new(Index::open(&path).unwrap(), &table, 0).unwrap();
        for (filter, k) in
            [("n >= 4000", 10), ("n < 300", 10), ("NOT n BETWEEN 4 AND 4990", 30), ("odd = TRUE", 10)]
        {
            let test = Filter::from_text(filter).unwrap().compile(table.schema()).unwrap();
            let mut found = Vec::new();
            for query in &queries {
                let ask = |index, only| {
                    let request = Request {
                        column: 0,
                        query,
                        k,
                        filter: Some(&test),
                        excluded: &[],
                        index,
                        only,
                        until: None,
                    };
                    run(&table, request)
                };
                let exact = ask(None, None);
                let answer = ask(Some((&index, Settings::default())), Some(Plan::ScanSketches));
                assert_eq!(answer.plan.strategy, Plan::ScanSketches, "{recipe}");
                assert_eq!(answer.nearest.len(), exact.nearest.len(), "{recipe}, {filter}");
                assert!(answer.nearest.iter().all(|n| test.run(&table).contains(n.row as usize)));
                found.push(recall(&answer.nearest, &exact.nearest));
            }
            assert!(mean(&found) > 0.95, "{recipe}, {filter}: {}", mean(&found));
        }
    }
}

#[test]
fn heads_spare_walks_most_rows_and_lose_next_to_nothing() {
    let (n, d) = (4300, 200);
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("index");
    for (metric, recipe) in [
        (Metric::Cosine, "graph(links=8, build=60) | int8 | rescore(f32)"),
        (Metric::Euclidean, "graph(links=8, build=60) | f16"),
        (Metric::Dot, "center | graph(links=8, build=60) | int8 | rescore(f16)"),
    ] {
        let mut all = leaning(n + 40, d, metric, 33);
        let queries = all.split_off(n);
        let index = build(&all, metric, recipe, 1);
        let shape = DataShape { rows: n, dimensions: d, metric };
        bytes_are_as_expected(&index, shape, 0.02);
        index.write(&path).unwrap();
        let opened = Index::open(&path).unwrap();
        let alive = index.nodes_where(|node| node % 2 == 0);
        let renewed = index.renew(source(&all, metric), &alive, 1, &Progress::default()).unwrap();
        for (which, index) in [("opened", &opened), ("renewed", &renewed)] {
            assert_eq!(index.reachable(), n, "{recipe}, {which}");
            let some = index.nodes_where(|node| index.numbers()[node as usize] % 3 != 0);
            for (allowed, least) in [(Allowed::All, 0.97), (Allowed::Only(&some), 0.95)] {
                let mut found = Vec::new();
                for query in &queries {
                    let hits = index.search(query, 10, Settings::beam(60), allowed, Limit::NONE).0;
                    let numbers = |n: &Neighbour| index.numbers()[n.row as usize] as u32;
                    let hits: Vec<_> = hits.iter().map(|n| Neighbour { row: numbers(n), ..*n }).collect();
                    let only = |row: usize| matches!(allowed, Allowed::All) || !row.is_multiple_of(3);
                    let mut exact: Vec<Neighbour> = (0..n)
                        .filter(|row| only(*row))
                        .map(|row| Neighbour {
                            rank: metric.rank(Kernels::best(), query, &all[row]),
                            row: row as u32,
                        })
                        .collect();
                    exact.sort();
                    exact.truncate(10);
                    found.push(recall(&hits, &exact));
                }
                assert!(mean(&found) > least, "{recipe}, {which}: {}", mean(&found));
            }
        }
        let same = |query| {
            let ask =
                |index: &Index| index.search(query, 10, Settings::beam(60), Allowed::All, Limit::NONE).0;
            ask(&index) == ask(&opened)
        };
        assert!(queries.iter().all(|query| same(query)), "{recipe}");
    }
}

#[test]
fn what_bounds_leave_unread_would_not_have_been_found() {
    for metric in [Metric::Cosine, Metric::Euclidean, Metric::Dot] {
        let mut all = leaning(3030, 100, metric, 34);
        let queries = all.split_off(3000);
        for (recipe, rescore, most) in
            [("scan | int8 | rescore(f32)", 20, 60.0), ("scan | bits(4) | rescore(f32)", 20, 150.0)]
        {
            let index = build(&all, metric, recipe, 1);
            let settings = Settings { rescore, ..Settings::default() };
            let mut read = Vec::new();
            for query in &queries {
                let (hits, work, _) = index.search(query, 10, settings, Allowed::All, Limit::NONE);
                let mut exact: Vec<Neighbour> = (0..3000u32)
                    .map(|row| Neighbour {
                        rank: metric.rank(Kernels::best(), query, &all[row as usize]),
                        row,
                    })
                    .collect();
                exact.sort();
                exact.truncate(10);
                assert!(recall_ties(&hits, &exact) > 0.99, "{recipe}, {metric}");
                read.push((work.distances - 3000) as f64);
            }
            assert!(mean(&read) >= 10.0 && mean(&read) < most, "{recipe}, {metric}: {}", mean(&read));
        }
    }
}

#[test]
fn what_is_expected_to_be_cheapest_is_taken() {
    let all = points(9000, Metric::Cosine, 40);
    let small = writer(&all[..400], Metric::Cosine).snapshot();
    let large = writer(&all, Metric::Cosine).snapshot();
    let settings = Settings::beam(40);
    for table in [&small, &large] {
        let index = attached(table, Metric::Cosine, "graph(links=12, build=60)");
        let answer = ask(table, &all[3], 10, None, Some((&index, settings)));
        let considered = &answer.plan.considered;
        assert_eq!(considered[0].strategy, answer.plan.strategy, "{considered:?}");
        assert!(considered.is_sorted_by(|a, b| a.expected_us <= b.expected_us), "{considered:?}");
        let mut kinds: Vec<_> = considered.iter().map(|c| c.strategy).collect();
        kinds.sort_by_key(|s| *s as u8);
        assert_eq!(kinds, [Plan::ScanAll, Plan::Walk]);
        // Fewer rows make a scan cheaper, and a walk hardly.
        let scan = considered.iter().find(|c| c.strategy == Plan::ScanAll).unwrap();
        assert_eq!(scan.distances, table.len());
    }
}

#[test]
fn a_walk_that_runs_dry_is_finished_by_a_scan() {
    // Half of the rows are allowed, but all of them lie far from the query.
    let mut rng = ChaCha8Rng::seed_from_u64(2);
    let rows: Vec<Vec<f32>> = (0..8000)
        .map(|i| {
            let mut v: Vec<f32> = (0..D).map(|_| rng.random_range(-0.1f32..0.1)).collect();
            v[0] += if i % 2 == 1 { 1.0 } else { -1.0 };
            Metric::Cosine.prepare(&v, D).unwrap()
        })
        .collect();
    let table = writer(&rows, Metric::Cosine).snapshot();
    let index = attached(&table, Metric::Cosine, "graph(links=8, build=40)");
    let answer = ask(&table, &rows[0], 10, Some("odd"), Some((&index, Settings::beam(10))));
    let exact = ask(&table, &rows[0], 10, Some("odd"), None);
    assert_eq!(answer.plan.strategy, Plan::ThenScan);
    assert_eq!(keys(&table, &answer), keys(&table, &exact));
}

#[test]
fn fresh_writes_are_found_and_dead_rows_are_not() {
    let all = points(12_000, Metric::Euclidean, 8);
    let mut writer = writer(&all, Metric::Euclidean);
    let index = attached(&writer.snapshot(), Metric::Euclidean, "graph(links=12, build=80)");
    let settings = Settings::beam(60);
    let query = all[17].clone();
    let before = writer.snapshot();
    assert_eq!(keys(&before, &ask(&before, &query, 1, None, Some((&index, settings))))[0], "k17");

    // One record moves onto the query, the nearest is deleted, one is replaced far away.
    writer.apply(2, &[change(50_000, 2, Some(query.clone()))]);
    writer.apply(3, &[Change { body: None, ..change(17, 3, None) }]);
    let second = keys(&before, &ask(&before, &query, 2, None, None))[1].clone();
    let number: u64 = second[1..].parse().unwrap();
    writer.apply(4, &[change(number, 4, Some(vec![9.0; D]))]);

    let table = writer.snapshot();
    assert_eq!(table.n_records(), 12_000);
    let answer = ask(&table, &query, 5, None, Some((&index, settings)));
    let exact = ask(&table, &query, 5, None, None);
    assert_eq!(answer.plan.strategy, Plan::Walk);
    assert_eq!(answer.plan.unindexed, 2);
    assert_eq!(keys(&table, &answer), keys(&table, &exact));
    assert_eq!(keys(&table, &answer)[0], "k50000");
    assert!(!keys(&table, &answer).contains(&"k17".to_owned()) && !keys(&table, &answer).contains(&second));
    assert_eq!((index.n_dead(&table), index.uncovered(&table, 0).count_ones(..)), (2, 2));
    // The older snapshot still answers as before.
    assert_eq!(keys(&before, &ask(&before, &query, 1, None, Some((&index, settings))))[0], "k17");
    // Attached anew, as after a restart, the index covers what is still true.
    let recipe: Recipe = "graph(links=12, build=80)".parse().unwrap();
    let again = Index::build(source(&all, Metric::Euclidean), recipe, 1, &Progress::default()).unwrap();
    let again = Attached::new(again, &table, 0).unwrap();
    assert_eq!(keys(&table, &ask(&table, &query, 5, None, Some((&again, settings)))), keys(&table, &exact));
}

#[test]
fn records_without_a_vector_are_kept_but_never_found() {
    let mut writer = writer(&points(50, Metric::Dot, 1), Metric::Dot);
    writer.apply(2, &[change(90, 2, None)]);
    let table = writer.snapshot();
    assert_eq!(table.n_records(), 51);
    let answer = ask(&table, &[1.0; D], 100, None, None);
    assert_eq!(answer.nearest.len(), 50);
    assert!(!keys(&table, &answer).contains(&"k90".to_owned()));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// Whatever was written, replaced and deleted, a search with a generous beam equals the scan.
    #[test]
    fn live_searches_equal_the_scan(
        n in 1usize..400, edits in prop::collection::vec((0u64..500, any::<bool>()), 0..60),
        below in 0u64..600, k in 1usize..15, seed in any::<u64>(),
    ) {
        let all = points(n + edits.len() + 1, Metric::Cosine, seed);
        let mut writer = writer(&all[..n], Metric::Cosine);
        let index = attached(&writer.snapshot(), Metric::Cosine, "graph(links=16, build=100)");
        for (i, (number, delete)) in edits.iter().enumerate() {
            let revision = 2 + i as u64;
            let mut edit = change(*number, revision, Some(all[n + i].clone()));
            if *delete {
                edit.body = None;
            }
            writer.apply(revision, &[edit]);
        }
        let table = writer.snapshot();
        let query = &all[n + edits.len()];
        let filter = format!("n < {below}");
        for filter in [None, Some(filter.as_str())] {
            let exact = ask(&table, query, k, filter, None);
            let answer = ask(&table, query, k, filter, Some((&index, Settings::beam(400))));
            prop_assert_eq!(answer.nearest.len(), exact.nearest.len());
            for (a, b) in answer.nearest.iter().zip(&exact.nearest) {
                prop_assert!((a.rank - b.rank).abs() < 1e-5);
            }
        }
    }

    #[test]
    fn truth_in_blocks_equals_truth_one_by_one(n in 1usize..600, seed in any::<u64>()) {
        let rows = points(n + 20, Metric::Cosine, seed);
        let index = build(&rows[..n], Metric::Cosine, "scan", 1);
        let queries: Vec<f32> = rows[n..].concat();
        let block = [(0, index.vectors().unwrap())];
        let all = Queries { values: &queries, dimensions: D, excluded: &[None; 20] };
        let many = scan_many(&block, Metric::Cosine, all, 5, Allowed::All, 2);
        for (list, q) in many.iter().zip(queries.chunks(D)) {
            // Sums in another order round differently, so nearly equal rows may change places.
            let one = search(&index, q, 5, 1);
            prop_assert_eq!(one.len(), list.len());
            for (a, b) in one.iter().zip(list) {
                prop_assert!((a.rank - b.rank).abs() < 1e-5);
            }
        }
    }
}

#[test]
fn field_counts_equal_a_naive_count() {
    use std::collections::HashMap;
    use zesty_engine::counts::count;
    let schema = Schema::from_json(&json!({"properties": {
        "n": {"type": "integer"}, "x": {"type": "number"}, "word": {"type": "string"},
        "on": {"type": "string", "format": "date"}, "flag": {"type": "boolean"},
        "tags": {"type": "array", "items": {"type": "string"}}}}))
    .unwrap();
    let mut writer = Writer::new(schema, []);
    let mut rng = ChaCha8Rng::seed_from_u64(12);
    let words = ["fog", "oil", "gale"];
    let mut bodies = Vec::new();
    for i in 0..500u64 {
        let mut body = Map::new();
        let mut set = |name: &str, value: serde_json::Value| {
            if rng.random_bool(0.8) {
                body.insert(name.into(), value);
            }
        };
        set("n", json!(i as i64 % 7 - 3));
        set("x", json!(if i % 5 == 0 { -0.0 } else { i as f64 * 1e300 }));
        set("word", json!(words[i as usize % 3]));
        set("on", json!(format!("1931-10-{:02}", 1 + i % 9)));
        set("flag", json!(i % 4 == 0));
        set("tags", json!([words[i as usize % 2], words[2]]));
        bodies.push(body.clone());
        writer.apply(
            i + 1,
            &[Change { number: i, key: i.to_string(), revision: i + 1, body: Some(body), vectors: vec![] }],
        );
    }
    let table = writer.snapshot();
    let rows = Filter::from_text("n >= 0 OR n IS NULL").unwrap().compile(table.schema()).unwrap().run(&table);
    let kept: Vec<&Map<_, _>> =
        bodies.iter().filter(|b| b.get("n").is_none_or(|n| n.as_i64() >= Some(0))).collect();
    for (field, name) in ["n", "x", "word", "on", "flag", "tags"].iter().enumerate() {
        let counts = count(&table, field, &rows, 100);
        let present: Vec<_> = kept.iter().filter_map(|b| b.get(*name)).collect();
        assert_eq!(
            (counts.n_present, counts.n_missing),
            (present.len(), kept.len() - present.len()),
            "{name}"
        );
        let mut naive: HashMap<String, usize> = HashMap::new();
        for value in present {
            match value {
                serde_json::Value::Array(items) => {
                    items.iter().for_each(|i| *naive.entry(i.to_string()).or_default() += 1);
                }
                value => *naive.entry(value.to_string().replace("-0.0", "0.0")).or_default() += 1,
            }
        }
        assert_eq!(counts.n_distinct, naive.len(), "{name}");
        let listed = count(&table, field, &rows, 1000).values;
        let listed: HashMap<String, usize> =
            listed.into_iter().map(|v| (v.value.to_string(), v.count)).collect();
        assert_eq!(listed, naive, "{name}");
        assert!(counts.values.windows(2).all(|v| v[0].count >= v[1].count), "{name}");
        if let Some(h) = counts.histogram {
            assert_eq!(h.counts.iter().sum::<usize>(), counts.n_present, "{name}: every value is in one bar");
        }
    }
    assert_eq!(count(&table, 3, &rows, 0).histogram.unwrap().low, json!("1931-10-01"));
}

/// Every kind of recipe that can be written: by preparing, route, store and finish, for so many dimensions.
fn recipes(dimensions: usize) -> Vec<String> {
    let prepares = [
        "",
        "center | ",
        &format!("reduce({}) | ", dimensions - 4),
        "rotate | ",
        "center | reduce(20) | rotate | ",
    ];
    let routes = [
        "scan",
        "graph(links=8, build=60)",
        "graph(links=8, build=60, layers=off)",
        "graph(links=20, build=60, beside=on)",
        "cells(12)",
        "cells(12, router=graph)",
        "cells(4x5)",
    ];
    let stores = ["f32", "f16", "int8", "pq(10)", "pq(5, bits=4)", "bits", "bits(3)"];
    let finishes = ["", " | rescore(f32)", " | rescore(f16)", " | rescore(int8)"];
    let mut all = Vec::new();
    for (prepare, route, store, finish) in every(&prepares, &routes, &stores, &finishes) {
        let store = if store == "f32" { String::new() } else { format!(" | {store}") };
        let text = format!("{prepare}{route}{store}{finish}");
        let shape = DataShape { rows: 900, dimensions, metric: Metric::Dot };
        if text.parse::<Recipe>().is_ok_and(|r| r.check(shape).is_ok()) {
            all.push(text);
        }
    }
    all
}

fn every<'a>(
    a: &'a [&'a str],
    b: &'a [&'a str],
    c: &'a [&'a str],
    d: &'a [&'a str],
) -> impl Iterator<Item = (&'a str, &'a str, &'a str, &'a str)> {
    a.iter().flat_map(move |a| {
        b.iter().flat_map(move |b| c.iter().flat_map(move |c| d.iter().map(move |d| (*a, *b, *c, *d))))
    })
}

/// Vectors near a plane of few dimensions, as encoders make them, with a mean that is not zero.
fn leaning(n: usize, d: usize, metric: Metric, seed: u64) -> Vec<Vec<f32>> {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let axes: Vec<Vec<f32>> =
        (0..10).map(|_| (0..d).map(|_| rng.random_range(-1.0..1.0)).collect()).collect();
    (0..n)
        .map(|_| {
            let at: Vec<f32> = (0..10).map(|_| rng.random_range(-1.0f32..1.0).powi(3)).collect();
            let row: Vec<f32> = (0..d)
                .map(|i| {
                    let plane: f32 = axes.iter().zip(&at).map(|(axis, x)| axis[i] * x).sum();
                    0.3 + plane + 0.05 * rng.random_range(-1.0..1.0f32)
                })
                .collect();
            metric.prepare(&row, d).unwrap()
        })
        .collect()
}

/// How full lists of neighbours are depends on the data; all else is known to within `share`.
fn bytes_are_as_expected(index: &Index, shape: DataShape, share: f64) {
    let expected = index.recipe().explain(shape).unwrap().expected.file_bytes as f64;
    let bytes = (index.n_bytes_vectors() + index.n_bytes_structure()) as f64;
    let lists = match index.recipe().route {
        Route::Graph(g) => (shape.rows * 2 * g.links * 3) as f64,
        _ => 0.0,
    };
    let (low, high) = (expected - 0.67 * lists, expected + 0.33 * lists);
    assert!(
        bytes > low * (1.0 - share) && bytes < high * (1.0 + share),
        "{}: {bytes} bytes, {low} to {high} expected",
        index.recipe()
    );
}

#[test]
fn every_recipe_builds_answers_and_comes_back_from_its_file() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("index.safetensors");
    // Neither a multiple of a block nor of a register.
    let (n, d) = (901, 50);
    let all = recipes(d);
    assert!(all.len() > 250, "{}", all.len());
    let mut poor: Vec<String> = Vec::new();
    for (i, recipe) in all.iter().enumerate() {
        let metric = [Metric::Cosine, Metric::Euclidean, Metric::Dot][i % 3];
        let rows = leaning(n, d, metric, 3);
        let flat = rows.concat();
        let source = |revision| {
            let mut vectors = Aligned::with_capacity(flat.len());
            vectors.extend(&flat);
            let description = Description {
                recipe: String::new(),
                metric,
                dimensions: d,
                revision,
                seed: 1,
                rows_at_build: 0,
                owner: String::new(),
            };
            Source { description, vectors, numbers: (0..n as u64).collect() }
        };
        let parsed: Recipe = recipe.parse().unwrap();
        let index = Index::build(source(1), parsed, 1, &Progress::default()).unwrap();
        bytes_are_as_expected(&index, DataShape { rows: n, dimensions: d, metric }, 0.1);
        let bytes = index.n_bytes_vectors() + index.n_bytes_structure();
        index.write(&path).unwrap();
        let opened = Index::open(&path).unwrap();
        assert_eq!(opened.recipe(), index.recipe());
        assert_eq!(opened.n_bytes_vectors() + opened.n_bytes_structure(), bytes);
        let settings = Settings { beam: 120, visit: 15, rescore: 8 };
        let only = opened.nodes_where(|node| opened.numbers()[node as usize] % 3 != 1);
        let allowed_rows = opened.nodes_where(|row| row % 3 != 1);
        let (mut hits, mut asked, mut off) = (0, 0, 0.0f64);
        for query in rows.iter().step_by(45) {
            for filtered in [false, true] {
                let allowed = if filtered { Allowed::Only(&only) } else { Allowed::All };
                let found = index.search(query, 5, settings, allowed, Limit::NONE).0;
                let again = opened.search(query, 5, settings, allowed, Limit::NONE).0;
                assert_eq!(found, again, "{recipe}");
                assert!(found.is_sorted() && found.len() == 5, "{recipe}");
                let over = if filtered { Allowed::Only(&allowed_rows) } else { Allowed::All };
                let truth = scan(std::iter::once((0, &flat[..])), metric, query, 5, over);
                for f in &found {
                    let row = opened.numbers()[f.row as usize] as u32;
                    assert!(!filtered || row % 3 != 1, "{recipe}: a row that is not allowed");
                    hits += usize::from(truth.iter().any(|t| t.row == row));
                    let exact = metric.rank(Kernels::best(), query, &rows[row as usize]);
                    off += f64::from((f.rank - exact).abs());
                }
                asked += 5;
            }
        }
        // Codes of few bits blur; what is ranked anew with whole vectors does not.
        let recall = hits as f64 / asked as f64;
        let coarse = ["pq", "bits"].iter().any(|word| recipe.contains(word));
        let floor = match (recipe.contains("rescore"), coarse) {
            // 20 bits for a vector: next to nothing, and yet most neighbours are among the candidates.
            (true, true) if recipe.contains("bits=4") => 0.6,
            (true, false) => 0.97,
            (true, true) => 0.85,
            (false, false) => 0.9,
            (false, true) => 0.2,
        };
        if recall < floor {
            poor.push(format!("{recipe}, {metric}: {recall}"));
        }
        if recipe.ends_with("rescore(f32)") {
            assert!(
                off / asked as f64 <= 1e-5,
                "{recipe}: ranks are those of f32, not {} off",
                off / asked as f64
            );
        }
        let one = |n| Index::build(source(1), parsed, n, &Progress::default()).unwrap();
        if i % 16 == 0 && !recipe.contains("graph(links") {
            let query = &rows[7];
            let answer = |index: &Index| index.search(query, 5, settings, Allowed::All, Limit::NONE);
            assert_eq!(
                answer(&one(1)),
                answer(&index),
                "{recipe}: the same data and seed give the same answers"
            );
            assert_eq!(answer(&one(2)), answer(&index), "{recipe}: on two threads too");
        }
    }
    assert!(poor.is_empty(), "{poor:#?}");
}
