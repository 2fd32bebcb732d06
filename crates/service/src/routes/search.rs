//! Searches: by text, by vector, by another record.

use super::*;
use crate::live::{Live, LiveIndex};
use serde_json::{Map, Value};
use std::collections::HashMap;
use std::time::Instant;
use zesty_engine::Metric;
use zesty_engine::index::Work;
use zesty_engine::search::{Plan, Request, Strategy, run};

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SearchInput {
    /// The collection's default column when absent
    pub column: Option<String>,
    /// The encoder that made `vector`; a column of another encoder refuses it
    pub encoder: Option<String>,
    /// Search by text, through the column's encoder
    pub text: Option<String>,
    /// Search by a vector with the column's dimensions
    pub vector: Option<Vec<f32>>,
    /// Search by the vector of the record with this key
    pub like: Option<String>,
    /// With `like`: whether the record itself may be a hit
    #[serde(default)]
    pub include_self: bool,
    /// Hits wanted, 1 to 1000
    #[serde(default = "ten")]
    pub k: usize,
    /// CQL2 text, such as `severity >= 4 AND station = 'Gull Rock'`, or CQL2 JSON
    pub filter: Option<FilterInput>,
    /// Fields to return; all when absent
    pub fields: Option<Vec<String>>,
    /// Look at every record instead of using an index
    #[serde(default)]
    pub exact: bool,
    /// Instead of the serving choice
    pub index: Option<String>,
    /// Instead of the serving choice's
    pub settings: Option<SettingsInput>,
}

pub(crate) fn ten() -> usize {
    10
}

#[derive(Serialize, ToSchema)]
pub struct Hit {
    pub key: String,
    /// Lower is closer
    pub distance: f32,
    /// Higher is closer
    pub score: f32,
    #[schema(value_type = Object)]
    pub fields: Map<String, Value>,
}

/// How the answer came about
#[derive(Serialize, ToSchema)]
pub struct Via {
    pub column: String,
    #[schema(value_type = String)]
    pub metric: Metric,
    /// Null for an exact search
    pub index: Option<String>,
    pub recipe: Option<String>,
    pub settings: Option<SettingsInput>,
    /// The strategy, rows allowed, and the costs it was chosen by
    #[schema(value_type = Object)]
    pub plan: Plan,
    /// Distances evaluated and nodes visited
    #[schema(value_type = Object)]
    pub work: Work,
    /// Whether the hits are certainly the nearest
    pub exact: bool,
}

/// Microseconds in each stage
#[derive(Serialize, ToSchema)]
pub struct Took {
    pub encode_us: f64,
    pub filter_us: f64,
    pub search_us: f64,
    pub fetch_us: f64,
    pub total_us: f64,
}

/// Advice that comes with an answer
#[derive(Serialize, ToSchema)]
pub struct Notice {
    pub code: String,
    pub text: String,
}

#[derive(Serialize, ToSchema)]
pub struct SearchView {
    /// Nearest first
    pub hits: Vec<Hit>,
    pub via: Via,
    /// What the answer has seen: every batch up to this one
    pub revision: u64,
    pub took: Took,
    pub notices: Vec<Notice>,
}

struct Chosen {
    index: Arc<LiveIndex>,
    settings: Settings,
}

/// Leaves the members that are wanted, by dotted path; a wanted object stays whole.
fn keep_fields(fields: &mut Map<String, Value>, path: &str, wanted: &[String]) {
    fields.retain(|name, value| {
        let full = format!("{path}{name}");
        if wanted.contains(&full) {
            return true;
        }
        match value {
            Value::Object(inner) => {
                keep_fields(inner, &format!("{full}."), wanted);
                !inner.is_empty()
            }
            _ => false,
        }
    });
}

