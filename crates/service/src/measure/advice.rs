//! Advice: recipes that fit are tried on some of the records, the best few on all of them, as a job, and kept.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::{Live, LiveIndex, Serving};
use crate::collections::recipes::{data_shape, explained, read_recipe};
use crate::collections::registry::Registry;
use crate::measure::advised::view;
use crate::measure::indexes::built_for;
use crate::measure::kept::found;
use crate::measure::machine::machine;
use crate::measure::prepared::{PreparedSet, common_share, known_answers};
use crate::measure::query_sets::{SetTools, usual};
use crate::measure::sweeps::{check_column, circumstances, figures, named_sets};
use crate::measure::targets::{self, check_recall, target_of};
use crate::measure::work::off;
use crate::node::jobs::{Job, Stop};
use crate::problem::{Kind, Problem, Result};
use crate::search::settings::{check_k, check_range, settings_of, settings_over};
use serde_json::{Value, json};
use std::sync::Arc;
use zesty_catalog::query_set;
use zesty_engine::index::Settings;
use zesty_engine::measure::{RowSample, candidates};
use zesty_engine::recipe::{DataShape, Route, Wish};
use zesty_engine::{Recipe, Table};
use zesty_wire as wire;

/// Recipes to try besides the usual ones, and on all records.
pub const MOST: usize = 8;
/// Megabytes of memory.
pub const MOST_MB: f64 = 1e9;
/// Records of the sample, at least and at most; half of the records between.
const SAMPLE: (usize, usize) = (5_000, 50_000);
/// A recipe that is slower by less is as good, if it takes less memory.
const AS_FAST: f64 = 1.05;

/// Starts trying recipes, as a job.
pub async fn create(
    grant: &Grant,
    tools: &SetTools,
    collection: &str,
    request: wire::AdviceRequest,
) -> Result<wire::Job> {
    let registry = &tools.registry;
    let live = registry.collection(grant, Scope::Tune, collection)?;
    check_k(request.k)?;
    check_recall(request.recall, "/recall")?;
    check_range("finalists", request.finalists.unwrap_or(3), MOST, "/finalists")?;
    if request.memory_mb.is_some_and(|mb| !(mb > 0.0 && mb <= MOST_MB)) {
        let detail = format!("memory_mb is above 0, and at most {MOST_MB}");
        return Err(Problem::new(Kind::WrongShape, detail).at("/memory_mb"));
    }
    let column = live.column(request.column.as_deref(), "/column")?;
    let names: Vec<String> = request.query_set.iter().cloned().collect();
    let sets = named_sets(registry, &live, &names).await.map_err(|p| p.at("/query_set"))?;
    check_column(&live, column, &sets).map_err(|p| p.at("/query_set"))?;
    let shape = data_shape(&live, column);
    if shape.rows == 0 {
        let detail = format!("column \"{}\" holds no vectors yet", live.columns()[column].name);
        return Err(Problem::new(Kind::NoData, detail));
    }
    if request.recipes.len() > MOST {
        return Err(Problem::too_many("recipes", request.recipes.len(), MOST).at("/recipes"));
    }
    let mut recipes = Vec::new();
    for (i, text) in request.recipes.iter().enumerate() {
        let at = |p: Problem| p.at(format!("/recipes/{i}"));
        match read_recipe(&wire::RecipeText::Text(text.clone())).map_err(at)? {
            Wish::Exactly(recipe) => recipes.push(recipe),
            Wish::Auto { .. } => {
                let detail = "auto is what this finds out; name a recipe";
                return Err(at(Problem::new(Kind::InvalidRecipe, detail)));
            }
        }
        explained(recipes[i], shape).map_err(at)?;
    }
    let usual = candidates(shape).into_iter().filter(|recipe| !recipes.contains(recipe)).collect::<Vec<_>>();
    recipes.extend(usual);
    let (tools, grant, name) = (tools.clone(), grant.clone(), live.columns()[column].name.clone());
    let work = move |job: Arc<Job>| async move {
        let _turn = tools.registry.turns.wait(&job, format!("advice on {}", live.name)).await?;
        let advising = Advising { grant, tools, live, column, shape, request, job, built: Vec::new() };
        advising.run(recipes, sets.into_iter().next()).await
    };
    Ok(registry.jobs.start("advice", collection, &name, work).await?.view())
}

struct Advising {
    grant: Grant,
    tools: SetTools,
    live: Arc<Live>,
    column: usize,
    shape: DataShape,
    request: wire::AdviceRequest,
    job: Arc<Job>,
    /// Indexes that were built for this.
    built: Vec<String>,
}

