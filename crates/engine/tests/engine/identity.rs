//! Which record a row is, in every snapshot; and which records an index was made of.

use serde_json::{Map, json};
use std::sync::Arc;
use zesty_engine::index::{Description, Index, Progress, Settings, Source};
use zesty_engine::lines::Aligned;
use zesty_engine::rows::{Change, VectorChange, Writer};
use zesty_engine::search::{Attached, Foreign, Request, Strategy, run};
use zesty_engine::until::Until;
use zesty_engine::{Metric, Schema, Table};

const D: usize = 8;

fn schema() -> Schema {
    Schema::from_json(&json!({"properties": {"n": {"type": "integer"}}})).unwrap()
}

fn new_writer() -> Writer {
    Writer::new(schema(), [("v".to_owned(), Metric::Euclidean, D)])
}

/// A vector that no other number has.
fn vector(n: u64) -> Vec<f32> {
    (0..D as u64).map(|i| ((n * 37 + i * 11) % 101) as f32 + n as f32 / 1e3).collect()
}

fn change(number: u64, revision: u64, vector: VectorChange) -> Change {
    let body = Map::from_iter([("n".to_owned(), json!(number))]);
    Change { number, key: format!("k{number}"), revision, body: Some(body), vectors: vec![vector] }
}

fn deleted(number: u64, revision: u64) -> Change {
    Change { body: None, vectors: Vec::new(), ..change(number, revision, VectorChange::Clear) }
}

fn filled(n: u64) -> Writer {
    let mut writer = new_writer();
    let all: Vec<Change> = (0..n).map(|i| change(i, 1, VectorChange::Set(vector(i)))).collect();
    writer.apply(1, &all);
    writer
}

fn index_of(table: &Table, revision: u64) -> Arc<Index> {
    let vectors = &table.vectors()[0].vectors;
    let description = Description {
        recipe: String::new(),
        metric: Metric::Euclidean,
        dimensions: D,
        revision,
        seed: 1,
        owner: "test".into(),
        rows_at_build: 0,
    };
    let mut source = Source { description, vectors: Aligned::with_capacity(0), numbers: Vec::new() };
    for row in table.alive().and(vectors.present()).ones() {
        source.vectors.extend(vectors.row(row as u32));
        source.numbers.push(table.number(row as u32));
    }
    let recipe = "graph(links=8, build=40) | int8".parse().unwrap();
    Arc::new(Index::build(source, recipe, 1, &Progress::default()).unwrap())
}

#[test]
fn a_key_finds_its_row_in_each_snapshot_whatever_was_written_later() {
    let mut writer = filled(3);
    let first = writer.snapshot();
    writer.apply(2, &[change(1, 2, VectorChange::Set(vector(50)))]);
    let second = writer.snapshot();
    writer.apply(3, &[deleted(1, 3)]);
    let third = writer.snapshot();
    writer.apply(4, &[change(1, 4, VectorChange::Clear)]);
    writer.apply(5, &[change(1, 5, VectorChange::Set(vector(60)))]);
    let last = writer.snapshot();
    assert_eq!(first.row("k1"), Some(1));
    assert_eq!(second.row("k1"), Some(3));
    assert_eq!(third.row("k1"), None, "it is deleted there");
    assert_eq!(last.row("k1"), Some(5));
    for table in [&first, &second, &third, &last] {
        assert_eq!((table.row("k0"), table.row("k2"), table.row("k9")), (Some(0), Some(2), None));
    }
}

#[test]
fn a_kept_vector_goes_with_its_record_and_a_deleted_one_leaves_none() {
    let mut writer = filled(2);
    writer.apply(2, &[change(0, 2, VectorChange::Keep)]);
    let table = writer.snapshot();
    let row = table.row("k0").unwrap();
    assert_eq!(table.vectors()[0].vectors.row(row), vector(0));
    writer.apply(3, &[deleted(0, 3)]);
    writer.apply(4, &[change(0, 4, VectorChange::Keep)]);
    let table = writer.snapshot();
    let row = table.row("k0").unwrap() as usize;
    assert!(!table.vectors()[0].vectors.present().contains(row), "a vector must not come back from the dead");
}

