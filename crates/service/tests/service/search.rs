//! Everything that one search can say, over HTTP, against what a plain reading of the records gives.

use serde_json::{Value, json};
use zesty_client::wire::SearchAnswer;
use zesty_testing::*;

/// 400 points on a line, at 0, 1, 2, ...; ten to a dock, docks described in a collection of their own.
async fn harbour() -> Running {
    let r = plain().await;
    let docks = json!({"name": "docks", "fields": {"properties": {"title": {"type": "string"}}},
        "columns": [{"name": "v", "dimensions": 1, "metric": "euclidean"}]});
    r.client.create_collection(&docks).await.unwrap();
    let dock = |i: usize| json!({"key": format!("d{i}"), "fields": {"title": format!("Dock {i}")}});
    r.client.write("docks", &(0..39).map(dock).collect::<Vec<_>>()).await.unwrap();
    let points = json!({"name": "points", "fields": {"properties": {
        "n": {"type": "integer"}, "dock": {"type": "string", "refersTo": "docks"}, "word": {"type": "string"},
        "tags": {"type": "array", "items": {"type": "string"}}, "log": {"type": "string", "storedOnly": true}}},
        "columns": [{"name": "place", "dimensions": 2, "metric": "euclidean"}]});
    r.client.create_collection(&points).await.unwrap();
    let point = |i: usize| {
        json!({"key": format!("p{i}"), "vectors": {"place": [i as f64, 0.0]},
        "fields": {"n": i, "dock": format!("d{}", i / 10), "word": if i.is_multiple_of(2) { "Even" } else { "odd" }}})
    };
    r.client.write("points", &(0..400).map(point).collect::<Vec<_>>()).await.unwrap();
    r
}

