//! Running searches: one, or many in a request.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::reach::Reach;
use crate::collections::registry::Registry;
use crate::measure::watcher::Answered;
use crate::node::encoders::Encoders;
use crate::node::lanes::Place;
use crate::node::metrics::Metrics;
use crate::problem::{Kind, Problem, Result};
use crate::search::candidates::{Found, search_enough};
use crate::search::check::{Checked, check};
use crate::search::choose::{Chosen, choose, tell_unused};
use crate::search::explain::{explain, parts};
use crate::search::fetch::hits;
use crate::search::notices::{self, Circumstances};
use crate::search::query::resolve;
use crate::search::settings::settings_used;
use futures::{StreamExt, TryStreamExt};
use serde_json::Value;
use std::sync::Arc;
use std::time::{Duration, Instant};
use zesty_engine::rows::order;
use zesty_engine::scan::Neighbour;
use zesty_engine::search::{Answer, CostOf, Request, SearchPlan, Strategy};
use zesty_engine::until::{Caller, Until};
use zesty_engine::{Recipe, Table};
use zesty_wire::{self as wire, Hit, Notice, SearchAnswer, SearchRequest};

/// How often an index is chosen again because rows were numbered anew meanwhile.
const ATTEMPTS: usize = 5;
/// A search that is expected to take fewer microseconds may run where its request was read.
const SHORT_US: f64 = 1000.0;
/// From when on a search is slow enough for the log.
const SLOW: Duration = Duration::from_millis(500);
/// How long a search may take that says nothing of it.
const LONGEST: Duration = Duration::from_secs(30);
/// Searches in one request.
pub const MAX_SEARCHES: usize = 100;
/// Searches of one request that run at the same time: their texts are encoded while others search.
const AT_ONCE: usize = 8;

/// What a search works with.
#[derive(Clone, Copy)]
struct Searching<'a> {
    registry: &'a Arc<Registry>,
    encoders: &'a Encoders,
    metrics: &'a Metrics,
    place: &'a Place,
    reach: &'a Reach,
    /// The saved search that is asked.
    saved: Option<&'a wire::AskedSaved>,
}

pub async fn search(
    grant: &Grant,
    registry: &Arc<Registry>,
    encoders: &Encoders,
    (metrics, place): (&Metrics, &Place),
    (collection, request): (&str, SearchRequest),
) -> Result<SearchAnswer> {
    let reach = registry.reach(grant, Scope::Search, collection)?;
    Searching { registry, encoders, metrics, place, reach: &reach, saved: None }.answer(request).await
}

/// The search that a saved one makes.
pub async fn ask(
    reach: &Reach,
    registry: &Arc<Registry>,
    encoders: &Encoders,
    (metrics, place): (&Metrics, &Place),
    (saved, request): (&wire::AskedSaved, SearchRequest),
) -> Result<SearchAnswer> {
    Searching { registry, encoders, metrics, place, reach, saved: Some(saved) }.answer(request).await
}

/// Many searches of a collection; one that is refused refuses all.
pub async fn search_many(
    grant: &Grant,
    registry: &Arc<Registry>,
    encoders: &Encoders,
    (metrics, place): (&Metrics, &Place),
    (collection, requests): (&str, Vec<SearchRequest>),
) -> Result<wire::SearchAnswers> {
    let reach = registry.reach(grant, Scope::Search, collection)?;
    let n = requests.len();
    if !(1..=MAX_SEARCHES).contains(&n) {
        let detail = format!("{n} searches are given; a request takes 1 to {MAX_SEARCHES}");
        return Err(Problem::new(Kind::WrongShape, detail).at("/searches"));
    }
    let searching = Searching { registry, encoders, metrics, place, reach: &reach, saved: None };
    let answers = futures::stream::iter(requests.into_iter().enumerate())
        .map(|(i, request)| async move {
            searching.answer(request).await.map_err(|p| p.inside(&format!("/searches/{i}")))
        })
        .buffered(AT_ONCE)
        .try_collect()
        .await?;
    Ok(wire::SearchAnswers { answers })
}

