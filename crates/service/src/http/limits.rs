//! The limits of the numbers and lists that requests hold, as the OpenAPI document states them.
//!
//! Each is refused where its request is carried out; `tests/service/limits.rs` holds the two against each other.

use crate::records::batch::MAX_BATCH;
use crate::search::settings::{MAX_DEEP, MAX_K};
use crate::{collections, measure, names, records, search};
use serde_json::{Map, Value, json};
use zesty_engine::index::Settings;

/// What a number or the length of a list may be.
#[derive(Clone, Copy)]
enum Limit {
    From(u64, u64),
    /// More than 0, at most this.
    Above0(f64),
    /// Any number of 32 or 64 bits.
    Float(f64),
    Items(usize, usize),
}
use Limit::{Above0, Float, From, Items};

/// Sizes, seeds and positions that only their type limits.
const ANY: Limit = From(0, u64::MAX);
const ID: Limit = From(1, i64::MAX as u64);
const NAMES: Limit = Items(0, names::MOST_NAMES);

const fn up_to(most: usize) -> Limit {
    From(1, most as u64)
}

/// By schema and member. `[]` stands for the items of a list, `{}` for the values of an object.
const BODIES: &[(&str, Limit)] = &[
    ("AdviceRequest/finalists", up_to(measure::advice::MOST)),
    ("AdviceRequest/k", up_to(MAX_K)),
    ("AdviceRequest/memory_mb", Above0(measure::advice::MOST_MB)),
    ("AdviceRequest/recall", Above0(1.0)),
    ("AdviceRequest/recipes", Items(0, measure::advice::MOST)),
    ("AnswersRequest/k", up_to(MAX_K)),
    ("AtMost/hits", up_to(MAX_K)),
    ("Capture/days", From(1, 90)),
    ("Capture/keep", From(1, 10_000)),
    ("Capture/share", Above0(1.0)),
    ("ComparisonRequest/k", up_to(measure::comparisons::MAX_K)),
    ("ComparisonRequest/rounds", up_to(measure::sweeps::MAX_ROUNDS)),
    ("ComparisonRequest/seed", ANY),
    ("DeleteRequest/expected", ANY),
    ("DeleteRequest/keys", Items(0, records::edit::MOST_KEYS)),
    ("GivenQuery/relevant/{}", Above0(measure::read_queries::MOST_GRADE)),
    ("KeyChange/add_collections", NAMES),
    ("KeyChange/add_scopes", NAMES),
    ("KeyChange/add_searches", NAMES),
    ("KeyChange/body_bytes", From(0, 1 << 40)),
    ("KeyChange/remove_collections", NAMES),
    ("KeyChange/remove_scopes", NAMES),
    ("KeyChange/remove_searches", NAMES),
    ("KeyChange/requests_per_s", From(0, 100_000)),
    ("KeyRequest/body_bytes", From(1024, 1 << 40)),
    ("KeyRequest/collections", Items(1, 100)),
    ("KeyRequest/requests_per_s", From(1, 100_000)),
    ("KeyRequest/scopes", Items(1, names::MOST_NAMES)),
    ("KeyRequest/searches", Items(1, 100)),
    ("Keys", Items(1, search::query::MAX_EXAMPLES)),
    ("LensRequest/position", ANY),
    ("LiveVersion/version", From(1, i32::MAX as u64)),
    ("LoadRequest/batch", up_to(MAX_BATCH)),
    ("LoadRequest/only", NAMES),
    ("LoadRequest/vectors", Items(0, collections::columns::MAX_COLUMNS)),
    ("MapRequest/records", up_to(measure::map::MOST)),
    ("NewCollection/columns", Items(0, collections::columns::MAX_COLUMNS)),
    ("NewColumn/dimensions", up_to(collections::recipes::MAX_DIMENSIONS)),
    ("NewIndex/seed", From(0, i64::MAX as u64)),
    ("NewIndex/threads", From(1, 256)),
    ("NewQuerySet/given", Items(1, measure::read_queries::MAX_QUERIES)),
    ("NewQuerySet/noise", Above0(10.0)),
    ("NewQuerySet/of", From(2, 100)),
    ("NewQuerySet/queries", up_to(measure::read_queries::MAX_QUERIES)),
    ("NewQuerySet/seed", From(0, i64::MAX as u64)),
    ("NewUpload/bytes", From(0, crate::node::uploads::MOST_BYTES)),
    ("Parameter/enum", Items(1, 1000)),
    ("Parameter/maxItems", From(1, 100_000)),
    ("Parameter/maxLength", From(1, 100_000)),
    ("Parameter/maximum", Float(f64::MAX)),
    ("Parameter/minimum", Float(f64::MAX)),
    ("PatchRequest/expected", ANY),
    ("PatchRequest/keys", Items(0, records::edit::MOST_KEYS)),
    ("RecallCheck/budget", Above0(0.5)),
    ("RecallCheck/floor", Above0(1.0)),
    ("RecipeRequest/dimensions", up_to(collections::recipes::MAX_DIMENSIONS)),
    ("RecipeRequest/rows", From(0, u32::MAX as u64 - 1)),
    ("RecordBatch/records", Items(0, MAX_BATCH)),
    ("RotateRequest/overlap_s", From(0, crate::access::keys::MOST_OVERLAP_S as u64)),
    ("SearchRequest/distance_at_most", Float(f32::MAX as f64)),
    ("SearchRequest/fields", NAMES),
    ("SearchRequest/follow", NAMES),
    ("SearchRequest/k", up_to(MAX_K)),
    ("SearchRequest/leave_out", Items(0, search::check::MAX_LEFT_OUT)),
    ("SearchRequest/recall", Above0(1.0)),
    ("SearchRequest/score_at_least", Float(f32::MAX as f64)),
    ("SearchRequest/skip", From(0, MAX_DEEP as u64 - 1)),
    ("SearchRequest/time_limit_ms", Above0(60_000.0)),
    ("SearchRequest/vectors", NAMES),
    ("SearchRequests/searches", Items(1, search::run::MAX_SEARCHES)),
    ("ServingChoice/recall", Above0(1.0)),
    ("Settings/beam", up_to(Settings::MAX_BEAM)),
    ("Settings/rescore", up_to(Settings::MAX_RESCORE)),
    ("Settings/visit", up_to(Settings::MAX_VISIT)),
    ("SweepRequest/beams", Items(1, measure::sweeps::MAX_STEPS)),
    ("SweepRequest/beams/[]", up_to(Settings::MAX_BEAM)),
    ("SweepRequest/clients", Items(0, measure::sweeps::MAX_LIST)),
    ("SweepRequest/clients/[]", From(1, 64)),
    ("SweepRequest/indexes", Items(0, measure::sweeps::MAX_INDEXES)),
    ("SweepRequest/k", Items(0, measure::sweeps::MAX_LIST)),
    ("SweepRequest/k/[]", up_to(MAX_K)),
    ("SweepRequest/query_sets", Items(0, measure::sweeps::MAX_LIST)),
    ("SweepRequest/recipes", Items(0, measure::sweeps::MAX_INDEXES)),
    ("SweepRequest/rescores", Items(0, measure::sweeps::MAX_LIST)),
    ("SweepRequest/rescores/[]", up_to(Settings::MAX_RESCORE)),
    ("SweepRequest/rounds", up_to(measure::sweeps::MAX_ROUNDS)),
    ("SweepRequest/seed", ANY),
    ("SweepRequest/visits", Items(1, measure::sweeps::MAX_STEPS)),
    ("SweepRequest/visits/[]", up_to(Settings::MAX_VISIT)),
    ("TargetRequest/k", up_to(MAX_K)),
    ("TargetRequest/query_sets", Items(0, measure::sweeps::MAX_LIST)),
    ("TargetRequest/recall", Above0(1.0)),
    ("TargetRequest/rescore", up_to(Settings::MAX_RESCORE)),
    ("Vector", Items(0, collections::recipes::MAX_DIMENSIONS)),
    ("Vector/[]", Float(f32::MAX as f64)),
];

