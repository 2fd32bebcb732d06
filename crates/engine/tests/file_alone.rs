//! Index files answer queries without this program: the layout that docs/index-file.md describes, read by plain
//! means, and the reader of docs/examples where Python has what it needs.

use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use safetensors::SafeTensors;
use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};
use zesty_engine::index::{Description, Index, Limit, Progress, Settings, Source};
use zesty_engine::lines::Aligned;
use zesty_engine::scan::Allowed;
use zesty_engine::{Metric, Recipe};

fn build(recipe: &str, metric: Metric, d: usize, n: usize, path: &Path) -> (Index, Vec<Vec<f32>>) {
    let mut rng = ChaCha8Rng::seed_from_u64(5);
    let axes: Vec<Vec<f32>> = (0..8).map(|_| (0..d).map(|_| rng.random_range(-1.0..1.0)).collect()).collect();
    let mut rows: Vec<Vec<f32>> = (0..n + 6)
        .map(|_| {
            let mut row: Vec<f32> = (0..d).map(|_| rng.random_range(-0.7..1.0)).collect();
            // Of many dimensions most are told by others, as in embeddings.
            if d > 64 {
                row.iter_mut().for_each(|x| *x /= 4.0);
                for axis in &axes {
                    let along: f32 = rng.random_range(-1.0..1.0);
                    row.iter_mut().zip(axis).for_each(|(x, a)| *x += along * a);
                }
            }
            metric.prepare(&row, d).unwrap()
        })
        .collect();
    let queries = rows.split_off(n);
    let mut vectors = Aligned::with_capacity(n * d);
    rows.iter().for_each(|r| vectors.extend(r));
    let description = Description {
        recipe: String::new(),
        metric,
        dimensions: d,
        revision: 1,
        seed: 3,
        rows_at_build: 0,
        owner: String::new(),
    };
    let source = Source { description, vectors, numbers: (1000..1000 + n as u64).collect() };
    let index = Index::build(source, recipe.parse::<Recipe>().unwrap(), 1, &Progress::default()).unwrap();
    index.write(path).unwrap();
    (index, queries)
}

fn numbers_of(index: &Index, query: &[f32], settings: Settings) -> Vec<u64> {
    let found = index.search(query, 5, settings, Allowed::All, Limit::NONE).0;
    found.iter().map(|f| index.numbers()[f.row as usize]).collect()
}

/// Rotates values, a power of two of them, as the docs say.
fn turn(values: &mut [f32], signs: &[f32]) {
    let scale = (values.len() as f32).sqrt();
    for signs in signs.chunks(values.len()) {
        values.iter_mut().zip(signs).for_each(|(x, s)| *x *= s);
        let before = values.to_vec();
        // The transform by its definition: entry (i, j) is -1 to the number of bits that i and j share.
        for (i, x) in values.iter_mut().enumerate() {
            let sign = |j: usize| if (i & j).count_ones().is_multiple_of(2) { 1.0 } else { -1.0 };
            *x = before.iter().enumerate().map(|(j, y)| sign(j) * y).sum::<f32>() / scale;
        }
    }
}

