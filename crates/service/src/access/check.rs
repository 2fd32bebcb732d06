//! Keys held against what there is: names, collections, fixed filters and fixed values.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::names::{MOST_NAMES, check_lists, check_name};
use crate::problem::{Kind, Problem, Result};
use chrono::{DateTime, Utc};
use serde_json::{Map, Value, json};
use std::collections::BTreeSet;
use std::ops::RangeInclusive;
use std::sync::Arc;
use zesty_catalog::access::NewKey;
use zesty_catalog::entity::access_key;
use zesty_engine::Schema;
use zesty_engine::filter::{Filter, Test};
use zesty_engine::rows::{Change, Writer};
use zesty_wire as wire;

/// Collections that a key may name.
const MOST_COLLECTIONS: usize = 100;
/// Saved searches that a key may name.
const MOST_SEARCHES: usize = 100;
/// Bytes of a fixed filter.
const MOST_FILTER: usize = 4096;
/// Bytes of a prefix of record keys.
const MOST_PREFIX: usize = 64;
/// Requests a second that a key may be limited to.
const RATES: RangeInclusive<u32> = 1..=100_000;
/// Bytes of bodies that a key may be limited to.
const BODIES: RangeInclusive<u64> = 1024..=1 << 40;
/// Bytes of fixed values, as JSON.
const MOST_VALUES: usize = 4096;

fn wrong<T>(detail: impl Into<String>, pointer: impl Into<String>) -> Result<T> {
    Err(Problem::new(Kind::WrongShape, detail).at(pointer))
}

/// What a stored key permits.
pub fn permit(key: access_key::Model) -> wire::Permit {
    wire::Permit {
        name: key.name,
        scopes: scopes(&key.scopes),
        collections: key.collections.as_ref().map(names),
        filter: key.filter,
        values: match key.values {
            Some(Value::Object(values)) => values,
            _ => Map::new(),
        },
        key_prefix: key.key_prefix,
        searches: key.searches.as_ref().map(names),
        requests_per_s: key.requests_per_s,
        body_bytes: key.body_bytes.map(|n| n as u64),
        expires_at: key.expires_at,
    }
}

fn scopes(words: &str) -> Vec<Scope> {
    words.split(',').filter_map(|word| word.parse().ok()).collect()
}

fn words(scopes: &[Scope]) -> String {
    let known = Scope::ALL.into_iter().filter(|s| scopes.contains(s));
    known.map(Scope::word).collect::<Vec<_>>().join(",")
}

fn names(json: &Value) -> Vec<String> {
    serde_json::from_value(json.clone()).unwrap_or_default()
}

/// A key that is asked for, held against what there is.
pub fn checked_key(
    grant: &Grant,
    registry: &Registry,
    request: wire::KeyRequest,
    hash: String,
) -> Result<NewKey> {
    check_name("key", &request.name, "/name")?;
    let mut permit = wire::Permit {
        name: request.name,
        scopes: request.scopes,
        collections: request.collections,
        filter: request.filter,
        values: request.values,
        key_prefix: request.key_prefix,
        searches: request.searches,
        requests_per_s: checked_limit(request.requests_per_s, RATES, "/requests_per_s")?,
        body_bytes: checked_limit(request.body_bytes, BODIES, "/body_bytes")?,
        expires_at: request.expires_at,
    };
    check_lists([("/scopes", permit.scopes.len())], MOST_NAMES)?;
    if permit.scopes.is_empty() {
        return wrong("a key needs at least one scope: ask, search, read, write, tune, manage", "/scopes");
    }
    permit.filter = check_permit(grant, registry, &permit, "/collections")?.map(|f| f.to_text());
    if let Some(searches) = &permit.searches {
        check_searches(grant, registry, &permit, searches, "/searches")?;
    }
    Ok(NewKey {
        hash,
        scopes: words(&permit.scopes),
        expires_at: checked_end(grant, permit.expires_at)?,
        created_by: Some(grant.name().into()),
        name: permit.name,
        collections: permit.collections,
        filter: permit.filter,
        values: (!permit.values.is_empty()).then_some(Value::Object(permit.values)),
        key_prefix: permit.key_prefix,
        searches: permit.searches,
        requests_per_s: permit.requests_per_s,
        body_bytes: permit.body_bytes.map(|n| n as i64),
    })
}

