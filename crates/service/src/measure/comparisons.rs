//! Comparisons: two ways of answering, asked the same queries as a job, kept query by query, and judged.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::measure::compared::{AskedBy, QueryFigures, ReadySide, kept_pair, query, result_of};
use crate::measure::indexes::{ready, still};
use crate::measure::kept::{found, read};
use crate::measure::prepared::{PreparedSet, common_share, known_answers};
use crate::measure::query_sets::{SetTools, usual};
use crate::measure::spec::spec_of;
use crate::measure::sweeps::{MAX_ROUNDS, circumstances, named_sets};
use crate::measure::work::off;
use crate::node::jobs::{Job, Stop};
use crate::problem::{Kind, Problem, Result};
use crate::search::settings::{check_k, check_range, settings_of, settings_over, unused_settings};
use serde_json::{Map, Value, json};
use std::collections::HashMap;
use std::sync::Arc;
use zesty_catalog::{ComparedPair, measurement, query_set};
use zesty_engine::Table;
use zesty_engine::index::Settings;
use zesty_engine::measure::{CompareSpec, InPart, Side, compare, exact, sign_test};
use zesty_engine::rows::LastBlock;
use zesty_wire as wire;

/// Hits of a side that are kept of each query.
pub const MAX_K: usize = 100;
/// Queries on one page.
const PAGE: u64 = 100;

fn side(live: &Live, given: &wire::CompareSide, at: &str) -> Result<ReadySide> {
    let inside = |p: Problem| p.inside(at);
    let usual = Settings::default();
    let settings = settings_over(given.settings, usual, "/settings").map_err(inside)?;
    let refuse = |member: &str, detail: String| {
        Err(Problem::new(Kind::InvalidSettings, detail).at(format!("{at}/{member}")))
    };
    let Some(name) = &given.index else {
        if given.settings != wire::Settings::default() {
            return refuse("settings", "the exact scan takes no settings".into());
        }
        let column = live.column(given.column.as_deref(), "/column").map_err(inside)?;
        return Ok(ReadySide { column, index: None, settings });
    };
    let index = ready(live, name).map_err(|p| p.at(format!("{at}/index")))?;
    let column = live.position(&index).ok_or_else(|| index.not_ready().at(format!("{at}/index")))?;
    if let Some(given) = given.column.as_ref().filter(|given| **given != live.columns()[column].name) {
        let detail =
            format!("index \"{name}\" is of column \"{}\", not of \"{given}\"", live.columns()[column].name);
        return refuse("column", detail);
    }
    let unused = unused_settings(given.settings, settings_of(&index.model.recipe, settings));
    if !unused.is_empty() {
        return refuse("settings", format!("{} does not take {}", index.model.recipe, unused.join(" or ")));
    }
    Ok(ReadySide { column, index: Some(index), settings })
}

/// Whether both sides ask one index, or none.
fn is_same_index([left, right]: &[ReadySide; 2]) -> bool {
    let id = |side: &ReadySide| side.index.as_ref().map(|index| index.model.id);
    id(left) == id(right)
}

/// Starts comparing, as a job.
pub async fn create(
    grant: &Grant,
    tools: &SetTools,
    collection: &str,
    request: wire::ComparisonRequest,
) -> Result<wire::Job> {
    let registry = &tools.registry;
    let live = registry.collection(grant, Scope::Tune, collection)?;
    check_k(request.k)?;
    check_range("k", request.k, MAX_K, "/k")?;
    check_range("rounds", request.rounds.unwrap_or(3), MAX_ROUNDS, "/rounds")?;
    let sides = [side(&live, &request.left, "/left")?, side(&live, &request.right, "/right")?];
    if sides[0].column == sides[1].column
        && is_same_index(&sides)
        && (sides[0].settings == sides[1].settings || sides[0].index.is_none())
    {
        let detail = "both sides are the same: name another index, column or settings";
        return Err(Problem::new(Kind::WrongShape, detail).at("/right"));
    }
    let names: Vec<String> = request.query_set.iter().cloned().collect();
    let set = named_sets(registry, &live, &names).await.map_err(|p| p.at("/query_set"))?.into_iter().next();
    if let Some(set) = &set {
        let columns = live.columns();
        if !sides.iter().any(|side| columns[side.column].id == set.column_id) {
            let detail = format!("query set \"{}\" is of a column that neither side searches", set.name);
            return Err(Problem::new(Kind::WrongShape, detail).at("/query_set"));
        }
    }
    let subject: String = format!("{} and {}", request.left, request.right).chars().take(200).collect();
    let tools = tools.clone();
    let work = move |job: Arc<Job>| async move {
        let what = format!("a comparison of {} and {}", request.left, request.right);
        let _turn = tools.registry.turns.wait(&job, what).await?;
        Comparing { tools, live, request, job }.run(sides, set).await
    };
    Ok(registry.jobs.start("comparison", collection, &subject, work).await?.view())
}

