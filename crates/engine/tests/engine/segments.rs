//! Segments: whatever is written, edited, saved, merged and opened again, the table is what a plain map is.

use proptest::prelude::*;
use serde_json::{Map, Value, json};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::fs;
use std::path::PathBuf;
use std::sync::Arc;
use zesty_engine::filter::Filter;
use zesty_engine::index::{Description, FileError, Index, Progress, Settings};
use zesty_engine::rows::segments::SegmentFolder;
use zesty_engine::rows::{Change, LastBlock, NewColumn, VectorChange, Writer};
use zesty_engine::search::{Attached, Request, run, source_of};
use zesty_engine::until::Until;
use zesty_engine::{Metric, Schema, Table};

const D: usize = 5;

fn schema() -> Schema {
    Schema::from_json(&json!({"properties": {
        "year": {"type": "integer"}, "kind": {"type": "string"}, "tags": {"type": "array", "items": {"type": "string"}},
        "sizes": {"type": "array", "items": {"type": "integer"}}, "wind": {"type": "number"},
        "calm": {"type": "boolean"}, "day": {"type": "string", "format": "date"},
        "note": {"type": "string", "storedOnly": true}}}))
    .unwrap()
}

fn columns() -> Vec<NewColumn> {
    let column = |id, name: &str, metric| NewColumn { id, name: name.into(), metric, dimensions: D };
    vec![column(7, "a", Metric::Cosine), column(9, "b", Metric::Dot)]
}

/// Some are of numbers that differ so much that a unit vector loses the small ones.
fn vector(seed: u64) -> Vec<f32> {
    let mut vector: Vec<f32> = (0..D as u64).map(|i| ((seed * 131 + i * 29) % 97) as f32 - 40.25).collect();
    if seed.is_multiple_of(6) {
        (vector[1], vector[2]) = (vector[1] * 1e-20, vector[2] * 1e-38);
    }
    vector
}

fn body(seed: u64) -> Map<String, Value> {
    let mut body = json!({"year": 1900 + seed % 60, "kind": format!("kind {}", seed % 7), "wind": seed as f64 / 3.0,
        "tags": (0..seed % 4).map(|t| format!("t{t}")).collect::<Vec<_>>(), "sizes": [seed as i64, -3],
        "calm": seed.is_multiple_of(2), "day": format!("19{:02}-03-{:02}", seed % 90 + 10, seed % 27 + 1),
        "note": format!("long {seed}"), "unlisted": {"deep": [seed]}});
    if seed.is_multiple_of(5) {
        let body = body.as_object_mut().unwrap();
        ["year", "kind", "tags"].iter().for_each(|name| drop(body.remove(*name)));
    }
    body.as_object().unwrap().clone()
}

#[derive(Clone, Debug, PartialEq)]
struct Record {
    number: u64,
    revision: u64,
    body: Map<String, Value>,
    vectors: [Option<Vec<f32>>; 2],
}

/// A writer beside a plain map that is changed in the same way.
struct Beside {
    writer: Writer,
    folder: SegmentFolder,
    model: BTreeMap<String, Record>,
    numbers: BTreeMap<String, u64>,
    revision: u64,
    saved: u64,
    attached: Option<Attached>,
}

impl Beside {
    fn new(path: PathBuf) -> Beside {
        Beside {
            writer: Writer::empty(schema(), &columns()),
            folder: SegmentFolder::new(path, "the test's"),
            model: BTreeMap::new(),
            numbers: BTreeMap::new(),
            revision: 0,
            saved: 0,
            attached: None,
        }
    }

    fn number(&mut self, key: &str) -> u64 {
        let next = self.numbers.len() as u64;
        *self.numbers.entry(key.to_owned()).or_insert(next)
    }