/// What a key would permit, held against what there is; its filter, read.
fn check_permit(
    grant: &Grant,
    registry: &Registry,
    permit: &wire::Permit,
    pointer: &str,
) -> Result<Option<Filter>> {
    let lives = match &permit.collections {
        Some(names) => known_collections(grant, registry, names, pointer)?,
        None => Vec::new(),
    };
    let filter = permit.filter.as_deref().map(|text| read_filter(text, &lives)).transpose()?;
    check_narrow(permit, filter.as_ref(), &lives)?;
    if permit.searches.is_some() {
        if permit.scopes.iter().any(|s| *s != Scope::Ask) {
            let detail = "named searches go with the scope \"ask\" alone: the other scopes go further";
            return wrong(detail, "/scopes");
        }
        if lives.is_empty() {
            return wrong("named searches need the collections that they are of; name them", "/collections");
        }
    }
    Ok(filter)
}

fn known_collections(
    grant: &Grant,
    registry: &Registry,
    names: &[String],
    pointer: &str,
) -> Result<Vec<Arc<Live>>> {
    if names.is_empty() || names.len() > MOST_COLLECTIONS {
        let n = names.len();
        return wrong(
            format!("{n} collections are named; name 1 to {MOST_COLLECTIONS}, or none for all"),
            pointer,
        );
    }
    let known = names.iter().enumerate().map(|(i, name)| {
        registry.collection(grant, Scope::Manage, name).map_err(|p| p.at(format!("{pointer}/{i}")))
    });
    known.collect()
}

/// Saved searches that a key is to ask: they have to answer in one of its collections.
fn check_searches(
    grant: &Grant,
    registry: &Registry,
    permit: &wire::Permit,
    searches: &[String],
    pointer: &str,
) -> Result<()> {
    let mut known = BTreeSet::new();
    for name in permit.collections.iter().flatten() {
        let live = registry.collection(grant, Scope::Manage, name)?;
        known.extend(live.kept.saved.load().keys().cloned());
    }
    let all = permit.searches.as_ref().map_or(0, Vec::len);
    if !(1..=MOST_SEARCHES).contains(&all) {
        let detail =
            format!("{all} searches are named; name 1 to {MOST_SEARCHES}, or none for all that are live");
        return wrong(detail, pointer);
    }
    match searches.iter().position(|name| !known.contains(name)) {
        None => Ok(()),
        Some(i) => {
            let known = known.iter().map(String::as_str);
            Err(Problem::unknown("live saved search", &searches[i], known).at(format!("{pointer}/{i}")))
        }
    }
}

/// A fixed filter; it has to fit every collection that is named.
fn read_filter(text: &str, lives: &[Arc<Live>]) -> Result<Filter> {
    if text.len() > MOST_FILTER {
        return wrong(
            format!("the filter has {} bytes; a key takes up to {MOST_FILTER}", text.len()),
            "/filter",
        );
    }
    if lives.is_empty() {
        return wrong("a filter needs the collections that it is for; name them", "/collections");
    }
    let filter = Filter::from_text(text).map_err(|e| Problem::filter(&e, text))?;
    for live in lives {
        compiled(&filter, text, live)?;
    }
    Ok(filter)
}

fn compiled(filter: &Filter, text: &str, live: &Live) -> Result<Test> {
    filter.compile(live.table.load().schema()).map_err(|e| {
        let problem = Problem::filter(&e, text);
        Problem { detail: format!("collection \"{}\": {}", live.name, problem.detail), ..problem }
    })
}

