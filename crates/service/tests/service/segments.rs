//! A node's own copy: it starts from it, answers from it while the database is away, and makes it again when it is not
//! what it should be.

use serde_json::{Value, json};
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use zesty_local::mariadb::MariaDb;
use zesty_testing::*;

fn keepers() -> Value {
    json!({"name": "keepers", "fields": {"properties": {"name": {"type": "string"}}}, "columns": []})
}

fn lamps() -> Value {
    json!({"name": "lamps", "fields": {"properties": {"n": {"type": "integer"}, "kind": {"type": "string"},
        "keeper": {"type": "string", "refersTo": "keepers"}, "note": {"type": "string", "storedOnly": true}}},
        "columns": [{"name": "v", "dimensions": 4, "metric": "cosine"}]})
}

/// A vector that is as short as no other, so that what was given differs from what is searched.
fn vector(i: usize) -> Vec<f32> {
    (0..4).map(|d| ((i * 37 + d * 101) % 97) as f32 + 0.125 * i as f32 + 1.0).collect()
}

fn lamp(i: usize) -> Value {
    json!({"key": format!("l{i}"), "vectors": {"v": vector(i)},
        "fields": {"n": i, "kind": format!("kind {}", i % 3), "keeper": "ada", "note": format!("lamp {i}")}})
}

async fn fill(r: &Running, n: usize) {
    r.client.create_collection(&keepers()).await.unwrap();
    r.client.write("keepers", &[json!({"key": "ada", "fields": {"name": "Ada"}})]).await.unwrap();
    r.client.create_collection(&lamps()).await.unwrap();
    let all: Vec<Value> = (0..n).map(lamp).collect();
    for some in all.chunks(1000) {
        r.client.write("lamps", some).await.unwrap();
    }
}

fn files(data: &Path) -> Vec<PathBuf> {
    let folders = fs::read_dir(data.join("segments")).into_iter().flatten().flatten();
    let mut files: Vec<PathBuf> = folders
        .flat_map(|f| fs::read_dir(f.path()).into_iter().flatten().flatten())
        .map(|e| e.path())
        .filter(|p| p.extension().is_some_and(|e| e == "safetensors"))
        .collect();
    files.sort_by_key(|p| fs::metadata(p).unwrap().len());
    files
}

/// Everything that reads, in one answer.
async fn all_reads(r: &Running) -> Value {
    let query = json!({"vector": vector(7), "k": 5, "filter": "kind = 'kind 1'", "vectors": ["v"], "follow": ["keeper"]});
    let more = json!({"examples": "l9", "k": 3});
    let search = async |query: &Value| {
        let found = r.client.search("lamps", query).await.unwrap();
        json!(found.hits)
    };
    let get = async |path: &str| {
        let (status, body) = r.send("GET", &format!("/api/collections/lamps{path}"), "", "").await;
        assert_eq!(status, 200, "{path}: {body}");
        body
    };
    let mut fields = get("/fields").await;
    // What they take in memory depends on how they came there.
    for field in fields["fields"].as_array_mut().unwrap() {
        field.as_object_mut().unwrap().remove("n_bytes");
    }
    json!([
        search(&query).await,
        search(&more).await,
        get("/records?limit=3&sort=-n&filter=n%20%3C%2050").await,
        get("/records/l11?vectors=true").await,
        fields,
        get("/export?filter=n%20%3C%204&vectors=true").await,
        r.client.collection("lamps").await.unwrap().n_records,
    ])
}

#[tokio::test(flavor = "multi_thread")]
async fn a_start_from_segments_gives_what_was_there_and_follows_what_came_after() {
    let r = plain().await;
    fill(&r, 3000).await;
    r.build("lamps", "g", "graph(links=8, build=60)").await;
    r.client.patch_record("lamps", "l11", &json!({"fields": {"kind": "kind 9"}})).await.unwrap();
    r.client.delete_record("lamps", "l12").await.unwrap();
    let index = r.client.indexes("lamps").await.unwrap().remove(0);
    assert_eq!((index.n_dead, index.n_uncovered), (1, 0), "an edit of a field leaves the index alone");
    let before = all_reads(&r).await;
    let r = r.restart().await;
    assert!(!files(&r.data).is_empty());
    assert!(all_reads(&r).await == before);
    let costs = r.client.costs("lamps").await.unwrap();
    // A few short vectors fill no chunk that could stay in the file.
    assert!(costs.parts[0].mapped > 0 && costs.disk > 0, "{:?}", costs.parts);
    // Written by another node while this one was away.
    let other = r.second_node().await;
    let (database, data) = (r.database.clone(), r.data.clone());
    let folder = r.stop().await;
    other.client.write("lamps", &[lamp(5000)]).await.unwrap();
    other.client.delete_record("lamps", "l13").await.unwrap();
    let expected = all_reads(&other).await;
    let r = launch_as(config(&database, &data), folder, String::new()).await;
    assert!(all_reads(&r).await == expected);
    let index = r.client.indexes("lamps").await.unwrap().remove(0);
    assert_eq!((index.n_dead, index.n_uncovered), (2, 1), "nothing was rebuilt");
}