impl Advising {
    async fn run(mut self, recipes: Vec<Recipe>, set: Option<query_set::Model>) -> Result<Value, Stop> {
        let registry = self.tools.registry.clone();
        let had_serving = self.live.serving(self.column).is_some();
        let advised = self.advise(recipes, set).await;
        let winner = advised.as_ref().ok().and_then(|(_, winner)| winner.clone());
        let keep = winner.as_ref().filter(|_| !self.request.drop_all);
        for name in self.built.iter().filter(|name| keep.is_none_or(|(index, _)| index.model.name != **name))
        {
            if let Err(e) = self.live.drop_index(&registry, name).await {
                self.job.say(format!("index \"{name}\" stays: {}", e.detail));
            }
        }
        let (mut result, _) = advised?;
        if let Some((index, target)) = keep {
            let mut request = self.target_request(&index.model.name, &result.query_set);
            request.serve = self.request.serve;
            result.served = request.serve;
            let settings = target.settings;
            targets::keep(&registry, &self.live, self.column, &request, target.clone(), &self.job).await?;
            if !had_serving && !self.request.serve {
                // The first index of a column answers its searches; now with settings that were measured.
                let settings = settings_over(settings, Settings::default(), "")?;
                let serving = Serving { index: index.model.name.clone(), settings, recall: None };
                self.live.set_serving(&registry, self.column, Some(serving)).await?;
                result.served = true;
            }
        }
        let of = (self.live.id, self.live.columns()[self.column].id);
        let kept = registry.catalog.add_measurement(of, "advice", json!(self.request), json!(result)).await?;
        Ok(json!({"advice": kept.id, "winner": result.winner}))
    }

    fn target_request(&self, index: &str, set: &str) -> wire::TargetRequest {
        wire::TargetRequest {
            index: index.to_owned(),
            recall: self.request.recall,
            aim: self.request.aim,
            k: self.request.k,
            query_sets: vec![set.to_owned()],
            rescore: None,
            serve: false,
        }
    }