struct Comparing {
    tools: SetTools,
    live: Arc<Live>,
    request: wire::ComparisonRequest,
    job: Arc<Job>,
}

impl Comparing {
    // Long because: from queries to what is kept, in the order in which it happens.
    async fn run(self, mut sides: [ReadySide; 2], set: Option<query_set::Model>) -> Result<Value, Stop> {
        let (registry, live, job) = (&self.tools.registry, &self.live, &self.job);
        let set = match set {
            Some(set) => set,
            None => usual(&self.tools, live, sides[0].column, job).await?,
        };
        for side in &mut sides {
            if let Some(index) = &side.index {
                side.index = Some(still(live, index)?);
            }
        }
        let table = live.table.load_full();
        let own = live
            .position_of(set.column_id)
            .ok_or_else(|| Stop::Failed(format!("the column of query set \"{}\" is gone", set.name)))?;
        let attached = || sides.iter().filter_map(|s| s.index.as_ref()?.attached.as_ref());
        let share = sides.iter().map(|s| common_share(&table, s.column, attached())).fold(1.0, f64::min);
        let prepared = known_answers(registry, &table, own, &set, (self.request.k, share), job).await?;
        let kind = spec_of(&set)?.kind;
        let asked = self.asked(&table, &sides, own, prepared).await?;
        let mut notices = circumstances(registry);
        if asked.n_without > 0 {
            let text = format!(
                "{} queries are left out: a column has no vector of their record, and they have no text",
                asked.n_without
            );
            notices.push(wire::Notice { code: "queries-left-out".into(), text });
        }
        let (graded, n_unknown_keys) = asked.grades(&table);
        let (k, threads) = (self.request.k, registry.threads);
        let (rounds, seed) = (self.request.rounds.unwrap_or(3), self.request.seed.unwrap_or(1));
        let (from, working, ready_sides) = (table.clone(), job.clone(), sides.clone());
        let measure = move || {
            let parts = asked.prepared.asking.parts(&from, own);
            let work = (threads, &*working.progress);
            let is_same = is_same_index(&ready_sides);
            // Each side's index in every part; the same index once.
            let mut in_parts: Vec<Vec<InPart<'_>>> = Vec::with_capacity(2);
            // The exact answers in another column than that of the query set.
            let mut others = Vec::with_capacity(2);
            for (i, (side, vectors)) in ready_sides.iter().zip(&asked.vectors).enumerate() {
                let attached = side.index.as_ref().and_then(|index| index.attached.as_ref());
                let attached = attached.filter(|_| !(i == 1 && is_same));
                let index = attached.map(|attached| parts.index(attached, side.column, work)).transpose()?;
                in_parts.push(index.unwrap_or_default());
                let other =
                    (side.column != own).then(|| exact(&parts, side.column, asked.set(vectors), k, work));
                others.push(other.transpose()?);
            }
            let side = |i: usize| {
                let ReadySide { column, index, settings } = &ready_sides[i];
                let in_parts = &*in_parts[if is_same { 0 } else { i }];
                Side {
                    column: *column,
                    vectors: &asked.vectors[i],
                    known: others[i].as_ref().unwrap_or(&asked.prepared.known),
                    index: index.as_ref().map(|_| (in_parts, *settings)),
                }
            };
            let spec = CompareSpec {
                sides: [side(0), side(1)],
                filters: asked.prepared.asking.filters.as_deref(),
                grades: &graded,
                k,
                rounds,
                seed,
            };
            let compared = compare(&parts, &spec, &working.progress)?;
            Ok((compared, parts.n_held_out(), asked.prepared))
        };
        let (compared, n_held_out, prepared) = off(measure).await?;
        let swept = wire::SweptSet {
            name: set.name.clone(),
            kind,
            n_queries: prepared.positions.len(),
            n_rows: prepared.known.n_rows,
            n_held_out,
            n_left_out: prepared.n_left_out,
            exact: None,
        };
        let pairs = compared.pairs.iter().zip(&prepared.positions);
        let pairs: Vec<ComparedPair> = pairs.map(|(pair, at)| kept_pair(&table, pair, *at)).collect();
        let result = result_of((live, &sides), compared, swept, (table.revision(), n_unknown_keys, notices));
        let of = (live.id, live.columns()[own].id);
        let kept = registry.catalog.add_comparison(of, json!(self.request), json!(result), &pairs).await?;
        Ok(json!({"comparison": kept.id}))
    }

