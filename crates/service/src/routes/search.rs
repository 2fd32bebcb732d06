//! Searches: by text, by vector, by other records; one or many in a request.

use super::*;
use crate::live::{Live, LiveIndex};
use serde_json::{Map, Value, json};
use std::collections::{HashMap, HashSet};
use std::time::{Duration, Instant};
use zesty_engine::filter::{Expr, Filter};
use zesty_engine::index::Work;
use zesty_engine::names::grouped as count;
use zesty_engine::order;
use zesty_engine::scan::Neighbour;
use zesty_engine::search::{Answer, Plan, Request, Strategy, run};
use zesty_engine::{Metric, Table};

/// One key, or several
#[derive(Clone, Debug, Deserialize, ToSchema)]
#[serde(untagged)]
pub enum Keys {
    One(String),
    Many(Vec<String>),
}

impl Keys {
    fn list(&self) -> &[String] {
        match self {
            Keys::One(key) => std::slice::from_ref(key),
            Keys::Many(keys) => keys,
        }
    }
}

/// At most so many hits that share a value of a field; records without a value count as sharing one
#[derive(Clone, Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AtMost {
    pub field: String,
    /// 1 to 1000
    pub hits: usize,
}

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
    #[serde(default, deserialize_with = "zesty_files::json::vector")]
    pub vector: Option<Vec<f32>>,
    /// Search by the vectors of the records with these keys: by their mean, when there are several
    pub like: Option<Keys>,
    /// Move away from the vectors of these records: half of their mean is taken off (Rocchio 1971)
    pub unlike: Option<Keys>,
    /// Whether the records of `like` and `unlike` may be hits
    #[serde(default)]
    pub include_self: bool,
    /// Hits wanted, 1 to 1000
    #[serde(default = "ten")]
    pub k: usize,
    /// CQL2 text, such as `severity >= 4 AND station = 'Gull Rock'`, or CQL2 JSON
    pub filter: Option<FilterInput>,
    /// Hits to pass over first; with k at most 10,000
    #[serde(default)]
    pub skip: usize,
    /// Records that must not be hits, by key, at most 10,000
    pub leave_out: Option<Vec<String>>,
    /// Leave out hits with a lower score
    pub min_score: Option<f32>,
    /// Leave out hits with a greater distance
    pub max_distance: Option<f32>,
    pub at_most: Option<AtMost>,
    /// Stop filtering and searching after so many milliseconds, up to 60,000, and answer with what was found
    pub time_limit_ms: Option<f64>,
    /// Put the hits in the order of this field instead; descending with a leading minus
    pub sort: Option<String>,
    /// Fields to return; all when absent
    pub fields: Option<Vec<String>>,
    /// Vector columns whose vectors to return with each hit, as they were given
    pub vectors: Option<Vec<String>>,
    /// Fields that refer to records of another collection: those records are returned with each hit
    pub follow: Option<Vec<String>>,
    /// Say how the filter was understood and what the plan was, as a tree
    #[serde(default)]
    pub explain: bool,
    /// Look at every record instead of using an index
    #[serde(default)]
    pub exact: bool,
    /// Instead of the serving choice
    pub index: Option<String>,
    /// Instead of the serving choice's
    pub settings: Option<SettingsInput>,
}

impl SearchInput {
    /// Whether a hit is as near as the search insists on.
    fn passes(&self, metric: Metric, at: &Neighbour) -> bool {
        self.min_score.is_none_or(|floor| metric.score(at.rank) >= floor)
            && self.max_distance.is_none_or(|ceiling| metric.distance(at.rank) <= ceiling)
    }
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
    /// By column; null where the record has none
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Object)]
    pub vectors: Option<HashMap<String, Option<Vec<f32>>>>,
    /// By field: the record it refers to; null where there is none
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Object)]
    pub follow: Option<HashMap<String, Option<Followed>>>,
}

/// A record that a hit refers to
#[derive(Clone, Serialize, ToSchema)]
pub struct Followed {
    pub collection: String,
    pub key: String,
    #[schema(value_type = Object)]
    pub fields: Value,
}

/// A part of a filter and how many records it allows by itself
#[derive(Serialize, ToSchema)]
pub struct FilterPart {
    /// CQL2
    pub text: String,
    pub allowed: usize,
    #[schema(no_recursion)]
    pub parts: Vec<FilterPart>,
}

