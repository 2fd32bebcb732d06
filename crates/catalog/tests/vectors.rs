//! Vectors in the database, against a model.

use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use sea_orm::{ConnectionTrait, Database};
use serde_json::json;
use std::collections::BTreeMap;
use zesty_catalog::{
    Catalog, Collection, Conflicts, Guess, KeyAt, Made, NewCollection, NewVectorColumn, RecordBody,
    RecordWrite, Target, VectorWrite,
};

fn body(fields: serde_json::Value) -> RecordBody {
    fields.as_object().cloned().unwrap().into()
}

async fn collection(catalog: &Catalog, dimensions: &[u32]) -> (Collection, Target) {
    let columns = dimensions.iter().enumerate().map(|(i, d)| NewVectorColumn {
        name: format!("v{i}"),
        dimensions: *d,
        metric: "dot".into(),
        encoder: None,
        template: None,
    });
    let new = NewCollection {
        name: "logs".into(),
        description: String::new(),
        fields: json!({"type": "object", "properties": {}}),
        columns: columns.collect(),
    };
    let c = catalog.create_collection(new).await.unwrap();
    let columns = c.columns.iter().map(|c| c.id).collect();
    let target = Target { collection: c.about.id, shape: 0, columns };
    (c, target)
}

/// Vectors of records by key, as somebody reads them who knows nothing yet.
async fn stored(catalog: &Catalog, target: &Target) -> BTreeMap<String, Vec<Option<Vec<f32>>>> {
    let mut all = BTreeMap::new();
    let each = |changes: Vec<zesty_catalog::Change>| {
        let living = changes.into_iter().filter(|c| c.body.is_some());
        all.extend(living.map(|c| (c.key, c.vectors)));
    };
    catalog.follow(target, 0, each, |_| {}).await.unwrap();
    all
}

#[tokio::test]
async fn vectors_are_those_of_a_model_after_writes_deletions_and_backfills() {
    let catalog = Catalog::connect(&zesty_local::scratch::database()).await.unwrap();
    let dimensions = [3, 1];
    let (c, target) = collection(&catalog, &dimensions).await;
    let mut random = StdRng::seed_from_u64(5);
    let mut model: BTreeMap<String, Vec<Option<Vec<f32>>>> = BTreeMap::new();
    let mut numbers: BTreeMap<String, (u64, u64)> = BTreeMap::new();
    for round in 0..60 {
        let vector = |random: &mut StdRng, c: usize| -> Vec<f32> {
            (0..dimensions[c]).map(|_| random.random_range(-1.0..1.0)).collect()
        };
        // Whole blocks and parts of them, in any order.
        let mut keys: Vec<String> = (0..random.random_range(1..30usize))
            .map(|_| format!("k{}", random.random_range(0..50 + round)))
            .collect();
        keys.sort();
        keys.dedup();
        match random.random_range(0..4) {
            0 => {
                let gone: Vec<_> =
                    keys.iter().map(|key| KeyAt { key: key.clone(), expected: None }).collect();
                catalog.delete(&target, &gone, Conflicts::Refuse).await.unwrap();
                keys.iter().for_each(|key| drop(model.remove(key)));
            }
            1 => {
                let at = random.random_range(0..2);
                let known = keys.iter().filter_map(|key| {
                    let mine = model.get_mut(key)?;
                    let (number, revision) = numbers[key];
                    let vector = vector(&mut random, at);
                    mine[at] = Some(vector.clone());
                    Some(Made { number, revision, vector: Ok(vector) })
                });
                let made: Vec<Made> = known.collect();
                let filled = catalog.set_vectors(&target, target.columns[at], &made).await.unwrap();
                assert_eq!(filled.fill.vectors.len(), made.len());
            }
            _ => {
                let mut writes = Vec::new();
                for key in &keys {
                    let before = model.entry(key.clone()).or_insert_with(|| vec![None; 2]);
                    let mut change = |c: usize| match random.random_range(0..6) {
                        0 => {
                            before[c] = None;
                            VectorWrite::Clear
                        }
                        1 => VectorWrite::Keep,
                        _ => {
                            let vector = vector(&mut random, c);
                            before[c] = Some(vector.clone());
                            VectorWrite::Set(vector)
                        }
                    };
                    let vectors = vec![change(0), change(1)];
                    let body = body(json!({"round": round}));
                    let unencoded = Vec::new();
                    writes.push(RecordWrite { key: key.clone(), body, vectors, expected: None, unencoded });
                }
                // Most guesses are wrong.
                let guess = if random.random_bool(0.5) { Guess::AllNew } else { Guess::Any };
                let written =
                    catalog.write(&target, &writes, Conflicts::Refuse, None, guess, None).await.unwrap();
                for (key, number) in keys.iter().zip(&written.numbers) {
                    numbers.insert(key.clone(), (number.unwrap(), written.revision));
                }
                // What is there as it was given is left alone.
                let again: Vec<RecordWrite> = writes
                    .into_iter()
                    .map(|w| RecordWrite {
                        vectors: model[&w.key]
                            .iter()
                            .cloned()
                            .map(|v| v.map_or(VectorWrite::Clear, VectorWrite::Set))
                            .collect(),
                        ..w
                    })
                    .collect();
                let same =
                    catalog.write(&target, &again, Conflicts::Refuse, None, Guess::Any, None).await.unwrap();
                assert_eq!((same.n_unchanged, same.revision), (again.len(), written.revision));
            }
        }
        assert_eq!(stored(&catalog, &target).await, model, "round {round}");
        for (at, column) in target.columns.iter().enumerate() {
            let n = model.values().filter(|vectors| vectors[at].is_some()).count() as u64;
            let bytes = n * u64::from(dimensions[at]) * 4;
            assert_eq!(catalog.vector_bytes(*column).await.unwrap(), (n, bytes));
        }
    }
    // A clone has the same.
    let mut cloning = Some(0);
    let clone = catalog.begin_clone(&c, "clone", "node").await.unwrap();
    while let Some(at) = cloning {
        cloning = catalog.clone_step(&clone, at).await.unwrap();
        // One that is written meanwhile, and one that is deleted.
        let key = format!("k{}", at / 20);
        let vectors = vec![VectorWrite::Set(vec![at as f32; 3]), VectorWrite::Clear];
        let write = RecordWrite {
            key: key.clone(),
            body: body(json!({})),
            vectors,
            expected: None,
            unencoded: Vec::new(),
        };
        catalog.write(&target, &[write], Conflicts::Refuse, None, Guess::Any, None).await.unwrap();
        model.insert(key, vec![Some(vec![at as f32; 3]), None]);
        let gone = model.keys().next_back().unwrap().clone();
        model.remove(&gone);
        let gone = [KeyAt { key: gone, expected: None }];
        catalog.delete(&target, &gone, Conflicts::Refuse).await.unwrap();
    }
    let copy = catalog.finish_clone(clone, false).await.unwrap();
    let columns = copy.columns.iter().map(|c| c.id).collect();
    let copied = Target { collection: copy.about.id, shape: 0, columns };
    assert_eq!(stored(&catalog, &copied).await, model);
}

