//! Keys held against what there is: names, collections, fixed filters and fixed values.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::names::check_name;
use crate::problem::{Kind, Problem, Result};
use chrono::{DateTime, Utc};
use serde_json::{Map, Value, json};
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
    if request.scopes.is_empty() {
        return wrong("a key needs at least one scope: search, read, write, tune, manage", "/scopes");
    }
    let mut lives = Vec::new();
    if let Some(collections) = &request.collections {
        lives = known_collections(grant, registry, collections, "/collections")?;
    }
    let filter = request.filter.as_deref().map(|text| read_filter(text, &lives)).transpose()?;
    check_narrow(&request, filter.as_ref(), &lives)?;
    Ok(NewKey {
        name: request.name,
        hash,
        scopes: words(&request.scopes),
        collections: request.collections,
        filter: filter.map(|f| f.to_text()),
        values: (!request.values.is_empty()).then_some(Value::Object(request.values)),
        key_prefix: request.key_prefix,
        requests_per_s: checked_limit(request.requests_per_s, RATES, "/requests_per_s")?,
        body_bytes: checked_limit(request.body_bytes, BODIES, "/body_bytes")?.map(|n| n as i64),
        expires_at: checked_end(grant, request.expires_at)?,
        created_by: Some(grant.name().into()),
    })
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
fn check_narrow(request: &wire::KeyRequest, filter: Option<&Filter>, lives: &[Arc<Live>]) -> Result<()> {
    let writes = request.scopes.contains(&Scope::Write);
    if filter.is_none() && request.values.is_empty() && request.key_prefix.is_none() {
        return Ok(());
    }
    if let Some(scope) = request.scopes.iter().find(|s| matches!(s, Scope::Tune | Scope::Manage)) {
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
    if !writes && !request.values.is_empty() {
        return wrong(
            "values are set in what a key writes; this one does not have the scope \"write\"",
            "/values",
        );
    }
    if !writes && request.key_prefix.is_some() {
        return wrong(
            "a key prefix is for writing; this key does not have the scope \"write\"",
            "/key_prefix",
        );
    }
    let bytes = json!(request.values).to_string().len();
    if bytes > MOST_VALUES {
        return wrong(format!("the values take {bytes} bytes; a key takes up to {MOST_VALUES}"), "/values");
    }
    if let Some(prefix) = &request.key_prefix
        && (prefix.is_empty() || prefix.len() > MOST_PREFIX || prefix.chars().any(char::is_control))
    {
        return wrong(format!("a key prefix is 1 to {MOST_PREFIX} bytes of text"), "/key_prefix");
    }
    for live in lives {
        let table = live.table.load();
        table.schema().check(&request.values).map_err(|e| {
            let detail = format!("collection \"{}\": {e}", live.name);
            Problem::new(Kind::WrongField, detail).at(format!("/values{}", e.pointer))
        })?;
        if let Some(filter) = filter.filter(|_| writes) {
            check_implied(filter, &request.values, live, table.schema())?;
        }
    }
    if filter.is_some() && writes && request.key_prefix.is_none() {
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
    now.scopes.retain(|s| !change.remove_scopes.contains(s));
    now.scopes.extend(change.add_scopes.iter().filter(|s| !key.scopes.split(',').any(|w| w == s.word())));
    if let Some(names) = &mut now.collections {
        names.retain(|name| !change.remove_collections.contains(name));
        let fresh = change.add_collections.iter().filter(|n| !names.contains(n)).cloned().collect::<Vec<_>>();
        names.extend(fresh);
    } else if let Some(first) = change.remove_collections.iter().chain(&change.add_collections).next() {
        let detail = format!(
            "key \"{}\" is good for all collections, so \"{first}\" cannot be added or taken away; make another key",
            key.name
        );
        return wrong(detail, "/add_collections");
    }
    if let Some(rate) = change.requests_per_s {
        key.requests_per_s = checked_limit(Some(rate).filter(|n| *n > 0), RATES, "/requests_per_s")?;
    }
    if let Some(bytes) = change.body_bytes {
        let bytes = checked_limit(Some(bytes).filter(|n| *n > 0), BODIES, "/body_bytes")?;
        key.body_bytes = bytes.map(|n| n as i64);
    }
    if change.expires_at.is_some() {
        now.expires_at = checked_end(grant, change.expires_at)?;
    } else if !change.add_scopes.is_empty() || !change.add_collections.is_empty() {
        checked_end(grant, now.expires_at)?;
    }
    // Held against what there is as if it were made now; collections that are gone are not in the way.
    let collections = now.collections.as_ref().map(|names| {
        let there = |name: &&String| registry.collection(grant, Scope::Manage, name).is_ok();
        let stays = |name: &&String| change.add_collections.contains(name) || there(name);
        names.iter().filter(stays).cloned().collect::<Vec<_>>()
    });
    let as_made = wire::KeyRequest {
        name: now.name.clone(),
        scopes: now.scopes.clone(),
        collections: collections.clone().filter(|names| !names.is_empty()),
        filter: now.filter.clone(),
        values: now.values.clone(),
        key_prefix: now.key_prefix.clone(),
        requests_per_s: None,
        body_bytes: None,
        expires_at: None,
    };
    if now.collections.as_ref().is_some_and(Vec::is_empty) {
        return wrong("that would leave no collection; remove the key instead", "/remove_collections");
    }
    if as_made.scopes.is_empty() {
        return wrong("that would leave no scope; remove the key instead", "/remove_scopes");
    }
    if now.collections.is_none() || as_made.collections.is_some() {
        let lives = match &as_made.collections {
            Some(names) => known_collections(grant, registry, names, "/add_collections")?,
            None => Vec::new(),
        };
        let filter = as_made.filter.as_deref().map(|text| read_filter(text, &lives)).transpose()?;
        check_narrow(&as_made, filter.as_ref(), &lives)?;
    }
    key.scopes = words(&now.scopes);
    key.collections = now.collections.map(|names| json!(names));
    key.expires_at = now.expires_at;
    Ok(())
}