/// A key that sees, or writes, a part of the records: what else it permits has to go with that.
fn check_narrow(permit: &wire::Permit, filter: Option<&Filter>, lives: &[Arc<Live>]) -> Result<()> {
    let writes = permit.scopes.contains(&Scope::Write);
    if filter.is_none() && permit.values.is_empty() && permit.key_prefix.is_none() {
        return Ok(());
    }
    if let Some(scope) = permit.scopes.iter().find(|s| matches!(s, Scope::Tune | Scope::Manage)) {
        let detail = format!(
            "the scope \"{scope}\" works on all records of a collection, so it does not go with a filter, values or a \
             key prefix; make two keys"
        );
        return wrong(detail, "/scopes");
    }
    if lives.is_empty() {
        return wrong(
            "values and a key prefix need the collections that they are for; name them",
            "/collections",
        );
    }
    if !writes && !permit.values.is_empty() {
        return wrong(
            "values are set in what a key writes; this one does not have the scope \"write\"",
            "/values",
        );
    }
    if !writes && permit.key_prefix.is_some() {
        return wrong(
            "a key prefix is for writing; this key does not have the scope \"write\"",
            "/key_prefix",
        );
    }
    let bytes = json!(permit.values).to_string().len();
    if bytes > MOST_VALUES {
        return wrong(format!("the values take {bytes} bytes; a key takes up to {MOST_VALUES}"), "/values");
    }
    if let Some(prefix) = &permit.key_prefix
        && (prefix.is_empty() || prefix.len() > MOST_PREFIX || prefix.chars().any(char::is_control))
    {
        return wrong(format!("a key prefix is 1 to {MOST_PREFIX} bytes of text"), "/key_prefix");
    }
    for live in lives {
        let table = live.table.load();
        table.schema().check(&permit.values).map_err(|e| {
            let detail = format!("collection \"{}\": {e}", live.name);
            Problem::new(Kind::WrongField, detail).at(format!("/values{}", e.pointer))
        })?;
        if let Some(filter) = filter.filter(|_| writes) {
            check_implied(filter, &permit.values, live, table.schema())?;
        }
    }
    if filter.is_some() && writes && permit.key_prefix.is_none() {
        let detail = "a key that is bound to a filter and writes needs a key_prefix: it could otherwise come upon \
                      another one's record under the same key";
        return wrong(detail, "/key_prefix");
    }
    Ok(())
}

/// Refuses fixed values that leave it open whether a record is inside the filter.
fn check_implied(filter: &Filter, values: &Map<String, Value>, live: &Live, schema: &Schema) -> Result<()> {
    // A filter that speaks of other fields does not fit a schema that has the fixed ones alone.
    let mut json = schema.to_json();
    if let Some(properties) = json["properties"].as_object_mut() {
        properties.retain(|name, _| values.contains_key(name));
    }
    let fixed = Schema::from_json(&json).ok();
    let test = fixed.as_ref().and_then(|fixed| filter.compile(fixed).ok());
    let holds = fixed.zip(test).is_some_and(|(fixed, test)| {
        let mut writer = Writer::empty(fixed, &[]);
        let only = Change {
            number: 1,
            key: "x".into(),
            revision: 1,
            body: Some(values.clone()),
            vectors: Vec::new(),
        };
        writer.apply(1, &[only]);
        test.run(&writer.snapshot()).count_ones(..) == 1
    });
    if holds {
        return Ok(());
    }
    let detail = format!(
        "a record with these values alone has to be inside the filter, whatever its other fields are; that is not so in \
         \"{}\": give values to every field of the filter {}",
        live.name,
        filter.to_text()
    );
    wrong(detail, "/values")
}

fn checked_limit<N: PartialOrd + std::fmt::Display>(
    given: Option<N>,
    range: RangeInclusive<N>,
    pointer: &str,
) -> Result<Option<N>> {
    match given {
        Some(n) if !range.contains(&n) => {
            let name = &pointer[1..];
            wrong(format!("{name} is {n}; it goes from {} to {}", range.start(), range.end()), pointer)
        }
        given => Ok(given),
    }
}

/// The end of a key: in the future, and not after the end of the key that sets it.
fn checked_end(grant: &Grant, end: Option<DateTime<Utc>>) -> Result<Option<DateTime<Utc>>> {
    if end.is_some_and(|end| end <= Utc::now()) {
        return wrong("expires_at has passed already", "/expires_at");
    }
    if let Some(most) = grant.secret_ends_at()
        && end.is_none_or(|end| end > most)
    {
        let detail =
            format!("your own key ends at {most}, and what it makes cannot last longer; give expires_at");
        return Err(Problem::new(Kind::NotPermitted, detail).at("/expires_at"));
    }
    Ok(end)
}

