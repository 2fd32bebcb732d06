//! Further nodes on the same database, and encoders that fail.

use crate::points::{point, two_dimensional};
use serde_json::json;
use zesty_testing::*;

#[tokio::test(flavor = "multi_thread")]
async fn encoders_that_fail_are_told_apart_and_nothing_is_written() {
    use axum::{
        Json, Router,
        routing::{get, post},
    };
    let r = plain().await;
    let c = &r.client;
    let dead = format!("http://127.0.0.1:{}", zesty_local::mariadb::free_port().unwrap());
    let p = refused(c.put_encoder("dead", &dead, "m").await);
    assert!(p.word() == "encoder-failed" && p.detail.contains("not reachable"), "{}", p.detail);

    // An encoder that says 3 dimensions, shows them for the known text, and answers with 2 from then on.
    let meta =
        json!({"inputs": [{"datatype": "BYTES"}], "outputs": [{"datatype": "FP32", "shape": [-1, 3]}]});
    let output =
        |data: &[f64]| json!({"outputs": [{"datatype": "FP32", "shape": [1, data.len()], "data": data}]});
    let (full, short) = (output(&[1.0, 2.0, 3.0]), output(&[1.0, 2.0]));
    let asked = std::sync::atomic::AtomicUsize::new(0);
    let answer = move || match asked.fetch_add(1, std::sync::atomic::Ordering::Relaxed) {
        0 => Json(full.clone()),
        _ => Json(short.clone()),
    };
    let answer = std::sync::Arc::new(answer);
    let liar = serve(
        Router::new()
            .route("/v2/models/m", get(move || async move { Json(meta) }))
            .route("/v2/models/m/infer", post(move || async move { answer() })),
    )
    .await;
    assert_eq!(c.put_encoder("liar", &liar, "m").await.unwrap().dimensions, 3);
    // It cannot move to where something else answers.
    let moved = refused(c.put_encoder("liar", &liar, "m").await);
    assert!(moved.detail.contains("2 dimensions"), "{}", moved.detail);
    let fields = json!({"properties": {"note": {"type": "string"}}});
    let input = json!({"name": "notes", "fields": fields,
        "columns": [{"name": "v", "encoder": "liar", "template": "{note}"}]});
    c.create_collection(&input).await.unwrap();
    let p = refused(c.write("notes", &[json!({"key": "a", "fields": {"note": "fog"}})]).await);
    assert!(
        p.word() == "encoder-failed" && p.detail.contains("2 dimensions, and the column takes 3"),
        "{}",
        p.detail
    );
    let p = refused(c.search("notes", &json!({"text": "fog"})).await);
    assert_eq!(p.status, 502);
    assert_eq!(c.collection("notes").await.unwrap().n_records, 0);
    // A record that brings its vector needs no encoder; one without text gets none.
    let own = json!({"key": "b", "fields": {"note": "own"}, "vectors": {"v": [1, 0, 0]}});
    c.write("notes", &[own, json!({"key": "c"})]).await.unwrap();
    let about = c.collection("notes").await.unwrap();
    assert_eq!((about.n_records, about.columns[0].n_vectors), (2, 1));
    assert_eq!(refused(c.remove_encoder("liar").await).word(), "still-used");
    // The dimensions of a column must be the encoder's.
    let input = json!({"name": "other", "columns": [{"name": "v", "encoder": "liar", "dimensions": 4}]});
    let p = refused(c.create_collection(&input).await);
    assert_eq!((&p.rest["expected"], &p.rest["got"]), (&json!(3), &json!(4)));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_node_on_the_same_database_follows_and_the_first_sees_its_writes() {
    let first = plain().await;
    first.client.create_collection(&two_dimensional("points")).await.unwrap();
    first.client.write("points", &[point("a", 1, 0.0, 0.0)]).await.unwrap();
    let second = first.second_node().await;
    assert_eq!(second.client.collection("points").await.unwrap().n_records, 1);
    // Writes that alternate between nodes: each applies what the other did before its own.
    for i in 0..6 {
        let node = if i % 2 == 0 { &second } else { &first };
        let written =
            node.client.write("points", &[point(&format!("n{i}"), i, i as f64, 1.0)]).await.unwrap();
        assert_eq!(written.revision, i as u64 + 2);
        let at = json!({"vector": [i, 1], "k": 1});
        let found = node.client.search("points", &at).await.unwrap();
        assert_eq!((found.hits[0].key.as_str(), found.revision), (format!("n{i}").as_str(), i as u64 + 2));
    }
    second.client.delete_record("points", "a").await.unwrap();
    let follows = async || first.client.collection("points").await.unwrap().revision == 8;
    eventually("the first node follows", follows).await;
    let found = first.client.search("points", &json!({"vector": [0, 0], "k": 10})).await.unwrap();
    assert!(found.hits.len() == 6 && found.hits.iter().all(|h| h.key != "a"));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_encoder_moves_only_to_where_a_known_text_gives_the_known_vector() {
    let r = with_encoder().await;
    let c = &r.client;
    let known = c.encoders().await.unwrap().into_iter().find(|e| e.name == "lampwright-small").unwrap();
    let moved = c.put_encoder(&known.name, &known.url, &known.model).await.unwrap();
    assert_eq!(moved.dimensions, known.dimensions);
    // Another model under the same name, with the same dimensions.
    let n = known.dimensions as usize;
    let meta =
        json!({"inputs": [{"datatype": "BYTES"}], "outputs": [{"datatype": "FP32", "shape": [-1, n]}]});
    let ones = json!({"outputs": [{"datatype": "FP32", "shape": [1, n], "data": vec![1.0; n]}]});
    let path = format!("/v2/models/{}", known.model);
    let other = axum::Router::new()
        .route(&path, axum::routing::get(move || async move { axum::Json(meta) }))
        .route(&format!("{path}/infer"), axum::routing::post(move || async move { axum::Json(ones) }));
    let other = serve(other).await;
    let problem = refused(c.put_encoder(&known.name, &other, &known.model).await);
    assert!(
        problem.word() == "wrong-encoder" && problem.detail.contains("of a known text"),
        "{}",
        problem.detail
    );
    let still = c.encoders().await.unwrap().into_iter().find(|e| e.name == known.name).unwrap();
    assert_eq!(still.url, known.url);
}
