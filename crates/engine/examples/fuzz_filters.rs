//! Throws damaged filters at the parsers, the compiler and the evaluator for a bounded time. What it finds panics.
//!
//! `cargo run --release -p zesty-engine --example fuzz_filters -- --seconds 60`

use clap::Parser;
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};
use serde_json::json;
use std::time::{Duration, Instant};
use zesty_engine::Schema;
use zesty_engine::filter::Filter;
use zesty_engine::rows::{Change, Table, Writer};

#[derive(Parser)]
struct Args {
    #[arg(long, default_value_t = 60)]
    seconds: u64,
    #[arg(long, default_value_t = 1)]
    seed: u64,
}

const SEEDS: [&str; 14] = [
    "station = 'Gull Rock' AND year > 1910",
    "NOT (year BETWEEN 1900 AND 1929 OR depth <= -1.5e3)",
    "station IN ('Ness', 'O''Dell') OR keeper IS NOT NULL",
    "CASEI(ACCENTI(station)) LIKE CASEI('%ö_\\%%')",
    "(year + 1) * 2 div 3 % 4 ^ 2 <> depth / 0.5 - LENGTH(tags)",
    "A_CONTAINS(tags, ('fog','oil')) AND A_OVERLAPS(('fog'), tags) AND A_EQUALS(codes, (1,-2))",
    "T_DURING(logged, INTERVAL('1914-07-28', '..')) OR T_MEETS(INTERVAL(logged, at), INTERVAL('..', at))",
    "at >= TIMESTAMP('1931-10-04T18:30:00Z') AND logged = DATE('1931-10-04')",
    "sketch AND NOT sketch = FALSE",
    "\"year\" = 9223372036854775807 OR year < -9223372036854775808",
    "station = keeper AND logged < at AND sketch = sketch",
    "S_INTERSECTS(place, POINT(1 2)) OR BBOX(1,2,3,4)",
    "T_AFTER(at, DATE('0001-01-01')) OR T_EQUALS(logged, TIMESTAMP('9999-12-31T23:59:59.999999Z'))",
    "LENGTH(station) = 2 ^ 62 OR year % 0 = 1 OR year div -1 > 0",
];
const PIECES: [&str; 40] = [
    "(",
    ")",
    ",",
    "'",
    "\"",
    "AND ",
    " OR ",
    "NOT ",
    "=",
    "<>",
    "<=",
    "+",
    "-",
    "*",
    "/",
    "%",
    "^",
    " div ",
    "year",
    "station",
    "tags",
    "codes",
    "logged",
    "at",
    "CASEI(",
    "LENGTH(",
    "INTERVAL(",
    "DATE('1931-10-04')",
    "'..'",
    "T_STARTS(",
    "A_CONTAINEDBY(",
    " IN ",
    " LIKE ",
    " IS NULL",
    " BETWEEN ",
    "9223372036854775807",
    "1e308",
    "é\u{301}",
    "\u{0}",
    "TRUE",
];

fn table() -> (Schema, Table) {
    let schema = Schema::from_json(&json!({"properties": {
        "station": {"type": "string"}, "keeper": {"type": "string"}, "year": {"type": "integer"},
        "depth": {"type": "number"}, "sketch": {"type": "boolean"},
        "logged": {"type": "string", "format": "date"}, "at": {"type": "string", "format": "date-time"},
        "tags": {"type": "array", "items": {"type": "string"}},
        "codes": {"type": "array", "items": {"type": "integer"}}}}))
    .expect("a schema");
    let mut writer = Writer::new(schema.clone(), []);
    let record = |i: u64| {
        let body = json!({
            "station": (["Ness", "Gull Rock", "Öya", ""][i as usize % 4]), "keeper": "Ness",
            "year": ([0, i64::MAX, i64::MIN, 1931][i as usize / 2 % 4]), "depth": ([0.0, -0.0, 1e308, 2.5][i as usize % 4]),
            "sketch": i.is_multiple_of(2), "logged": "1931-10-04", "at": "1931-10-04T18:30:00Z",
            "tags": if i.is_multiple_of(3) { json!(null) } else { json!(["fog", "oil"]) }, "codes": [1, -2],
        });
        let body = if i.is_multiple_of(7) { json!({}) } else { body };
        Change {
            number: i,
            key: i.to_string(),
            revision: 1,
            body: body.as_object().cloned(),
            vectors: vec![],
        }
    };
    writer.apply(1, &(0..1100).map(record).collect::<Vec<_>>());
    (schema, writer.snapshot())
}

fn main() {
    let args = Args::parse();
    let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(args.seed);
    let (schema, table) = table();
    let end = Instant::now() + Duration::from_secs(args.seconds);
    let (mut tried, mut read, mut ran) = (0u64, 0u64, 0u64);
    let mut pool: Vec<String> = SEEDS.iter().map(|s| (*s).to_owned()).collect();
    while Instant::now() < end {
        let mut text = pool.choose(&mut rng).expect("seeds").clone();
        for _ in 0..rng.random_range(1..6) {
            let mut at = rng.random_range(0..=text.len());
            while !text.is_char_boundary(at) {
                at -= 1;
            }
            match rng.random_range(0..5) {
                0 => drop(text.pop()),
                1 => text.insert_str(at, PIECES.choose(&mut rng).expect("pieces")),
                2 => text.truncate(at),
                3 if at < text.len() => drop(text.remove(at)),
                _ => text.insert_str(at, &pool.choose(&mut rng).expect("seeds").clone()),
            }
        }
        let mut end = text.len().min(4_000);
        while !text.is_char_boundary(end) {
            end -= 1;
        }
        text.truncate(end);
        tried += 1;
        let filter = match Filter::from_text(&text) {
            Ok(filter) => filter,
            Err(e) => {
                assert!(
                    e.start <= e.end && e.end <= text.len() && text.is_char_boundary(e.start),
                    "{text:?}: {e:?}"
                );
                e.place(&text);
                continue;
            }
        };
        read += 1;
        // What was read can be written, and is read again as the same.
        let json = filter.to_json();
        assert_eq!(Filter::from_json(&json).expect("what was written").expr, filter.expr, "{text:?}");
        if !text.contains('\\') {
            let again = filter.to_text();
            assert_eq!(
                Filter::from_text(&again).map(|f| f.expr),
                Ok(filter.expr.clone()),
                "{text:?} as {again:?}"
            );
        }
        // And what is damaged in JSON is refused, not crashed into.
        let mut bytes = json.to_string().into_bytes();
        let at = rng.random_range(0..bytes.len());
        bytes[at] = *b"\"[]{}:,0a".choose(&mut rng).expect("bytes");
        if let Ok(json) = serde_json::from_slice(&bytes) {
            let _ = Filter::from_json(&json).and_then(|f| f.compile(&schema));
        }
        if let Ok(test) = filter.compile(&schema) {
            let rows = test.run(&table);
            assert!(rows.is_subset(&table.alive().to_set()), "{text:?}");
            ran += 1;
            if pool.len() < 4_000 {
                pool.push(text);
            }
        }
    }
    println!("{tried} filters tried, {read} were read, {ran} ran; no crash");
}