/// Numbers in paths and queries, by the route's last steps and the parameter; those of paths that are not here are ids.
const PARAMETERS: &[(&str, &str, Limit)] = &[
    ("/unencoded", "limit", From(1, 1000)),
    ("/comparisons/{comparison}/queries", "from", ANY),
    ("/comparisons/{comparison}/queries", "limit", From(1, 100)),
    ("/queries/{position}", "position", ANY),
    ("/queries/{position}/verdict", "position", ANY),
    ("/fields", "limit", From(0, 1000)),
    ("/query-sets/{set}/queries", "from", ANY),
    ("/query-sets/{set}/queries", "limit", From(1, 1000)),
    ("/records", "limit", From(1, 1000)),
    ("/watch", "hours", From(1, 24 * 90)),
    ("/files/{file}/content", "offset", ANY),
    ("/audit", "limit", From(1, 1000)),
];

impl Limit {
    fn write(self, schema: &mut Map<String, Value>) {
        schema.remove("minimum");
        let members = match self {
            From(low, high) => [("minimum", json!(low)), ("maximum", json!(high))],
            Above0(high) => [("exclusiveMinimum", json!(0)), ("maximum", json!(high))],
            Float(high) => [("minimum", json!(-high)), ("maximum", json!(high))],
            Items(low, high) => [("minItems", json!(low)), ("maxItems", json!(high))],
        };
        schema.extend(members.map(|(name, value)| (name.to_owned(), value)));
    }
}

