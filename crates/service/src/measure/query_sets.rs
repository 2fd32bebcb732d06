//! Query sets: made, listed, shown, deleted.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::measure::kept::column_name;
use crate::measure::prepared::{Asking, answers_of, common_share, exact_for, known_answers};
use crate::measure::read_queries::{MAX_QUERIES, checked, from_file, too_many};
use crate::measure::spec::{Spec, spec_of};
use crate::measure::work::off;
use crate::names::check_name;
use crate::node::encoders::Encoders;
use crate::node::jobs::{Job, Stop};
use crate::node::uploads::Uploads;
use crate::problem::{Kind, Problem, Result};
use crate::records::select::read_and_compile;
use serde_json::{Value, json};
use std::sync::Arc;
use zesty_catalog::{NewQuery, NewQuerySet, answers, captured, query, query_set};
use zesty_engine::Table;
use zesty_engine::index::Progress;
use zesty_engine::measure::{self, Draw, NEIGHBOURHOOD, difficulty, draw, exact, hold_out};
use zesty_wire as wire;

const USUAL_QUERIES: usize = 4000;
/// Numbers that the vectors of a set hold together.
const MAX_NUMBERS: usize = 50_000_000;
/// Records that tell how hard the collection's own are.
const RECORDS: usize = 200;
/// The set that is made when none is named.
pub const USUAL: &str = "sampled";

/// What query sets work with.
#[derive(Clone)]
pub struct SetTools {
    pub registry: Arc<Registry>,
    pub encoders: Arc<Encoders>,
    pub uploads: Arc<Uploads>,
}

/// Starts making a query set, as a job.
pub async fn create(
    grant: &Grant,
    tools: &SetTools,
    collection: &str,
    request: wire::NewQuerySet,
) -> Result<wire::Job> {
    let registry = &tools.registry;
    let live = registry.collection(grant, Scope::Tune, collection)?;
    check_name("query set", &request.name, "/name")?;
    if registry.catalog.query_sets(live.id).await?.iter().any(|s| s.name == request.name) {
        let detail = format!("query set \"{}\" exists already", request.name);
        return Err(Problem::new(Kind::NameTaken, detail).at("/name"));
    }
    let column = live.column(request.column.as_deref(), "/column")?;
    check_request(&request, live.columns()[column].dimensions as usize)?;
    read_and_compile(live.table.load().schema(), request.filter.as_ref())?;
    let brought = match request.kind {
        wire::QueryKind::Uploaded => {
            let id = request.file.as_deref().ok_or_else(|| missing("file", "an uploaded file"))?;
            let (uploads, id) = (tools.uploads.clone(), id.to_owned());
            let read = crate::node::threads::blocking(move || from_file(&uploads, &id)).await?;
            Some(checked(&tools.encoders, &live, column, read).await?)
        }
        wire::QueryKind::Given => {
            let given = request.given.clone().ok_or_else(|| missing("given", "queries"))?;
            let queries = given.into_iter().enumerate().map(|(i, q)| (format!("query {i}"), q)).collect();
            Some(checked(&tools.encoders, &live, column, queries).await.map_err(|p| p.at("/given"))?)
        }
        wire::QueryKind::Captured => Some(captured(registry, &live, column, request.queries).await?),
        _ => None,
    };
    let (tools, name) = (tools.clone(), request.name.clone());
    let work = move |job: Arc<Job>| async move {
        make(&tools, &live, column, &request, brought, &job).await?;
        Ok(json!({"query_set": request.name}))
    };
    Ok(registry.jobs.start("query-set", collection, &name, work).await?.view())
}

/// The newest live searches of a column that were captured.
async fn captured(
    registry: &Registry,
    live: &Live,
    column: usize,
    queries: Option<usize>,
) -> Result<Vec<NewQuery>> {
    let limit = queries.unwrap_or(USUAL_QUERIES) as u64;
    let rows = registry.catalog.captured(live.columns()[column].id, limit).await?;
    if rows.is_empty() {
        let detail = format!(
            "no live search of \"{}\" is captured: `zesty watch set {} --capture 0.01` begins to keep some",
            live.name, live.name
        );
        return Err(Problem::new(Kind::NoData, detail).at("/kind"));
    }
    let one = |row: captured::Model| NewQuery {
        vector: bytemuck::pod_collect_to_vec(&row.vector),
        text: row.text,
        filter: row.filter,
        ..NewQuery::default()
    };
    Ok(rows.into_iter().map(one).collect())
}

fn missing(member: &str, what: &str) -> Problem {
    Problem::new(Kind::WrongShape, format!("{member} is missing: this kind of query set takes {what}"))
        .at(format!("/{member}"))
}

