//! The catalog against a real MariaDB.

use serde_json::{Value, json};
use std::collections::HashMap;
use zesty_catalog::access::{KeyEdit, NewKey, Opened, Ticket};
use zesty_catalog::{
    Catalog, CatalogError, Change, Collection, Conflicts, Fill, FilledVector, Guess, KeyAt, LoadStep, Made,
    NewCollection, NewVectorColumn, RecordBody, RecordWrite, ShapeChange, Target, VectorWrite, Version,
    Written,
};

mod ahead;
mod writing;

async fn catalog() -> Catalog {
    Catalog::connect(&zesty_local::scratch::database()).await.unwrap()
}

fn describe(name: &str, columns: &[&str]) -> NewCollection {
    NewCollection {
        name: name.into(),
        description: String::new(),
        fields: json!({"type": "object", "properties": {}}),
        columns: columns
            .iter()
            .map(|c| NewVectorColumn {
                name: (*c).into(),
                dimensions: 2,
                metric: "dot".into(),
                encoder: None,
                template: None,
            })
            .collect(),
    }
}

fn ids(c: &Collection) -> Vec<i64> {
    c.columns.iter().map(|c| c.id).collect()
}

fn body(fields: Value) -> RecordBody {
    fields.as_object().cloned().unwrap().into()
}

fn write(key: &str, n: i64, vectors: Vec<Option<Vec<f32>>>) -> RecordWrite {
    let vectors = vectors.into_iter().map(|v| v.map_or(VectorWrite::Clear, VectorWrite::Set)).collect();
    RecordWrite {
        key: key.into(),
        body: body(json!({"n": n})),
        vectors,
        expected: None,
        unencoded: Vec::new(),
    }
}

async fn put(
    catalog: &Catalog,
    id: i64,
    columns: &[i64],
    writes: &[RecordWrite],
) -> Result<Written, CatalogError> {
    catalog.write(&target(id, columns), writes, Conflicts::Refuse, None, Guess::Any, None).await
}

/// The collection as it was created.
fn target(id: i64, columns: &[i64]) -> Target {
    Target { collection: id, shape: 0, columns: columns.to_vec() }
}

fn keys(keys: &[&str]) -> Vec<KeyAt> {
    keys.iter().map(|k| KeyAt { key: (*k).into(), expected: None }).collect()
}

async fn filled(catalog: &Catalog, c: &Collection, after: u64) -> Vec<Fill> {
    let mut fills = Vec::new();
    catalog.follow(&target(c.about.id, &ids(c)), after, |_| (), |fill| fills.push(fill)).await.unwrap();
    fills
}

async fn followed(catalog: &Catalog, c: &Collection, after: u64) -> (u64, HashMap<String, Change>) {
    let mut all = HashMap::new();
    let revision = catalog
        .follow(
            &target(c.about.id, &ids(c)),
            after,
            |portion| {
                all.extend(portion.into_iter().map(|c| (c.key.clone(), c)));
            },
            |_| (),
        )
        .await
        .unwrap();
    (revision, all)
}

#[test]
fn what_one_runtime_has_opened_no_other_waits_for() {
    let runtime = || tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let (one, other) = (runtime(), runtime());
    let catalog = one.block_on(catalog());
    let list = || async { catalog.encoders().await.unwrap().len() };
    assert_eq!(other.block_on(list()), 0);
    // A runtime that nobody runs hears nothing: each of these two would wait for ever on what the other has opened.
    assert_eq!(one.block_on(list()), 0);
    one.block_on(catalog.clone().close());
    assert!(other.block_on(catalog.encoders()).is_err(), "all of them are closed");
}