/// Makes a change in a stored key.
pub fn checked_change(
    grant: &Grant,
    registry: &Registry,
    key: &mut access_key::Model,
    change: &wire::KeyChange,
) -> Result<()> {
    let mut now = permit(key.clone());
    let lists = [
        ("/add_collections", change.add_collections.len()),
        ("/add_scopes", change.add_scopes.len()),
        ("/add_searches", change.add_searches.len()),
        ("/remove_collections", change.remove_collections.len()),
        ("/remove_scopes", change.remove_scopes.len()),
        ("/remove_searches", change.remove_searches.len()),
    ];
    check_lists(lists, MOST_NAMES)?;
    now.scopes.retain(|s| !change.remove_scopes.contains(s));
    now.scopes.extend(change.add_scopes.iter().filter(|s| !key.scopes.split(',').any(|w| w == s.word())));
    let (add, remove) = (&change.add_collections[..], &change.remove_collections[..]);
    edit_names(&mut now.collections, (add, remove), (&key.name, "collection", "/add_collections"))?;
    let (add, remove) = (&change.add_searches[..], &change.remove_searches[..]);
    edit_names(&mut now.searches, (add, remove), (&key.name, "search", "/add_searches"))?;
    if let Some(rate) = change.requests_per_s {
        now.requests_per_s = checked_limit(Some(rate).filter(|n| *n > 0), RATES, "/requests_per_s")?;
    }
    if let Some(bytes) = change.body_bytes {
        now.body_bytes = checked_limit(Some(bytes).filter(|n| *n > 0), BODIES, "/body_bytes")?;
    }
    let goes_further = [&change.add_collections, &change.add_searches].iter().any(|names| !names.is_empty());
    if change.expires_at.is_some() {
        now.expires_at = checked_end(grant, change.expires_at)?;
    } else if !change.add_scopes.is_empty() || goes_further {
        checked_end(grant, now.expires_at)?;
    }
    if now.scopes.is_empty() {
        return wrong("that would leave no scope; remove the key instead", "/remove_scopes");
    }
    // Held against what there is as if it were made now; collections that are gone are not in the way.
    let mut there = now.clone();
    if let Some(names) = &mut there.collections {
        names.retain(|name| {
            change.add_collections.contains(name) || registry.collection(grant, Scope::Manage, name).is_ok()
        });
    }
    if there.collections.as_ref().is_none_or(|names| !names.is_empty()) {
        check_permit(grant, registry, &there, "/add_collections")?;
        if !change.add_searches.is_empty() {
            check_searches(grant, registry, &there, &change.add_searches, "/add_searches")?;
        }
    }
    key.scopes = words(&now.scopes);
    key.collections = now.collections.map(|names| json!(names));
    key.searches = now.searches.map(|names| json!(names));
    key.requests_per_s = now.requests_per_s;
    key.body_bytes = now.body_bytes.map(|n| n as i64);
    key.expires_at = now.expires_at;
    Ok(())
}

/// Adds names to those that a key is good for, and takes others away.
fn edit_names(
    names: &mut Option<Vec<String>>,
    (add, remove): (&[String], &[String]),
    (key, what, pointer): (&str, &str, &str),
) -> Result<()> {
    let Some(names) = names else {
        let Some(first) = add.iter().chain(remove).next() else { return Ok(()) };
        let detail = format!(
            "key \"{key}\" is not limited to a {what} by name, so \"{first}\" cannot be added or taken away; make \
             another key"
        );
        return wrong(detail, pointer);
    };
    names.retain(|name| !remove.contains(name));
    let fresh = add.iter().filter(|n| !names.contains(n)).cloned().collect::<Vec<_>>();
    names.extend(fresh);
    if names.is_empty() {
        let detail = format!("that would leave no {what}; remove the key instead");
        return wrong(detail, pointer.replace("add", "remove"));
    }
    Ok(())
}