fn check_request(request: &wire::NewQuerySet, dimensions: usize) -> Result<()> {
    use wire::QueryKind::{Blended, Captured, Given, Jittered, Sampled, Uploaded};
    let refuse = |at: &str, detail: String| Err(Problem::new(Kind::WrongShape, detail).at(format!("/{at}")));
    let drawn = matches!(request.kind, Sampled | Blended | Jittered);
    let members = [
        ("queries", request.queries.is_some(), drawn || request.kind == Captured),
        ("seed", request.seed.is_some(), drawn),
        ("of", request.of.is_some(), request.kind == Blended),
        ("noise", request.noise.is_some(), request.kind == Jittered),
        ("copies", request.copies.is_some(), request.kind == Sampled),
        ("file", request.file.is_some(), request.kind == Uploaded),
        ("given", request.given.is_some(), request.kind == Given),
    ];
    if let Some((member, ..)) = members.iter().find(|(_, is_given, takes)| *is_given && !takes) {
        let kind = json!(request.kind);
        return refuse(member, format!("a query set of kind {kind} does not take {member}"));
    }
    let n = request.given.as_ref().map_or(request.queries.unwrap_or(USUAL_QUERIES), Vec::len);
    let at = if request.given.is_some() { "given" } else { "queries" };
    if n > MAX_QUERIES {
        return Err(too_many(&format!("{n} queries are more")).at(format!("/{at}")));
    }
    if n == 0 {
        return refuse(at, format!("a query set takes 1 to {MAX_QUERIES} queries"));
    }
    if n * dimensions > MAX_NUMBERS {
        let most = MAX_NUMBERS / dimensions;
        return refuse(
            at,
            format!("{n} queries of {dimensions} dimensions are too many; take {most} at most"),
        );
    }
    if request.of.is_some_and(|of| !(2..=100).contains(&of)) {
        return refuse("of", "of goes from 2 to 100".into());
    }
    if request.noise.is_some_and(|noise| !(noise > 0.0 && noise <= 10.0)) {
        return refuse("noise", "noise is above 0, and at most 10".into());
    }
    if request.seed.is_some_and(|seed| i64::try_from(seed).is_err()) {
        return refuse("seed", "seed goes from 0 to 9223372036854775807".into());
    }
    Ok(())
}

/// Draws or takes the queries, answers them exactly, and keeps both.
async fn make(
    tools: &SetTools,
    live: &Arc<Live>,
    column: usize,
    request: &wire::NewQuerySet,
    brought: Option<Vec<NewQuery>>,
    job: &Arc<Job>,
) -> Result<query_set::Model, Stop> {
    let registry = &tools.registry;
    let table = live.table.load_full();
    let (drawing, threads, seed) = (job.clone(), registry.threads, request.seed.unwrap_or(1));
    let how = match request.kind {
        wire::QueryKind::Sampled => Some(Draw::Sampled),
        wire::QueryKind::Blended => Some(Draw::Blended { of: request.of.unwrap_or(3) }),
        wire::QueryKind::Jittered => Some(Draw::Jittered { noise: request.noise.unwrap_or(0.5) }),
        _ => None,
    };
    let wanted = request.queries.unwrap_or(USUAL_QUERIES);
    let mut queries = match (brought, how) {
        (Some(queries), _) => queries,
        (None, Some(how)) => {
            let from = table.clone();
            let draw = move || draw(&from, column, how, wanted, seed, (threads, &drawing.progress));
            let drawn = off(draw).await?;
            let d = table.vectors()[column].vectors.dimensions();
            let each = drawn.vectors.chunks(d).zip(drawn.records);
            let each = each.map(|(v, number)| NewQuery { vector: v.to_vec(), number, ..NewQuery::default() });
            each.collect()
        }
        (None, None) => return Err(Stop::Failed("the query set says neither how nor what".into())),
    };
    if queries.len() < wanted && how.is_some() {
        job.say(format!("{} queries: there are no more to draw", queries.len()));
    }
    if let Some(filter) = &request.filter {
        let unfiltered = queries.iter_mut().filter(|q| q.filter.is_none());
        unfiltered.for_each(|q| q.filter = Some(json!(filter)));
    }
    let spec = Spec {
        kind: request.kind,
        seed,
        of: (request.kind == wire::QueryKind::Blended).then(|| request.of.unwrap_or(3)),
        noise: (request.kind == wire::QueryKind::Jittered).then(|| request.noise.unwrap_or(0.5)),
        copies: (request.kind == wire::QueryKind::Sampled).then(|| request.copies.unwrap_or(true)),
        n_filtered: queries.iter().filter(|q| q.filter.is_some()).count(),
        n_graded: queries.iter().filter(|q| q.relevant.is_some()).count(),
    };
    let share = common_share(&table, column, std::iter::empty());
    let asking = Arc::new(Asking::new(&queries, table.schema(), share, spec.copies)?);
    let (asked, from, measuring) = (asking.clone(), table.clone(), job.clone());
    let measured = move || {
        let known = exact_for(
            &asked.parts(&from, column),
            column,
            &asked,
            NEIGHBOURHOOD,
            (threads, &measuring.progress),
        )?;
        let records = of_records(&from, column, (threads, &measuring.progress))?;
        let metric = from.vectors()[column].metric;
        Ok::<_, measure::MeasureError>((known.1, difficulty(&known.0, metric), known.0, records))
    };
    let (seconds, own, known, records) = off(measured).await?;
    if known.nearest.iter().all(Vec::is_empty) {
        return Err(Stop::Failed("the filter allows no record, so there is nothing to find".into()));
    }
    let set = NewQuerySet {
        collection: live.id,
        column: live.columns()[column].id,
        name: &request.name,
        spec: json!(spec),
        revision: table.revision(),
        difficulty: Some(json!({"queries": own, "records": records})),
    };
    let model = registry.catalog.add_query_set(set, &queries).await?;
    let answers = answers_of(&table, &known, share, seconds);
    registry.catalog.put_answers(&model, &answers).await?;
    job.say(format!("{} queries, with their {} exact neighbours each", queries.len(), known.k));
    Ok(model)
}