/// How a search was understood and run
#[derive(Serialize, ToSchema)]
pub struct Explanation {
    /// For reading
    pub text: String,
    /// The filter as it was understood
    pub filter: Option<FilterPart>,
    /// The same as CQL2 JSON
    #[schema(value_type = Object)]
    pub filter_json: Option<Value>,
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
    pub plan_us: f64,
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
    #[serde(skip_serializing_if = "Option::is_none")]
    pub explain: Option<Explanation>,
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SearchesInput {
    /// 1 to 100
    pub searches: Vec<SearchInput>,
}

#[derive(Serialize, ToSchema)]
pub struct SearchesView {
    /// In the order of the searches
    pub answers: Vec<SearchView>,
}

/// Hits that one search can pass over and return.
const MAX_DEEP: usize = 10_000;
/// Keys that a search can leave out.
const MAX_LEFT_OUT: usize = 10_000;
/// Records that a search can be like, or unlike.
const MAX_EXAMPLES: usize = 100;

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
    let index = live.index(&serving.index).ok().filter(|i| live.position(i) == Some(column));
    let ready = |i: &Arc<LiveIndex>| i.attached.as_ref().is_some_and(|a| a.fits(&live.table.load()));
    let Some(index) = index.filter(ready) else {
        let text = format!("index \"{}\" is not ready; the answer is exact, and slower", serving.index);
        notice("index-not-ready", text);
        return Ok(None);
    };
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

/// The prepared vectors of records.
fn examples<'t>(
    live: &Live,
    table: &'t Table,
    column: usize,
    keys: &Keys,
    pointer: &str,
) -> Result<Vec<&'t [f32]>> {
    let vectors = &table.vectors()[column].vectors;
    let keys = keys.list();
    if keys.is_empty() || keys.len() > MAX_EXAMPLES {
        let detail = format!("{} keys are given; 1 to {MAX_EXAMPLES} can be", keys.len());
        return Err(Problem::new(Kind::WrongShape, detail).at(pointer));
    }
    let mut rows = Vec::with_capacity(keys.len());
    for key in keys {
        let row = table.row(key).ok_or_else(|| records::unknown_record(live, key).at(pointer))?;
        if !vectors.present().contains(row as usize) {
            let name = &live.columns()[column].name;
            let detail = format!("record \"{key}\" has no vector in column \"{name}\"");
            return Err(Problem::new(Kind::NoData, detail).at(pointer));
        }
        rows.push(row);
    }
    Ok(rows.iter().map(|row| vectors.row(*row)).collect())
}

fn mean_of(vectors: &[&[f32]]) -> Vec<f32> {
    let n = vectors.len() as f32;
    let mut mean = vec![0.0; vectors.first().map_or(0, |v| v.len())];
    for vector in vectors {
        mean.iter_mut().zip(*vector).for_each(|(m, x)| *m += x / n);
    }
    mean
}

/// The prepared query vector.
async fn resolve(hub: &Hub, live: &Live, column: usize, input: &SearchInput) -> Result<Vec<f32>> {
    let about = &live.columns()[column];
    if let Some(said) = &input.encoder {
        live.check_encoder(column, said, "/encoder")?;
    }
    let metric = live.metrics[column];
    let dimensions = about.dimensions as usize;
    let table = live.table.load_full();
    let query = match (&input.text, &input.vector, &input.like) {
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
            let encoder = hub.encoder(name).await?;
            let texts = std::slice::from_ref(text);
            let vector = hub.encoders.encode(&encoder, texts, about.dimensions).await?.remove(0);
            let subject = format!("what encoder \"{name}\" made of the text");
            metric.prepare(&vector, dimensions).map_err(|e| Problem::vector(&e, &subject, "/text"))?
        }
        (None, Some(vector), None) => {
            let subject = format!("the query for column \"{}\"", about.name);
            metric.prepare(vector, dimensions).map_err(|e| Problem::vector(&e, &subject, "/vector"))?
        }
        (None, None, Some(keys)) => {
            let vectors = examples(live, &table, column, keys, "/like")?;
            if vectors.len() == 1 && input.unlike.is_none() { vectors[0].to_vec() } else { mean_of(&vectors) }
        }
        _ => {
            let given = [input.text.is_some(), input.vector.is_some(), input.like.is_some()];
            let n = given.iter().filter(|g| **g).count();
            let detail = format!("give one of text, vector or like; {n} are given");
            return Err(Problem::new(Kind::WrongShape, detail));
        }
    };
    let several = input.like.as_ref().is_some_and(|keys| keys.list().len() > 1);
    let mut query = query;
    if let Some(keys) = &input.unlike {
        let vectors = examples(live, &table, column, keys, "/unlike")?;
        query.iter_mut().zip(mean_of(&vectors)).for_each(|(q, away)| *q -= away / 2.0);
    }
    if several || input.unlike.is_some() {
        let subject = "what is left of the examples";
        query = metric.prepare(&query, dimensions).map_err(|e| Problem::vector(&e, subject, "/like"))?;
    }
    Ok(query)
}

