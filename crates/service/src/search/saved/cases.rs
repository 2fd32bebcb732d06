//! Saved searches: kept in versions, made live, asked, and watched.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::reach::Reach;
use crate::collections::registry::Registry;
use crate::measure::watches::observed_of;
use crate::names::check_name;
use crate::node::encoders::Encoders;
use crate::node::lanes::Place;
use crate::node::metrics::{Metrics, SAVED_STEP_S};
use crate::problem::{Kind, Problem, Result};
use crate::search::check::check;
use crate::search::choose::choose;
use crate::search::run;
use crate::search::saved::template::Template;
use crate::search::saved::values::{from_texts, takes};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Instant;
use zesty_catalog::{Saved, saved_version};
use zesty_wire as wire;

/// Saved searches of one collection.
const MOST: u64 = 100;
/// Hours of observed recall that are told.
const OBSERVED_HOURS: i64 = 24;

/// A template that was read from the catalogue.
fn template(row: &saved_version::Model) -> Result<Template> {
    let definition = serde_json::from_value(row.definition.clone()).map_err(|e| {
        let detail = format!("version {} of saved search \"{}\" cannot be read: {e}", row.version, row.name);
        Problem::new(Kind::Internal, detail)
    })?;
    Template::read(&row.name, row.version, definition)
}

/// Refuses a template that does not fit its collection, as it is now.
fn fits(template: &Template, reach: &Reach, registry: &Registry) -> Result<()> {
    let live = &reach.live;
    template.check_filter(live.table.load().schema())?;
    let request = template.sample()?;
    let checked = check(reach, registry, &request)?;
    choose(live, checked.column, &request, &mut Vec::new())?;
    let about = &live.columns()[checked.column];
    if request.text.is_some() && about.encoder.is_none() {
        let detail = format!("column \"{}\" has no encoder, so it cannot be searched by text", about.name);
        return Err(Problem::new(Kind::NoEncoder, detail).at("/text"));
    }
    let dimensions = about.dimensions as usize;
    match &request.vector {
        Some(vector) if !template.takes_vector() && vector.len() != dimensions => {
            let detail = format!(
                "the vector has {} numbers, and column \"{}\" {dimensions}",
                vector.len(),
                about.name
            );
            Err(Problem::new(Kind::WrongVector, detail).at("/vector"))
        }
        _ => Ok(()),
    }
}

fn view(reach: &Reach, registry: &Registry, saved: Saved) -> Result<wire::SavedSearch> {
    let Saved { about, versions } = saved;
    let live = versions.iter().find(|v| Some(v.version) == about.live);
    let trouble = live.and_then(|row| template(row).and_then(|t| fits(&t, reach, registry)).err());
    let versions = versions.into_iter().map(|v| {
        let Template { definition, .. } = template(&v)?;
        let takes = definition.parameters.iter().map(|(name, about)| (name.clone(), takes(about))).collect();
        let (made_at, made_by) = (v.made_at, v.made_by);
        Ok(wire::SavedVersion { version: v.version, definition, takes, made_at, made_by })
    });
    Ok(wire::SavedSearch {
        path: path(&reach.live.name, &about.name),
        collection: reach.live.name.clone(),
        name: about.name,
        live: about.live,
        versions: versions.collect::<Result<_>>()?,
        trouble: trouble.map(|p| p.detail),
    })
}

/// The path that a saved search answers at.
pub fn path(collection: &str, name: &str) -> String {
    format!("/api/collections/{collection}/saved-searches/{name}/search")
}

async fn one(registry: &Registry, reach: &Reach, name: &str) -> Result<Saved> {
    let (catalog, collection) = (&registry.catalog, reach.live.id);
    if let Some(found) = catalog.saved_search(collection, name).await? {
        return Ok(found);
    }
    let known = catalog.saved_names(collection).await?;
    Err(Problem::unknown("saved search", name, known.iter().map(String::as_str)))
}

/// A version of a saved search.
fn version_of(saved: &Saved, version: i32) -> Result<&saved_version::Model> {
    saved.versions.iter().find(|v| v.version == version).ok_or_else(|| {
        let known: Vec<String> = saved.versions.iter().map(|v| v.version.to_string()).collect();
        Problem::unknown("version", &version.to_string(), known.iter().map(String::as_str))
    })
}

