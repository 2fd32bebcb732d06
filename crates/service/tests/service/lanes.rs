//! More requests than the service takes, or than a key may make: refused at once, and nothing else suffers.

use axum::Json;
use axum::extract::Path;
use axum::routing::{get, post};
use serde_json::{Value, json};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use tokio::sync::Semaphore;
use zesty_client::Client;
use zesty_service::LaneSizes;
use zesty_testing::*;
use zesty_wire::{KeyChange, KeyRequest, Scope};

/// An encoder that gives every text the same vector, once it is let go on.
async fn slow_encoder(gate: Arc<Semaphore>, asked: Arc<AtomicUsize>) -> String {
    let about = async |Path(model): Path<String>| {
        Json(
            json!({"name": model, "platform": "test", "inputs": [{"name": "text", "datatype": "BYTES", "shape": [-1]}],
            "outputs": [{"name": "embedding", "datatype": "FP32", "shape": [-1, 4]}]}),
        )
    };
    let infer = async move |Json(request): Json<Value>| {
        let n = request["inputs"][0]["data"].as_array().map_or(1, Vec::len);
        // What it is known by is answered at once.
        let _go = match is_known_text(&request) {
            true => None,
            false => {
                asked.fetch_add(1, Ordering::SeqCst);
                Some(gate.acquire().await.unwrap())
            }
        };
        let data: Vec<f32> = (0..n).flat_map(|_| [1.0, 0.0, 0.0, 0.0]).collect();
        Json(json!({"model_name": "m", "outputs": [
            {"name": "embedding", "datatype": "FP32", "shape": [n, 4], "data": data}]}))
    };
    let router = axum::Router::new()
        .route("/v2/models/{model}", get(about))
        .route("/v2/models/{model}/infer", post(infer));
    serve(router).await
}

async fn tight(lanes: LaneSizes) -> Running {
    changed(|config| zesty_service::Config { lanes, ..config }).await
}

