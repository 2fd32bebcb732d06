//! Points to index, and ways to ask for them.

use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::{Map, json};
use zesty_engine::filter::Filter;
use zesty_engine::index::{Description, Index, Limit, Progress, Settings, Source};
use zesty_engine::lines::Aligned;
use zesty_engine::measure::recall;
use zesty_engine::recipe::{DataShape, Route};
use zesty_engine::rows::{Change, Table, Writer};
use zesty_engine::scan::{Allowed, Neighbour, scan};
use zesty_engine::search::{Answer, Attached, Request, run};
use zesty_engine::until::Until;
use zesty_engine::{Metric, Recipe, Schema};

pub const D: usize = 24;

/// Points around random centres, as encoders make them.
pub fn points(n: usize, metric: Metric, seed: u64) -> Vec<Vec<f32>> {
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

pub fn source(points: &[Vec<f32>], metric: Metric) -> Source {
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

pub fn build(points: &[Vec<f32>], metric: Metric, recipe: &str, threads: usize) -> Index {
    Index::build(source(points, metric), recipe.parse().unwrap(), threads, &Progress::default()).unwrap()
}

pub fn search(index: &Index, query: &[f32], k: usize, beam: usize) -> Vec<Neighbour> {
    index.search(query, k, Settings::beam(beam), Allowed::All, Limit::NONE).0
}

pub fn recalls(index: &Index, queries: &[Vec<f32>], metric: Metric, beam: usize) -> Vec<f64> {
    queries
        .iter()
        .map(|q| {
            let truth = scan(std::iter::once((0, index.vectors().unwrap())), metric, q, 10, Allowed::All);
            recall(&search(index, q, 10, beam), &truth)
        })
        .collect()
}

pub fn schema() -> Schema {
    Schema::from_json(&json!({"properties": {"n": {"type": "integer"}, "odd": {"type": "boolean"}}})).unwrap()
}

pub fn change(number: u64, revision: u64, vector: Option<Vec<f32>>) -> Change {
    let body: Map<_, _> =
        [("n".into(), json!(number)), ("odd".into(), json!(number % 2 == 1))].into_iter().collect();
    Change { number, key: format!("k{number}"), revision, body: Some(body), vectors: vec![vector.into()] }
}

pub fn writer(rows: &[Vec<f32>], metric: Metric) -> Writer {
    let mut writer = Writer::new(schema(), [("v".to_owned(), metric, D)]);
    let all: Vec<_> = rows.iter().enumerate().map(|(i, r)| change(i as u64, 1, Some(r.clone()))).collect();
    writer.apply(1, &all);
    writer
}

pub fn attached(table: &Table, metric: Metric, recipe: &str) -> Attached {
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

pub fn ask(
    table: &Table,
    query: &[f32],
    k: usize,
    filter: Option<&str>,
    index: Option<(&Attached, Settings)>,
) -> Answer {
    ask_only(table, query, k, filter, index, None)
}

/// As [`ask`], by one strategy whatever it costs.
pub fn ask_only(
    table: &Table,
    query: &[f32],
    k: usize,
    filter: Option<&str>,
    index: Option<(&Attached, Settings)>,
    only: Option<zesty_engine::search::Strategy>,
) -> Answer {
    let test = filter.map(|f| Filter::from_text(f).unwrap().compile(table.schema()).unwrap());
    run(
        table,
        Request {
            column: 0,
            query,
            k,
            filter: test.as_ref(),
            excluded: &[],
            index,
            only,
            until: Until::NONE,
        },
    )
}

pub fn keys(table: &Table, answer: &Answer) -> Vec<String> {
    answer.nearest.iter().map(|n| table.key(n.row).to_owned()).collect()
}

/// Every kind of recipe that can be written: by preparing, route, store and finish, for so many dimensions.
pub fn recipes(dimensions: usize) -> Vec<String> {
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
        "graph(links=20, build=60, inline_codes=on)",
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

pub fn every<'a>(
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
pub fn leaning(n: usize, d: usize, metric: Metric, seed: u64) -> Vec<Vec<f32>> {
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
pub fn bytes_are_as_expected(index: &Index, shape: DataShape, share: f64) {
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