#[tokio::test]
async fn a_follower_learns_every_write_replacement_and_deletion_by_revision() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a", "b"])).await.unwrap();
    let (id, columns) = (c.about.id, ids(&c));
    let v = |x: f32| Some(vec![x, -x]);
    let first = put(
        &catalog,
        id,
        &columns,
        &[write("x", 1, vec![v(1.0), None]), write("y", 2, vec![v(2.0), v(3.0)])],
    )
    .await
    .unwrap();
    assert_eq!((first.before, first.revision, first.n_new, first.n_replaced), (0, 1, 2, 0));
    let second =
        put(&catalog, id, &columns, &[write("y", 5, vec![None, v(9.0)]), write("z", 3, vec![None, None])])
            .await
            .unwrap();
    assert_eq!((second.revision, second.n_new, second.n_replaced), (2, 1, 1));
    assert_eq!(second.numbers[0], first.numbers[1], "a replaced record keeps its number");
    let third =
        catalog.delete(&target(id, &columns), &keys(&["x", "nobody"]), Conflicts::Refuse).await.unwrap();
    assert_eq!((third.revision, third.numbers.iter().flatten().count()), (3, 1));
    let again = catalog.delete(&target(id, &columns), &keys(&["x"]), Conflicts::Refuse).await.unwrap();
    assert_eq!(again.revision, 3, "nothing to delete");

    let (revision, all) = followed(&catalog, &c, 0).await;
    assert_eq!((revision, all.len()), (3, 3));
    assert_eq!(all["x"].body, None);
    assert_eq!(all["y"].body, Some(json!({"n": 5})));
    assert_eq!(all["y"].vectors, [None, v(9.0)], "a replacement without a vector takes the old one away");
    assert_eq!(all["z"].revision, 2);
    let (_, late) = followed(&catalog, &c, 2).await;
    assert_eq!(late.keys().collect::<Vec<_>>(), ["x"]);

    // A deleted key comes back as a new record under its old number.
    let back = put(&catalog, id, &columns, &[write("x", 7, vec![None, None])]).await.unwrap();
    assert_eq!((back.n_new, back.n_replaced), (1, 0));
    assert_eq!(catalog.record_bytes(id).await.unwrap().0, 3);
}

#[tokio::test]
async fn keys_are_told_apart_to_the_byte() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a"])).await.unwrap();
    let keys = ["a", "A", "a ", "á", "a\u{301}", "100%", "a'b\"c\\"];
    let writes: Vec<_> = keys.iter().enumerate().map(|(i, k)| write(k, i as i64, vec![None])).collect();
    let written = put(&catalog, c.about.id, &ids(&c), &writes).await.unwrap();
    assert_eq!(written.n_new, keys.len());
    for (i, key) in keys.iter().enumerate() {
        let record = catalog.record(c.about.id, key).await.unwrap().unwrap();
        assert_eq!(record.body, json!({"n": i}), "{key:?}");
    }
}

#[tokio::test]
async fn concurrent_writers_get_revisions_of_their_own_and_lose_nothing() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a"])).await.unwrap();
    let writers = (0..8).map(|w| {
        let (catalog, id, columns) = (catalog.clone(), c.about.id, ids(&c));
        tokio::spawn(async move {
            let mut revisions = Vec::new();
            for i in 0..5 {
                // Half of the keys are fought over by all writers.
                let writes = [
                    write(&format!("own-{w}-{i}"), w, vec![None]),
                    write(&format!("all-{i}"), w, vec![None]),
                ];
                revisions.push(put(&catalog, id, &columns, &writes).await.unwrap().revision);
            }
            revisions
        })
    });
    let mut revisions: Vec<u64> = Vec::new();
    for writer in writers.collect::<Vec<_>>() {
        revisions.extend(writer.await.unwrap());
    }
    revisions.sort();
    assert_eq!(revisions, (1..=40).collect::<Vec<u64>>());
    let (revision, all) = followed(&catalog, &c, 0).await;
    assert_eq!((revision, all.len()), (40, 45));
}

#[tokio::test]
async fn large_batches_and_wide_vectors_fit_in_statements() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a"])).await.unwrap();
    let many: Vec<_> =
        (0..5000).map(|i| write(&format!("k{i}"), i, vec![Some(vec![i as f32, 0.0])])).collect();
    assert_eq!(put(&catalog, c.about.id, &ids(&c), &many).await.unwrap().n_new, 5000);
    let wide: Vec<_> =
        (0..1200).map(|i| write(&format!("w{i}"), i, vec![Some(vec![i as f32; 16_384])])).collect();
    assert_eq!(put(&catalog, c.about.id, &ids(&c), &wide).await.unwrap().n_new, 1200);
    let (_, all) = followed(&catalog, &c, 1).await;
    assert_eq!(all["w1199"].vectors[0].as_ref().unwrap(), &vec![1199.0; 16_384]);
    assert_eq!(catalog.vector_bytes(c.columns[0].id).await.unwrap(), (6200, 5000 * 8 + 1200 * 65_536));
}