#[tokio::test(flavor = "multi_thread")]
async fn searches_beyond_what_the_node_takes_are_refused_at_once() {
    let (gate, asked) = (Arc::new(Semaphore::new(1)), Arc::new(AtomicUsize::new(0)));
    let r = tight(LaneSizes { turns: 1, searches_waiting: 0, encoding: 2, ..LaneSizes::of_cores(1) }).await;
    r.client.put_encoder("e", &slow_encoder(gate.clone(), asked.clone()).await, "m").await.unwrap();
    let columns = json!([{"name": "v", "dimensions": 4, "metric": "cosine", "encoder": "e"}]);
    r.client.create_collection(&json!({"name": "logs", "columns": columns})).await.unwrap();
    r.client.write("logs", &[json!({"key": "a", "vectors": {"v": [1, 0, 0, 0]}})]).await.unwrap();
    let held = gate.acquire().await.unwrap();
    let before = asked.load(Ordering::SeqCst);
    let text = async |client: Client| client.search("logs", &json!({"text": "fog"})).await;
    let mut waiting = Vec::new();
    // One after the other: until the first waits for its vector, it has the only place.
    for n in 1..=2 {
        waiting.push(tokio::spawn(text(r.client.clone())));
        eventually("it waits for the encoder", async || asked.load(Ordering::SeqCst) == before + n).await;
    }
    let answer = eventually_refused(&r).await;
    assert_eq!((answer.status().as_u16(), &answer.headers()["retry-after"]), (503, &"1".parse().unwrap()));
    // Who waits for the encoder holds up no search that does not.
    r.client.search("logs", &json!({"vector": [1, 0, 0, 0]})).await.unwrap();
    assert_eq!(reqwest::get(format!("{}/health/ready", r.url)).await.unwrap().status(), 200);
    drop(held);
    for search in waiting {
        assert_eq!(search.await.unwrap().unwrap().hits.len(), 1, "what was taken is answered");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_lane_of_searches_refuses_before_it_reads() {
    let r = tight(LaneSizes { turns: 0, searches_waiting: 0, ..LaneSizes::of_cores(1) }).await;
    r.client.create_collection(&json!({"name": "logs"})).await.unwrap();
    // Not even the key is looked at: a refusal has to cost next to nothing.
    let url = format!("{}/api/collections/logs/search", r.url);
    let answer = reqwest::Client::new().post(url).body("x".repeat(100_000)).send().await.unwrap();
    assert_eq!((answer.status().as_u16(), &answer.headers()["retry-after"]), (503, &"1".parse().unwrap()));
    assert_eq!(&answer.headers()["content-type"], "application/problem+json");
    let id = answer.headers()["x-request-id"].to_str().unwrap().to_owned();
    let problem: Value = answer.json().await.unwrap();
    assert_eq!(
        (&problem["request_id"], problem["type"].as_str()),
        (&json!(id), Some("urn:zesty-lantern:problem:overloaded"))
    );
    let metrics =
        r.client.request("GET".parse().unwrap(), "/metrics").send().await.unwrap().text().await.unwrap();
    assert!(metrics.contains("zesty_refusals_total{problem=\"overloaded\"} 1"), "{metrics}");
    assert!(metrics.contains("zesty_lane_refused{name=\"searches\"} 1"), "{metrics}");
    assert!(metrics.ends_with("# EOF\n") && metrics.matches("# EOF").count() == 1);
    r.client.collections().await.unwrap();
}

/// The refusal of one text search too many.
async fn eventually_refused(r: &Running) -> reqwest::Response {
    loop {
        let asked = r.client.request("POST".parse().unwrap(), "/api/collections/logs/search");
        let asked = asked.json(&json!({"text": "fog"})).timeout(std::time::Duration::from_millis(200));
        // As long as it is not refused, it waits for the encoder, as the others do, and is given up.
        if let Ok(answer) = asked.send().await {
            return answer;
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_is_held_to_its_rate_and_its_bytes() {
    let r = plain().await;
    r.client.create_collection(&json!({"name": "logs"})).await.unwrap();
    let request = KeyRequest {
        name: "app".into(),
        scopes: vec![Scope::Search, Scope::Write],
        requests_per_s: Some(2),
        body_bytes: Some(2000),
        ..KeyRequest::default()
    };
    let app = Client::new(&r.url, &r.client.make_key(&request).await.unwrap().key);
    let mut refusals = 0;
    for _ in 0..5 {
        let answer = app.request("GET".parse().unwrap(), "/api/collections").send().await.unwrap();
        if answer.status() == 429 {
            assert_eq!(&answer.headers()["retry-after"], "1");
            refusals += 1;
        }
    }
    assert!(refusals >= 1, "five requests at once are more than two a second");
    r.client.collections().await.unwrap();
    r.client.change_key("app", &KeyChange { requests_per_s: Some(0), ..KeyChange::default() }).await.unwrap();
    for _ in 0..5 {
        app.collections().await.unwrap();
    }
    let large = json!({"key": "a", "fields": {}, "vectors": {}, "pad": "x".repeat(3000)});
    assert_eq!(refused(app.write("logs", &[large]).await).status, 413);
    // A stream does not say how long it is.
    let lines: Vec<Result<String, std::io::Error>> =
        (0..100).map(|i| Ok(format!("{{\"key\": \"k{i:04}\"}}{}\n", " ".repeat(40)))).collect();
    let body = reqwest::Body::wrap_stream(futures::stream::iter(lines));
    let sent = app.request("POST".parse().unwrap(), "/api/collections/logs/records");
    let sent = sent.header("content-type", "application/jsonl").body(body).send().await.unwrap();
    assert_eq!(sent.status(), 413);
    app.write("logs", &[json!({"key": "a"})]).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn every_refusal_is_problem_details_and_stands_in_the_document() {
    let r = plain().await;
    r.client.create_collection(&json!({"name": "logs"})).await.unwrap();
    let document = r.openapi().await;
    let logs = "/api/collections/logs";
    let cases = [
        ("GET", format!("{logs}/records?limit=abc"), "", 422),
        ("GET", format!("{logs}/records?limt=3"), "", 422),
        ("GET", "/api/collections?page=2".into(), "", 422),
        ("GET", format!("{logs}/records/%ff"), "", 404),
        ("GET", "/api/jobs/seven".into(), "", 404),
        ("GET", "/api/jobs/99999999999999999999".into(), "", 404),
        ("PUT", "/api/collections".into(), "{}", 405),
        ("TRACE", "/api/collections".into(), "", 405),
        ("DELETE", "/health/live".into(), "", 405),
        ("POST", "/sign-in/x".into(), "", 405),
        ("POST", "/api/collections".into(), "{", 400),
        ("POST", "/api/collections".into(), "[]", 422),
        ("POST", format!("{logs}/search"), "\u{0}", 400),
        ("GET", "/api/nothing".into(), "", 404),
        ("GET", "/api/collections/nothing".into(), "", 404),
        ("DELETE", "/api/keys/nothing".into(), "", 404),
    ];
    for (method, path, body, status) in cases {
        let sent =
            r.client.request(method.parse().unwrap(), &path).header("content-type", "application/json");
        let answer = sent.body(body).send().await.unwrap();
        let media = answer.headers().get("content-type").map(|m| m.to_str().unwrap().to_owned());
        assert_eq!(
            (answer.status().as_u16(), media.as_deref()),
            (status, Some("application/problem+json")),
            "{method} {path}"
        );
        if status == 405 {
            assert!(answer.headers().contains_key("allow"), "{method} {path}");
        }
        let problem: Value = answer.json().await.unwrap();
        assert!(problem["request_id"].as_str().is_some_and(|id| !id.is_empty()), "{problem}");
    }
    let plain =
        r.client.request("POST".parse().unwrap(), "/api/collections").body("{}").send().await.unwrap();
    assert_eq!(plain.status(), 415);
    // Whatever a route answers stands in the document.
    for (path, methods) in document["paths"].as_object().unwrap() {
        for (method, about) in methods.as_object().unwrap() {
            let responses = about["responses"].as_object().unwrap();
            let wanted: &[&str] =
                if path.starts_with("/health/") { &["200"] } else { &["401", "403", "429", "500", "503"] };
            for status in wanted {
                assert!(responses.contains_key(*status), "{method} {path} {status}");
            }
            for (status, about) in responses.iter().filter(|(s, _)| s.starts_with('4')) {
                assert!(about["content"]["application/problem+json"].is_object(), "{method} {path} {status}");
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_node_takes_so_many_jobs_and_refuses_more() {
    let r = with_encoder().await;
    r.logbook(3000).await;
    let mut started = Vec::new();
    let refusal = loop {
        match r.client.build_index("logbook", &json!({"recipe": "graph(links=64, build=2000)"})).await {
            Ok(job) => started.push(job.id),
            Err(e) => break refused::<()>(Err(e)),
        }
        assert!(started.len() <= 16, "more than 16 jobs run");
    };
    assert!(refusal.word() == "overloaded" && refusal.detail.contains("16 jobs run"), "{}", refusal.detail);
    let left = r.client.indexes("logbook").await.unwrap().len();
    assert_eq!(left, started.len(), "what was not begun is not described either");
    for job in started {
        r.client.cancel_job(job).await.unwrap();
    }
}
