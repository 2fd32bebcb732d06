//! Indexes built, served, measured and kept current.

use crate::points::{point, two_dimensional};
use serde_json::{Value, json};
use zesty_testing::*;

#[tokio::test(flavor = "multi_thread")]
async fn a_sweep_measures_recall_that_grows_with_the_beam_and_a_choice_is_served() {
    let r = with_encoder().await;
    r.logbook(2000).await;
    r.build("logbook", "small", "graph(links=4, build=20)").await;
    let input = json!({"indexes": ["small"], "k": [10], "beams": [10, 40, 200], "rounds": 2});
    let job = r.client.run_sweep("logbook", &input).await.unwrap();
    let job = r.client.watch_job(job.id, |_| ()).await.unwrap();
    assert_eq!(job.state, "done", "{:?}", job.error);
    let n = r.client.query_set("logbook", "sampled").await.unwrap().n_queries;
    assert_eq!(job.total, n * 2 * 3);
    let sweep = r.client.sweeps("logbook").await.unwrap().remove(0);
    assert_eq!(job.result.unwrap()["sweep"], sweep.id);
    let points: Vec<_> = sweep.result.points.iter().map(|p| p.figures.clone()).collect();
    assert!(points.windows(2).all(|p| p[0].recall_ties_mean <= p[1].recall_ties_mean + 0.005));
    assert!(points[2].recall_ties_mean > 0.95, "{}", points[2].recall_ties_mean);
    for p in points {
        assert!(p.recall_min <= p.recall_p5 && p.recall_p5 <= 1.0 && p.p50_us <= p.p99_us);
        assert_eq!(p.histogram.iter().sum::<usize>(), n);
    }
    let served = r
        .client
        .set_serving("logbook", "meaning", Some(&choice("small", json!({"beam": 200}))))
        .await
        .unwrap();
    assert_eq!(served.columns[0].serving.as_ref().unwrap().settings.beam, Some(200));
    let found = r.client.search("logbook", &json!({"text": "fog"})).await.unwrap();
    assert_eq!(found.via.settings.unwrap().beam, Some(200));
    r.client.drop_index("logbook", "small").await.unwrap();
    let found = r.client.search("logbook", &json!({"text": "fog"})).await.unwrap();
    assert!(found.via.exact, "without its index the column is scanned");
}

#[tokio::test(flavor = "multi_thread")]
async fn builds_can_be_cancelled_and_leave_nothing_and_survive_writes_meanwhile() {
    let r = plain().await;
    let c = &r.client;
    c.create_collection(&two_dimensional("points")).await.unwrap();
    let records = |from: usize, n: usize| -> Vec<Value> {
        (from..from + n)
            .map(|i| {
                point(&format!("k{i}"), i as i64, (i as f64).sin() * 50.0, (i as f64 * 0.7).cos() * 50.0)
            })
            .collect()
    };
    for from in (0..40_000).step_by(10_000) {
        c.write("points", &records(from, 10_000)).await.unwrap();
    }
    // Wide enough to run for a while.
    let job = c
        .build_index("points", &json!({"name": "wide", "recipe": "graph(links=64, build=800)"}))
        .await
        .unwrap();
    let p = refused(c.search("points", &json!({"vector": [0, 0], "index": "wide"})).await);
    assert_eq!(p.word(), "not-ready");
    c.cancel_job(job.id).await.unwrap();
    assert_eq!(c.watch_job(job.id, |_| ()).await.unwrap().state, "cancelled");
    assert!(c.indexes("points").await.unwrap().is_empty());
    assert_eq!(std::fs::read_dir(r.data.join("indexes")).unwrap().count(), 0);

    let job =
        c.build_index("points", &json!({"name": "g", "recipe": "graph(links=8, build=40)"})).await.unwrap();
    c.write("points", &[point("k7", -7, 0.001, 0.0), point("new", -1, 0.0, 0.001)]).await.unwrap();
    c.delete_record("points", "k8").await.unwrap();
    assert_eq!(c.watch_job(job.id, |_| ()).await.unwrap().state, "done");
    let found = c.search("points", &json!({"vector": [0, 0], "k": 2, "index": "g"})).await.unwrap();
    let mut keys: Vec<_> = found.hits.iter().map(|h| h.key.as_str()).collect();
    keys.sort();
    assert_eq!(keys, ["k7", "new"]);
    let eight = json!({"vector": [8f64.sin() * 50.0, (8.0f64 * 0.7).cos() * 50.0], "k": 1, "index": "g"});
    assert_ne!(c.search("points", &eight).await.unwrap().hits[0].key, "k8");
}

