//! Sweeps: recall and latency of indexes at lists of settings, measured as a job and kept.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::{Live, LiveIndex};
use crate::collections::registry::Registry;
use crate::measure::indexes::{built_for, ready, still};
use crate::measure::kept::{found, view, views};
use crate::measure::machine::machine;
use crate::measure::prepared::{PreparedSet, common_share, known_answers};
use crate::measure::query_sets::{SetTools, find, usual};
use crate::measure::spec::spec_of;
use crate::measure::work::off;
use crate::names::check_lists;
use crate::node::jobs::{Job, Stop};
use crate::problem::{Kind, Problem, Result};
use crate::search::settings::{check_k, check_range, settings_of, settings_over};
use serde_json::json;
use std::sync::Arc;
use zesty_catalog::query_set;
use zesty_engine::index::Settings;
use zesty_engine::measure::{self, InPart, SweepSpec, Swept, Trial, sweep};
use zesty_engine::{Recipe, Table};
use zesty_wire as wire;

const USUAL_BEAMS: [usize; 8] = [10, 16, 24, 40, 64, 100, 160, 256];
const USUAL_VISITS: [usize; 7] = [1, 2, 4, 8, 16, 32, 64];
/// Points of one sweep.
const MAX_POINTS: usize = 1000;
/// Indexes and recipes of one sweep.
pub const MAX_INDEXES: usize = 16;
/// Times that everything is measured.
pub const MAX_ROUNDS: usize = 20;
/// Values of k, clients and rescores, and query sets.
pub const MAX_LIST: usize = 16;
/// Beams, or visits.
pub const MAX_STEPS: usize = 32;

/// Lists of numbers to measure with, checked.
struct Lists {
    k: Vec<usize>,
    clients: Vec<usize>,
    rounds: usize,
    seed: u64,
}

fn checked_list(
    given: &[usize],
    usual: usize,
    (member, word): (&str, &str),
    most: usize,
) -> Result<Vec<usize>> {
    if given.is_empty() {
        return Ok(vec![usual]);
    }
    if given.len() > MAX_LIST {
        let detail = format!("{} values of {member}; give 1 to {MAX_LIST}", given.len());
        return Err(Problem::new(Kind::InvalidSettings, detail).at(format!("/{member}")));
    }
    for (i, &n) in given.iter().enumerate() {
        check_range(word, n, most, format_args!("/{member}/{i}"))?;
    }
    Ok(given.to_vec())
}

fn lists(request: &wire::SweepRequest) -> Result<Lists> {
    let k = if request.k.is_empty() { vec![10] } else { request.k.clone() };
    for (i, k) in k.iter().enumerate() {
        check_k(*k).map_err(|p| p.at(format!("/k/{i}")))?;
    }
    check_lists([("/k", k.len()), ("/query_sets", request.query_sets.len())], MAX_LIST)?;
    check_lists([("/recipes", request.recipes.len())], MAX_INDEXES)?;
    let rounds = request.rounds.unwrap_or(3);
    check_range("rounds", rounds, MAX_ROUNDS, "/rounds")?;
    let clients = checked_list(&request.clients, 1, ("clients", "clients"), 64)?;
    Ok(Lists { k, clients, rounds, seed: request.seed.unwrap_or(1) })
}