/// A search that was checked against the collection.
struct Checked {
    column: usize,
    filter: Option<Filter>,
    test: Option<Test>,
    at_most: Option<(usize, usize)>,
    sort: Option<(usize, bool)>,
    vectors: Vec<usize>,
    /// Fields, and the collections whose keys they hold.
    follow: Vec<(usize, Arc<Live>)>,
}

fn check(hub: &Hub, live: &Live, input: &SearchInput) -> Result<Checked> {
    check_k(input.k)?;
    let wrong = |detail: String, pointer: &str| Err(Problem::new(Kind::WrongShape, detail).at(pointer));
    if input.skip.saturating_add(input.k) > MAX_DEEP {
        let detail = format!(
            "skip {} and k {} reach past hit {MAX_DEEP}; a filter, or an export, gives all of them",
            input.skip, input.k
        );
        return wrong(detail, "/skip");
    }
    if input.leave_out.as_ref().is_some_and(|keys| keys.len() > MAX_LEFT_OUT) {
        return wrong(format!("leave_out takes up to {MAX_LEFT_OUT} keys"), "/leave_out");
    }
    if let Some(ms) = input.time_limit_ms
        && !(ms > 0.0 && ms <= 60_000.0)
    {
        return wrong(format!("time_limit_ms is {ms}; it is above 0 and up to 60000"), "/time_limit_ms");
    }
    let column = live.column(input.column.as_deref(), "/column")?;
    let table = live.table.load();
    let schema = table.schema();
    if let Some(fields) = &input.fields
        && let Some((i, field)) = fields.iter().enumerate().find(|(_, f)| !schema.has(f))
    {
        return Err(Problem::unknown("field", field, schema.names()).at(format!("/fields/{i}")));
    }
    let known = |field: &str, pointer: String| {
        let found = schema.position(field);
        found.ok_or_else(|| Problem::unknown("field", field, schema.names()).at(pointer))
    };
    let single = |field: &str, pointer: &str| {
        let at = known(field, pointer.to_owned())?;
        let about = &schema.fields[at];
        if order::sortable(about.kind, about.stored_only) {
            return Ok(at);
        }
        let why = if about.stored_only { "is stored only" } else { "holds arrays" };
        Err(Problem::new(
            Kind::WrongShape,
            format!("field \"{field}\" {why}, so it has no single value to go by"),
        )
        .at(pointer))
    };
    let at_most = match &input.at_most {
        Some(a) if !(1..=MAX_K).contains(&a.hits) => {
            return wrong(format!("at_most takes 1 to {MAX_K} hits; {} are given", a.hits), "/at_most/hits");
        }
        Some(a) => Some((single(&a.field, "/at_most/field")?, a.hits)),
        None => None,
    };
    let sort = input.sort.as_deref().filter(|s| !s.is_empty());
    let sort = sort.map(|s| records::sort_field(&table, s)).transpose()?;
    let columns = input.vectors.iter().flatten().enumerate();
    let vectors =
        columns.map(|(i, c)| live.column(Some(c), &format!("/vectors/{i}"))).collect::<Result<_>>()?;
    let follow = input.follow.iter().flatten().enumerate().map(|(i, field)| {
        let at = known(field, format!("/follow/{i}"))?;
        let Some(to) = &schema.fields[at].refers_to else {
            let refer: Vec<&str> =
                schema.fields.iter().filter(|f| f.refers_to.is_some()).map(|f| f.name.as_str()).collect();
            let others = match refer.is_empty() {
                true => "no field of this collection does".to_owned(),
                false => format!("these do: {}", refer.join(", ")),
            };
            let detail =
                format!("field \"{field}\" refers to no collection (refersTo in its schema); {others}");
            return Err(Problem::new(Kind::WrongShape, detail).at(format!("/follow/{i}")));
        };
        Ok((at, hub.collection(to).map_err(|p| p.at(format!("/follow/{i}")))?))
    });
    let follow = follow.collect::<Result<_>>()?;
    let (filter, test) = read_and_compile(schema, input.filter.as_ref())?.unzip();
    Ok(Checked { column, filter, test, at_most, sort, vectors, follow })
}