#[tokio::test]
async fn names_are_taken_once_and_a_deleted_collection_leaves_nothing() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a"])).await.unwrap();
    let again = catalog.create_collection(describe("logs", &["a"])).await;
    assert!(matches!(again, Err(CatalogError::Exists { what: "collection", .. })), "{again:?}");
    let twice = catalog.create_collection(describe("other", &["a", "a"])).await;
    assert!(matches!(twice, Err(CatalogError::Exists { what: "vector column", .. })), "{twice:?}");
    assert_eq!(catalog.collections().await.unwrap().len(), 1, "a refused collection leaves no half");
    put(&catalog, c.about.id, &ids(&c), &[write("x", 1, vec![Some(vec![1.0, 2.0])])]).await.unwrap();
    catalog.delete_collection(c.about.id).await.unwrap();
    catalog.clear_discarded().await.unwrap();
    assert_eq!(catalog.record_bytes(c.about.id).await.unwrap(), (0, 0));
    assert_eq!(catalog.vector_bytes(c.columns[0].id).await.unwrap(), (0, 0));
    let gone = put(&catalog, c.about.id, &ids(&c), &[write("x", 1, vec![None])]).await;
    assert!(matches!(gone, Err(CatalogError::Missing { .. })), "{gone:?}");
}

#[tokio::test]
async fn what_is_hidden_is_not_written_to_and_a_clone_left_half_is_cleared() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a"])).await.unwrap();
    let record = || [write("x", 1, vec![Some(vec![1.0, 2.0])])];
    put(&catalog, c.about.id, &ids(&c), &record()).await.unwrap();
    let cloning = catalog.begin_clone(&c, "copy", "node-a").await.unwrap();
    catalog.clone_step(&cloning, 0).await.unwrap();
    assert_eq!(catalog.collections().await.unwrap().len(), 1, "a clone is not there before it is whole");
    let taken = catalog.create_collection(describe("copy", &["a"])).await;
    assert!(matches!(taken, Err(CatalogError::Exists { .. })), "{taken:?}");
    // Another node's clone goes on.
    let long_ago = chrono::DateTime::UNIX_EPOCH;
    assert_eq!(catalog.purge_hidden(long_ago, Some("node-b")).await.unwrap(), 0);
    assert_eq!(catalog.purge_hidden(long_ago, Some("node-a")).await.unwrap(), 1);
    catalog.clear_discarded().await.unwrap();
    assert_eq!(catalog.record_bytes(cloning.to).await.unwrap(), (0, 0));
    let lost = catalog.finish_clone(cloning, true).await;
    assert!(matches!(lost, Err(CatalogError::Missing { .. })), "{lost:?}");

    catalog.drop_collection(c.about.id, "somebody").await.unwrap();
    let gone = put(&catalog, c.about.id, &ids(&c), &record()).await;
    assert!(matches!(gone, Err(CatalogError::Missing { .. })), "{gone:?}");
    assert!(catalog.versions().await.unwrap().is_empty());
    assert_eq!(catalog.purge_hidden(long_ago, None).await.unwrap(), 0, "it can still be restored");
    let back = catalog.restore_collection(c.about.id, "logs").await.unwrap();
    assert_eq!(catalog.record_bytes(back.about.id).await.unwrap().0, 1);
    let twice = catalog.restore_collection(c.about.id, "logs").await;
    assert!(matches!(twice, Err(CatalogError::Missing { .. })), "{twice:?}");
}

fn new_key(name: &str, hash: char, scopes: &str) -> NewKey {
    NewKey {
        name: name.into(),
        hash: hash.to_string().repeat(64),
        scopes: scopes.into(),
        ..NewKey::default()
    }
}