    /// What a recipe did on all records, if that is what was asked for.
    fn place<'c>(&self, one: &'c Contestant) -> Option<&'c wire::Trial> {
        one.view.on_all.as_ref().filter(|t| t.reached && self.fits(t.memory_bytes))
    }

    /// Whether so many bytes are within what was asked.
    fn fits(&self, bytes: u64) -> bool {
        self.request.memory_mb.is_none_or(|mb| bytes as f64 <= mb * 1e6)
    }

    // Long because: the tournament in the order in which it happens.
    async fn advise(
        &mut self,
        recipes: Vec<Recipe>,
        set: Option<query_set::Model>,
    ) -> Result<(wire::AdviceResult, Winner), Stop> {
        let registry = self.tools.registry.clone();
        let set = match set {
            Some(set) => set,
            None => usual(&self.tools, &self.live, self.column, &self.job).await?,
        };
        let table = self.live.table.load_full();
        let share = common_share(&table, self.column, std::iter::empty());
        let k = self.request.k;
        let prepared = known_answers(&registry, &table, self.column, &set, (k, share), &self.job).await?;
        let n_queries = prepared.positions.len();
        if n_queries < 4 {
            let why = format!("{n_queries} queries can be used; half of them choose and half verify");
            return Err(Stop::Failed(why));
        }
        let mut tried: Vec<Contestant> =
            recipes.into_iter().map(|r| Contestant::new(r, self.shape)).collect();
        for one in tried.iter_mut().filter(|one| !self.fits(one.view.expected_memory_bytes)) {
            one.view.verdict = format!(
                "not tried: it takes about {:.1} MB, and {:.1} are allowed",
                one.view.expected_memory_bytes as f64 / 1e6,
                self.request.memory_mb.unwrap_or(0.0)
            );
        }
        self.on_sample(&table, &prepared, &mut tried).await?;
        // The likely fastest first; those that miss the target by how much.
        tried.sort_by(|a, b| a.order().total_cmp(&b.order()));
        let finalists = self.request.finalists.unwrap_or(3);
        for one in tried.iter_mut().filter(|one| one.view.on_sample.is_some()).take(finalists) {
            self.on_all(one, &set).await?;
        }
        let best = tried.iter().filter_map(|one| self.place(one)).map(|t| t.figures.p50_us).reduce(f64::min);
        let as_fast = |t: &&wire::Trial| best.is_some_and(|best| t.figures.p50_us <= AS_FAST * best);
        let winner =
            tried.iter().enumerate().filter_map(|(i, one)| Some((i, self.place(one).filter(as_fast)?)));
        let winner = winner.min_by_key(|(_, trial)| trial.memory_bytes).map(|(i, _)| i);
        let why = self.judge(&mut tried, winner);
        let mut won = None;
        if let Some(i) = winner {
            let mut first = tried.remove(i);
            won = first.solved.take();
            tried.insert(0, first);
        }
        let result = wire::AdviceResult {
            winner: winner.map(|_| tried[0].view.recipe.clone()),
            why,
            candidates: tried.into_iter().map(|one| one.view).collect(),
            query_set: set.name,
            n_queries,
            n_rows: self.shape.rows,
            served: false,
            revision: table.revision(),
            machine: machine(),
            notices: circumstances(&registry),
        };
        Ok((result, won))
    }

    /// Tries every recipe that fits on some of the records.
    async fn on_sample(
        &self,
        table: &Arc<Table>,
        prepared: &PreparedSet,
        tried: &mut [Contestant],
    ) -> Result<(), Stop> {
        let (least, most) = SAMPLE;
        let n = (self.shape.rows / 2).clamp(least, most);
        let (column, threads) = (self.column, self.tools.registry.threads);
        let target = target_of(self.request.aim, self.request.recall, self.request.k);
        let (asking, from, job) = (prepared.asking.clone(), table.clone(), self.job.clone());
        let draw =
            move || RowSample::new(&from, column, (asking.set(), target.k), n, (threads, &job.progress));
        let sample = Arc::new(off(draw).await?);
        for one in tried.iter_mut().filter(|one| one.view.verdict.is_empty()) {
            let (sample, asking, job) = (sample.clone(), prepared.asking.clone(), self.job.clone());
            let (recipe, n_rows) = (one.recipe, sample.n_rows);
            let work = move || sample.try_recipe(asking.set(), (recipe, target), (threads, &job.progress));
            let ended = match off(work).await {
                Err(Stop::Failed(why)) => {
                    one.view.verdict = format!("cannot be built: {why}");
                    continue;
                }
                other => other?,
            };
            let trial = wire::Trial {
                n_rows,
                reached: ended.solved.is_reached(target),
                settings: settings_of(&one.view.recipe, ended.solved.settings),
                queries_per_s: ended.solved.verified.queries_per_s,
                figures: figures(ended.solved.verified.overall),
                memory_bytes: ended.n_bytes_memory as u64,
                build_seconds: ended.build_seconds,
            };
            self.job.say(format!(
                "{} on {n_rows} records: recall {:.4} with {}, p50 {:.0} us",
                one.view.recipe, trial.figures.recall_mean, trial.settings, trial.figures.p50_us
            ));
            one.view.on_sample = Some(trial);
        }
        Ok(())
    }

    /// Builds a recipe over all records, if it is not there, and solves the target.
    async fn on_all(&mut self, one: &mut Contestant, set: &query_set::Model) -> Result<(), Stop> {
        let registry = self.tools.registry.clone();
        let known = self.live.kept.indexes.load_full();
        let same = known.iter().find(|i| {
            i.model.recipe == one.view.recipe
                && i.attached.is_some()
                && self.live.position_of(i.model.column_id) == Some(self.column)
        });
        let index = match same {
            Some(index) => index.clone(),
            None => {
                let at = (&*self.live, self.column);
                let index = built_for(&self.grant, &registry, at, &one.view.recipe, &self.job).await?;
                self.built.push(index.model.name.clone());
                index
            }
        };
        let request = self.target_request(&index.model.name, &set.name);
        let at = (&*index, self.column);
        let result =
            targets::measure(&self.tools, &self.live, at, &request, vec![set.clone()], &self.job).await?;
        one.view.on_all = Some(wire::Trial {
            n_rows: index.model.n_rows as usize,
            reached: result.reached,
            settings: result.settings,
            figures: result.achieved.clone(),
            queries_per_s: result.queries_per_s,
            memory_bytes: index.attached.as_ref().map_or(0, |a| a.index.n_bytes_memory() as u64),
            build_seconds: index.model.build_seconds,
        });
        one.view.index = Some(index.model.name.clone());
        self.job.say(format!(
            "{} on all records: recall {:.4} with {}, p50 {:.0} us",
            one.view.recipe, result.achieved.recall_mean, result.settings, result.achieved.p50_us
        ));
        one.solved = Some((index, result));
        Ok(())
    }

    /// Says of each recipe why it won, or what it lost by.
    fn judge(&self, tried: &mut [Contestant], winner: Option<usize>) -> String {
        let won = winner.and_then(|i| tried[i].view.on_all.clone());
        let won_on_sample = winner.and_then(|i| tried[i].view.on_sample.clone());
        let kept = |name: &String| self.live.index(name).is_ok() && !self.built.contains(name);
        for (i, one) in tried.iter_mut().enumerate() {
            let is_winner = Some(i) == winner;
            if !is_winner || self.request.drop_all {
                one.view.index = one.view.index.take().filter(kept);
            }
            if !one.view.verdict.is_empty() {
                continue;
            }
            let asked = self.request.recall;
            let times = |a: f64, b: f64| format!("{:.1} times", a / b.max(f64::MIN_POSITIVE));
            one.view.verdict = match (&one.view.on_all, &one.view.on_sample, &won) {
                _ if is_winner => "the fastest that reaches the target".into(),
                (Some(t), ..) if !t.reached => format!("reaches {:.4}, not {asked}", achieved(self, t)),
                (Some(t), ..) if !self.fits(t.memory_bytes) => {
                    format!("takes {:.1} MB, more than allowed", t.memory_bytes as f64 / 1e6)
                }
                (Some(t), _, Some(w)) if t.figures.p50_us <= AS_FAST * w.figures.p50_us => {
                    format!(
                        "as fast, with {} the memory",
                        times(t.memory_bytes as f64, w.memory_bytes as f64)
                    )
                }
                (Some(t), _, Some(w)) => {
                    format!("takes {} as long", times(t.figures.p50_us, w.figures.p50_us))
                }
                (None, Some(t), _) if !t.reached => {
                    format!("reaches {:.4} on the sample, not {asked}", achieved(self, t))
                }
                (None, Some(t), _) => match &won_on_sample {
                    Some(w) => format!(
                        "takes {} as long as the winner on the sample",
                        times(t.figures.p50_us, w.figures.p50_us)
                    ),
                    None => "slower than others on the sample".into(),
                },
                _ => "not tried".into(),
            };
        }
        match (winner, won) {
            (Some(i), Some(w)) => format!(
                "{} reaches {} with {}: p50 {:.0} us, {:.1} MB in memory",
                tried[i].view.recipe,
                self.request.recall,
                w.settings,
                w.figures.p50_us,
                w.memory_bytes as f64 / 1e6
            ),
            _ => {
                let all =
                    tried.iter().filter_map(|one| one.view.on_all.as_ref().or(one.view.on_sample.as_ref()));
                let best = all.map(|t| achieved(self, t)).fold(0.0, f64::max);
                match best > 0.0 {
                    true => format!(
                        "no recipe reaches {} within the memory; the best is {best:.4}",
                        self.request.recall
                    ),
                    false => "no recipe fits the memory".into(),
                }
            }
        }
    }
}