/// Searches until there are enough hits after those that may not count were left out.
fn search_enough(table: &Table, mut request: Request<'_>, input: &SearchInput, checked: &Checked) -> Found {
    let metric = table.vectors()[checked.column].metric;
    let enough = input.skip + input.k;
    let mut wanted = if checked.at_most.is_some() { 2 * enough } else { enough };
    loop {
        // Walks are made for few hits; a list this long is as quickly made from every row.
        if wanted > MAX_DEEP {
            request.index = None;
        }
        let mut answer = run(table, Request { k: wanted, ..request });
        let n_found = answer.nearest.len();
        let nearest = answer.nearest.clone();
        answer.nearest.retain(|n| input.passes(metric, n));
        // What is nearer than the last hit that passed is all that can pass.
        let all_passed = answer.nearest.len() == n_found;
        if let Some((field, most)) = checked.at_most {
            let mut counts: HashMap<String, usize> = HashMap::new();
            answer.nearest.retain(|n| {
                let count = counts.entry(format!("{:?}", order::value(table, field, n.row))).or_default();
                *count += 1;
                *count <= most
            });
        }
        let exhausted = answer.cut || n_found < wanted || wanted >= answer.plan.allowed || !all_passed;
        if answer.nearest.len() >= enough || exhausted || checked.at_most.is_none() {
            answer.nearest.truncate(enough);
            answer.nearest.drain(..input.skip.min(answer.nearest.len()));
            return Found { answer, nearest };
        }
        wanted = wanted.saturating_mul(4).min(answer.plan.allowed.max(1));
    }
}

struct Found {
    /// With the hits that count.
    answer: Answer,
    /// Before any were left out.
    nearest: Vec<Neighbour>,
}

/// The parts of a filter with what each allows.
fn parts(expr: &Expr, table: &Table) -> Option<FilterPart> {
    let inner: &[Expr] = match expr {
        Expr::And(parts) | Expr::Or(parts) => parts,
        Expr::Not(part) if matches!(**part, Expr::And(_) | Expr::Or(_)) => std::slice::from_ref(part),
        _ => &[],
    };
    let test = Test::of(expr, table.schema()).ok()?;
    Some(FilterPart {
        text: expr.to_string(),
        allowed: test.run(table).count_ones(..),
        // A long list of alternatives is a line, not a page.
        parts: inner.iter().take(20).filter_map(|part| parts(part, table)).collect(),
    })
}