#[tokio::test]
async fn links_work_once_and_sessions_end_with_their_secret() {
    let catalog = catalog().await;
    let (a, b) = ("a".repeat(64), "b".repeat(64));
    let key = catalog.add_key(new_key("first", 'a', "search,manage")).await.unwrap();
    let (later, past) =
        (chrono::Utc::now() + chrono::TimeDelta::hours(1), chrono::Utc::now() - chrono::TimeDelta::hours(1));
    let id = async |opened: zesty_catalog::Result<Option<Opened>>| opened.unwrap().map(|o| o.key.id);
    catalog.add_ticket(Ticket::Link, "link", (key.id, &a), later).await.unwrap();
    catalog.add_ticket(Ticket::Session, "session", (key.id, &a), later).await.unwrap();
    assert_eq!(id(catalog.session("link").await).await, None, "a link is no session");
    assert_eq!(id(catalog.take_link("session").await).await, None, "a session is no link");
    assert_eq!(id(catalog.take_link("link").await).await, Some(key.id));
    assert_eq!(id(catalog.take_link("link").await).await, None);
    catalog.add_ticket(Ticket::Link, "old", (key.id, &a), past).await.unwrap();
    assert_eq!(id(catalog.take_link("old").await).await, None);

    // A rotation with an overlap leaves both secrets good; one without ends the old one and its sessions.
    let until = catalog.rotate_key("first", &b, chrono::TimeDelta::minutes(5)).await.unwrap();
    assert!(until.is_some_and(|at| at > chrono::Utc::now()));
    assert_eq!(
        catalog.open(&a).await.unwrap().unwrap().ends_at,
        catalog.old_secrets().await.unwrap().first().map(|s| s.1)
    );
    assert_eq!(catalog.open(&b).await.unwrap().unwrap().ends_at, None);
    assert_eq!(id(catalog.session("session").await).await, Some(key.id));
    let c = "c".repeat(64);
    assert_eq!(catalog.rotate_key("first", &c, chrono::TimeDelta::zero()).await.unwrap(), None);
    assert_eq!((id(catalog.open(&a).await).await, id(catalog.open(&b).await).await), (None, None));
    assert_eq!(id(catalog.session("session").await).await, None);
    assert_eq!(id(catalog.open(&c).await).await, Some(key.id));

    // The last key that manages everything stays; a key that has ended opens nothing.
    catalog
        .add_key(NewKey { collections: Some(vec!["logs".into()]), ..new_key("some", 'd', "manage") })
        .await
        .unwrap();
    assert_eq!(catalog.remove_key("first").await.unwrap(), KeyEdit::LastManager);
    let demoted = catalog
        .change_key("first", |k| {
            k.scopes = "search".into();
            Ok::<_, ()>(())
        })
        .await;
    assert_eq!(demoted.unwrap(), Ok(KeyEdit::LastManager));
    catalog.add_key(NewKey { expires_at: Some(past), ..new_key("ended", 'e', "manage") }).await.unwrap();
    assert_eq!(catalog.open(&"e".repeat(64)).await.unwrap(), None);
    assert_eq!(
        catalog.remove_key("first").await.unwrap(),
        KeyEdit::LastManager,
        "one that ended does not count"
    );
    catalog.add_key(new_key("second", 'f', "manage")).await.unwrap();
    assert_eq!(catalog.remove_key("first").await.unwrap(), KeyEdit::Done);
    assert_eq!(catalog.open(&c).await.unwrap(), None);
}

#[tokio::test]
async fn jobs_left_running_by_a_node_are_failed_for_that_node_alone() {
    let catalog = catalog().await;
    let mine = catalog.add_job("build", "logs", "i", "me").await.unwrap();
    let other = catalog.add_job("build", "logs", "i", "other").await.unwrap();
    let done = catalog.add_job("sweep", "logs", "i", "me").await.unwrap();
    catalog.end_job(done.id, "done", Some(json!({"sweep": 1})), None).await.unwrap();
    assert_eq!(catalog.fail_left_jobs("me").await.unwrap(), 1);
    let state = async |id| catalog.job(id).await.unwrap().unwrap().state;
    assert_eq!(
        (state(mine.id).await, state(other.id).await, state(done.id).await),
        ("failed".into(), "running".into(), "done".into())
    );
    let _: Value = catalog.job(done.id).await.unwrap().unwrap().result.unwrap();
}

#[tokio::test]
async fn a_database_that_is_not_there_is_said_so() {
    let url = format!(
        "mysql://zesty:x@127.0.0.1:{}/zesty?ssl-mode=disabled",
        zesty_local::mariadb::free_port().unwrap()
    );
    assert!(matches!(Catalog::connect(&url).await, Err(CatalogError::Unavailable(_))));
}