/// The index that won, and its target.
type Winner = Option<(Arc<LiveIndex>, wire::TargetResult)>;

fn achieved(advising: &Advising, trial: &wire::Trial) -> f64 {
    match advising.request.aim {
        wire::Aim::Mean => trial.figures.recall_mean,
        wire::Aim::P5 => trial.figures.recall_p5,
    }
}

/// A recipe on its way.
struct Contestant {
    recipe: Recipe,
    rows: usize,
    view: wire::Candidate,
    /// Its index over all records, and the target on it.
    solved: Winner,
}

impl Contestant {
    fn new(recipe: Recipe, shape: DataShape) -> Contestant {
        let expected = recipe.explain(shape).map_or(0, |e| e.expected.memory_bytes);
        let view = wire::Candidate {
            recipe: recipe.to_string(),
            expected_memory_bytes: expected,
            on_sample: None,
            on_all: None,
            index: None,
            verdict: String::new(),
        };
        Contestant { recipe, rows: shape.rows, view, solved: None }
    }

    /// Less is better: the time that a search of all records is expected to take, behind all that for those that missed
    /// the target, by their recall. A scan grows with the rows, cells with their root, a walk hardly.
    fn order(&self) -> f64 {
        let Some(trial) = &self.view.on_sample else { return f64::INFINITY };
        if !trial.reached {
            return 1e12 - trial.figures.recall_mean;
        }
        let more = self.rows as f64 / trial.n_rows.max(1) as f64;
        let grows = match self.recipe.route {
            Route::Scan => more,
            Route::Graph(_) => 1.0,
            _ => more.sqrt(),
        };
        trial.figures.p50_us * grows
    }
}

/// The advice of a collection, newest first.
pub async fn list(grant: &Grant, registry: &Registry, collection: &str) -> Result<wire::AdviceList> {
    let live = registry.collection(grant, Scope::Search, collection)?;
    let all = registry.catalog.measurements(live.id, "advice").await?;
    Ok(wire::AdviceList { advice: all.iter().filter_map(|m| view(&live, m)).collect() })
}

pub async fn show(grant: &Grant, registry: &Registry, (collection, id): (&str, i64)) -> Result<wire::Advice> {
    let live = registry.collection(grant, Scope::Search, collection)?;
    let unreadable = || Problem::new(Kind::Internal, format!("advice {id} cannot be read"));
    view(&live, &found(registry, &live, "advice", id).await?).ok_or_else(unreadable)
}

pub async fn delete(grant: &Grant, registry: &Registry, (collection, id): (&str, i64)) -> Result<()> {
    let live = registry.collection(grant, Scope::Tune, collection)?;
    let model = found(registry, &live, "advice", id).await?;
    Ok(registry.catalog.delete_measurement(&model).await?)
}
