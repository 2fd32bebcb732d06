//! Queries that callers bring: in a file or in the request. A query that is wrong refuses all of them.

use crate::collections::live::Live;
use crate::node::encoders::Encoders;
use crate::node::uploads::{Uploads, wrong_file};
use crate::problem::{Kind, Problem, Result};
use crate::records::select::read_and_compile;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use zesty_catalog::NewQuery;
use zesty_files::{Kind as CellKind, LoadSources, Mapping, Match, Rows, TargetFields, VectorSource};
use zesty_wire::{self as wire, GivenQuery};

/// Queries of one set.
pub const MAX_QUERIES: usize = 10_000;
/// The grade of a key that is known to be right.
pub const MOST_GRADE: f64 = 1e6;
/// Texts that an encoder gets at once.
const TEXTS: usize = 128;
/// What a record of a file can have.
const MEMBERS: &str = "a query has a vector or a text, and may have filter and relevant";

/// Reads the queries of a file: records with `vector` or `text`, or vectors alone.
pub fn from_file(uploads: &Uploads, id: &str) -> Result<Vec<(String, GivenQuery)>> {
    let file = uploads.named(id).map_err(|p| p.at("/file"))?;
    let alone = [".npy", ".fvecs", ".bvecs"].iter().any(|end| file.name.ends_with(end));
    let fields = ["text", "filter", "relevant"].map(|name| (name.to_owned(), CellKind::Text)).into();
    let sources = LoadSources {
        records: (!alone).then(|| file.clone()),
        vectors: match alone {
            true => vec![VectorSource { column: "vector".into(), file, keys: None }],
            false => Vec::new(),
        },
        matching: Match::Row,
        mapping: Mapping { keyless: true, ..Mapping::default() },
        target: TargetFields { fields, columns: vec!["vector".into()] },
        limits: uploads.limits,
        keep_text: false,
    };
    let rows = Rows::open(&sources).map_err(wrong_file)?;
    let (name, unit) = (rows.file.clone(), rows.unit);
    let mut queries = Vec::new();
    for row in rows {
        let row = row.map_err(wrong_file)?;
        let place = format!("{name}, {unit} {}", row.n);
        let wrong = |why: String| Problem::new(Kind::WrongFile, format!("{place} {why}")).at("/file");
        let record = row.record.map_err(|bad| wrong(bad.reason))?;
        if queries.len() == MAX_QUERIES {
            return Err(too_many(&format!("{name} has more")));
        }
        let mut query =
            GivenQuery { vector: record.vectors.get("vector").cloned().flatten(), ..GivenQuery::default() };
        for (member, value) in record.fields {
            match (member.as_str(), value) {
                (_, Value::Null) => {}
                ("text", Value::String(text)) => query.text = Some(text),
                ("filter", Value::String(text)) => query.filter = Some(wire::Filter::Text(text)),
                ("filter", json @ Value::Object(_)) => query.filter = Some(wire::Filter::Json(json)),
                ("relevant", value) => {
                    let read = match value {
                        Value::String(text) => serde_json::from_str(&text),
                        other => serde_json::from_value(other),
                    };
                    let why = |_| wrong("has a relevant that is not an object of grades by key".into());
                    query.relevant = Some(read.map_err(why)?);
                }
                ("text" | "filter", other) => {
                    return Err(wrong(format!("has a {member} that is {other}; it is a string")));
                }
                _ => {}
            }
        }
        if query.vector.is_none() && query.text.is_none() {
            return Err(wrong(format!("has neither a vector nor a text; {MEMBERS}")));
        }
        queries.push((place, query));
    }
    if queries.is_empty() {
        return Err(Problem::new(Kind::WrongFile, format!("{name} holds no query")).at("/file"));
    }
    Ok(queries)
}

pub fn too_many(what: &str) -> Problem {
    let detail = format!("{what} than {MAX_QUERIES} queries; a query set takes 1 to {MAX_QUERIES}");
    Problem::new(Kind::TooLarge, detail).with("limit", MAX_QUERIES)
}

/// Checks queries, and asks the column's encoder for the vectors of texts. Places say where each one was.
pub async fn checked(
    encoders: &Encoders,
    live: &Live,
    column: usize,
    queries: Vec<(String, GivenQuery)>,
) -> Result<Vec<NewQuery>> {
    let about = &live.columns()[column];
    let (metric, dimensions) = (live.metrics[column], about.dimensions as usize);
    let table = live.table.load_full();
    let mut texts: Vec<(usize, String)> = Vec::new();
    let mut all = Vec::with_capacity(queries.len());
    let mut places = Vec::with_capacity(queries.len());
    for (i, (place, query)) in queries.into_iter().enumerate() {
        let wrong = |why: String| Problem::new(Kind::WrongShape, format!("{place} {why}"));
        let mut new = NewQuery::default();
        match (query.vector, query.text) {
            (Some(vector), text) => {
                new.vector = metric.prepare(&vector, dimensions).map_err(|e| wrong(e.to_string()))?;
                new.text = text;
            }
            (None, Some(text)) if text.trim().is_empty() => return Err(wrong("has an empty text".into())),
            (None, Some(text)) => {
                texts.push((i, text.clone()));
                new.text = Some(text);
            }
            (None, None) => return Err(wrong(format!("has neither a vector nor a text; {MEMBERS}"))),
        }
        if let Some(filter) = &query.filter {
            read_and_compile(table.schema(), Some(filter))
                .map_err(|p| wrong(format!("has a filter: {}", p.detail)))?;
            new.filter = Some(json!(filter));
        }
        if let Some(relevant) = query.relevant {
            new.relevant = graded(relevant).map_err(wrong)?;
        }
        places.push(place);
        all.push(new);
    }
    if let (Some((first, _)), None) = (texts.first(), &about.encoder) {
        let detail = format!(
            "{} is a text, and column \"{}\" has no encoder: give vectors of {dimensions} numbers",
            places[*first], about.name
        );
        return Err(Problem::new(Kind::NoEncoder, detail));
    }
    if let Some(name) = about.encoder.as_ref().filter(|_| !texts.is_empty()) {
        let encoder = encoders.get(name).await?;
        for some in texts.chunks(TEXTS) {
            let words: Vec<String> = some.iter().map(|(_, text)| text.clone()).collect();
            let vectors = encoders.encode(&encoder, &words, about.dimensions).await?;
            for ((i, _), vector) in some.iter().zip(vectors) {
                all[*i].vector = metric.prepare(&vector, dimensions).map_err(|e| {
                    let subject = format!("{}: what encoder \"{name}\" made of the text", places[*i]);
                    Problem::vector(&e, &subject, "")
                })?;
            }
        }
    }
    Ok(all)
}

fn graded(relevant: BTreeMap<String, f64>) -> std::result::Result<Option<Value>, String> {
    if let Some((key, grade)) = relevant.iter().find(|(_, grade)| !(**grade > 0.0 && **grade <= MOST_GRADE)) {
        return Err(format!("grades \"{key}\" with {grade}; a grade is above 0, and at most {MOST_GRADE}"));
    }
    Ok((!relevant.is_empty()).then(|| json!(relevant)))
}