    /// The queries with a vector in the column of each side: that of the record that asks, or of the text.
    async fn asked(
        &self,
        table: &Table,
        sides: &[ReadySide; 2],
        own: usize,
        mut prepared: PreparedSet,
    ) -> Result<Asked, Stop> {
        let mut vectors = [Vec::new(), Vec::new()];
        let mut n_without = 0;
        for (i, side) in sides.iter().enumerate().filter(|(_, side)| side.column != own) {
            let found = self.vectors_in(table, side.column, &prepared).await?;
            let there: Vec<usize> = (0..found.len()).filter(|q| found[*q].is_some()).collect();
            n_without += found.len() - there.len();
            prepared = prepared.only(&there);
            vectors[i] = found.into_iter().flatten().flatten().collect();
        }
        if prepared.positions.is_empty() {
            return Err(Stop::Failed(format!(
                "no query of \"{}\" can be asked of both sides: none has a vector in both columns, a record that no \
                 index has seen, and a filter that allows something",
                prepared.model.name
            )));
        }
        for (i, _) in sides.iter().enumerate().filter(|(_, side)| side.column == own) {
            vectors[i] = prepared.asking.vectors.clone();
        }
        Ok(Asked { prepared, vectors, n_without })
    }

    /// For each query its vector in another column.
    async fn vectors_in(
        &self,
        table: &Table,
        column: usize,
        prepared: &PreparedSet,
    ) -> Result<Vec<Option<Vec<f32>>>, Stop> {
        let about = &self.live.columns()[column];
        let (metric, dimensions) = (self.live.metrics[column], about.dimensions as usize);
        let stored = &table.vectors()[column].vectors;
        let numbers: Vec<u64> =
            prepared.asking.records.iter().map(|number| number.unwrap_or(u64::MAX)).collect();
        let rows = table.rows_of_numbers(&numbers);
        let of_record =
            |row: &Option<u32>| row.filter(|r| stored.present().contains(*r as usize)).map(|r| stored.row(r));
        let mut all: Vec<Option<Vec<f32>>> =
            rows.iter().map(|row| of_record(row).map(<[f32]>::to_vec)).collect();
        let missing: Vec<usize> =
            (0..all.len()).filter(|q| all[*q].is_none() && prepared.texts[*q].is_some()).collect();
        let Some(encoder) = about.encoder.as_ref().filter(|_| !missing.is_empty()) else { return Ok(all) };
        let encoder = self.tools.encoders.get(encoder).await?;
        self.job.progress.begin("encoding", missing.len());
        for some in missing.chunks(256) {
            let texts: Vec<String> = some.iter().filter_map(|q| prepared.texts[*q].clone()).collect();
            let vectors = self
                .tools
                .encoders
                .encode(&encoder, &texts, about.dimensions)
                .await
                .map_err(Problem::from)?;
            for (q, vector) in some.iter().zip(vectors) {
                all[*q] = metric.prepare(&vector, dimensions).ok();
            }
            if self.job.progress.is_cancelled() {
                return Err(Stop::Cancelled);
            }
        }
        Ok(all)
    }
}