#[tokio::test]
async fn what_is_stored_already_is_left_alone_and_edits_can_insist_on_a_revision() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a"])).await.unwrap();
    let (id, columns) = (c.about.id, ids(&c));
    let v = |x: f32| vec![Some(vec![x, 0.5])];
    let batch = [write("x", 1, v(1.0)), write("y", 2, v(2.0)), write("z", 3, vec![None])];
    put(&catalog, id, &columns, &batch).await.unwrap();
    let again = put(&catalog, id, &columns, &batch).await.unwrap();
    assert_eq!((again.n_unchanged, again.n_new, again.n_replaced, again.revision), (3, 0, 0, 1));
    assert!(again.numbers.iter().all(Option::is_none));
    // One body, one vector and one lost vector differ.
    let edited =
        [write("x", 9, v(1.0)), write("y", 2, v(2.5)), write("z", 3, v(0.0)), write("new", 4, vec![None])];
    let third = put(&catalog, id, &columns, &edited).await.unwrap();
    assert_eq!((third.n_unchanged, third.n_new, third.n_replaced, third.revision), (0, 1, 3, 2));
    let lost = put(&catalog, id, &columns, &[write("z", 3, vec![None])]).await.unwrap();
    assert_eq!((lost.n_replaced, lost.revision), (1, 3));

    let expecting =
        |key: &str, expected| RecordWrite { expected: Some(expected), ..write(key, 50, vec![None]) };
    let refused = put(&catalog, id, &columns, &[write("w", 1, vec![None]), expecting("x", 1)]).await;
    assert!(matches!(refused, Err(CatalogError::Changed { revision: 2, .. })), "{refused:?}");
    assert!(catalog.record(id, "w").await.unwrap().is_none(), "a refused batch writes nothing");
    assert!(put(&catalog, id, &columns, &[expecting("nobody", 1)]).await.is_err());
    assert_eq!(put(&catalog, id, &columns, &[expecting("x", 2)]).await.unwrap().revision, 4);
    assert_eq!(put(&catalog, id, &columns, &[expecting("first", 0)]).await.unwrap().n_new, 1);
}

#[tokio::test]
async fn a_load_is_noted_with_what_it_wrote_or_not_at_all() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a"])).await.unwrap();
    let (id, columns) = (c.about.id, ids(&c));
    let load = catalog.add_load(id, "logs", "node", json!({"files": []}), 0).await.unwrap();
    let step = |position: u64, n_rejected: u64| LoadStep {
        load: load.id,
        position,
        n_rejected,
        n_superseded: 0,
        rejects_bytes: position * 10,
    };
    let batch = [
        write("x", 1, vec![None]),
        RecordWrite { unencoded: vec![(0, "too long".into())], ..write("y", 2, vec![None]) },
    ];
    catalog
        .write(&target(id, &columns), &batch, Conflicts::Refuse, Some(&step(3, 1)), Guess::Any, None)
        .await
        .unwrap();
    catalog
        .write(&target(id, &columns), &batch, Conflicts::Refuse, Some(&step(5, 0)), Guess::Any, None)
        .await
        .unwrap();
    catalog.pass_step(&step(6, 1)).await.unwrap();
    let now = catalog.load(load.id).await.unwrap().unwrap();
    let counts = [
        now.position,
        now.n_new,
        now.n_replaced,
        now.n_unchanged,
        now.n_rejected,
        now.n_unencoded,
        now.rejects_bytes,
    ];
    assert_eq!(counts, [6, 2, 0, 2, 2, 2, 60]);
    assert_eq!(catalog.unencoded(columns[0], 10).await.unwrap(), [(1, "too long".to_owned())]);
    // A batch that is refused leaves the load where it was.
    let bad = RecordWrite { expected: Some(99), ..write("x", 9, vec![None]) };
    assert!(
        catalog
            .write(&target(id, &columns), &[bad], Conflicts::Refuse, Some(&step(7, 0)), Guess::Any, None)
            .await
            .is_err()
    );
    assert_eq!(catalog.load(load.id).await.unwrap().unwrap().position, 6);
    assert_eq!(catalog.stop_left_loads("other").await.unwrap(), 0);
    assert_eq!(catalog.stop_left_loads("node").await.unwrap(), 1);
    assert_eq!(catalog.loads(Some(id), 5).await.unwrap()[0].state, "stopped");
    // With a vector, the reason is forgotten.
    put(&catalog, id, &columns, &[write("y", 3, vec![Some(vec![1.0, 2.0])])]).await.unwrap();
    assert_eq!(catalog.unencoded(columns[0], 10).await.unwrap(), []);
}

