//! `zesty key`.

use crate::cli::{KeyCommand, MakeKey, Permission};
use crate::exit;
use crate::runner::{Done, Failure, Runner};
use crate::show;
use chrono::{DateTime, TimeDelta, Utc};
use serde_json::{Map, Value};
use std::io::Read;
use zesty_client::wire::{AuditEntry, Key, KeyChange, KeyRequest, NewKey, OwnKey, Permit, Scope};

/// Bytes that a secret on standard input may have.
const MOST_SECRET: u64 = 4096;

fn usage(text: String) -> Failure {
    Failure { text, code: exit::FAILED }
}

/// `field=value`: the value as JSON where it is, as text elsewhere.
fn values(pairs: &[String]) -> Result<Map<String, Value>, Failure> {
    let pairs = pairs.iter().map(|pair| {
        let (field, value) = pair
            .split_once('=')
            .filter(|(field, _)| !field.is_empty())
            .ok_or_else(|| usage(format!("--value {pair} is not FIELD=VALUE, such as tenant=north")))?;
        let value = serde_json::from_str(value).unwrap_or_else(|_| Value::String(value.to_owned()));
        Ok((field.to_owned(), value))
    });
    pairs.collect()
}

fn scopes(permit: &Permit) -> String {
    permit.scopes.iter().map(Scope::to_string).collect::<Vec<_>>().join(", ")
}

fn over(permit: &Permit) -> String {
    permit.collections.as_ref().map_or("all".into(), |names| names.join(", "))
}

fn end(at: Option<DateTime<Utc>>) -> String {
    at.map_or("never".into(), |at| match at <= Utc::now() {
        true => format!("ended {}", show::when(&at)),
        false => show::when(&at),
    })
}

/// What binds a key to a part of the records.
fn bound(permit: &Permit) -> String {
    let mut parts: Vec<String> = permit.filter.iter().cloned().collect();
    parts.extend(permit.values.iter().map(|(field, value)| format!("sets {field} = {value}")));
    parts.extend(permit.key_prefix.iter().map(|prefix| format!("keys begin with {prefix}")));
    parts.extend(permit.searches.iter().map(|names| format!("asks {}", names.join(", "))));
    parts.extend(permit.requests_per_s.map(|n| format!("{n} requests a second")));
    parts.extend(permit.body_bytes.map(|n| format!("bodies up to {}", show::bytes(n))));
    parts.join("; ")
}

fn keys(all: &[Key]) -> String {
    let mut t = show::table(&["key", "may", "over", "bound to", "ends", "last used", "from", "made"]);
    for key in all {
        let permit = &key.permit;
        let made = match &key.created_by {
            Some(by) => format!("{} by {by}", show::when(&key.created_at)),
            None => show::when(&key.created_at),
        };
        let mut ends = end(permit.expires_at);
        if let Some(at) = &key.old_secret_ends_at {
            ends += &format!("; old secret {}", show::when(at));
        }
        t.add_row([
            permit.name.clone(),
            scopes(permit),
            over(permit),
            bound(permit),
            ends,
            key.last_used_at.as_ref().map_or("never".into(), show::when),
            key.last_used_from.clone().unwrap_or_default(),
            made,
        ]);
    }
    t.to_string()
}

fn entries(all: &[AuditEntry]) -> String {
    let mut t = show::table(&[">entry", "when", "key", "did", "on", ">status", "from"]);
    for e in all {
        t.add_row([
            e.id.to_string(),
            show::when(&e.at),
            e.key.clone(),
            e.method.clone(),
            show::shortened(&e.path, 70),
            e.status.to_string(),
            e.from.clone(),
        ]);
    }
    t.to_string()
}

/// What each scope lets a key do, in the words of whoever holds it.
fn may(scope: Scope) -> &'static str {
    match scope {
        Scope::Ask => "ask saved searches that are live",
        Scope::Search => "search by text, vector and example; see fields and count their values",
        Scope::Read => "read, browse and export records",
        Scope::Write => "write, change and delete records; load files",
        Scope::Tune => "build indexes, measure them, choose what serves",
        Scope::Manage => "create and delete collections; manage keys and encoders",
    }
}

