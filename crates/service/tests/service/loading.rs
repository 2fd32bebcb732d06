//! Loads as people meet them: files of every kind through the service, what is wrong with them,
//! and what is left after a crash.

use crate::files::*;
use serde_json::{Value, json};
use std::io::Write;
use zesty_client::load::VectorFile;
use zesty_client::load::{LoadFiles, start_load};
use zesty_files::Layout;
use zesty_testing::*;

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
    // Vectors in a file of their own, and vectors alone.
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
        ("{\"key\": \"x\", \"day\": \"1931-02-30\"}", "\"1931-02-30\" is not one"),
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
        let error = load_refused(c, &with(file(folder.path(), "a.jsonl", text), json!({"batch": 7}))).await;
        assert!(error.contains("a.jsonl, line 31: ") && error.contains(said), "{error}");
        assert!(error.contains("mend the file and load it again"), "{error}");
        let held = c.collection("points").await.unwrap().n_records;
        assert_eq!(held, 30 * (i + 1), "what comes before {bad} is committed, what comes after is not");
    }
    // Ragged CSV, by its line.
    let error = load_refused(c, &of(file(folder.path(), "a.csv", "key,n\na,1\nb\nc,3\n"))).await;
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
    let error = load_refused(c, &of(path.clone())).await;
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
    let error = load_refused(c, &plan).await;
    assert!(error.contains("v.npy: has 4 rows, and a.jsonl has 5"), "{error}");
    let mut fortran = npy(4);
    let at = fortran.windows(5).position(|w| w == b"False").unwrap();
    fortran[at..at + 5].copy_from_slice(b"True ");
    plan.vectors[0].file = file(folder.path(), "f.npy", fortran);
    assert!(load_refused(c, &plan).await.contains("f.npy: is in Fortran order"));
    let cut = written(Layout::Parquet, &[record("a", json!({"n": 1}), None)], None);
    let error = load_refused(c, &of(file(folder.path(), "cut.parquet", &cut[..cut.len() - 20]))).await;
    assert!(
        error.contains("cut.parquet: is not a whole Parquet file") && error.contains("cut off"),
        "{error}"
    );
    assert!(load_refused(c, &of(folder.path().into())).await.contains("is a directory"));
    assert!(load_refused(c, &of("/nowhere.jsonl".into())).await.contains("/nowhere.jsonl"));
    // What unpacks to more than the service allows (4 MB here), whatever its own size.
    let mut bomb = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
    (0..200_000).for_each(|_| bomb.write_all(b"{\"key\": \"same\", \"n\": 1}\n").unwrap());
    let error = load_refused(c, &of(file(folder.path(), "bomb.jsonl.gz", bomb.finish().unwrap()))).await;
    assert!(error.contains("bomb.jsonl.gz") && error.contains("unpacks to more than the 4 MB"), "{error}");
    let about = c.collection("points").await.unwrap();
    assert!(about.n_records <= 1, "the bomb had one key");
    let missing = json!({"records": "0123456789abcdef"});
    let error = c.create_load("points", &missing).await.unwrap_err();
    assert_eq!(error.problem().unwrap().pointer.as_deref(), Some("/records"));
    r.stop().await;
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
    assert!(early.to_string().contains("has not arrived whole: 500 of"), "{early}");
    let (status, said) =
        r.send("PUT", &format!("{path}?offset=3"), "application/octet-stream", b"xyz".to_vec()).await;
    assert_eq!((status, &said["received"]), (409, &json!(500)), "it must continue where it is: {said}");
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