/// How hard the collection's own records are; nothing where none can be held out.
fn of_records(
    table: &Table,
    column: usize,
    work: (usize, &Progress),
) -> Result<Option<measure::Difficulty>, measure::MeasureError> {
    let drawn = match draw(table, column, Draw::Sampled, RECORDS, 1, work) {
        Ok(drawn) => drawn,
        Err(measure::MeasureError::NoneHeldOut) => return Ok(None),
        Err(e) => return Err(e),
    };
    let set = measure::QuerySet { vectors: &drawn.vectors, records: &drawn.records, filters: None };
    let share = common_share(table, column, std::iter::empty());
    let parts = hold_out(table, column, set, share, true);
    let known = exact(&parts, column, set, NEIGHBOURHOOD, work)?;
    Ok(Some(difficulty(&known, table.vectors()[column].metric)))
}

/// The query set that measures what nobody said how to measure; it is made when it is not there.
pub async fn usual(
    tools: &SetTools,
    live: &Arc<Live>,
    column: usize,
    job: &Arc<Job>,
) -> Result<query_set::Model, Stop> {
    let columns = live.columns();
    let name = match live.default_column() == Some(column) {
        true => USUAL.to_owned(),
        false => format!("{USUAL}-{}", columns[column].name),
    };
    let known = tools.registry.catalog.query_sets(live.id).await?;
    if let Some(set) = known.into_iter().find(|s| s.name == name && s.column_id == columns[column].id) {
        return Ok(set);
    }
    job.say(format!("making the query set \"{name}\": records that indexes hold out of their links"));
    let request = wire::NewQuerySet {
        name,
        column: Some(columns[column].name.clone()),
        kind: wire::QueryKind::Sampled,
        queries: None,
        seed: None,
        of: None,
        noise: None,
        copies: None,
        file: None,
        given: None,
        filter: None,
    };
    make(tools, live, column, &request, None, job).await
}

fn hardness(d: &Value) -> wire::Difficulty {
    let at = |i: usize| d["distances"][i].as_f64();
    wire::Difficulty {
        distance_1: at(0),
        distance_10: at(1),
        distance_100: at(2),
        intrinsic: d["intrinsic"].as_f64(),
    }
}

fn view(live: &Live, model: query_set::Model, kept: Option<&answers::Model>) -> Result<wire::QuerySet> {
    let spec = spec_of(&model)?;
    let difficulty = model
        .difficulty
        .as_ref()
        .map(|d| wire::SetDifficulty { queries: hardness(&d["queries"]), records: hardness(&d["records"]) });
    let revision = live.table.load().revision();
    Ok(wire::QuerySet {
        name: model.name,
        column: column_name(live, model.column_id),
        kind: spec.kind,
        n_queries: model.n_queries as usize,
        n_filtered: spec.n_filtered,
        n_graded: spec.n_graded,
        seed: spec.seed,
        of: spec.of,
        noise: spec.noise,
        copies: spec.copies,
        revision: model.revision as u64,
        difficulty,
        answers: kept.map(|a| wire::KeptAnswers {
            k: a.k as usize,
            revision: a.revision as u64,
            stale: a.revision as u64 != revision,
            n_rows: a.n_rows as usize,
            seconds: a.seconds,
            created_at: a.created_at,
        }),
        created_at: model.created_at,
    })
}

