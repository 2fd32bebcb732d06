//! Indexes by themselves: built, searched, renewed, written and read.

use crate::points::*;
use fixedbitset::FixedBitSet;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use zesty_engine::index::{
    BuildError, Description, FORMAT_VERSION, FileError, Index, Limit, Progress, Settings, Source,
};
use zesty_engine::kernels::Kernels;
use zesty_engine::lines::Aligned;
use zesty_engine::measure::{mean, recall_ties};
use zesty_engine::recipe::DataShape;
use zesty_engine::scan::{Allowed, Neighbour, scan};
use zesty_engine::{Metric, Recipe};

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
    "graph(links=4, build=20, inline_codes=on) | bits | rescore(f32)",
    "center | graph(links=4, build=20, layers=off) | int8 | rescore(f16)",
    "cells | bits | rescore(f32)",
    "cells(overlap=on) | bits",
    "center | cells(5, router=graph, overlap=on) | bits | rescore(int8)",
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
fn a_build_calls_what_may_pause_it_before_each_piece_and_is_the_same() {
    let rows: Vec<Vec<f32>> = (0..300).map(|i| vec![(i * 37 % 101) as f32, (i % 17) as f32]).collect();
    let build = |progress: &Progress| {
        let recipe = "graph".parse().unwrap();
        Index::build(source(&rows, Metric::Euclidean), recipe, 1, progress).unwrap()
    };
    let calls = Arc::new(AtomicUsize::new(0));
    let counted = calls.clone();
    let paused = build(&Progress::pausing(move || {
        counted.fetch_add(1, Ordering::Relaxed);
    }));
    assert!(calls.load(Ordering::Relaxed) >= rows.len(), "{calls:?}");
    let alone = build(&Progress::default());
    let found = |index: &Index| index.search(&rows[7], 10, Settings::default(), Allowed::All, Limit::NONE).0;
    assert_eq!(found(&paused), found(&alone));
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
        "cells(200, overlap=on) | bits | rescore(f32)",
    ] {
        let index = build(&rows, Metric::Euclidean, recipe, 1);
        let only = index.nodes_where(|node| node % 60 == 7);
        let settings = Settings { visit: 1, ..Settings::default() };
        for query in rows.iter().step_by(40) {
            let found = index.search(query, 30, settings, (&only).into(), Limit::NONE).0;
            let mut nodes: Vec<u32> = found.iter().map(|n| n.row).collect();
            nodes.sort_unstable();
            nodes.dedup();
            assert_eq!((found.len(), nodes.len()), (30, 30), "{recipe}");
        }
    }
}