    fn write(&mut self, key: &str, body: Map<String, Value>, vectors: [VectorChange; 2]) {
        self.revision += 1;
        let number = self.number(key);
        let before = self.model.get(key).map(|r| r.vectors.clone()).unwrap_or_default();
        let vectors_now = [0, 1].map(|c| match &vectors[c] {
            VectorChange::Set(v) => Some(v.clone()),
            VectorChange::Clear => None,
            VectorChange::Keep => before[c].clone(),
        });
        let record = Record { number, revision: self.revision, body: body.clone(), vectors: vectors_now };
        self.model.insert(key.to_owned(), record);
        let change = Change {
            number,
            key: key.to_owned(),
            revision: self.revision,
            body: Some(body),
            vectors: vectors.into(),
        };
        self.writer.apply(self.revision, &[change]);
    }

    fn delete(&mut self, key: &str) {
        if self.model.remove(key).is_some() {
            self.revision += 1;
            let (number, revision) = (self.number(key), self.revision);
            let change = Change { number, key: key.to_owned(), revision, body: None, vectors: vec![] };
            self.writer.apply(revision, &[change]);
        }
    }

    /// Gives a record a vector without touching it otherwise.
    fn fill(&mut self, key: &str, column: usize, seed: u64) {
        let Some(record) = self.model.get_mut(key) else { return };
        self.revision += 1;
        record.vectors[column] = Some(vector(seed));
        let row = self.writer.snapshot().row(key).unwrap();
        self.writer.set_vectors(self.revision, column, [(row, &vector(seed)[..])]);
    }

    fn save(&mut self) {
        let saving = self.writer.begin_save();
        let segment = self.folder.save(&saving).unwrap();
        self.writer.saved(&saving, segment).unwrap();
        self.saved = self.revision;
    }

    fn merge(&mut self, limit: usize) -> bool {
        let Some(merging) = self.writer.begin_merge(limit, self.saved) else { return false };
        let segment = self.folder.merge(&merging).unwrap();
        let moved = self.writer.merged(&merging, segment).unwrap();
        if let (Some(moved), Some(attached)) = (moved, &self.attached) {
            self.attached = Some(attached.moved(&self.writer.snapshot(), 1, &moved));
        }
        true
    }

    /// Starts from the segments, then takes up what was written after them, as from a database.
    fn open_again(&mut self) {
        let opened = self.folder.open(schema(), &columns()).unwrap();
        self.writer = opened.unwrap_or_else(|| Writer::empty(schema(), &columns()));
        let after = self.writer.revision();
        let missed = self.model.iter().filter(|(_, r)| r.revision > after).map(|(key, r)| Change {
            number: r.number,
            key: key.clone(),
            revision: r.revision,
            body: Some(r.body.clone()),
            vectors: r.vectors.clone().map(Into::into).to_vec(),
        });
        let dead = self.numbers.iter().filter(|(key, _)| !self.model.contains_key(*key));
        let dead = dead.map(|(key, number)| Change {
            number: *number,
            key: key.clone(),
            revision: self.revision,
            body: None,
            vectors: vec![],
        });
        let changes: Vec<Change> = missed.chain(dead).collect();
        self.writer.apply(self.revision, &changes);
        for column in [0, 1] {
            // Each time anew: a record that is given another vector gets another row.
            let table = self.writer.snapshot();
            let all =
                self.model.iter().filter_map(|(k, r)| Some((table.row(k)?, r.vectors[column].as_deref()?)));
            self.writer.set_vectors(self.revision, column, all.collect::<Vec<_>>());
        }
        if let Some(attached) = self.attached.take() {
            self.attached = Attached::new(attached.index, &self.writer.snapshot(), 1).ok();
        }
    }

    fn check(&self) {
        let table = self.writer.snapshot();
        assert_eq!(table.n_records(), self.model.len());
        assert_eq!(table.alive().ones().count(), self.model.len());
        let mut last = LastBlock::default();
        for (key, record) in &self.model {
            let row = table.row(key).unwrap_or_else(|| panic!("{key} is not there"));
            let has = |c: usize| table.vectors()[c].given(row).map(Cow::into_owned);
            let found = Record {
                number: table.number(row),
                revision: table.row_revision(row),
                body: table.body(row, &mut last).unwrap(),
                vectors: [has(0), has(1)],
            };
            assert_eq!((&found, table.key(row)), (record, key.as_str()));
            if let Some(given) = &record.vectors[0] {
                assert_eq!(table.vectors()[0].vectors.row(row), Metric::Cosine.prepare(given, D).unwrap());
            }
        }
        assert!(self.numbers.keys().all(|k| self.model.contains_key(k) || table.row(k).is_none()));
        self.check_filters(&table);
        self.check_search(&table);
    }