/// The tree that people read.
fn explain(view: &SearchView, filter: Option<&FilterPart>) -> String {
    fn lines(part: &FilterPart, indent: &str, out: &mut String) {
        for (i, inner) in part.parts.iter().enumerate() {
            let last = i + 1 == part.parts.len();
            let (branch, below) = if last { ("└─", "   ") } else { ("├─", "│  ") };
            let text: String = inner.text.chars().take(100).collect();
            *out += &format!("{indent}{branch} {text}: {} records\n", count(inner.allowed));
            lines(inner, &format!("{indent}{below}"), out);
        }
    }
    let (plan, took, work) = (&view.via.plan, &view.took, &view.via.work);
    let name = |s: Strategy| json!(s).as_str().unwrap_or_default().to_owned();
    let mut out =
        format!("search of column {}, {}\n", view.via.column, json!(view.via.metric).as_str().unwrap_or(""));
    if let Some(filter) = filter {
        let text: String = filter.text.chars().take(200).collect();
        out += &format!("├─ filter, {:.0} us: {text}\n", took.filter_us);
        out += &format!("│  allows {} of {} records with a vector\n", count(plan.allowed), count(plan.rows));
        lines(filter, "│  ", &mut out);
    } else {
        out += &format!("├─ no filter: {} records with a vector\n", count(plan.rows));
    }
    out += &format!("├─ plan, {:.0} us: {}\n", took.plan_us, name(plan.strategy));
    for (i, c) in plan.considered.iter().enumerate() {
        let branch = if i + 1 == plan.considered.len() { "└─" } else { "├─" };
        out += &format!(
            "│  {branch} {}: {:.0} us expected ({} distances of {:.0} ns)\n",
            name(c.strategy),
            c.expected_us,
            count(c.distances),
            c.ns_each
        );
    }
    out += &format!("├─ search, {:.0} us: {} distances", took.search_us, count(work.distances));
    if work.hops > 0 {
        let what = match plan.strategy {
            Strategy::Visit | Strategy::VisitAllowed => "cells opened",
            Strategy::ScanSketches => "blocks of 32 sketches looked at",
            Strategy::ThenScanSketches => "nodes opened and blocks of 32 sketches looked at",
            _ => "nodes opened",
        };
        out += &format!(", {} {what}", count(work.hops));
    }
    if work.stepped_over > 0 {
        out += &format!(", {} barred nodes stepped over", count(work.stepped_over));
    }
    if plan.scanned_beside > 0 {
        out += &format!(", {} records newer than the index", count(plan.scanned_beside));
    }
    let exact = if view.via.exact { "exact" } else { "approximate" };
    out += &format!("\n└─ {} hits, {exact}; fetched in {:.0} us\n", view.hits.len(), took.fetch_us);
    out
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
    let live = hub.collection(&name)?;
    answer(&hub, &live, input).await.map(Json)
}

/// Make many searches of a collection at once; one that is refused refuses all
#[utoipa::path(post, path = "/api/collections/{collection}/searches", tag = "search",
    params(("collection" = String, Path)), request_body = SearchesInput,
    responses((status = 200, body = SearchesView), (status = 404, body = crate::problem::ProblemBody),
        (status = 422, body = crate::problem::ProblemBody), (status = 502, body = crate::problem::ProblemBody)))]
pub async fn searches(
    State(hub): Hubbed,
    Path(name): Path<String>,
    Input(input): Input<SearchesInput, MAX_LIST>,
) -> Result<Json<SearchesView>> {
    use futures::{StreamExt, TryStreamExt};
    const MAX: usize = 100;
    let live = hub.collection(&name)?;
    let n = input.searches.len();
    if !(1..=MAX).contains(&n) {
        let detail = format!("{n} searches are given; a request takes 1 to {MAX}");
        return Err(Problem::new(Kind::WrongShape, detail).at("/searches"));
    }
    // Some at a time: their texts are encoded while others search.
    let answers = futures::stream::iter(input.searches.into_iter().enumerate())
        .map(|(i, search)| {
            let (hub, live) = (hub.clone(), live.clone());
            let task = tokio::spawn(async move { answer(&hub, &live, search).await });
            async move {
                let done = task.await;
                let done = done.map_err(|e| Problem::new(Kind::Internal, format!("the search stopped: {e}")));
                done.flatten().map_err(|p| p.inside(&format!("/searches/{i}")))
            }
        })
        .buffered(8)
        .try_collect()
        .await?;
    Ok(Json(SearchesView { answers }))
}

/// How often a search is made again because its hits were changed before their fields were read.
const ATTEMPTS: usize = 3;

async fn answer(hub: &Arc<Hub>, live: &Arc<Live>, input: SearchInput) -> Result<SearchView> {
    let asked = Arc::new(input);
    let mut left = ATTEMPTS;
    loop {
        left -= 1;
        if let Some(view) = answer_once(hub, live, asked.clone(), left == 0).await? {
            return Ok(view);
        }
        // What others wrote is not here yet, perhaps: on another node.
        if let Err(e) = live.follow(hub).await {
            tracing::debug!(collection = live.name, "cannot follow before a search is made again: {e}");
        }
    }
}

