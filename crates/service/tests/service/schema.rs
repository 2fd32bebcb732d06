//! Fields and columns changed under live records.

use crate::files::*;
use serde_json::{Value, json};
use zesty_testing::*;

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
    assert_eq!(Value::Object((*found.hits[0].fields).clone()), json!({"n": 3, "place": {"lat": 1.5}}));

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
    let used = c.drop_collection("ports").await.unwrap_err();
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
    let follows = async || {
        let about = other.client.collection("logbook").await.unwrap();
        about.n_records == 301 && about.columns.len() == 2 && about.columns[1].n_vectors == 301
    };
    eventually("the other node has the column and its vectors", follows).await;
    let about = other.client.collection("logbook").await.unwrap();
    assert_eq!(about.default_column.as_deref(), Some("second"));
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