#[test]
fn the_reader_of_the_docs_gives_the_same_answers() {
    let probe = Command::new("python3").args(["-c", "import numpy, safetensors"]).output();
    if !probe.is_ok_and(|p| p.status.success()) {
        eprintln!("python3 with numpy and safetensors is not here; the layout is checked by the other test");
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("index.safetensors");
    let reader = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/examples/read_index.py");
    for (recipe, metric, d, n) in [
        ("graph(links=6, build=40)", Metric::Cosine, 40, 700),
        ("graph(links=6, build=40, layers=off) | f16", Metric::Euclidean, 40, 700),
        ("center | reduce(30) | graph(links=6, build=40) | int8 | rescore(f32)", Metric::Dot, 40, 700),
        ("graph(links=6, build=40) | int8 | rescore(f32)", Metric::Cosine, 200, 4100),
        ("center | cells(20) | int8 | rescore(f16)", Metric::Euclidean, 40, 700),
        ("cells(40)", Metric::Cosine, 40, 700),
        ("cells(40, router=graph) | f16", Metric::Dot, 40, 700),
        ("cells(6x7)", Metric::Cosine, 40, 700),
        ("cells(6x7) | f16", Metric::Euclidean, 41, 700),
        ("scan | f16", Metric::Dot, 40, 700),
    ] {
        let (index, queries) = build(recipe, metric, d, n, &path);
        // The reader compares also what heads would have passed over, so there the walk must be wide enough.
        let setting = if n < 4096 { 12 } else { 100 };
        for query in queries {
            let mut child = Command::new("python3")
                .arg(&reader)
                .arg(&path)
                .args(["5", &setting.to_string()])
                .stdin(Stdio::piped())
                .stdout(Stdio::piped())
                .spawn()
                .unwrap();
            child.stdin.take().unwrap().write_all(serde_json::to_string(&query).unwrap().as_bytes()).unwrap();
            let told = String::from_utf8(child.wait_with_output().unwrap().stdout).unwrap();
            let told: Vec<u64> =
                told.lines().map(|l| l.split(' ').next().unwrap().parse().unwrap()).collect();
            let settings = Settings { beam: setting, visit: setting, rescore: 3 };
            assert_eq!(told, numbers_of(&index, &query, settings), "{recipe}, {metric}");
        }
    }
}

/// Little-endian values of a tensor.
fn values<const N: usize, T>(file: &SafeTensors, name: &str, read: fn([u8; N]) -> T) -> Vec<T> {
    let view = file.tensor(name).unwrap();
    view.data().chunks_exact(N).map(|c| read(c.try_into().unwrap())).collect()
}

fn floats(file: &SafeTensors, name: &str) -> Vec<f32> {
    values(file, name, f32::from_le_bytes)
}

/// Codes that the reader does not read: decoded here by the book, they rank as the index does.
#[test]
fn codes_mean_what_the_docs_say() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("index.safetensors");
    let (n, d) = (300usize, 40usize);
    let search = Settings { beam: 300, visit: 300, rescore: 1 };
    for recipe in
        ["scan | pq(10)", "scan | pq(10, bits=4)", "cells(8) | pq(10)", "scan | bits", "scan | bits(2)"]
    {
        let (index, queries) = build(recipe, Metric::Dot, d, n, &path);
        let bytes = std::fs::read(&path).unwrap();
        let file = SafeTensors::deserialize(&bytes).unwrap();
        let numbers = values(&file, "numbers", u64::from_le_bytes);
        let stored = file.tensor("stored").unwrap();
        let data = stored.data();
        // The 4-bit place of a row in blocks of 32.
        let place = |row: usize, i: usize, places: usize| {
            let block = &data[row / 32 * 32 * places.div_ceil(2)..];
            block[i / 2 * 32 + row % 32] >> (i % 2 * 4) & 15
        };
        let mut rows: Vec<Vec<f32>> = Vec::new();
        if recipe.contains("pq") {
            let books = floats(&file, "codebooks");
            let centers = books.len() / d;
            for row in 0..n {
                let code = |part: usize| match centers {
                    16 => place(row, part, 10) as usize,
                    _ => data[row * 10 + part] as usize,
                };
                rows.push((0..d).map(|i| books[(i / 4 * 4 + i % 4) * centers + code(i / 4)]).collect());
            }
            if recipe.contains("cells") {
                let starts = values(&file, "starts", u32::from_le_bytes);
                let codes = values(&file, "centers", i8::from_le_bytes);
                let (scale, mean) = (floats(&file, "centers.scale"), floats(&file, "centers.mean"));
                let centers: Vec<f32> = codes
                    .iter()
                    .enumerate()
                    .map(|(i, code)| mean[i % d] + f32::from(*code) * scale[i / d])
                    .collect();
                for (cell, run) in starts.windows(2).enumerate() {
                    for row in &mut rows[run[0] as usize..run[1] as usize] {
                        row.iter_mut().zip(&centers[cell * d..]).for_each(|(x, c)| *x += c);
                    }
                }
            }
        } else {
            let planes = if recipe.ends_with(')') { 2 } else { 1 };
            let factor = (planes == 1).then(|| floats(&file, "stored.factor"));
            let words = values(&file, "stored", u64::from_le_bytes);
            for row in 0..n {
                // Two planes lie row by row: b, whose opposite is the factor, in the first of four words.
                let factor =
                    factor.as_ref().map_or_else(|| -f32::from_bits(words[4 * row] as u32), |f| f[row]);
                let code = |i: usize| match planes {
                    1 => f32::from(place(row, i / 4, 16) >> (i % 4) & 1) - 0.5,
                    _ => {
                        let bit = |p: usize| (words[4 * row + 1 + p] >> i & 1) as f32 * (1 << p) as f32;
                        bit(0) + bit(1) - 1.5
                    }
                };
                rows.push((0..64).map(|i| code(i) * factor).collect());
            }
        }
        let signs = file.tensor("stored.signs").is_ok().then(|| floats(&file, "stored.signs"));
        for query in queries {
            let mut asked = query.clone();
            if let Some(signs) = &signs {
                asked.resize(64, 0.0);
                turn(&mut asked, signs);
            }
            let rank = |row: &Vec<f32>| -row.iter().zip(&asked).map(|(x, q)| x * q).sum::<f32>();
            let told: Vec<f32> = rows.iter().map(rank).collect();
            let found = index.search(&query, n, search, Allowed::All, Limit::NONE).0;
            assert_eq!(found.len(), n);
            for f in &found {
                // What a query looks up is kept in 63 steps for each of up to 16 places.
                let off = (f.rank - told[f.row as usize]).abs();
                assert!(off < 0.2, "{recipe}: record {} {off} off", numbers[f.row as usize]);
            }
        }
    }
}