/// The settings to measure: the lists that the recipe uses.
fn steps(input: &wire::SweepRequest, recipe: &str) -> Result<Vec<Settings>> {
    let parsed = recipe.parse::<Recipe>().ok();
    let usual = settings_over(wire::Settings::default(), Settings::default(), "")?;
    let rescores = match parsed.is_some_and(|r| r.rescore.is_some()) {
        true => {
            let given = input.rescores.as_deref().unwrap_or_default();
            checked_list(given, usual.rescore, ("rescores", "rescore"), Settings::MAX_RESCORE)?
        }
        false => vec![usual.rescore],
    };
    let (word, given, list): (&str, _, &[usize]) = match parsed.and_then(|r| r.setting()) {
        Some("beam") => ("beams", &input.beams, &USUAL_BEAMS),
        Some(_) => ("visits", &input.visits, &USUAL_VISITS),
        None => return Ok(rescores.iter().map(|&rescore| Settings { rescore, ..usual }).collect()),
    };
    let list = given.as_deref().unwrap_or(list);
    if !(1..=MAX_STEPS).contains(&list.len()) {
        let detail = format!("{} {word}; give 1 to {MAX_STEPS}", list.len());
        return Err(Problem::new(Kind::InvalidSettings, detail).at(format!("/{word}")));
    }
    let mut all = Vec::new();
    for (i, &n) in list.iter().enumerate() {
        let most = if word == "beams" { Settings::MAX_BEAM } else { Settings::MAX_VISIT };
        check_range(&word[..word.len() - 1], n, most, format_args!("/{word}/{i}"))?;
        for &rescore in &rescores {
            let with = Settings { rescore, ..usual };
            all.push(if word == "beams" {
                Settings { beam: n, ..with }
            } else {
                Settings { visit: n, ..with }
            });
        }
    }
    Ok(all)
}

/// Refuses lists that no index of the sweep is tuned by.
fn check_used(request: &wire::SweepRequest, recipes: &[String]) -> Result<()> {
    let words: Vec<Option<&str>> =
        recipes.iter().map(|r| r.parse::<Recipe>().ok().and_then(|r| r.setting())).collect();
    for (member, word, given) in
        [("beams", "beam", request.beams.is_some()), ("visits", "visit", request.visits.is_some())]
    {
        if given && !words.contains(&Some(word)) {
            let other = if word == "beam" { "visits" } else { "beams" };
            let detail = format!("{} is tuned by {other}, not by {member}", recipes.join(" and "));
            return Err(Problem::new(Kind::InvalidSettings, detail).at(format!("/{member}")));
        }
    }
    Ok(())
}

/// An index that is to be measured, with its settings.
struct Measuring {
    index: Arc<LiveIndex>,
    settings: Vec<Settings>,
}

/// Starts measuring indexes over lists of settings, as a job.
pub async fn create(
    grant: &Grant,
    tools: &SetTools,
    collection: &str,
    request: wire::SweepRequest,
) -> Result<wire::Job> {
    let registry = &tools.registry;
    let live = registry.collection(grant, Scope::Tune, collection)?;
    let lists = lists(&request)?;
    let n = request.indexes.len() + request.recipes.len();
    if !(1..=MAX_INDEXES).contains(&n) {
        let detail = format!("{n} indexes and recipes are named; name 1 to {MAX_INDEXES}");
        return Err(Problem::new(Kind::WrongShape, detail).at("/indexes"));
    }
    let (mut measuring, mut recipes, mut columns) = (Vec::new(), request.recipes.clone(), Vec::new());
    for (i, name) in request.indexes.iter().enumerate() {
        let at = format!("/indexes/{i}");
        let index = ready(&live, name).map_err(|p| p.at(&at))?;
        columns.push(live.position(&index).ok_or_else(|| index.not_ready().at(&at))?);
        recipes.push(index.model.recipe.clone());
        measuring.push(Measuring { settings: steps(&request, &index.model.recipe)?, index });
    }
    if columns.windows(2).any(|two| two[0] != two[1]) {
        let detail = "the indexes are built over several vector columns; a sweep measures those of one";
        return Err(Problem::new(Kind::WrongShape, detail).at("/indexes"));
    }
    let sets = named_sets(registry, &live, &request.query_sets).await?;
    let of_set = sets.first().and_then(|s| live.position_of(s.column_id));
    let column = match columns.first().copied().or(of_set) {
        Some(column) => column,
        None => live.column(None, "/indexes")?,
    };
    check_column(&live, column, &sets)?;
    check_used(&request, &recipes)?;
    let mut n_points: usize = measuring.iter().map(|m| m.settings.len()).sum();
    for recipe in &request.recipes {
        n_points += steps(&request, recipe)?.len();
    }
    n_points *= lists.k.len() * lists.clients.len() * request.query_sets.len().max(1);
    if n_points > MAX_POINTS {
        let detail = format!("{n_points} points; a sweep measures {MAX_POINTS} at most: name fewer settings");
        return Err(Problem::new(Kind::TooLarge, detail).with("limit", MAX_POINTS));
    }
    let subject = request.indexes.iter().chain(&request.recipes).cloned().collect::<Vec<_>>().join(", ");
    let subject = subject.chars().take(200).collect::<String>();
    let (tools, grant) = (tools.clone(), grant.clone());
    let work = move |job: Arc<Job>| async move {
        let sweeping = Sweeping { grant, tools, live, column, request, lists, job };
        sweeping.run(measuring, sets).await
    };
    Ok(registry.jobs.start("sweep", collection, &subject, work).await?.view())
}

