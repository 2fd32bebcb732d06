//! Two and more who write at once: nothing that was acknowledged is lost, and what an edit left out is said.

use serde_json::{Value, json};
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use zesty_client::Client;
use zesty_client::load::{LoadFiles, load_files};
use zesty_testing::*;

const FIELDS: [&str; 4] = ["n", "writer", "count", "mark"];

fn collection(name: &str) -> Value {
    let fields: serde_json::Map<String, Value> =
        FIELDS.iter().map(|f| ((*f).to_owned(), json!({"type": "integer"}))).collect();
    json!({"name": name, "fields": {"properties": fields},
        "columns": [{"name": "v", "dimensions": 2, "metric": "dot"}]})
}

fn record(key: &str, n: i64, count: u64) -> Value {
    json!({"key": key, "fields": {"n": n, "count": count}, "vectors": {"v": [n, 1]}})
}

async fn filled(r: &Running, name: &str, n: usize) {
    r.client.create_collection(&collection(name)).await.unwrap();
    let all: Vec<Value> = (0..n).map(|i| record(&format!("k{i}"), 0, 0)).collect();
    for some in all.chunks(1000) {
        r.client.write(name, some).await.unwrap();
    }
}

/// Every record by key, as an export has it.
async fn everything(r: &Running, name: &str) -> HashMap<String, Value> {
    let (status, text) = r.send("GET", &format!("/api/collections/{name}/export"), "", "").await;
    assert_eq!(status, 200);
    let text = text.as_str().map_or_else(|| text.to_string(), str::to_owned);
    let line = |l: &str| {
        let mut line: Value = serde_json::from_str(l).unwrap();
        (line["key"].as_str().unwrap().to_owned(), line["fields"].take())
    };
    text.lines().map(line).collect()
}

/// By key, the last write that was acknowledged: its count, and the n that it set.
type Last = HashMap<String, (u64, i64)>;

struct Writers {
    stop: Arc<AtomicBool>,
    written: Arc<AtomicU64>,
    all: Vec<tokio::task::JoinHandle<Last>>,
}

impl Writers {
    /// Tells them to stop, and waits for what they wrote last.
    async fn stop(self) -> Last {
        self.stop.store(true, Ordering::Relaxed);
        let mut last = HashMap::new();
        for writer in self.all {
            last.extend(writer.await.unwrap());
        }
        last
    }
}

/// Writers that each replace records of their own again and again until told to stop.
fn writers(client: &Client, name: &'static str, n: usize, keys: usize, n_of: fn(u64) -> i64) -> Writers {
    let (stop, written) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
    let all = (0..n).map(|w| {
        let (client, stop, written) = (client.clone(), stop.clone(), written.clone());
        tokio::spawn(async move {
            let mut last = HashMap::new();
            let mut count = 0;
            while !stop.load(Ordering::Relaxed) {
                count += 1;
                let mine: Vec<String> = (0..keys).filter(|i| i % n == w).map(|i| format!("k{i}")).collect();
                for some in mine.chunks(20) {
                    let records: Vec<Value> = some.iter().map(|k| record(k, n_of(count), count)).collect();
                    client.write(name, &records).await.unwrap();
                    last.extend(some.iter().map(|k| (k.clone(), (count, n_of(count)))));
                    written.fetch_add(1, Ordering::Relaxed);
                    if stop.load(Ordering::Relaxed) {
                        break;
                    }
                }
            }
            last
        })
    });
    let all = all.collect();
    Writers { stop, written, all }
}