/// An answer; `None` when hits were changed between the search and the reading of their fields, and this is not the
/// last attempt.
async fn answer_once(
    hub: &Arc<Hub>,
    live: &Arc<Live>,
    asked: Arc<SearchInput>,
    is_last: bool,
) -> Result<Option<SearchView>> {
    let input = &*asked;
    let start = Instant::now();
    let us = |since: Instant| since.elapsed().as_secs_f64() * 1e6;
    let mut checked = check(hub, live, input)?;
    let column = checked.column;
    let mut notices = Vec::new();
    let chosen = choose(live, column, input, &mut notices)?;
    if let Some(chosen) = &chosen {
        tell_idle(chosen, input, &mut notices);
    }
    let encoding = Instant::now();
    let query = resolve(hub, live, column, input).await?;
    let encode_us = us(encoding);

    // The snapshot is taken after encoding, so that the answer is as fresh as can be.
    let table = live.table.load_full();
    let examples = [&input.like, &input.unlike].into_iter().flatten().flat_map(|keys| keys.list());
    let examples = examples.filter(|_| !input.include_self).filter_map(|key| table.row(key));
    let mut excluded: Vec<u32> = examples.collect();
    let mut unknown = Vec::new();
    for key in input.leave_out.iter().flatten() {
        match table.row(key) {
            Some(row) => excluded.push(row),
            None => unknown.push(key.as_str()),
        }
    }
    if let Some(first) = unknown.first() {
        let text = match unknown.len() {
            1 => format!("leave_out names \"{first}\", and there is no such record"),
            n => format!("leave_out names {n} records that are not there, such as \"{first}\""),
        };
        notices.push(Notice { code: "nothing-left-out".into(), text });
    }
    let k = input.k;
    let shared = asked.clone();
    // Who names an index or its settings means to see what it gives.
    let named = input.index.is_some() || input.settings.is_some();
    let only = chosen.as_ref().filter(|_| named && checked.test.is_none());
    let only = only.and_then(|c| Some(Strategy::of_index(&c.index.attached.as_ref()?.index.recipe())));
    let explain_filter = checked.filter.take().filter(|_| input.explain);
    let (table, found, chosen, checked, understood) = tokio::task::spawn_blocking(move || {
        let index = chosen.as_ref().and_then(|c| Some((c.index.attached.as_ref()?, c.settings)));
        let filter = checked.test.as_ref();
        let until = shared.time_limit_ms.map(|ms| Instant::now() + Duration::from_secs_f64(ms / 1e3));
        let excluded = &excluded;
        let request = Request { column, query: &query, k, filter, excluded, index, only, until };
        let found = search_enough(&table, request, &shared, &checked);
        let understood = explain_filter.and_then(|f| Some((parts(&f.expr, &table)?, f.to_json())));
        (table, found, chosen, checked, understood)
    })
    .await
    .map_err(|e| Problem::new(Kind::Internal, format!("the search stopped: {e}")))?;
    let Found { answer, nearest } = found;
    let mut hit_rows = answer.nearest.clone();
    if let Some((field, descending)) = checked.sort {
        let key = |n: &Neighbour| order::value(&table, field, n.row);
        hit_rows.sort_by(|a, b| key(a).order(&key(b), descending));
    }

    let fetching = Instant::now();
    let Fetched { hits, n_changed, n_gone } = hits(hub, live, input, &checked, &table, &hit_rows).await?;
    if n_changed + n_gone > 0 {
        if !is_last {
            return Ok(None);
        }
        let text = format!(
            "others changed {n_changed} hits and deleted {n_gone} while this was searched: fields may be newer than what \
             the filter saw, and deleted hits are left out"
        );
        notices.push(Notice { code: "changed-meanwhile".into(), text });
    }
    let fetch_us = us(fetching);

    let plan = answer.plan;
    let metric = live.metrics[column];
    if answer.cut {
        let text = format!(
            "the search was stopped after {} ms, with {} distances evaluated: nearer records may be missing",
            input.time_limit_ms.unwrap_or_default(),
            answer.work.distances
        );
        notices.push(Notice { code: "time-limit".into(), text });
    } else if hits.len() < k {
        notices.extend(thin(input, metric, &plan, &nearest, hits.len()));
    }
    if plan.scanned_beside > 0 && plan.scanned_beside * 5 > plan.rows {
        let text = format!(
            "{} of {} records are newer than the index and were scanned beside it; rebuild it to search faster",
            plan.scanned_beside, plan.rows
        );
        notices.push(Notice { code: "index-behind".into(), text });
    }
    let exact = !answer.cut
        && matches!(plan.strategy, Strategy::ScanAll | Strategy::ScanAllowed | Strategy::ThenScan);
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
        plan_us: answer.plan_us,
        search_us: answer.search_us,
        fetch_us,
        total_us: us(start),
    };
    let mut view = SearchView { hits, via, revision: table.revision(), took, notices, explain: None };
    if input.explain {
        let (filter, filter_json) = understood.unzip();
        view.explain = Some(Explanation { text: explain(&view, filter.as_ref()), filter, filter_json });
    }
    Ok(Some(view))
}