    fn check_filters(&self, table: &Table) {
        type Holds = fn(&Map<String, Value>) -> bool;
        let filters: [(&str, Holds); 6] = [
            ("year > 1930", |b| b.get("year").is_some_and(|y| y.as_i64().unwrap() > 1930)),
            ("kind = 'kind 3'", |b| b.get("kind").is_some_and(|k| k == "kind 3")),
            ("kind IS NULL", |b| !b.contains_key("kind")),
            ("calm = TRUE AND wind > 5.5", |b| b["calm"] == true && b["wind"].as_f64().unwrap() > 5.5),
            ("A_CONTAINS(tags, ('t1'))", |b| b.get("tags").is_some_and(|t| t.as_array().unwrap().len() > 1)),
            ("note IS NOT NULL", |_| true),
        ];
        for (filter, holds) in filters {
            let test = Filter::from_text(filter).unwrap().compile(table.schema()).unwrap();
            let mut allowed = test.run(table);
            table.alive().keep_in(&mut allowed);
            let mut found: Vec<&str> = allowed.ones().map(|r| table.key(r as u32)).collect();
            found.sort_unstable();
            let expected: Vec<&str> =
                self.model.iter().filter(|(_, r)| holds(&r.body)).map(|(k, _)| k.as_str()).collect();
            assert_eq!(found, expected, "{filter}");
        }
    }

    /// The index finds what a scan of the map finds: small scans of codes are exact here.
    fn check_search(&self, table: &Table) {
        let query = vector(77);
        let index = self.attached.as_ref().map(|a| (a, Settings::default()));
        assert!(index.is_none_or(|(a, _)| a.fits(table)));
        let request = Request {
            column: 1,
            query: &query,
            k: 5,
            filter: None,
            excluded: &[],
            index,
            only: None,
            until: Until::NONE,
        };
        let found = run(table, request);
        let mut expected: Vec<f32> = self
            .model
            .values()
            .filter_map(|r| r.vectors[1].as_ref())
            .map(|v| -v.iter().zip(&query).map(|(a, b)| a * b).sum::<f32>())
            .collect();
        expected.sort_by(f32::total_cmp);
        expected.truncate(5);
        let ranks: Vec<f32> = found.nearest.iter().map(|n| n.rank).collect();
        assert_eq!(ranks.len(), expected.len());
        assert!(ranks.iter().zip(&expected).all(|(a, b)| (a - b).abs() <= 1e-3 * b.abs().max(1.0)));
    }

    fn build(&mut self) {
        let description = Description {
            recipe: String::new(),
            metric: Metric::Dot,
            dimensions: D,
            revision: self.revision,
            seed: 1,
            owner: "test".into(),
            rows_at_build: 0,
        };
        let table = self.writer.snapshot();
        let source = source_of(&table, 1, description);
        if !source.numbers.is_empty() {
            let index = Index::build(source, "scan".parse().unwrap(), 1, &Progress::default()).unwrap();
            self.attached = Some(Attached::new(Arc::new(index), &table, 1).unwrap());
        }
    }
}

