//! Requests under an Idempotency-Key: sent again, they are done once.

use serde_json::{Value, json};
use std::sync::Arc;
use zesty_client::Client;
use zesty_testing::*;
use zesty_wire::{KeyRequest, Scope};

async fn send(c: &Client, path: &str, name: &str, body: &Value) -> (u16, Value) {
    let request = c.request(reqwest::Method::POST, path).header("Idempotency-Key", name).json(body);
    let response = request.send().await.unwrap();
    (response.status().as_u16(), response.json().await.unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_request_that_is_sent_again_is_done_once_and_answered_the_same() {
    let r = with_encoder().await;
    r.logbook(300).await;
    let c = &r.client;
    r.build("logbook", "g", "graph(links=8, build=60)").await;
    // A sweep has no name of its own: without the key there would be two.
    let (path, sweep) = ("/api/collections/logbook/sweeps", json!({"indexes": ["g"]}));
    let first = send(c, path, "sweep-1", &sweep).await;
    assert_eq!(first.0, 202, "{}", first.1);
    let job = first.1["id"].as_i64().unwrap();
    r.finish(job).await;
    let again = send(c, path, "sweep-1", &sweep).await;
    assert_eq!((again.0, &again.1["id"]), (202, &json!(job)));
    assert_eq!(c.jobs().await.unwrap().iter().filter(|j| j.kind == "sweep").count(), 1);

    let records = "/api/collections/logbook/records";
    let batch = json!({"records": [{"key": "new", "fields": {"kind": "lamp"}}]});
    let written = send(c, records, "w", &batch).await;
    assert_eq!((written.0, &written.1["new"]), (200, &json!(1)));
    c.delete_record("logbook", "new").await.unwrap();
    assert_eq!(send(c, records, "w", &batch).await, written, "it is not done again");
    assert_eq!(refused(c.record("logbook", "new", false).await).status, 404);

    // The same name for anything else is a mistake of the caller.
    let other = send(c, records, "w", &json!({"records": [{"key": "other"}]})).await;
    assert_eq!(other.0, 422, "{}", other.1);
    assert_eq!(send(c, path, "w", &sweep).await.0, 422);
    for name in ["", &"x".repeat(256)] {
        assert_eq!(send(c, records, name, &batch).await.0, 422, "{name}");
    }
    let wrong_method = c.request(reqwest::Method::TRACE, records).header("Idempotency-Key", "w").send().await;
    assert_eq!(wrong_method.unwrap().status(), 405);
    // What was refused did nothing: mended, it is done.
    let wrong = json!({"records": [{"key": "x", "fields": {"nothing": 1}}]});
    assert_eq!(send(c, records, "mended", &wrong).await.0, 422);
    assert_eq!(send(c, records, "mended", &batch).await.0, 200);
    // Another caller's names are its own.
    let key = KeyRequest { name: "w".into(), scopes: vec![Scope::Write], ..KeyRequest::default() };
    let writer = c.with_key(&c.make_key(&key).await.unwrap().key);
    assert_eq!(send(&writer, records, "sweep-1", &batch).await.0, 200);
    // A secret is shown once.
    let make = json!({"name": "made", "scopes": ["search"]});
    let made = send(c, "/api/keys", "made", &make).await;
    assert!(made.0 == 201 || made.0 == 200, "{}", made.1);
    let again = send(c, "/api/keys", "made", &make).await;
    assert!(again.0 == 409 && again.1["detail"].as_str().unwrap().contains("shown once"), "{}", again.1);

    // The answer outlives the service; on another node too.
    let node = r.second_node().await;
    assert_eq!(send(&node.client, records, "w", &batch).await, written);
    node.stop().await;
    let r = r.restart().await;
    assert_eq!(send(&r.client, records, "w", &batch).await, written);
}

#[tokio::test(flavor = "multi_thread")]
async fn of_many_that_come_at_once_one_is_done() {
    let r = plain().await;
    r.client.create_collection(&json!({"name": "notes"})).await.unwrap();
    let c = Arc::new(r.client.clone());
    let sent = (0..12).map(|_| {
        let c = c.clone();
        tokio::spawn(async move {
            let body = json!({"records": [{"key": "a"}]});
            send(&c, "/api/collections/notes/records", "one", &body).await
        })
    });
    let mut n_new = 0;
    for sent in sent.collect::<Vec<_>>() {
        let (status, answer) = sent.await.unwrap();
        assert!(status == 200 || status == 409, "{answer}");
        n_new += u64::from(status == 200);
        if status == 200 {
            assert_eq!(answer["new"], json!(1), "each is told what the first one did");
        }
    }
    assert!(n_new >= 1);
    assert_eq!(r.client.collection("notes").await.unwrap().revision, 1);
}