/// Why there are fewer hits than were asked for.
fn thin(input: &SearchInput, metric: Metric, plan: &Plan, nearest: &[Neighbour], n: usize) -> Option<Notice> {
    let notice = |code: &str, text: String| Some(Notice { code: code.into(), text });
    let n_passed = nearest.iter().filter(|at| input.passes(metric, at)).count();
    if let Some(best) = nearest.first().filter(|_| n_passed < nearest.len()) {
        // What would let in as many as were asked for, or all that were found.
        let last = &nearest[nearest.len().min(input.skip + input.k) - 1];
        let (what, best, lower) = match input.min_score {
            Some(floor) => (
                format!("a score of {floor} or more"),
                format!("{:.4}", metric.score(best.rank)),
                format!("a floor of {:.4}", metric.score(last.rank)),
            ),
            None => (
                format!("a distance of {} or less", input.max_distance.unwrap_or_default()),
                format!("{:.4}", metric.distance(best.rank)),
                format!("a ceiling of {:.4}", metric.distance(last.rank)),
            ),
        };
        let all = nearest.len().min(input.skip + input.k);
        return notice(
            "below-floor",
            format!(
                "{n_passed} of the {all} nearest have {what}; the best has {best}; {lower} would let {all} pass"
            ),
        );
    }
    if let Some(at_most) = &input.at_most
        && nearest.len() > n + input.skip
    {
        let (field, hits) = (&at_most.field, at_most.hits);
        return notice(
            "fewer-hits",
            format!("{n} hits of {}: no more values of {field}, of which each may give {hits}", input.k),
        );
    }
    let why = if input.filter.is_some() && plan.allowed < plan.rows {
        format!("the filter allows {} of {} records", plan.allowed, plan.rows)
    } else {
        format!("the collection holds {} records that could be hits", plan.rows)
    };
    let skipped = if input.skip > 0 { format!(" after {}", input.skip) } else { String::new() };
    notice("fewer-hits", format!("{n} hits of {} asked for{skipped}: {why}", input.k))
}

/// Hits with their fields, and how many of them are not as the search saw them any more.
struct Fetched {
    hits: Vec<Hit>,
    n_changed: usize,
    n_gone: usize,
}