pub async fn list(grant: &Grant, registry: &Registry, collection: &str) -> Result<wire::QuerySetList> {
    let live = registry.collection(grant, Scope::Search, collection)?;
    let sets = registry.catalog.query_sets(live.id).await?;
    let ids: Vec<i64> = sets.iter().map(|s| s.id).collect();
    let kept = registry.catalog.kept_answers(&ids).await?;
    let views = sets.into_iter().map(|s| {
        let kept = kept.iter().find(|a| a.set_id == s.id);
        view(&live, s, kept)
    });
    Ok(wire::QuerySetList { query_sets: views.collect::<Result<_>>()? })
}

/// A query set of a collection by name.
pub async fn find(registry: &Registry, live: &Live, name: &str) -> Result<query_set::Model> {
    let sets = registry.catalog.query_sets(live.id).await?;
    match sets.iter().find(|s| s.name == name) {
        Some(set) => Ok(set.clone()),
        None => Err(Problem::unknown("query set", name, sets.iter().map(|s| s.name.as_str()))),
    }
}

pub async fn show(
    grant: &Grant,
    registry: &Registry,
    (collection, name): (&str, &str),
) -> Result<wire::QuerySet> {
    let live = registry.collection(grant, Scope::Search, collection)?;
    let model = find(registry, &live, name).await?;
    let kept = registry.catalog.kept_answers(&[model.id]).await?;
    view(&live, model, kept.first())
}

pub async fn delete(grant: &Grant, registry: &Registry, (collection, name): (&str, &str)) -> Result<()> {
    let live = registry.collection(grant, Scope::Tune, collection)?;
    let model = find(registry, &live, name).await?;
    registry.catalog.delete_query_set(&model).await?;
    registry.clear_later();
    Ok(())
}

/// Queries of a page at most.
const PAGE: u64 = 1000;

/// Queries of a set, in order.
pub async fn queries(
    grant: &Grant,
    registry: &Registry,
    (collection, name): (&str, &str),
    (from, limit): (u64, u64),
) -> Result<wire::QueryPage> {
    let live = registry.collection(grant, Scope::Read, collection)?;
    if !(1..=PAGE).contains(&limit) {
        let detail = format!("limit is {limit}; it goes from 1 to {PAGE}");
        return Err(Problem::new(Kind::WrongShape, detail));
    }
    let model = find(registry, &live, name).await?;
    let rows = registry.catalog.queries(model.id, from, limit).await?;
    let table = live.table.load_full();
    let numbers: Vec<u64> = rows.iter().map(|r| r.number.map_or(u64::MAX, |n| n as u64)).collect();
    let records = table.rows_of_numbers(&numbers);
    let next = rows.last().map(|r| r.position as u64 + 1).filter(|n| *n < model.n_queries as u64);
    let one = |(row, record): (query::Model, Option<u32>)| wire::Query {
        position: row.position as u64,
        vector: bytemuck::pod_collect_to_vec(&row.vector),
        record: record.map(|r| table.key(r).to_owned()),
        text: row.text,
        filter: row.filter.and_then(|f| serde_json::from_value(f).ok()),
        relevant: row.relevant.and_then(|r| serde_json::from_value(r).ok()),
    };
    Ok(wire::QueryPage { queries: rows.into_iter().zip(records).map(one).collect(), next })
}

/// Starts computing the exact answers of a set, as a job. Those that are kept and current are taken as they are.
pub async fn answer(
    grant: &Grant,
    tools: &SetTools,
    (collection, name): (&str, &str),
    request: wire::AnswersRequest,
) -> Result<wire::Job> {
    let registry = &tools.registry;
    let live = registry.collection(grant, Scope::Tune, collection)?;
    crate::search::settings::check_k(request.k)?;
    let model = find(registry, &live, name).await?;
    let (tools, k) = (tools.clone(), request.k);
    let work = move |job: Arc<Job>| async move {
        let table = live.table.load_full();
        let column = live
            .position_of(model.column_id)
            .ok_or_else(|| Stop::Failed(format!("the column of query set \"{}\" is gone", model.name)))?;
        let share = common_share(&table, column, std::iter::empty());
        let known = known_answers(&tools.registry, &table, column, &model, (k, share), &job).await?;
        Ok(json!({"k": known.known.k, "queries": known.known.nearest.len(), "revision": table.revision()}))
    };
    Ok(registry.jobs.start("exact-answers", collection, name, work).await?.view())
}
