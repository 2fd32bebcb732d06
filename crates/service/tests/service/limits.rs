//! The limits that the OpenAPI document states, held against the service: what is beyond one is refused with its place,
//! and what is just within is not refused for that.

use serde_json::{Map, Value, json};
use std::collections::BTreeSet;
use zesty_testing::*;

/// What no request of a test can be beyond of: the range of a type.
const TYPE: f64 = 9e15;

/// A number or a list in a body.
struct Place {
    /// The member of a schema, such as `SearchRequest/k`.
    label: String,
    pointer: String,
    schema: Value,
}

/// Follows a schema along a body, and notes every number and list that has limits.
fn places(all: &Value, schema: &Value, body: &Value, label: &str, pointer: &str, into: &mut Vec<Place>) {
    if let Some(name) = schema["$ref"].as_str().and_then(|r| r.rsplit('/').next()) {
        return places(all, &all[name], body, name, pointer, into);
    }
    if let Some(shapes) = schema["oneOf"].as_array().or(schema["anyOf"].as_array()) {
        for shape in
            shapes.iter().filter(|s| s["type"] != "null" && (s["type"] != "array" || body.is_array()))
        {
            places(all, shape, body, label, pointer, into);
        }
        return;
    }
    if ["maximum", "maxItems"].iter().any(|m| schema.get(m).is_some()) {
        into.push(Place { label: label.into(), pointer: pointer.into(), schema: schema.clone() });
    }
    match body {
        Value::Array(items) if !items.is_empty() => {
            places(all, &schema["items"], &items[0], &format!("{label}/[]"), &format!("{pointer}/0"), into);
        }
        Value::Object(members) => {
            for (name, value) in members {
                let (within, step) = match schema["properties"].get(name) {
                    Some(property) => (property, name.as_str()),
                    None => (&schema["additionalProperties"], "{}"),
                };
                places(all, within, value, &format!("{label}/{step}"), &format!("{pointer}/{name}"), into);
            }
        }
        _ => {}
    }
}

/// Values that are beyond the limits of a place, and numbers that are just within.
fn beyond_and_within(place: &Place, now: &Value) -> (Vec<Value>, Vec<Value>) {
    let number = |member: &str| place.schema[member].as_f64();
    let (mut beyond, mut within) = (Vec::new(), Vec::new());
    if let Some(most) = place.schema["maxItems"].as_u64() {
        let item = now.get(0).cloned().unwrap_or(json!("x"));
        let list = |n: u64| json!(vec![item.clone(); n as usize]);
        beyond.push(list(most + 1));
        beyond.extend((place.schema["minItems"] == 1).then(|| json!([])));
        return (beyond, within);
    }
    let is_integer = now.is_u64();
    let as_json = |x: f64| if is_integer { json!(x as i64) } else { json!(x) };
    match number("maximum") {
        Some(most) if most < TYPE || !is_integer && most < 1e300 => {
            beyond.push(as_json(if most < 1e9 || is_integer { most + 1.0 } else { most * 1.01 }));
            within.push(as_json(most));
        }
        _ => {}
    }
    if let Some(least) = number("minimum").filter(|least| *least >= 1.0) {
        beyond.push(as_json(least - 1.0));
        within.push(as_json(least));
    }
    beyond.extend(number("exclusiveMinimum").map(as_json));
    (beyond, within)
}

