//! A setup looked at from end to end: what is not well is found, with what to do about it.

use serde_json::json;
use zesty_client::Client;
use zesty_testing::*;
use zesty_wire::{Finding, KeyRequest, Scope, Weight};

async fn findings(r: &Running) -> Vec<Finding> {
    r.client.examination().await.unwrap().findings
}

fn about<'f>(all: &'f [Finding], what: &str) -> Vec<(Weight, &'f str)> {
    all.iter().filter(|f| f.about == what).map(|f| (f.weight, f.found.as_str())).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_not_well_is_found_and_comes_with_a_remedy() {
    let r = with_encoder().await;
    r.logbook(300).await;
    let c = &r.client;
    let well = findings(&r).await;
    let wrong: Vec<_> = well.iter().filter(|f| f.weight == Weight::Wrong).collect();
    assert!(wrong.is_empty(), "{wrong:?}");
    assert_eq!(about(&well, "encoder lampwright-small")[0].0, Weight::Good);
    assert!(about(&well, "database")[0].1.contains("MariaDB"), "{well:?}");
    assert!(well.iter().filter(|f| f.weight != Weight::Good).all(|f| f.remedy.is_some()), "{well:?}");

    // A record without a vector, a saved search without its index, and an encoder that has become another.
    c.write("logbook", &[json!({"key": "mute", "fields": {"kind": "lamp"}})]).await.unwrap();
    r.build("logbook", "g", "graph").await;
    let saved = json!({"search": {"text": "fog", "index": "g"}});
    c.save_search("logbook", "near", &saved).await.unwrap();
    c.set_live("logbook", "near", 1).await.unwrap();
    c.drop_index("logbook", "g").await.unwrap();
    const N: usize = 96;
    let meta =
        json!({"inputs": [{"datatype": "BYTES"}], "outputs": [{"datatype": "FP32", "shape": [-1, N]}]});
    let answer = |i: usize| {
        let data: Vec<f64> = (0..N).map(|d| if d == i { 1.0 } else { 0.0 }).collect();
        json!({"outputs": [{"datatype": "FP32", "shape": [1, N], "data": data}]})
    };
    let asked = std::sync::Arc::new(std::sync::atomic::AtomicUsize::new(0));
    let infer = move || {
        let n = asked.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        async move { axum::Json(answer(n)) }
    };
    let changing = axum::Router::new()
        .route("/v2/models/m", axum::routing::get(move || async move { axum::Json(meta) }))
        .route("/v2/models/m/infer", axum::routing::post(infer));
    c.put_encoder("changing", &serve(changing).await, "m").await.unwrap();
    let all = findings(&r).await;
    let logbook = about(&all, "collection logbook");
    assert!(logbook.iter().any(|(_, found)| found.contains("1 records have no vector")), "{logbook:?}");
    let of_saved = about(&all, "collection logbook, saved search near");
    assert!(of_saved[0].0 == Weight::Wrong && of_saved[0].1.contains("no index \"g\""), "{of_saved:?}");
    let of_encoder = about(&all, "encoder changing");
    assert!(of_encoder[0].0 == Weight::Wrong && of_encoder[0].1.contains("another vector"), "{of_encoder:?}");

    // A key over one collection cannot look at the service.
    let request = KeyRequest {
        name: "one".into(),
        scopes: vec![Scope::Read],
        collections: Some(vec!["logbook".into()]),
        ..KeyRequest::default()
    };
    let one = Client::new(&r.url, &c.make_key(&request).await.unwrap().key);
    assert_eq!(refused(one.examination().await).status, 403);
}

#[tokio::test(flavor = "multi_thread")]
async fn every_metric_that_an_alert_or_the_dashboard_asks_of_is_served() {
    let r = with_encoder().await;
    r.logbook(300).await;
    r.build("logbook", "g", "graph").await;
    r.client.set_serving("logbook", "meaning", Some(&choice("g", json!({"beam": 50})))).await.unwrap();
    let recall = Some(zesty_wire::RecallCheck { budget: 0.5, floor: None });
    r.client.set_watch("logbook", &zesty_wire::Watch { recall, capture: None }).await.unwrap();
    refused(r.client.collection("none").await);
    let read = |file| std::fs::read_to_string(demo(file)).unwrap();
    let rules = read("../deploy/alerts.yml") + &read("../deploy/consoles/zesty.html");
    let names =
        rules.split(|c: char| !(c.is_ascii_lowercase() || c == '_')).filter(|w| w.starts_with("zesty_"));
    // Served while a job runs.
    let names = names.filter(|w| *w != "zesty_jobs_running");
    let names: std::collections::BTreeSet<&str> = names.collect();
    assert!(names.len() >= 15, "{names:?}");
    let mut left = names.clone();
    eventually("all are served", async || {
        r.client.search("logbook", &json!({"text": "fog bell"})).await.unwrap();
        let metrics = r.send("GET", "/metrics", "text/plain", "").await.1;
        left = names.iter().copied().filter(|n| !metrics.as_str().unwrap().contains(n)).collect();
        left.is_empty()
    })
    .await;
}
