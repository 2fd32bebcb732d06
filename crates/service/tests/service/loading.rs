//! Loads as people meet them: files of every kind through the service, what is wrong with them,
//! and what is left after a crash.

use serde_json::{Value, json};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use zesty_client::load::VectorFile;
use zesty_client::load::{LoadError, LoadFiles, load_files, start_load};
use zesty_client::wire::LoadResult;
use zesty_client::{Client, Error};
use zesty_files::{Export, Layout, OutColumn, OutRecord};
use zesty_testing::*;

fn points() -> Value {
    json!({"name": "points", "fields": {"properties": {"n": {"type": "integer"}, "day": {"type": "string", "format": "date"},
        "place": {"type": "object", "properties": {"lat": {"type": "number"}}}}},
        "columns": [{"name": "v", "dimensions": 2, "metric": "euclidean"}]})
}

fn file(folder: &Path, name: &str, bytes: impl AsRef<[u8]>) -> PathBuf {
    let path = folder.join(name);
    std::fs::write(&path, bytes).unwrap();
    path
}

fn line(i: usize) -> String {
    format!("{{\"key\": \"k{i}\", \"n\": {i}, \"v\": [{i}, 1]}}\n")
}

fn npy(rows: usize) -> Vec<u8> {
    let column = OutColumn { name: "v".into(), dimensions: 2, encoder: None };
    let keys: Vec<String> = (0..rows).map(|i| format!("k{i}")).collect();
    let mut export = Export::new(Layout::Npy, vec![], vec![column], &keys).unwrap();
    let records: Vec<OutRecord> = (0..rows)
        .map(|i| OutRecord {
            key: keys[i].clone(),
            fields: Default::default(),
            vectors: vec![Some(vec![i as f32, 1.0])],
        })
        .collect();
    let mut out = export.write(&records).unwrap();
    out.extend(export.finish().unwrap());
    out
}

fn of(path: PathBuf) -> LoadFiles {
    LoadFiles { records: Some(path), ..LoadFiles::default() }
}

fn with(path: PathBuf, options: Value) -> LoadFiles {
    LoadFiles { options: zesty_testing::options(options), ..of(path) }
}

async fn load(client: &Client, plan: &LoadFiles) -> Result<LoadResult, LoadError> {
    load_files(client, "points", plan, |_| ()).await
}

async fn refused(client: &Client, plan: &LoadFiles) -> String {
    load(client, plan).await.unwrap_err().to_string()
}

fn counts(d: &LoadResult) -> [u64; 5] {
    assert!(d.adds_up, "{d:?}");
    [d.read, d.new, d.replaced, d.unchanged, d.rejected]
}