#[derive(Clone, Debug)]
enum Step {
    Write(u64, u64),
    Edit(u64, u64),
    Delete(u64),
    Fill(u64, usize, u64),
    Many(u64, u64),
    Save,
    Merge,
    Open,
    Build,
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        4 => (0u64..60, any::<u16>()).prop_map(|(k, s)| Step::Write(k, s.into())),
        4 => (0u64..60, any::<u16>()).prop_map(|(k, s)| Step::Edit(k, s.into())),
        2 => (0u64..60).prop_map(Step::Delete),
        2 => (0u64..60, 0usize..2, any::<u16>()).prop_map(|(k, c, s)| Step::Fill(k, c, s.into())),
        1 => (0u64..40, any::<u16>()).prop_map(|(k, s)| Step::Many(k, s.into())),
        3 => Just(Step::Save),
        2 => Just(Step::Merge),
        1 => Just(Step::Open),
        1 => Just(Step::Build),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 96, max_shrink_iters: 400, ..ProptestConfig::default() })]
    #[test]
    fn a_table_is_what_was_written_through_saves_merges_and_starts(steps in prop::collection::vec(step(), 1..60)) {
        let folder = tempfile::tempdir().unwrap();
        let mut beside = Beside::new(folder.path().join("segments"));
        for step in steps {
            let key = |k: u64| format!("key {k}");
            let set = |s: u64| VectorChange::Set(vector(s));
            match step {
                Step::Write(k, s) => {
                    let second = if s % 3 == 0 { VectorChange::Clear } else { set(s + 1) };
                    beside.write(&key(k), body(s), [set(s), second]);
                }
                Step::Edit(k, s) => beside.write(&key(k), body(s), [VectorChange::Keep, VectorChange::Keep]),
                Step::Delete(k) => beside.delete(&key(k)),
                Step::Fill(k, c, s) => beside.fill(&key(k), c, s),
                Step::Many(k, s) => (k..k + 30).for_each(|k| {
                    beside.write(&key(k), body(s + k), [set(s + k), set(s + k + 9)]);
                }),
                Step::Save => beside.save(),
                Step::Merge => drop(beside.merge(1 << 20)),
                Step::Open => beside.open_again(),
                Step::Build => beside.build(),
            }
            beside.check();
        }
        beside.open_again();
        beside.check();
    }
}

fn filled(path: PathBuf, n: u64) -> Beside {
    let mut beside = Beside::new(path);
    for i in 0..n {
        beside.write(
            &format!("key {i}"),
            body(i),
            [VectorChange::Set(vector(i)), VectorChange::Set(vector(i + 1))],
        );
    }
    beside.save();
    beside
}

#[test]
fn an_edit_of_a_field_leaves_the_row_its_vector_and_the_index() {
    let folder = tempfile::tempdir().unwrap();
    let mut beside = filled(folder.path().into(), 500);
    beside.build();
    let rows = beside.writer.snapshot().len();
    for i in 0..500 {
        beside.write(
            &format!("key {i}"),
            body(i + 7),
            [VectorChange::Keep, VectorChange::Set(vector(i + 1))],
        );
    }
    let table = beside.writer.snapshot();
    assert_eq!(table.len(), rows);
    let attached = beside.attached.as_ref().unwrap();
    assert_eq!((attached.n_dead(&table), attached.uncovered(&table, 1).count_ones(..)), (0, 0));
    beside.check();
    beside.save();
    beside.open_again();
    let table = beside.writer.snapshot();
    let attached = beside.attached.as_ref().unwrap();
    assert_eq!(
        (table.len(), attached.n_dead(&table), attached.uncovered(&table, 1).count_ones(..)),
        (rows, 0, 0)
    );
}

#[test]
fn replaced_rows_are_given_back_and_old_snapshots_stay() {
    let folder = tempfile::tempdir().unwrap();
    let mut beside = filled(folder.path().into(), 2000);
    let (first, then) = (beside.writer.snapshot(), beside.model.clone());
    let bytes = |folder: &std::path::Path| -> u64 {
        fs::read_dir(folder).unwrap().map(|e| e.unwrap().metadata().unwrap().len()).sum()
    };
    let fresh = (bytes(folder.path()), first.n_bytes() + first.n_bytes_mapped());
    for round in 1..10 {
        for i in (0..2000).filter(|i| i % 2 == round % 2) {
            let s = i + 31 * round;
            let vectors = [VectorChange::Set(vector(s)), VectorChange::Set(vector(s + 1))];
            beside.write(&format!("key {i}"), body(s), vectors);
        }
        beside.save();
        while beside.merge(1 << 20) {}
        beside.check();
        let now = beside.writer.snapshot();
        let held = now.n_bytes() + now.n_bytes_mapped();
        assert!(
            bytes(folder.path()) < fresh.0 * 8 / 5,
            "round {round}: {} of {}",
            bytes(folder.path()),
            fresh.0
        );
        assert!(held < fresh.1 * 8 / 5, "round {round}: {held} of {}", fresh.1);
    }
    let mut last = LastBlock::default();
    for (key, record) in &then {
        let row = first.row(key).unwrap();
        assert_eq!(&first.body(row, &mut last).unwrap(), &record.body);
        assert_eq!(first.vectors()[1].given(row).as_deref(), record.vectors[1].as_deref());
    }
}

