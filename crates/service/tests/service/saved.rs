//! Saved searches: versions, values, who may ask them, and how they fare.

use serde_json::{Value, json};
use zesty_client::Client;
use zesty_testing::*;
use zesty_wire::{KeyChange, KeyRequest, RecallCheck, Scope, SearchAnswer, Watch};

/// 300 points on a line, in three zones.
async fn line() -> Running {
    let r = plain().await;
    let points = json!({"name": "points", "fields": {"properties": {"n": {"type": "integer"},
        "zone": {"type": "string"}, "seen": {"type": "string", "format": "date"}}},
        "columns": [{"name": "place", "dimensions": 2, "metric": "euclidean"}]});
    r.client.create_collection(&points).await.unwrap();
    let zones = ["north", "mid", "south"];
    let point = |i: usize| {
        json!({"key": format!("p{i}"), "vectors": {"place": [i as f64, 0.0]},
            "fields": {"n": i, "zone": zones[i % 3], "seen": format!("2001-01-{:02}", i % 28 + 1)}})
    };
    r.client.write("points", &(0..300).map(point).collect::<Vec<_>>()).await.unwrap();
    r
}

fn near() -> Value {
    json!({
        "description": "Points near a place",
        "search": {"vector": {"parameter": "at"}, "k": {"parameter": "k"}, "fields": ["n"],
            "filter": "zone IN (:zones) AND n >= :least AND seen < :before"},
        "parameters": {
            "at": {"type": "array", "items": {"type": "number"}, "maxItems": 2},
            "k": {"type": "integer", "minimum": 1, "maximum": 20, "default": 3},
            "zones": {"type": "array", "items": {"type": "string"}, "optional": true},
            "least": {"type": "integer", "optional": true},
            "before": {"type": "string", "format": "date", "optional": true},
        },
    })
}

fn keys(found: &SearchAnswer) -> Vec<&str> {
    found.hits.iter().map(|h| h.key.as_str()).collect()
}