/// Requests in which every number and list with limits appears.
fn requests() -> Vec<(&'static str, &'static str, &'static str, Value)> {
    const C: &str = "/api/collections/{collection}";
    let search = json!({"vector": [1, 2, 3, 4], "k": 1, "fields": ["n"], "vectors": ["v"], "follow": [], "leave_out": ["a1"],
        "score_at_least": 0.5, "distance_at_most": 1.5, "skip": 2, "time_limit_ms": 50.5, "at_most": {"field": "n", "hits": 2},
        "index": "g", "settings": {"beam": 20, "rescore": 2}});
    let side = json!({"index": "g"});
    let key = json!({"name": "more", "scopes": ["search"], "collections": ["logs"], "requests_per_s": 5, "body_bytes": 4096});
    let saved = json!({"search": {"vector": [1, 2, 3, 4], "filter": "n IN (:n)"}, "parameters": {
        "n": {"type": "array", "items": {"type": "integer"}, "maxItems": 5, "enum": [1], "minimum": 0.5, "maximum": 9.5}}});
    vec![
        (
            "post",
            C,
            "/advice",
            json!({"k": 5, "recall": 0.9, "memory_mb": 9.5, "recipes": ["graph"], "finalists": 1}),
        ),
        ("post", C, "/query-sets/{set}/answers", json!({"k": 3})),
        ("post", C, "/search", search.clone()),
        ("post", C, "/search", json!({"vector": [1, 2, 3, 4], "index": "c", "settings": {"visit": 2}})),
        ("post", C, "/search", json!({"vector": [1, 2, 3, 4], "index": "g", "recall": 0.9})),
        ("post", C, "/search", json!({"examples": ["a1"]})),
        ("post", C, "/searches", json!({"searches": [{"vector": [1, 2, 3, 4]}]})),
        (
            "put",
            C,
            "/watch",
            json!({"capture": {"share": 0.1, "keep": 5, "days": 2}, "recall": {"budget": 0.01, "floor": 0.5}}),
        ),
        (
            "post",
            C,
            "/comparisons",
            json!({"left": side, "right": {"index": null}, "k": 3, "rounds": 1, "seed": 1}),
        ),
        ("post", C, "/deletions", json!({"keys": ["nobody"], "dry_run": true, "expected": 0})),
        (
            "post",
            C,
            "/patches",
            json!({"keys": ["nobody"], "patch": {"fields": {"n": 1}}, "dry_run": true, "expected": 0}),
        ),
        (
            "post",
            C,
            "/query-sets",
            json!({"name": "x", "kind": "given", "given": [{"vector": [1, 2, 3, 4], "relevant": {"a1": 1.5}}]}),
        ),
        ("post", C, "/query-sets", json!({"name": "y", "kind": "blended", "queries": 5, "of": 3, "seed": 1})),
        ("post", C, "/query-sets", json!({"name": "z", "kind": "jittered", "queries": 5, "noise": 0.5})),
        ("post", C, "/map", json!({"records": 5})),
        (
            "post",
            C,
            "/loads",
            json!({"records": "none", "vectors": [{"file": "none"}], "batch": 5, "only": ["n"]}),
        ),
        ("post", C, "/columns", json!({"name": "w", "dimensions": 4})),
        ("post", C, "/indexes", json!({"name": "h", "recipe": "graph", "threads": 1, "seed": 1})),
        ("post", C, "/records", json!({"records": [{"key": "b"}]})),
        ("patch", C, "/records/{key}", json!({"vectors": {"v": [1, 2, 3, 4]}})),
        ("put", C, "/columns/{column}/serving", json!({"index": "g", "recall": 0.9})),
        (
            "post",
            C,
            "/sweeps",
            json!({"indexes": ["g"], "recipes": ["graph"], "query_sets": ["q"], "k": [3], "beams": [20],
            "rescores": [2], "clients": [1], "rounds": 1, "seed": 1}),
        ),
        ("post", C, "/sweeps", json!({"indexes": ["c"], "k": [3], "visits": [2]})),
        (
            "post",
            C,
            "/targets",
            json!({"index": "g", "recall": 0.9, "k": 3, "rescore": 2, "query_sets": ["q"]}),
        ),
        ("post", C, "/lens", json!({"query_set": "q", "position": 0})),
        ("put", C, "/saved-searches/{name}", saved),
        (
            "put",
            C,
            "/saved-searches/{name}",
            json!({"search": {"text": {"parameter": "q"}},
            "parameters": {"q": {"type": "string", "maxLength": 50}}}),
        ),
        ("put", C, "/saved-searches/{name}/live", json!({"version": 1})),
        ("post", "/api/keys", "", key),
        (
            "post",
            "/api/keys",
            "",
            json!({"name": "asks", "scopes": ["ask"], "collections": ["logs"], "searches": ["near"]}),
        ),
        (
            "patch",
            "/api/keys/{key}",
            "",
            json!({"add_collections": ["logs"], "add_scopes": ["search"], "add_searches": ["near"],
            "remove_collections": ["logs"], "remove_scopes": ["search"], "remove_searches": ["near"]}),
        ),
        ("patch", "/api/keys/{key}", "", json!({"requests_per_s": 5, "body_bytes": 5000})),
        ("post", "/api/keys/{key}/secrets", "", json!({"overlap_s": 5})),
        (
            "post",
            "/api/collections",
            "",
            json!({"name": "other", "columns": [{"name": "v", "dimensions": 4}]}),
        ),
        ("post", "/api/files", "", json!({"name": "a.csv", "bytes": 5})),
        (
            "post",
            "/api/recipes/explanation",
            "",
            json!({"recipe": "graph", "rows": 50, "dimensions": 4, "metric": "cosine"}),
        ),
    ]
}