#[test]
fn bits_row_by_row_estimate_distances_from_that_of_the_centre() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("index.safetensors");
    let (n, d) = (1500, 256);
    for metric in [Metric::Cosine, Metric::Euclidean, Metric::Dot] {
        let recipe = "cells(12, overlap=on) | bits | rescore(f32)";
        let (index, queries) = build(recipe, metric, d, n, &path);
        let bytes = std::fs::read(&path).unwrap();
        let file = SafeTensors::deserialize(&bytes).unwrap();
        let records = values(&file, "stored", u64::from_le_bytes);
        let signs = floats(&file, "stored.signs");
        let starts = values(&file, "starts", u32::from_le_bytes);
        let (mean, scale) = (floats(&file, "centers.mean"), floats(&file, "centers.scale"));
        let codes = values(&file, "centers", i8::from_le_bytes);
        let euclidean = metric == Metric::Euclidean;
        let rank = |a: &[f32], b: &[f32]| -> f32 {
            a.iter().zip(b).map(|(x, y)| if euclidean { (x - y) * (x - y) } else { -x * y }).sum()
        };
        let (mut within, mut all) = (0, 0);
        for query in queries {
            let mut turned = query.clone();
            turn(&mut turned, &signs);
            for (cell, run) in starts.windows(2).enumerate() {
                let center: Vec<f32> =
                    (0..d).map(|i| mean[i] + f32::from(codes[cell * d + i]) * scale[cell]).collect();
                let left: f32 = query.iter().zip(&center).map(|(q, c)| (q - c) * (q - c)).sum();
                for node in run[0] as usize..run[1] as usize {
                    // Two numbers and four words of bits take eight words.
                    let record = &records[8 * node..][..8];
                    let (b, a) = (f32::from_bits(record[0] as u32), f32::from_bits((record[0] >> 32) as u32));
                    let sign = |i: usize| (record[1 + i / 64] >> (i % 64) & 1) as f32 - 0.5;
                    let product: f32 = (0..d).map(|i| sign(i) * turned[i]).sum();
                    let told = rank(&query, &center) + a + b * product;
                    let vector = &index.vectors().unwrap()[node * d..][..d];
                    // Off by what is left between query and centre, not by all of the query.
                    let off = (told - rank(&query, vector)).abs();
                    within += usize::from(off <= 2.0 * 0.3014 * b.abs() * left.sqrt());
                    all += 1;
                }
            }
        }
        // Two standard deviations.
        assert!(within * 100 > 93 * all && within * 1000 < 985 * all, "{metric}: {within} of {all}");
    }
}

#[test]
fn heads_say_where_neighbours_are_and_estimate_distances() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("index.safetensors");
    let (n, d) = (4100, 250);
    for metric in [Metric::Cosine, Metric::Euclidean, Metric::Dot] {
        let (index, queries) = build("graph(links=6, build=40)", metric, d, n, &path);
        let bytes = std::fs::read(&path).unwrap();
        let file = SafeTensors::deserialize(&bytes).unwrap();
        assert_eq!(file.tensor("heads").unwrap().shape(), [n, 8]);
        let heads = values(&file, "heads", u64::from_le_bytes);
        let (mean, signs) = (floats(&file, "heads.mean"), floats(&file, "heads.signs"));
        let ground = file.tensor("ground").unwrap();
        assert_eq!(ground.shape()[1], 3);
        let lists: Vec<&[[u8; 3]]> = heads
            .chunks(8)
            .map(|head| &ground.data().as_chunks().0[head[1] as u32 as usize..][..(head[1] >> 32) as usize])
            .collect();
        assert_eq!(lists.iter().map(|list| list.len()).sum::<usize>(), ground.shape()[0]);
        for list in &lists {
            assert!((1..=12).contains(&list.len()));
            assert!(list.iter().all(|[a, b, c]| u32::from_le_bytes([*a, *b, *c, 0]) < n as u32));
        }
        let (mut within, mut all) = (0, 0);
        for query in queries {
            // Under cosine and dot the part of the mean is the same for all.
            let euclidean = metric == Metric::Euclidean;
            let rest = |x: &[f32]| -> Vec<f32> { x.iter().zip(&mean).map(|(x, m)| x - m).collect() };
            let told = if euclidean { rest(&query) } else { query.clone() };
            let dot = |a: &[f32], b: &[f32]| -> f32 { a.iter().zip(b).map(|(a, b)| a * b).sum() };
            let mut turned = told.clone();
            turned.resize(256, 0.0);
            turn(&mut turned, &signs);
            for (head, x) in heads.chunks(8).zip(index.vectors().unwrap().chunks(d)) {
                let x = rest(x);
                let code = |i: usize| (head[2 + i / 64] >> (i % 64) & 1) as f32 - 0.5;
                let (b, squared) = (f32::from_bits(head[0] as u32), f32::from_bits((head[0] >> 32) as u32));
                let factor = if euclidean { -b / 2.0 } else { -b };
                let product: f32 = (0..256).map(|i| code(i) * turned[i]).sum();
                let off = factor * product - dot(&told, &x);
                within += usize::from(off.abs() <= 2.0 * 0.3014 * factor * dot(&told, &told).sqrt());
                all += 1;
                if euclidean {
                    assert!((squared - dot(&x, &x)).abs() < 1e-3 * squared);
                }
            }
        }
        // Two standard deviations.
        assert!(within * 100 > 93 * all && within * 1000 < 985 * all, "{metric}: {within} of {all}");
    }
}
