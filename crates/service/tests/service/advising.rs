//! Recipes tried against a target and a memory budget, and what `auto` makes of it.

use serde_json::{Value, json};
use zesty_testing::*;
use zesty_wire::Advice;

async fn advised(r: &Running, input: Value) -> Advice {
    let job = r.finish(r.client.advise("logbook", &input).await.unwrap().id).await;
    let id = job.result.unwrap()["advice"].as_i64().unwrap();
    r.client.show_advice("logbook", id).await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_best_recipes_are_built_the_winner_stays_serves_and_is_what_auto_takes() {
    let r = with_encoder().await;
    r.logbook(2500).await;
    let c = &r.client;
    let before =
        c.explain_recipe(&json!({"recipe": "auto(recall=0.9)", "collection": "logbook"})).await.unwrap();
    assert!(!before.why.unwrap().contains("advice"));
    let input = json!({"recall": 0.9, "finalists": 2, "recipes": ["cells(40)"], "k": 5});
    let advice = advised(&r, input).await;
    let result = &advice.result;
    let winner = &result.candidates[0];
    assert_eq!((result.winner.as_ref(), advice.stale), (Some(&winner.recipe), false));
    let trial = winner.on_all.as_ref().unwrap();
    assert!(trial.reached && trial.figures.recall_mean >= 0.9 && trial.n_rows == 2500);
    assert!(result.candidates.iter().any(|c| c.recipe == "cells(40)"));
    assert!(result.candidates.iter().all(|c| c.on_sample.is_some() && !c.verdict.is_empty()));
    let finalists: Vec<_> = result.candidates.iter().filter_map(|c| c.on_all.as_ref()).collect();
    assert_eq!(finalists.len(), 2);
    // None that reaches the target is clearly faster, and the others' indexes are gone.
    assert!(finalists.iter().all(|t| !t.reached || trial.figures.p50_us <= 1.06 * t.figures.p50_us));
    let indexes = c.indexes("logbook").await.unwrap();
    assert_eq!(indexes.len(), 1);
    assert_eq!((&indexes[0].recipe, Some(&indexes[0].name)), (&winner.recipe, winner.index.as_ref()));
    // Nothing served the column before: now the winner does, with the settings that were measured.
    let serving = c.collection("logbook").await.unwrap().columns[0].serving.clone().unwrap();
    assert!(indexes[0].serving && result.served);
    for ((word, asked), (_, now)) in trial.settings.named().into_iter().zip(serving.settings.named()) {
        assert!(asked.is_none() || asked == now, "{word}");
    }
    // The target is kept with it, so that searches may ask for a recall.
    let hits = c.search("logbook", &json!({"text": "fog", "k": 5, "recall": 0.9})).await.unwrap();
    assert!(hits.via.target.is_some());
    // From now on `auto` takes it, and says from where; not for a higher recall.
    let explained = async |recipe: &str| {
        c.explain_recipe(&json!({"recipe": recipe, "collection": "logbook"})).await.unwrap()
    };
    let now = explained("auto(recall=0.9)").await;
    assert_eq!(now.recipe, winner.recipe);
    assert!(now.why.unwrap().contains(&format!("advice {}", advice.id)));
    assert!(!explained("auto(recall=0.99)").await.why.unwrap().contains("advice"));
    r.build("logbook", "chosen", "auto(recall=0.9)").await;
    assert_eq!(c.indexes("logbook").await.unwrap().iter().filter(|i| i.recipe == winner.recipe).count(), 2);
    c.delete_advice("logbook", advice.id).await.unwrap();
    assert!(!explained("auto(recall=0.9)").await.why.unwrap().contains("advice"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_budget_that_nothing_fits_and_a_recall_that_nothing_reaches_are_said_so() {
    let r = with_encoder().await;
    r.logbook(900).await;
    let none = advised(&r, json!({"memory_mb": 0.001})).await;
    assert!(none.result.winner.is_none() && none.result.why.contains("fits"), "{}", none.result.why);
    assert!(none.result.candidates.iter().all(|c| c.on_sample.is_none() && c.verdict.contains("not tried")));
    // A lossy recipe alone cannot reach 1.0 for every query; the exact ones may.
    let all = advised(&r, json!({"recall": 1.0, "aim": "p5", "finalists": 8, "drop_all": true})).await;
    for c in &all.result.candidates {
        let trial = c.on_all.as_ref().or(c.on_sample.as_ref()).unwrap();
        assert_eq!(trial.reached, trial.figures.recall_p5 >= 1.0 && trial.reached, "{}", c.recipe);
    }
    assert!(r.client.indexes("logbook").await.unwrap().is_empty(), "all were dropped");
    for (input, pointer) in [
        (json!({"recall": 0.0}), "/recall"),
        (json!({"recall": 1.5}), "/recall"),
        (json!({"memory_mb": -3}), "/memory_mb"),
        (json!({"finalists": 9}), "/finalists"),
        (json!({"column": "meening"}), "/column"),
        (json!({"query_set": "nope"}), "/query_set"),
        (json!({"recipes": ["grapf"]}), "/recipes/0"),
        (json!({"recipes": ["graph", "auto"]}), "/recipes/1"),
        (json!({"recipes": ["pq(7)"]}), "/recipes/0"),
        (json!({"k": 0}), "/k"),
    ] {
        let p = refused(r.client.advise("logbook", &input).await);
        assert_eq!(p.pointer.as_deref(), Some(pointer), "{input}: {}", p.detail);
    }
}