#[tokio::test]
async fn vectors_that_come_later_leave_records_as_they_are_and_reach_followers() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a", "b"])).await.unwrap();
    let (id, columns) = (c.about.id, ids(&c));
    let batch = ["x", "y", "z"].map(|k| write(k, 1, vec![Some(vec![1.0, 1.0]), None]));
    put(&catalog, id, &columns, &batch).await.unwrap();
    put(&catalog, id, &columns, &[write("z", 2, vec![None, None])]).await.unwrap();
    let v = |x: f32| Ok(vec![x, x]);
    let made = |number, vector| Made { number, revision: 1, vector };
    let given = [made(0, v(5.0)), made(1, Err("refused".to_owned())), made(2, v(7.0))];
    let filled_now = catalog.set_vectors(&target(id, &columns), columns[1], &given).await.unwrap();
    let fill = filled_now.fill;
    assert_eq!((filled_now.before, fill.revision), (2, 3));
    let x = FilledVector { number: 0, key: "x".into(), vector: vec![5.0, 5.0] };
    assert_eq!(fill.vectors, [x], "z has changed since it was read");
    assert_eq!(catalog.unencoded(columns[1], 9).await.unwrap(), [(1, "refused".to_owned())]);
    assert_eq!(catalog.record(id, "x").await.unwrap().unwrap().revision, 1, "the record is as it was");
    assert_eq!(filled(&catalog, &c, 2).await, [fill]);
    assert_eq!(filled(&catalog, &c, 3).await, []);
    let (_, all) = followed(&catalog, &c, 0).await;
    assert_eq!(all["x"].vectors, [Some(vec![1.0, 1.0]), Some(vec![5.0, 5.0])]);
    let nothing = catalog.set_vectors(&target(id, &columns), columns[1], &[made(9, v(1.0))]).await.unwrap();
    assert_eq!((nothing.before, nothing.fill.revision), (3, 3), "nothing was there to be given a vector");
}

#[tokio::test]
async fn every_change_of_shape_is_counted() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a"])).await.unwrap();
    let id = c.about.id;
    put(&catalog, id, &ids(&c), &[write("x", 1, vec![Some(vec![1.0, 2.0])])]).await.unwrap();
    let about = |column: Option<&str>| ShapeChange::About {
        description: Some("new".into()),
        fields: Some(json!({"properties": {"n": {"type": "integer"}}})),
        default_column: column.map(Into::into),
    };
    let after = catalog.change_shape(id, 0, about(Some("a"))).await.unwrap();
    assert_eq!(
        (after.about.shape, after.about.description.as_str(), after.about.default_column.as_deref()),
        (1, "new", Some("a"))
    );
    assert_eq!(after.about.fields["properties"]["n"]["type"], "integer");
    let column = || describe("", &["b"]).columns.remove(0);
    let after = catalog.change_shape(id, 1, ShapeChange::AddColumn(column())).await.unwrap();
    assert_eq!((after.about.shape, after.columns.len()), (2, 2));
    let twice = catalog.change_shape(id, 2, ShapeChange::AddColumn(column())).await;
    assert!(matches!(twice, Err(CatalogError::Exists { .. })));
    let version = Version { id, name: "logs".into(), revision: 1, shape: 2, choices: 0 };
    assert_eq!(catalog.versions().await.unwrap(), [version], "a refused change is not counted");
    let after = catalog.change_shape(id, 2, ShapeChange::DropColumn(c.columns[0].id)).await.unwrap();
    assert_eq!((after.about.shape, after.columns[0].name.as_str()), (3, "b"));
    catalog.clear_discarded().await.unwrap();
    assert_eq!(catalog.vector_bytes(c.columns[0].id).await.unwrap(), (0, 0));
}

#[tokio::test]
async fn a_batch_can_leave_out_what_has_changed_and_say_what_it_was() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a"])).await.unwrap();
    let target = target(c.about.id, &ids(&c));
    let all: Vec<_> = ["x", "y", "z"].map(|k| write(k, 1, vec![Some(vec![1.0, 1.0])])).into();
    catalog.write(&target, &all, Conflicts::Refuse, None, Guess::Any, None).await.unwrap();
    catalog
        .write(&target, &[write("y", 2, vec![None])], Conflicts::Refuse, None, Guess::Any, None)
        .await
        .unwrap();
    let edit: Vec<_> =
        ["x", "y", "z", "w"].map(|k| RecordWrite { expected: Some(1), ..write(k, 9, vec![None]) }).into();
    let written = catalog.write(&target, &edit, Conflicts::LeaveOut, None, Guess::Any, None).await.unwrap();
    assert_eq!((written.n_replaced, written.left_out.as_slice()), (2, &[1, 3][..]));
    assert_eq!(catalog.record(c.about.id, "y").await.unwrap().unwrap().body, json!({"n": 2}));

    let gone: Vec<KeyAt> =
        ["x", "y"].map(|k| KeyAt { key: k.into(), expected: Some(written.revision) }).into();
    let refused = catalog.delete(&target, &gone, Conflicts::Refuse).await;
    assert!(matches!(refused, Err(CatalogError::Changed { .. })), "{refused:?}");
    let deleted = catalog.delete(&target, &gone, Conflicts::LeaveOut).await.unwrap();
    assert_eq!((deleted.numbers.iter().flatten().count(), deleted.left_out.as_slice()), (1, &[1][..]));
}

