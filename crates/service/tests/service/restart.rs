//! What survives: restarts, kills, lost files, a database that goes away and comes back.

use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use zesty_client::Client;
use zesty_client::load::{LoadFiles, follow_load, start_load};
use zesty_client::wire::SearchAnswer;
use zesty_local::mariadb::MariaDb;
use zesty_testing::*;

fn keys(found: &SearchAnswer) -> Vec<String> {
    found.hits.iter().map(|h| h.key.clone()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_restart_brings_everything_back_without_rebuilding_and_damage_is_mended() {
    let r = with_encoder().await;
    r.logbook(1500).await;
    r.build("logbook", "graph-1", "graph(links=8, build=60)").await;
    r.client.set_serving("logbook", "meaning", Some(&choice("graph-1", json!({"beam": 33})))).await.unwrap();
    // One deleted, one replaced and one added after the build.
    let query = json!({"text": "the siren moaned through thick mist", "k": 20});
    let first = keys(&r.client.search("logbook", &query).await.unwrap());
    r.client.delete_record("logbook", &first[0]).await.unwrap();
    let same = json!({"key": first[1], "fields": {"note": "Planted the rhubarb behind the wall."}});
    let new = json!({"key": "new-1", "fields": {"note": "The siren moaned through thick mist all night."}});
    r.client.write("logbook", &[same, new]).await.unwrap();
    let before = r.client.search("logbook", &query).await.unwrap();
    assert!(keys(&before).contains(&"new-1".to_owned()) && !keys(&before).contains(&first[0]));

    let r = r.restart().await;
    let after = r.client.search("logbook", &query).await.unwrap();
    assert_eq!(keys(&after), keys(&before));
    assert_eq!(
        (after.via.index.as_deref(), after.via.settings.as_ref().unwrap().beam),
        (Some("graph-1"), Some(33))
    );
    let jobs = r.client.jobs().await.unwrap();
    assert_eq!(jobs.iter().filter(|j| j.kind == "build").count(), 1, "nothing was rebuilt");
    let index = r.client.indexes("logbook").await.unwrap().remove(0);
    assert_eq!((index.n_dead, index.n_uncovered), (2, 2));

    // One flipped bit in the file: said, rebuilt, answered meanwhile.
    let mut r = r;
    for damage in ["flip", "truncate", "lose"] {
        r = r
            .restart_after(|data| {
                let file = std::fs::read_dir(data.join("indexes")).unwrap().next().unwrap().unwrap().path();
                let mut bytes = std::fs::read(&file).unwrap();
                match damage {
                    "flip" => {
                        let at = bytes.len() / 2;
                        bytes[at] ^= 16;
                        std::fs::write(&file, bytes).unwrap();
                    }
                    "truncate" => {
                        bytes.truncate(bytes.len() / 3);
                        std::fs::write(&file, bytes).unwrap();
                    }
                    _ => std::fs::remove_file(&file).unwrap(),
                }
            })
            .await;
        let found = r.client.search("logbook", &query).await.unwrap();
        assert_eq!(keys(&found)[0], keys(&before)[0], "{damage}: answers meanwhile");
        let job = r.client.jobs().await.unwrap().remove(0);
        let job = r.client.watch_job(job.id, |_| ()).await.unwrap();
        assert_eq!((job.kind.as_str(), job.state.as_str()), ("build", "done"));
        assert!(job.log[0].text.contains("rebuilding"), "{damage}: {:?}", job.log);
        let mended = r.client.search("logbook", &query).await.unwrap();
        assert_eq!(mended.via.index.as_deref(), Some("graph-1"));
    }
}

/// The service as a process of its own, which can be killed.
pub struct Process {
    child: Child,
    pub client: Client,
}

impl Drop for Process {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn start(database: &str, data: &Path) -> Process {
    start_with(Command::new(program("zesty-service")), database, data, |_| data.to_owned())
}

/// Starts the service by a command that takes its arguments; `seen` is where its data is seen from here, by its process.
pub fn start_with(
    mut command: Command,
    database: &str,
    data: &Path,
    seen: impl Fn(u32) -> PathBuf,
) -> Process {
    use std::io::BufRead;
    let mut child = command
        .args(["--listen", "127.0.0.1:0", "--data"])
        .arg(data)
        .env("ZESTY_DATABASE", database)
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let mut line = String::new();
    std::io::BufReader::new(child.stdout.as_mut().unwrap()).read_line(&mut line).unwrap();
    let url =
        line.trim().strip_prefix("listening on ").unwrap_or_else(|| panic!("not started: {line}")).to_owned();
    let key = std::fs::read_to_string(seen(child.id()).join("first-key")).unwrap();
    Process { child, client: Client::new(&url, &key) }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_acknowledged_before_a_kill_is_there_after_it() {
    let folder = tempfile::tempdir().unwrap();
    let database = tokio::task::spawn_blocking(zesty_local::scratch::database).await.unwrap();
    let mut process = start(&database, folder.path());
    let input = json!({"name": "points", "columns": [{"name": "place", "dimensions": 4, "metric": "dot"}]});
    process.client.create_collection(&input).await.unwrap();
    let batch = |b: usize| -> Vec<Value> {
        (0..50).map(|i| json!({"key": format!("{b}-{i}"), "vectors": {"place": [b, i, 1, 1]}})).collect()
    };
    // A writer that is cut off in the middle of its batches, and a build that never ends well.
    let client = process.client.clone();
    let (told, mut hear) = tokio::sync::mpsc::unbounded_channel();
    let writer = tokio::spawn(async move {
        let mut acknowledged = 0;
        while let Ok(written) = client.write("points", &batch(acknowledged)).await {
            assert_eq!(written.new, 50);
            acknowledged += 1;
            let _ = told.send(acknowledged);
        }
        acknowledged
    });
    while hear.recv().await.is_some_and(|n| n < 20) {}
    process
        .client
        .build_index("points", &json!({"name": "g", "recipe": "graph(links=128, build=2000)"}))
        .await
        .unwrap();
    process.child.kill().unwrap();
    process.child.wait().unwrap();
    let acknowledged = writer.await.unwrap();

    let process = start(&database, folder.path());
    let about = process.client.collection("points").await.unwrap();
    let batches = about.n_records / 50;
    assert_eq!(about.n_records % 50, 0, "a batch is there whole or not at all");
    // The batch under way may have been committed though nobody was told.
    assert!(batches == acknowledged || batches == acknowledged + 1, "{batches} of {acknowledged}");
    assert_eq!(about.revision as usize, batches);
    let last = json!({"vector": [acknowledged - 1, 49, 0, 0], "k": 1});
    let found = process.client.search("points", &last).await.unwrap();
    assert!(!found.hits.is_empty());
    // The build starts again by itself, and ends.
    let jobs = process.client.jobs().await.unwrap();
    let build = jobs.iter().find(|j| j.kind == "build").unwrap();
    let build = process.client.watch_job(build.id, |_| ()).await.unwrap();
    assert_eq!(build.state, "done");
    let left = jobs.iter().find(|j| j.state == "failed").unwrap();
    assert!(left.error.as_deref().unwrap().contains("service stopped"));
    let found = process.client.search("points", &json!({"vector": [1, 1, 1, 1], "k": 3})).await.unwrap();
    assert_eq!(found.via.index.as_deref(), Some("g"));
}

/// Starts a MariaDB that can be stopped and started again on the same port.
fn own_mariadb(folder: &std::path::Path) -> impl Fn() -> MariaDb + Clone + Send + 'static {
    let (folder, port) = (folder.join("mariadb"), zesty_local::mariadb::free_port().unwrap());
    move || MariaDb::start(&folder, Some(port), false).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn without_the_database_writes_are_refused_and_later_go_on() {
    let folder = tempfile::tempdir().unwrap();
    let start = own_mariadb(folder.path());
    let mut server = tokio::task::spawn_blocking(start.clone()).await.unwrap();
    let process = self::start(&server.url("zesty"), &folder.path().join("service"));
    let c = &process.client;
    let input = json!({"name": "points", "columns": [{"name": "place", "dimensions": 2, "metric": "dot"}]});
    c.create_collection(&input).await.unwrap();
    let point = |key: &str| json!({"key": key, "vectors": {"place": [1, 2]}});
    c.write("points", &[point("a")]).await.unwrap();

    tokio::task::spawn_blocking(move || server.stop()).await.unwrap();
    // Keys are believed for two seconds, then they too need the database: either way it is a 503.
    let p = refused(c.write("points", &[point("b")]).await);
    assert_eq!((p.status, p.word()), (503, "database-unavailable"), "{}", p.detail);

    let _server = tokio::task::spawn_blocking(start).await.unwrap();
    let written = c.write("points", &[point("b")]).await.unwrap();
    assert_eq!((written.new, written.revision), (1, 2));
    let found = c.search("points", &json!({"vector": [1, 2], "k": 5})).await.unwrap();
    assert_eq!(found.hits.len(), 2);
}

fn many_lines(folder: &std::path::Path, n: usize) -> PathBuf {
    let path = folder.join("many.jsonl");
    let text: String =
        (0..n).map(|i| format!("{{\"key\": \"k{i}\", \"n\": {i}, \"place\": [{i}, 1]}}\n")).collect();
    std::fs::write(&path, text).unwrap();
    path
}

fn numbered() -> Value {
    json!({"name": "points", "fields": {"properties": {"n": {"type": "integer"}}},
        "columns": [{"name": "place", "dimensions": 2, "metric": "dot"}]})
}

/// Waits until a job has read so many rows.
async fn read_at_least(client: &Client, job: i64, n: u64) {
    let (told, mut hear) = tokio::sync::mpsc::unbounded_channel();
    let watching = client.clone();
    tokio::spawn(async move {
        let seen = |j: &zesty_client::wire::Job| {
            let read = j.counts.as_ref().and_then(|c| c["read"].as_u64()).unwrap_or(0);
            let _ = told.send(read >= n || j.state != "running");
        };
        let _ = watching.watch_job(job, seen).await;
    });
    while hear.recv().await.is_some_and(|enough| !enough) {}
}

#[tokio::test(flavor = "multi_thread")]
async fn a_load_goes_on_after_the_service_was_killed() {
    let folder = tempfile::tempdir().unwrap();
    let database = tokio::task::spawn_blocking(zesty_local::scratch::database).await.unwrap();
    let data = folder.path().join("service");
    let mut process = start(&database, &data);
    process.client.create_collection(&numbered()).await.unwrap();
    let n = 150_000;
    let plan = LoadFiles {
        records: Some(many_lines(folder.path(), n)),
        options: options(json!({"batch": 200})),
        ..LoadFiles::default()
    };
    let (load, job) = start_load(&process.client, "points", &plan, &[], &mut |_| ()).await.unwrap();
    read_at_least(&process.client, job, 2000).await;
    process.child.kill().unwrap();
    process.child.wait().unwrap();

    let process = start(&database, &data);
    let left = process.client.loads("points").await.unwrap().remove(0);
    assert_eq!((left.id, left.state.as_str()), (load, "stopped"));
    assert!(left.error.unwrap().contains("the service stopped while this was running; resume it"));
    let held = process.client.collection("points").await.unwrap().n_records as u64;
    assert_eq!((left.read, left.new), (held, held), "what is committed is what the load says");
    assert!((2000..n as u64).contains(&held), "{held}");
    // As a person would: the command line, in another process.
    let resume = Command::new(program("zesty"))
        .args(["load", "points", "--resume", "--json"])
        .env("ZESTY_URL", process.client.url())
        .env("ZESTY_KEY", std::fs::read_to_string(data.join("first-key")).unwrap())
        .output();
    let resume = resume.unwrap();
    let done: Value = serde_json::from_slice(&resume.stdout)
        .unwrap_or_else(|_| panic!("{}", String::from_utf8_lossy(&resume.stderr)));
    assert_eq!(
        (done["read"].as_u64(), done["new"].as_u64(), done["unchanged"].as_u64()),
        (Some(n as u64), Some(n as u64), Some(0)),
        "no row was read twice: {done}"
    );
    assert_eq!(process.client.collection("points").await.unwrap().n_records, n);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_load_waits_for_a_database_that_went_away() {
    let folder = tempfile::tempdir().unwrap();
    let start = own_mariadb(folder.path());
    let mut server = tokio::task::spawn_blocking(start.clone()).await.unwrap();
    let process = self::start(&server.url("zesty"), &folder.path().join("service"));
    let c = &process.client;
    c.create_collection(&numbered()).await.unwrap();
    let n = 100_000;
    let plan = LoadFiles {
        records: Some(many_lines(folder.path(), n)),
        options: options(json!({"batch": 200})),
        ..LoadFiles::default()
    };
    let (load, job) = start_load(c, "points", &plan, &[], &mut |_| ()).await.unwrap();
    read_at_least(c, job, 1000).await;
    tokio::task::spawn_blocking(move || server.stop()).await.unwrap();
    let _server = tokio::task::spawn_blocking(start).await.unwrap();
    let done = follow_load(c, load, job, &mut |_| ()).await.unwrap();
    assert!(done.adds_up, "{done:?}");
    assert_eq!((done.read, done.new, done.in_database), (n as u64, n as u64, n as u64));
    assert_eq!(c.collection("points").await.unwrap().n_records, n, "the node saw every row, too");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_check_tells_what_would_stop_a_start() {
    let r = plain().await;
    let found = zesty_service::check(&config(&r.database, &r.data)).await;
    let of = |what: &str| found.iter().find(|(name, _)| *name == what).unwrap().1.clone();
    of("listen").unwrap();
    of("database").unwrap();
    let taken = of("data folder").unwrap_err();
    assert!(taken.contains("in use by"), "{taken}");
    let fresh = tempfile::tempdir().unwrap();
    let taken: std::net::SocketAddr = r.url.trim_start_matches("http://").parse().unwrap();
    let other = zesty_service::Config { listen: taken, ..config(&r.database, fresh.path()) };
    let found = zesty_service::check(&other).await;
    assert!(found[0].1.as_ref().is_err_and(|e| e.contains("cannot listen")), "{found:?}");
    found[1].1.as_ref().unwrap();
}
