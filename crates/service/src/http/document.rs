//! The OpenAPI document: what the descriptions of the routes leave out because it is so of all of them.

use crate::http::{kinds, limits};
use crate::search::saved::cases;
use crate::search::saved::template::Template;
use axum::http::Method;
use serde_json::{Map, Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use utoipa::openapi::OpenApi;
use utoipa::{PartialSchema, ToSchema};
use zesty_wire::problem::{Kind, TYPE_PREFIX};
use zesty_wire::{LoadResult, ValueType};

const METHODS: [&str; 5] = ["get", "put", "post", "delete", "patch"];

/// The query parameters that each route knows, by the path of the route.
pub type Parameters = BTreeMap<String, BTreeSet<String>>;

/// Makes the document of the routes that need a key, and of those that answer without.
pub fn document(keyed: OpenApi, open: OpenApi) -> Value {
    let (mut document, open) = (json!(keyed), json!(open));
    each(&mut document, |method, path, operation| {
        name(operation);
        refusals(method, path, operation);
        limits::write_parameters(path, operation);
        operation.insert("security".into(), json!([{"key": []}, {"session": []}]));
    });
    limits::write(&mut document["components"]["schemas"]);
    let mut open = open;
    each(&mut open, |_, _, operation| {
        name(operation);
        operation.insert("security".into(), json!([]));
    });
    for (member, pointer) in [("paths", "/paths"), ("schemas", "/components/schemas")] {
        let Some(Value::Object(more)) = open.pointer_mut(pointer).map(Value::take) else { continue };
        if let Some(all) = document.pointer_mut(pointer).and_then(Value::as_object_mut) {
            all.extend(more);
        } else {
            tracing::error!("the OpenAPI document has no {member}");
        }
    }
    let components = &mut document["components"];
    // No route answers with it alone: it is the `result` of a load's job.
    components["schemas"][LoadResult::name().as_ref()] = json!(LoadResult::schema());
    components["securitySchemes"] = json!({
        "key": {"type": "http", "scheme": "bearer", "description": "A key: `Authorization: Bearer zk_...` (RFC 6750)"},
        "session": {"type": "apiKey", "in": "cookie", "name": "zesty_console",
            "description": "The session of a browser that a sign-in link has signed in"},
    });
    // CQL2 JSON is an object, or one of true and false.
    for place in ["Filter/oneOf/1", "FilterReading/properties/json"] {
        if let Some(schema) = document.pointer_mut(&format!("/components/schemas/{place}")) {
            schema["type"] = json!(["object", "boolean"]);
        }
    }
    document["info"] = info();
    document
}

fn info() -> Value {
    let kind = |k: &Kind| format!("- `{}` ({}): {}", k.word(), k.status(), k.title());
    let kinds: Vec<String> = Kind::ALL.iter().map(kind).collect();
    json!({
        "title": "Zesty Lantern",
        "version": env!("CARGO_PKG_VERSION"),
        "license": {"name": "MIT"},
        "description": format!(
            "Collections of records with vectors, approximate nearest-neighbour indexes, filtered similarity search, and \
             measured recall. Every route but those of `health` needs a key: `Authorization: Bearer zk_...`.\n\nErrors are \
             Problem Details (RFC 9457). Their `type` is `{TYPE_PREFIX}` and one of:\n\n{}",
            kinds.join("\n")
        ),
    })
}

/// Calls `change` with the method, path and description of each operation.
fn each(document: &mut Value, mut change: impl FnMut(&str, &str, &mut Map<String, Value>)) {
    let paths = document["paths"].as_object_mut().into_iter().flatten();
    for (path, methods) in paths {
        for method in METHODS {
            if let Some(operation) = methods.get_mut(method).and_then(Value::as_object_mut) {
                change(method, path, operation);
            }
        }
    }
}

/// Ids are unique in a document; the names of the functions are so only within a tag.
fn name(operation: &mut Map<String, Value>) {
    let tag = operation["tags"][0].as_str().unwrap_or_default().replace(' ', "_");
    let name = operation["operationId"].as_str().unwrap_or_default();
    let id = format!("{tag}_{name}");
    operation.insert("operationId".into(), json!(id));
}

/// What each route may answer besides what it says of itself. All refusals are Problem Details.
fn refusals(method: &str, path: &str, operation: &mut Map<String, Value>) {
    let has_body = operation.contains_key("requestBody");
    let reads = method.to_uppercase().parse().is_ok_and(|method: Method| kinds::reads(&method, path));
    let edits =
        matches!(method, "patch" | "delete") || matches!(kinds::last_step(path), "patches" | "deletions");
    let mut statuses = vec![
        (401, "No valid key"),
        (403, "The key does not permit it"),
        (409, "It does not go with what is there"),
        (422, "A value is not valid: `pointer` says which"),
        (429, "The key has made as many requests as it may: see Retry-After"),
        (500, "The service made a mistake; `request_id` finds it in the log"),
        (503, "The service, or the database, cannot answer now: see Retry-After"),
    ];
    if path.contains('{') || has_body {
        statuses.push((404, "There is nothing of this name"));
    }
    if has_body {
        statuses.extend([
            (400, "The body is not JSON in UTF-8"),
            (413, "The body is too large"),
            (415, "The body has another media type"),
        ]);
    } else {
        statuses.push((400, "The path or the query is malformed"));
    }
    if !reads {
        let header = json!({"name": "Idempotency-Key", "in": "header", "required": false,
            "description": "Sent again with the same key, a request that succeeded is not done again, and is answered the same. Kept for a day",
            "schema": {"type": "string", "minLength": 1, "maxLength": 255}});
        let parameters = operation.entry("parameters").or_insert_with(|| json!([]));
        parameters.as_array_mut().into_iter().for_each(|all| all.push(header.clone()));
        statuses.push((507, "The disk is full"));
    }
    if edits {
        statuses.push((412, "Somebody else has changed it"));
    }
    if has_body || path.contains("encoders") {
        statuses.push((502, "An encoder did not give a usable answer"));
    }
    let Some(responses) = operation.get_mut("responses").and_then(Value::as_object_mut) else { return };
    for (status, description) in statuses {
        let described = responses.entry(status.to_string()).or_insert_with(|| json!({}));
        if described["description"].as_str().is_none_or(str::is_empty) {
            described["description"] = json!(description);
        }
    }
    for (status, described) in responses.iter_mut() {
        if status.starts_with(['4', '5']) {
            let problem = json!({"schema": {"$ref": "#/components/schemas/Problem"}});
            described["content"] = json!({"application/problem+json": problem});
        }
    }
    responses.sort_keys();
}

/// Adds the saved searches, each with its own path and parameters.
pub fn with_saved(mut document: Value, saved: &[(String, Arc<Template>)]) -> Value {
    let Some(paths) = document["paths"].as_object_mut() else { return document };
    for (collection, template) in saved {
        let definition = &template.definition;
        let id = format!("ask_{collection}_{}", template.name);
        let operation = |id: String| {
            let ok = json!({"description": "The hits, nearest first",
                "content": {"application/json": {"schema": {"$ref": "#/components/schemas/SearchAnswer"}}}});
            let mut operation = Map::new();
            operation.insert("tags".into(), json!([format!("saved searches of {collection}")]));
            operation.insert("operationId".into(), json!(id));
            operation.insert("summary".into(), json!(format!("Ask the saved search {}", template.name)));
            operation.insert("description".into(), json!(definition.description));
            operation.insert("security".into(), json!([{"key": []}, {"session": []}]));
            operation.insert("responses".into(), json!({"200": ok}));
            operation
        };
        let path = cases::path(collection, &template.name);
        let (mut get, mut post) = (operation(format!("{id}_by_query")), operation(id));
        let (mut properties, mut required, mut query) = (Map::new(), Vec::new(), Vec::new());
        for (name, about) in &definition.parameters {
            let mut schema = json!(about);
            let members = schema.as_object_mut().into_iter();
            members.for_each(|m| drop(m.remove("optional")));
            if about.items.is_some() {
                // In JSON Schema these go to the items.
                let moved = ["enum", "minimum", "maximum", "maxLength"].map(|m| (m, schema[m].take()));
                schema.as_object_mut().into_iter().for_each(|m| m.retain(|_, v| !v.is_null()));
                moved.into_iter().filter(|(_, v)| !v.is_null()).for_each(|(m, v)| schema["items"][m] = v);
            }
            let is_needed = about.default.is_none() && !about.optional;
            let numbers = about.items.is_some_and(|i| i.r#type != ValueType::String);
            query.push(json!({"name": name, "in": "query", "required": is_needed, "style": "form",
                "explode": !numbers, "description": about.description, "schema": schema}));
            properties.insert(name.clone(), schema);
            required.extend(is_needed.then_some(name));
        }
        let body = json!({"type": "object", "properties": properties, "required": required,
            "additionalProperties": false});
        get.insert("parameters".into(), json!(query));
        post.insert(
            "requestBody".into(),
            json!({"required": true, "content": {"application/json": {"schema": body}}}),
        );
        refusals("get", &path, &mut get);
        refusals("post", &path, &mut post);
        // An encoder may be asked.
        let refused = post["responses"]["502"].clone();
        get["responses"]["502"] = refused;
        paths.insert(path, json!({"get": get, "post": post}));
    }
    document
}

/// The query parameters that the document describes, of the routes that know theirs.
pub fn parameters(document: &Value) -> Parameters {
    let paths = document["paths"].as_object().into_iter().flatten();
    let of = |methods: &Value| {
        let operations = METHODS.iter().filter_map(|method| methods.get(method));
        let all = operations.flat_map(|o| o["parameters"].as_array().into_iter().flatten());
        let query = all.filter(|p| p["in"] == "query");
        query.filter_map(|p| p["name"].as_str().map(str::to_owned)).collect()
    };
    // A saved search has parameters of its own, and refuses others itself.
    let known = paths.filter(|(path, _)| !(path.contains("/saved-searches/") && path.ends_with("/search")));
    known.map(|(path, methods)| (path.clone(), of(methods))).collect()
}

/// The methods that each route has, by the path of the route.
pub type Methods = BTreeMap<String, Vec<Method>>;

/// The methods that the document describes.
pub fn methods(document: &Value) -> Methods {
    let paths = document["paths"].as_object().into_iter().flatten();
    let of = |methods: &Value| {
        let all = METHODS.iter().filter(|method| methods.get(**method).is_some());
        all.filter_map(|method| method.to_uppercase().parse().ok()).collect()
    };
    paths.map(|(path, methods)| (path.clone(), of(methods))).collect()
}