/// The schema that a path of names leads to.
fn find<'a>(schemas: &'a mut Value, path: &str) -> Option<&'a mut Map<String, Value>> {
    let mut steps = path.split('/');
    let first = schemas.get_mut(steps.next()?)?;
    let found = steps.try_fold(first, |schema, step| match step {
        "[]" => list(schema)?.get_mut("items"),
        "{}" => schema.get_mut("additionalProperties"),
        step => schema.get_mut("properties")?.get_mut(step),
    })?;
    list(found)?.as_object_mut()
}

/// Of several shapes, the list.
fn list(schema: &mut Value) -> Option<&mut Value> {
    match schema.get("oneOf").is_some() {
        true => schema["oneOf"].as_array_mut()?.iter_mut().find(|s| s["type"] == "array"),
        false => Some(schema),
    }
}

/// Writes the limits into the schemas of the document.
pub fn write(schemas: &mut Value) {
    for (path, limit) in BODIES {
        match find(schemas, path) {
            Some(schema) => limit.write(schema),
            None => tracing::error!("the OpenAPI document has no {path}"),
        }
    }
}

/// Writes the limits of the parameters of one route.
pub fn write_parameters(route: &str, operation: &mut Map<String, Value>) {
    let all = operation.get_mut("parameters").and_then(Value::as_array_mut).into_iter().flatten();
    for parameter in all {
        let name = parameter["name"].as_str().unwrap_or_default();
        let known = PARAMETERS.iter().find(|(end, of, _)| *of == name && route.ends_with(end));
        let limit = known.map_or(ID, |(_, _, limit)| *limit);
        let schema = &mut parameter["schema"];
        let kinds = schema["type"].as_array().cloned().unwrap_or_else(|| vec![schema["type"].clone()]);
        if kinds.iter().any(|kind| kind == "integer")
            && let Some(schema) = schema.as_object_mut()
        {
            limit.write(schema);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::http::router::openapi;

    #[test]
    fn every_limit_is_of_something_in_the_document() {
        let mut document = openapi();
        let schemas = &mut document["components"]["schemas"];
        let unknown: Vec<_> = BODIES.iter().filter(|(path, _)| find(schemas, path).is_none()).collect();
        assert!(unknown.is_empty(), "{:?}", unknown.iter().map(|(path, _)| path).collect::<Vec<_>>());
        let paths = document["paths"].as_object().unwrap();
        let is_known = |end: &&str| paths.keys().any(|path| path.ends_with(*end));
        assert!(PARAMETERS.iter().all(|(end, ..)| is_known(end)));
    }
}