#[tokio::test(flavor = "multi_thread")]
async fn every_format_gives_the_same_collection() {
    let r = plain().await;
    let c = &r.client;
    let folder = tempfile::tempdir().unwrap();
    c.create_collection(&points()).await.unwrap();
    let text: String = (0..700).map(line).collect();
    let done = load(c, &with(file(folder.path(), "a.jsonl", &text), json!({"batch": 100}))).await.unwrap();
    assert_eq!(counts(&done), [700, 700, 0, 0, 0]);
    assert_eq!((done.before, done.in_database), (0, 700));
    // Exported in each format and loaded again, every record is as it was.
    for name in ["a.csv", "a.parquet", "a.arrow", "a.jsonl"] {
        let mut bytes = Vec::new();
        let query = [("format", Layout::of(name).name().to_owned()), ("vectors", "true".into())];
        let (n, _) = c
            .export("points", &query, |b| {
                bytes.extend_from_slice(b);
                Ok(())
            })
            .await
            .unwrap();
        assert_eq!(n, 700);
        let done = load(c, &of(file(folder.path(), name, bytes))).await.unwrap();
        assert_eq!(counts(&done), [700, 0, 0, 700, 0], "{name}");
    }
    // Vectors beside attributes, and vectors alone.
    let attributes: String = (0..700).map(|i| format!("{{\"key\": \"k{i}\", \"n\": {i}}}\n")).collect();
    let vectors = file(folder.path(), "v.npy", npy(700));
    let mut beside = of(file(folder.path(), "b.jsonl", attributes));
    beside.vectors = vec![vector_file(vectors.clone())];
    assert_eq!(counts(&load(c, &beside).await.unwrap()), [700, 0, 0, 700, 0]);
    let alone = LoadFiles {
        vectors: vec![VectorFile { column: Some("v".into()), ..vector_file(vectors) }],
        ..LoadFiles::default()
    };
    let done = load(c, &alone).await.unwrap();
    assert_eq!((counts(&done), done.in_database), ([700, 700, 0, 0, 0], 1400));
    // A column that came later takes vectors from a file; the records keep their fields and other vectors.
    c.add_column("points", &json!({"name": "later", "dimensions": 2})).await.unwrap();
    let keys: String = (0..700).map(|i| format!("k{i}\n")).collect();
    let later = VectorFile {
        column: Some("later".to_owned()),
        file: file(folder.path(), "l.npy", npy(700)),
        keys: Some(file(folder.path(), "keys.txt", keys)),
    };
    let done = load(c, &LoadFiles { vectors: vec![later], ..LoadFiles::default() }).await.unwrap();
    assert_eq!(counts(&done), [700, 0, 700, 0, 0]);
    let one = c.record("points", "k7", true).await.unwrap();
    assert_eq!(
        (&one.fields["n"], &json!(one.vectors)),
        (&json!(7), &json!({"v": [7.0, 1.0], "later": [7.0, 1.0]}))
    );
    assert!(c.files().await.unwrap().is_empty(), "what is loaded is not kept");
    r.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn of_one_key_twice_the_later_row_wins() {
    let r = plain().await;
    let c = &r.client;
    let folder = tempfile::tempdir().unwrap();
    c.create_collection(&points()).await.unwrap();
    let text = format!("{}{}{}", line(1), line(2), "{\"key\": \"k1\", \"n\": 99}\n");
    let done = load(c, &of(file(folder.path(), "a.jsonl", text))).await.unwrap();
    assert_eq!(counts(&done), [3, 2, 1, 0, 0]);
    assert_eq!(c.record("points", "k1", false).await.unwrap().fields["n"], 99);
    // The same file again: the last row changes nothing, the one before it was only passed through.
    let text = format!("{}{}", line(1), "{\"key\": \"k1\", \"n\": 99}\n");
    let done = load(c, &with(file(folder.path(), "b.jsonl", text), json!({"batch": 1}))).await.unwrap();
    assert_eq!(counts(&done), [2, 0, 2, 0, 0], "a batch for each row");
    r.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_row_names_itself_and_leaves_what_stands_before_it() {
    let r = plain().await;
    let c = &r.client;
    let folder = tempfile::tempdir().unwrap();
    c.create_collection(&points()).await.unwrap();
    let long = "k".repeat(191);
    for (i, (bad, said)) in [
        ("{\"key\": \"x\", \"n\": 1", "is not JSON"),
        ("{\"key\": \"x\", \"v\": [1, 2, 3]}", "has 3 dimensions, and the column takes 2"),
        ("{\"key\": \"x\", \"v\": [NaN, 2]}", "must be a finite number"),
        ("{\"key\": \"x\", \"v\": [1e39, 2]}", "must be a finite number"),
        (&format!("{{\"key\": \"{long}\"}}"), "the key has 191 bytes"),
        ("{\"key\": \"\"}", "the key is empty"),
        ("{\"key\": \"x\", \"day\": \"1931-02-30\"}", "\"1931-02-30\" is none"),
        ("{\"key\": \"x\", \"n\": 9223372036854775808}", "beyond 64 bits"),
        (
            "{\"key\": \"x\", \"place\": {\"lon\": 1}}",
            "unknown field \"place.lon\"; did you mean \"place.lat\"",
        ),
    ]
    .into_iter()
    .enumerate()
    {
        let text: String = (0..30).map(|n| line(100 * i + n)).collect::<String>() + bad + "\n" + &line(5000);
        let error = refused(c, &with(file(folder.path(), "a.jsonl", text), json!({"batch": 7}))).await;
        assert!(error.contains("a.jsonl, line 31: ") && error.contains(said), "{error}");
        assert!(error.contains("mend the file and load it again"), "{error}");
        let held = c.collection("points").await.unwrap().n_records;
        assert_eq!(held, 30 * (i + 1), "what stands before {bad} is committed, what stands after is not");
    }
    // Ragged CSV, by its line.
    let error = refused(c, &of(file(folder.path(), "a.csv", "key,n\na,1\nb\nc,3\n"))).await;
    assert!(error.contains("a.csv, line 3: has 1 cells, and there are 2 columns"), "{error}");
    r.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn one_broken_line_among_many_is_set_aside_mended_and_loaded() {
    let r = plain().await;
    let c = &r.client;
    let folder = tempfile::tempdir().unwrap();
    c.create_collection(&points()).await.unwrap();
    let mut text: String = (0..20_000).map(|i| format!("{{\"key\": \"k{i}\", \"n\": {i}}}\n")).collect();
    text += "{\"key\": \"broken\n{\"key\": \"odd\", \"n\": \"three\", \"v\": [0.1, 1]}\n";
    let path = file(folder.path(), "a.jsonl", text);
    let error = refused(c, &of(path.clone())).await;
    assert!(error.contains("line 20001: is not JSON"), "{error}");
    // The load that stopped goes on with wrong rows set aside; no row is read twice.
    let stopped = &c.loads("points").await.unwrap()[0];
    assert_eq!(
        (stopped.state.as_str(), stopped.read, stopped.files.as_slice()),
        ("stopped", 20_000, &["a.jsonl".to_owned()][..])
    );
    let started = c.resume_load("points", stopped.id, &json!({"bad_rows": "set-aside"})).await.unwrap();
    let done = zesty_client::load::follow_load(c, started.load, started.job.id, &mut |_| ()).await.unwrap();
    assert_eq!(counts(&done), [20_002, 20_000, 0, 0, 2]);
    let rejects = String::from_utf8(c.rejects("points", done.load).await.unwrap()).unwrap();
    let lines: Vec<Value> = rejects.lines().map(|l| serde_json::from_str(l).unwrap()).collect();
    assert_eq!(lines[0]["rejected"]["text"], "{\"key\": \"broken");
    assert_eq!((&lines[1]["key"], &lines[1]["rejected"]["line"]), (&json!("odd"), &json!(20_002)));
    assert!(lines[1]["rejected"]["reason"].as_str().unwrap().contains("takes an integer"));
    // Mended, the second line loads as it is.
    let mended = lines[1].to_string().replace("\"three\"", "3");
    assert_eq!(
        counts(&load(c, &of(file(folder.path(), "mended.jsonl", mended))).await.unwrap()),
        [1, 1, 0, 0, 0]
    );
    let odd = c.record("points", "odd", true).await.unwrap();
    assert_eq!(json!(odd.vectors)["v"], json!([0.1f32, 1.0]), "what is set aside keeps its vectors");
    let error = c.resume_load("points", done.load, &json!({})).await.unwrap_err().to_string();
    assert!(error.contains("is done"), "{error}");
    r.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_file_is_refused_before_a_record_is_written() {
    let r = plain().await;
    let c = &r.client;
    let folder = tempfile::tempdir().unwrap();
    c.create_collection(&points()).await.unwrap();
    let text = |n: usize| (0..n).map(|i| format!("{{\"key\": \"k{i}\"}}\n")).collect::<String>();
    let mut plan = of(file(folder.path(), "a.jsonl", text(5)));
    plan.vectors = vec![vector_file(file(folder.path(), "v.npy", npy(4)))];
    let error = refused(c, &plan).await;
    assert!(error.contains("v.npy: has 4 rows, and a.jsonl has 5"), "{error}");
    let mut fortran = npy(4);
    let at = fortran.windows(5).position(|w| w == b"False").unwrap();
    fortran[at..at + 5].copy_from_slice(b"True ");
    plan.vectors[0].file = file(folder.path(), "f.npy", fortran);
    assert!(refused(c, &plan).await.contains("f.npy: is in Fortran order"));
    let cut = written(Layout::Parquet, &[record("a", json!({"n": 1}), None)], None);
    let error = refused(c, &of(file(folder.path(), "cut.parquet", &cut[..cut.len() - 20]))).await;
    assert!(error.contains("cut.parquet: is no whole Parquet file") && error.contains("cut off"), "{error}");
    assert!(refused(c, &of(folder.path().into())).await.contains("is a directory"));
    assert!(refused(c, &of("/nowhere.jsonl".into())).await.contains("/nowhere.jsonl"));
    // What unpacks to more than the service allows (4 MB here), whatever its own size.
    let mut bomb = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
    (0..200_000).for_each(|_| bomb.write_all(b"{\"key\": \"same\", \"n\": 1}\n").unwrap());
    let error = refused(c, &of(file(folder.path(), "bomb.jsonl.gz", bomb.finish().unwrap()))).await;
    assert!(error.contains("bomb.jsonl.gz") && error.contains("unpacks to more than the 4 MB"), "{error}");
    let about = c.collection("points").await.unwrap();
    assert!(about.n_records <= 1, "the bomb had one key");
    let missing = json!({"records": "0123456789abcdef"});
    let error = c.create_load("points", &missing).await.unwrap_err();
    assert_eq!(error.problem().unwrap().pointer.as_deref(), Some("/records"));
    r.stop().await;
}

fn record(key: &str, fields: Value, vector: Option<Vec<f32>>) -> OutRecord {
    let Value::Object(fields) = fields else { panic!("fields are an object") };
    OutRecord { key: key.into(), fields, vectors: vec![vector] }
}

fn written(layout: Layout, records: &[OutRecord], encoder: Option<&str>) -> Vec<u8> {
    let column = OutColumn { name: "v".into(), dimensions: 2, encoder: encoder.map(Into::into) };
    let mut export = Export::new(layout, vec![("n".into(), "integer".into())], vec![column], &[]).unwrap();
    let mut out = export.write(records).unwrap();
    out.extend(export.finish().unwrap());
    out
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upload_that_breaks_off_goes_on_and_one_that_changes_is_refused() {
    let r = plain().await;
    let c = &r.client;
    let folder = tempfile::tempdir().unwrap();
    c.create_collection(&points()).await.unwrap();
    let text: String = (0..100).map(line).collect();
    let upload = c.announce_file("a.jsonl", Some(text.len() as u64)).await.unwrap();
    let path = format!("/api/files/{}/content", upload.id);
    let (status, said) =
        r.send("PUT", &path, "application/octet-stream", text.as_bytes()[..500].to_vec()).await;
    assert_eq!((status, &said["received"], &said["complete"]), (200, &json!(500), &json!(false)), "{said}");
    let early = c.create_load("points", &json!({"records": upload.id})).await.unwrap_err();
    assert!(early.to_string().contains("is not all here: 500 of"), "{early}");
    let (status, said) =
        r.send("PUT", &format!("{path}?offset=3"), "application/octet-stream", b"xyz".to_vec()).await;
    assert_eq!((status, &said["received"]), (409, &json!(500)), "it must go on where it stands: {said}");
    // The client finds what it had begun to send.
    let plan = of(file(folder.path(), "a.jsonl", &text));
    let begun = c.files().await.unwrap();
    let mut first = None;
    let (load, job) = start_load(c, "points", &plan, &begun, &mut |p| {
        if let zesty_client::load::Progress::Sending(_, sent, _) = p {
            first.get_or_insert(sent);
        }
    })
    .await
    .unwrap();
    assert!(first.unwrap() >= 500);
    let done = zesty_client::load::follow_load(c, load, job, &mut |_| ()).await.unwrap();
    assert_eq!(counts(&done), [100, 100, 0, 0, 0]);

    // A file that has more than it was announced with, or less.
    let upload = c.announce_file("b.jsonl", Some(10)).await.unwrap();
    let more = c.send_content(&upload.id, 0, reqwest::Body::from("more than ten bytes")).await.unwrap_err();
    assert!(more.to_string().contains("it grew while it was sent"), "{more}");
    let upload = c.announce_file("b.jsonl", Some(10)).await.unwrap();
    let less = c.send_content(&upload.id, 0, reqwest::Body::from("less")).await.unwrap_err();
    assert!(less.to_string().contains("it shrank while it was sent"), "{less}");
    // A file that is written to while the client reads it.
    let growing = file(folder.path(), "growing.jsonl", line(1).repeat(100_000));
    let writing = growing.clone();
    let mut once = Some(());
    let plan = of(growing);
    let grew = start_load(c, "points", &plan, &[], &mut |_| {
        if once.take().is_some() {
            let mut file = std::fs::File::options().append(true).open(&writing).unwrap();
            file.write_all(line(2).as_bytes()).unwrap();
        }
    })
    .await;
    let grew = grew.unwrap_err().to_string();
    assert!(grew.contains("growing.jsonl") && grew.contains("changed while it was read"), "{grew}");
    for id in ["../../etc/passwd", "zz"] {
        assert_eq!(c.remove_file(id).await.unwrap_err().problem().unwrap().status, 404);
    }
    r.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_load_that_was_cut_short_goes_on_without_a_row_twice() {
    let r = plain().await;
    let folder = tempfile::tempdir().unwrap();
    r.client.create_collection(&points()).await.unwrap();
    // Every tenth row is wrong: rejects are reconciled across the break, too.
    let n = 60_000;
    let text: String = (0..n)
        .map(|i| {
            if i % 10 == 3 {
                format!("{{\"key\": \"k{i}\", \"n\": \"x\"}}\n")
            } else {
                format!("{{\"key\": \"k{i}\", \"n\": {i}}}\n")
            }
        })
        .collect();
    let plan = with(file(folder.path(), "a.jsonl", text), json!({"bad_rows": "set-aside", "batch": 500}));
    let (load, job) = start_load(&r.client, "points", &plan, &[], &mut |_| ()).await.unwrap();
    // Cancelled once some of it is committed.
    let mut asked = false;
    let client = r.client.clone();
    let cancelled = r
        .client
        .watch_job(job, |j| {
            if !asked && j.counts.as_ref().is_some_and(|c| c["read"].as_u64() >= Some(1000)) {
                asked = true;
                let client = client.clone();
                tokio::spawn(async move { client.cancel_job(job).await });
            }
        })
        .await
        .unwrap();
    let state = r.client.loads("points").await.unwrap().remove(0);
    if cancelled.state == "cancelled" {
        assert_eq!((state.state.as_str(), state.id), ("cancelled", load));
        assert!(state.read >= 1000 && state.read < n, "{}", state.read);
        assert_eq!(state.read, state.new + state.rejected);
    }
    // The node restarts, and the load goes on.
    let r = r.restart().await;
    if cancelled.state == "cancelled" {
        let started = r.client.resume_load("points", load, &json!({})).await.unwrap();
        let done =
            zesty_client::load::follow_load(&r.client, load, started.job.id, &mut |_| ()).await.unwrap();
        assert_eq!(counts(&done), [n, n * 9 / 10, 0, 0, n / 10]);
    }
    let rejects = r.client.rejects("points", load).await.unwrap();
    assert_eq!(rejects.iter().filter(|b| **b == b'\n').count() as u64, n / 10);
    assert_eq!(r.client.collection("points").await.unwrap().n_records as u64, n * 9 / 10);
    r.stop().await;
}

/// An encoder that is down for a while, then refuses texts that say so.
async fn moody(failures: usize) -> (String, Arc<AtomicUsize>) {
    use axum::routing::{get, post};
    let asked = Arc::new(AtomicUsize::new(0));
    let counted = asked.clone();
    let infer = move |axum::Json(request): axum::Json<Value>| async move {
        if counted.fetch_add(1, Ordering::SeqCst) < failures {
            return Err((axum::http::StatusCode::SERVICE_UNAVAILABLE, "busy"));
        }
        let texts = request["inputs"][0]["data"].as_array().unwrap().clone();
        if texts.iter().any(|t| t.as_str().unwrap().contains("unspeakable")) {
            return Err((axum::http::StatusCode::BAD_REQUEST, "I do not read this"));
        }
        let data: Vec<f32> = texts.iter().flat_map(|t| [t.as_str().unwrap().len() as f32, 1.0]).collect();
        Ok(axum::Json(
            json!({"outputs": [{"name": "v", "datatype": "FP32", "shape": [texts.len(), 2], "data": data}]}),
        ))
    };
    let about = || async {
        axum::Json(json!({"name": "m", "inputs": [{"name": "text", "datatype": "BYTES", "shape": [-1]}],
            "outputs": [{"name": "v", "datatype": "FP32", "shape": [-1, 2]}]}))
    };
    let router =
        axum::Router::new().route("/v2/models/m", get(about)).route("/v2/models/m/infer", post(infer));
    (serve(router).await, asked)
}

#[tokio::test(flavor = "multi_thread")]
async fn what_the_encoder_drops_is_tried_again_and_what_it_refuses_is_kept_with_its_reason() {
    let r = plain().await;
    let c = &r.client;
    let folder = tempfile::tempdir().unwrap();
    let (url, asked) = moody(2).await;
    c.put_encoder("moody", &url, "m").await.unwrap();
    let input = json!({"name": "points", "fields": {"properties": {"note": {"type": "string"}}},
        "columns": [{"name": "v", "encoder": "moody", "template": "{note}"}]});
    c.create_collection(&input).await.unwrap();
    let text: String = (0..300)
        .map(|i| match i {
            7 | 250 => format!("{{\"key\": \"k{i}\", \"note\": \"unspeakable {i}\"}}\n"),
            9 => format!("{{\"key\": \"k{i}\"}}\n"),
            _ => format!("{{\"key\": \"k{i}\", \"note\": \"fog {i}\"}}\n"),
        })
        .collect();
    let done = load(c, &of(file(folder.path(), "a.jsonl", text))).await.unwrap();
    assert_eq!((counts(&done), done.unencoded), ([300, 300, 0, 0, 0], 2));
    assert!(asked.load(Ordering::SeqCst) > 3, "busy twice, then halved down to the refused ones");
    let about = c.collection("points").await.unwrap();
    assert_eq!((about.n_records, about.columns[0].n_vectors), (300, 297));
    let left = c.unencoded("points", "v", 10).await.unwrap();
    assert_eq!(left.n_without_vector, 3);
    assert_eq!(left.records.iter().map(|u| u.key.as_str()).collect::<Vec<_>>(), ["k7", "k250"]);
    assert!(
        left.records[0].reason.contains("answered 400 Bad Request: I do not read this"),
        "{}",
        left.records[0].reason
    );
    // Once its text is another, a record is encoded, and the reason is gone.
    c.patch_record("points", "k7", &json!({"fields": {"note": "calm"}})).await.unwrap();
    let left = c.unencoded("points", "v", 10).await.unwrap();
    assert_eq!((left.n_without_vector, left.records.len()), (2, 1));
    r.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn models_are_changed_without_downtime() {
    let r = with_encoder().await;
    let c = &r.client;
    r.logbook(2000).await;
    let index = c.build_index("logbook", &json!({"recipe": "graph", "name": "old"})).await.unwrap();
    c.watch_job(index.id, |_| ()).await.unwrap();
    let text = json!({"text": "gale at the shutters", "k": 5});
    let before = c.search("logbook", &text).await.unwrap();
    let key = before.hits[0].key.clone();
    let etag = c.record("logbook", &key, false).await.unwrap().revision;

    // Add, with a record that has no text; fill.
    c.write("logbook", &[json!({"key": "mute", "fields": {"year": 1950}})]).await.unwrap();
    let other =
        if c.collection("logbook").await.unwrap().columns[0].encoder.as_deref() == Some("lampwright-small") {
            "lampwright-large"
        } else {
            "lampwright-small"
        };
    let column = json!({"name": "second", "encoder": other, "template": "{note}"});
    let about = c.add_column("logbook", &column).await.unwrap();
    assert_eq!((about.columns.len(), about.columns[1].n_vectors), (2, 0));
    let empty = c.search("logbook", &json!({"text": "gale", "column": "second"})).await.unwrap();
    assert!(empty.hits.is_empty());
    let job = c.backfill("logbook", "second").await.unwrap();
    let job = c.watch_job(job.id, |_| ()).await.unwrap();
    assert_eq!(job.result.unwrap(), json!({"filled": 2000, "unencoded": 0, "without_text": 1}));
    assert_eq!(c.record("logbook", &key, false).await.unwrap().revision, etag, "records are as they were");
    // Compare: the old column answers as before, from its index, which still covers everything.
    let again = c.search("logbook", &text).await.unwrap();
    assert_eq!(keys(&again), keys(&before));
    let old = &c.indexes("logbook").await.unwrap()[0];
    assert_eq!((old.n_uncovered, old.n_dead, old.serving), (0, 0, true));
    let second = c
        .search("logbook", &json!({"text": "gale at the shutters", "k": 5, "column": "second"}))
        .await
        .unwrap();
    assert_eq!(second.hits.len(), 5);

    // The new column keeps its vectors over a restart.
    let r = r.restart().await;
    let c = &r.client;
    let restarted = c
        .search("logbook", &json!({"text": "gale at the shutters", "k": 5, "column": "second"}))
        .await
        .unwrap();
    assert_eq!(keys(&restarted), keys(&second));

    // Switch, then drop the old one with its index.
    let refused = c.drop_column("logbook", &before.via.column).await.unwrap_err();
    assert!(refused.to_string().contains("choose another default column first"), "{refused}");
    let about = c.patch_collection("logbook", &json!({"default_column": "second"})).await.unwrap();
    assert_eq!(about.default_column.as_deref(), Some("second"));
    assert_eq!(keys(&c.search("logbook", &text).await.unwrap()), keys(&second));
    let about = c.drop_column("logbook", &before.via.column).await.unwrap();
    assert_eq!((about.columns.len(), about.indexes.len()), (1, 0));
    let refused = c.drop_column("logbook", "second").await.unwrap_err();
    assert!(refused.to_string().contains("the only vector column"), "{refused}");
    r.stop().await;
}

fn keys(found: &zesty_client::wire::SearchAnswer) -> Vec<String> {
    found.hits.iter().map(|h| h.key.clone()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn vectors_of_another_encoder_are_refused_wherever_they_are_said_to_be() {
    let r = plain().await;
    let c = &r.client;
    let folder = tempfile::tempdir().unwrap();
    let (url, _) = moody(0).await;
    c.put_encoder("moody", &url, "m").await.unwrap();
    let mut input = points();
    input["columns"] = json!([{"name": "v", "encoder": "moody"}]);
    c.create_collection(&input).await.unwrap();
    let said = |e: Error| (e.problem().unwrap().word().to_owned(), e.to_string());
    let (word, text) =
        said(c.search("points", &json!({"vector": [1, 2], "encoder": "other"})).await.unwrap_err());
    assert_eq!(word, "wrong-encoder");
    assert!(
        text.contains("holds vectors of encoder \"moody\", and these are said to come from \"other\""),
        "{text}"
    );
    let batch = json!({"records": [{"key": "a", "vectors": {"v": [1, 2]}}], "encoder": "other"});
    let (status, problem) = r
        .send("POST", "/api/collections/points/records", "application/json", batch.to_string().into_bytes())
        .await;
    assert_eq!((status, &problem["pointer"]), (422, &json!("/encoder")), "{problem}");
    let lines = file(folder.path(), "a.jsonl", line(1));
    assert!(
        refused(c, &with(lines.clone(), json!({"encoder": "other"})))
            .await
            .contains("said to come from \"other\"")
    );
    // A file that says so itself is believed.
    let one = [record("k1", json!({"n": 1}), Some(vec![1.0, 2.0]))];
    let parquet = |encoder| file(folder.path(), "a.parquet", written(Layout::Parquet, &one, Some(encoder)));
    assert!(refused(c, &of(parquet("other"))).await.contains("said to come from \"other\""));
    assert_eq!(counts(&load(c, &of(parquet("moody"))).await.unwrap()), [1, 1, 0, 0, 0]);
    assert_eq!(counts(&load(c, &with(lines, json!({"encoder": "moody"}))).await.unwrap())[0], 1);
    r.stop().await;
}

fn refused_word<T: std::fmt::Debug>(result: Result<T, Error>) -> String {
    zesty_testing::refused(result).word().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn fields_are_added_described_and_widened_under_live_records() {
    let r = plain().await;
    let c = &r.client;
    c.create_collection(&points()).await.unwrap();
    c.create_collection(&json!({"name": "ports", "columns": [{"name": "v", "dimensions": 2}]}))
        .await
        .unwrap();
    c.write("ports", &[json!({"key": "Tolla"})]).await.unwrap();
    let body = |i: i64| json!({"key": format!("k{i}"), "fields": {"n": i, "day": "1931-10-04", "place": {"lat": 1.5}}, "vectors": {"v": [i, 1]}});
    c.write("points", &(0..50).map(body).collect::<Vec<_>>()).await.unwrap();
    let matched = async |filter: &str| {
        c.delete_records("points", &json!({"filter": filter, "dry_run": true})).await.map(|d| d.matched)
    };
    assert_eq!(matched("place.lat = 1.5 AND n < 10").await.unwrap(), 10);
    let mut fields = c.collection("points").await.unwrap().fields;
    let properties = fields["properties"].as_object_mut().unwrap();
    properties["n"] = json!({"type": "number", "description": "how many"});
    properties["day"] = json!({"type": "string"});
    properties.insert("port".into(), json!({"type": "string", "refersTo": "ports"}));
    properties.insert("log".into(), json!({"type": "string", "storedOnly": true}));
    let about = c
        .patch_collection("points", &json!({"fields": fields, "description": "now described"}))
        .await
        .unwrap();
    assert_eq!((about.n_records, about.description.as_str()), (50, "now described"));
    assert_eq!(about.fields["properties"]["place"]["properties"]["lat"]["type"], "number");
    let write = json!({"key": "new", "fields": {"n": 0.5, "day": "some day", "port": "Tolla", "log": "x"}});
    c.write("points", &[write, json!({"key": "lost", "fields": {"port": "Atlantis"}})]).await.unwrap();
    assert_eq!(matched("n > 0.25 AND n < 1").await.unwrap(), 1);
    assert_eq!(
        matched("day LIKE '1931%'").await.unwrap(),
        50,
        "dates became text, and stayed what they were"
    );
    assert_eq!(matched("log IS NOT NULL AND port = 'Tolla'").await.unwrap(), 1);
    assert!(matched("log = 'x'").await.unwrap_err().to_string().contains("stored only"));
    let counted = c.fields("points", None, 3).await.unwrap();
    let port = counted.fields.iter().find(|f| f.name == "port").unwrap();
    assert_eq!((port.refers_to.as_deref(), port.n_lost_references), (Some("ports"), Some(1)));
    let found =
        c.search("points", &json!({"vector": [3, 1], "k": 1, "fields": ["place.lat", "n"]})).await.unwrap();
    assert_eq!(Value::Object(found.hits[0].fields.clone()), json!({"n": 3, "place": {"lat": 1.5}}));

    // Merge patch reaches into objects.
    c.patch_record("points", "k1", &json!({"fields": {"place": {"lat": 7}}})).await.unwrap();
    assert_eq!(matched("place.lat = 7").await.unwrap(), 1);
    c.patch_record("points", "k1", &json!({"fields": {"place": {"lat": null}, "n": null}})).await.unwrap();
    assert_eq!(c.record("points", "k1", false).await.unwrap().fields["place"], json!({}));

    // And many at once: counted first, changed, and found unchanged the second time.
    let mut many = json!({"filter": "n >= 10 AND n < 30", "patch": {"fields": {"place": {"lat": 9}, "log": "seen"}}, "dry_run": true});
    let dry = c.patch_records("points", &many).await.unwrap();
    assert_eq!((dry.matched, dry.changed, matched("place.lat = 9").await.unwrap()), (20, 0, 0));
    many["dry_run"] = json!(false);
    many["expected"] = json!(19);
    assert_eq!(refused_word(c.patch_records("points", &many).await), "edit-conflict");
    many["expected"] = json!(20);
    let done = c.patch_records("points", &many).await.unwrap();
    assert_eq!(
        (done.changed, done.unchanged, matched("place.lat = 9 AND log IS NOT NULL").await.unwrap()),
        (20, 0, 20)
    );
    assert_eq!(c.patch_records("points", &many).await.unwrap().unchanged, 20);
    let vector = c.record("points", "k12", true).await.unwrap();
    assert_eq!(json!(vector.vectors)["v"], json!([12.0, 1.0]), "vectors stay");
    let wrong = json!({"keys": ["k1", "nobody"], "patch": {"fields": {"n": "x"}}});
    assert_eq!(refused_word(c.patch_records("points", &wrong).await), "wrong-field");

    // What would lose or misread values is refused, with its place.
    let now = c.collection("points").await.unwrap().fields;
    let mut without = now.clone();
    without["properties"].as_object_mut().unwrap().shift_remove("port");
    let mut narrowed = now.clone();
    narrowed["properties"]["n"] = json!({"type": "integer"});
    let mut nowhere = now.clone();
    nowhere["properties"]["ship"] = json!({"type": "string", "refersTo": "ships"});
    for (fields, pointer) in [
        (without, "/fields/properties/port"),
        (narrowed, "/fields/properties/n/type"),
        (nowhere, "/fields/properties/ship/refersTo"),
    ] {
        let error = c.patch_collection("points", &json!({"fields": fields})).await.unwrap_err();
        assert_eq!(error.problem().unwrap().pointer.as_deref(), Some(pointer), "{error}");
    }
    let used = c.delete_collection("ports").await.unwrap_err();
    assert!(used.to_string().contains("field \"port\" of \"points\" refers to \"ports\""), "{used}");

    // All of it is there after a restart.
    let r = r.restart().await;
    assert_eq!(r.client.collection("points").await.unwrap().fields, now);
    let counted =
        r.client.delete_records("points", &json!({"filter": "n = 0.5", "dry_run": true})).await.unwrap();
    assert_eq!(counted.matched, 1);
    r.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn records_are_browsed_in_any_order_and_their_costs_add_up() {
    let r = plain().await;
    let c = &r.client;
    c.create_collection(&points()).await.unwrap();
    let body = |i: i64| json!({"key": format!("k{i:03}"), "fields": if i % 7 == 0 { json!({}) } else { json!({"n": (i * 37) % 50}) }, "vectors": {"v": [i, 1]}});
    c.write("points", &(0..100).map(body).collect::<Vec<_>>()).await.unwrap();
    let (mut all, mut after) = (Vec::new(), None);
    loop {
        let page =
            c.records("points", after.as_deref(), 9, Some("n IS NULL OR n >= 10"), Some("-n")).await.unwrap();
        all.extend(page.records);
        after = page.next;
        if after.is_none() {
            break;
        }
    }
    let values: Vec<Option<i64>> = all.iter().map(|r| r.fields.get("n").and_then(Value::as_i64)).collect();
    let present: Vec<i64> = values.iter().flatten().copied().collect();
    assert!(present.is_sorted_by(|a, b| a >= b) && present.iter().all(|n| *n >= 10), "{present:?}");
    assert_eq!(values.iter().filter(|v| v.is_none()).count(), 15);
    assert!(values[present.len()..].iter().all(Option::is_none), "missing values come last");
    let wrong = c.records("points", None, 5, None, Some("m")).await.unwrap_err();
    assert_eq!(wrong.problem().unwrap().pointer.as_deref(), Some("/sort"));
    assert!(
        c.records("points", Some("k1"), 5, None, Some("n"))
            .await
            .unwrap_err()
            .to_string()
            .contains("with the same sort")
    );

    let job = c.build_index("points", &json!({"recipe": "graph"})).await.unwrap();
    c.watch_job(job.id, |_| ()).await.unwrap();
    c.write("points", &[body(1000)]).await.unwrap();
    let costs = c.costs("points").await.unwrap();
    let part = |part: &str| costs.parts.iter().find(|p| p.part == part).unwrap();
    assert_eq!((part("records").n, part("vectors").n, part("vectors").database), (101, 101, 101 * 8));
    assert!(part("index").disk > 0 && costs.written_at.is_some());
    assert!((part("index").coverage.unwrap() - 100.0 / 101.0).abs() < 1e-9);
    assert_eq!(costs.memory, costs.parts.iter().map(|p| p.memory).sum::<u64>());
    r.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn another_node_follows_new_shapes_and_later_vectors() {
    let r = with_encoder().await;
    r.logbook(300).await;
    let other = r.second_node().await;
    assert_eq!(other.client.collection("logbook").await.unwrap().columns.len(), 1);
    let column = json!({"name": "second", "encoder": "lampwright-large", "template": "{note}"});
    r.client.add_column("logbook", &column).await.unwrap();
    let mut fields = r.client.collection("logbook").await.unwrap().fields;
    fields["properties"]["tide"] = json!({"type": "number"});
    r.client
        .patch_collection("logbook", &json!({"fields": fields, "default_column": "second"}))
        .await
        .unwrap();
    let job = r.client.backfill("logbook", "second").await.unwrap();
    r.client.watch_job(job.id, |_| ()).await.unwrap();
    r.client
        .write("logbook", &[json!({"key": "new", "fields": {"tide": 1.5, "note": "spring tide"}})])
        .await
        .unwrap();
    // The other node looks once a second.
    let mut looks = 0;
    loop {
        let about = other.client.collection("logbook").await.unwrap();
        if about.n_records == 301 && about.columns.len() == 2 && about.columns[1].n_vectors == 301 {
            assert_eq!(about.default_column.as_deref(), Some("second"));
            break;
        }
        looks += 1;
        assert!(looks < 20_000, "it never followed: {about:?}");
    }
    let query = json!({"text": "high water over the rocks", "k": 8, "filter": "tide IS NULL"});
    let (a, b) = (
        r.client.search("logbook", &query).await.unwrap(),
        other.client.search("logbook", &query).await.unwrap(),
    );
    assert_eq!(keys(&a), keys(&b));
    // And writes to both ways of seeing it.
    other
        .client
        .write("logbook", &[json!({"key": "other", "fields": {"tide": 2, "note": "neap tide"}})])
        .await
        .unwrap();
    other.stop().await;
    r.stop().await;
}
