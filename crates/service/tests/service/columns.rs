//! Vector columns and the encoders behind them.

use crate::files::*;
use serde_json::{Value, json};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use zesty_client::Error;
use zesty_files::Layout;
use zesty_testing::*;

/// An encoder that is down for a while, then refuses texts that say so.
async fn moody(failures: usize) -> (String, Arc<AtomicUsize>) {
    use axum::routing::{get, post};
    let asked = Arc::new(AtomicUsize::new(0));
    let counted = asked.clone();
    let infer = move |axum::Json(request): axum::Json<Value>| async move {
        if !is_known_text(&request) && counted.fetch_add(1, Ordering::SeqCst) < failures {
            return Err((axum::http::StatusCode::SERVICE_UNAVAILABLE, "busy"));
        }
        let texts = request["inputs"][0]["data"].as_array().unwrap().clone();
        if texts.iter().any(|t| t.as_str().unwrap().contains("unspeakable")) {
            return Err((axum::http::StatusCode::BAD_REQUEST, "I do not read this"));
        }
        let data: Vec<f32> = texts.iter().flat_map(|t| [t.as_str().unwrap().len() as f32, 1.0]).collect();
        Ok(axum::Json(
            json!({"outputs": [{"name": "v", "datatype": "FP32", "shape": [texts.len(), 2], "data": data}]}),
        ))
    };
    let about = || async {
        axum::Json(json!({"name": "m", "inputs": [{"name": "text", "datatype": "BYTES", "shape": [-1]}],
            "outputs": [{"name": "v", "datatype": "FP32", "shape": [-1, 2]}]}))
    };
    let router =
        axum::Router::new().route("/v2/models/m", get(about)).route("/v2/models/m/infer", post(infer));
    (serve(router).await, asked)
}

