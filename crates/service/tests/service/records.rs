//! Records written, read, browsed, changed, exported and deleted.

use crate::points::{point, two_dimensional};
use serde_json::{Value, json};
use zesty_testing::*;

#[tokio::test(flavor = "multi_thread")]
async fn records_are_written_replaced_read_browsed_and_deleted() {
    let r = plain().await;
    let c = &r.client;
    c.create_collection(&two_dimensional("points")).await.unwrap();
    let first = c.write("points", &[point("a", 1, 0.0, 0.0), point("b/ü?", 2, 1.0, 0.0)]).await.unwrap();
    assert_eq!((first.read, first.new, first.replaced, first.revision), (2, 2, 0, 1));
    let second = c.write("points", &[point("a", 3, 5.0, 5.0), point("c", 4, 0.5, 0.0)]).await.unwrap();
    assert_eq!((second.new, second.replaced, second.revision), (1, 1, 2));

    let a = c.record("points", "a", true).await.unwrap();
    assert_eq!((a.fields["n"].as_i64(), a.revision), (Some(3), 2));
    assert_eq!(json!(a.vectors), json!({"place": [5.0, 5.0]}));
    assert_eq!(c.record("points", "b/ü?", false).await.unwrap().fields["n"], 2);

    let page = c.records("points", None, 2, None, None).await.unwrap();
    let keys: Vec<_> = page.records.iter().map(|r| r.key.as_str()).collect();
    assert_eq!((keys, page.next.as_deref()), (vec!["a", "b/ü?"], Some("b/ü?")));
    let page = c.records("points", page.next.as_deref(), 2, None, None).await.unwrap();
    assert_eq!((page.records[0].key.as_str(), page.next), ("c", None));

    let near = json!({"vector": [0.1, 0.0], "k": 3});
    let found = c.search("points", &near).await.unwrap();
    assert_eq!(found.hits.iter().map(|h| h.key.as_str()).collect::<Vec<_>>(), ["c", "b/ü?", "a"]);
    assert!((found.hits[0].distance - 0.4).abs() < 1e-6 && (found.hits[0].score - 1.0 / 1.4).abs() < 1e-6);
    c.delete_record("points", "c").await.unwrap();
    assert_eq!(c.search("points", &near).await.unwrap().hits[0].key, "b/ü?");
    assert_eq!(c.collection("points").await.unwrap().n_records, 2);
    c.drop_collection("points").await.unwrap();
    assert_eq!(refused(c.collection("points").await).word(), "unknown-name");
    // The name is free again, and nothing of the old records shows.
    c.create_collection(&two_dimensional("points")).await.unwrap();
    assert_eq!(c.records("points", None, 10, None, None).await.unwrap().records.len(), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn json_lines_are_streamed_and_a_wrong_line_keeps_what_stood_before_it() {
    let r = plain().await;
    r.client.create_collection(&two_dimensional("points")).await.unwrap();
    let lines: Vec<String> =
        (0..1800).map(|i| point(&format!("k{i}"), i, i as f64, 0.0).to_string()).collect();
    let path = "/api/collections/points/records";
    let (status, done) = r.send("POST", path, "application/jsonl", lines.join("\n")).await;
    assert_eq!((status, &done["read"], &done["new"]), (200, &json!(1800), &json!(1800)));

    let mut broken = lines.clone();
    broken[1234] = point("bad", 1, 1.0, 2.0).to_string().replace("2.0]", "2.0, 3.0]");
    let (status, problem) = r.send("POST", path, "application/jsonl", broken.join("\n") + "\n").await;
    assert_eq!(status, 422);
    let detail = problem["detail"].as_str().unwrap();
    assert!(detail.contains("line 1235, record \"bad\", column \"place\": has 3 dimensions"), "{detail}");
    assert_eq!(problem["committed"]["unchanged"], 1000, "two batches of 500 stand");
    let (status, problem) = r.send("POST", path, "application/jsonl", "{\"key\": \"x\"}\n{oops\n").await;
    assert_eq!((status, &problem["line"]), (400, &json!(2)));
    assert_eq!(problem["committed"]["read"], 0, "a batch is committed whole or not at all");
}

#[tokio::test(flavor = "multi_thread")]
async fn edits_merge_keep_vectors_and_can_insist_on_what_they_saw() {
    let r = with_encoder().await;
    r.logbook(300).await;
    let c = &r.client;
    let key = c.records("logbook", None, 1, None, None).await.unwrap().records[0].key.clone();
    let before = c.record("logbook", &key, true).await.unwrap();
    let patch = json!({"fields": {"severity": 5, "keeper": null}});
    let after = c.patch_record("logbook", &key, &patch).await.unwrap();
    assert_eq!((&after.fields["severity"], after.fields.get("keeper")), (&json!(5), None));
    let stored = c.record("logbook", &key, true).await.unwrap();
    assert_eq!(json!(stored.vectors), json!(before.vectors), "the note is the same, so is its vector");
    assert_eq!((stored.revision, stored.fields.len()), (after.revision, after.fields.len()));
    assert_eq!(c.collection("logbook").await.unwrap().n_records, 300);
    // Another note is another vector; the same edit again changes nothing.
    let note = json!({"fields": {"note": "Planted the rhubarb; the goat has other plans."}});
    let edited = c.patch_record("logbook", &key, &note).await.unwrap();
    assert_ne!(json!(c.record("logbook", &key, true).await.unwrap().vectors), json!(before.vectors));
    assert_eq!(c.patch_record("logbook", &key, &note).await.unwrap().revision, edited.revision);

    let path = format!("/api/collections/logbook/records/{key}");
    let send = |tag: String| {
        let request = c.request("PATCH".parse().unwrap(), &path).header("if-match", tag);
        request.json(&json!({"fields": {"severity": 1}})).send()
    };
    let refused_edit = send(format!("\"{}\"", before.revision)).await.unwrap();
    assert_eq!(refused_edit.status(), 412);
    let good = send(format!("\"{}\"", edited.revision)).await.unwrap();
    assert_eq!(good.status(), 200);
    assert_ne!(good.headers()["etag"], format!("\"{}\"", edited.revision));
    assert_eq!(send("nonsense".into()).await.unwrap().status(), 422);
    let p = refused(c.patch_record("logbook", &key, &json!({"fields": {"severity": "high"}})).await);
    assert_eq!(p.word(), "wrong-field");
    assert_eq!(refused(c.patch_record("logbook", "nobody", &note).await).word(), "unknown-name");
}

#[tokio::test(flavor = "multi_thread")]
async fn records_are_browsed_counted_exported_and_deleted_by_filter() {
    let r = with_encoder().await;
    r.logbook(1500).await;
    let c = &r.client;
    let book: Vec<Value> = read_logbook(1500);
    let stormy = |e: &&Value| e["kind"] == "weather" && e["severity"].as_i64() >= Some(4);
    let filter = "kind = 'weather' AND severity >= 4";
    let mut keys: Vec<&str> = book.iter().filter(stormy).map(|e| e["key"].as_str().unwrap()).collect();
    keys.sort();
    assert!(keys.len() > 20);

    let mut walked = Vec::new();
    let mut after: Option<String> = None;
    loop {
        let page = c.records("logbook", after.as_deref(), 7, Some(filter), None).await.unwrap();
        walked.extend(page.records.into_iter().map(|r| r.key));
        after = page.next;
        if after.is_none() {
            break;
        }
    }
    assert_eq!(walked, keys);

    let counted = c.fields("logbook", Some(filter), 3).await.unwrap();
    assert_eq!(counted.n_records as usize, keys.len());
    let field = |name: &str| counted.fields.iter().find(|f| f.name == name).unwrap();
    assert_eq!(field("kind").values[0].count, keys.len());
    let severity = field("severity");
    assert_eq!((severity.n_missing, severity.n_distinct), (0, 2));
    assert_eq!(severity.histogram.as_ref().unwrap().counts.iter().sum::<usize>(), keys.len());
    let missing = book.iter().filter(stormy).filter(|e| e.get("wind_force").is_none()).count();
    assert_eq!(field("wind_force").n_missing, missing);

    // What is exported can be loaded into a collection of the same make, vectors and all.
    let mut lines = Vec::new();
    let (n, _) = c
        .export("logbook", &[("filter", filter.to_owned()), ("vectors", "true".into())], |b| {
            lines.extend_from_slice(b);
            Ok(())
        })
        .await
        .unwrap();
    assert_eq!(n as usize, keys.len());
    let fields = c.collection("logbook").await.unwrap().fields;
    let input = json!({"name": "copy", "fields": fields, "columns": [{"name": "meaning", "dimensions": 96}]});
    c.create_collection(&input).await.unwrap();
    let (status, done) = r.send("POST", "/api/collections/copy/records", "application/jsonl", lines).await;
    assert_eq!((status, done["new"].as_u64()), (200, Some(n)), "{done}");
    for key in &keys[..5] {
        let (a, b) =
            (c.record("logbook", key, true).await.unwrap(), c.record("copy", key, true).await.unwrap());
        assert_eq!((&*a.fields, &json!(a.vectors)), (&*b.fields, &json!(b.vectors)));
    }

    let dry = json!({"filter": filter, "dry_run": true});
    let counted = c.delete_records("logbook", &dry).await.unwrap();
    assert_eq!((counted.matched, counted.deleted), (keys.len(), 0));
    let p = refused(c.delete_records("logbook", &json!({"filter": filter, "expected": 3})).await);
    assert_eq!((p.status, p.word()), (412, "edit-conflict"));
    assert_eq!(refused(c.delete_records("logbook", &json!({"filter": " "})).await).word(), "invalid-filter");
    assert_eq!(refused(c.delete_records("logbook", &json!({})).await).word(), "wrong-shape");
    let gone = c.delete_records("logbook", &json!({"filter": filter, "expected": keys.len()})).await.unwrap();
    assert_eq!(gone.deleted, keys.len());
    assert_eq!(c.collection("logbook").await.unwrap().n_records, 1500 - keys.len());
    assert!(c.records("logbook", None, 10, Some(filter), None).await.unwrap().records.is_empty());
    let two = json!({"keys": [book[0]["key"], "nobody"]});
    assert!(c.delete_records("logbook", &two).await.unwrap().deleted <= 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn bad_records_can_be_set_aside_and_a_later_line_of_one_key_wins() {
    let r = plain().await;
    r.client.create_collection(&two_dimensional("points")).await.unwrap();
    let records = [
        point("a", 1, 0.0, 0.0),
        json!({"key": "b", "vectors": {"place": [1, 2, 3]}}),
        json!({"key": "c", "fields": {"n": "x"}}),
        json!({"kex": "d"}),
        point("a", 2, 9.0, 9.0),
        point("e", 5, 1.0, 1.0),
    ];
    let done = r.client.write_good("points", &records).await.unwrap();
    assert_eq!((done.read, done.new, done.rejected.len()), (6, 2, 4));
    assert_eq!(done.rejected.iter().map(|r| r.at).collect::<Vec<_>>(), [1, 2, 3, 4]);
    assert!(done.rejected[0].detail.contains("has 3 dimensions") && done.rejected[2].word == "wrong-shape");
    assert_eq!(r.client.record("points", "a", false).await.unwrap().fields["n"], 1);

    let lines =
        [point("s", 1, 0.0, 0.0), point("t", 2, 0.0, 0.0), point("s", 3, 4.0, 4.0)].map(|p| p.to_string());
    let (status, done) =
        r.send("POST", "/api/collections/points/records", "application/jsonl", lines.join("\n")).await;
    assert_eq!((status, &done["new"], &done["replaced"]), (200, &json!(2), &json!(1)), "{done}");
    assert_eq!(r.client.record("points", "s", false).await.unwrap().fields["n"], 3);
    let found = r.client.search("points", &json!({"vector": [4, 4], "k": 1})).await.unwrap();
    assert_eq!(found.hits[0].key, "s");
}