/// The queries that both sides are asked.
struct Asked {
    prepared: PreparedSet,
    vectors: [Vec<f32>; 2],
    n_without: usize,
}

impl Asked {
    fn set<'a>(&'a self, vectors: &'a [f32]) -> zesty_engine::measure::QuerySet<'a> {
        zesty_engine::measure::QuerySet { vectors, ..self.prepared.asking.set() }
    }

    /// The graded rows of each query, and how many graded keys there are no records of. Such a key keeps its grade,
    /// at a row that nothing finds.
    fn grades(&self, table: &Table) -> (Vec<Vec<(u32, f64)>>, usize) {
        let mut n_unknown = 0;
        let of = |relevant: &Option<Value>| {
            let graded = relevant.as_ref().and_then(Value::as_object).into_iter().flatten();
            let rows = graded.map(|(key, grade)| {
                let row = table.row(key);
                n_unknown += usize::from(row.is_none());
                (row.unwrap_or(u32::MAX), grade.as_f64().unwrap_or(0.0))
            });
            rows.collect()
        };
        (self.prepared.relevant.iter().map(of).collect(), n_unknown)
    }
}

fn view(live: &Live, m: &measurement::Model, verdicts: wire::Verdicts) -> Option<wire::Comparison> {
    let (spec, result): (_, wire::ComparisonResult) = read(m)?;
    let stale = result.revision != live.table.load().revision();
    Some(wire::Comparison { id: m.id, spec, result, verdicts, stale, created_at: m.created_at })
}

async fn verdicts(registry: &Registry, ids: &[i64]) -> Result<HashMap<i64, wire::Verdicts>> {
    let none = wire::Verdicts { left: 0, right: 0, same: 0, neither: 0, p: 1.0 };
    let mut all: HashMap<i64, wire::Verdicts> = ids.iter().map(|id| (*id, none)).collect();
    for (id, word, n) in registry.catalog.verdicts(ids).await? {
        let Some(of) = all.get_mut(&id) else { continue };
        let n = n as usize;
        match serde_json::from_value(json!(word)) {
            Ok(wire::Verdict::Left) => of.left = n,
            Ok(wire::Verdict::Right) => of.right = n,
            Ok(wire::Verdict::Same) => of.same = n,
            Ok(wire::Verdict::Neither) => of.neither = n,
            Err(_) => {}
        }
    }
    all.values_mut().for_each(|v| v.p = sign_test(v.left, v.right));
    Ok(all)
}

/// The comparisons of a collection, newest first.
pub async fn list(grant: &Grant, registry: &Registry, collection: &str) -> Result<wire::ComparisonList> {
    let live = registry.collection(grant, Scope::Search, collection)?;
    let all = registry.catalog.measurements(live.id, "comparison").await?;
    let of = verdicts(registry, &all.iter().map(|m| m.id).collect::<Vec<_>>()).await?;
    Ok(wire::ComparisonList { comparisons: all.iter().filter_map(|m| view(&live, m, of[&m.id])).collect() })
}

pub async fn show(
    grant: &Grant,
    registry: &Registry,
    (collection, id): (&str, i64),
) -> Result<wire::Comparison> {
    let live = registry.collection(grant, Scope::Search, collection)?;
    let model = found(registry, &live, "comparison", id).await?;
    let of = verdicts(registry, &[id]).await?;
    let unreadable = || Problem::new(Kind::Internal, format!("comparison {id} cannot be read"));
    view(&live, &model, of[&id]).ok_or_else(unreadable)
}

pub async fn delete(grant: &Grant, registry: &Registry, (collection, id): (&str, i64)) -> Result<()> {
    let live = registry.collection(grant, Scope::Tune, collection)?;
    let model = found(registry, &live, "comparison", id).await?;
    Ok(registry.catalog.delete_measurement(&model).await?)
}

/// Keeps a verdict, and tells what all verdicts come to.
pub async fn judge(
    grant: &Grant,
    registry: &Registry,
    (collection, id, position): (&str, i64, u64),
    verdict: Option<wire::Verdict>,
) -> Result<wire::Verdicts> {
    let live = registry.collection(grant, Scope::Tune, collection)?;
    found(registry, &live, "comparison", id).await?;
    let word = verdict.map(|v| json!(v)).and_then(|v| v.as_str().map(str::to_owned));
    registry.catalog.judge(id, position, word.as_deref()).await?;
    Ok(verdicts(registry, &[id]).await?[&id])
}

