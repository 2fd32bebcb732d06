//! A node looked at from end to end: what stands around it, and each collection. Everything that is not well comes with
//! what to do about it.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::collections::view;
use crate::measure::watches::by_index;
use crate::node::encoders::{Encoders, SAME};
use crate::problem::Result;
use crate::search::saved::cases;
use chrono::{TimeDelta, Utc};
use std::time::Duration;
use zesty_catalog::Server;
use zesty_wire::{self as wire, Finding, Weight};

/// Living vectors from which on an exact scan of all is slow.
const MANY: usize = 50_000;
/// Bytes that should be free in the data folder, however little it holds.
const ROOM: u64 = 1 << 30;
/// The share of vectors that an index should hold.
const COVERED: f64 = 0.7;
/// Bytes that MariaDB should take in one packet.
const PACKET: u64 = 64 << 20;
/// Searches that an observed recall needs to say something.
const ENOUGH: u64 = 30;

fn finding(
    about: impl Into<String>,
    weight: Weight,
    found: impl Into<String>,
    remedy: Option<String>,
) -> Finding {
    Finding { about: about.into(), weight, found: found.into(), remedy }
}

fn good(about: impl Into<String>, found: impl Into<String>) -> Finding {
    finding(about, Weight::Good, found, None)
}

fn advice(about: impl Into<String>, found: impl Into<String>, remedy: impl Into<String>) -> Finding {
    finding(about, Weight::Advice, found, Some(remedy.into()))
}

fn wrong(about: impl Into<String>, found: impl Into<String>, remedy: impl Into<String>) -> Finding {
    finding(about, Weight::Wrong, found, Some(remedy.into()))
}

fn mb(bytes: u64) -> String {
    format!("{} MB", bytes / 1_000_000)
}

/// Looks at this node, its database, its encoders and its collections.
pub async fn examine(grant: &Grant, registry: &Registry, encoders: &Encoders) -> Result<wire::Examination> {
    grant.require(Scope::Read, None)?;
    let mut findings = database(registry).await;
    findings.extend(machine(registry));
    findings.extend(nodes(registry).await);
    findings.extend(of_encoders(grant, encoders).await);
    for (name, why) in registry.closed() {
        let remedy = "the service's log says more; restore the database from a dump";
        findings.push(wrong(format!("collection {name}"), format!("it cannot be opened: {why}"), remedy));
    }
    for live in registry.all() {
        findings.extend(of_collection(grant, registry, &live).await);
    }
    Ok(wire::Examination { findings })
}

async fn database(registry: &Registry) -> Vec<Finding> {
    let server = match registry.catalog.server().await {
        Ok(server) => server,
        Err(e) => {
            let remedy = "start MariaDB, or correct --database; searches go on meanwhile, writes are refused";
            return vec![wrong("database", e.to_string(), remedy)];
        }
    };
    let Server { version, max_allowed_packet, collation, buffer_pool, max_connections, clock_ahead_s, took } =
        server;
    let mut found =
        vec![good("database", format!("MariaDB {version} answers in {:.1} ms", took.as_secs_f64() * 1e3))];
    if max_allowed_packet < PACKET {
        let text = format!(
            "max_allowed_packet is {}: larger batches take several statements",
            mb(max_allowed_packet)
        );
        found.push(advice("database", text, "set max-allowed-packet=64M"));
    }
    if collation != "utf8mb4_nopad_bin" {
        let text = format!("the server's collation is {collation}; the service's own tables say theirs");
        found.push(advice(
            "database",
            text,
            "set collation-server=utf8mb4_nopad_bin, for databases made from now on",
        ));
    }
    if buffer_pool < 512 << 20 {
        let text =
            format!("it keeps {} of its tables in memory: writes and starts read the disk", mb(buffer_pool));
        found.push(advice("database", text, "raise innodb-buffer-pool-size towards the size of the vectors"));
    }
    if max_connections < 50 {
        let text = format!("it takes {max_connections} connections, and each node uses up to 16");
        found.push(advice("database", text, "raise max-connections"));
    }
    if clock_ahead_s.abs() > 2.0 {
        let text =
            format!("its clock is {clock_ahead_s:.1} s ahead of this machine's: ends of keys shift by that");
        found.push(advice("database", text, "let both machines follow one time server"));
    }
    if took > Duration::from_millis(100) {
        let text = format!("it took {} ms to answer a question about itself", took.as_millis());
        found.push(advice("database", text, "look at its load, and at the network between"));
    }
    found
}