async fn with_everything() -> Running {
    let r = plain().await;
    let c = &r.client;
    let fields = json!({"type": "object", "properties": {"n": {"type": "integer"}}});
    let columns = json!([{"name": "v", "dimensions": 4, "metric": "cosine"}]);
    c.create_collection(&json!({"name": "logs", "fields": fields, "columns": columns})).await.unwrap();
    let record =
        |i: i32| json!({"key": format!("a{i}"), "fields": {"n": i}, "vectors": {"v": [i, 1, i % 3, 2]}});
    c.write("logs", &(0..60).map(record).collect::<Vec<_>>()).await.unwrap();
    r.build("logs", "g", "graph | int8 | rescore(f32)").await;
    r.build("logs", "c", "cells(4)").await;
    let set = json!({"name": "q", "kind": "sampled", "queries": 5});
    let job = c.make_query_set("logs", &set).await.unwrap();
    r.finish(job.id).await;
    c.save_search("logs", "near", &json!({"search": {"vector": [1, 2, 3, 4]}})).await.unwrap();
    c.make_key(&serde_json::from_value(json!({"name": "app", "scopes": ["search"]})).unwrap()).await.unwrap();
    r
}

/// The path of a route, with names that are there.
fn concrete(path: &str) -> String {
    let names = [
        ("{collection}", "logs"),
        ("{set}", "q"),
        ("{column}", "v"),
        ("{name}", "near"),
        ("{key}", if path.starts_with("/api/keys") { "app" } else { "a1" }),
    ];
    names.iter().fold(path.to_owned(), |path, (step, name)| path.replace(step, name))
}

