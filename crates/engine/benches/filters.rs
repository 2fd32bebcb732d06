//! What filters cost: reading and checking one, and running it over a million rows on one core.
//!
//! `cargo bench -p zesty-engine --bench filters`

use serde_json::json;
use std::hint::black_box;
use std::time::Instant;
use zesty_engine::filter::Filter;
use zesty_engine::rows::{Change, Writer};
use zesty_engine::{Schema, limit};

const ROWS: usize = 1_000_000;

fn main() {
    let schema = Schema::from_json(&json!({"properties": {
        "station": {"type": "string"}, "year": {"type": "integer"}, "severity": {"type": "integer"},
        "depth": {"type": "number"}, "logged": {"type": "string", "format": "date"},
        "tags": {"type": "array", "items": {"type": "string"}}, "note": {"type": "string"},
    }}))
    .expect("a schema");
    let mut writer = Writer::new(schema.clone(), []);
    let stations =
        ["Gull Rock", "Ness", "Hollow Cape", "Skerry", "Oar Point", "Long Reef", "Tern Isle", "Mull"];
    let tags = ["fog", "oil", "glass", "boat", "storm"];
    // Two hash bits of the row number stand for chance: the same table every time.
    let chance = |row: usize, salt: u64| (row as u64 ^ salt << 40).wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 33;
    for start in (0..ROWS).step_by(10_000) {
        let changes: Vec<Change> = (start..start + 10_000)
            .map(|row| {
                let year = 1880 + chance(row, 1) % 80;
                let body = json!({
                    "station": stations[chance(row, 2) as usize % 8],
                    "year": year,
                    "severity": if chance(row, 3).is_multiple_of(10) { json!(null) } else { json!(1 + chance(row, 3) % 5) },
                    "depth": chance(row, 4) as f64 / 1e6,
                    "logged": format!("{year}-{:02}-{:02}", 1 + chance(row, 5) % 12, 1 + chance(row, 6) % 28),
                    "tags": [tags[chance(row, 7) as usize % 5], tags[chance(row, 8) as usize % 5]],
                    "note": format!("note {}", chance(row, 9) % 1000),
                });
                let body = body.as_object().cloned();
                Change { number: row as u64, key: row.to_string(), revision: 1, body, vectors: vec![] }
            })
            .collect();
        writer.apply(1, &changes);
    }
    let table = writer.snapshot();
    let stream = limit::stream(&vec![1.0; 50_000_000], 1);
    println!("{ROWS} rows; one thread reads memory at {stream:.1} GB/s");
    for (i, field) in schema.fields.iter().enumerate() {
        println!("  {:9} {:6.2} bytes a row", field.name, table.column(i).n_bytes() as f64 / ROWS as f64);
    }
    println!("{:>10} {:>10} {:>9}  filter", "read, us", "run, ms", "rows");
    for text in [
        "year > 1910",
        "station = 'Gull Rock'",
        "station IN ('Gull Rock', 'Mull') AND year BETWEEN 1900 AND 1929 AND severity >= 4",
        "station <> 'Ness' AND logged >= DATE('1914-07-28') AND (severity >= 4 OR severity IS NULL)",
        "depth < 300.5 AND NOT year = 1931 AND station LIKE '%e%'",
        "CASEI(note) LIKE 'note 99%' AND year < 1890",
        "A_CONTAINS(tags, ('fog', 'oil')) AND year < 1890",
        "T_DURING(logged, INTERVAL('1914-07-28', '1918-11-11'))",
        "year - 1880 > severity * 10",
        "LENGTH(note) = 8",
    ] {
        let best = |times: usize, mut f: Box<dyn FnMut() + '_>| {
            let each = (0..times).map(|_| {
                let start = Instant::now();
                f();
                start.elapsed().as_secs_f64()
            });
            each.fold(f64::INFINITY, f64::min)
        };
        let read = || Filter::from_text(black_box(text)).and_then(|f| f.compile(&schema)).expect("a filter");
        let test = read();
        let read_us = best(200, Box::new(|| drop(black_box(read())))) * 1e6;
        let run_ms = best(9, Box::new(|| drop(black_box(test.run(&table))))) * 1e3;
        println!("{read_us:10.2} {run_ms:10.3} {:9}  {text}", test.run(&table).count_ones(..));
    }
}
