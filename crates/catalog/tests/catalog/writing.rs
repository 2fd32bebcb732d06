//! Batches of records on their way into the database.

use super::*;
use futures::future::BoxFuture;
use std::sync::atomic::{AtomicUsize, Ordering};
use zesty_catalog::Way;

#[tokio::test]
async fn what_a_caller_takes_for_new_is_written_right_whether_it_is_or_not() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a"])).await.unwrap();
    let target = target(c.about.id, &ids(&c));
    let new = async |writes: &[RecordWrite], step| {
        catalog.write(&target, writes, Conflicts::Refuse, step, Guess::AllNew, None).await
    };
    let vector = |n| vec![Some(vec![n, 0.5])];
    let counts = |w: &Written| (w.n_new, w.n_replaced, w.n_unchanged, w.before, w.revision);
    let written = new(&[write("a", 1, vector(1.0)), write("b", 2, vec![None])], None).await.unwrap();
    assert_eq!((counts(&written), written.numbers.clone()), ((2, 0, 0, 0, 1), vec![Some(0), Some(1)]));
    // One is there as it is given, one otherwise, one was deleted, and one is new.
    catalog.delete(&target, &keys(&["b"]), Conflicts::Refuse).await.unwrap();
    let mixed = [write("c", 3, vec![None]), write("a", 1, vector(1.0)), write("b", 4, vector(2.0))];
    let written = new(&mixed, None).await.unwrap();
    assert_eq!(counts(&written), (2, 0, 1, 2, 3));
    assert_eq!(written.numbers, vec![Some(2), None, Some(1)], "none was lost to the try before");
    let again = new(&mixed, None).await.unwrap();
    assert_eq!(counts(&again), (0, 0, 3, 3, 3));
    // What is expected of records counts, and nothing of a refused batch is written.
    let must_be_new = |key| RecordWrite { expected: Some(0), ..write(key, 9, vec![None]) };
    let refused = new(&[must_be_new("d"), must_be_new("a")], None).await;
    assert!(matches!(&refused, Err(CatalogError::Changed { key, revision: 1 }) if key == "a"), "{refused:?}");
    let older = RecordWrite { expected: Some(7), ..write("e", 9, vec![None]) };
    assert!(matches!(new(&[older], None).await, Err(CatalogError::Changed { revision: 0, .. })));
    assert!(catalog.record(c.about.id, "d").await.unwrap().is_none());
    assert_eq!(counts(&new(&[must_be_new("d")], None).await.unwrap()), (1, 0, 0, 3, 4));
    assert_eq!(counts(&new(&[], None).await.unwrap()), (0, 0, 0, 4, 4), "nothing takes no revision");
}

/// Counts how often it was waited for.
struct Busy(bool, AtomicUsize);

impl Way for Busy {
    fn is_taken(&self) -> bool {
        self.0
    }
    fn free(&self) -> BoxFuture<'_, ()> {
        self.1.fetch_add(1, Ordering::Relaxed);
        Box::pin(std::future::ready(()))
    }
}

#[tokio::test]
async fn a_write_that_others_go_before_waits_between_small_statements_and_writes_the_same() {
    let catalog = catalog().await;
    let many: Vec<_> =
        (0..400).map(|i| write(&format!("k{i}"), i, vec![Some(vec![i as f32, 0.5])])).collect();
    for guess in [Guess::AllNew, Guess::Any] {
        for (is_taken, waits) in [(false, 2), (true, 8 + 9)] {
            let c =
                catalog.create_collection(describe(&format!("c{guess:?}{is_taken}"), &["a"])).await.unwrap();
            let (target, way) = (target(c.about.id, &ids(&c)), Busy(is_taken, AtomicUsize::new(0)));
            let written =
                catalog.write(&target, &many, Conflicts::Refuse, None, guess, Some(&way)).await.unwrap();
            assert_eq!((written.n_new, written.revision), (400, 1));
            assert_eq!(way.1.into_inner(), waits, "{guess:?}");
            let again = put(&catalog, c.about.id, &ids(&c), &many).await.unwrap();
            assert_eq!((again.n_unchanged, again.revision), (400, 1), "all of it is there");
        }
    }
}
