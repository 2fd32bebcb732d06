//! One query under the lens: what an index missed of the truth, and what would find it.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::{Live, LiveIndex};
use crate::collections::reach::Reach;
use crate::collections::registry::Registry;
use crate::measure::prepared::{Asking, common_share};
use crate::measure::query_sets::{SetTools, find};
use crate::measure::spec::spec_of;
use crate::node::encoders::Encoders;
use crate::node::threads::blocking;
use crate::problem::{Kind, Problem, Result};
use crate::search::check::check;
use crate::search::choose::{Chosen, choose};
use crate::search::query::resolve;
use crate::search::settings::settings_of;
use std::sync::Arc;
use zesty_catalog::NewQuery;
use zesty_engine::Table;
use zesty_engine::filter::Test;
use zesty_engine::index::{Progress, Settings};
use zesty_engine::measure::{LensRequest, Parts, Place, Seen, look};
use zesty_wire as wire;

/// What is looked at.
pub struct Looking {
    pub live: Arc<Live>,
    /// The rows as they are looked at.
    pub table: Arc<Table>,
    pub column: usize,
    index: Arc<LiveIndex>,
    settings: Settings,
    k: usize,
    /// Prepared.
    pub query: Vec<f32>,
    test: Option<Test>,
    /// Of a query set: with what is held out for it.
    asking: Option<Asking>,
    /// Keys that do not count.
    examples: Vec<String>,
}

/// Looks at one query: a search, or a query of a set.
pub async fn lens(
    grant: &Grant,
    tools: &SetTools,
    collection: &str,
    request: wire::LensRequest,
) -> Result<wire::LensAnswer> {
    let looking = looking(grant, tools, collection, request).await?;
    let threads = tools.registry.threads;
    blocking(move || shown(&looking, threads)).await
}

/// What there is to look at.
pub async fn looking(
    grant: &Grant,
    tools: &SetTools,
    collection: &str,
    request: wire::LensRequest,
) -> Result<Looking> {
    let registry = &tools.registry;
    let reach = registry.reach(grant, Scope::Search, collection)?;
    grant.require_wide()?;
    let live = reach.live.clone();
    let search = &request.search;
    let inside = |p: Problem| p.inside("/search");
    let checked = check(&reach, registry, search).map_err(inside)?;
    let mut asked = None;
    let mut column = checked.column;
    if let Some(name) = &request.query_set {
        let (of, query) = query_of(registry, &live, name, request.position.unwrap_or(0)).await?;
        column = of;
        asked = Some(query);
    }
    let mut notices = Vec::new();
    let chosen = choose(&live, column, search, &mut notices).map_err(inside)?;
    let Some(Chosen { index, settings, .. }) = chosen else {
        let detail = "the lens compares an index with the exact answer, and no index answers here: name one";
        return Err(Problem::new(Kind::WrongShape, detail).at("/search/index"));
    };
    let table = live.table.load_full();
    let k = search.k;
    match asked {
        Some((query, copies)) => {
            let share = common_share(&table, column, index.attached.iter());
            let asking = Asking::new(std::slice::from_ref(&query), table.schema(), share, copies)?;
            let own = asking.filters.as_ref().and_then(|all| all[0].clone());
            let test = checked.test.or(own);
            let (query, asking) = (query.vector, Some(asking));
            let examples = Vec::new();
            Ok(Looking { live, table, column, index, settings, k, query, test, asking, examples })
        }
        None => {
            let with = (index, settings);
            searched(&tools.encoders, (reach, table), (column, checked.test), with, search).await
        }
    }
}

async fn searched(
    encoders: &Encoders,
    (reach, table): (Reach, Arc<Table>),
    (column, test): (usize, Option<Test>),
    (index, settings): (Arc<LiveIndex>, Settings),
    search: &wire::SearchRequest,
) -> Result<Looking> {
    let query = resolve(encoders, &reach, column, search).await.map_err(|p| p.inside("/search"))?;
    let examples = [&search.examples, &search.counterexamples].into_iter().flatten();
    let examples = examples.flat_map(|keys| keys.list()).filter(|_| !search.include_self).cloned().collect();
    let (live, k) = (reach.live, search.k);
    Ok(Looking { live, table, column, index, settings, k, query, test, asking: None, examples })
}