/// What a search found, and in what.
struct Run {
    table: Arc<Table>,
    answer: Answer,
    nearest: Vec<Neighbour>,
    chosen: Option<Chosen>,
    hits: Vec<Hit>,
    fetch_us: f64,
    /// The filter as it was understood, where an explanation is asked for.
    understood: Option<(wire::FilterPart, Value)>,
    notices: Vec<Notice>,
}

impl Searching<'_> {
    async fn answer(self, request: SearchRequest) -> Result<SearchAnswer> {
        let request = &Arc::new(request);
        let (start, live) = (Instant::now(), &self.reach.live);
        let us = |since: Instant| since.elapsed().as_secs_f64() * 1e6;
        let checked = check(self.reach, self.registry, request)?;
        let column = checked.column;
        let mut notices: Vec<Notice> = notices::old_copy(self.registry.silence.since()).into_iter().collect();
        let chosen = choose(live, column, request, &mut notices)?;
        if let Some(chosen) = &chosen {
            tell_unused(chosen, request, &mut notices);
            if request.index.is_some() {
                live.kept.named.lock().insert(chosen.index.model.id, start);
            }
        }
        let encoding = Instant::now();
        let resolving = resolve(self.encoders, self.reach, column, request);
        let query = match request.text {
            Some(_) => self.place.away(resolving).await?,
            None => resolving.await?,
        };
        let encode_us = if request.text.is_some() { us(encoding) } else { 0.0 };

        let caller = GiveUp(Caller::default());
        let is_short = is_short(live, request, &checked, chosen.as_ref());
        let ready = Ready {
            reach: self.reach.clone(),
            registry: self.registry.clone(),
            request: request.clone(),
            saved: self.saved.map(|s| s.name.clone()),
            wanted: caller.0.clone(),
            checked,
            chosen,
            query,
        };
        let ran = self.place.compute(is_short, move || ready.run()).await?;
        let Run { table, answer, nearest, chosen, understood, hits, fetch_us, notices: more } = ran;
        notices.extend(more);
        let metric = live.metrics[column];
        let circumstances = Circumstances { request, metric, nearest: &nearest, n_hits: hits.len() };
        notices.extend(circumstances.advice(&answer));
        let timing = wire::Timing {
            encode_us,
            filter_us: answer.filter_us,
            plan_us: answer.plan_us,
            search_us: answer.search_us,
            fetch_us,
            total_us: us(start),
        };
        let via = via(live, column, chosen.as_ref(), answer);
        let took = start.elapsed();
        let saved = self.saved.map_or("", |s| s.name.as_str());
        self.metrics.search((&live.name, saved), via.index.as_deref(), via.plan.strategy.word(), took);
        if took >= SLOW {
            let (index, strategy) = (via.index.as_deref().unwrap_or("none"), via.plan.strategy.word());
            tracing::warn!(
                collection = live.name,
                index,
                saved,
                strategy,
                allowed = via.plan.allowed,
                rows = via.plan.rows,
                k = request.k,
                distances = via.work.distances,
                encode_us = timing.encode_us as u64,
                search_us = timing.search_us as u64,
                total_us = timing.total_us as u64,
                "a slow search"
            );
        }
        let (saved, revision) = (self.saved.cloned(), table.revision());
        let mut out = SearchAnswer { hits, via, saved, revision, timing, notices, explain: None };
        if request.explain {
            let (filter, filter_json) = understood.unzip();
            out.explain =
                Some(wire::Explanation { text: explain(&out, filter.as_ref()), filter, filter_json });
        }
        Ok(out)
    }
}

/// Takes out of an answer what tells of records that the key does not see: it sees `n` of them.
fn hide_others(answer: &mut Answer, n: usize) {
    answer.work = Default::default();
    answer.plan.rows = n;
    if answer.plan.strategy == Strategy::ScanAll {
        answer.plan.strategy = Strategy::ScanAllowed;
    }
    answer.plan.unindexed = 0;
    answer.plan.widened = None;
    answer.plan.considered.clear();
}