fn machine(registry: &Registry) -> Vec<Finding> {
    let total = registry.held().total();
    let mut found = vec![match registry.folder.space() {
        Ok(free) if free < ROOM.max(total) => {
            let text = format!(
                "{} are free: builds and segments need room for a second copy, {}",
                mb(free),
                mb(ROOM.max(total))
            );
            wrong("data folder", text, "free some space, or move --data to a larger disk")
        }
        Ok(free) => good("data folder", format!("{} are free", mb(free))),
        Err(e) => wrong("data folder", format!("its disk cannot be asked: {e}"), "look at --data"),
    }];
    let files = rustix::process::getrlimit(rustix::process::Resource::Nofile).current;
    if files.is_some_and(|n| n < 8192) {
        let text = format!(
            "this process may open {} files; each connection and each file is one",
            files.unwrap_or(0)
        );
        found.push(advice("machine", text, "raise the limit: ulimit -n 65536, or LimitNOFILE in the unit"));
    }
    let takes = format!("collections and indexes take {}", mb(total));
    found.push(match registry.memory.budget() {
        Some(budget) if total * 10 > budget * 9 => {
            let remedy = "raise --memory-mb, unload or drop indexes, or choose smaller recipes";
            advice("memory", format!("{takes} of {}", mb(budget)), remedy)
        }
        Some(budget) => good("memory", format!("{takes} of {}", mb(budget))),
        None => {
            let remedy = "set --memory-mb, so that a build that does not fit is refused";
            advice("memory", format!("{takes}; no budget is set"), remedy)
        }
    });
    if registry.folder.has_first_key() {
        let remedy =
            "save it elsewhere and delete the file first-key; make a key for each use: zesty key make --help";
        found.push(advice("keys", "the first key still lies in the data folder", remedy));
    }
    found
}

async fn nodes(registry: &Registry) -> Vec<Finding> {
    let mut found = Vec::new();
    if let Ok(living) = registry.catalog.living_nodes().await {
        found.push(good("nodes", format!("{} heard of lately: {}", living.len(), living.join(", "))));
    }
    let behind = registry.followed.lock().map(|at| at.elapsed());
    if behind.is_none_or(|behind| behind > Duration::from_secs(30)) {
        let text = match behind {
            Some(behind) => format!("this node has not read what others wrote for {} s", behind.as_secs()),
            None => "this node has not read what others wrote yet".into(),
        };
        found.push(wrong("nodes", text, "the service's log says what it cannot follow"));
    }
    if let Ok(jobs) = registry.catalog.jobs(100).await {
        let day = Utc::now() - TimeDelta::days(1);
        for job in jobs.iter().filter(|j| j.state == "failed" && j.created_at > day).take(5) {
            let why = job.error.clone().unwrap_or_default();
            let text =
                format!("job {} ({} {} of {}) failed: {why}", job.id, job.kind, job.subject, job.collection);
            found.push(advice("jobs", text, format!("zesty job show {}", job.id)));
        }
    }
    found
}

async fn of_encoders(grant: &Grant, encoders: &Encoders) -> Vec<Finding> {
    let Ok(list) = encoders.list(grant).await else { return Vec::new() };
    let mut found = Vec::new();
    for encoder in list.encoders {
        let about = format!("encoder {}", encoder.name);
        found.push(match encoders.try_out(&encoder.name).await {
            Ok(Some(likeness)) if likeness < SAME => {
                let text =
                    format!("it makes another vector of a known text than before (cosine {likeness:.4})");
                let remedy =
                    "it is another model or version: give it a name of its own, and a column of its own";
                wrong(about, text, remedy)
            }
            Ok(Some(_)) => good(about, "it answers, and makes the known vector of a known text"),
            Ok(None) => {
                let remedy = format!(
                    "zesty encoder set {} --at {} --model {} keeps one",
                    encoder.name, encoder.url, encoder.model
                );
                advice(about, "it answers; what it makes of a known text was never kept", remedy)
            }
            Err(problem) => {
                let remedy =
                    format!("start the server at {}, or move the encoder: zesty encoder set", encoder.url);
                wrong(about, problem.detail, remedy)
            }
        });
    }
    found
}