#[tokio::test]
async fn a_kept_vector_stays_whatever_it_is_by_then() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a"])).await.unwrap();
    let target = target(c.about.id, &ids(&c));
    catalog
        .write(&target, &[write("x", 1, vec![None])], Conflicts::Refuse, None, Guess::Any, None)
        .await
        .unwrap();
    // Between the look at the record and the edit, the record is given a vector: its revision stays.
    let made = [Made { number: 0, revision: 1, vector: Ok(vec![3.0, 4.0]) }];
    catalog.set_vectors(&target, c.columns[0].id, &made).await.unwrap();
    let edit = RecordWrite { expected: Some(1), vectors: vec![VectorWrite::Keep], ..write("x", 2, vec![]) };
    catalog.write(&target, &[edit], Conflicts::Refuse, None, Guess::Any, None).await.unwrap();
    let (_, all) = followed(&catalog, &c, 0).await;
    assert_eq!((&all["x"].body, &all["x"].vectors), (&Some(json!({"n": 2})), &vec![Some(vec![3.0, 4.0])]));
}

#[tokio::test]
async fn a_writer_with_an_old_shape_is_refused_and_so_is_a_follower() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a"])).await.unwrap();
    let (id, old) = (c.about.id, target(c.about.id, &ids(&c)));
    let column = describe("", &["b"]).columns.remove(0);
    catalog.change_shape(id, 0, ShapeChange::AddColumn(column)).await.unwrap();
    let reshaped = |e: Result<(), CatalogError>| matches!(e, Err(CatalogError::Reshaped { now: 1 }));
    let written =
        catalog.write(&old, &[write("x", 1, vec![None])], Conflicts::Refuse, None, Guess::Any, None).await;
    assert!(reshaped(written.map(drop)), "what it does not know of would keep a stale vector");
    assert!(reshaped(catalog.delete(&old, &keys(&["x"]), Conflicts::Refuse).await.map(drop)));
    assert!(reshaped(catalog.set_vectors(&old, old.columns[0], &[]).await.map(drop)));
    assert!(reshaped(catalog.follow(&old, 0, |_| (), |_| ()).await.map(drop)));
    assert_eq!(catalog.versions().await.unwrap()[0].revision, 0, "nothing was written");
}

#[tokio::test]
async fn of_shape_changes_at_once_one_is_made_and_the_others_are_told() {
    let catalog = catalog().await;
    for round in 0..20 {
        let c = catalog.create_collection(describe(&format!("logs{round}"), &["a"])).await.unwrap();
        let changes = (0..4).map(|i| {
            let (catalog, id) = (catalog.clone(), c.about.id);
            tokio::spawn(async move {
                let fields = json!({"properties": {format!("f{i}"): {"type": "integer"}}});
                let change =
                    ShapeChange::About { description: None, fields: Some(fields), default_column: None };
                catalog.change_shape(id, 0, change).await
            })
        });
        let mut made = 0;
        for change in changes.collect::<Vec<_>>() {
            match change.await.unwrap() {
                Ok(_) => made += 1,
                Err(e) => assert!(matches!(e, CatalogError::Reshaped { now: 1 }), "{e}"),
            }
        }
        assert_eq!(made, 1);
    }
}

