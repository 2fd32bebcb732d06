//! Keys that are bound to a filter: one tenant sees its own records, and learns nothing of others.

use serde_json::{Value, json};
use zesty_client::Client;
use zesty_testing::*;
use zesty_wire::{KeyRequest, Scope};

async fn service() -> Running {
    let r = plain().await;
    let fields = json!({"type": "object", "properties": {
        "tenant": {"type": "string"}, "kind": {"type": "string"}, "year": {"type": "integer"},
        "place": {"type": "string", "refersTo": "places"}}});
    let places = json!({"type": "object", "properties": {"tenant": {"type": "string"}}});
    r.client.create_collection(&json!({"name": "places", "fields": places})).await.unwrap();
    let columns = json!([{"name": "meaning", "dimensions": 4, "metric": "cosine"}]);
    r.client.create_collection(&json!({"name": "logs", "fields": fields, "columns": columns})).await.unwrap();
    let near = json!({
        "search": {"examples": {"parameter": "like"}, "k": {"parameter": "n"}, "filter": "kind = :kind OR year > 0"},
        "parameters": {"like": {"type": "string"}, "n": {"type": "integer", "maximum": 100, "default": 10},
            "kind": {"type": "string", "optional": true}}});
    r.client.save_search("logs", "near", &near).await.unwrap();
    r.client.set_live("logs", "near", 1).await.unwrap();
    r
}

async fn tenant(r: &Running, name: &str) -> Client {
    let request = KeyRequest {
        name: format!("tenant-{name}"),
        scopes: vec![Scope::Search, Scope::Read, Scope::Write],
        collections: Some(vec!["logs".into(), "places".into()]),
        filter: Some(format!("tenant = '{name}'")),
        values: json!({"tenant": name}).as_object().unwrap().clone(),
        key_prefix: Some(format!("{name}:")),
        ..KeyRequest::default()
    };
    Client::new(&r.url, &r.client.make_key(&request).await.unwrap().key)
}

fn records(prefix: &str, n: usize) -> Vec<Value> {
    let record = |i: usize| {
        let (x, kind) = (i as f32, if i.is_multiple_of(2) { "lamp" } else { "fog" });
        json!({"key": format!("{prefix}:{i}"), "fields": {"kind": kind, "year": 1900 + i,
            "place": format!("{prefix}:p")}, "vectors": {"meaning": [1.0, x.sin(), x.cos(), 0.5]}})
    };
    (0..n).map(record).collect()
}

/// What tells nothing but how busy the service is, or how often anybody has written.
fn without_clocks(mut value: Value) -> Value {
    fn clean(value: &mut Value) {
        match value {
            Value::Object(members) => {
                for name in ["timing", "revision", "request_id", "up_s", "search_us"] {
                    members.shift_remove(name);
                }
                members.values_mut().for_each(clean);
            }
            Value::Array(items) => items.iter_mut().for_each(clean),
            _ => {}
        }
    }
    clean(&mut value);
    value
}