/// The saved searches of a collection, each with the version that answers and the newest. Whoever may only ask sees those that answer.
pub async fn list(grant: &Grant, registry: &Registry, collection: &str) -> Result<wire::SavedList> {
    let reach = registry.reach(grant, Scope::Ask, collection)?;
    let sees_all = grant.require(Scope::Search, Some(collection)).is_ok() && !grant.is_narrow();
    let mut saved = registry.catalog.saved_searches(reach.live.id).await?;
    if !sees_all {
        saved.retain(|s| s.about.live.is_some() && grant.may_ask(&s.about.name));
        for saved in &mut saved {
            saved.versions.retain(|v| Some(v.version) == saved.about.live);
            // Who made it is nobody else's business.
            saved.versions.iter_mut().for_each(|v| v.made_by.clear());
        }
    }
    let saved = saved.into_iter().map(|s| view(&reach, registry, s));
    Ok(wire::SavedList { saved: saved.collect::<Result<_>>()? })
}

/// A saved search with all of its versions.
pub async fn show(
    grant: &Grant,
    registry: &Registry,
    (collection, name): (&str, &str),
) -> Result<wire::SavedSearch> {
    let reach = registry.reach(grant, Scope::Search, collection)?;
    grant.require_wide()?;
    view(&reach, registry, one(registry, &reach, name).await?)
}

/// Keeps a new version; it answers once it is made live.
pub async fn save(
    grant: &Grant,
    registry: &Registry,
    (collection, name): (&str, &str),
    definition: wire::SavedDefinition,
) -> Result<wire::SavedSearch> {
    let reach = registry.reach(grant, Scope::Tune, collection)?;
    check_name("saved search", name, "/name")?;
    let template = Template::read(name, 0, definition)?;
    fits(&template, &reach, registry).map_err(|p| p.inside("/search"))?;
    let made = (json!(template.definition), grant.name());
    registry.catalog.add_saved_version(reach.live.id, name, made, MOST).await?;
    view(&reach, registry, one(registry, &reach, name).await?)
}

/// Makes a version the one that answers.
pub async fn set_live(
    grant: &Grant,
    registry: &Registry,
    (collection, name): (&str, &str),
    version: i32,
) -> Result<wire::SavedSearch> {
    let reach = registry.reach(grant, Scope::Tune, collection)?;
    let saved = one(registry, &reach, name).await?;
    let template = template(version_of(&saved, version).map_err(|p| p.at("/version"))?)?;
    fits(&template, &reach, registry).map_err(|p| {
        Problem { detail: format!("version {version} does not fit: {}", p.detail), ..p }.at("/version")
    })?;
    registry.catalog.set_live_version(reach.live.id, name, Some(version)).await?;
    reach.live.edit_saved(|all| drop(all.insert(name.to_owned(), Arc::new(template))));
    view(&reach, registry, one(registry, &reach, name).await?)
}

/// Takes the version that answers back: the saved search refuses until one is made live again.
pub async fn withdraw(
    grant: &Grant,
    registry: &Registry,
    (collection, name): (&str, &str),
) -> Result<wire::SavedSearch> {
    let reach = registry.reach(grant, Scope::Tune, collection)?;
    one(registry, &reach, name).await?;
    registry.catalog.set_live_version(reach.live.id, name, None).await?;
    reach.live.edit_saved(|all| drop(all.remove(name)));
    view(&reach, registry, one(registry, &reach, name).await?)
}

/// Removes a saved search with all of its versions.
pub async fn remove(grant: &Grant, registry: &Registry, (collection, name): (&str, &str)) -> Result<()> {
    let reach = registry.reach(grant, Scope::Tune, collection)?;
    one(registry, &reach, name).await?;
    registry.catalog.remove_saved_search(reach.live.id, name).await?;
    reach.live.edit_saved(|all| drop(all.remove(name)));
    Ok(())
}