fn keys(found: &SearchAnswer) -> Vec<&str> {
    found.hits.iter().map(|h| h.key.as_str()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn hits_are_paged_bounded_spread_sorted_and_left_out() {
    let r = harbour().await;
    let ask = async |more: Value| {
        let mut input = json!({"vector": [100.2, 0.0], "k": 4, "fields": []});
        input.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        r.client.search("points", &input).await.unwrap()
    };
    assert_eq!(keys(&ask(json!({})).await), ["p100", "p101", "p99", "p102"]);
    assert_eq!(keys(&ask(json!({"skip": 2})).await), ["p99", "p102", "p98", "p103"]);
    let past = ask(json!({"skip": 398})).await;
    assert_eq!((past.hits.len(), past.notices[0].code.as_str()), (2, "fewer-hits"));
    assert_eq!(keys(&ask(json!({"leave_out": ["p101", "p99"]})).await), ["p100", "p102", "p98", "p103"]);
    let unknown = ask(json!({"leave_out": ["nowhere"]})).await;
    assert_eq!(unknown.notices[0].code, "nothing-left-out");
    assert_eq!(keys(&ask(json!({"sort": "-n"})).await), ["p102", "p101", "p100", "p99"]);

    // Distances 0.2, 0.8, 1.2, 1.8.
    let near = ask(json!({"distance_at_most": 1.5})).await;
    assert_eq!(keys(&near), ["p100", "p101", "p99"]);
    let said = &near.notices[0];
    assert_eq!(said.code, "below-floor");
    for part in ["3 of the 4 nearest", "the best has 0.2000", "1.8000 would let all 4 pass"] {
        assert!(said.text.contains(part), "{}", said.text);
    }
    let none = ask(json!({"score_at_least": 0.99})).await;
    assert!(
        none.hits.is_empty() && none.notices[0].text.contains("0 of the 4 nearest"),
        "{:?}",
        none.notices
    );

    // One hit from each dock, however far one must look.
    for (hits, k) in [(1, 30), (3, 12)] {
        let spread =
            ask(json!({"k": k, "at_most": {"field": "dock", "hits": hits}, "fields": ["dock"]})).await;
        assert_eq!(spread.hits.len(), k, "{:?}", spread.notices);
        for hit in &spread.hits {
            let same = spread.hits.iter().filter(|h| h.fields["dock"] == hit.fields["dock"]).count();
            assert!(same <= hits);
        }
        assert!(spread.hits.is_sorted_by(|a, b| a.distance <= b.distance));
    }
    let hurried = ask(json!({"time_limit_ms": 0.0001})).await;
    assert_eq!((hurried.notices[0].code.as_str(), hurried.via.exact), ("time-limit", false));
    let all = ask(json!({"k": 50, "at_most": {"field": "dock", "hits": 1}})).await;
    assert_eq!((all.hits.len(), all.notices[0].code.as_str()), (40, "fewer-hits"));
    let none = ask(json!({"k": 9, "skip": 38, "at_most": {"field": "dock", "hits": 1}})).await;
    assert_eq!(none.hits.len(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn several_examples_and_what_to_move_away_from() {
    let r = harbour().await;
    let ask = async |input: Value| r.client.search("points", &input).await.unwrap();
    let between = ask(json!({"examples": ["p10", "p20"], "k": 3})).await;
    assert_eq!(between.hits[0].key, "p15");
    let with_own = ask(json!({"examples": ["p10", "p12"], "k": 3, "include_self": true})).await;
    assert_eq!(keys(&with_own), ["p11", "p10", "p12"]);
    assert_eq!(keys(&ask(json!({"examples": ["p10", "p12"], "k": 3})).await), ["p11", "p9", "p13"]);
    // 300 less half of 200.
    assert_eq!(
        ask(json!({"examples": "p300", "counterexamples": ["p200"], "k": 1})).await.hits[0].key,
        "p199"
    );
    assert_eq!(ask(json!({"vector": [50, 0], "counterexamples": ["p20"], "k": 1})).await.hits[0].key, "p40");
    for (input, pointer, part) in [
        (json!({"examples": []}), "/examples", "1 to 100"),
        (json!({"examples": ["p1", "nobody"]}), "/examples", "nobody"),
        (json!({"counterexamples": ["p1"]}), "", "one of text, vector or examples"),
        (json!({"vector": [1, 2], "skip": 9_999}), "/skip", "10000"),
        (json!({"vector": [1, 2], "at_most": {"field": "tags", "hits": 1}}), "/at_most/field", "arrays"),
        (json!({"vector": [1, 2], "at_most": {"field": "dock", "hits": 0}}), "/at_most/hits", "1 to 1000"),
        (json!({"vector": [1, 2], "time_limit_ms": 0}), "/time_limit_ms", "60000"),
        (json!({"vector": [1, 2], "sort": "wrod"}), "/sort", "did you mean"),
        (json!({"vector": [1, 2], "follow": ["word"]}), "/follow/0", "these do: dock"),
        (json!({"vector": [1, 2], "vectors": ["plaice"]}), "/vectors/0", "did you mean"),
    ] {
        let p = refused(r.client.search("points", &input).await);
        assert_eq!(p.pointer.as_deref().unwrap_or(""), pointer, "{input}: {}", p.detail);
        assert!(p.detail.contains(part), "{input}: {}", p.detail);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn many_searches_vectors_and_referenced_records_in_one_answer() {
    let r = harbour().await;
    let searches: Vec<Value> = (0..40)
        .map(|i| json!({"vector": [i * 10, 0], "k": 1, "vectors": ["place"], "follow": ["dock"]}))
        .collect();
    let answers = r.client.searches("points", &json!({"searches": searches})).await.unwrap();
    for (i, answer) in answers.iter().enumerate() {
        let hit = &answer.hits[0];
        assert_eq!(hit.key, format!("p{}", i * 10));
        assert_eq!(json!(hit.vectors), json!({"place": [i as f64 * 10.0, 0.0]}));
        let dock = &json!(hit.follow)["dock"];
        if i < 39 {
            assert_eq!(
                (&dock["key"], &dock["fields"]["title"]),
                (&json!(format!("d{i}")), &json!(format!("Dock {i}")))
            );
        } else {
            assert!(dock.is_null(), "a reference that leads nowhere");
        }
    }
    let bad = json!({"searches": [{"vector": [1, 2]}, {"vector": [1]}]});
    let p = refused(r.client.searches("points", &bad).await);
    assert_eq!(p.pointer.as_deref(), Some("/searches/1/vector"));
    let p = refused(r.client.searches("points", &json!({"searches": []})).await);
    assert!(p.detail.contains("1 to 100"), "{}", p.detail);
}

#[tokio::test(flavor = "multi_thread")]
async fn filters_come_in_text_and_json_and_are_explained() {
    let r = harbour().await;
    let text = "n >= 100 AND (CASEI(word) = 'even' OR n % 10 = 1)";
    let (status, read) = r
        .send(
            "POST",
            "/api/collections/points/filter",
            "application/json",
            json!({"filter": text}).to_string(),
        )
        .await;
    assert_eq!((status, &read["text"], &read["of"]), (200, &json!(text), &json!(400)));
    // 150 even ones and 30 that end in 1.
    assert_eq!(read["allowed"], 180);
    let ask = async |filter: Value| {
        let input = json!({"vector": [0, 0], "k": 50, "fields": [], "filter": filter, "explain": true});
        r.client.search("points", &input).await.unwrap()
    };
    let found = ask(json!(text)).await;
    assert_eq!(found.hits[0].key, "p100");
    assert_eq!(keys(&ask(read["json"].clone()).await), keys(&found));
    assert_eq!(keys(&ask(json!(read["json"].to_string())).await), keys(&found), "JSON as text");
    let explain = &json!(found.explain);
    assert_eq!(explain["filter_json"], read["json"]);
    assert_eq!(
        (&explain["filter"]["allowed"], &explain["filter"]["parts"][0]["allowed"]),
        (&json!(180), &json!(300))
    );
    let tree = explain["text"].as_str().unwrap();
    for part in ["allows 180 of 400", "n >= 100: 300 records", "scan-allowed", "50 hits, exact"] {
        assert!(tree.contains(part), "{part} in {tree}");
    }
    assert!(found.via.plan.considered[0].expected_us > 0.0);

    let p = refused(
        r.client
            .search(
                "points",
                &json!({"vector": [0, 0],
        "filter": {"op": "=", "args": [{"property": "wrod"}, "x"]}}),
            )
            .await,
    );
    assert_eq!((p.word(), p.pointer.as_deref()), ("invalid-filter", Some("/filter/args/0")));

    let (status, schema) = r.send("GET", "/api/collections/points/queryables", "", "").await;
    let names: Vec<&str> = schema["properties"].as_object().unwrap().keys().map(String::as_str).collect();
    assert_eq!(
        (status, names),
        (200, vec!["n", "dock", "word", "tags"]),
        "what is stored only cannot be asked of"
    );
    assert_eq!(schema["properties"]["tags"]["items"]["type"], "string");
}

#[tokio::test(flavor = "multi_thread")]
async fn filtered_searches_of_an_index_are_planned_and_true_to_their_filter() {
    let r = with_encoder().await;
    r.logbook(6000).await;
    r.build("logbook", "walks", "graph(links=12, build=80) | int8 | rescore(f32)").await;
    let c = &r.client;
    let (mut found, mut wanted) = (0, 0);
    for filter in
        ["year < 1935", "CASEI(note) LIKE '%fog%'", "severity >= 4 AND NOT year BETWEEN 1920 AND 1929"]
    {
        for text in ["gale tearing at the shutters", "fog bell", "oil for the lamp"] {
            let ask = async |exact: bool| {
                let input = json!({"text": text, "filter": filter, "k": 10, "exact": exact});
                c.search("logbook", &input).await.unwrap()
            };
            let (answer, truth) = (ask(false).await, ask(true).await);
            assert_eq!(answer.hits.len(), 10);
            wanted += 10;
            found += truth.hits.iter().filter(|t| answer.hits.iter().any(|h| h.key == t.key)).count();
            let plan = &answer.via.plan;
            let mut considered: Vec<&str> = plan.considered.iter().map(|c| c.strategy.word()).collect();
            considered.sort_unstable();
            // Cells that are not worth looking for, and walks where little near is allowed, are not considered.
            considered.retain(|word| !matches!(*word, "visit-allowed" | "walk-allowed"));
            assert_eq!(considered, ["scan-allowed", "scan-stored"], "{plan:?}");
            assert!(plan.allowed < plan.rows);
        }
    }
    assert!(found * 100 >= wanted * 95, "{found} of {wanted}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_logbook_is_searched_by_text_vector_and_record_with_filters() {
    let r = with_encoder().await;
    r.logbook(3000).await;
    let c = &r.client;
    let storm = c.search("logbook", &json!({"text": "gale tearing at the shutters"})).await.unwrap();
    assert!(storm.hits.iter().filter(|h| h.fields["kind"] == "weather").count() >= 8);
    assert!(storm.via.exact && storm.via.index.is_none());
    assert_eq!(storm.notices[0].code, "no-index");

    r.build("logbook", "graph-1", "graph(links=8, build=64)").await;
    let about = c.collection("logbook").await.unwrap();
    assert_eq!(about.columns[0].serving.as_ref().unwrap().index, "graph-1", "the first index serves");
    let again = c.search("logbook", &json!({"text": "gale tearing at the shutters"})).await.unwrap();
    assert_eq!(again.via.index.as_deref(), Some("graph-1"));
    assert!(again.timing.encode_us > 0.0 && again.timing.total_us >= again.timing.search_us);

    let key = again.hits[0].key.clone();
    let like = c.search("logbook", &json!({"examples": key, "k": 5})).await.unwrap();
    assert!(like.hits.iter().all(|h| h.key != key));
    let own = c.search("logbook", &json!({"examples": key, "k": 5, "include_self": true})).await.unwrap();
    assert!(own.hits.iter().any(|h| h.key == key) && own.hits[0].score > 0.9999);

    let filter =
        "severity >= 4 AND (year BETWEEN 1920 AND 1939 OR station IN ('Gull Rock')) AND NOT kind LIKE 'w%'";
    for exact in [true, false] {
        let input = json!({"text": "ship on the rocks", "filter": filter, "k": 15, "exact": exact,
            "fields": ["severity", "year", "station", "kind"]});
        let found = c.search("logbook", &input).await.unwrap();
        assert_eq!(found.hits.len(), 15);
        for hit in &found.hits {
            let f = &hit.fields;
            let year = f["year"].as_i64().unwrap();
            assert!(f["severity"].as_i64() >= Some(4) && !f["kind"].as_str().unwrap().starts_with('w'));
            assert!((1920..=1939).contains(&year) || f["station"] == "Gull Rock");
            assert_eq!(f.len(), 4, "only chosen fields");
        }
    }
    let none = c.search("logbook", &json!({"text": "fog", "filter": "year = 1066"})).await.unwrap();
    assert_eq!((none.hits.len(), none.notices[0].code.as_str()), (0, "fewer-hits"));
    assert!(none.notices[0].text.contains("0 of 3000"), "{}", none.notices[0].text);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_vector_in_base64_is_taken_wherever_a_list_is() {
    let r = harbour().await;
    let text = |components: &[f32]| json!(in_base64(components));
    let search = |vector| json!({"vector": vector, "k": 3});
    let listed = r.client.search("points", &search(json!([70, 0]))).await.unwrap();
    let encoded = r.client.search("points", &search(text(&[70.0, 0.0]))).await.unwrap();
    assert_eq!(json!(encoded.hits), json!(listed.hits));

    let record = |key: &str| json!({"key": key, "vectors": {"place": text(&[0.1, 7.0])}});
    r.client.write("points", &[record("one")]).await.unwrap();
    let line = record("line").to_string();
    let (status, said) = r.send("POST", "/api/collections/points/records", "application/jsonl", line).await;
    assert_eq!((status, &said["new"]), (200, &json!(1)));
    let patch = json!({"vectors": {"place": text(&[0.1, 7.0])}}).to_string();
    let media = "application/merge-patch+json";
    let (status, said) = r.send("PATCH", "/api/collections/points/records/p5", media, patch).await;
    assert_eq!(status, 200, "{said}");
    for key in ["one", "line", "p5"] {
        let stored = r.client.record("points", key, true).await.unwrap();
        assert_eq!(json!(stored.vectors), json!({"place": [0.1f32, 7.0]}), "{key}");
    }

    for (vector, part) in [
        (text(&[1.0]), "has 1 dimensions"),
        (text(&[1.0, f32::NAN]), "NaN at position 1"),
        (text(&[f32::INFINITY, 1.0]), "inf at position 0"),
        (json!("AACA"), "has 3 bytes; 32-bit floats have 4 each"),
        (json!("AA-A"), "no base64: Invalid symbol 45, offset 2"),
        (json!(7), "expected a vector: a list of numbers, or base64 of 32-bit floats"),
    ] {
        let p = refused(r.client.search("points", &search(vector)).await);
        assert_eq!(p.pointer.as_deref(), Some("/vector"), "{part}: {}", p.detail);
        assert!(p.detail.contains(part), "{part}: {}", p.detail);
    }
}