#[tokio::test]
async fn a_record_that_no_statement_can_carry_is_refused_by_name_and_large_ones_are_split() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a"])).await.unwrap();
    let target = target(c.about.id, &ids(&c));
    let long = |key: &str, bytes: usize| RecordWrite {
        body: body(json!({"n": "x".repeat(bytes)})),
        ..write(key, 0, vec![None])
    };
    let limit = catalog.record_limit();
    let refused = catalog
        .write(&target, &[long("ok", 10), long("long", limit)], Conflicts::Refuse, None, Guess::Any, None)
        .await;
    assert!(matches!(&refused, Err(CatalogError::TooLong { key, .. }) if key == "long"), "{refused:?}");
    // Together far more than a packet.
    let many: Vec<_> = (0..30).map(|i| long(&format!("k{i}"), 3 << 20)).collect();
    assert_eq!(
        catalog.write(&target, &many, Conflicts::Refuse, None, Guess::Any, None).await.unwrap().n_new,
        30
    );
    assert!(catalog.record(c.about.id, "long").await.unwrap().is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn writers_do_not_wait_for_the_clearing_of_what_was_deleted() {
    let catalog = catalog().await;
    for round in 0..4 {
        let old = catalog.create_collection(describe(&format!("old{round}"), &["a"])).await.unwrap();
        let many: Vec<_> =
            (0..6000).map(|i| write(&format!("k{i}"), i, vec![Some(vec![1.0, 2.0])])).collect();
        put(&catalog, old.about.id, &ids(&old), &many).await.unwrap();
        let new = catalog.create_collection(describe(&format!("new{round}"), &["a"])).await.unwrap();
        catalog.delete_collection(old.about.id).await.unwrap();
        let clearing = tokio::spawn({
            let catalog = catalog.clone();
            async move { catalog.clear_discarded().await }
        });
        for i in 0..20 {
            let batch: Vec<_> =
                (0..50).map(|j| write(&format!("n{i}-{j}"), j, vec![Some(vec![0.5, 0.5])])).collect();
            put(&catalog, new.about.id, &ids(&new), &batch).await.unwrap();
        }
        clearing.await.unwrap().unwrap();
        assert_eq!(catalog.record_bytes(old.about.id).await.unwrap().0, 0);
        assert_eq!(catalog.vector_bytes(old.columns[0].id).await.unwrap().0, 0);
        assert_eq!(catalog.record_bytes(new.about.id).await.unwrap().0, 1000);
    }
}

#[tokio::test]
async fn an_index_and_the_choices_that_name_it_go_together_and_are_counted() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a"])).await.unwrap();
    let (id, column) = (c.about.id, c.columns[0].id);
    let index = catalog.add_index(id, column, "i", "graph", 1, "me").await.unwrap();
    let nobody = catalog.set_serving(id, column, Some(json!({"index": "other", "settings": {}}))).await;
    assert!(matches!(nobody, Err(CatalogError::Missing { what: "index", .. })), "{nobody:?}");
    catalog.set_serving(id, column, Some(json!({"index": "i", "settings": {}}))).await.unwrap();
    let before = catalog.choices(id).await.unwrap();
    assert_eq!((before.version, before.indexes.len(), before.serving[0].choice.is_some()), (2, 1, true));
    catalog.remove_index(&index).await.unwrap();
    let after = catalog.choices(id).await.unwrap();
    assert_eq!((after.version, after.indexes.len(), after.serving[0].choice.is_some()), (3, 0, false));
    let told = zesty_catalog::Ready { revision: 1, rows: 1, bytes: 1, seconds: 1.0 };
    assert!(!catalog.index_ready(&index, told).await.unwrap(), "a dropped index does not come back");
}

#[tokio::test]
async fn what_a_gone_node_left_is_ended_and_its_build_is_taken_by_one() {
    let catalog = catalog().await;
    let c = catalog.create_collection(describe("logs", &["a"])).await.unwrap();
    catalog.node_lives("alive").await.unwrap();
    let index = catalog.add_index(c.about.id, c.columns[0].id, "i", "graph", 1, "gone").await.unwrap();
    let (left, runs) = (
        catalog.add_job("build", "logs", "i", "gone").await.unwrap(),
        catalog.add_job("build", "logs", "i", "alive").await.unwrap(),
    );
    assert_eq!(catalog.end_what_gone_nodes_left().await.unwrap(), 1);
    assert_eq!(catalog.job(left.id).await.unwrap().unwrap().state, "failed");
    assert_eq!(catalog.job(runs.id).await.unwrap().unwrap().state, "running");
    assert!(catalog.take_over_build(index.id, "alive").await.unwrap());
    assert!(!catalog.take_over_build(index.id, "third").await.unwrap(), "it belongs to a living node now");
}