/// Every way to ask that a bound key has, and many that it has not.
fn questions() -> Vec<(&'static str, String, Value)> {
    let at = |path: &str| format!("/api/collections/logs{path}");
    let search = |body: Value| ("POST", at("/search"), body);
    let mut all = vec![
        search(json!({"vector": [1, 0.2, 0.3, 0.5]})),
        search(json!({"vector": [1, 0.2, 0.3, 0.5], "k": 100})),
        search(json!({"vector": [1, 0.2, 0.3, 0.5], "k": 5, "filter": "kind = 'lamp'", "follow": ["place"]})),
        search(json!({"vector": [1, 0.2, 0.3, 0.5], "filter": "tenant = 'b'"})),
        search(json!({"vector": [1, 0.2, 0.3, 0.5], "filter": "TRUE OR tenant = 'b'", "k": 50})),
        search(json!({"vector": [1, 0.2, 0.3, 0.5], "filter": "NOT tenant = 'a'"})),
        search(
            json!({"vector": [1, 0.2, 0.3, 0.5], "exact": true, "at_most": {"field": "tenant", "hits": 3}}),
        ),
        search(json!({"vector": [1, 0.2, 0.3, 0.5], "explain": true})),
        search(
            json!({"vector": [1, 0.2, 0.3, 0.5], "leave_out": ["b:1", "a:1", "nobody"], "score_at_least": 0.99}),
        ),
        search(json!({"vector": [1, 0.2, 0.3, 0.5], "sort": "-year", "skip": 3})),
        search(json!({"examples": "a:1"})),
        search(json!({"examples": "b:1"})),
        search(json!({"examples": ["a:1", "b:1"]})),
        search(json!({"examples": "a:1", "counterexamples": "b:2"})),
        search(json!({"examples": "c:1"})),
        ("POST", at("/searches"), json!({"searches": [{"examples": "a:2"}, {"vector": [1, 0, 0, 0]}]})),
        ("POST", at("/filter"), json!({"filter": "kind = 'lamp'"})),
        ("POST", at("/filter"), json!({"filter": "tenant = 'b' OR TRUE"})),
        ("GET", at(""), json!(null)),
        ("GET", "/api/collections".into(), json!(null)),
        ("GET", "/api/service".into(), json!(null)),
        ("GET", "/api/key".into(), json!(null)),
        ("GET", "/api/jobs".into(), json!(null)),
        ("GET", "/api/keys".into(), json!(null)),
        ("GET", "/api/audit".into(), json!(null)),
        ("GET", "/api/files".into(), json!(null)),
    ];
    for path in [
        "/records",
        "/records?limit=3&sort=year",
        "/records?filter=tenant%3D%27b%27",
        "/records/a:1",
        "/records/a:1?vectors=true",
        "/records/b:1",
        "/records/b:99999",
        "/records/a:99999",
        "/fields",
        "/fields?limit=50",
        "/fields?filter=kind%3D%27fog%27",
        "/export",
        "/export?format=csv&vectors=true",
        "/export?format=npy",
        "/export?format=keys&filter=TRUE",
        "/costs",
        "/indexes",
        "/loads",
        "/sweeps",
        "/targets",
        "/query-sets",
        "/comparisons",
        "/advice",
        "/watch",
        "/queryables",
        "/saved-searches",
        "/saved-searches/near",
        "/saved-searches/near/traffic",
        "/saved-searches/near/search?like=a:1&n=50",
        "/saved-searches/near/search?like=b:1",
        "/saved-searches/near/search?like=a:1&kind=rare-b",
        "/saved-searches/near/versions/1/search?like=a:1",
    ] {
        all.push(("GET", at(path), json!(null)));
    }
    all
}

