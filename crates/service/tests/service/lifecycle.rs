//! Collections dropped and restored, renamed, swapped and cloned, while they are used.

use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use zesty_client::Client;
use zesty_testing::*;
use zesty_wire::{CloneRequest, KeyRequest, Scope, SwapRequest};

async fn collection(c: &Client, name: &str) {
    let about = json!({"name": name, "fields": {"properties": {"of": {"type": "string"}, "n": {"type": "integer"}}},
        "columns": [{"name": "v", "dimensions": 2, "metric": "euclidean"}]});
    c.create_collection(&about).await.unwrap();
}

fn record(of: &str, i: usize) -> Value {
    json!({"key": format!("k{i}"), "fields": {"of": of, "n": i}, "vectors": {"v": [i as f64, 0.5]}})
}

async fn fill(c: &Client, name: &str, n: usize) {
    let all: Vec<Value> = (0..n).map(|i| record(name, i)).collect();
    c.write(name, &all).await.unwrap();
}

fn swap(with: &str) -> SwapRequest {
    SwapRequest { with: with.into(), anyway: false }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dropped_collection_comes_back_whole_and_takes_no_writes_meanwhile() {
    let r = plain().await;
    let c = &r.client;
    collection(c, "notes").await;
    fill(c, "notes", 400).await;
    r.build("notes", "g", "graph").await;
    c.set_serving("notes", "v", Some(&choice("g", json!({"beam": 64})))).await.unwrap();
    let before = c.search("notes", &json!({"vector": [17.2, 0.5]})).await.unwrap();
    let other = r.second_node().await;
    let dropped = c.drop_collection("notes").await.unwrap();
    assert_eq!((dropped.name.as_str(), dropped.dropped_by.as_str()), ("notes", "first"));
    assert!(c.collections().await.unwrap().is_empty());
    // A node that has not heard of it yet cannot write to it either.
    let late = other.client.write("notes", &[record("late", 1)]).await;
    assert_eq!(refused(late).status, 404);
    eventually("the other node drops it", async || other.client.collections().await.unwrap().is_empty())
        .await;

    // Its name is free, and then taken.
    collection(c, "notes").await;
    let taken = refused(c.restore_collection(dropped.id, None).await);
    assert!(taken.status == 409 && taken.detail.contains("another name"), "{}", taken.detail);
    let back = c.restore_collection(dropped.id, Some("old-notes")).await.unwrap();
    assert_eq!((back.name.as_str(), back.n_records, back.revision), ("old-notes", 400, before.revision));
    let after = async |c: &Client| c.search("old-notes", &json!({"vector": [17.2, 0.5]})).await;
    eventually("its index is built again", async || {
        after(c)
            .await
            .is_ok_and(|found| found.via.index.as_deref() == Some("g") && found.via.plan.unindexed == 0)
    })
    .await;
    let keys =
        |found: &zesty_wire::SearchAnswer| found.hits.iter().map(|h| h.key.clone()).collect::<Vec<_>>();
    assert_eq!(keys(&after(c).await.unwrap()), keys(&before));
    eventually("the other node has it", async || {
        after(&other.client).await.is_ok_and(|f| keys(&f) == keys(&before))
    })
    .await;
    c.write("old-notes", &[record("more", 900)]).await.unwrap();

    let again = c.drop_collection("old-notes").await.unwrap();
    let r = r.restart().await;
    let listed = r.client.dropped_collections().await.unwrap();
    assert_eq!(listed.iter().map(|d| d.id).collect::<Vec<_>>(), [again.id]);
    r.client.purge_collection(again.id).await.unwrap();
    assert!(r.client.dropped_collections().await.unwrap().is_empty());
    assert_eq!(refused(r.client.restore_collection(again.id, None).await).status, 404);
    assert_eq!(r.client.collection("notes").await.unwrap().n_records, 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_names_a_collection_goes_with_a_new_name() {
    let r = plain().await;
    let c = &r.client;
    collection(c, "ports").await;
    fill(c, "ports", 5).await;
    let ships = json!({"name": "ships", "fields": {"properties": {"port": {"type": "string", "refersTo": "ports"}}},
        "columns": [{"name": "v", "dimensions": 2}]});
    c.create_collection(&ships).await.unwrap();
    c.write("ships", &[json!({"key": "s", "fields": {"port": "k3"}, "vectors": {"v": [1, 0]}})])
        .await
        .unwrap();
    let request = KeyRequest {
        name: "reader".into(),
        scopes: vec![Scope::Search, Scope::Read],
        collections: Some(vec!["ports".into(), "ships".into()]),
        ..KeyRequest::default()
    };
    let reader = Client::new(&r.url, &c.make_key(&request).await.unwrap().key);
    reader.collection("ports").await.unwrap();
    let other = r.second_node().await;
    assert_eq!(refused(c.rename_collection("ports", "ships").await).word(), "name-taken");
    assert_eq!(refused(c.rename_collection("ports", "No Name").await).word(), "invalid-name");
    assert_eq!(c.rename_collection("ports", "harbours").await.unwrap().name, "harbours");
    assert_eq!(refused(c.collection("ports").await).status, 404);
    let followed = async |c: &Client| {
        let search = json!({"vector": [1, 0], "follow": ["port"]});
        let found = c.search("ships", &search).await.ok()?;
        let to = found.hits[0].follow.as_ref()?.get("port")?.as_ref()?.clone();
        Some((to.collection, to.key))
    };
    let wanted = Some(("harbours".to_owned(), "k3".to_owned()));
    assert_eq!(followed(c).await, wanted, "the reference follows");
    eventually("on the other node too", async || followed(&other.client).await == wanted).await;
    eventually("the key is good for the new name", async || reader.collection("harbours").await.is_ok())
        .await;
    c.write("harbours", &[record("x", 77)]).await.unwrap();
    eventually("the other node follows", async || {
        other.client.collection("harbours").await.is_ok_and(|h| h.n_records == 6)
    })
    .await;
    // The old name is free for another one.
    collection(&other.client, "ports").await;
    assert_eq!(other.client.collection("ports").await.unwrap().n_records, 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_swap_loses_no_request_and_mixes_no_answer() {
    let r = plain().await;
    for name in ["live", "next"] {
        collection(&r.client, name).await;
        fill(&r.client, name, 300).await;
    }
    let other = r.second_node().await;
    let stop = Arc::new(AtomicBool::new(false));
    let searching = [&r, &other].map(|node| {
        let (c, stop) = (node.client.clone(), stop.clone());
        tokio::spawn(async move {
            let mut seen: BTreeMap<String, usize> = BTreeMap::new();
            while !stop.load(Ordering::Relaxed) {
                let found = c.search("live", &json!({"vector": [100, 0.5], "k": 20})).await.unwrap();
                let of: Vec<&str> = found.hits.iter().map(|h| h.fields["of"].as_str().unwrap()).collect();
                assert!(of.len() == 20 && of.iter().all(|o| o == &of[0]), "{of:?}");
                *seen.entry(of[0].to_owned()).or_default() += 1;
            }
            seen
        })
    });
    for _ in 0..7 {
        let both = r.client.swap_collections("live", &swap("next")).await.unwrap();
        assert_eq!(both.iter().map(|c| c.name.as_str()).collect::<Vec<_>>(), ["live", "next"]);
        let first = async |c: &Client| c.record("live", "k1", false).await.unwrap().fields["of"].clone();
        let now = first(&r.client).await;
        eventually("the other node follows", async || first(&other.client).await == now).await;
        // A write goes where the name leads.
        r.client.write("live", &[record(now.as_str().unwrap(), 1)]).await.unwrap();
    }
    stop.store(true, Ordering::Relaxed);
    for seen in searching {
        let seen = seen.await.unwrap();
        assert_eq!(seen.len(), 2, "{seen:?}");
    }
    let near = json!({"search": {"vector": [1, 0]}});
    r.client.save_search("live", "near", &near).await.unwrap();
    r.client.set_live("live", "near", 1).await.unwrap();
    let problem = refused(r.client.swap_collections("live", &swap("next")).await);
    assert!(
        problem.status == 409 && problem.detail.contains("no live saved search near"),
        "{}",
        problem.detail
    );
    r.client.swap_collections("live", &SwapRequest { with: "next".into(), anyway: true }).await.unwrap();
    assert_eq!(refused(r.client.swap_collections("live", &swap("live")).await).status, 422);
    assert_eq!(refused(r.client.swap_collections("live", &swap("none")).await).status, 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clone_holds_what_its_revision_says_while_others_write() {
    let r = plain().await;
    let c = r.client.clone();
    collection(&c, "notes").await;
    fill(&c, "notes", 3000).await;
    r.build("notes", "g", "graph").await;
    c.set_serving("notes", "v", Some(&choice("g", json!({"beam": 64})))).await.unwrap();
    c.save_search("notes", "near", &json!({"search": {"vector": [1, 0]}})).await.unwrap();
    c.set_live("notes", "near", 1).await.unwrap();
    let stop = Arc::new(AtomicBool::new(false));
    let writing = {
        let (c, stop) = (c.clone(), stop.clone());
        tokio::spawn(async move {
            // What each revision did.
            let mut log: Vec<(u64, String, Option<usize>)> = Vec::new();
            for i in 0.. {
                if stop.load(Ordering::Relaxed) {
                    break;
                }
                let (at, n) = ((i * 37) % 3100, 10_000 + i);
                let key = format!("k{at}");
                if i % 5 == 4 {
                    let _ = c.delete_record("notes", &key).await;
                    log.push((c.collection("notes").await.unwrap().revision, key, None));
                } else {
                    let mut new = record("notes", at);
                    new["fields"]["n"] = json!(n);
                    new["vectors"]["v"] = json!([n, 0.5]);
                    log.push((c.write("notes", &[new]).await.unwrap().revision, key, Some(n)));
                }
            }
            log
        })
    };
    let request = CloneRequest { name: "copy".into(), without_indexes: false };
    let job = c.clone_collection("notes", &request).await.unwrap();
    assert_eq!(refused(c.clone_collection("notes", &request).await).word(), "name-taken");
    let ended = r.finish(job.id).await;
    assert_eq!(ended.state, "done", "{ended:?}");
    stop.store(true, Ordering::Relaxed);
    let log = writing.await.unwrap();
    let about = c.collection("copy").await.unwrap();
    let mut model: BTreeMap<String, usize> = (0..3000).map(|i| (format!("k{i}"), i)).collect();
    for (_, key, n) in log.iter().filter(|(revision, ..)| *revision <= about.revision) {
        match n {
            Some(n) => drop(model.insert(key.clone(), *n)),
            None => drop(model.remove(key)),
        }
    }
    assert!(
        log.iter().any(|(revision, ..)| *revision > about.revision),
        "writers were not held up to the end"
    );
    assert_eq!(about.n_records, model.len());
    let path = "/api/collections/copy/export?vectors=true";
    let exported = c.request(reqwest::Method::GET, path).send().await.unwrap().text().await.unwrap();
    let mut held = BTreeMap::new();
    for line in exported.lines() {
        let record: Value = serde_json::from_str(line).unwrap();
        let n = record["fields"]["n"].as_u64().unwrap() as usize;
        assert_eq!(record["vectors"]["v"][0].as_f64(), Some(n as f64), "{record}");
        held.insert(record["key"].as_str().unwrap().to_owned(), n);
    }
    assert_eq!(held, model);
    assert_eq!(c.ask_saved("copy", "near", None, &[]).await.unwrap().hits.len(), 10);
    eventually("its index is built", async || {
        let found = c.search("copy", &json!({"vector": [17.2, 0.5]})).await.unwrap();
        found.via.index.as_deref() == Some("g")
    })
    .await;
    // From here on they are two.
    c.write("copy", &[record("copy", 5000)]).await.unwrap();
    assert_eq!(refused(c.record("notes", "k5000", false).await).status, 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clone_that_a_crash_or_a_change_broke_off_leaves_nothing() {
    let r = plain().await;
    let c = &r.client;
    collection(c, "notes").await;
    fill(c, "notes", 2000).await;
    let request = CloneRequest { name: "copy".into(), without_indexes: true };
    let job = c.clone_collection("notes", &request).await.unwrap();
    c.cancel_job(job.id).await.unwrap();
    let state = c.watch_job(job.id, |_| ()).await.unwrap().state;
    if state == "cancelled" {
        assert_eq!(refused(c.collection("copy").await).status, 404);
        let job = c.clone_collection("notes", &request).await.unwrap();
        r.finish(job.id).await;
    }
    assert_eq!(c.collection("copy").await.unwrap().n_records, 2000);
    c.clone_collection("notes", &CloneRequest { name: "again".into(), ..request.clone() }).await.unwrap();
    let r = r.restart().await;
    // Finished before the stop, or not there at all.
    if let Ok(again) = r.client.collection("again").await {
        assert_eq!(again.n_records, 2000);
    } else {
        let request = CloneRequest { name: "again".into(), ..request };
        let job = r.client.clone_collection("notes", &request).await.unwrap();
        assert_eq!(r.finish(job.id).await.state, "done");
    }
}