/// Rows that must not be hits: examples, unless they may be, and what the caller leaves out.
fn excluded(
    reach: &Reach,
    request: &SearchRequest,
    table: &Table,
    notices: &mut Vec<Notice>,
) -> Result<Vec<u32>> {
    let examples = [&request.examples, &request.counterexamples].into_iter().flatten();
    let examples = examples.flat_map(|keys| keys.list()).filter(|_| !request.include_self);
    let mut rows: Vec<u32> = examples.filter_map(|key| table.row(key)).collect();
    let mut unknown = Vec::new();
    let within = reach.within(table)?;
    for key in request.leave_out.iter().flatten() {
        match within.row(table, key) {
            Some(row) => rows.push(row),
            None => unknown.push(key.as_str()),
        }
    }
    if let Some(first) = unknown.first() {
        let text = match unknown.len() {
            1 => format!("leave_out names \"{first}\", which does not exist"),
            n => format!("leave_out names {n} records that do not exist, such as \"{first}\""),
        };
        notices.push(Notice { code: "nothing-left-out".into(), text });
    }
    Ok(rows)
}

/// Gives a search up when whoever waits for it goes away.
struct GiveUp(Caller);

impl Drop for GiveUp {
    fn drop(&mut self) {
        self.0.give_up();
    }
}

/// A search that has all it needs.
struct Ready {
    reach: Reach,
    registry: Arc<Registry>,
    request: Arc<SearchRequest>,
    /// The name of the saved search that is asked.
    saved: Option<String>,
    wanted: Caller,
    checked: Checked,
    chosen: Option<Chosen>,
    query: Vec<f32>,
}

impl Ready {
    /// Searches, and reads what the hits are. The snapshot is taken here, after encoding and waiting, so that the answer
    /// is as fresh as can be.
    fn run(self) -> Result<Run> {
        let Ready { reach, registry, request, saved, wanted, mut checked, mut chosen, query } = self;
        let (live, column) = (&reach.live, checked.column);
        let mut table = live.table.load_full();
        for _ in 0..ATTEMPTS {
            let attached = chosen.as_ref().and_then(|c| c.index.attached.as_ref());
            if attached.is_none_or(|a| a.fits(&table)) {
                break;
            }
            chosen = choose(live, column, &request, &mut Vec::new())?;
            table = live.table.load_full();
        }
        let mut notices = Vec::new();
        let excluded = excluded(&reach, &request, &table, &mut notices)?;
        // Who names an index or its settings means to see what it gives.
        let named = request.index.is_some() || request.settings.is_some() || request.recall.is_some();
        let only = chosen.as_ref().filter(|_| named && checked.test.is_none());
        let only =
            only.and_then(|c| Some(Strategy::of_index(&c.index.attached.as_ref()?.index.recipe(), None)));
        let explained = checked.filter.take().filter(|_| request.explain);
        let index = chosen.as_ref().and_then(|c| Some((c.index.attached.as_ref()?, c.settings)));
        let longest = request.time_limit_ms.map_or(LONGEST, |ms| Duration::from_secs_f64(ms / 1e3));
        let asked = Request {
            column,
            query: &query,
            k: request.k,
            filter: checked.test.as_ref(),
            excluded: &excluded,
            index,
            only,
            until: Until::at(Instant::now() + longest).wanted_by(&wanted),
        };
        let Found { mut answer, nearest } = search_enough(&table, asked, &request, &checked);
        let understood = explained.and_then(|f| Some((parts(&f.expr, &table)?, f.to_json())));
        if Answered::is_watched(live) && !answer.cut {
            let index = chosen.as_ref().filter(|_| !is_exact(&answer));
            let answered = Answered {
                live,
                column,
                request: &request,
                table: &table,
                index: index.map(|c| c.index.model.name.as_str()),
                saved: saved.as_deref(),
                query,
                test: checked.test.clone(),
                excluded,
                found: &answer.nearest,
            };
            answered.note(&registry.watcher);
        }
        let fetching = Instant::now();
        let hits = hits(live, &request, &checked, &table, &in_order(&answer, &checked, &table))?;
        let fetch_us = fetching.elapsed().as_secs_f64() * 1e6;
        if let Some(within) = reach.rows(&table)? {
            hide_others(&mut answer, within.n);
        }
        Ok(Run { table, answer, nearest, chosen, hits, fetch_us, understood, notices })
    }
}

