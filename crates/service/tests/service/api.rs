//! The HTTP interface, on loopback, with a real MariaDB and the stand-in encoder.

use serde_json::{Value, json};
use zesty_testing::*;

fn two_dimensional(name: &str) -> Value {
    json!({"name": name, "fields": {"properties": {
        "n": {"type": "integer"}, "word": {"type": "string"}, "on": {"type": "string", "format": "date"}}},
        "columns": [{"name": "place", "dimensions": 2, "metric": "euclidean"}]})
}

fn point(key: &str, n: i64, x: f64, y: f64) -> Value {
    json!({"key": key, "fields": {"n": n}, "vectors": {"place": [x, y]}})
}

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
    c.delete_collection("points").await.unwrap();
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
async fn every_bad_input_is_refused_with_its_place_and_a_way_out() {
    let r = plain().await;
    let c = &r.client;
    c.create_collection(&two_dimensional("points")).await.unwrap();
    let cosine = json!({"name": "angles", "columns": [{"name": "v", "dimensions": 3}]});
    c.create_collection(&cosine).await.unwrap();
    c.write("points", &[point("a", 1, 0.0, 0.0)]).await.unwrap();
    let records = "/api/collections/points/records";
    let search = "/api/collections/points/search";
    let one = |record: Value| json!({"records": [record]}).to_string();
    let cases = vec![
        // what, method, path, body, status, word, pointer, part of the detail
        (
            "dimensions",
            "POST",
            records,
            json!({"records": [point("a", 1, 0.0, 0.0),
            {"key": "b", "vectors": {"place": [1, 2, 3]}}]})
            .to_string(),
            422,
            "wrong-vector",
            "/records/1/vectors/place",
            "record \"b\", column \"place\": has 3 dimensions, and the column takes 2",
        ),
        (
            "infinity",
            "POST",
            records,
            one(json!({"key": "b", "vectors": {"place": [1, 1e39]}})),
            422,
            "wrong-vector",
            "/records/0/vectors/place",
            "inf at position 1",
        ),
        (
            "NaN",
            "POST",
            records,
            "{\"records\": [{\"key\": \"b\", \"vectors\": {\"place\": [NaN, 1]}}]}".into(),
            400,
            "malformed-json",
            "",
            "finite number",
        ),
        (
            "overflow",
            "POST",
            records,
            "{\"records\": [{\"key\": \"b\", \"vectors\": {\"place\": [1e999, 1]}}]}".into(),
            400,
            "malformed-json",
            "/records/0",
            "finite number",
        ),
        (
            "zero vector",
            "POST",
            "/api/collections/angles/records",
            one(json!({"key": "b", "vectors": {"v": [0, 0, 0]}})),
            422,
            "wrong-vector",
            "/records/0/vectors/v",
            "all zeros",
        ),
        (
            "duplicate keys",
            "POST",
            records,
            json!({"records": [point("x", 1, 0.0, 0.0), point("y", 1, 0.0, 0.0),
            point("x", 1, 0.0, 0.0)]})
            .to_string(),
            422,
            "repeated-key",
            "/records/2/key",
            "stands twice",
        ),
        (
            "unknown field",
            "POST",
            records,
            one(json!({"key": "b", "fields": {"wrod": "x"}})),
            422,
            "wrong-field",
            "/records/0/fields/wrod",
            "did you mean \"word\"",
        ),
        (
            "wrong type",
            "POST",
            records,
            one(json!({"key": "b", "fields": {"n": "three"}})),
            422,
            "wrong-field",
            "/records/0/fields/n",
            "takes an integer",
        ),
        (
            "no date",
            "POST",
            records,
            one(json!({"key": "b", "fields": {"on": "1931-02-30"}})),
            422,
            "wrong-field",
            "/records/0/fields/on",
            "1931-02-30",
        ),
        (
            "empty key",
            "POST",
            records,
            one(json!({"key": ""})),
            422,
            "invalid-record-key",
            "/records/0/key",
            "empty",
        ),
        (
            "long key",
            "POST",
            records,
            one(json!({"key": "k".repeat(191)})),
            422,
            "invalid-record-key",
            "/records/0/key",
            "191 bytes",
        ),
        (
            "unknown column of a record",
            "POST",
            records,
            one(json!({"key": "b", "vectors": {"plaec": [1, 2]}})),
            404,
            "unknown-name",
            "/records/0/vectors/plaec",
            "did you mean \"place\"",
        ),
        (
            "unknown member",
            "POST",
            records,
            one(json!({"key": "b", "vector": [1, 2]})),
            422,
            "wrong-shape",
            "/records/0/vector",
            "unknown field `vector`",
        ),
        ("not JSON", "POST", records, "{\"records\": [".into(), 400, "malformed-json", "", "EOF"),
        (
            "k of 0",
            "POST",
            search,
            json!({"vector": [1, 2], "k": 0}).to_string(),
            422,
            "invalid-k",
            "/k",
            "1 to 1000",
        ),
        (
            "k beyond the limit",
            "POST",
            search,
            json!({"vector": [1, 2], "k": 1001}).to_string(),
            422,
            "invalid-k",
            "/k",
            "1 to 1000",
        ),
        (
            "k negative",
            "POST",
            search,
            json!({"vector": [1, 2], "k": -1}).to_string(),
            422,
            "wrong-shape",
            "/k",
            "-1",
        ),
        (
            "beam",
            "POST",
            search,
            json!({"vector": [1, 2], "index": "i", "settings": {"beam": 0}}).to_string(),
            422,
            "invalid-settings",
            "/settings/beam",
            "1 to 10000",
        ),
        (
            "query dimensions",
            "POST",
            search,
            json!({"vector": [1]}).to_string(),
            422,
            "wrong-vector",
            "/vector",
            "has 1 dimensions, and the column takes 2",
        ),
        (
            "no query",
            "POST",
            search,
            "{}".into(),
            422,
            "wrong-shape",
            "",
            "give one of text, vector or examples; 0",
        ),
        (
            "two queries",
            "POST",
            search,
            json!({"vector": [1, 2], "examples": "a"}).to_string(),
            422,
            "wrong-shape",
            "",
            "2",
        ),
        (
            "text without encoder",
            "POST",
            search,
            json!({"text": "fog"}).to_string(),
            422,
            "no-encoder",
            "/text",
            "no encoder",
        ),
        (
            "unknown record",
            "POST",
            search,
            json!({"examples": "aa"}).to_string(),
            404,
            "unknown-name",
            "/examples",
            "no record \"aa\"",
        ),
        (
            "unknown column",
            "POST",
            search,
            json!({"vector": [1, 2], "column": "plaice"}).to_string(),
            404,
            "unknown-name",
            "/column",
            "did you mean \"place\"",
        ),
        (
            "unknown index",
            "POST",
            search,
            json!({"vector": [1, 2], "index": "graph-9"}).to_string(),
            404,
            "unknown-name",
            "/index",
            "no index \"graph-9\"",
        ),
        (
            "unknown returned field",
            "POST",
            search,
            json!({"vector": [1, 2], "fields": ["n", "wrd"]}).to_string(),
            404,
            "unknown-name",
            "/fields/1",
            "did you mean \"word\"",
        ),
        (
            "exact with an index",
            "POST",
            search,
            json!({"vector": [1, 2], "exact": true, "index": "x"}).to_string(),
            422,
            "wrong-shape",
            "/exact",
            "uses no index",
        ),
        (
            "broken filter",
            "POST",
            search,
            json!({"vector": [1, 2], "filter": "n > "}).to_string(),
            422,
            "invalid-filter",
            "/filter",
            "line 1, column 5: expected a field or a value",
        ),
        (
            "filter on an unknown field",
            "POST",
            search,
            json!({"vector": [1, 2], "filter": "m = 1"}).to_string(),
            422,
            "invalid-filter",
            "/filter",
            "unknown field \"m\"",
        ),
        (
            "unknown collection",
            "POST",
            "/api/collections/pionts/search",
            json!({"vector": [1, 2]}).to_string(),
            404,
            "unknown-name",
            "",
            "did you mean \"points\"",
        ),
        (
            "recipe",
            "POST",
            "/api/collections/points/indexes",
            json!({"recipe": "grpah"}).to_string(),
            422,
            "invalid-recipe",
            "/recipe",
            "did you mean \"graph\"",
        ),
        (
            "index without data",
            "POST",
            "/api/collections/angles/indexes",
            json!({"recipe": "graph"}).to_string(),
            422,
            "no-data",
            "",
            "load records first",
        ),
        (
            "sweep of an unknown index",
            "POST",
            "/api/collections/points/sweeps",
            json!({"index": "x"}).to_string(),
            404,
            "unknown-name",
            "/index",
            "no index",
        ),
        (
            "name taken",
            "POST",
            "/api/collections",
            two_dimensional("points").to_string(),
            409,
            "name-taken",
            "",
            "points",
        ),
        (
            "bad name",
            "POST",
            "/api/collections",
            two_dimensional("Points!").to_string(),
            422,
            "invalid-name",
            "/name",
            "a-z",
        ),
        (
            "dimensions beyond",
            "POST",
            "/api/collections",
            json!({"name": "x", "columns": [{"name": "v", "dimensions": 16385}]}).to_string(),
            422,
            "wrong-shape",
            "/columns/0/dimensions",
            "1 to 16384",
        ),
        (
            "unknown metric",
            "POST",
            "/api/collections",
            json!({"name": "x", "columns": [{"name": "v", "dimensions": 3, "metric": "manhattan"}]})
                .to_string(),
            422,
            "wrong-shape",
            "/columns/0/metric",
            "cosine, euclidean, dot",
        ),
        (
            "unknown encoder",
            "POST",
            "/api/collections",
            json!({"name": "x", "columns": [{"name": "v", "encoder": "nobody"}]}).to_string(),
            404,
            "unknown-name",
            "/columns/0/encoder",
            "no encoder \"nobody\"",
        ),
        (
            "schema",
            "POST",
            "/api/collections",
            json!({"name": "x", "fields": {"properties": {"n": {"type": "int"}}},
            "columns": [{"name": "v", "dimensions": 3}]})
            .to_string(),
            422,
            "invalid-schema",
            "/fields/properties/n/type",
            "integer",
        ),
        ("last key", "DELETE", "/api/keys/first", String::new(), 409, "still-used", "", "last key"),
        ("no such route", "GET", "/api/nothing", String::new(), 404, "unknown-route", "", "/api/nothing"),
        ("wrong method", "PATCH", "/api/collections", String::new(), 405, "wrong-method", "", "PATCH"),
    ];
    for (what, method, path, body, status, word, pointer, part) in cases {
        let (got, problem) = r.send(method, path, "application/json", body).await;
        assert_eq!(got, status, "{what}: {problem}");
        assert_eq!(problem["type"], format!("urn:zesty-lantern:problem:{word}"), "{what}: {problem}");
        assert_eq!(problem["status"], status, "{what}");
        assert_eq!(problem["pointer"].as_str().unwrap_or(""), pointer, "{what}: {problem}");
        assert!(problem["detail"].as_str().unwrap().contains(part), "{what}: {problem}");
        assert_eq!(problem["request_id"].as_str().unwrap().len(), 16, "{what}");
    }
    // Bytes that are no text, a body of the wrong kind, a body that is too large.
    let (status, problem) =
        r.send("POST", search, "application/json", b"{\"text\": \"\xff\"}".to_vec()).await;
    assert_eq!((status, &problem["byte"]), (400, &json!(11)));
    let (status, _) = r.send("POST", search, "text/plain", "{}").await;
    assert_eq!(status, 415);
    let many: Vec<Value> = (0..10_001).map(|i| json!({"key": i.to_string()})).collect();
    let (status, problem) =
        r.send("POST", records, "application/json", json!({"records": many}).to_string()).await;
    assert_eq!((status, &problem["limit"]), (413, &json!(10_000)));
    let (status, problem) = r.send("POST", records, "application/json", vec![b' '; (64 << 20) + 1]).await;
    assert_eq!((status, problem["limit_bytes"].as_u64()), (413, Some(64 << 20)));
    // After all of that, nothing has changed.
    assert_eq!(c.collection("points").await.unwrap().n_records, 1);
    assert_eq!(c.collections().await.unwrap().len(), 2);
    // The filter's place comes as numbers too.
    let p = refused(c.search("points", &json!({"vector": [1, 2], "filter": "n = 1 AND wrod = 'x'"})).await);
    assert_eq!(
        (&p.rest["at"]["start"], &p.rest["at"]["end"], &p.rest["at"]["column"]),
        (&json!(10), &json!(14), &json!(11))
    );
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
async fn a_sweep_measures_recall_that_grows_with_the_beam_and_a_choice_is_served() {
    let r = with_encoder().await;
    r.logbook(2000).await;
    r.build("logbook", "small", "graph(links=4, build=20)").await;
    let input = json!({"index": "small", "queries": 150, "k": 10, "beams": [10, 40, 200]});
    let job = r.client.run_sweep("logbook", &input).await.unwrap();
    let mut seen = 0;
    let job = r.client.watch_job(job.id, |j| seen = seen.max(j.done)).await.unwrap();
    assert_eq!((job.state.as_str(), job.total, seen), ("done", 600, 600));
    let sweep = r.client.sweeps("logbook").await.unwrap().remove(0);
    assert_eq!(job.result.unwrap()["sweep"], sweep.id);
    let points = &sweep.result.points;
    assert!(points.windows(2).all(|p| p[0].recall_ties_mean <= p[1].recall_ties_mean + 0.005));
    assert!(points[2].recall_ties_mean > 0.97, "{}", points[2].recall_ties_mean);
    for p in points {
        assert!(p.recall_min <= p.recall_p5 && p.recall_p5 <= 1.0 && p.p50_us <= p.p99_us);
        assert_eq!(p.histogram.iter().sum::<usize>(), 150);
    }
    let served = r
        .client
        .set_serving("logbook", "meaning", Some(&choice("small", json!({"beam": 200}))))
        .await
        .unwrap();
    assert_eq!(served.columns[0].serving.as_ref().unwrap().settings.beam, Some(200));
    let found = r.client.search("logbook", &json!({"text": "fog"})).await.unwrap();
    assert_eq!(found.via.settings.unwrap().beam, Some(200));
    r.client.drop_index("logbook", "small").await.unwrap();
    let found = r.client.search("logbook", &json!({"text": "fog"})).await.unwrap();
    assert!(found.via.exact, "without its index the column is scanned");
}

#[tokio::test(flavor = "multi_thread")]
async fn builds_can_be_cancelled_and_leave_nothing_and_survive_writes_meanwhile() {
    let r = plain().await;
    let c = &r.client;
    c.create_collection(&two_dimensional("points")).await.unwrap();
    let records = |from: usize, n: usize| -> Vec<Value> {
        (from..from + n)
            .map(|i| {
                point(&format!("k{i}"), i as i64, (i as f64).sin() * 50.0, (i as f64 * 0.7).cos() * 50.0)
            })
            .collect()
    };
    for from in (0..40_000).step_by(10_000) {
        c.write("points", &records(from, 10_000)).await.unwrap();
    }
    // Wide enough to run for a while.
    let job = c
        .build_index("points", &json!({"name": "wide", "recipe": "graph(links=64, build=800)"}))
        .await
        .unwrap();
    let p = refused(c.search("points", &json!({"vector": [0, 0], "index": "wide"})).await);
    assert_eq!(p.word(), "not-ready");
    c.cancel_job(job.id).await.unwrap();
    assert_eq!(c.watch_job(job.id, |_| ()).await.unwrap().state, "cancelled");
    assert!(c.indexes("points").await.unwrap().is_empty());
    assert_eq!(std::fs::read_dir(r.data.join("indexes")).unwrap().count(), 0);

    let job =
        c.build_index("points", &json!({"name": "g", "recipe": "graph(links=8, build=40)"})).await.unwrap();
    c.write("points", &[point("k7", -7, 0.001, 0.0), point("new", -1, 0.0, 0.001)]).await.unwrap();
    c.delete_record("points", "k8").await.unwrap();
    assert_eq!(c.watch_job(job.id, |_| ()).await.unwrap().state, "done");
    let found = c.search("points", &json!({"vector": [0, 0], "k": 2, "index": "g"})).await.unwrap();
    let mut keys: Vec<_> = found.hits.iter().map(|h| h.key.as_str()).collect();
    keys.sort();
    assert_eq!(keys, ["k7", "new"]);
    let eight = json!({"vector": [8f64.sin() * 50.0, (8.0f64 * 0.7).cos() * 50.0], "k": 1, "index": "g"});
    assert_ne!(c.search("points", &eight).await.unwrap().hits[0].key, "k8");
}

#[tokio::test(flavor = "multi_thread")]
async fn no_route_answers_without_a_key_and_links_sign_a_browser_in_once() {
    let r = plain().await;
    let http = reqwest::Client::new();
    let openapi: Value = r
        .client
        .request("GET".parse().unwrap(), "/api/openapi.json")
        .send()
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    let mut n = 0;
    for (path, methods) in openapi["paths"].as_object().unwrap() {
        for method in methods.as_object().unwrap().keys() {
            let url = format!("{}{}", r.url, path.replace(['{', '}'], ""));
            let request = http.request(method.to_uppercase().parse().unwrap(), url);
            let response = request.header("authorization", "Bearer zk_wrong").send().await.unwrap();
            assert_eq!(response.status(), 401, "{method} {path}");
            n += 1;
        }
    }
    assert!(n >= 25, "{n} routes are described");
    for path in ["/", "/c/logbook", "/assets/x.js", "/api/openapi.json", "/lantern.svg"] {
        assert_eq!(http.get(format!("{}{path}", r.url)).send().await.unwrap().status(), 401, "{path}");
    }

    let link = r.client.sign_in_link().await.unwrap();
    let response = http.get(&link).send().await.unwrap();
    let cookie = response.headers()["set-cookie"].to_str().unwrap().to_owned();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"), "{cookie}");
    assert_eq!(http.get(&link).send().await.unwrap().status(), 401, "a link works once");
    let session = cookie.split(';').next().unwrap().to_owned();
    let with = |path: &str| http.get(format!("{}{path}", r.url)).header("cookie", session.clone()).send();
    assert_eq!(with("/api/collections").await.unwrap().status(), 200);
    let out =
        http.post(format!("{}/api/sign-out", r.url)).header("cookie", session.clone()).send().await.unwrap();
    assert_eq!(out.status(), 204);
    assert_eq!(with("/api/collections").await.unwrap().status(), 401);

    let made = r.client.make_key("nightly").await.unwrap();
    let other = zesty_client::Client::new(&r.url, &made.key);
    other.service().await.unwrap();
    r.client.remove_key("nightly").await.unwrap();
    assert_eq!(refused(other.service().await).status, 401);
    // Only hashes are kept: the key stands in no table.
    assert!(!format!("{:?}", r.client.keys().await.unwrap()).contains(&made.key));
}

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

    // An encoder that says 3 dimensions and answers with 2.
    let meta =
        json!({"inputs": [{"datatype": "BYTES"}], "outputs": [{"datatype": "FP32", "shape": [-1, 3]}]});
    let short = json!({"outputs": [{"datatype": "FP32", "shape": [1, 2], "data": [1.0, 2.0]}]});
    let liar = serve(
        Router::new()
            .route("/v2/models/m", get(move || async move { Json(meta) }))
            .route("/v2/models/m/infer", post(move || async move { Json(short) })),
    )
    .await;
    assert_eq!(c.put_encoder("liar", &liar, "m").await.unwrap().dimensions, 3);
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
    // The first hears of it within its next looks at the database.
    let mut looks = 0;
    while first.client.collection("points").await.unwrap().revision < 8 {
        looks += 1;
        assert!(looks < 5000, "the first node does not follow");
    }
    let found = first.client.search("points", &json!({"vector": [0, 0], "k": 10})).await.unwrap();
    assert!(found.hits.len() == 6 && found.hits.iter().all(|h| h.key != "a"));
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
    assert_eq!(field("kind").values[0].count as usize, keys.len());
    let severity = field("severity");
    assert_eq!((severity.n_missing, severity.n_distinct), (0, 2));
    assert_eq!(severity.histogram.as_ref().unwrap().counts.iter().sum::<usize>(), keys.len());
    let missing = book.iter().filter(stormy).filter(|e| e.get("wind_force").is_none()).count();
    assert_eq!(field("wind_force").n_missing as usize, missing);

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
        assert_eq!((&a.fields, &json!(a.vectors)), (&b.fields, &json!(b.vectors)));
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

#[tokio::test(flavor = "multi_thread")]
async fn composite_recipes_are_built_served_and_come_back() {
    let r = with_encoder().await;
    r.logbook(4000).await;
    let c = &r.client;
    r.build("logbook", "small", "graph(links=12, build=80) | int8 | rescore(f32)").await;
    r.build("logbook", "tiny", "graph(links=12, build=80) | int8").await;
    r.build("logbook", "cells", "center | cells(50) | pq(24) | rescore(f16)").await;
    r.build("logbook", "beside", "graph(links=12, build=80, beside=on) | bits | rescore(f32)").await;
    r.build("logbook", "spilled", "cells(80, spill=on) | bits | rescore(f32)").await;
    let all = c.indexes("logbook").await.unwrap();
    assert_eq!(all[0].recipe, "graph(links=12, build=80) | int8 | rescore(f32)");
    assert_eq!((all[0].n_bytes_vectors, all[1].n_bytes_vectors), (4000 * (96 * 5 + 4), 4000 * (96 + 4)));
    let text = "the siren moaned through thick mist";
    let exact = c.search("logbook", &json!({"text": text, "exact": true})).await.unwrap();
    let heeded = [
        ("small", "beam 100, rescore 5"),
        ("tiny", "beam 100"),
        ("cells", "visit 40, rescore 5"),
        ("beside", "beam 100, rescore 5"),
        ("spilled", "visit 40, rescore 5"),
    ];
    for (index, heeded) in heeded {
        let query =
            json!({"text": text, "index": index, "settings": {"beam": 100, "visit": 40, "rescore": 5}});
        let found = c.search("logbook", &query).await.unwrap();
        assert_eq!(found.via.index.as_deref(), Some(index));
        assert_eq!(found.via.settings.as_ref().unwrap().to_string(), heeded);
        let idle = found.notices.iter().find(|n| n.code == "unused-setting").unwrap();
        assert!(idle.text.contains("does not heed"), "{}", idle.text);
        let same = found.hits.iter().filter(|h| exact.hits.iter().any(|e| e.key == h.key));
        assert!(same.count() >= 9, "{index}");
        // What is shown are distances of the vectors, whatever the codes say.
        for hit in &found.hits {
            let shown = exact.hits.iter().find(|e| e.key == hit.key).map_or(hit.distance, |e| e.distance);
            assert!((shown - hit.distance).abs() < 1e-5, "{index}: {} {shown}", hit.distance);
        }
        let rare = json!({"text": text, "index": index, "filter": "kind = 'rescue'", "k": 7});
        assert_eq!(c.search("logbook", &rare).await.unwrap().hits.len(), 7);
    }
    for (recipe, part) in [
        ("graph | int8 | rescore(int8)", "no finer than the store"),
        ("graph | pq(7)", "use pq(6) or pq(8)"),
        ("cells(5000)", "use cells(64)"),
        ("graph | rescore(f32)", "no finer than the store"),
        ("int8 | graph", "write graph | int8"),
    ] {
        let p = refused(c.build_index("logbook", &json!({"recipe": recipe})).await);
        assert!(p.word() == "invalid-recipe" && p.detail.contains(part), "{recipe}: {}", p.detail);
    }
    // What a search does not say is as it is served.
    c.set_serving("logbook", "meaning", Some(&choice("small", json!({"beam": 33})))).await.unwrap();
    let found = c.search("logbook", &json!({"text": text, "settings": {"rescore": 7}})).await.unwrap();
    assert_eq!(found.via.settings.unwrap().to_string(), "beam 33, rescore 7");
    assert!(found.notices.iter().all(|n| n.code != "unused-setting"));
    let p = refused(c.run_sweep("logbook", &json!({"index": "cells", "beams": [10]})).await);
    assert!(p.detail.contains("tuned by visits"), "{}", p.detail);
    let job =
        c.run_sweep("logbook", &json!({"index": "cells", "visits": [2, 40], "queries": 40})).await.unwrap();
    r.finish(job.id).await;
    let points = &c.sweeps("logbook").await.unwrap()[0].result.points;
    assert_eq!(points[1].settings.to_string(), "visit 40, rescore 3");
    assert!(points[1].recall_mean > points[0].recall_mean.max(0.8));
    let cells = c.indexes("logbook").await.unwrap().into_iter().find(|i| i.name == "cells").unwrap();
    assert!(cells.measured.is_some_and(|m| m.recall_mean >= 0.8), "the list shows what was measured");
    let wrong = json!({"text": text, "settings": {"beam": 10, "rescore": 0}});
    assert_eq!(refused(c.search("logbook", &wrong).await).pointer.as_deref(), Some("/settings/rescore"));
    let r = r.restart().await;
    let query = json!({"text": text, "index": "small", "settings": {"beam": 100}});
    let found = r.client.search("logbook", &query).await.unwrap();
    assert_eq!(found.hits[0].key, exact.hits[0].key);
    assert!(
        r.client.jobs().await.unwrap().iter().filter(|j| j.kind == "build").count() == 5,
        "nothing is rebuilt"
    );
    r.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn recipes_are_explained_chosen_and_kept_within_memory() {
    let r = with_encoder().await;
    r.logbook(4000).await;
    let c = &r.client;
    let text = "center | cells(50, router=graph) | pq(24) | rescore(f16)";
    let explained = c.explain_recipe(&json!({"recipe": text, "collection": "logbook"})).await.unwrap();
    assert_eq!((explained.recipe.as_str(), explained.rows, explained.dimensions), (text, 4000, 96));
    assert_eq!(
        explained.stages.iter().map(|s| s.stage.as_str()).collect::<Vec<_>>(),
        text.split(" | ").collect::<Vec<_>>()
    );
    assert!(explained.notices[0].contains("9,984 rows would do"), "{:?}", explained.notices);
    // The JSON form comes back, and means the same.
    let form = explained.form.clone();
    let again = c.explain_recipe(&json!({"recipe": form, "rows": 4000, "dimensions": 96})).await.unwrap();
    assert_eq!((again.recipe, again.expected.file_bytes), (explained.recipe, explained.expected.file_bytes));
    let p = refused(
        c.explain_recipe(&json!({"recipe": "graph | rescore(f16", "rows": 5, "dimensions": 4})).await,
    );
    assert_eq!(
        (p.word(), p.pointer.as_deref(), p.rest["at"]["start"].as_u64()),
        ("invalid-recipe", Some("/recipe"), Some(19))
    );
    let p = refused(c.explain_recipe(&json!({"recipe": "graph"})).await);
    assert_eq!(p.pointer.as_deref(), Some("/rows"));

    let job = c.build_index("logbook", &json!({"recipe": "auto"})).await.unwrap();
    let job = r.finish(job.id).await;
    assert!(job.log.iter().any(|l| l.text.contains("chose scan: 4,000 rows are 1.5 MB")), "{:?}", job.log);
    let form = json!({"route": {"cells": {"count": 20}}, "store": "int8"});
    let job = c.build_index("logbook", &json!({"recipe": form})).await.unwrap();
    r.finish(job.id).await;
    let built = c.indexes("logbook").await.unwrap().pop().unwrap();
    assert_eq!((built.name.as_str(), built.recipe.as_str()), ("cells-int8-1", "cells(20) | int8"));
    let expected = built.expected.unwrap().file_bytes as f64;
    assert!((expected / (built.n_bytes_vectors + built.n_bytes_structure) as f64 - 1.0).abs() < 0.05);
    r.stop().await;

    let r = with_memory(3).await;
    r.logbook(2000).await;
    let p = refused(
        r.client.build_index("logbook", &json!({"recipe": "graph(links=64) | int8 | rescore(f32)"})).await,
    );
    assert_eq!((p.word(), p.pointer.as_deref()), ("over-memory-budget", Some("/recipe")));
    assert!(p.detail.contains("the budget is 3 MB") && p.detail.contains("1 MB for a copy"), "{}", p.detail);
    r.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn indexes_take_in_what_is_written_after_them() {
    let r = plain().await;
    let input =
        json!({"name": "points", "columns": [{"name": "v", "dimensions": 40, "metric": "euclidean"}]});
    r.client.create_collection(&input).await.unwrap();
    let record = |i: usize| {
        let vector: Vec<f64> = (0..40).map(|d| (((i * 37 + d * 101) % 997) as f64 * 0.37).sin()).collect();
        json!({"key": format!("p{i}"), "fields": {}, "vectors": {"v": vector}})
    };
    let write = async |range: std::ops::Range<usize>| {
        let records: Vec<Value> = range.map(record).collect();
        r.client.write("points", &records).await.unwrap();
    };
    write(0..900).await;
    r.build("points", "walk", "graph(links=8, build=40)").await;
    r.build("points", "codes", "cells(16) | bits | rescore(f32)").await;
    let view = async |name: &str| {
        r.client.indexes("points").await.unwrap().into_iter().find(|i| i.name == name).unwrap()
    };

    // A few writes stay beside the index until somebody asks.
    write(900..950).await;
    let keys: Vec<String> = (0..30).map(|i| format!("p{i}")).collect();
    r.client.delete_records("points", &json!({"keys": keys})).await.unwrap();
    let before = view("walk").await;
    assert_eq!((before.n_rows, before.n_uncovered, before.n_dead), (900, 50, 30));
    let job = r.client.absorb("points", "walk").await.unwrap();
    let job = r.finish(job.id).await;
    assert_eq!(job.kind, "absorb");
    assert!(job.log.iter().any(|l| l.text.contains("870 rows stay, 50 come, 30 go")), "{:?}", job.log);
    let after = view("walk").await;
    assert_eq!((after.n_rows, after.n_uncovered, after.n_dead), (920, 0, 0));
    assert_eq!(after.build_seconds, before.build_seconds, "what a build takes stays known");
    let nearest = async |index: &str, i: usize| {
        let query = json!({"examples": format!("p{i}"), "include_self": true, "k": 3, "index": index});
        r.client.search("points", &query).await.unwrap()
    };
    for i in [31, 899, 949] {
        for index in ["walk", "codes"] {
            let found = nearest(index, i).await;
            assert_eq!(found.hits[0].key, format!("p{i}"), "{index}");
        }
    }
    assert_eq!(nearest("walk", 949).await.via.plan.unindexed, 0);

    // Many are taken in without being asked; and an index most of which died is made from nothing.
    write(950..1500).await;
    loop {
        let (walk, codes) = (view("walk").await, view("codes").await);
        if (walk.n_rows, walk.n_uncovered, codes.n_rows, codes.n_dead) == (1470, 0, 1470, 0) {
            break;
        }
    }
    let keys: Vec<String> = (30..1200).map(|i| format!("p{i}")).collect();
    r.client.delete_records("points", &json!({"keys": keys})).await.unwrap();
    while view("walk").await.n_rows != 300 || view("codes").await.n_rows != 300 {}
    let jobs = r.client.jobs().await.unwrap();
    let last = jobs.iter().find(|j| j.kind == "absorb" && j.subject == "walk").unwrap();
    let log = r.client.job(last.id).await.unwrap().log;
    assert!(log.iter().any(|l| l.text.contains("made from nothing")), "{log:?}");
    assert_eq!(nearest("walk", 1499).await.hits[0].key, "p1499");
    let r = r.restart().await;
    let all = r.client.indexes("points").await.unwrap();
    assert!(all.iter().all(|i| i.state == "ready" && i.n_rows == 300), "the files are the last ones");
    r.stop().await;
}