#[tokio::test]
async fn vectors_that_lay_in_rows_of_their_own_are_moved_into_blocks() {
    let url = zesty_local::scratch::database();
    let catalog = Catalog::connect(&url).await.unwrap();
    let (_, target) = collection(&catalog, &[2]).await;
    let writes: Vec<RecordWrite> = (0..21)
        .map(|i| RecordWrite {
            key: format!("k{i:02}"),
            body: body(json!({})),
            vectors: vec![VectorWrite::Clear],
            expected: None,
            unencoded: Vec::new(),
        })
        .collect();
    catalog.write(&target, &writes, Conflicts::Refuse, None, Guess::Any, None).await.unwrap();
    let mut model: BTreeMap<String, Vec<Option<Vec<f32>>>> =
        writes.iter().map(|w| (w.key.clone(), vec![None])).collect();

    // The tables as they were before.
    let db = Database::connect(url.as_str()).await.unwrap();
    for sql in [
        "DELETE FROM seaql_migrations WHERE version = 'm0013_vectors_in_blocks'",
        "DROP TABLE vector_blocks",
        "CREATE TABLE vectors (column_id BIGINT NOT NULL, number BIGINT NOT NULL, data MEDIUMBLOB NOT NULL, \
         PRIMARY KEY (column_id, number))",
    ] {
        db.execute_unprepared(sql).await.unwrap();
    }
    for i in (0..21).filter(|i| i % 5 != 3) {
        let vector = vec![i as f32, -0.0];
        let bytes: String = vector.iter().flat_map(|x| x.to_le_bytes()).map(|b| format!("{b:02x}")).collect();
        let sql = format!("INSERT INTO vectors VALUES ({}, {i}, x'{bytes}')", target.columns[0]);
        db.execute_unprepared(&sql).await.unwrap();
        model.insert(format!("k{i:02}"), vec![Some(vector)]);
    }
    let moved = Catalog::connect(&url).await.unwrap();
    assert_eq!(stored(&moved, &target).await, model);
    assert!(db.execute_unprepared("SELECT 1 FROM vectors").await.is_err(), "they lie there once");
}
