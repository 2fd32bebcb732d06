//! Records that are inserted before it is their turn.

use super::*;
use std::ops::Range;
use zesty_catalog::{Ahead, Claimed};

fn some(prefix: &str, n: usize) -> Vec<RecordWrite> {
    let vector = |i: usize| (i != 1).then(|| vec![i as f32, 0.5]);
    (0..n).map(|i| write(&format!("{prefix}{i}"), i as i64, vec![vector(i)])).collect()
}

fn numbers_of(written: &Written) -> Vec<u64> {
    written.numbers.iter().map(|n| n.unwrap()).collect()
}

struct Batches {
    catalog: Catalog,
    target: Target,
    claimed: Claimed,
}

impl Batches {
    async fn new(c: &Collection, catalog: &Catalog, n: usize) -> Batches {
        let target = target(c.about.id, &ids(c));
        let claimed = catalog.claim(&target, n).await.unwrap();
        Batches { catalog: catalog.clone(), target, claimed }
    }

    fn take(&mut self, n: usize) -> Range<i64> {
        self.claimed.take(n).unwrap()
    }

    async fn insert(&mut self, writes: &[RecordWrite], revision: u64) -> Option<Ahead> {
        let numbers = self.take(writes.len());
        self.catalog.insert_ahead(&self.target, writes, numbers, revision, None).await.unwrap()
    }
}

#[tokio::test]
async fn they_are_seen_in_their_turn_at_the_revision_of_then_and_nobody_else_has_their_numbers() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a"])).await.unwrap();
    let (id, columns) = (c.about.id, ids(&c));
    put(&catalog, id, &columns, &some("old", 3)).await.unwrap();
    let mut batches = Batches::new(&c, &catalog, 32).await;
    let (first, second) = (some("first", 10), some("second", 9));
    let ahead = batches.insert(&first, 2).await.unwrap();
    let behind = batches.insert(&second, 3).await.unwrap();
    assert!(batches.claimed.take(1).is_none(), "none are left of whole blocks");
    // Others write meanwhile, to the block that nobody has claimed.
    let other = put(&catalog, id, &columns, &some("other", 12)).await.unwrap();
    assert_eq!(followed(&catalog, &c, 0).await.1.len(), 15);
    let commit = async |ahead, writes: &[RecordWrite]| catalog.commit_ahead(ahead, writes, None).await;
    let one = commit(ahead, &first).await.unwrap();
    let two = commit(behind, &second).await.unwrap();
    assert_eq!((one.before, one.revision, one.n_new), (2, 3, 10));
    assert_eq!((two.before, two.revision, two.n_new), (3, 4, 9));
    let mut numbers: Vec<u64> = [&other, &one, &two].into_iter().flat_map(numbers_of).collect();
    numbers.sort_unstable();
    numbers.dedup();
    assert_eq!(numbers.len(), 12 + 10 + 9);
    // Whoever follows from where it was reads them as they are, and no others.
    let (revision, changes) = followed(&catalog, &c, 2).await;
    assert_eq!((revision, changes.len()), (4, 19));
    for (batch, writes, revision) in [(&one, &first, 3), (&two, &second, 4)] {
        for (write, number) in writes.iter().zip(numbers_of(batch)) {
            let change = &changes[&write.key];
            assert_eq!((change.number, change.revision), (number, revision));
            let vector = match &write.vectors[0] {
                VectorWrite::Set(vector) => Some(vector.clone()),
                _ => None,
            };
            assert_eq!(change.vectors, [vector]);
        }
    }
    let (_, all) = followed(&catalog, &c, 0).await;
    let vector = |key: &str| all[key].vectors[0].clone();
    assert_eq!((vector("old2"), vector("other11")), (Some(vec![2.0, 0.5]), Some(vec![11.0, 0.5])));
}

#[tokio::test]
async fn a_key_that_is_there_or_a_shape_that_is_gone_leaves_nothing_of_them() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a"])).await.unwrap();
    let (id, columns) = (c.about.id, ids(&c));
    put(&catalog, id, &columns, &some("a", 3)).await.unwrap();
    let mut batches = Batches::new(&c, &catalog, 64).await;
    let mixed = [some("b", 2), some("a", 1)].concat();
    assert!(batches.insert(&mixed, 2).await.is_none());
    let at_revision = [RecordWrite { expected: Some(1), ..write("c", 1, vec![None]) }];
    assert!(batches.insert(&at_revision, 2).await.is_none());
    // Taken back, its keys are free at once.
    let ahead = batches.insert(&some("b", 2), 2).await.unwrap();
    ahead.undo().await.unwrap();
    put(&catalog, id, &columns, &some("b", 2)).await.unwrap();
    // As is one that nobody takes back.
    drop(batches.insert(&some("c", 2), 3).await.unwrap());
    put(&catalog, id, &columns, &some("c", 2)).await.unwrap();
    let late = some("d", 2);
    let ahead = batches.insert(&late, 4).await.unwrap();
    let about = ShapeChange::About { description: Some("new".into()), fields: None, default_column: None };
    catalog.change_shape(id, 0, about).await.unwrap();
    let refused = catalog.commit_ahead(ahead, &late, None).await;
    assert!(matches!(refused, Err(CatalogError::Reshaped { now: 1 })), "{refused:?}");
    assert!(catalog.record(id, "d0").await.unwrap().is_none());
}

#[tokio::test]
async fn the_step_of_a_load_is_noted_with_them() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a"])).await.unwrap();
    let load = catalog.add_load(c.about.id, "logs", "node", json!({}), 0).await.unwrap();
    let mut batches = Batches::new(&c, &catalog, 16).await;
    let writes = some("a", 5);
    let step = LoadStep { load: load.id, position: 7, n_rejected: 2, ..LoadStep::default() };
    let ahead = batches.insert(&writes, 1).await.unwrap();
    catalog.commit_ahead(ahead, &writes, Some(&step)).await.unwrap();
    let noted = catalog.load(load.id).await.unwrap().unwrap();
    assert_eq!((noted.position, noted.n_new, noted.n_rejected), (7, 5, 2));
    // A load that is gone keeps nothing.
    let more = some("b", 5);
    let ahead = batches.insert(&more, 2).await.unwrap();
    let gone = LoadStep { load: load.id + 1, ..step };
    assert!(catalog.commit_ahead(ahead, &more, Some(&gone)).await.is_err());
    assert!(catalog.record(c.about.id, "b0").await.unwrap().is_none());
}