#[tokio::test(flavor = "multi_thread")]
async fn damaged_lost_and_exchanged_segments_are_made_again() {
    let mut r = plain().await;
    fill(&r, 2000).await;
    let expected = all_reads(&r).await;
    for damage in ["header", "cut", "lose", "list", "exchange", "everything"] {
        r = r
            .restart_after(|data| {
                let all = files(data);
                let (small, large) = (&all[0], all.last().unwrap());
                let bytes = fs::read(large).unwrap();
                match damage {
                    "header" => {
                        fs::write(large, [&bytes[..40], &[bytes[40] ^ 4], &bytes[41..]].concat()).unwrap()
                    }
                    "cut" => fs::write(large, &bytes[..bytes.len() / 2]).unwrap(),
                    "lose" => fs::remove_file(large).unwrap(),
                    "list" => fs::write(large.with_file_name("segments.json"), b"{}").unwrap(),
                    "exchange" => drop(fs::copy(small, large).unwrap()),
                    _ => fs::remove_dir_all(data.join("segments")).unwrap(),
                }
            })
            .await;
        assert!(all_reads(&r).await == expected, "{damage}");
    }
    // A flipped bit in vectors or bodies is found after the start, and the copy made again.
    for at in [4096, -400] {
        r = r
            .restart_after(|data| {
                let large = files(data).pop().unwrap();
                let mut bytes = fs::read(&large).unwrap();
                let at = if at < 0 { (bytes.len() as i64 + at) as usize } else { at as usize };
                bytes[at] ^= 1;
                fs::write(&large, bytes).unwrap();
            })
            .await;
        let is_right = async || all_reads_or_none(&r).await.is_some_and(|all| all == expected);
        eventually("the copy that is made again", is_right).await;
    }
}

/// What is read, unless the copy is being made again.
async fn all_reads_or_none(r: &Running) -> Option<Value> {
    let query = json!({"vector": vector(7), "k": 5});
    r.client.search("lamps", &query).await.ok()?;
    let (status, _) = r.send("GET", "/api/collections/lamps/export?vectors=true", "", "").await;
    if status != 200 {
        return None;
    }
    let futures = all_reads(r);
    Some(futures.await)
}

#[tokio::test(flavor = "multi_thread")]
async fn without_the_database_everything_is_read_on_and_says_so() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("mariadb");
    let port = zesty_local::mariadb::free_port().unwrap();
    let start = move || MariaDb::start(&path, Some(port), false).unwrap();
    let mut server = tokio::task::spawn_blocking(start.clone()).await.unwrap();
    let data = folder.path().join("service");
    let encoder = encoder().await;
    let r = launch_as(config(&server.url("zesty"), &data), None, encoder.clone()).await;
    fill(&r, 500).await;
    r.client.put_encoder("lampwright-small", &encoder, "lampwright-small").await.unwrap();
    r.logbook(300).await;
    let text = json!({"text": "thick fog", "k": 3});
    let told = r.client.search("logbook", &text).await.unwrap();
    let expected = all_reads(&r).await;
    tokio::task::spawn_blocking(move || server.stop()).await.unwrap();
    let says_so = async || {
        let found = r.client.search("lamps", &json!({"vector": vector(7)})).await.unwrap();
        found.notices.iter().any(|n| n.code == "copy-may-be-old")
    };
    eventually("the notice", says_so).await;
    assert!(all_reads(&r).await == expected);
    let found = r.client.search("logbook", &text).await.unwrap();
    assert_eq!(json!(found.hits), json!(told.hits));
    let request = r.client.request("GET".parse().unwrap(), "/api/collections/lamps/records");
    assert!(request.send().await.unwrap().headers().contains_key("age"));
    assert_eq!(refused(r.client.write("lamps", &[lamp(1)]).await).status, 503);
    let _server = tokio::task::spawn_blocking(start).await.unwrap();
    eventually("the end of the notice", async || !says_so().await).await;
    r.client.write("lamps", &[lamp(501)]).await.unwrap();
    assert_eq!(r.client.collection("lamps").await.unwrap().n_records, 501);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_that_cannot_be_written_is_said_and_loses_nothing() {
    let r = plain().await;
    fs::write(r.data.join("segments"), b"a file lies where the folder would be").unwrap();
    fill(&r, 800).await;
    let expected = all_reads(&r).await;
    let says_so = async || r.client.collection("lamps").await.unwrap().trouble.is_some();
    eventually("the trouble", says_so).await;
    assert!(all_reads(&r).await == expected);
    r.client.write("lamps", &[lamp(800)]).await.unwrap();
    fs::remove_file(r.data.join("segments")).unwrap();
    eventually("the end of the trouble", async || !says_so().await).await;
    let r = r.restart().await;
    assert_eq!(r.client.collection("lamps").await.unwrap().n_records, 801);
    // Owned by root, a folder without permissions is written to all the same; for others it is not.
    fs::set_permissions(r.data.join("segments"), fs::Permissions::from_mode(0o700)).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn an_older_database_makes_a_node_drop_what_it_has_beyond_it() {
    let r = plain().await;
    fill(&r, 300).await;
    let url = r.database.clone();
    // As a backup that is restored under a running node would: the last revision never happened.
    r.client.write("lamps", &[lamp(300), lamp(301)]).await.unwrap();
    assert_eq!(r.client.collection("lamps").await.unwrap().n_records, 302);
    let back = "UPDATE collections SET revision = revision - 1 WHERE name = 'lamps'; \
                DELETE FROM records WHERE `key` IN ('l300', 'l301');";
    tokio::task::spawn_blocking(move || zesty_local::scratch::run(&url, back).unwrap()).await.unwrap();
    let dropped = async || r.client.collection("lamps").await.unwrap().n_records == 300;
    eventually("the older state", dropped).await;
    let r = r.restart().await;
    assert_eq!(r.client.collection("lamps").await.unwrap().n_records, 300);
}