pub async fn named_sets(registry: &Registry, live: &Live, names: &[String]) -> Result<Vec<query_set::Model>> {
    let mut sets = Vec::with_capacity(names.len());
    for (i, name) in names.iter().enumerate() {
        sets.push(find(registry, live, name).await.map_err(|p| p.at(format!("/query_sets/{i}")))?);
    }
    Ok(sets)
}

pub fn check_column(live: &Live, column: usize, sets: &[query_set::Model]) -> Result<()> {
    let about = &live.columns()[column];
    for (i, set) in sets.iter().enumerate() {
        if set.column_id != about.id {
            let detail = format!("query set \"{}\" is not of column \"{}\"", set.name, about.name);
            return Err(Problem::new(Kind::WrongShape, detail).at(format!("/query_sets/{i}")));
        }
    }
    Ok(())
}

struct Sweeping {
    grant: Grant,
    tools: SetTools,
    live: Arc<Live>,
    column: usize,
    request: wire::SweepRequest,
    lists: Lists,
    job: Arc<Job>,
}

impl Sweeping {
    async fn run(
        self,
        mut measuring: Vec<Measuring>,
        mut sets: Vec<query_set::Model>,
    ) -> Result<serde_json::Value, Stop> {
        let (registry, job) = (self.tools.registry.clone(), self.job.clone());
        let mut built = Vec::new();
        for recipe in &self.request.recipes {
            let at = (&*self.live, self.column);
            let index = built_for(&self.grant, &registry, at, recipe, &job).await?;
            built.push(index.model.name.clone());
            measuring.push(Measuring { settings: steps(&self.request, &index.model.recipe)?, index });
        }
        let what = format!("a sweep of {}", measuring[0].index.model.name);
        let turn = registry.turns.wait(&job, what).await?;
        if sets.is_empty() {
            sets.push(usual(&self.tools, &self.live, self.column, &job).await?);
        }
        let result = self.measure(&mut measuring, &sets).await;
        drop(turn);
        if !self.request.keep {
            for name in built {
                if let Err(e) = self.live.drop_index(&registry, &name).await {
                    job.say(format!("index \"{name}\" stays: {}", e.detail));
                }
            }
        }
        let result = result?;
        let cut = result.cut;
        let of = (self.live.id, self.live.columns()[self.column].id);
        let kept = registry.catalog.add_measurement(of, "sweep", json!(self.request), json!(result)).await?;
        if cut {
            job.say("cancelled: the points that were whole by then are kept");
        }
        Ok(json!({"sweep": kept.id}))
    }