async fn ask(c: &Client, values: &[(&str, &str)]) -> Result<SearchAnswer, zesty_client::Error> {
    let values: Vec<_> = values.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect();
    c.ask_saved("points", "near", None, &values).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_version_answers_once_it_is_live_and_an_older_one_goes_back() {
    let r = line().await;
    let c = &r.client;
    let saved = c.save_search("points", "near", &near()).await.unwrap();
    assert_eq!(
        (saved.live, saved.versions[0].version, saved.versions[0].made_by.as_str()),
        (None, 1, "first")
    );
    assert_eq!(refused(ask(c, &[("at", "100.2,0")]).await).status, 404);
    let tried = c.ask_saved("points", "near", Some(1), &[("at".into(), "100.2,0".into())]).await.unwrap();
    assert_eq!(keys(&tried), ["p100", "p101", "p99"]);
    c.set_live("points", "near", 1).await.unwrap();

    // Both ways to ask, and the search that they stand for.
    let values = [
        ("at", "100.2,0"),
        ("k", "4"),
        ("zones", "north"),
        ("zones", "south"),
        ("least", "98"),
        ("before", "2001-01-20"),
    ];
    let by_query = ask(c, &values).await.unwrap();
    let body =
        json!({"at": [100.2, 0], "k": 4, "zones": ["north", "south"], "least": 98, "before": "2001-01-20"});
    let path = "/api/collections/points/saved-searches/near/search";
    let (status, by_body) = r.send("POST", path, "application/json", body.to_string()).await;
    assert_eq!(status, 200, "{by_body}");
    let plain = json!({"vector": [100.2, 0], "k": 4,
        "filter": "zone IN ('north', 'south') AND n >= 98 AND seen < DATE('2001-01-20')"});
    let plain = c.search("points", &plain).await.unwrap();
    assert_eq!(keys(&by_query), keys(&plain));
    let listed: Vec<&str> =
        by_body["hits"].as_array().unwrap().iter().map(|h| h["key"].as_str().unwrap()).collect();
    assert_eq!(listed, keys(&plain));
    assert_eq!(by_query.saved.as_ref().map(|s| (s.name.as_str(), s.version)), Some(("near", 1)));

    // A second version, on all nodes and after a restart; then back.
    let mut second = near();
    second["search"]["filter"] = json!("n >= :least AND zone IN (:zones) AND seen < :before AND n <> 100");
    assert_eq!(c.save_search("points", "near", &second).await.unwrap().versions.len(), 2);
    c.save_search("points", "near", &second).await.unwrap();
    let listed = c.saved_searches("points").await.unwrap();
    let versions: Vec<i32> = listed[0].versions.iter().map(|v| v.version).collect();
    assert_eq!(versions, [3, 1], "the newest and the one that answers");
    assert_eq!(
        listed[0].versions[0].takes["zones"],
        "an array of up to 1000 values, each a string of up to 10000 characters"
    );
    let first =
        async |c: &Client| ask(c, &[("at", "100.2,0"), ("k", "1")]).await.unwrap().hits[0].key.clone();
    assert_eq!(first(c).await, "p100", "a draft does not answer");
    let other = r.second_node().await;
    c.set_live("points", "near", 2).await.unwrap();
    assert_eq!(first(c).await, "p101");
    eventually("the other node follows", async || first(&other.client).await == "p101").await;
    other.stop().await;
    let r = r.restart().await;
    assert_eq!(first(&r.client).await, "p101");
    r.client.set_live("points", "near", 1).await.unwrap();
    assert_eq!(first(&r.client).await, "p100");
    assert!(refused(r.client.set_live("points", "near", 4).await).detail.contains("choose from 3, 2, 1"));
    r.client.withdraw_saved("points", "near").await.unwrap();
    assert_eq!(refused(ask(&r.client, &[("at", "1,0")]).await).status, 404);
    r.client.remove_saved("points", "near").await.unwrap();
    assert_eq!(refused(r.client.saved_search("points", "near").await).status, 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn wrong_values_and_definitions_are_refused_with_their_place() {
    let r = line().await;
    let c = &r.client;
    c.save_search("points", "near", &near()).await.unwrap();
    c.set_live("points", "near", 1).await.unwrap();
    for (values, pointer, part) in [
        (&[("k", "3")][..], "/at", "give \"at\""),
        (&[("at", "1,0"), ("k", "0")], "/k", "an integer from 1 to 20; 0 is given"),
        (&[("at", "1,0"), ("k", "3"), ("k", "4")], "/k", "takes one value"),
        (&[("at", "1,0"), ("k", "three")], "/k", "\"three\" is given"),
        (&[("at", "1,x")], "/at/1", "a number"),
        (&[("at", "1")], "/at", "2"),
        (&[("at", "1,0,0")], "/at", "up to 2"),
        (&[("at", "1,0"), ("before", "2001-02-30")], "/before", "a date such as"),
        (&[("at", "1,0"), ("least", "1 OR TRUE")], "/least", "\"1 OR TRUE\" is given"),
        (&[("at", "1,0"), ("zone", "north")], "/zone", "did you mean \"zones\"?"),
        (&[("at", "1,0"), ("filter", "TRUE")], "/filter", "has no parameter \"filter\""),
    ] {
        let problem = refused(ask(c, values).await);
        assert_eq!(
            (problem.status, problem.pointer.as_deref()),
            (422, Some(pointer)),
            "{values:?}: {problem:?}"
        );
        assert!(problem.detail.contains(part), "{values:?}: {}", problem.detail);
    }
    // A text stays a text.
    let hostile = ask(c, &[("at", "1,0"), ("zones", "x') OR TRUE OR zone IN ('north")]).await.unwrap();
    assert_eq!(hostile.hits.len(), 0);

    let with = |pointer: &str, value: Value| {
        let mut definition = near();
        *definition.pointer_mut(pointer).unwrap() = value;
        definition
    };
    for (definition, pointer) in [
        (
            with("/search/filter", json!("zon IN (:zones) AND n >= :least AND seen < :before")),
            "/search/filter",
        ),
        (
            with("/search/filter", json!("zone IN (:zones) AND n >= :before AND seen < :least")),
            "/search/filter",
        ),
        (with("/search/fields", json!(["m"])), "/search/fields/0"),
        (with("/search/vector", json!([1, 2, 3])), "/parameters/at"),
        (with("/search/k", json!(2000)), "/parameters/k"),
        (with("/parameters/least/type", json!("whole")), "/parameters/least/type"),
        (with("/search", json!({"vector": [1, 2, 3]})), "/parameters/at"),
    ] {
        let problem = refused(c.save_search("points", "other", &definition).await);
        assert_eq!(problem.pointer.as_deref(), Some(pointer), "{definition}: {}", problem.detail);
    }
    let bad = json!({"search": {"vector": [1, 2, 3]}});
    assert_eq!(
        refused(c.save_search("points", "other", &bad).await).pointer.as_deref(),
        Some("/search/vector")
    );
    let text = json!({"search": {"text": "fog"}});
    assert_eq!(refused(c.save_search("points", "other", &text).await).word(), "no-encoder");
    assert_eq!(refused(c.save_search("points", "A B", &near()).await).word(), "invalid-name");
    assert_eq!(refused(c.saved_search("points", "other").await).status, 404, "nothing was kept");

    // What stops fitting later says so.
    r.build("points", "g", "graph").await;
    let mut named = near();
    named["search"]["index"] = json!("g");
    c.save_search("points", "near", &named).await.unwrap();
    c.set_live("points", "near", 2).await.unwrap();
    ask(c, &[("at", "1,0")]).await.unwrap();
    c.drop_index("points", "g").await.unwrap();
    let trouble = c.saved_search("points", "near").await.unwrap().trouble.unwrap();
    assert!(trouble.contains("there is no index \"g\""), "{trouble}");
    let problem = refused(ask(c, &[("at", "1,0")]).await);
    assert!(
        problem.detail.starts_with("saved search \"near\", version 2: there is no index"),
        "{}",
        problem.detail
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_that_may_ask_does_that_and_nothing_else() {
    let r = line().await;
    for name in ["near", "inner"] {
        r.client.save_search("points", name, &near()).await.unwrap();
        r.client.set_live("points", name, 1).await.unwrap();
    }
    r.client.save_search("points", "draft", &near()).await.unwrap();
    let request = KeyRequest {
        name: "shop".into(),
        scopes: vec![Scope::Ask],
        collections: Some(vec!["points".into()]),
        searches: Some(vec!["near".into()]),
        filter: Some("zone = 'north'".into()),
        ..KeyRequest::default()
    };
    let shop = Client::new(&r.url, &r.client.make_key(&request).await.unwrap().key);
    let found =
        ask(&shop, &[("at", "100,0"), ("zones", "north"), ("zones", "mid"), ("k", "2")]).await.unwrap();
    assert_eq!(keys(&found), ["p99", "p102"], "the key's filter holds as well");
    let none: [(String, String); 0] = [];
    let problem = refused(shop.ask_saved("points", "inner", None, &none).await);
    assert!(problem.detail.contains("zesty key allow shop --search inner"), "{}", problem.detail);
    assert_eq!(refused(shop.ask_saved("points", "near", Some(1), &none).await).status, 403);
    assert_eq!(refused(shop.search("points", &json!({"vector": [1, 0]})).await).status, 403);
    assert_eq!(refused(shop.record("points", "p1", false).await).status, 403);
    assert_eq!(refused(shop.saved_search("points", "near").await).status, 403);
    let listed = shop.saved_searches("points").await.unwrap();
    assert_eq!(listed.iter().map(|s| s.name.as_str()).collect::<Vec<_>>(), ["near"]);

    // The document describes what it may ask, with its values.
    let document: Value =
        shop.request(reqwest::Method::GET, "/api/openapi.json").send().await.unwrap().json().await.unwrap();
    let own = |document: &Value| {
        let paths = document["paths"].as_object().unwrap().keys();
        paths.filter(|p| p.contains("/saved-searches/") && !p.contains('{')).cloned().collect::<Vec<_>>()
    };
    assert_eq!(own(&document), ["/api/collections/points/saved-searches/near/search"]);
    let about = &document["paths"]["/api/collections/points/saved-searches/near/search"];
    let body = &about["post"]["requestBody"]["content"]["application/json"]["schema"];
    assert_eq!(body["required"], json!(["at"]));
    assert_eq!(body["properties"]["k"]["maximum"], json!(20.0));
    assert_eq!(about["get"]["parameters"][0]["name"], json!("at"));
    assert_eq!(own(&r.openapi().await).len(), 2);

    r.client
        .change_key("shop", &KeyChange { add_searches: vec!["inner".into()], ..KeyChange::default() })
        .await
        .unwrap();
    shop.ask_saved("points", "inner", None, &[("at".into(), "1,0".into())]).await.unwrap();
    for (request, pointer) in [
        (KeyRequest { searches: Some(vec!["draft".into()]), ..request.clone() }, "/searches/0"),
        (KeyRequest { searches: Some(vec![]), ..request.clone() }, "/searches"),
        (KeyRequest { scopes: vec![Scope::Ask, Scope::Search], ..request.clone() }, "/scopes"),
        (KeyRequest { collections: None, filter: None, ..request.clone() }, "/collections"),
    ] {
        let problem = refused(r.client.make_key(&KeyRequest { name: "other".into(), ..request }).await);
        assert_eq!(problem.pointer.as_deref(), Some(pointer), "{}", problem.detail);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn traffic_and_observed_recall_are_told_by_saved_search() {
    let r = line().await;
    let c = &r.client;
    c.save_search("points", "near", &near()).await.unwrap();
    c.set_live("points", "near", 1).await.unwrap();
    r.build("points", "g", "graph").await;
    c.set_serving("points", "place", Some(&choice("g", json!({"beam": 64})))).await.unwrap();
    let recall = Some(RecallCheck { budget: 0.5, floor: None });
    c.set_watch("points", &Watch { recall, capture: None }).await.unwrap();
    refused(ask(c, &[("k", "50")]).await);
    eventually("recall is observed", async || {
        ask(c, &[("at", "150.4,0")]).await.unwrap();
        c.search("points", &json!({"vector": [20.2, 0]})).await.unwrap();
        let traffic = c.saved_traffic("points", "near").await.unwrap();
        traffic.observed.first().is_some_and(|o| o.index == "g" && o.recall_mean > 0.9)
    })
    .await;
    let traffic = c.saved_traffic("points", "near").await.unwrap();
    assert_eq!(traffic.steps.iter().map(|s| s.wrong).sum::<u64>(), 1);
    assert!(traffic.searches > 0 && traffic.p50_us <= traffic.p99_us, "{traffic:?}");
    let all = c.watch_state("points", 24).await.unwrap().overall;
    assert_eq!(all.len(), 1, "an index is told once, whoever asked");
    assert!(all[0].searches >= traffic.observed[0].searches);
    let (_, metrics) = r.send("GET", "/metrics", "text/plain", "").await;
    let metrics = metrics.to_string();
    assert!(metrics.contains("saved=\\\"near\\\""), "{}", &metrics[..metrics.len().min(2000)]);
}
