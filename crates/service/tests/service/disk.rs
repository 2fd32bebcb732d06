//! A disk that is full: what needs it says so and can be done later, and all else goes on.

use crate::restart::{Process, start_with};
use serde_json::json;
use std::path::Path;
use std::process::Command;
use zesty_client::wire::{Job, LoadRequest};
use zesty_testing::*;

/// Bytes of the small disk.
const DISK: usize = 4 << 20;

/// A command that runs a program on a disk of its own that is mounted on a folder. None where that is not permitted.
fn on_small_disk(folder: &Path) -> Option<Command> {
    let ways: [&[&str]; 2] = [&["--mount"], &["--mount", "--user", "--map-root-user"]];
    let mount = format!("mount -t tmpfs -o size={DISK} none '{}'", folder.display());
    let works = |way: &&&[&str]| {
        let tried = Command::new("unshare").args(**way).args(["sh", "-c", &mount]).output();
        tried.is_ok_and(|tried| tried.status.success())
    };
    let way = ways.iter().find(works)?;
    let mut command = Command::new("unshare");
    command
        .args(*way)
        .args(["sh", "-c", &format!("{mount} && exec \"$@\""), "sh"])
        .arg(program("zesty-service"));
    Some(command)
}

async fn ended(process: &Process, job: i64) -> Job {
    process.client.watch_job(job, |_| ()).await.unwrap()
}

fn said(job: &Job) -> String {
    job.error.clone().unwrap_or_default()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_stops_what_needs_it_and_nothing_else() {
    let folder = tempfile::tempdir().unwrap();
    let Some(command) = on_small_disk(folder.path()) else {
        eprintln!("not tried: nobody may mount a disk here");
        return;
    };
    let database = tokio::task::spawn_blocking(zesty_local::scratch::database).await.unwrap();
    // The disk is seen through the process alone.
    let process = start_with(command, &database, folder.path(), |p| {
        format!("/proc/{p}/root{}", folder.path().display()).into()
    });
    let c = &process.client;
    let columns = json!([{"name": "v", "dimensions": 32, "metric": "cosine"}]);
    let fields = json!({"type": "object", "properties": {"n": {"type": "integer"}}});
    c.create_collection(&json!({"name": "points", "columns": columns, "fields": fields})).await.unwrap();
    let vector = |i: i32| (0..32).map(|d| f64::from((i * 31 + d * 17) % 101) + 0.5).collect::<Vec<_>>();
    let record = |i: i32| json!({"key": format!("p{i}"), "fields": {"n": i}, "vectors": {"v": vector(i)}});
    for at in (0..2000).step_by(500) {
        c.write("points", &(at..at + 500).map(record).collect::<Vec<_>>()).await.unwrap();
    }

    // A file with rows that are set aside, sent while there is room.
    let bad = |i: i32| json!({"key": format!("q{i}"), "n": "?".repeat(200), "v": vector(i)});
    let good = |i: i32| json!({"key": format!("p{i}"), "n": i, "v": vector(i)});
    let rows = (2000..2200).flat_map(|i| [good(i), bad(i)]);
    let text = rows.map(|row| format!("{row}\n")).collect::<String>();
    let small = c.announce_file("rows.jsonl", None).await.unwrap();
    c.send_content(&small.id, 0, text.into()).await.unwrap();

    // A file that does not fit: it says so, and how much of it is there.
    let large = c.announce_file("large.csv", Some(2 * DISK as u64)).await.unwrap();
    let problem = refused(c.send_content(&large.id, 0, "x".repeat(2 * DISK).into()).await);
    assert_eq!((problem.status, problem.word()), (507, "no-space"), "{problem:?}");
    assert!(problem.detail.contains("free some space"), "{}", problem.detail);

    // An index cannot be written, and the search goes on without it.
    let recipe = json!({"name": "g", "recipe": "graph"});
    let built = ended(&process, c.build_index("points", &recipe).await.unwrap().id).await;
    assert_eq!(built.state, "failed");
    assert!(said(&built).contains("the disk is full"), "{}", said(&built));
    let query = json!({"vector": vector(77), "k": 5});
    let exact = c.search("points", &query).await.unwrap();
    assert_eq!((exact.hits[0].key.as_str(), exact.via.exact), ("p77", true));
    c.write("points", &[record(5000)]).await.unwrap();
    let mut n = 0;
    c.export("points", &[], |bytes| {
        n += bytes.iter().filter(|b| **b == b'\n').count();
        Ok(())
    })
    .await
    .unwrap();
    assert_eq!(n, 2001, "an export needs no disk of the service");

    // A load that has rows to set aside stops there, and can be resumed.
    let load: LoadRequest =
        serde_json::from_value(json!({"records": small.id, "bad_rows": "set-aside", "batch": 100})).unwrap();
    let started = c.create_load("points", &load).await.unwrap();
    let stopped = ended(&process, started.job.id).await;
    assert_eq!(stopped.state, "failed");
    assert!(said(&stopped).contains("the disk is full"), "{}", said(&stopped));
    assert!(said(&stopped).contains("resume"), "{}", said(&stopped));

    // With room again, all of it is done.
    c.remove_file(&large.id).await.unwrap();
    let resumed = c.resume_load("points", started.load, &json!({})).await.unwrap();
    let done = ended(&process, resumed.job.id).await;
    assert_eq!(done.state, "done", "{}", said(&done));
    assert_eq!(c.collection("points").await.unwrap().n_records, 2201);
    let rejects = c.rejects("points", started.load).await.unwrap();
    assert_eq!(rejects.iter().filter(|b| **b == b'\n').count(), 200, "each once");
    let built = ended(&process, c.absorb("points", "g").await.unwrap().id).await;
    assert_eq!(built.state, "done", "{}", said(&built));
    let again = c.search("points", &json!({"vector": vector(77), "k": 5, "index": "g"})).await.unwrap();
    assert_eq!(again.hits[0].key, "p77");
}