    async fn measure(
        &self,
        measuring: &mut [Measuring],
        sets: &[query_set::Model],
    ) -> Result<wire::SweepResult, Stop> {
        let (registry, live, job) = (&self.tools.registry, &self.live, &self.job);
        // An index may have absorbed since the sweep was asked for. From here on nothing changes.
        for one in measuring.iter_mut() {
            one.index = still(live, &one.index)?;
        }
        let table = live.table.load_full();
        let attached = || measuring.iter().filter_map(|m| m.index.attached.as_ref());
        let share = common_share(&table, self.column, attached());
        let most = self.lists.k.iter().copied().max().unwrap_or(10);
        let mut result = wire::SweepResult {
            points: Vec::new(),
            indexes: measuring.iter().map(|m| swept_index(&m.index, &table, self.column)).collect(),
            query_sets: Vec::new(),
            metric: live.metrics[self.column].to_string(),
            revision: table.revision(),
            cut: false,
            machine: machine(),
            notices: circumstances(registry),
        };
        for set in sets {
            let prepared = known_answers(registry, &table, self.column, set, (most, share), job).await;
            let measured = match prepared {
                Ok(prepared) => self.one_set(measuring, &table, prepared, &mut result).await,
                Err(stop) => Err(stop),
            };
            match measured {
                Err(Stop::Cancelled) if !result.points.is_empty() => result.cut = true,
                other => other?,
            }
            if result.cut {
                break;
            }
        }
        if result.notices.is_empty() {
            result.notices = circumstances(registry);
        }
        Ok(result)
    }