/// What a saved search is given: members of a JSON object, or of a query string.
pub enum Given {
    Json(BTreeMap<String, Value>),
    Texts(Vec<(String, String)>),
}

impl Given {
    fn values(self, template: &Template) -> Result<BTreeMap<String, Value>> {
        let pairs = match self {
            Given::Json(values) => return Ok(values),
            Given::Texts(pairs) => pairs,
        };
        let mut by_name: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
        for (name, text) in &pairs {
            by_name.entry(name).or_default().push(text);
        }
        let values = by_name.into_iter().map(|(name, texts)| {
            let value = match template.definition.parameters.get(name) {
                Some(about) => from_texts(about, &texts).ok_or_else(|| {
                    let detail = format!("\"{name}\" is given {} times, and takes one value", texts.len());
                    Problem::new(Kind::WrongShape, detail).at(format!("/{name}"))
                })?,
                // Unknown: refused with the names that are known.
                None => Value::Null,
            };
            Ok((name.to_owned(), value))
        });
        values.collect()
    }
}

/// The saved searches that a key may ask, by collection.
pub fn answering(grant: &Grant, registry: &Registry) -> Vec<(String, Arc<Template>)> {
    let reaches = registry.granted(grant, Scope::Ask).unwrap_or_default();
    let of = |reach: &Reach| {
        let saved = reach.live.kept.saved.load();
        let may = saved.values().filter(|t| grant.may_ask(&t.name)).cloned();
        may.map(|template| (reach.live.name.clone(), template)).collect::<Vec<_>>()
    };
    reaches.iter().flat_map(of).collect()
}

/// The version of a saved search that answers.
fn live_version(live: &Live, grant: &Grant, name: &str) -> Result<Arc<Template>> {
    grant.require_asking(name)?;
    let saved = live.kept.saved.load();
    saved.get(name).cloned().ok_or_else(|| {
        let known = saved.keys().map(String::as_str).filter(|n| grant.may_ask(n));
        Problem::unknown("live saved search", name, known)
    })
}

/// Asks a saved search: the version that answers, or another one to try it.
pub async fn ask(
    grant: &Grant,
    registry: &Arc<Registry>,
    encoders: &Encoders,
    (metrics, place): (&Metrics, &Place),
    (collection, name, version): (&str, &str, Option<i32>),
    given: Given,
) -> Result<wire::SearchAnswer> {
    let start = Instant::now();
    let scope = if version.is_some() { Scope::Search } else { Scope::Ask };
    let reach = registry.reach(grant, scope, collection)?;
    let template = match version {
        None => live_version(&reach.live, grant, name)?,
        Some(version) => {
            grant.require_wide()?;
            let saved = one(registry, &reach, name).await?;
            Arc::new(template(version_of(&saved, version)?)?)
        }
    };
    let asked = wire::AskedSaved { name: template.name.clone(), version: template.version };
    let answer = async {
        let request = template.request(&given.values(&template)?)?;
        run::ask(&reach, registry, encoders, (metrics, place), (&asked, request))
            .await
            .map_err(|p| template.told(p))
    };
    let answer = answer.await;
    if version.is_none() {
        let status = answer.as_ref().err().map_or(200, |p| p.kind.status());
        metrics.asked((&reach.live.name, name), status, start.elapsed());
    }
    answer
}

/// How a saved search fared.
pub async fn traffic(
    grant: &Grant,
    registry: &Registry,
    metrics: &Metrics,
    (collection, name): (&str, &str),
) -> Result<wire::SavedTraffic> {
    let live = registry.collection(grant, Scope::Search, collection)?;
    let pulse = metrics.traffic(&live.name, name).unwrap_or_default();
    let steps: Vec<wire::PulseStep> = pulse.steps().filter_map(|s| s.view()).collect();
    let observed = observed_of(registry, &live, OBSERVED_HOURS, name).await?;
    Ok(wire::SavedTraffic {
        step_s: SAVED_STEP_S as u64,
        searches: steps.iter().map(|s| s.searches).sum(),
        p50_us: pulse.took_us(0.5),
        p99_us: pulse.took_us(0.99),
        steps,
        observed,
    })
}
