//! Two ways of answering side by side, and what a person makes of them.

use serde_json::{Value, json};
use zesty_testing::*;
use zesty_wire::{Comparison, Verdict};

async fn compared(r: &Running, input: Value) -> Comparison {
    let job = r.finish(r.client.run_comparison("logbook", &input).await.unwrap().id).await;
    let id = job.result.unwrap()["comparison"].as_i64().unwrap();
    r.client.show_comparison("logbook", id).await.unwrap()
}

async fn queries(r: &Running, input: Value) {
    let job = r.client.make_query_set("logbook", &input).await.unwrap();
    r.finish(job.id).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_index_is_compared_with_the_exact_scan_and_judged_query_by_query() {
    let r = with_encoder().await;
    r.logbook(1600).await;
    let c = &r.client;
    r.build("logbook", "poor", "cells(64)").await;
    queries(&r, json!({"name": "far", "kind": "blended", "queries": 40})).await;
    let made = compared(
        &r,
        json!({"left": {"index": "poor", "settings": {"visit": 1}}, "right": {}, "query_set": "far", "k": 5}),
    )
    .await;
    let result = &made.result;
    assert!(result.left.recall_mean < 0.9 && result.right.recall_mean == 1.0, "{}", result.left.recall_mean);
    assert_eq!((result.right.index.as_ref(), result.overlap.len()), (None, 5));
    // Recall against the truth, and the overlap with it, are one thing here; so are the lists of finders.
    assert!((result.overlap[4] - result.left.recall_mean).abs() < 0.011);
    let finders = result.finders.unwrap();
    assert_eq!((finders.left_alone, finders.neither), (0, 0));
    assert_eq!(finders.both + finders.right_alone, 200);
    assert!((finders.both as f64 / 200.0 - result.left.recall_mean).abs() < 0.011);
    let moves = result.moves;
    assert_eq!(moves.left_alone, moves.right_alone);
    let both = moves.same_rank + moves.by_one + moves.by_two_or_three + moves.farther;
    assert_eq!(both + moves.left_alone, 200);
    let by = result.by_recall;
    assert!(by.left_better == 0 && by.right_better > 5 && by.p < 0.05 && by.difference < 0.0);
    assert_eq!(by.left_better + by.right_better + by.same, 40);
    let distances = result.distances.as_ref().unwrap();
    assert!(distances.left.is_sorted() && distances.right.is_sorted());
    assert!(distances.left.iter().zip(&distances.right).all(|(left, right)| left >= right));

    // Those that differ most come first, with records to judge by.
    let page = c.compared_queries("logbook", made.id, 0, 7).await.unwrap();
    assert_eq!((page.queries.len(), page.next), (7, Some(7)));
    assert!(page.queries.windows(2).all(|two| two[0].overlap <= two[1].overlap));
    let first = &page.queries[0];
    assert!(first.left.len() == 5 && first.right.iter().all(|hit| hit.fields["note"].is_string()));
    for hit in &first.left {
        let other = first.right.iter().find(|other| other.key == hit.key).map(|other| other.rank);
        assert_eq!(hit.other_rank, other);
    }
    let last = c.compared_queries("logbook", made.id, 35, 100).await.unwrap();
    assert_eq!((last.queries.len(), last.next), (5, None));

    // Verdicts are kept, replaced, taken back; they outlive a restart.
    for (query, verdict) in
        page.queries.iter().zip([Verdict::Left, Verdict::Right, Verdict::Right, Verdict::Same])
    {
        c.judge("logbook", made.id, query.position, Some(verdict)).await.unwrap();
    }
    let all = c.judge("logbook", made.id, first.position, Some(Verdict::Right)).await.unwrap();
    assert_eq!((all.left, all.right, all.same, all.neither), (0, 3, 1, 0));
    assert!((all.p - 0.25).abs() < 1e-9, "three of three tosses: {}", all.p);
    let r = r.restart().await;
    let c = &r.client;
    let again = c.compared_query("logbook", made.id, first.position).await.unwrap();
    assert_eq!(again.queries[0].verdict, Some(Verdict::Right));
    let back = c.judge("logbook", made.id, first.position, None).await.unwrap();
    assert_eq!(back.right, 2);
    assert_eq!(c.comparisons("logbook").await.unwrap()[0].verdicts.right, 2);
    let p = refused(c.judge("logbook", made.id, 4000, Some(Verdict::Left)).await);
    assert_eq!(p.word(), "unknown-name");
    // A record that is gone is said to be so; the hits stay.
    let key = first.left[0].key.clone().unwrap();
    c.delete_record("logbook", &key).await.unwrap();
    let gone = c.compared_query("logbook", made.id, first.position).await.unwrap();
    assert!(gone.queries[0].left[0].key.is_none() && gone.queries[0].left[0].fields.is_empty());
    assert!(c.show_comparison("logbook", made.id).await.unwrap().stale);
    c.delete_comparison("logbook", made.id).await.unwrap();
    assert!(c.comparisons("logbook").await.unwrap().is_empty());
    let p = refused(c.compared_queries("logbook", made.id, 0, 5).await);
    assert_eq!(p.word(), "unknown-name");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_comparison_does_not_show_the_queries_of_a_later_set_of_the_same_name() {
    let r = with_encoder().await;
    r.logbook(600).await;
    let c = &r.client;
    r.build("logbook", "poor", "cells(24)").await;
    let sides =
        json!({"left": {"index": "poor", "settings": {"visit": 1}}, "right": {}, "query_set": "own", "k": 5});
    queries(&r, json!({"name": "own", "kind": "sampled", "queries": 20})).await;
    let made = compared(&r, sides).await;
    let asked = c.compared_queries("logbook", made.id, 0, 20).await.unwrap();
    assert!(asked.queries.iter().all(|q| q.record.is_some()));
    c.delete_query_set("logbook", "own").await.unwrap();
    queries(&r, json!({"name": "own", "kind": "sampled", "queries": 20, "seed": 9})).await;
    let later = c.compared_queries("logbook", made.id, 0, 20).await.unwrap();
    assert!(later.queries.iter().all(|q| q.record.is_none() && q.text.is_none()), "others were asked");
    assert_eq!(later.queries.len(), 20);
}

#[tokio::test(flavor = "multi_thread")]
async fn two_columns_are_asked_by_record_and_by_text_and_grades_say_which_is_better() {
    let r = with_encoder().await;
    r.logbook(700).await;
    let c = &r.client;
    let column = json!({"name": "other", "encoder": "lampwright-large", "template": "{note}"});
    c.add_column("logbook", &column).await.unwrap();
    r.finish(c.backfill("logbook", "other").await.unwrap().id).await;
    // By record: each column has its vector, and the records that ask are held out of both.
    let by_record = compared(&r, json!({"left": {}, "right": {"column": "other"}, "k": 3})).await;
    let result = &by_record.result;
    assert!(result.finders.is_none() && result.distances.is_none());
    assert!(
        result.query_set.n_held_out > 0 && (0.2..1.0).contains(&result.overlap[2]),
        "{:?}",
        result.overlap
    );
    assert_eq!((result.left.column.as_str(), result.right.column.as_str()), ("meaning", "other"));
    // By text, with a filter and grades: one of two graded keys is the first hit on the left, and unknown ones do
    // not count.
    let text = "the lamp burned clear";
    let best = c.search("logbook", &json!({"text": text, "k": 1, "exact": true})).await.unwrap();
    let given = json!([
        {"text": text, "relevant": {(best.hits[0].key.clone()): 3, "no such key": 1}},
        {"text": "fog bell", "filter": "severity >= 1"},
    ]);
    queries(&r, json!({"name": "asked", "kind": "given", "given": given})).await;
    let sides = json!({"left": {}, "right": {"column": "other"}, "query_set": "asked", "k": 4});
    let by_text = compared(&r, sides).await;
    let graded = by_text.result.left.graded.unwrap();
    assert_eq!((graded.hit_rate, graded.mean_reciprocal_rank), (1.0, 1.0));
    let ideal = 3.0 + 1.0 / 3f64.log2();
    assert!((graded.ndcg - 3.0 / ideal).abs() < 1e-9, "{}", graded.ndcg);
    assert_eq!(by_text.result.n_unknown_keys, 1);
    assert_eq!(by_text.result.by_grades.unwrap().same + by_text.result.by_grades.unwrap().left_better, 1);
    let page = c.compared_queries("logbook", by_text.id, 0, 2).await.unwrap();
    let asked = page.queries.iter().find(|q| q.position == 0).unwrap();
    assert_eq!((asked.text.as_deref(), asked.left[0].grade), (Some(text), Some(3.0)));
    // A vector alone cannot be asked of another column.
    let vector = c.queries("logbook", "asked", 0, 1).await.unwrap().queries[0].vector.clone();
    queries(&r, json!({"name": "bare", "kind": "given", "given": [{"vector": vector}]})).await;
    let input = json!({"left": {}, "right": {"column": "other"}, "query_set": "bare"});
    let job = c.run_comparison("logbook", &input).await.unwrap();
    let job = c.watch_job(job.id, |_| ()).await.unwrap();
    assert!(job.error.unwrap().contains("can be asked of both sides"));
}

#[tokio::test(flavor = "multi_thread")]
async fn sides_that_cannot_be_compared_are_refused_with_the_reason() {
    let r = with_encoder().await;
    r.logbook(300).await;
    r.build("logbook", "graph", "graph(links=4, build=20)").await;
    let column = json!({"name": "other", "encoder": "lampwright-large", "template": "{note}"});
    r.client.add_column("logbook", &column).await.unwrap();
    queries(&r, json!({"name": "far", "kind": "blended", "queries": 5})).await;
    for (input, pointer, part) in [
        (json!({"left": {"index": "graph"}, "right": {"index": "graph"}}), "/right", "the same"),
        (json!({"left": {}, "right": {"settings": {"beam": 3}}}), "/right/settings", "takes no settings"),
        (
            json!({"left": {"index": "graph", "settings": {"visit": 3}}, "right": {}}),
            "/left/settings",
            "visit",
        ),
        (
            json!({"left": {"index": "graph", "settings": {"beam": 0}}, "right": {}}),
            "/left/settings/beam",
            "beam",
        ),
        (json!({"left": {"index": "grap"}, "right": {}}), "/left/index", "did you mean"),
        (json!({"left": {"index": "graph", "column": "other"}, "right": {}}), "/left/column", "of column"),
        (json!({"left": {"index": "graph"}, "right": {}, "k": 101}), "/k", "1 to 100"),
        (json!({"left": {"index": "graph"}, "right": {}, "k": 0}), "/k", "k is 0"),
        (json!({"left": {"index": "graph"}, "right": {}, "query_set": "fr"}), "/query_set", "query set"),
        (json!({"left": {"index": "graph"}, "right": {}, "rounds": 21}), "/rounds", "1 to 20"),
    ] {
        let p = refused(r.client.run_comparison("logbook", &input).await);
        assert!(p.detail.contains(part) && p.pointer.as_deref() == Some(pointer), "{input}: {p:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_measurement_is_saved_in_every_format() {
    let r = with_encoder().await;
    r.logbook(1200).await;
    let c = &r.client;
    r.build("logbook", "cells", "cells(20)").await;
    let finished = async |job: zesty_wire::Job, word: &str| {
        let job = r.finish(job.id).await;
        job.result.unwrap()[word].as_i64().unwrap()
    };
    let sweep = json!({"indexes": ["cells"], "visits": [1, 4], "rounds": 1});
    let sweep = finished(c.run_sweep("logbook", &sweep).await.unwrap(), "sweep").await;
    let target = json!({"index": "cells", "recall": 0.5});
    let target = finished(c.solve_target("logbook", &target).await.unwrap(), "target").await;
    let sides = json!({"left": {"index": "cells"}, "right": {}, "k": 3});
    let comparison = finished(c.run_comparison("logbook", &sides).await.unwrap(), "comparison").await;
    let n = c.show_comparison("logbook", comparison).await.unwrap().result.query_set.n_queries;
    let advice = json!({"recall": 0.5, "finalists": 1});
    let advice = finished(c.advise("logbook", &advice).await.unwrap(), "advice").await;
    let candidates = c.show_advice("logbook", advice).await.unwrap().result.candidates.len();
    let tried = c.show_target("logbook", target).await.unwrap().result.tried.len();
    for (id, rows) in [(sweep, 2), (target, tried), (comparison, n), (advice, candidates)] {
        let csv = c.report("logbook", id, "csv").await.unwrap();
        let read = csv::Reader::from_reader(&csv[..]).records().map(Result::unwrap).count();
        assert_eq!(read, rows, "{id}");
        let parquet = c.report("logbook", id, "parquet").await.unwrap();
        assert!(parquet.starts_with(b"PAR1") && parquet.ends_with(b"PAR1"));
        let whole: Value = serde_json::from_slice(&c.report("logbook", id, "json").await.unwrap()).unwrap();
        assert_eq!(whole["id"], json!(id));
        let png = c.report("logbook", id, "png").await.unwrap();
        assert!(png.starts_with(b"\x89PNG\r\n") && png.len() > 5000, "{id}: {} bytes", png.len());
        let page = String::from_utf8(c.report("logbook", id, "html").await.unwrap().to_vec()).unwrap();
        assert!(page.starts_with("<!doctype html>") && page.trim_end().ends_with("</html>"));
        assert!(page.contains("<svg"));
        assert!(!page.contains("http-equiv") && !page.contains("src="), "{id}");
        let p = refused(c.report("logbook", id, "xls").await);
        assert!(p.detail.contains("png"), "{}", p.detail);
    }
    let p = refused(c.report("logbook", 1 << 40, "csv").await);
    assert_eq!(p.word(), "unknown-name");
}