/// Waits for so many more writes.
async fn more(written: &AtomicU64, n: u64) {
    let from = written.load(Ordering::Relaxed);
    eventually("more writes", async || written.load(Ordering::Relaxed) >= from + n).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_patch_by_filter_beside_writers_adds_up_and_undoes_none_of_their_writes() {
    let r = plain().await;
    filled(&r, "things", 4000).await;
    // Every second write takes a record out of the filter.
    let writers = writers(&r.client, "things", 3, 600, |count| (count % 2) as i64);
    more(&writers.written, 6).await;
    for round in 1..=3 {
        let input = json!({"filter": "n = 0", "patch": {"fields": {"mark": round}}});
        let done = r.client.patch_records("things", &input).await.unwrap();
        assert_eq!(done.changed + done.unchanged + done.left_out, done.matched, "round {round}: {done:?}");
        assert!(done.changed >= 3400, "nobody writes to those: {done:?}");
    }
    let last = writers.stop().await;
    let all = everything(&r, "things").await;
    assert_eq!(all.len(), 4000);
    for (key, (count, n)) in &last {
        let now = &all[key];
        assert_eq!(
            (&now["count"], &now["n"]),
            (&json!(count), &json!(n)),
            "{key}: an acknowledged write was undone"
        );
    }
    let unmarked = all.iter().filter(|(k, f)| !last.contains_key(*k) && f["mark"] != 3).count();
    assert_eq!(unmarked, 0, "records that nobody else touched were all changed");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_deletion_by_filter_spares_what_an_acknowledged_edit_took_out_of_it() {
    let r = plain().await;
    for round in 0..4 {
        let name: &'static str = ["a", "b", "c", "d"][round];
        filled(&r, name, 3000).await;
        // Each record is taken out of the filter once, for good.
        let client = r.client.clone();
        let saved = Arc::new(AtomicU64::new(0));
        let saving = tokio::spawn({
            let saved = saved.clone();
            async move {
                let mut safe = Vec::new();
                for i in (0..3000).rev() {
                    let key = format!("k{i}");
                    let (client, patch) = (client.clone(), json!({"fields": {"n": 7}}));
                    match client.patch_record(name, &key, &patch).await {
                        Ok(_) => safe.push(key),
                        Err(e) => assert!(e.to_string().contains("there is no record"), "{e}"),
                    }
                    saved.fetch_add(1, Ordering::Relaxed);
                    if safe.len() == 400 {
                        break;
                    }
                }
                safe
            }
        });
        more(&saved, 20).await;
        let gone = r.client.delete_records(name, &json!({"filter": "n = 0"})).await.unwrap();
        assert_eq!(gone.deleted + gone.left_out, gone.matched, "{gone:?}");
        let safe = saving.await.unwrap();
        let all = everything(&r, name).await;
        for key in &safe {
            assert!(all.contains_key(key), "{key} was taken out of the filter, told so, and deleted");
        }
        assert_eq!(all.len(), safe.len());
        assert_eq!(gone.deleted, 3000 - all.len());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_merge_load_beside_a_writer_of_the_same_keys_loses_nothing_and_counts_right() {
    let r = plain().await;
    filled(&r, "things", 1500).await;
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("marks.jsonl");
    // Half of them are new, and the writer makes some of those first.
    let text: String = (0..3000).map(|i| format!("{{\"key\": \"k{i}\", \"mark\": {i}}}\n")).collect();
    std::fs::write(&path, text).unwrap();
    let writers = writers(&r.client, "things", 2, 3000, |_| 5);
    more(&writers.written, 4).await;
    let plan = LoadFiles {
        records: Some(path),
        options: options(json!({"known": "merge", "batch": 200})),
        ..LoadFiles::default()
    };
    let done = load_files(&r.client, "things", &plan, |_| ()).await.unwrap();
    let last = writers.stop().await;
    assert_eq!(done.read, done.new + done.replaced + done.unchanged + done.rejected, "{done:?}");
    let all = everything(&r, "things").await;
    assert_eq!(all.len(), 3000);
    for (key, (count, _)) in &last {
        assert_eq!(all[key]["count"], json!(count), "{key}: an acknowledged write was lost");
    }
}

/// Its batches are inserted ahead of their turn, and meet keys and numbers of others there.
#[tokio::test(flavor = "multi_thread")]
async fn a_load_of_new_keys_beside_writers_of_some_of_them_keeps_what_came_last() {
    let r = plain().await;
    filled(&r, "things", 0).await;
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("marks.jsonl");
    let line = |i: u64| json!({"key": format!("k{i}"), "mark": i, "v": [i, 2]}).to_string();
    std::fs::write(&path, (1000..8000).map(|i| line(i) + "\n").collect::<String>()).unwrap();
    let writers = writers(&r.client, "things", 2, 3000, |_| 5);
    more(&writers.written, 4).await;
    let plan =
        LoadFiles { records: Some(path), options: options(json!({"batch": 100})), ..LoadFiles::default() };
    let done = load_files(&r.client, "things", &plan, |_| ()).await.unwrap();
    more(&writers.written, 2).await;
    let last = writers.stop().await;
    assert!(done.adds_up && done.read == 7000, "{done:?}");
    let all = everything(&r, "things").await;
    let keys: std::collections::HashSet<String> =
        last.keys().cloned().chain((1000..8000).map(|i| format!("k{i}"))).collect();
    assert_eq!(all.len(), keys.len());
    for key in &keys {
        let n: u64 = key[1..].parse().unwrap();
        let is_loaded = n >= 1000 && all[key]["mark"] == json!(n);
        let is_written = last.get(key).is_some_and(|(count, _)| all[key]["count"] == json!(count));
        assert!(is_loaded || is_written, "{key}: {}", all[key]);
    }
    // What the database has is what the node answered from.
    let r = r.restart_after(|data| std::fs::remove_dir_all(data.join("segments")).unwrap()).await;
    assert_eq!(everything(&r, "things").await, all);
}

#[tokio::test(flavor = "multi_thread")]
async fn of_two_schema_changes_at_once_none_vanishes_that_was_acknowledged() {
    let r = plain().await;
    for round in 0..20 {
        let name = format!("c{round}");
        r.client.create_collection(&collection(&name)).await.unwrap();
        let change = |field: &'static str| {
            let (client, name) = (r.client.clone(), name.clone());
            tokio::spawn(async move {
                let mut fields = client.collection(&name).await.unwrap().fields;
                fields["properties"][field] = json!({"type": "string"});
                client.patch_collection(&name, &json!({"fields": fields})).await
            })
        };
        let (a, b) = (change("a"), change("b"));
        let (a, b) = (a.await.unwrap(), b.await.unwrap());
        let now = r.client.collection(&name).await.unwrap().fields;
        for (field, outcome) in [("a", a), ("b", b)] {
            let there = now["properties"][field].is_object();
            match outcome {
                Ok(_) => assert!(there, "round {round}: \"{field}\" was acknowledged and vanished"),
                Err(e) => {
                    assert!(!there);
                    let text = e.to_string();
                    assert!(text.contains("came between") || text.contains("would be lost"), "{text}");
                }
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_node_that_does_not_know_a_column_yet_keeps_no_stale_vector_in_it() {
    let a = plain().await;
    let b = a.second_node().await;
    for round in 0..6 {
        let name = format!("c{round}");
        a.client.create_collection(&collection(&name)).await.unwrap();
        a.client.write(&name, &[record("x", 1, 1)]).await.unwrap();
        // Node b knows the collection as it is.
        eventually("the collection on node b", async || b.client.collection(&name).await.is_ok()).await;
        let column = json!({"name": "w", "dimensions": 2, "metric": "dot"});
        a.client.add_column(&name, &column).await.unwrap();
        a.client.patch_record(&name, "x", &json!({"vectors": {"w": [3, 4]}})).await.unwrap();
        // At once, by the other node: the whole record is replaced.
        let replace = || b.client.write(&name, std::slice::from_ref(&*RECORD_Y));
        let outcome = match replace().await {
            Err(e) => {
                assert!(e.to_string().contains("changed meanwhile"), "{e}");
                replace().await
            }
            done => done,
        };
        outcome.unwrap();
        let path = format!("/api/collections/{name}/records/x?vectors=true");
        let is_replaced = async |node: &Running| {
            let (_, shown) = node.send("GET", &path, "", "").await;
            (&shown["fields"]["n"], &shown["vectors"]["w"]) == (&json!(2), &Value::Null)
        };
        assert!(is_replaced(&b).await, "it is there where it was written");
        eventually("the replaced record on node a", async || is_replaced(&a).await).await;
    }
}

static RECORD_Y: std::sync::LazyLock<Value> = std::sync::LazyLock::new(|| record("x", 2, 2));

#[tokio::test(flavor = "multi_thread")]
async fn indexes_and_serving_choices_made_on_one_node_are_followed_by_the_others() {
    let a = plain().await;
    filled(&a, "things", 400).await;
    let b = a.second_node().await;
    a.build("things", "g", "graph").await;
    let query = json!({"vector": [1, 1], "k": 1});
    let serves = async |node: &Running| node.client.search("things", &query).await.unwrap().via.index;
    assert_eq!(serves(&a).await.as_deref(), Some("g"));
    eventually("the index on node b", async || serves(&b).await.as_deref() == Some("g")).await;
    a.client.set_serving("things", "v", None).await.unwrap();
    eventually("the exact scan on node b", async || serves(&b).await.is_none()).await;
    // Dropped here, it is gone there, with its file.
    a.client.drop_index("things", "g").await.unwrap();
    eventually("the drop on node b", async || b.client.indexes("things").await.unwrap().is_empty()).await;
    assert_eq!(std::fs::read_dir(b.data.join("indexes")).unwrap().count(), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn hits_beside_writers_carry_the_fields_that_the_filter_saw() {
    let r = plain().await;
    filled(&r, "things", 300).await;
    let writers = writers(&r.client, "things", 2, 300, |count| (count % 2) as i64);
    more(&writers.written, 4).await;
    for i in 0..150 {
        let query = json!({"vector": [i % 2, 1], "k": 20, "filter": "n = 0"});
        let found = r.client.search("things", &query).await.unwrap();
        for hit in &found.hits {
            assert_eq!(hit.fields["n"], 0, "search {i}: {} does not match its filter", hit.key);
        }
    }
    writers.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_acknowledged_is_read_at_once_beside_other_writers_and_changes_of_columns() {
    let r = Arc::new(plain().await);
    filled(&r, "things", 100).await;
    let (stop, written) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
    let writing = (0..4).map(|w| {
        let (r, stop, written) = (r.clone(), stop.clone(), written.clone());
        tokio::spawn(async move {
            let mut n = 0;
            while !stop.load(Ordering::Relaxed) {
                n += 1;
                let mine: Vec<Value> = (0..50).map(|i| record(&format!("w{w}-{i}"), n, w)).collect();
                if let Err(e) = r.client.write("things", &mine).await {
                    assert!(e.to_string().contains("changed meanwhile"), "{e}");
                    continue;
                }
                let path = format!("/api/collections/things/records/w{w}-{}", n % 50);
                let (_, shown) = r.send("GET", &path, "", "").await;
                assert_eq!(shown["fields"]["n"], json!(n), "{shown}");
                written.fetch_add(1, Ordering::Relaxed);
            }
            n
        })
    });
    let writing: Vec<_> = writing.collect();
    for round in 0..6 {
        let column = json!({"name": format!("c{round}"), "dimensions": 2, "metric": "dot"});
        r.client.add_column("things", &column).await.unwrap();
        more(&written, 6).await;
    }
    stop.store(true, Ordering::Relaxed);
    for (w, writer) in writing.into_iter().enumerate() {
        writer.await.unwrap();
        let (_, shown) = r.send("GET", &format!("/api/collections/things/records/w{w}-7"), "", "").await;
        assert_eq!(shown["fields"]["count"], json!(w));
    }
    assert_eq!(everything(&r, "things").await.len(), 300);
}