#[tokio::test(flavor = "multi_thread")]
async fn the_limits_in_the_document_are_those_of_the_service() {
    let r = with_everything().await;
    let document = r.openapi().await;
    let all = &document["components"]["schemas"];
    let (mut seen, mut wrong, mut n) = (BTreeSet::new(), Vec::new(), 0);
    for (method, base, end, body) in requests() {
        let route = format!("{base}{end}");
        let content = &document["paths"][&route][method]["requestBody"]["content"];
        let (media, content) =
            content.as_object().and_then(|c| c.iter().find(|(m, _)| m.ends_with("json"))).unwrap();
        let mut found = Vec::new();
        places(all, &content["schema"], &body, "", "", &mut found);
        for place in found {
            seen.insert(place.label.clone());
            let now = body.pointer(&place.pointer).unwrap();
            let (beyond, within) = beyond_and_within(&place, now);
            let tried = beyond.into_iter().map(|v| (v, true)).chain(within.into_iter().map(|v| (v, false)));
            for (value, is_beyond) in tried {
                let mut body = body.clone();
                let said: String = value.to_string().chars().take(30).collect();
                *body.pointer_mut(&place.pointer).unwrap() = value;
                // What was made for the value before is there already.
                n += 1;
                if body["name"].is_string() {
                    body["name"] = json!(format!("n{n}"));
                }
                let request = r.client.request(method.to_uppercase().parse().unwrap(), &concrete(&route));
                let request = request.header("content-type", media).body(body.to_string());
                let answer = request.send().await.unwrap();
                let status = answer.status().as_u16();
                let problem: Value = answer.json().await.unwrap_or_default();
                let pointer = problem["pointer"].as_str().unwrap_or_default();
                // Numbers that 32 bits cannot hold are told of by what reads JSON; what is wrong in a list, by the list.
                let is_of_it = match is_beyond {
                    true => {
                        pointer.starts_with(&place.pointer)
                            || pointer.len() > 1 && place.pointer.starts_with(pointer)
                            || problem["detail"].as_str().is_some_and(|d| d.contains("out of range"))
                    }
                    false => pointer.starts_with(&place.pointer) && status != 404,
                };
                let is_refused_for_it = (400..500).contains(&status) && is_of_it;
                if is_refused_for_it != is_beyond {
                    let what = if is_beyond { "is taken" } else { "is refused" };
                    wrong.push(format!("{route} {}: {said} {what}: {status} {problem}", place.pointer));
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    // Every limit of a request was tried.
    let mut limited = BTreeSet::new();
    let mut requests = BTreeSet::new();
    for methods in document["paths"].as_object().unwrap().values().filter_map(Value::as_object) {
        methods.values().for_each(|about| named(&about["requestBody"], all, &mut requests));
    }
    requests.iter().for_each(|name| labels(&all[name], name, &mut limited));
    let mut without = Vec::new();
    requests.iter().for_each(|name| unlimited(&all[name], name, &mut without));
    for (path, methods) in document["paths"].as_object().unwrap() {
        let parameters =
            methods.as_object().unwrap().values().filter_map(|m| m["parameters"].as_array()).flatten();
        parameters.for_each(|p| unlimited(&p["schema"], &format!("{path}?{}", p["name"]), &mut without));
    }
    assert_eq!(without, [""; 0], "numbers and lists without limits");
    let untried: Vec<_> = limited.difference(&seen).collect();
    assert!(untried.is_empty(), "{untried:?}");
}

/// The schemas that a schema names, and those that they name.
fn named(schema: &Value, all: &Value, into: &mut BTreeSet<String>) {
    let name = schema["$ref"].as_str().and_then(|r| r.rsplit('/').next());
    if let Some(name) = name.filter(|name| into.insert((*name).to_owned())) {
        named(&all[name], all, into);
    }
    let members = schema.as_object().into_iter().flat_map(Map::values);
    members.chain(schema.as_array().into_iter().flatten()).for_each(|part| named(part, all, into));
}

/// The numbers and lists of a schema that have no limits.
fn unlimited(schema: &Value, at: &str, into: &mut Vec<String>) {
    let kinds = schema["type"].as_array().cloned().unwrap_or_else(|| vec![schema["type"].clone()]);
    let is = |kind: &str| kinds.iter().any(|k| k == kind);
    let has = |member: &str| schema.get(member).is_some();
    let is_limited = match () {
        () if is("integer") || is("number") => has("maximum") && (has("minimum") || has("exclusiveMinimum")),
        () if is("array") => has("maxItems"),
        () => true,
    };
    if !is_limited {
        into.push(at.to_owned());
    }
    if let Value::Object(members) = schema {
        members.iter().for_each(|(name, part)| unlimited(part, &format!("{at}/{name}"), into));
    } else if let Value::Array(parts) = schema {
        parts.iter().enumerate().for_each(|(i, part)| unlimited(part, &format!("{at}/{i}"), into));
    }
}

/// The numbers and lists of a schema that have limits.
fn labels(schema: &Value, label: &str, into: &mut BTreeSet<String>) {
    if ["maximum", "maxItems"].iter().any(|m| schema.get(m).is_some()) {
        into.insert(label.to_owned());
    }
    let shapes = ["oneOf", "anyOf"].iter().filter_map(|m| schema[m].as_array()).flatten();
    shapes.for_each(|shape| labels(shape, label, into));
    for (name, property) in schema["properties"].as_object().into_iter().flatten() {
        labels(property, &format!("{label}/{name}"), into);
    }
    for (member, step) in [("items", "[]"), ("additionalProperties", "{}")] {
        if schema[member].is_object() {
            labels(&schema[member], &format!("{label}/{step}"), into);
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn numbers_in_queries_keep_the_limits_of_the_document() {
    let r = with_everything().await;
    let document = r.openapi().await;
    let mut n = 0;
    for (path, methods) in document["paths"].as_object().unwrap() {
        for parameter in methods["get"]["parameters"].as_array().into_iter().flatten() {
            let Some(most) = parameter["schema"]["maximum"].as_u64().filter(|most| (*most as f64) < TYPE)
            else {
                continue;
            };
            let (name, route) = (parameter["name"].as_str().unwrap(), concrete(path));
            let least = parameter["schema"]["minimum"].as_u64().unwrap();
            let below = (least > 0).then(|| (least - 1, true));
            let tried = [(most + 1, true), (most, false), (least, false)].into_iter().chain(below);
            for (value, is_beyond) in tried {
                let route = format!("{}?{name}={value}", route.replace("{comparison}", "1"));
                let answer = r.client.request("GET".parse().unwrap(), &route).send().await.unwrap();
                let is_refused = matches!(answer.status().as_u16(), 400 | 422);
                assert!(is_refused == is_beyond || answer.status() == 404, "{route}: {}", answer.status());
                n += 1;
            }
        }
    }
    assert!(n >= 20, "{n} requests");
}
