//! Query sets, exact answers, sweeps, targets, and searches for a recall.

use serde_json::{Value, json};
use std::time::Duration;
use zesty_testing::*;
use zesty_wire::{KeptAnswers, QuerySet};

async fn made(r: &Running, input: Value) -> QuerySet {
    let job = r.client.make_query_set("logbook", &input).await.unwrap();
    r.finish(job.id).await;
    r.client.query_set("logbook", input["name"].as_str().unwrap()).await.unwrap()
}

async fn swept(r: &Running, input: Value) -> zesty_wire::Sweep {
    let job = r.finish(r.client.run_sweep("logbook", &input).await.unwrap().id).await;
    let id = job.result.unwrap()["sweep"].as_i64().unwrap();
    r.client.show_sweep("logbook", id).await.unwrap()
}

async fn solved(r: &Running, input: Value) -> zesty_wire::Target {
    let job = r.finish(r.client.solve_target("logbook", &input).await.unwrap().id).await;
    let id = job.result.unwrap()["target"].as_i64().unwrap();
    r.client.show_target("logbook", id).await.unwrap()
}

fn answers(set: &QuerySet) -> &KeptAnswers {
    set.answers.as_ref().expect("a set has its answers")
}

#[tokio::test(flavor = "multi_thread")]
async fn query_sets_are_kept_with_their_answers_and_go_stale_and_away() {
    let r = with_encoder().await;
    r.logbook(1600).await;
    let c = &r.client;
    let sampled = made(&r, json!({"name": "a", "kind": "sampled", "queries": 50, "seed": 3})).await;
    let blended = made(&r, json!({"name": "b", "kind": "blended", "queries": 50, "of": 4})).await;
    let jittered = made(&r, json!({"name": "c", "kind": "jittered", "queries": 50, "noise": 0.2})).await;
    let hard = |s: &QuerySet| s.difficulty.as_ref().unwrap().queries.distance_10.unwrap();
    assert!(hard(&blended) > hard(&sampled) && hard(&jittered) < hard(&blended));
    assert!(sampled.difficulty.as_ref().unwrap().queries.intrinsic.unwrap() > 1.0);
    assert!(!answers(&sampled).stale && answers(&sampled).k == 100);
    assert!(answers(&sampled).n_rows < 1600 && answers(&blended).n_rows == 1600);
    // The same seed draws the same queries, of which each is a record.
    let again = made(&r, json!({"name": "d", "kind": "sampled", "queries": 50, "seed": 3})).await;
    let page = async |name: &str| c.queries("logbook", name, 10, 5).await.unwrap();
    let (first, second) = (page("a").await, page("d").await);
    assert_eq!((first.next, again.n_queries), (Some(15), 50));
    assert_eq!(json!(first.queries), json!(second.queries));
    assert!(first.queries.iter().all(|q| q.record.is_some()));
    // A change of the collection makes answers stale; they are computed again when they are asked for.
    c.write("logbook", &[json!({"key": "new", "fields": {"note": "fog"}})]).await.unwrap();
    assert!(answers(&c.query_set("logbook", "a").await.unwrap()).stale);
    r.finish(c.answer_query_set("logbook", "a", 120).await.unwrap().id).await;
    let now = c.query_set("logbook", "a").await.unwrap();
    assert!(!answers(&now).stale && answers(&now).k == 120);
    let p = refused(c.make_query_set("logbook", &json!({"name": "a", "kind": "sampled"})).await);
    assert_eq!((p.word(), p.pointer.as_deref()), ("name-taken", Some("/name")));
    c.delete_query_set("logbook", "a").await.unwrap();
    let p = refused(c.query_set("logbook", "a").await);
    assert!(p.word() == "unknown-name", "{}", p.detail);
    // Sets outlive a restart, and go with their column.
    let r = r.restart().await;
    assert_eq!(r.client.query_sets("logbook").await.unwrap().len(), 3);
    let nothing = json!({"name": "n", "kind": "blended", "queries": 5, "filter": "severity > 99"});
    let job = r.client.make_query_set("logbook", &nothing).await.unwrap();
    let job = r.client.watch_job(job.id, |_| ()).await.unwrap();
    assert!(job.error.unwrap().contains("allows no record"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_row_refuses_an_upload_and_nothing_of_it_is_kept() {
    let r = with_encoder().await;
    r.logbook(300).await;
    let c = &r.client;
    let folder = tempfile::tempdir().unwrap();
    for (name, text, part) in [
        ("a.jsonl", "{\"text\": \"fog\"}\n{\"text\": 7}\n", "line 2 has a text that is 7"),
        ("b.jsonl", "{\"text\": \"fog\"}\n{\"key\": \"x\"}\n", "line 2 has neither a vector nor a text"),
        ("c.jsonl", "{\"vector\": [1, 2, 3]}\n", "line 1 has 3 dimensions"),
        ("d.jsonl", "{\"text\": \"fog\", \"filter\": \"colour = 1\"}\n", "line 1 has a filter"),
        ("e.csv", "text,relevant\nfog,\"{\"\"k\"\": -1}\"\n", "a grade is above 0"),
    ] {
        let path = folder.path().join(name);
        std::fs::write(&path, text).unwrap();
        let upload =
            zesty_client::load::send_file(c, &path, name, None, &mut |_| ()).await.map_err(|e| e.to_string());
        let input = json!({"name": "q", "kind": "uploaded", "file": upload.unwrap().id});
        let p = refused(c.make_query_set("logbook", &input).await);
        assert!(p.detail.contains(part), "{name}: {}", p.detail);
        assert!(c.query_sets("logbook").await.unwrap().is_empty());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn several_indexes_are_swept_at_once_on_several_sets_with_recipes_built_for_it() {
    let r = with_encoder().await;
    r.logbook(1600).await;
    r.build("logbook", "graph", "graph(links=4, build=20)").await;
    r.build("logbook", "cells", "cells(16) | int8 | rescore(f32)").await;
    made(&r, json!({"name": "far", "kind": "blended", "queries": 60})).await;
    let input = json!({"indexes": ["graph", "cells"], "recipes": ["scan | int8"], "query_sets": ["far"], "k": [5, 10],
        "beams": [10, 80], "visits": [2], "clients": [1, 2], "rounds": 2});
    let sweep = swept(&r, input).await;
    let result = &sweep.result;
    assert_eq!(result.points.len(), (2 + 1 + 1) * 2 * 2);
    assert_eq!(result.indexes.len(), 3);
    assert!(result.indexes.iter().all(|i| i.n_bytes_memory > 0 && i.n_bytes_file > 0));
    assert_eq!(result.query_sets[0].n_queries, 60);
    for p in &result.points {
        let f = &p.figures;
        assert!(f.recall_interval.low <= f.recall_mean && f.recall_mean <= f.recall_interval.high);
        assert!(f.histogram.len() == p.k + 1 && f.histogram.iter().sum::<usize>() == 60);
        assert!(p.rounds.len() == 2 && f.gap_mean >= 0.0 && p.worst.len() <= 20);
    }
    let of = |index: &str, k: usize| {
        let mut all = result.points.iter().filter(|p| p.index == index && p.k == k && p.clients == 1);
        (all.next().unwrap().figures.recall_mean, all.next().map(|p| p.figures.recall_mean))
    };
    assert!(of("graph", 10).0 < of("graph", 10).1.unwrap());
    let scan = result.indexes.iter().find(|i| i.recipe == "scan | int8").unwrap();
    assert!(of(&scan.name, 10).0 > 0.9);
    let left: Vec<String> = r.client.indexes("logbook").await.unwrap().into_iter().map(|i| i.name).collect();
    assert_eq!(left, ["graph", "cells"], "what was built for the sweep is dropped");
    // The same again says the same, and a write makes it stale.
    let again = swept(&r, json!(sweep.spec)).await;
    let recalls = |s: &zesty_wire::Sweep| -> Vec<(f64, Vec<usize>)> {
        let of = s.result.points.iter().filter(|p| p.index != scan.name);
        of.map(|p| (p.figures.recall_mean, p.figures.histogram.clone())).collect()
    };
    assert_eq!(recalls(&again), recalls(&sweep));
    r.client.write("logbook", &[json!({"key": "new", "fields": {"note": "fog"}})]).await.unwrap();
    assert!(r.client.show_sweep("logbook", sweep.id).await.unwrap().stale);
    r.client.delete_sweep("logbook", sweep.id).await.unwrap();
    assert_eq!(refused(r.client.show_sweep("logbook", sweep.id).await).word(), "unknown-name");
    let p =
        refused(r.client.run_sweep("logbook", &json!({"indexes": ["graph"], "query_sets": ["near"]})).await);
    assert_eq!((p.word(), p.pointer.as_deref()), ("unknown-name", Some("/query_sets/0")));
    let most = json!({"indexes": ["graph"], "query_sets": ["far"], "k": [1000]});
    r.finish(r.client.run_sweep("logbook", &most).await.unwrap().id).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_target_is_solved_verified_served_and_asked_for_by_searches() {
    let r = with_encoder().await;
    r.logbook(2500).await;
    let c = &r.client;
    r.build("logbook", "graph", "graph(links=4, build=20)").await;
    made(&r, json!({"name": "far", "kind": "blended", "queries": 200})).await;
    let text = json!({"text": "fog at night", "index": "graph", "recall": 0.8});
    let before = c.search("logbook", &text).await.unwrap();
    assert!(before.via.target.is_none() && before.notices.iter().any(|n| n.code == "recall-not-measured"));
    let input = json!({"index": "graph", "recall": 0.8, "query_sets": ["far"], "serve": true});
    let target = solved(&r, input).await;
    let result = &target.result;
    assert!(result.reached && result.served && result.achieved.recall_mean >= 0.8, "{:?}", result.achieved);
    assert_eq!(result.achieved.histogram.iter().sum::<usize>(), 100, "half of the queries verify");
    assert!(result.tried.iter().any(|t| t.settings == result.settings));
    let serving = c.collection("logbook").await.unwrap().columns[0].serving.clone().unwrap();
    assert_eq!(serving.settings, result.settings);
    let found = c.search("logbook", &text).await.unwrap();
    let via = found.via.target.as_ref().unwrap();
    assert_eq!((via.id, via.recall, via.stale), (target.id, 0.8, false));
    assert_eq!(found.via.settings, Some(result.settings));
    let more = json!({"text": "fog", "index": "graph", "recall": 0.99});
    assert!(c.search("logbook", &more).await.unwrap().via.target.is_none(), "0.8 does not promise 0.99");
    let filtered = json!({"text": "fog", "recall": 0.8, "filter": "severity >= 2"});
    let found = c.search("logbook", &filtered).await.unwrap();
    assert!(found.notices.iter().any(|n| n.code == "recall-of-other-filter"));
    // What was measured with this very filter answers for it, however it is written; others keep to what has none.
    made(&r, json!({"name": "severe", "kind": "sampled", "queries": 200, "filter": "severity >= 2"})).await;
    let of_filter = solved(&r, json!({"index": "graph", "recall": 0.8, "query_sets": ["severe"]})).await;
    assert!(of_filter.result.reached && of_filter.result.n_filtered > 0 && of_filter.result.filter.is_some());
    let as_json = json!({"op": ">=", "args": [{"property": "severity"}, 2]});
    for (filter, id) in
        [(json!("severity >= 2"), of_filter.id), (as_json, of_filter.id), (json!("severity >= 3"), target.id)]
    {
        let found =
            c.search("logbook", &json!({"text": "fog", "recall": 0.8, "filter": filter})).await.unwrap();
        assert_eq!(found.via.target.unwrap().id, id, "{filter}");
        let other = found.notices.iter().any(|n| n.code == "recall-of-other-filter");
        assert_eq!(other, id == target.id, "{filter}");
    }
    let free = c.search("logbook", &json!({"text": "fog", "recall": 0.8})).await.unwrap();
    assert_eq!(free.via.target.unwrap().id, target.id);
    // A serving choice may say a recall in place of settings, also after a restart.
    let choice = json!({"index": "graph", "recall": 0.75});
    let choice: zesty_wire::ServingChoice = serde_json::from_value(choice).unwrap();
    c.set_serving("logbook", "meaning", Some(&choice)).await.unwrap();
    let r = r.restart().await;
    let c = &r.client;
    let found = c.search("logbook", &json!({"text": "fog"})).await.unwrap();
    assert_eq!(found.via.target.unwrap().id, target.id);
    let found = c.search("logbook", &json!({"text": "fog", "settings": {"beam": 9}})).await.unwrap();
    assert!(found.via.target.is_none() && found.via.settings.unwrap().beam == Some(9));
    let both = json!({"text": "fog", "recall": 0.8, "settings": {"beam": 9}});
    assert_eq!(refused(c.search("logbook", &both).await).pointer.as_deref(), Some("/recall"));
    for id in [target.id, of_filter.id] {
        c.delete_target("logbook", id).await.unwrap();
    }
    assert!(c.search("logbook", &text).await.unwrap().via.target.is_none());
    // What a lossy recipe cannot reach is said, with what could.
    r.build("logbook", "signs", "scan | bits").await;
    let missed = solved(&r, json!({"index": "signs", "recall": 1.0, "query_sets": ["far"]})).await;
    assert!(!missed.result.reached && !missed.result.served);
    let other = missed.result.instead.unwrap();
    assert!(other.recipe == "scan | bits | rescore(f32)" && other.memory_bytes > 0, "{}", other.recipe);
}

#[tokio::test(flavor = "multi_thread")]
async fn measurements_wait_for_each_other_and_a_cancelled_one_keeps_whole_points() {
    let r = with_encoder().await;
    r.logbook(1600).await;
    let c = &r.client;
    r.build("logbook", "graph", "graph(links=4, build=20)").await;
    let long = json!({"indexes": ["graph"], "beams": [10, 20], "rounds": 20, "clients": [1, 2, 3, 4]});
    let first = c.run_sweep("logbook", &long).await.unwrap();
    let second = c.run_sweep("logbook", &json!({"indexes": ["graph"], "beams": [10]})).await.unwrap();
    let waits = async || c.job(second.id).await.unwrap().log.iter().any(|l| l.text.contains("waiting for"));
    eventually("the second says what it waits for", waits).await;
    // A whole round is done before the cancel.
    let round = async || {
        let job = c.job(first.id).await.unwrap();
        job.state != "running" || (job.stage.as_deref() == Some("measuring") && job.done * 10 > job.total)
    };
    eventually("a round is measured", round).await;
    c.cancel_job(first.id).await.unwrap();
    let ended = c.watch_job(first.id, |_| ()).await.unwrap();
    let id = ended.result.expect("whole points are kept")["sweep"].as_i64().unwrap();
    let sweep = c.show_sweep("logbook", id).await.unwrap();
    assert!(!sweep.result.points.is_empty());
    assert!(sweep.result.cut || sweep.result.points.iter().all(|p| p.rounds.len() == 20));
    let waited = tokio::time::timeout(Duration::from_secs(120), r.finish(second.id)).await.unwrap();
    assert_eq!(waited.state, "done");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_lens_shows_what_was_missed_and_the_smallest_setting_that_finds_it() {
    let r = with_encoder().await;
    r.logbook(1600).await;
    let c = &r.client;
    r.build("logbook", "graph", "graph(links=4, build=20)").await;
    let set = made(&r, json!({"name": "far", "kind": "blended", "queries": 40})).await;
    let near = made(&r, json!({"name": "own", "kind": "sampled", "queries": 40})).await;
    let look = async |set: &str, position: usize, beam: usize| {
        let search = json!({"index": "graph", "k": 10, "settings": {"beam": beam}});
        c.lens("logbook", &json!({"query_set": set, "position": position, "search": search})).await.unwrap()
    };
    let (mut n_missed, mut n_open) = (0, 0);
    for position in 0..set.n_queries {
        let seen = look("far", position, 10).await;
        n_open += usize::from(seen.place == Some(zesty_wire::Place::InTheOpen));
        assert!(seen.curve.is_sorted() && seen.curve.len() == 1000 && !seen.held_out);
        let missed: Vec<_> = seen.truth.iter().filter(|t| t.found_at.is_none()).collect();
        assert_eq!(missed.len(), seen.strays.len());
        assert_eq!(missed.len(), ((1.0 - seen.recall) * 10.0).round() as usize);
        // What the lens says of a setting holds when it is tried.
        if let Some((t, beam)) = missed.first().and_then(|t| Some((t, t.smallest?.beam?))) {
            n_missed += 1;
            assert!(beam > 10);
            let again = look("far", position, beam).await;
            assert!(again.truth.iter().any(|a| a.key == t.key && a.found_at.is_some()), "{}", t.key);
        }
    }
    assert!(n_missed > 3 && n_open > 30, "{n_missed} {n_open}");
    // A sampled record is held out, and is no neighbour of its own.
    let own = look("own", 5, 20).await;
    let key = c.queries("logbook", "own", 5, 1).await.unwrap().queries[0].record.clone().unwrap();
    assert!(own.held_out && own.truth.iter().all(|t| t.key != key) && near.n_queries == 40);
    let search = json!({"examples": key, "index": "graph", "k": 5});
    let alike = c.lens("logbook", &json!({"search": search})).await.unwrap();
    assert!(alike.truth.len() == 5 && alike.truth.iter().all(|t| t.key != key));
    for (input, at) in [
        (json!({"query_set": "far", "position": 4000, "search": {"index": "graph"}}), "/position"),
        (json!({"query_set": "none", "search": {"index": "graph"}}), "/query_set"),
        (json!({"search": {"text": "fog", "index": "nobody"}}), "/search/index"),
        (json!({"search": {"text": "fog", "exact": true}}), "/search/index"),
        (json!({"search": {"text": "fog", "index": "graph", "filter": "severity > 99"}}), "/search/filter"),
    ] {
        let p = refused(c.lens("logbook", &input).await);
        assert_eq!(p.pointer.as_deref(), Some(at), "{}", p.detail);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn live_searches_are_captured_and_their_recall_is_observed_when_asked_for() {
    let r = with_encoder().await;
    r.logbook(1600).await;
    let c = &r.client;
    r.build("logbook", "graph", "graph(links=4, build=20)").await;
    let search = async |text: &str, beam: usize| {
        let input = json!({"text": text, "index": "graph", "k": 10, "settings": {"beam": beam}});
        c.search("logbook", &input).await.unwrap()
    };
    search("fog before anybody watches", 10).await;
    let none = json!({"name": "live", "kind": "captured"});
    let p = refused(c.make_query_set("logbook", &none).await);
    assert!(p.word() == "no-data" && p.detail.contains("zesty watch set"), "{}", p.detail);
    let watch: zesty_wire::Watch = serde_json::from_value(json!({
        "capture": {"share": 1.0, "keep": 12}, "recall": {"budget": 0.5, "floor": 0.999_999}
    }))
    .unwrap();
    c.set_watch("logbook", &watch).await.unwrap();
    let words = ["fog", "gale", "lamp", "oil", "wreck", "seal", "ship", "bell", "night", "repair"];
    // The newest are kept, and no more of them.
    let mut n = 0;
    let watched = async || {
        for word in words {
            n += 1;
            search(&format!("{word} number {n}"), 10).await;
        }
        let state = c.watch_state("logbook", 24).await.unwrap();
        state.captured == 12 && state.overall.first().is_some_and(|o| o.searches >= 40)
    };
    eventually("searches are captured and checked", watched).await;
    let state = c.watch_state("logbook", 24).await.unwrap();
    assert!(state.spent.is_some() && state.steps.iter().all(|s| s.index == "graph"));
    let seen = &state.overall[0];
    assert!(seen.recall_low <= seen.recall_mean && seen.recall_mean <= seen.recall_high);
    assert!(seen.recall_mean > 0.3, "{}", seen.recall_mean);
    assert_eq!(seen.recall_high < 0.999_999, state.notices.iter().any(|n| n.code == "recall-below-floor"));
    // What was captured is a query set, without texts that nobody asked to keep.
    let live = made(&r, json!({"name": "live", "kind": "captured", "queries": 10})).await;
    assert_eq!((live.n_queries, live.kind), (10, zesty_wire::QueryKind::Captured));
    let queries = c.queries("logbook", "live", 0, 10).await.unwrap().queries;
    assert!(queries.iter().all(|q| q.text.is_none() && q.vector.len() == 96));
    // The watch outlives a restart, and can be ended; what was captured can be forgotten.
    let r = r.restart().await;
    let c = &r.client;
    assert_eq!(c.watch_state("logbook", 24).await.unwrap().watch, watch);
    c.set_watch("logbook", &zesty_wire::Watch::default()).await.unwrap();
    assert!(c.forget_captured("logbook").await.unwrap() > 0);
    c.search("logbook", &json!({"text": "fog"})).await.unwrap();
    assert_eq!(c.watch_state("logbook", 24).await.unwrap().captured, 0);
    for (input, at) in [
        (json!({"capture": {"share": 0.0}}), "/capture/share"),
        (json!({"capture": {"share": 0.1, "keep": 1_000_000}}), "/capture/keep"),
        (json!({"recall": {"budget": 0.9}}), "/recall/budget"),
        (json!({"recall": {"budget": 0.1, "floor": 2.0}}), "/recall/floor"),
    ] {
        let watch: zesty_wire::Watch = serde_json::from_value(input).unwrap();
        assert_eq!(refused(c.set_watch("logbook", &watch).await).pointer.as_deref(), Some(at));
    }
}
