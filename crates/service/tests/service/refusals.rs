//! Bad input: each is refused with its kind, its place, and a way out, and nothing is written.

use crate::points::{point, two_dimensional};
use serde_json::{Value, json};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use zesty_testing::*;

const RECORDS: &str = "/api/collections/points/records";
const SEARCH: &str = "/api/collections/points/search";
const COLLECTIONS: &str = "/api/collections";

/// A refused request: its name, method and path, body, and what the problem must say.
struct Case(&'static str, &'static str, &'static str, String, Expected);

/// Status, word, pointer, and a part of the detail.
struct Expected(u16, &'static str, &'static str, &'static str);

fn post(name: &'static str, path: &'static str, body: Value, expected: Expected) -> Case {
    Case(name, "POST", path, body.to_string(), expected)
}

async fn running() -> Running {
    let r = plain().await;
    r.client.create_collection(&two_dimensional("points")).await.unwrap();
    let cosine = json!({"name": "angles", "columns": [{"name": "v", "dimensions": 3}]});
    r.client.create_collection(&cosine).await.unwrap();
    r.client.write("points", &[point("a", 1, 0.0, 0.0)]).await.unwrap();
    r
}

/// Sends every case, and lists all that are not refused as they should be.
async fn all_refused(cases: Vec<Case>) {
    let r = running().await;
    let mut wrong = Vec::new();
    for Case(name, method, path, body, Expected(status, word, pointer, part)) in cases {
        let (got, problem) = r.send(method, path, "application/json", body).await;
        let right = got == status
            && problem["status"] == status
            && problem["type"] == format!("urn:zesty-lantern:problem:{word}")
            && problem["pointer"].as_str().unwrap_or("") == pointer
            && problem["detail"].as_str().is_some_and(|d| d.contains(part))
            && problem["request_id"].as_str().is_some_and(|id| id.len() == 16);
        if !right {
            wrong.push(format!("{name}: {problem}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert_eq!(r.client.collection("points").await.unwrap().n_records, 1, "nothing was written");
    assert_eq!(r.client.collections().await.unwrap().len(), 2, "nothing was created");
}

#[tokio::test(flavor = "multi_thread")]
async fn vectors_that_do_not_fit_are_refused() {
    let one = |vector: Value| json!({"records": [{"key": "b", "vectors": {"place": vector}}]});
    let text =
        |vector: &str| format!("{{\"records\": [{{\"key\": \"b\", \"vectors\": {{\"place\": {vector}}}}}]}}");
    let second = json!({"records": [point("a", 1, 0.0, 0.0), {"key": "b", "vectors": {"place": [1, 2, 3]}}]});
    let zero = json!({"records": [{"key": "b", "vectors": {"v": [0, 0, 0]}}]});
    let dimensions = "record \"b\", column \"place\": has 3 dimensions, and the column takes 2";
    all_refused(vec![
        post(
            "dimensions",
            RECORDS,
            second,
            Expected(422, "wrong-vector", "/records/1/vectors/place", dimensions),
        ),
        post(
            "infinity",
            RECORDS,
            one(json!([1, 1e39])),
            Expected(422, "wrong-vector", "/records/0/vectors/place", "inf at position 1"),
        ),
        Case("NaN", "POST", RECORDS, text("[NaN, 1]"), Expected(400, "malformed-json", "", "finite number")),
        Case(
            "overflow",
            "POST",
            RECORDS,
            text("[1e999, 1]"),
            Expected(422, "wrong-vector", "/records/0/vectors/place", "finite number"),
        ),
        post(
            "zero vector",
            "/api/collections/angles/records",
            zero,
            Expected(422, "wrong-vector", "/records/0/vectors/v", "all zeros"),
        ),
        post(
            "unknown column",
            RECORDS,
            json!({"records": [{"key": "b", "vectors": {"plaec": [1, 2]}}]}),
            Expected(404, "unknown-name", "/records/0/vectors/plaec", "did you mean \"place\""),
        ),
    ])
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn records_that_do_not_fit_are_refused() {
    let one = |record: Value| json!({"records": [record]});
    let fields = |fields: Value| json!({"records": [{"key": "b", "fields": fields}]});
    let twice =
        json!({"records": [point("x", 1, 0.0, 0.0), point("y", 1, 0.0, 0.0), point("x", 1, 0.0, 0.0)]});
    let place = "/records/0/fields/";
    let at = |name: &str| -> &'static str { Box::leak(format!("{place}{name}").into_boxed_str()) };
    all_refused(vec![
        post(
            "duplicate keys",
            RECORDS,
            twice,
            Expected(422, "repeated-key", "/records/2/key", "appears twice"),
        ),
        post(
            "unknown field",
            RECORDS,
            fields(json!({"wrod": "x"})),
            Expected(422, "wrong-field", at("wrod"), "did you mean \"word\""),
        ),
        post(
            "wrong type",
            RECORDS,
            fields(json!({"n": "three"})),
            Expected(422, "wrong-field", at("n"), "takes an integer"),
        ),
        post(
            "no date",
            RECORDS,
            fields(json!({"on": "1931-02-30"})),
            Expected(422, "wrong-field", at("on"), "1931-02-30"),
        ),
        post(
            "empty key",
            RECORDS,
            one(json!({"key": ""})),
            Expected(422, "invalid-record-key", "/records/0/key", "empty"),
        ),
        post(
            "long key",
            RECORDS,
            one(json!({"key": "k".repeat(191)})),
            Expected(422, "invalid-record-key", "/records/0/key", "191 bytes"),
        ),
        post(
            "unknown member",
            RECORDS,
            one(json!({"key": "b", "vector": [1, 2]})),
            Expected(422, "wrong-shape", "/records/0/vector", "unknown field `vector`"),
        ),
        Case(
            "not JSON",
            "POST",
            RECORDS,
            "{\"records\": [".into(),
            Expected(400, "malformed-json", "", "EOF"),
        ),
    ])
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn searches_that_cannot_be_answered_are_refused() {
    let case = |name, body: Value, expected| post(name, SEARCH, body, expected);
    let with = |member: &str, value: Value| {
        let mut body = json!({"vector": [1, 2]});
        body[member] = value;
        body
    };
    let beam = json!({"vector": [1, 2], "index": "i", "settings": {"beam": 0}});
    let exact = json!({"vector": [1, 2], "exact": true, "index": "x"});
    let short = "has 1 dimensions, and the column takes 2";
    all_refused(vec![
        case("k of 0", with("k", json!(0)), Expected(422, "invalid-k", "/k", "1 to 1000")),
        case("k beyond the limit", with("k", json!(1001)), Expected(422, "invalid-k", "/k", "1 to 1000")),
        case("k negative", with("k", json!(-1)), Expected(422, "wrong-shape", "/k", "-1")),
        case("beam", beam, Expected(422, "invalid-settings", "/settings/beam", "1 to 10000")),
        case("query dimensions", json!({"vector": [1]}), Expected(422, "wrong-vector", "/vector", short)),
        case(
            "no query",
            json!({}),
            Expected(422, "wrong-shape", "", "give one of text, vector or examples; 0"),
        ),
        case("two queries", with("examples", json!("a")), Expected(422, "wrong-shape", "", "2")),
        case("no encoder", json!({"text": "fog"}), Expected(422, "no-encoder", "/text", "no encoder")),
        case(
            "unknown record",
            json!({"examples": "aa"}),
            Expected(404, "unknown-name", "/examples", "no record \"aa\""),
        ),
        case(
            "unknown column",
            with("column", json!("plaice")),
            Expected(404, "unknown-name", "/column", "did you mean \"place\""),
        ),
        case(
            "unknown index",
            with("index", json!("graph-9")),
            Expected(404, "unknown-name", "/index", "no index \"graph-9\""),
        ),
        case(
            "unknown returned field",
            with("fields", json!(["n", "wrd"])),
            Expected(404, "unknown-name", "/fields/1", "did you mean \"word\""),
        ),
        case("exact with an index", exact, Expected(422, "wrong-shape", "/exact", "uses no index")),
        case(
            "broken filter",
            with("filter", json!("n > ")),
            Expected(422, "invalid-filter", "/filter", "line 1, column 5: expected a field or a value"),
        ),
        case(
            "filter on an unknown field",
            with("filter", json!("m = 1")),
            Expected(422, "invalid-filter", "/filter", "unknown field \"m\""),
        ),
        post(
            "unknown collection",
            "/api/collections/pionts/search",
            json!({"vector": [1, 2]}),
            Expected(404, "unknown-name", "", "did you mean \"points\""),
        ),
    ])
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn collections_and_indexes_that_cannot_be_made_are_refused() {
    let column = |column: Value| json!({"name": "x", "columns": [column]});
    let schema = json!({"name": "x", "fields": {"properties": {"n": {"type": "int"}}}});
    let metric = json!({"name": "v", "dimensions": 3, "metric": "manhattan"});
    let case = |name, body: Value, expected| post(name, COLLECTIONS, body, expected);
    all_refused(vec![
        post(
            "recipe",
            "/api/collections/points/indexes",
            json!({"recipe": "grpah"}),
            Expected(422, "invalid-recipe", "/recipe", "did you mean \"graph\""),
        ),
        post(
            "index without data",
            "/api/collections/angles/indexes",
            json!({"recipe": "graph"}),
            Expected(422, "no-data", "", "load records first"),
        ),
        post(
            "sweep of an unknown index",
            "/api/collections/points/sweeps",
            json!({"indexes": ["x"]}),
            Expected(404, "unknown-name", "/indexes/0", "no index"),
        ),
        post(
            "sweep of nothing",
            "/api/collections/points/sweeps",
            json!({}),
            Expected(422, "wrong-shape", "/indexes", "name 1 to 16"),
        ),
        post(
            "target above one",
            "/api/collections/points/targets",
            json!({"index": "x", "recall": 1.5}),
            Expected(422, "invalid-settings", "/recall", "above 0, and at most 1"),
        ),
        post(
            "too many queries",
            "/api/collections/points/query-sets",
            json!({"name": "q", "kind": "blended", "queries": 1_000_000}),
            Expected(413, "body-too-large", "/queries", "takes 1 to 10000"),
        ),
        post(
            "noise of a sample",
            "/api/collections/points/query-sets",
            json!({"name": "q", "kind": "sampled", "noise": 0.5}),
            Expected(422, "wrong-shape", "/noise", "does not take noise"),
        ),
        post(
            "a query of other dimensions",
            "/api/collections/points/query-sets",
            json!({"name": "q", "kind": "given", "given": [{"vector": [1, 2]}, {"vector": [1, 2, 3]}]}),
            Expected(422, "wrong-shape", "/given", "query 1 has 3 dimensions, and the column takes 2"),
        ),
        post(
            "a query without an encoder",
            "/api/collections/points/query-sets",
            json!({"name": "q", "kind": "given", "given": [{"text": "fog"}]}),
            Expected(422, "no-encoder", "/given", "has no encoder"),
        ),
        post(
            "a grade of nothing",
            "/api/collections/points/query-sets",
            json!({"name": "q", "kind": "given", "given": [{"vector": [1, 2], "relevant": {"a": 0}}]}),
            Expected(422, "wrong-shape", "/given", "a grade is above 0"),
        ),
        case("name taken", two_dimensional("points"), Expected(409, "name-taken", "", "points")),
        case("bad name", two_dimensional("Points!"), Expected(422, "invalid-name", "/name", "a-z")),
        case(
            "dimensions beyond",
            column(json!({"name": "v", "dimensions": 16385})),
            Expected(422, "wrong-shape", "/columns/0/dimensions", "1 to 16384"),
        ),
        case(
            "unknown metric",
            column(metric),
            Expected(422, "wrong-shape", "/columns/0/metric", "cosine, euclidean, dot"),
        ),
        case(
            "unknown encoder",
            column(json!({"name": "v", "encoder": "nobody"})),
            Expected(404, "unknown-name", "/columns/0/encoder", "no encoder \"nobody\""),
        ),
        case("schema", schema, Expected(422, "invalid-schema", "/fields/properties/n/type", "integer")),
    ])
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn routes_and_their_parameters_are_refused_as_problems() {
    let get = |name, path, expected| Case(name, "GET", path, String::new(), expected);
    let last = Expected(409, "still-used", "", "last key");
    let method = Expected(405, "wrong-method", "", "PATCH");
    all_refused(vec![
        Case("last key", "DELETE", "/api/keys/first", String::new(), last),
        Case("wrong method", "PATCH", COLLECTIONS, String::new(), method),
        get("no such route", "/api/nothing", Expected(404, "unknown-route", "", "/api/nothing")),
        get("a job that is no number", "/api/jobs/x", Expected(404, "unknown-name", "", "Cannot parse")),
        get(
            "unknown member of a query",
            "/api/collections/points/records?limti=3",
            Expected(422, "wrong-shape", "/limti", "did you mean \"limit\""),
        ),
    ])
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn bytes_that_are_no_text_say_which() {
    let r = running().await;
    let body = b"{\"text\": \"\xff\"}".to_vec();
    let (status, problem) = r.send("POST", SEARCH, "application/json", body).await;
    assert_eq!((status, &problem["byte"]), (400, &json!(11)));
    let (status, _) = r.send("POST", SEARCH, "text/plain", "{}").await;
    assert_eq!(status, 415);
}

#[tokio::test(flavor = "multi_thread")]
async fn bodies_that_are_too_large_say_the_limit() {
    let r = running().await;
    let many: Vec<Value> = (0..10_001).map(|i| json!({"key": i.to_string()})).collect();
    let many = json!({"records": many}).to_string();
    let (status, problem) = r.send("POST", RECORDS, "application/json", many).await;
    assert_eq!((status, &problem["limit"]), (413, &json!(10_000)));
    let (status, problem) = r.send("POST", RECORDS, "application/json", vec![b' '; (64 << 20) + 1]).await;
    assert_eq!((status, problem["limit_bytes"].as_u64()), (413, Some(64 << 20)));
    let name = json!({"name": "x".repeat(2000)}).to_string();
    let (status, problem) = r.send("POST", "/api/files", "application/json", name).await;
    assert_eq!((status, problem["pointer"].as_str()), (422, Some("/name")));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_place_of_a_wrong_filter_comes_as_numbers() {
    let r = running().await;
    let query = json!({"vector": [1, 2], "filter": "n = 1 AND wrod = 'x'"});
    let p = refused(r.client.search("points", &query).await);
    let at = &p.rest["at"];
    assert_eq!((&at["start"], &at["end"], &at["column"]), (&json!(10), &json!(14), &json!(11)));
}

#[tokio::test(flavor = "multi_thread")]
async fn who_sends_more_than_is_read_is_told_that_the_connection_ends() {
    let r = running().await;
    for (bytes, ends) in [(300_000, true), (300, false)] {
        for _ in 0..20 {
            let put = r.client.request("PUT".parse().unwrap(), "/api/files/nobodys/content");
            let put = put.header("content-type", "application/octet-stream");
            let answer = put.body("x".repeat(bytes)).send().await.unwrap();
            assert_eq!(answer.status(), 404);
            assert_eq!(answer.headers().contains_key("connection"), ends, "{bytes}");
            assert!(answer.json::<Value>().await.unwrap()["detail"].is_string());
            // What comes next is not sent on a connection that ends.
            r.client.collection("points").await.unwrap();
        }
    }
}

/// A client that writes all that it has before it reads.
#[tokio::test(flavor = "multi_thread")]
async fn who_sends_on_without_reading_finds_the_refusal_after_all() {
    let r = running().await;
    for _ in 0..20 {
        let mut stream = TcpStream::connect(r.url.trim_start_matches("http://")).await.unwrap();
        let head = format!(
            "PUT /api/files/nobodys/content HTTP/1.1\r\nhost: z\r\nauthorization: Bearer {}\r\n\
             content-type: application/octet-stream\r\ntransfer-encoding: chunked\r\n\r\n",
            r.key
        );
        stream.write_all(head.as_bytes()).await.unwrap();
        let chunk = format!("1000\r\n{}\r\n", "x".repeat(0x1000));
        for _ in 0..1000 {
            stream.write_all(chunk.as_bytes()).await.unwrap();
        }
        stream.write_all(b"0\r\n\r\n").await.unwrap();
        stream.shutdown().await.unwrap();
        let mut answer = String::new();
        stream.read_to_string(&mut answer).await.unwrap();
        assert!(answer.starts_with("HTTP/1.1 404 "), "{answer}");
    }
}