#[tokio::test(flavor = "multi_thread")]
async fn composite_recipes_are_built_served_and_come_back() {
    let r = with_encoder().await;
    r.logbook(4000).await;
    let c = &r.client;
    r.build("logbook", "small", "graph(links=12, build=80) | int8 | rescore(f32)").await;
    r.build("logbook", "tiny", "graph(links=12, build=80) | int8").await;
    r.build("logbook", "cells", "center | cells(50) | pq(24) | rescore(f16)").await;
    r.build("logbook", "beside", "graph(links=12, build=80, inline_codes=on) | bits | rescore(f32)").await;
    r.build("logbook", "spilled", "cells(80, overlap=on) | bits | rescore(f32)").await;
    let all = c.indexes("logbook").await.unwrap();
    assert_eq!(all[0].recipe, "graph(links=12, build=80) | int8 | rescore(f32)");
    assert_eq!((all[0].n_bytes_vectors, all[1].n_bytes_vectors), (4000 * (96 * 5 + 4), 4000 * (96 + 4)));
    let text = "the siren moaned through thick mist";
    let exact = c.search("logbook", &json!({"text": text, "exact": true})).await.unwrap();
    let used = [
        ("small", "beam 100, rescore 5"),
        ("tiny", "beam 100"),
        ("cells", "visit 40, rescore 5"),
        ("beside", "beam 100, rescore 5"),
        ("spilled", "visit 40, rescore 5"),
    ];
    for (index, used) in used {
        let query =
            json!({"text": text, "index": index, "settings": {"beam": 100, "visit": 40, "rescore": 5}});
        let found = c.search("logbook", &query).await.unwrap();
        assert_eq!(found.via.index.as_deref(), Some(index));
        assert_eq!(found.via.settings.as_ref().unwrap().to_string(), used);
        let idle = found.notices.iter().find(|n| n.code == "unused-setting").unwrap();
        assert!(idle.text.contains("does not use"), "{}", idle.text);
        let same = found.hits.iter().filter(|h| exact.hits.iter().any(|e| e.key == h.key));
        assert!(same.count() >= 9, "{index}");
        // What is shown are distances of the vectors, whatever the codes say.
        for hit in &found.hits {
            let shown = exact.hits.iter().find(|e| e.key == hit.key).map_or(hit.distance, |e| e.distance);
            assert!((shown - hit.distance).abs() < 1e-5, "{index}: {} {shown}", hit.distance);
        }
        let rare = json!({"text": text, "index": index, "filter": "kind = 'rescue'", "k": 7});
        assert_eq!(c.search("logbook", &rare).await.unwrap().hits.len(), 7);
    }
    for (recipe, part) in [
        ("graph | int8 | rescore(int8)", "not finer than the store"),
        ("graph | pq(7)", "use pq(6) or pq(8)"),
        ("cells(5000)", "use cells(64)"),
        ("graph | rescore(f32)", "not finer than the store"),
        ("int8 | graph", "write graph | int8"),
    ] {
        let p = refused(c.build_index("logbook", &json!({"recipe": recipe})).await);
        assert!(p.word() == "invalid-recipe" && p.detail.contains(part), "{recipe}: {}", p.detail);
    }
    // What a search does not say is as it is served.
    c.set_serving("logbook", "meaning", Some(&choice("small", json!({"beam": 33})))).await.unwrap();
    let found = c.search("logbook", &json!({"text": text, "settings": {"rescore": 7}})).await.unwrap();
    assert_eq!(found.via.settings.unwrap().to_string(), "beam 33, rescore 7");
    assert!(found.notices.iter().all(|n| n.code != "unused-setting"));
    let p = refused(c.run_sweep("logbook", &json!({"indexes": ["cells"], "beams": [10]})).await);
    assert!(p.detail.contains("tuned by visits"), "{}", p.detail);
    let job = c.run_sweep("logbook", &json!({"indexes": ["cells"], "visits": [2, 40]})).await.unwrap();
    r.finish(job.id).await;
    let points = &c.sweeps("logbook").await.unwrap()[0].result.points;
    assert_eq!(points[1].settings.to_string(), "visit 40, rescore 3");
    assert!(points[1].figures.recall_mean > points[0].figures.recall_mean.max(0.8));
    let cells = c.indexes("logbook").await.unwrap().into_iter().find(|i| i.name == "cells").unwrap();
    assert!(cells.measured.is_some_and(|m| m.recall_mean >= 0.8), "the list shows what was measured");
    let wrong = json!({"text": text, "settings": {"beam": 10, "rescore": 0}});
    assert_eq!(refused(c.search("logbook", &wrong).await).pointer.as_deref(), Some("/settings/rescore"));
    let r = r.restart().await;
    let query = json!({"text": text, "index": "small", "settings": {"beam": 100}});
    let found = r.client.search("logbook", &query).await.unwrap();
    assert_eq!(found.hits[0].key, exact.hits[0].key);
    assert!(
        r.client.jobs().await.unwrap().iter().filter(|j| j.kind == "build").count() == 5,
        "nothing is rebuilt"
    );
    r.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn recipes_are_explained_chosen_and_kept_within_memory() {
    let r = with_encoder().await;
    r.logbook(4000).await;
    let c = &r.client;
    let text = "center | cells(50, router=graph) | pq(24) | rescore(f16)";
    let explained = c.explain_recipe(&json!({"recipe": text, "collection": "logbook"})).await.unwrap();
    assert_eq!((explained.recipe.as_str(), explained.rows, explained.dimensions), (text, 4000, 96));
    assert_eq!(
        explained.stages.iter().map(|s| s.stage.as_str()).collect::<Vec<_>>(),
        text.split(" | ").collect::<Vec<_>>()
    );
    assert!(explained.notices[0].contains("9,984 rows would do"), "{:?}", explained.notices);
    // The JSON form comes back, and means the same.
    let form = explained.form.clone();
    let again = c.explain_recipe(&json!({"recipe": form, "rows": 4000, "dimensions": 96})).await.unwrap();
    assert_eq!((again.recipe, again.expected.file_bytes), (explained.recipe, explained.expected.file_bytes));
    let p = refused(
        c.explain_recipe(&json!({"recipe": "graph | rescore(f16", "rows": 5, "dimensions": 4})).await,
    );
    assert_eq!(
        (p.word(), p.pointer.as_deref(), p.rest["at"]["start"].as_u64()),
        ("invalid-recipe", Some("/recipe"), Some(19))
    );
    let p = refused(c.explain_recipe(&json!({"recipe": "graph"})).await);
    assert_eq!(p.pointer.as_deref(), Some("/rows"));

    let job = c.build_index("logbook", &json!({"recipe": "auto"})).await.unwrap();
    let job = r.finish(job.id).await;
    assert!(job.log.iter().any(|l| l.text.contains("chose scan: 4,000 rows are 1.5 MB")), "{:?}", job.log);
    let form = json!({"route": {"cells": {"count": 20}}, "store": "int8"});
    let job = c.build_index("logbook", &json!({"recipe": form})).await.unwrap();
    r.finish(job.id).await;
    let built = c.indexes("logbook").await.unwrap().pop().unwrap();
    assert_eq!((built.name.as_str(), built.recipe.as_str()), ("cells-int8-1", "cells(20) | int8"));
    let expected = built.expected.unwrap().file_bytes as f64;
    assert!((expected / (built.n_bytes_vectors + built.n_bytes_structure) as f64 - 1.0).abs() < 0.05);
    r.stop().await;

    let r = with_memory(3).await;
    r.logbook(2000).await;
    let p = refused(
        r.client.build_index("logbook", &json!({"recipe": "graph(links=64) | int8 | rescore(f32)"})).await,
    );
    assert_eq!((p.word(), p.pointer.as_deref()), ("over-memory-budget", Some("/recipe")));
    assert!(p.detail.contains("the budget is 3 MB") && p.detail.contains("MB for a copy"), "{}", p.detail);
    r.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn indexes_take_in_what_is_written_after_them() {
    let r = plain().await;
    let input =
        json!({"name": "points", "columns": [{"name": "v", "dimensions": 40, "metric": "euclidean"}]});
    r.client.create_collection(&input).await.unwrap();
    let record = |i: usize| {
        let vector: Vec<f64> = (0..40).map(|d| (((i * 37 + d * 101) % 997) as f64 * 0.37).sin()).collect();
        json!({"key": format!("p{i}"), "fields": {}, "vectors": {"v": vector}})
    };
    let write = async |range: std::ops::Range<usize>| {
        let records: Vec<Value> = range.map(record).collect();
        r.client.write("points", &records).await.unwrap();
    };
    write(0..900).await;
    r.build("points", "walk", "graph(links=8, build=40)").await;
    r.build("points", "codes", "cells(16) | bits | rescore(f32)").await;
    let view = async |name: &str| {
        r.client.indexes("points").await.unwrap().into_iter().find(|i| i.name == name).unwrap()
    };

    // A few writes are not in the index until somebody asks.
    write(900..950).await;
    let keys: Vec<String> = (0..30).map(|i| format!("p{i}")).collect();
    r.client.delete_records("points", &json!({"keys": keys})).await.unwrap();
    let before = view("walk").await;
    assert_eq!((before.n_rows, before.n_uncovered, before.n_dead), (900, 50, 30));
    let job = r.client.absorb("points", "walk").await.unwrap();
    let job = r.finish(job.id).await;
    assert_eq!(job.kind, "absorb");
    assert!(job.log.iter().any(|l| l.text.contains("870 rows stay, 50 come, 30 go")), "{:?}", job.log);
    let after = view("walk").await;
    assert_eq!((after.n_rows, after.n_uncovered, after.n_dead), (920, 0, 0));
    assert_eq!(after.build_seconds, before.build_seconds, "what a build takes stays known");
    let nearest = async |index: &str, i: usize| {
        let query = json!({"examples": format!("p{i}"), "include_self": true, "k": 3, "index": index});
        r.client.search("points", &query).await.unwrap()
    };
    for i in [31, 899, 949] {
        for index in ["walk", "codes"] {
            let found = nearest(index, i).await;
            assert_eq!(found.hits[0].key, format!("p{i}"), "{index}");
        }
    }
    assert_eq!(nearest("walk", 949).await.via.plan.unindexed, 0);

    // Many are taken in without being asked; and an index most of which died is built again.
    write(950..1500).await;
    let absorbed = async || {
        let (walk, codes) = (view("walk").await, view("codes").await);
        (walk.n_rows, walk.n_uncovered, codes.n_rows, codes.n_dead) == (1470, 0, 1470, 0)
    };
    eventually("both indexes have absorbed what was written", absorbed).await;
    let keys: Vec<String> = (30..1200).map(|i| format!("p{i}")).collect();
    r.client.delete_records("points", &json!({"keys": keys})).await.unwrap();
    let shrunk = async || view("walk").await.n_rows == 300 && view("codes").await.n_rows == 300;
    eventually("both indexes hold what is left", shrunk).await;
    let jobs = r.client.jobs().await.unwrap();
    let last = jobs.iter().find(|j| j.kind == "absorb" && j.subject == "walk").unwrap();
    let log = r.client.job(last.id).await.unwrap().log;
    assert!(log.iter().any(|l| l.text.contains("built again from all rows")), "{log:?}");
    assert_eq!(nearest("walk", 1499).await.hits[0].key, "p1499");
    let r = r.restart().await;
    let all = r.client.indexes("points").await.unwrap();
    assert!(all.iter().all(|i| i.state == "ready" && i.n_rows == 300), "the files are the last ones");
    r.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_index_is_put_out_of_memory_and_taken_in_again() {
    let r = with_encoder().await;
    r.logbook(1500).await;
    let c = &r.client;
    r.build("logbook", "served", "graph(links=8, build=60)").await;
    r.build("logbook", "other", "graph(links=8, build=60) | int8").await;
    c.set_serving("logbook", "meaning", Some(&choice("served", json!({"beam": 50})))).await.unwrap();
    let named = async |c: &zesty_client::Client| {
        c.search("logbook", &json!({"text": "fog bell", "index": "other"})).await
    };
    let keys =
        |found: &zesty_wire::SearchAnswer| found.hits.iter().map(|h| h.key.clone()).collect::<Vec<_>>();
    let before = keys(&named(c).await.unwrap());
    let node = r.second_node().await;
    eventually("the other node builds its copy", async || named(&node.client).await.is_ok()).await;
    let problem = refused(c.unload_index("logbook", "served").await);
    assert!(problem.status == 409 && problem.detail.contains("is the serving choice"), "{}", problem.detail);
    assert_eq!(c.unload_index("logbook", "other").await.unwrap().state, "unloaded");
    let problem = refused(named(c).await);
    assert!(
        problem.word() == "not-ready" && problem.detail.contains("`zesty index load`"),
        "{}",
        problem.detail
    );
    eventually("the other node unloads it", async || named(&node.client).await.is_err()).await;
    let unloaded = choice("other", json!({"beam": 50}));
    assert_eq!(refused(c.set_serving("logbook", "meaning", Some(&unloaded)).await).word(), "not-ready");
    node.stop().await;

    let r = r.restart().await;
    assert_eq!(refused(named(&r.client).await).word(), "not-ready");
    assert_eq!(r.client.load_index("logbook", "other").await.unwrap().state, "ready");
    assert_eq!(keys(&named(&r.client).await.unwrap()), before);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_least_used_index_makes_room_within_the_budget() {
    let r = with_memory(8).await;
    r.logbook(2000).await;
    let c = &r.client;
    let recipe = "graph(links=32, build=40) | int8 | rescore(f32)";
    r.build("logbook", "served", recipe).await;
    c.set_serving("logbook", "meaning", Some(&choice("served", json!({"beam": 50})))).await.unwrap();
    r.build("logbook", "idle", recipe).await;
    r.build("logbook", "used", recipe).await;
    let state = async |name: &str| {
        let all = c.indexes("logbook").await.unwrap();
        all.into_iter().find(|i| i.name == name).map(|i| i.state)
    };
    for n in 0..20 {
        c.search("logbook", &json!({"text": "fog", "index": "used"})).await.unwrap();
        r.build("logbook", &format!("more-{n}"), recipe).await;
        if state("idle").await.as_deref() == Some("unloaded") {
            break;
        }
    }
    assert_eq!(state("idle").await.as_deref(), Some("unloaded"), "nobody named it");
    for name in ["served", "used"] {
        assert_eq!(state(name).await.as_deref(), Some("ready"), "{name}");
    }
    let problem = refused(c.search("logbook", &json!({"text": "fog", "index": "idle"})).await);
    assert!(problem.detail.contains("to keep within the memory budget"), "{}", problem.detail);
    // Another one goes for it.
    assert_eq!(c.load_index("logbook", "idle").await.unwrap().state, "ready");
    c.search("logbook", &json!({"text": "fog", "index": "idle"})).await.unwrap();
}