/// Whether a search is over before it would have reached another thread: other requests hardly wait for it.
fn is_short(live: &Live, request: &SearchRequest, checked: &Checked, chosen: Option<&Chosen>) -> bool {
    if checked.test.is_some()
        || checked.at_most.is_some()
        || request.explain
        || request.skip + request.k > 100
    {
        return false;
    }
    let table = live.table.load();
    let vectors = &table.vectors()[checked.column].vectors;
    let expected_us = match chosen.and_then(|c| Some((c.index.attached.as_ref()?, c.settings))) {
        Some((attached, settings)) if attached.fits(&table) => attached.expected_us(&table, settings),
        _ => table.len() as f64 * vectors.dimensions() as f64 * 1e-4,
    };
    expected_us < SHORT_US
}

/// The hits in the order that is asked for.
fn in_order(answer: &Answer, checked: &Checked, table: &Table) -> Vec<Neighbour> {
    let mut rows = answer.nearest.clone();
    if let Some((field, descending)) = checked.sort {
        let key = |n: &Neighbour| order::value(table, field, n.row);
        rows.sort_by(|a, b| key(a).order(&key(b), descending));
    }
    rows
}

/// Whether the hits are certainly the nearest.
fn is_exact(answer: &Answer) -> bool {
    !answer.cut && matches!(answer.plan.strategy, Strategy::ScanAll | Strategy::ScanAllowed)
}

fn via(live: &Live, column: usize, chosen: Option<&Chosen>, answer: Answer) -> wire::Via {
    let exact = is_exact(&answer);
    // As it was read when the index was opened.
    let recipe = chosen.and_then(|c| Some(c.index.attached.as_ref()?.index.recipe()));
    wire::Via {
        column: live.columns()[column].name.clone(),
        metric: live.metrics[column].to_string(),
        index: chosen.map(|c| c.index.model.name.clone()),
        recipe: chosen.map(|c| c.index.model.recipe.clone()),
        settings: chosen.map(|c| settings_used(recipe, c.settings)),
        target: chosen.and_then(|c| c.target.clone()),
        plan: plan(answer.plan, recipe),
        work: wire::Work {
            distances: answer.work.distances,
            hops: answer.work.hops,
            blocks: answer.work.blocks,
            repeated: answer.work.again > 0,
        },
        exact,
    }
}

fn plan(plan: SearchPlan, recipe: Option<Recipe>) -> wire::SearchPlan {
    let considered = plan.considered.into_iter().map(|c| wire::Considered {
        strategy: strategy(c.strategy),
        expected_us: c.expected_us,
        costs: c
            .costs
            .into_iter()
            .map(|cost| wire::SearchCost { of: cost_of(cost.of), n: cost.n, ns_each: cost.ns_each })
            .collect(),
    });
    wire::SearchPlan {
        strategy: strategy(plan.strategy),
        rows: plan.rows,
        allowed: plan.allowed,
        unindexed: plan.unindexed,
        widened: plan.widened.map(|settings| settings_used(recipe, settings)),
        considered: considered.collect(),
    }
}

fn cost_of(of: CostOf) -> wire::CostOf {
    match of {
        CostOf::Search => wire::CostOf::Search,
        CostOf::Distance => wire::CostOf::Distance,
        CostOf::Stored => wire::CostOf::Stored,
        CostOf::Checked => wire::CostOf::Checked,
        CostOf::Compared => wire::CostOf::Compared,
        CostOf::Picked => wire::CostOf::Picked,
        CostOf::Newer => wire::CostOf::Newer,
    }
}

fn strategy(of: Strategy) -> wire::Strategy {
    match of {
        Strategy::ScanAll => wire::Strategy::ScanAll,
        Strategy::ScanAllowed => wire::Strategy::ScanAllowed,
        Strategy::ScanStored => wire::Strategy::ScanStored,
        Strategy::Walk => wire::Strategy::Walk,
        Strategy::WalkAllowed => wire::Strategy::WalkAllowed,
        Strategy::Visit => wire::Strategy::Visit,
        Strategy::VisitAllowed => wire::Strategy::VisitAllowed,
    }
}