/// Which index answers: the named one, the serving choice, or none.
fn choose(
    live: &Live,
    column: usize,
    input: &SearchInput,
    notices: &mut Vec<Notice>,
) -> Result<Option<Chosen>> {
    let over = |usual: Settings| input.settings.unwrap_or_default().over(usual, "/settings");
    over(Settings::default())?;
    if input.exact {
        if input.index.is_some() || input.settings.is_some() {
            let detail = "an exact search uses no index: leave out exact, or index and settings";
            return Err(Problem::new(Kind::WrongShape, detail).at("/exact"));
        }
        return Ok(None);
    }
    let mut notice = |code: &str, text: String| notices.push(Notice { code: code.into(), text });
    if let Some(name) = &input.index {
        let index = live.index(name).map_err(|p| p.at("/index"))?;
        if live.position(&index) != Some(column) {
            let detail =
                format!("index \"{name}\" is not built over column \"{}\"", live.columns()[column].name);
            return Err(Problem::new(Kind::WrongShape, detail).at("/index"));
        }
        if index.attached.is_none() {
            return Err(indexes::not_ready(&index).at("/index"));
        }
        let serving = live.serving(column).filter(|s| s.index == *name);
        let settings = over(serving.map_or(Settings::default(), |s| s.settings))?;
        return Ok(Some(Chosen { index, settings }));
    }
    let Some(serving) = live.serving(column) else {
        if live.table.load().n_records() > 1000 {
            notice(
                "no-index",
                "no index serves this column, so every record was looked at; build one to search faster"
                    .into(),
            );
        }
        return Ok(None);
    };
    let index = live.index(&serving.index)?;
    if index.attached.is_none() {
        let text = format!("index \"{}\" is not ready; the answer is exact, and slower", serving.index);
        notice("index-not-ready", text);
        return Ok(None);
    }
    Ok(Some(Chosen { index, settings: over(serving.settings)? }))
}

/// Says which of the given settings do nothing for the index that answers.
fn tell_idle(chosen: &Chosen, input: &SearchInput, notices: &mut Vec<Notice>) {
    let (Some(given), model) = (input.settings, &chosen.index.model) else { return };
    let idle = given.idle(SettingsInput::of(&model.recipe, chosen.settings));
    if !idle.is_empty() {
        let text = format!("index \"{}\" ({}) does not heed {}", model.name, model.recipe, idle.join(" or "));
        notices.push(Notice { code: "idle-setting".into(), text });
    }
}

/// The prepared query vector, and the row it came from.
async fn resolve(
    hub: &Hub,
    live: &Live,
    column: usize,
    input: &SearchInput,
) -> Result<(Vec<f32>, Option<u32>)> {
    let about = &live.columns()[column];
    if let Some(said) = &input.encoder {
        live.check_encoder(column, said, "/encoder")?;
    }
    let metric = live.metrics[column];
    let dimensions = about.dimensions as usize;
    match (&input.text, &input.vector, &input.like) {
        (Some(text), None, None) => {
            if text.trim().is_empty() {
                return Err(Problem::new(Kind::WrongShape, "the text to search for is empty").at("/text"));
            }
            let Some(name) = &about.encoder else {
                let detail = format!(
                    "column \"{}\" has no encoder, so it cannot be searched by text; give a vector of {dimensions} \
                     numbers, or a record's key as like",
                    about.name
                );
                return Err(Problem::new(Kind::NoEncoder, detail).at("/text"));
            };
            let encoder = hub.catalog.encoder(name).await?;
            let encoder = encoder.ok_or_else(|| Problem::unknown("encoder", name, []))?;
            let texts = std::slice::from_ref(text);
            let vector = hub.encoders.encode(&encoder, texts, about.dimensions).await?.remove(0);
            let subject = format!("what encoder \"{name}\" made of the text");
            let query =
                metric.prepare(&vector, dimensions).map_err(|e| Problem::vector(&e, &subject, "/text"))?;
            Ok((query, None))
        }
        (None, Some(vector), None) => {
            let subject = format!("the query for column \"{}\"", about.name);
            let query =
                metric.prepare(vector, dimensions).map_err(|e| Problem::vector(&e, &subject, "/vector"))?;
            Ok((query, None))
        }
        (None, None, Some(key)) => {
            let table = live.table.load();
            let row = table.row(key).ok_or_else(|| records::unknown_record(live, key).at("/like"))?;
            let vectors = &table.vectors()[column].vectors;
            if !vectors.present().contains(row as usize) {
                let detail = format!("record \"{key}\" has no vector in column \"{}\"", about.name);
                return Err(Problem::new(Kind::NoData, detail).at("/like"));
            }
            Ok((vectors.row(row).to_vec(), (!input.include_self).then_some(row)))
        }
        _ => {
            let given = [input.text.is_some(), input.vector.is_some(), input.like.is_some()];
            let n = given.iter().filter(|g| **g).count();
            let detail = format!("give one of text, vector or like; {n} are given");
            Err(Problem::new(Kind::WrongShape, detail))
        }
    }
}

/// Search a collection
#[utoipa::path(post, path = "/api/collections/{collection}/search", tag = "search",
    params(("collection" = String, Path)), request_body = SearchInput,
    responses((status = 200, body = SearchView), (status = 404, body = crate::problem::ProblemBody),
        (status = 422, body = crate::problem::ProblemBody), (status = 502, body = crate::problem::ProblemBody)))]