/// The records behind the rows, with what the search wants of them.
async fn hits(
    hub: &Hub,
    live: &Live,
    input: &SearchInput,
    checked: &Checked,
    table: &Table,
    rows: &[Neighbour],
) -> Result<Fetched> {
    let numbers: Vec<u64> = rows.iter().map(|n| table.number(n.row)).collect();
    let mut bodies: HashMap<u64, Value> = HashMap::new();
    let (mut n_changed, mut n_gone) = (0, 0);
    let wants_fields = input.fields.as_ref().is_none_or(|f| !f.is_empty());
    if wants_fields || !checked.follow.is_empty() {
        let records = hub.catalog.records(live.id, &numbers).await?;
        let seen: HashMap<u64, u64> =
            rows.iter().map(|n| (table.number(n.row), table.row_revision(n.row))).collect();
        n_gone = numbers.len() - records.len();
        n_changed = records.iter().filter(|r| seen.get(&r.number) != Some(&r.revision)).count();
        bodies = records.into_iter().map(|r| (r.number, r.body)).collect();
    }
    let fetched: Option<HashSet<u64>> = (n_gone > 0).then(|| bodies.keys().copied().collect());
    let mut vectors = Vec::with_capacity(checked.vectors.len());
    for &column in &checked.vectors {
        let about = &live.columns()[column];
        vectors.push((about.name.clone(), hub.catalog.column_vectors(about.id, &numbers).await?));
    }
    // The referenced records of all hits are read together.
    let schema = table.schema();
    let mut followed: Vec<(String, HashMap<String, Followed>)> = Vec::with_capacity(checked.follow.len());
    for (field, to) in &checked.follow {
        let about = &schema.fields[*field];
        let keys = bodies.values().filter_map(|body| about.of(body.as_object()?)?.as_str());
        let other = to.table.load_full();
        let numbers: Vec<u64> = keys.filter_map(|key| Some(other.number(other.row(key)?))).collect();
        let records = hub.catalog.records(to.id, &numbers).await?;
        let of = |r: zesty_catalog::StoredRecord| {
            let found = Followed { collection: to.name.clone(), key: r.key.clone(), fields: r.body };
            (r.key, found)
        };
        followed.push((about.name.clone(), records.into_iter().map(of).collect()));
    }
    let metric = live.metrics[checked.column];
    let hit = |n: &Neighbour| {
        let number = table.number(n.row);
        let mut fields = match bodies.remove(&number) {
            Some(Value::Object(fields)) => fields,
            _ => Map::new(),
        };
        let follow = (!followed.is_empty()).then(|| {
            let of = |(name, records): &(String, HashMap<String, Followed>)| {
                let at = schema.position(name)?;
                let key = schema.fields[at].of(&fields)?.as_str()?;
                records.get(key).cloned()
            };
            followed.iter().map(|f| (f.0.clone(), of(f))).collect()
        });
        if let Some(wanted) = &input.fields {
            keep_fields(&mut fields, "", wanted);
        }
        let given =
            |(name, found): &mut (String, HashMap<u64, Vec<f32>>)| (name.clone(), found.remove(&number));
        Hit {
            key: table.key(n.row).into(),
            distance: metric.distance(n.rank),
            score: metric.score(n.rank),
            fields,
            vectors: (!vectors.is_empty()).then(|| vectors.iter_mut().map(given).collect()),
            follow,
        }
    };
    let there = |n: &&Neighbour| fetched.as_ref().is_none_or(|f| f.contains(&table.number(n.row)));
    Ok(Fetched { hits: rows.iter().filter(there).map(hit).collect(), n_changed, n_gone })
}

/// A filter in both forms, and what it allows
#[derive(Serialize, ToSchema)]
pub struct FilterView {
    /// Canonical CQL2 text
    pub text: String,
    /// CQL2 JSON
    #[schema(value_type = Object)]
    pub json: Value,
    pub allowed: usize,
    /// Records there are
    pub of: usize,
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ReadFilterInput {
    pub filter: FilterInput,
}

/// Read a filter: both of its forms, and how many records it allows
#[utoipa::path(post, path = "/api/collections/{collection}/filter", tag = "search",
    params(("collection" = String, Path)), request_body = ReadFilterInput,
    responses((status = 200, body = FilterView), (status = 422, body = crate::problem::ProblemBody)))]
pub async fn read_filter(
    State(hub): Hubbed,
    Path(name): Path<String>,
    Input(input): Input<ReadFilterInput>,
) -> Result<Json<FilterView>> {
    let live = hub.collection(&name)?;
    blocking(move || {
        let table = live.table.load_full();
        let read = read_and_compile(table.schema(), Some(&input.filter))?;
        let (filter, test) = read.ok_or_else(|| {
            Problem::new(Kind::InvalidFilter, "the filter is empty; TRUE allows every record").at("/filter")
        })?;
        let (text, json, allowed) = (filter.to_text(), filter.to_json(), test.run(&table).count_ones(..));
        Ok(Json(FilterView { text, json, allowed, of: table.n_records() }))
    })
    .await
}

/// The fields that filters can ask of, as a JSON Schema (2020-12)
#[utoipa::path(get, path = "/api/collections/{collection}/queryables", tag = "search",
    params(("collection" = String, Path)),
    responses((status = 200, content_type = "application/schema+json", body = Object)))]
pub async fn queryables(
    State(hub): Hubbed,
    Path(name): Path<String>,
) -> Result<([(axum::http::HeaderName, &'static str); 1], Json<Value>)> {
    let live = hub.collection(&name)?;
    let table = live.table.load();
    let fields = table.schema().fields.iter().filter(|f| !f.stored_only);
    let properties: Map<String, Value> = fields.map(|f| (f.name.clone(), f.to_json())).collect();
    let schema = json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": format!("/api/collections/{name}/queryables"),
        "title": format!("What filters of {name} can ask of"),
        "type": "object",
        "properties": properties,
        "additionalProperties": false,
    });
    Ok(([(axum::http::header::CONTENT_TYPE, "application/schema+json")], Json(schema)))
}