/// What every query of a comparison gave, those that differ most first.
pub async fn figures_of(registry: &Registry, c: &wire::Comparison) -> Result<Vec<QueryFigures>> {
    const STEP: u64 = 1000;
    let mut all = Vec::new();
    loop {
        let some = registry.catalog.compared(c.id, all.len() as u64, STEP).await?;
        let n = some.len() as u64;
        all.extend(some.into_iter().map(QueryFigures::from));
        if n < STEP {
            return Ok(all);
        }
    }
}

/// Which queries of a comparison are shown.
pub enum Which {
    /// One, by its place in the query set.
    One(u64),
    /// Those that differ most first.
    Page { from: u64, limit: u64 },
}

/// Queries of a comparison with the hits of both sides.
pub async fn queries(
    grant: &Grant,
    registry: &Registry,
    (collection, id): (&str, i64),
    which: Which,
) -> Result<wire::ComparedPage> {
    let live = registry.collection(grant, Scope::Read, collection)?;
    let model = found(registry, &live, "comparison", id).await?;
    let compared_at = model.created_at;
    let unreadable = |_| Problem::new(Kind::Internal, format!("comparison {id} cannot be read"));
    let result: wire::ComparisonResult = serde_json::from_value(model.result).map_err(unreadable)?;
    let (pairs, next) = match which {
        Which::One(position) => {
            let pair = registry.catalog.compared_query(id, position).await?;
            let unknown = || Problem::unknown("query", &position.to_string(), []);
            (vec![pair.ok_or_else(unknown)?], None)
        }
        Which::Page { from, limit } => {
            check_range("limit", limit as usize, PAGE as usize, "/limit")?;
            let pairs = registry.catalog.compared(id, from, limit).await?;
            let next = from + pairs.len() as u64;
            (pairs, (next < result.query_set.n_queries as u64).then_some(next))
        }
    };
    let mut numbers: Vec<u64> = pairs.iter().flat_map(|p| p.hits.iter().flatten().map(|(n, _)| *n)).collect();
    numbers.sort_unstable();
    numbers.dedup();
    let mut records: HashMap<u64, (String, Map<String, Value>)> = HashMap::new();
    {
        let (table, mut last) = (live.table.load_full(), LastBlock::default());
        for row in table.rows_of_numbers(&numbers).into_iter().flatten() {
            let body = live.body(&table, row, &mut last)?;
            records.insert(table.number(row), (table.key(row).to_owned(), body));
        }
    }
    let sets = registry.catalog.query_sets(live.id).await?;
    let mut asked: HashMap<u64, AskedBy> = HashMap::new();
    // One that was made later under the same name has other queries.
    let is_it = |s: &&query_set::Model| s.name == result.query_set.name && s.created_at <= compared_at;
    if let Some(set) = sets.iter().find(is_it) {
        let positions: Vec<u64> = pairs.iter().map(|p| p.position).collect();
        let rows = registry.catalog.queries_at(set.id, &positions).await?;
        let table = live.table.load();
        let numbers: Vec<u64> = rows.iter().map(|row| row.number.map_or(u64::MAX, |n| n as u64)).collect();
        let asking = table.rows_of_numbers(&numbers);
        for (row, asking) in rows.into_iter().zip(asking) {
            let record = asking.map(|asking| table.key(asking).to_owned());
            asked.insert(row.position as u64, AskedBy { row, record });
        }
    }
    let metrics = [&result.left, &result.right].map(|side| {
        let at = live.columns().iter().position(|c| c.name == side.column);
        at.map_or(zesty_engine::Metric::Cosine, |at| live.metrics[at])
    });
    let shown = pairs.into_iter().map(|pair| {
        let by = asked.remove(&pair.position);
        query(pair, by, &records, metrics)
    });
    Ok(wire::ComparedPage { queries: shown.collect(), next })
}