pub async fn search(
    State(hub): Hubbed,
    Path(name): Path<String>,
    Input(input): Input<SearchInput>,
) -> Result<Json<SearchView>> {
    let start = Instant::now();
    let us = |since: Instant| since.elapsed().as_secs_f64() * 1e6;
    let live = hub.collection(&name)?;
    check_k(input.k)?;
    let column = live.column(input.column.as_deref(), "/column")?;
    let schema = live.table.load();
    let schema = schema.schema();
    if let Some(fields) = &input.fields
        && let Some((i, field)) = fields.iter().enumerate().find(|(_, f)| !schema.has(f))
    {
        return Err(Problem::unknown("field", field, schema.names()).at(format!("/fields/{i}")));
    }
    let test = compile_filter(schema, input.filter.as_ref())?;
    let mut notices = Vec::new();
    let chosen = choose(&live, column, &input, &mut notices)?;
    if let Some(chosen) = &chosen {
        tell_idle(chosen, &input, &mut notices);
    }
    let (query, excluded) = resolve(&hub, &live, column, &input).await?;
    let encode_us = us(start);

    // The snapshot is taken after encoding, so that the answer is as fresh as can be.
    let table = live.table.load_full();
    let k = input.k;
    let (table, answer, chosen) = tokio::task::spawn_blocking(move || {
        let index = chosen.as_ref().and_then(|c| Some((c.index.attached.as_ref()?, c.settings)));
        let answer =
            run(&table, Request { column, query: &query, k, filter: test.as_ref(), excluded, index });
        (table, answer, chosen)
    })
    .await
    .map_err(|e| Problem::new(Kind::Internal, format!("the search stopped: {e}")))?;

    let fetching = Instant::now();
    let mut bodies: HashMap<u64, Value> = HashMap::new();
    if input.fields.as_ref().is_none_or(|f| !f.is_empty()) {
        let numbers: Vec<u64> = answer.nearest.iter().map(|n| table.number(n.row)).collect();
        bodies =
            hub.catalog.records(live.id, &numbers).await?.into_iter().map(|r| (r.number, r.body)).collect();
    }
    let metric = live.metrics[column];
    let hits: Vec<Hit> = answer
        .nearest
        .iter()
        .map(|n| {
            let mut fields = match bodies.remove(&table.number(n.row)) {
                Some(Value::Object(fields)) => fields,
                _ => Map::new(),
            };
            if let Some(wanted) = &input.fields {
                keep_fields(&mut fields, "", wanted);
            }
            Hit {
                key: table.key(n.row).into(),
                distance: metric.distance(n.rank),
                score: metric.score(n.rank),
                fields,
            }
        })
        .collect();
    let fetch_us = us(fetching);

    let plan = answer.plan;
    if hits.len() < k {
        let n = hits.len();
        let why = if input.filter.is_some() && plan.allowed < plan.rows {
            format!("the filter allows {} of {} records", plan.allowed, plan.rows)
        } else {
            format!("the collection holds {} records that could be hits", plan.rows)
        };
        notices.push(Notice { code: "fewer-hits".into(), text: format!("{n} hits of {k} asked for: {why}") });
    }
    if plan.scanned_beside > 0 && plan.scanned_beside * 5 > plan.rows {
        let text = format!(
            "{} of {} records are newer than the index and were scanned beside it; rebuild it to search faster",
            plan.scanned_beside, plan.rows
        );
        notices.push(Notice { code: "index-behind".into(), text });
    }
    let exact = matches!(plan.strategy, Strategy::ScanAll | Strategy::ScanAllowed | Strategy::WalkThenScan);
    let via = Via {
        column: live.columns()[column].name.clone(),
        metric,
        index: chosen.as_ref().map(|c| c.index.model.name.clone()),
        recipe: chosen.as_ref().map(|c| c.index.model.recipe.clone()),
        settings: chosen.as_ref().map(|c| SettingsInput::of(&c.index.model.recipe, c.settings)),
        plan,
        work: answer.work,
        exact,
    };
    let took = Took {
        encode_us: if input.text.is_some() { encode_us } else { 0.0 },
        filter_us: answer.filter_us,
        search_us: answer.search_us,
        fetch_us,
        total_us: us(start),
    };
    Ok(Json(SearchView { hits, via, revision: table.revision(), took, notices }))
}