async fn of_collection(grant: &Grant, registry: &Registry, live: &Live) -> Vec<Finding> {
    let (name, about) = (&live.name, format!("collection {}", live.name));
    let table = live.table.load();
    let mut found = Vec::new();
    if let Some(trouble) = live.segment_trouble() {
        found.push(wrong(&about, trouble, "the service's log says more; the disk may be full"));
    }
    let indexes = view::indexes(live);
    for (at, column) in live.columns().iter().enumerate() {
        let present = table.vectors()[at].vectors.present();
        let with = table.alive().intersection_count(present);
        let without = table.n_records() - with;
        if without > 0 && column.encoder.is_some() {
            let text = format!(
                "{without} records have no vector in column {}: searches cannot find them",
                column.name
            );
            found.push(advice(&about, text, format!("zesty column backfill {name} {}", column.name)));
        }
        let serves = live.serving(at);
        if with >= MANY && serves.is_none() {
            let text = format!("searches of column {} scan all {with} vectors", column.name);
            found.push(advice(
                &about,
                text,
                format!("zesty index build {name}, then zesty serving {name} --index ..."),
            ));
        }
        let is_there = |index: &str| indexes.iter().any(|i| i.name == index && i.state == "ready");
        if let Some(serving) = serves.filter(|s| !is_there(&s.index)) {
            let text = format!(
                "index {} serves column {} and is not on this node: searches are exact",
                serving.index, column.name
            );
            found.push(wrong(&about, text, format!("zesty index list {name} says why")));
        }
    }
    for index in &indexes {
        let of = format!("{about}, index {}", index.name);
        if index.state == "failed" {
            let why = index.error.clone().unwrap_or_default();
            found.push(wrong(&of, why, format!("zesty index absorb {name} {} builds it again", index.name)));
        }
        if let Some(share) = view::coverage(index).filter(|share| index.state == "ready" && *share < COVERED)
        {
            let text = format!("it holds {:.0}% of the vectors; searches scan the rest", share * 100.0);
            found.push(advice(&of, text, format!("zesty index absorb {name} {}", index.name)));
        }
    }
    let day = Utc::now() - TimeDelta::days(1);
    if let Ok(rows) = registry.catalog.observed(live.id, day).await {
        let floor = live.kept.watch.load().recall.and_then(|r| r.floor);
        for (index, sums) in by_index(&rows).iter().filter(|(_, sums)| sums.n >= ENOUGH) {
            let text =
                format!("searches found {:.3} of the true hits in 24 h ({} checked)", sums.mean(), sums.n);
            let of = format!("{about}, index {index}");
            found.push(match floor.filter(|floor| sums.mean() < *floor) {
                Some(floor) => {
                    let remedy =
                        format!("the floor is {floor}: zesty target solve {name} {index} --recall {floor}");
                    wrong(of, text, remedy)
                }
                None => good(of, text),
            });
        }
    }
    if let Ok(saved) = cases::list(grant, registry, name).await {
        for (saved, trouble) in saved.saved.iter().filter_map(|s| Some((s, s.trouble.as_ref()?))) {
            let of = format!("{about}, saved search {}", saved.name);
            found.push(wrong(
                of,
                trouble,
                format!("zesty saved show {name} {}; save a version that fits", saved.name),
            ));
        }
    }
    if !found.iter().any(|f| f.weight != Weight::Good) {
        let text = format!(
            "{} records, {} columns, {} indexes",
            table.n_records(),
            live.columns().len(),
            indexes.len()
        );
        found.insert(0, good(&about, text));
    }
    found
}