    async fn one_set(
        &self,
        measuring: &[Measuring],
        table: &Arc<Table>,
        prepared: PreparedSet,
        result: &mut wire::SweepResult,
    ) -> Result<(), Stop> {
        let (column, job) = (self.column, self.job.clone());
        let kind = spec_of(&prepared.model)?.kind;
        if prepared.positions.is_empty() {
            let why = format!(
                "no query of \"{}\" can be used: an index may have seen them, or their filters allow nothing",
                prepared.model.name
            );
            return Err(Stop::Failed(why));
        }
        let mut trials = Vec::new();
        for (index, one) in measuring.iter().enumerate() {
            for &settings in &one.settings {
                for &k in &self.lists.k {
                    for &clients in &self.lists.clients {
                        trials.push(Trial { index, settings, k, clients });
                    }
                }
            }
        }
        let indexes: Vec<Arc<LiveIndex>> = measuring.iter().map(|m| m.index.clone()).collect();
        let (rounds, seed, threads) = (self.lists.rounds, self.lists.seed, self.tools.registry.threads);
        let (table, asking) = (table.clone(), prepared.asking.clone());
        let name = prepared.model.name.clone();
        let positions = prepared.positions.clone();
        let n_left_out = prepared.n_left_out;
        let n_rows = prepared.known.n_rows;
        let measure = move || {
            let parts = asking.parts(&table, column);
            let attached = indexes.iter().filter_map(|index| index.attached.as_ref());
            let in_parts = attached.map(|a| parts.index(a, column, (threads, &job.progress)));
            let in_parts: Vec<Vec<InPart<'_>>> = in_parts.collect::<Result<_, _>>()?;
            let in_parts: Vec<&[InPart<'_>]> = in_parts.iter().map(Vec::as_slice).collect();
            let spec = SweepSpec {
                column,
                set: asking.set(),
                known: &prepared.known,
                indexes: &in_parts,
                trials: &trials,
                rounds,
                seed,
            };
            let swept = sweep(&parts, &spec, &job.progress, |point| {
                let (t, s) = (&point.trial, &point.summary);
                let (index, set) = (&indexes[t.index].model, &prepared.model.name);
                let shown = settings_of(&index.recipe, t.settings);
                job.say(format!(
                    "{} on {set}: {shown}, k {}: recall {:.4}, p50 {:.0} us",
                    index.name, t.k, s.recall_mean, s.p50_us
                ));
            })?;
            Ok((swept, parts.n_held_out()))
        };
        let (swept, n_held_out) = off(measure).await?;
        let Swept { points, exact, cut } = swept;
        result.query_sets.push(wire::SweptSet {
            name: name.clone(),
            kind,
            n_queries: positions.len(),
            n_rows,
            n_held_out,
            n_left_out,
            exact: exact.map(|e| wire::ExactPoint {
                queries: e.queries,
                queries_per_s: e.queries_per_s,
                p50_us: e.p50_us,
                p99_us: e.p99_us,
            }),
        });
        let before = result.points.len();
        for measured in points {
            let t = measured.point.trial;
            let index = &measuring[t.index].index.model;
            let at = (index.name.clone(), index.recipe.as_str(), name.clone());
            result.points.push(point(measured.point, at, &positions, before));
        }
        result.cut = cut;
        Ok(())
    }
}

/// What makes latencies other than those of an idle machine.
pub fn circumstances(registry: &Registry) -> Vec<wire::Notice> {
    let busy = registry.jobs.busy(&["load", "build", "absorb", "backfill"]);
    let notice = |kinds: Vec<String>| wire::Notice {
        code: "busy-machine".into(),
        text: format!(
            "latencies are not those of an idle machine: {} ran at the same time",
            kinds.join(", ")
        ),
    };
    (!busy.is_empty()).then(|| notice(busy)).into_iter().collect()
}

fn swept_index(index: &LiveIndex, table: &Table, column: usize) -> wire::SweptIndex {
    let (m, attached) = (&index.model, index.attached.as_ref());
    wire::SweptIndex {
        name: m.name.clone(),
        recipe: m.recipe.clone(),
        n_bytes_memory: attached.map_or(0, |a| a.index.n_bytes_memory()),
        n_bytes_file: m.n_bytes,
        build_seconds: m.build_seconds,
        seed: m.seed,
        revision: m.revision,
        n_uncovered: attached.map_or(0, |a| a.uncovered(table, column).count_ones(..)),
    }
}

pub fn figures(s: measure::Summary) -> wire::Figures {
    wire::Figures {
        recall_mean: s.recall_mean,
        recall_interval: wire::Interval { low: s.recall_interval.low, high: s.recall_interval.high },
        recall_p5: s.recall_p5,
        recall_min: s.recall_min,
        recall_ties_mean: s.recall_ties_mean,
        standout_recall: s.standout_recall,
        standouts: s.standouts,
        gap_mean: s.gap_mean,
        gap_p95: s.gap_p95,
        p50_us: s.p50_us,
        p95_us: s.p95_us,
        p99_us: s.p99_us,
        distances_per_query: s.distances_per_query,
        histogram: s.histogram,
    }
}

fn point(
    point: measure::Point,
    (index, recipe, query_set): (String, &str, String),
    positions: &[usize],
    before: usize,
) -> wire::SweepPoint {
    let rounds = point.rounds.iter();
    let worst = point.worst.iter();
    wire::SweepPoint {
        index,
        query_set,
        k: point.trial.k,
        clients: point.trial.clients,
        settings: settings_of(recipe, point.trial.settings),
        queries_per_s: point.queries_per_s,
        rounds: rounds.map(|r| wire::Round { queries_per_s: r.queries_per_s, p50_us: r.p50_us }).collect(),
        worst: worst
            .map(|w| wire::WorstQuery { position: positions[w.query], recall: w.recall, gap: w.gap })
            .collect(),
        like: point.like.iter().map(|at| at + before).collect(),
        figures: figures(point.summary),
    }
}

/// The sweeps of a collection, newest first.
pub async fn list(grant: &Grant, registry: &Registry, collection: &str) -> Result<wire::SweepList> {
    let live = registry.collection(grant, Scope::Search, collection)?;
    Ok(wire::SweepList { sweeps: views(registry, &live).await? })
}

pub async fn show(grant: &Grant, registry: &Registry, (collection, id): (&str, i64)) -> Result<wire::Sweep> {
    let live = registry.collection(grant, Scope::Search, collection)?;
    let unreadable = || Problem::new(Kind::Internal, format!("sweep {id} cannot be read"));
    view(&live, found(registry, &live, "sweep", id).await?).ok_or_else(unreadable)
}

pub async fn delete(grant: &Grant, registry: &Registry, (collection, id): (&str, i64)) -> Result<()> {
    let live = registry.collection(grant, Scope::Tune, collection)?;
    let model = found(registry, &live, "sweep", id).await?;
    Ok(registry.catalog.delete_measurement(&model).await?)
}