#[tokio::test(flavor = "multi_thread")]
async fn what_the_encoder_drops_is_tried_again_and_what_it_refuses_is_kept_with_its_reason() {
    let r = plain().await;
    let c = &r.client;
    let folder = tempfile::tempdir().unwrap();
    let (url, asked) = moody(2).await;
    c.put_encoder("moody", &url, "m").await.unwrap();
    let input = json!({"name": "points", "fields": {"properties": {"note": {"type": "string"}}},
        "columns": [{"name": "v", "encoder": "moody", "template": "{note}"}]});
    c.create_collection(&input).await.unwrap();
    let text: String = (0..300)
        .map(|i| match i {
            7 | 250 => format!("{{\"key\": \"k{i}\", \"note\": \"unspeakable {i}\"}}\n"),
            9 => format!("{{\"key\": \"k{i}\"}}\n"),
            _ => format!("{{\"key\": \"k{i}\", \"note\": \"fog {i}\"}}\n"),
        })
        .collect();
    let done = load(c, &of(file(folder.path(), "a.jsonl", text))).await.unwrap();
    assert_eq!((counts(&done), done.unencoded), ([300, 300, 0, 0, 0], 2));
    assert!(asked.load(Ordering::SeqCst) > 3, "busy twice, then halved down to the refused ones");
    let about = c.collection("points").await.unwrap();
    assert_eq!((about.n_records, about.columns[0].n_vectors), (300, 297));
    let left = c.unencoded("points", "v", 10).await.unwrap();
    assert_eq!(left.n_without_vector, 3);
    assert_eq!(left.records.iter().map(|u| u.key.as_str()).collect::<Vec<_>>(), ["k7", "k250"]);
    assert!(
        left.records[0].reason.contains("answered 400 Bad Request; the service"),
        "{}",
        left.records[0].reason
    );
    // Once its text is another, a record is encoded, and the reason is gone.
    c.patch_record("points", "k7", &json!({"fields": {"note": "calm"}})).await.unwrap();
    let left = c.unencoded("points", "v", 10).await.unwrap();
    assert_eq!((left.n_without_vector, left.records.len()), (2, 1));
    r.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn models_are_changed_without_downtime() {
    let r = with_encoder().await;
    let c = &r.client;
    r.logbook(2000).await;
    let index = c.build_index("logbook", &json!({"recipe": "graph", "name": "old"})).await.unwrap();
    c.watch_job(index.id, |_| ()).await.unwrap();
    let text = json!({"text": "gale at the shutters", "k": 5});
    let before = c.search("logbook", &text).await.unwrap();
    let key = before.hits[0].key.clone();
    let etag = c.record("logbook", &key, false).await.unwrap().revision;

    // Add, with a record that has no text; fill.
    c.write("logbook", &[json!({"key": "mute", "fields": {"year": 1950}})]).await.unwrap();
    let other =
        if c.collection("logbook").await.unwrap().columns[0].encoder.as_deref() == Some("lampwright-small") {
            "lampwright-large"
        } else {
            "lampwright-small"
        };
    let column = json!({"name": "second", "encoder": other, "template": "{note}"});
    let about = c.add_column("logbook", &column).await.unwrap();
    assert_eq!((about.columns.len(), about.columns[1].n_vectors), (2, 0));
    let empty = c.search("logbook", &json!({"text": "gale", "column": "second"})).await.unwrap();
    assert!(empty.hits.is_empty());
    let job = c.backfill("logbook", "second").await.unwrap();
    let job = c.watch_job(job.id, |_| ()).await.unwrap();
    assert_eq!(job.result.unwrap(), json!({"filled": 2000, "unencoded": 0, "without_text": 1}));
    assert_eq!(c.record("logbook", &key, false).await.unwrap().revision, etag, "records are as they were");
    // Compare: the old column answers as before, from its index, which still covers everything.
    let again = c.search("logbook", &text).await.unwrap();
    assert_eq!(keys(&again), keys(&before));
    let old = &c.indexes("logbook").await.unwrap()[0];
    assert_eq!((old.n_uncovered, old.n_dead, old.serving), (0, 0, true));
    let second = c
        .search("logbook", &json!({"text": "gale at the shutters", "k": 5, "column": "second"}))
        .await
        .unwrap();
    assert_eq!(second.hits.len(), 5);

    // The new column keeps its vectors over a restart.
    let r = r.restart().await;
    let c = &r.client;
    let restarted = c
        .search("logbook", &json!({"text": "gale at the shutters", "k": 5, "column": "second"}))
        .await
        .unwrap();
    assert_eq!(keys(&restarted), keys(&second));

    // Switch, then drop the old one with its index.
    let refused = c.drop_column("logbook", &before.via.column).await.unwrap_err();
    assert!(refused.to_string().contains("choose another default column first"), "{refused}");
    let about = c.patch_collection("logbook", &json!({"default_column": "second"})).await.unwrap();
    assert_eq!(about.default_column.as_deref(), Some("second"));
    assert_eq!(keys(&c.search("logbook", &text).await.unwrap()), keys(&second));
    let about = c.drop_column("logbook", &before.via.column).await.unwrap();
    assert_eq!((about.columns.len(), about.indexes.len()), (1, 0));
    let refused = c.drop_column("logbook", "second").await.unwrap_err();
    assert!(refused.to_string().contains("the only vector column"), "{refused}");
    r.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn vectors_of_another_encoder_are_refused_wherever_they_are_said_to_be() {
    let r = plain().await;
    let c = &r.client;
    let folder = tempfile::tempdir().unwrap();
    let (url, _) = moody(0).await;
    c.put_encoder("moody", &url, "m").await.unwrap();
    let mut input = points();
    input["columns"] = json!([{"name": "v", "encoder": "moody"}]);
    c.create_collection(&input).await.unwrap();
    let said = |e: Error| (e.problem().unwrap().word().to_owned(), e.to_string());
    let (word, text) =
        said(c.search("points", &json!({"vector": [1, 2], "encoder": "other"})).await.unwrap_err());
    assert_eq!(word, "wrong-encoder");
    assert!(
        text.contains("holds vectors of encoder \"moody\", and these are said to come from \"other\""),
        "{text}"
    );
    let batch = json!({"records": [{"key": "a", "vectors": {"v": [1, 2]}}], "encoder": "other"});
    let (status, problem) = r
        .send("POST", "/api/collections/points/records", "application/json", batch.to_string().into_bytes())
        .await;
    assert_eq!((status, &problem["pointer"]), (422, &json!("/encoder")), "{problem}");
    let lines = file(folder.path(), "a.jsonl", line(1));
    assert!(
        load_refused(c, &with(lines.clone(), json!({"encoder": "other"})))
            .await
            .contains("said to come from \"other\"")
    );
    // A file that says so itself is believed.
    let one = [record("k1", json!({"n": 1}), Some(vec![1.0, 2.0]))];
    let parquet = |encoder| file(folder.path(), "a.parquet", written(Layout::Parquet, &one, Some(encoder)));
    assert!(load_refused(c, &of(parquet("other"))).await.contains("said to come from \"other\""));
    assert_eq!(counts(&load(c, &of(parquet("moody"))).await.unwrap()), [1, 1, 0, 0, 0]);
    assert_eq!(counts(&load(c, &with(lines, json!({"encoder": "moody"}))).await.unwrap())[0], 1);
    r.stop().await;
}