async fn answers(r: &Running, who: &Client) -> Vec<(String, u16, Value)> {
    let mut all = Vec::new();
    for (method, path, body) in questions() {
        let mut request = who.request(method.parse().unwrap(), &path);
        if !body.is_null() {
            request = request.json(&body);
        }
        let response = request.send().await.unwrap();
        let status = response.status().as_u16();
        assert!(status < 500, "{path}: {status} at {}", r.url);
        let length = response.headers().get("x-record-count").cloned();
        let text = response.bytes().await.unwrap();
        let value = serde_json::from_slice(&text).unwrap_or_else(|_| json!(text.to_vec()));
        let value = json!([without_clocks(value), length.map(|n| n.to_str().unwrap().to_owned())]);
        all.push((format!("{method} {path} {body}"), status, value));
    }
    all
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_tenant_is_told_does_not_depend_on_other_tenants() {
    let r = service().await;
    let (a, b) = (tenant(&r, "a").await, tenant(&r, "b").await);
    a.write("places", &[json!({"key": "a:p", "fields": {}})]).await.unwrap();
    a.write("logs", &records("a", 40)).await.unwrap();
    let before = answers(&r, &a).await;
    let ok = before.iter().filter(|(_, status, _)| *status == 200).count();
    assert!(ok > 25, "{ok} are answered");

    b.write("places", &[json!({"key": "b:p", "fields": {}})]).await.unwrap();
    b.write("logs", &records("b", 900)).await.unwrap();
    r.client.write("logs", &[json!({"key": "c:1", "fields": {"tenant": "c"}})]).await.unwrap();
    b.delete_record("logs", "b:7").await.unwrap();
    for ((question, status, told), after) in before.iter().zip(answers(&r, &a).await) {
        assert_eq!((*status, told), (after.1, &after.2), "{question}");
    }
    let all = format!("{:?}", answers(&r, &a).await);
    assert!(!all.contains("b:2") || all.matches("b:2").count() <= 4, "only the questions themselves name it");

    // The same with an index that serves: the answers stay inside.
    r.build("logs", "g", "graph").await;
    r.client.set_serving("logs", "meaning", Some(&choice("g", json!({"beam": 64})))).await.unwrap();
    for (question, status, told) in answers(&r, &a).await {
        let hits = told[0]["hits"].as_array().into_iter().flatten();
        for hit in hits {
            assert!(hit["key"].as_str().unwrap().starts_with("a:"), "{question} {status}: {hit}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_tenant_writes_its_own_records_and_touches_no_others() {
    let r = service().await;
    let (a, b) = (tenant(&r, "a").await, tenant(&r, "b").await);
    a.write("logs", &records("a", 10)).await.unwrap();
    b.write("logs", &records("b", 10)).await.unwrap();
    let stored = a.record("logs", "a:1", false).await.unwrap();
    assert_eq!(stored.fields["tenant"], "a", "the fixed value is set");

    // Under another's key, and with another's value.
    let no = refused(a.write("logs", &[json!({"key": "b:1", "fields": {}})]).await);
    assert_eq!((no.status, no.pointer.as_deref()), (403, Some("/records/0/key")));
    let no = refused(a.write("logs", &[json!({"key": "a:1", "fields": {"tenant": "b"}})]).await);
    assert_eq!((no.status, no.pointer.as_deref()), (403, Some("/records/0/fields/tenant")));
    for patch in [json!({"fields": {"tenant": "b"}}), json!({"fields": {"tenant": null}})] {
        let no = refused(a.patch_record("logs", "a:1", &patch).await);
        assert_eq!((no.status, no.pointer.as_deref()), (403, Some("/fields/tenant")), "{patch}");
    }
    assert_eq!(refused(a.patch_record("logs", "b:1", &json!({"fields": {"year": 1}})).await).status, 403);
    assert_eq!(refused(a.delete_record("logs", "b:1").await).status, 403);
    let no = refused(a.delete_records("logs", &json!({"keys": ["a:1", "b:1"]})).await);
    assert_eq!((no.status, no.pointer.as_deref()), (403, Some("/keys/1")));

    // By filter, only its own are meant.
    let changed = a
        .patch_records("logs", &json!({"filter": "TRUE", "patch": {"fields": {"year": 1850}}}))
        .await
        .unwrap();
    assert_eq!((changed.matched, changed.changed), (10, 10));
    let deleted = a.delete_records("logs", &json!({"filter": "tenant = 'b' OR year = 1850"})).await.unwrap();
    assert_eq!(deleted.deleted, 10);
    assert_eq!(r.client.collection("logs").await.unwrap().n_records, 10);
    assert_eq!(b.record("logs", "b:1", false).await.unwrap().fields["year"], 1901);

    // A record that a manager has put under its prefix, and not into its filter, is out of its reach.
    r.client.write("logs", &[json!({"key": "a:x", "fields": {"tenant": "b"}})]).await.unwrap();
    assert_eq!(refused(a.record("logs", "a:x", false).await).status, 404);
    assert_eq!(refused(a.write("logs", &[json!({"key": "a:x", "fields": {}})]).await).status, 403);
    assert_eq!(refused(a.patch_record("logs", "a:x", &json!({"fields": {"year": 1}})).await).status, 404);
    assert_eq!(refused(a.delete_record("logs", "a:x").await).status, 404);
    assert_eq!(a.delete_records("logs", &json!({"keys": ["a:x"]})).await.unwrap().matched, 0);
    assert_eq!(b.record("logs", "a:x", false).await.unwrap().fields["tenant"], "b");

    // What it writes twice it replaces; streams are stamped too.
    let lines =
        "{\"key\": \"a:1\", \"fields\": {\"year\": 1}}\n{\"key\": \"a:1\", \"fields\": {\"year\": 2}}\n";
    let sent = a.request("POST".parse().unwrap(), "/api/collections/logs/records");
    let sent = sent.header("content-type", "application/jsonl").body(lines).send().await.unwrap();
    assert_eq!(sent.status(), 200);
    let now = a.record("logs", "a:1", false).await.unwrap();
    assert_eq!((&now.fields["year"], &now.fields["tenant"]), (&json!(2), &json!("a")));
    a.delete_record("logs", "a:1").await.unwrap();
    assert_eq!(refused(a.record("logs", "a:1", false).await).status, 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_filter_that_no_longer_fits_shuts_the_key_out() {
    let r = service().await;
    let a = tenant(&r, "a").await;
    a.write("logs", &records("a", 3)).await.unwrap();
    // The collection is made again, with other fields.
    r.client.drop_collection("logs").await.unwrap();
    let columns = json!([{"name": "meaning", "dimensions": 4, "metric": "cosine"}]);
    let fields = json!({"type": "object", "properties": {"kind": {"type": "string"}}});
    r.client.create_collection(&json!({"name": "logs", "fields": fields, "columns": columns})).await.unwrap();
    let no = refused(a.search("logs", &json!({"vector": [1, 0, 0, 0]})).await);
    assert_eq!(no.status, 403);
    assert!(!no.detail.contains("tenant ="), "{}", no.detail);
    assert_eq!(a.collections().await.unwrap().len(), 1, "places still fits");
    assert!(a.own_key().await.unwrap().sees.iter().any(|s| s.collection == "logs" && s.trouble.is_some()));
    let no = refused(a.write("logs", &[json!({"key": "a:1"})]).await);
    assert_eq!(no.status, 422, "the fixed value fits no field: {}", no.detail);
}