#[test]
fn an_index_of_other_vectors_or_of_a_later_history_is_refused() {
    let mut writer = filled(300);
    let table = writer.snapshot();
    assert!(Attached::new(index_of(&table, 1), &table, 0).is_ok());
    let later = Attached::new(index_of(&table, 2), &table, 0).err().unwrap();
    assert_eq!(later, Foreign::Later { index: 2, table: 1 });

    // The same numbers, other records: what is left over when a database was restored and written to again.
    let mut other = new_writer();
    let all: Vec<Change> = (0..300).map(|i| change(i, 1, VectorChange::Set(vector(i + 1000)))).collect();
    other.apply(1, &all);
    let foreign = Attached::new(index_of(&other.snapshot(), 1), &table, 0).err().unwrap();
    assert!(matches!(foreign, Foreign::OtherVectors { n: 300, .. }), "{foreign}");

    // Records that changed since are no reason: they are told by their revision.
    writer.apply(2, &[change(7, 2, VectorChange::Set(vector(5000))), deleted(8, 2)]);
    let now = writer.snapshot();
    let attached = Attached::new(index_of(&table, 1), &now, 0).unwrap();
    assert_eq!((attached.n_dead(&now), attached.uncovered(&now, 0).count_ones(..)), (2, 1));
}

#[test]
fn an_index_finds_the_records_that_are_left_however_few_of_how_many() {
    for left in [0, 1, 3, 500, 1999] {
        let mut writer = filled(2000);
        let table = writer.snapshot();
        let index = index_of(&table, 1);
        // Every so many records stay, the first and the last not among them.
        let stays = |i: u64| left > 0 && i > 0 && i < 1999 && (i * left) / 2000 != ((i - 1) * left) / 2000;
        let gone: Vec<Change> = (0..2000).filter(|i| !stays(*i)).map(|i| deleted(i, 2)).collect();
        writer.apply(2, &gone);
        let now = writer.snapshot();
        let attached = Attached::new(index, &now, 0).unwrap();
        let of_rows: Vec<u64> =
            attached.living(&now, 0).ones().map(|node| attached.index.numbers()[node]).collect();
        let expected: Vec<u64> = now.alive().ones().map(|row| now.number(row as u32)).collect();
        assert_eq!(of_rows, expected, "{left} left");
        assert_eq!(attached.n_dead(&now), gone.len());
    }
}

#[test]
fn a_table_that_numbers_its_rows_otherwise_is_not_searched_with_an_index_until_it_is_attached_again() {
    let mut writer = filled(4000);
    let table = writer.snapshot();
    let attached = Attached::new(index_of(&table, 1), &table, 0).unwrap();
    // Gaps, and then the same records read again: every later record has another row.
    let gone: Vec<Change> = (0..60).map(|i| deleted(i * 3, 2)).collect();
    writer.apply(2, &gone);
    let mut again = new_writer();
    let kept: Vec<Change> = (0..4000)
        .filter(|i| *i >= 180 || i % 3 != 0)
        .map(|i| change(i, 1, VectorChange::Set(vector(i))))
        .collect();
    again.apply(2, &kept);
    let (old, new) = (writer.snapshot(), again.snapshot());
    let nearest = |table: &Table, attached: Option<&Attached>, n: u64| {
        let query = vector(n);
        let answer = run(
            table,
            Request {
                column: 0,
                query: &query,
                k: 10,
                filter: None,
                excluded: &[],
                index: attached.map(|a| (a, Settings::beam(400))),
                only: None,
                until: Until::NONE,
            },
        );
        let keys: Vec<String> = answer.nearest.iter().map(|n| table.key(n.row).to_owned()).collect();
        (keys, answer.plan.strategy)
    };
    assert!(attached.fits(&old) && !attached.fits(&new));
    let moved = Attached::new(attached.index.clone(), &new, 0).unwrap();
    assert!(moved.fits(&new));
    for n in (200..4000).step_by(97) {
        let (truth, _) = nearest(&new, None, n);
        let (keys, strategy) = nearest(&new, Some(&attached), n);
        assert_eq!(
            (keys, strategy),
            (truth.clone(), Strategy::ScanAll),
            "an index of other rows is left alone"
        );
        assert_eq!(nearest(&new, Some(&moved), n).0[0], truth[0]);
        assert_eq!(nearest(&old, Some(&attached), n).0[0], truth[0]);
    }
}