#[test]
fn damaged_lost_and_foreign_segments_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let beside = filled(folder.path().into(), 300);
    let open = |owner: &str| SegmentFolder::new(folder.path(), owner).open(schema(), &columns());
    assert!(open("the test's").unwrap().is_some());
    assert!(matches!(open("another's"), Err(FileError::Damaged(why)) if why.contains("another's")));
    let path = beside.writer.snapshot().segments().next().unwrap().path().to_owned();
    let whole = fs::read(&path).unwrap();
    // Anything that opens is caught when it is verified, or was padding.
    for at in (0..whole.len()).step_by(97) {
        let mut bytes = whole.clone();
        bytes[at] ^= 16;
        fs::write(&path, &bytes).unwrap();
        if let Ok(Some(writer)) = open("the test's") {
            let table = writer.snapshot();
            let bad = table.segments().any(|s| s.verify().is_err());
            assert!(bad, "a flip at {at} of {} goes unseen", whole.len());
        }
    }
    for length in [0, 7, 100, whole.len() / 2, whole.len() - 1] {
        fs::write(&path, &whole[..length]).unwrap();
        assert!(open("the test's").is_err(), "cut to {length}");
    }
    fs::remove_file(&path).unwrap();
    assert!(open("the test's").is_err());
    fs::write(&path, &whole).unwrap();
    let list = folder.path().join("segments.json");
    let text = fs::read_to_string(&list).unwrap();
    fs::write(&list, text.replacen("revision", "revisiom", 1)).unwrap();
    assert!(open("the test's").is_err());
    fs::remove_file(&list).unwrap();
    assert!(open("the test's").unwrap().is_none());
}

#[test]
fn what_could_not_be_saved_is_saved_later() {
    let folder = tempfile::tempdir().unwrap();
    let mut beside = filled(folder.path().join("s"), 50);
    beside.write("key 3", body(99), [VectorChange::Keep, VectorChange::Keep]);
    beside.delete("key 4");
    beside.write("key 5", body(98), [VectorChange::Set(vector(98)), VectorChange::Clear]);
    let saving = beside.writer.begin_save();
    // The folder cannot be written to: a file lies in its place.
    let nowhere = folder.path().join("file");
    fs::write(&nowhere, b"x").unwrap();
    assert!(SegmentFolder::new(&nowhere, "the test's").save(&saving).is_err());
    beside.write("key 6", body(97), [VectorChange::Keep, VectorChange::Keep]);
    beside.writer.not_saved(saving);
    beside.check();
    beside.save();
    beside.check();
    let opened = beside.folder.open(schema(), &columns()).unwrap().unwrap();
    beside.writer = opened;
    beside.attached = None;
    beside.check();
}

#[test]
fn fields_that_have_changed_since_are_read_from_bodies() {
    let folder = tempfile::tempdir().unwrap();
    let beside = filled(folder.path().into(), 40);
    let next = Schema::from_json(&json!({"properties": {
        "year": {"type": "number"}, "note": {"type": "string"}, "new": {"type": "integer"}}}))
    .unwrap();
    let table = beside.folder.open(next, &columns()[1..]).unwrap().unwrap().snapshot();
    let n = |filter: &str| {
        let test = Filter::from_text(filter).unwrap().compile(table.schema()).unwrap();
        test.run(&table).count_ones(..)
    };
    assert_eq!((n("note = 'long 7'"), n("year > 1935.5"), n("new IS NULL")), (1, 4, 40));
    assert_eq!(table.vectors()[0].given(3).as_deref(), Some(&vector(4)[..]));
}