/// A query of a set with its column, and whether copies of it count.
async fn query_of(
    registry: &Registry,
    live: &Live,
    name: &str,
    position: u64,
) -> Result<(usize, (NewQuery, Option<bool>))> {
    let model = find(registry, live, name).await.map_err(|p| p.at("/query_set"))?;
    let row = registry.catalog.queries(model.id, position, 1).await?.into_iter().next();
    let Some(row) = row.filter(|r| r.position as u64 == position) else {
        let detail = format!("query set \"{name}\" has queries 0 to {}", model.n_queries - 1);
        return Err(Problem::new(Kind::WrongShape, detail).at("/position"));
    };
    let column = live.position_of(model.column_id).ok_or_else(|| {
        Problem::new(Kind::NoData, format!("the column of query set \"{name}\" is gone")).at("/query_set")
    })?;
    let query = NewQuery {
        vector: bytemuck::pod_collect_to_vec(&row.vector),
        number: row.number.map(|n| n as u64),
        text: row.text,
        filter: row.filter,
        relevant: None,
    };
    Ok((column, (query, spec_of(&model)?.copies)))
}

/// Looks.
pub fn shown(looking: &Looking, threads: usize) -> Result<wire::LensAnswer> {
    let (column, table) = (looking.column, &*looking.table);
    let parts = match &looking.asking {
        Some(asking) => asking.parts(table, column),
        None => Parts::whole(table.clone(), 1),
    };
    let stopped = |e: zesty_engine::measure::MeasureError| Problem::new(Kind::Internal, e.to_string());
    let own = looking.index.attached.as_ref().filter(|a| a.fits(table));
    let own = own.ok_or_else(|| looking.index.not_ready())?;
    let in_parts = parts.index(own, column, (threads, &Progress::default())).map_err(stopped)?;
    let excluded: Vec<u32> = looking.examples.iter().filter_map(|key| table.row(key)).collect();
    let request = LensRequest {
        table: parts.table(0),
        column,
        attached: &in_parts[parts.of(0)],
        settings: looking.settings,
        query: &looking.query,
        k: looking.k,
        filter: looking.test.as_ref(),
        excluded: &excluded,
    };
    let seen = look(&request, threads);
    if seen.truth.is_empty() {
        let detail = "the filter allows no record, so there is nothing to find";
        return Err(Problem::new(Kind::NoData, detail).at("/search/filter"));
    }
    Ok(answer(looking, table, seen, parts.n_held_out() > 0))
}

fn answer(looking: &Looking, table: &Table, seen: Seen, held_out: bool) -> wire::LensAnswer {
    let metric = looking.live.metrics[looking.column];
    let recipe = &looking.index.model.recipe;
    let key = |row: u32| table.key(row).to_owned();
    let truth = seen.truth.iter().enumerate().map(|(i, t)| wire::TrueNeighbour {
        rank: i + 1,
        key: key(t.at.row),
        distance: metric.distance(t.at.rank),
        score: metric.score(t.at.rank),
        found_at: t.found.map(|rank| rank + 1),
        stands_out: t.stands_out,
        smallest: t.smallest.map(|s| settings_of(recipe, s)),
    });
    let is_true = |row: u32| seen.truth.iter().any(|t| t.at.row == row);
    let strays = seen.answer.nearest.iter().enumerate().filter(|(_, n)| !is_true(n.row));
    let percentiles = |[p5, p25, p50, p75, p95]: [f64; 5]| wire::Percentiles { p5, p25, p50, p75, p95 };
    wire::LensAnswer {
        column: looking.live.columns()[looking.column].name.clone(),
        metric: metric.to_string(),
        index: looking.index.model.name.clone(),
        recipe: recipe.clone(),
        settings: settings_of(recipe, looking.settings),
        k: looking.k,
        recall: seen.recall,
        gap: seen.gap,
        standouts: seen.standout.1,
        standouts_found: seen.standout.0,
        truth: truth.collect(),
        strays: strays
            .map(|(i, n)| wire::Stray {
                rank: i + 1,
                key: key(n.row),
                distance: metric.distance(n.rank),
                score: metric.score(n.rank),
            })
            .collect(),
        curve: seen.curve.iter().map(|rank| metric.distance(*rank)).collect(),
        place: seen.place.map(|p| match p {
            Place::InACluster => wire::Place::InACluster,
            Place::AtTheEdge => wire::Place::AtTheEdge,
            Place::InTheOpen => wire::Place::InTheOpen,
        }),
        of_records: seen.of_records.map(percentiles),
        of_rows: percentiles(seen.of_rows),
        search_us: seen.answer.search_us,
        distances: seen.answer.work.distances,
        held_out,
        revision: table.revision(),
    }
}