fn tried(own: &OwnKey) -> String {
    let permit = &own.permit;
    let mut out = format!("key {}, ends: {}\n", permit.name, end(permit.expires_at));
    for scope in Scope::ALL {
        let asks = scope == Scope::Ask && permit.scopes.contains(&Scope::Search);
        let mark = if permit.scopes.contains(&scope) || asks { "yes" } else { "no " };
        out += &format!("  {mark}  {:<7} {}\n", scope.word(), may(scope));
    }
    if let Some(filter) = &permit.filter {
        out += &format!("bound to the filter: {filter}\n");
    }
    for (field, value) in &permit.values {
        out += &format!("sets in every record it writes: {field} = {value}\n");
    }
    if let Some(prefix) = &permit.key_prefix {
        out += &format!("writes records whose keys begin with: {prefix}\n");
    }
    if let Some(names) = &permit.searches {
        out += &format!("asks the saved searches: {}\n", names.join(", "));
    }
    if let Some(rate) = permit.requests_per_s {
        out += &format!("may make {rate} requests a second on each node\n");
    }
    if let Some(bytes) = permit.body_bytes {
        out += &format!("may send bodies of up to {}\n", show::bytes(bytes));
    }
    if own.sees.is_empty() {
        return out + "sees no collection";
    }
    let mut t = show::table(&["sees", ">records", "trouble"]);
    for seen in &own.sees {
        let trouble = seen.trouble.clone().unwrap_or_default();
        t.add_row([seen.collection.clone(), show::count(seen.n_records as u64), trouble]);
    }
    out + &t.to_string()
}

impl Runner {
    pub async fn key(&self, command: KeyCommand) -> Done {
        let c = &self.client;
        match command {
            KeyCommand::Make(make) => self.make_key(make).await,
            KeyCommand::List => self.show_list(&c.keys().await?, "No keys.", keys),
            KeyCommand::Allow(Permission { name, scope, collection, search }) => {
                let (add_scopes, add_collections, add_searches) = (scope, collection, search);
                let change = KeyChange { add_scopes, add_collections, add_searches, ..Default::default() };
                self.changed(&name, change).await
            }
            KeyCommand::Withdraw(Permission { name, scope, collection, search }) => {
                let (remove_scopes, remove_collections, remove_searches) = (scope, collection, search);
                let change =
                    KeyChange { remove_scopes, remove_collections, remove_searches, ..Default::default() };
                self.changed(&name, change).await
            }
            KeyCommand::End { name, at } => {
                self.changed(&name, KeyChange { expires_at: Some(at), ..Default::default() }).await
            }
            KeyCommand::Limit { name, rate, body_bytes } => {
                let change = KeyChange { requests_per_s: rate, body_bytes, ..Default::default() };
                self.changed(&name, change).await
            }
            KeyCommand::Rotate { name, overlap } => {
                let overlap_s = overlap.unwrap_or(TimeDelta::zero()).num_seconds();
                let made = c.rotate_key(&name, u32::try_from(overlap_s).unwrap_or(u32::MAX)).await?;
                self.secret(&made)
            }
            KeyCommand::Remove { name } => {
                c.remove_key(&name).await?;
                self.said(&format!("removed {name}"))
            }
            KeyCommand::Try { key } => {
                let own = match key {
                    None => c.own_key().await?,
                    Some(key) if key == "-" => {
                        let mut text = String::new();
                        let read = std::io::stdin().take(MOST_SECRET).read_to_string(&mut text);
                        read.map_err(|e| usage(format!("standard input cannot be read: {e}")))?;
                        c.with_key(text.trim()).own_key().await?
                    }
                    Some(key) => c.with_key(key.trim()).own_key().await?,
                };
                self.show(&own, tried);
                Ok(0)
            }
            KeyCommand::Audit { limit, before } => {
                let found = c.audit(limit, before).await?;
                self.show_list(&found.entries, "Nothing was done yet.", entries)
            }
        }
    }

    async fn make_key(&self, make: MakeKey) -> Done {
        let request = KeyRequest {
            name: make.name,
            scopes: make.scope,
            collections: (!make.collection.is_empty()).then_some(make.collection),
            filter: make.filter,
            values: values(&make.value)?,
            key_prefix: make.key_prefix,
            searches: (!make.search.is_empty()).then_some(make.search),
            requests_per_s: make.rate,
            body_bytes: make.body_bytes,
            expires_at: make.ends,
        };
        self.secret(&self.client.make_key(&request).await?)
    }

    async fn changed(&self, name: &str, change: KeyChange) -> Done {
        let key = self.client.change_key(name, &change).await?;
        self.show(&key, |key| keys(std::slice::from_ref(key)));
        Ok(0)
    }

    fn secret(&self, made: &NewKey) -> Done {
        self.show(made, |k| k.key.clone());
        if !self.json {
            eprintln!("This is shown once; only its hash is kept.");
            if let Some(at) = &made.old_secret_ends_at {
                eprintln!("The secret before stays good until {}.", show::when(at));
            }
        }
        Ok(0)
    }
}