#[test]
fn overlapping_rows_are_found_with_fewer_visits() {
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
        let overlapping = recall_of("cells(128, overlap=on) | bits | rescore(f32)", 6);
        assert!(1.0 - overlapping < 0.6 * (1.0 - plain), "{metric}: {overlapping} after {plain}");
        let overlapping = recall_of("cells(600, overlap=on) | bits | rescore(f32)", 100);
        assert!(overlapping > 0.97, "{metric}: {overlapping}");
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
        "graph(links=8, build=60, inline_codes=on) | bits | rescore(f32)",
        "center | cells(40) | pq(12) | rescore(f32)",
        "cells(80, overlap=on) | bits | rescore(f32)",
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
    let text = String::from_utf8_lossy(&good[8..header])
        .replace(&version(FORMAT_VERSION), &version(FORMAT_VERSION + 1));
    let other = [&good[..8], text.as_bytes(), &good[header..]].concat();
    std::fs::write(&path, other).unwrap();
    let error = Index::open(&path).err().unwrap().to_string();
    assert!(error.contains(&format!("version {FORMAT_VERSION}")), "{error}");
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
                let allowed: Allowed<'_> = if filtered { (&only).into() } else { Allowed::All };
                let found = index.search(query, 5, settings, allowed, Limit::NONE).0;
                let again = opened.search(query, 5, settings, allowed, Limit::NONE).0;
                assert_eq!(found, again, "{recipe}");
                assert!(found.is_sorted() && found.len() == 5, "{recipe}");
                let over: Allowed<'_> = if filtered { (&allowed_rows).into() } else { Allowed::All };
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
        // Codes of few bits blur; what is re-ranked with whole vectors does not.
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

/// Small groups of rows in all directions, which a graph hardly connects: walks end in the wrong one.
fn groups(n: usize, each: usize, d: usize, metric: Metric) -> Vec<Vec<f32>> {
    let mut rng = ChaCha8Rng::seed_from_u64(19);
    let mut one = |centre: Option<&[f32]>, spread: f32| -> Vec<f32> {
        (0..d).map(|i| centre.map_or(0.0, |c| c[i]) + spread * rng.random_range(-1.0f32..1.0)).collect()
    };
    let centres: Vec<Vec<f32>> = (0..n).map(|_| one(None, 1.0)).collect();
    let all = centres.iter().flat_map(|c| vec![c; each]);
    all.map(|c| metric.prepare(&one(Some(c), 0.35), d).unwrap()).collect()
}

#[test]
fn a_search_that_ends_in_the_wrong_place_is_repeated() {
    for (metric, recipe) in [
        (Metric::Cosine, "graph(links=4, build=20)"),
        (Metric::Euclidean, "graph(links=4, build=20) | int8 | rescore(f32)"),
        (Metric::Dot, "graph(links=4, build=20)"),
        (Metric::Cosine, "cells(1500) | int8 | rescore(f32)"),
    ] {
        // Every 20th of a group is asked for and not indexed; under dot queries of any length ask the same.
        let (queries, rows): (Vec<_>, Vec<_>) =
            groups(400, 20, 32, metric).into_iter().enumerate().partition(|(i, _)| i % 20 == 7);
        let rows: Vec<Vec<f32>> = rows.into_iter().map(|(_, row)| row).collect();
        let index = build(&rows, metric, recipe, 2);
        let mut n = [0; 3];
        for (_, query) in &queries {
            let query: Vec<f32> =
                if metric == Metric::Dot { query.iter().map(|x| 9.0 * x).collect() } else { query.clone() };
            let flat: Vec<f32> = rows.concat();
            let truth = scan(std::iter::once((0, &flat[..])), metric, &query, 10, Allowed::All);
            let settings = Settings { beam: 10, visit: 1, rescore: 1 };
            let (found, work) = index.search(&query, 10, settings, Allowed::All, Limit::NONE);
            let is_true =
                |n: &&Neighbour| truth.iter().any(|t| u64::from(t.row) == index.numbers()[n.row as usize]);
            n[0] += usize::from(found.iter().filter(is_true).count() < 5);
            n[1] += work.again;
            let all = index.nodes_where(|_| true);
            n[2] += index.search(&query, 10, settings, (&all).into(), Limit::NONE).1.again;
        }
        let [failed, again, filtered] = n;
        println!("{metric} {recipe}: {failed} failed, {again} repeated");
        assert!(failed <= 20, "{metric} {recipe}: {failed} of {} found fewer than half", queries.len());
        assert!((3..200).contains(&again), "{metric} {recipe}: {again} were repeated");
        assert!(filtered < 200, "{metric} {recipe}: {filtered} were repeated under a filter");
    }
}

#[test]
fn a_search_by_cells_whose_query_is_far_from_all_is_tried_three_times_and_one_by_a_graph_twice() {
    let rows = groups(400, 20, 32, Metric::Euclidean);
    let far: Vec<f32> = rows[0].iter().map(|x| x + 3.0).collect();
    let near = &rows[40];
    for (recipe, tries) in [
        ("cells(300)", 2),
        ("cells(300, overlap=on) | bits | rescore(f32)", 2),
        ("graph(links=16, build=100)", 1),
    ] {
        let index = build(&rows, Metric::Euclidean, recipe, 2);
        let settings = Settings { visit: 2, beam: 20, rescore: 3 };
        let again = |query: &[f32]| index.search(query, 10, settings, Allowed::All, Limit::NONE).1.again;
        assert_eq!((again(near), again(&far)), (0, tries), "{recipe}");
        // Each try looks into more cells than the one before.
        let hops = |query: &[f32]| index.search(query, 10, settings, Allowed::All, Limit::NONE).1.hops;
        assert!(!recipe.starts_with("cells") || (hops(near) <= 4 && hops(&far) >= 2 + 32 + 128), "{recipe}");
        // Of the rows that a filter allows, the tenth nearest may rightly be as far as the hundredth of all.
        for every in [2, 10] {
            let some = index.nodes_where(|node| node % every == 0);
            let again =
                |query: &[f32]| index.search(query, 10, settings, (&some).into(), Limit::NONE).1.again;
            // Fewer where the first one looked into all cells.
            assert!(again(near) == 0 && (1..=tries).contains(&again(&far)), "{recipe}, one of {every}");
        }
    }
}

#[test]
fn a_filter_by_chance_makes_cells_as_many_as_hold_what_it_leaves() {
    // The ten nearest of all lie in a group or two, the ten nearest of a tenth in a dozen of them.
    let mut rows = groups(600, 20, 32, Metric::Cosine);
    let queries: Vec<Vec<f32>> = (0..200).map(|i| rows.remove(i * 50)).collect();
    let flat: Vec<f32> = rows.concat();
    for (recipe, lost) in [
        ("cells(1500)", 0.006),
        ("cells(1500, overlap=on) | bits | rescore(f32)", 0.006),
        ("graph | int8 | rescore(f32)", 0.012),
    ] {
        let index = build(&rows, Metric::Cosine, recipe, 2);
        let settings = Settings { visit: 3, beam: 64, rescore: 10 };
        let recall = |every: u64| {
            let some = index.nodes_where(|node| index.numbers()[node as usize].is_multiple_of(every));
            let mut of_rows = FixedBitSet::with_capacity(rows.len());
            (0..rows.len()).step_by(every as usize).for_each(|row| of_rows.insert(row));
            let found = queries.iter().map(|query| {
                let all = [(0, &flat[..])].into_iter();
                let truth = scan(all, Metric::Cosine, query, 10, (&of_rows).into());
                let (found, _) = index.search(query, 10, settings, (&some).into(), Limit::NONE);
                let numbers: Vec<u64> = found.iter().map(|n| index.numbers()[n.row as usize]).collect();
                truth.iter().filter(|t| numbers.contains(&t.row.into())).count() as f64 / 10.0
            });
            found.sum::<f64>() / queries.len() as f64
        };
        let (all, parts) = (recall(1), [2, 5, 10].map(recall));
        println!("{recipe}: {all}, of a half, a fifth and a tenth {parts:?}");
        assert!(all > 0.95 && parts.iter().all(|part| *part > all - lost), "{recipe}: {all}, {parts:?}");
    }
}
