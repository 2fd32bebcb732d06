//! What measuring keeps in MariaDB: query sets, exact answers, measurements, and what was seen of live searches.

use chrono::{TimeDelta, Utc};
use serde_json::json;
use zesty_catalog::{
    Answers, Catalog, CatalogError, Caught, Collection, ComparedPair, Neighbours, NewCollection, NewQuery,
    NewQuerySet, NewVectorColumn, Observation, ShapeChange, query_set,
};

async fn collection(name: &str) -> (Catalog, Collection) {
    let catalog = Catalog::connect(&zesty_local::scratch::database()).await.unwrap();
    let column = |name: &str| NewVectorColumn {
        name: name.into(),
        dimensions: 2,
        metric: "dot".into(),
        encoder: None,
        template: None,
    };
    let new = NewCollection {
        name: name.into(),
        description: String::new(),
        fields: json!({"type": "object", "properties": {}}),
        columns: vec![column("a"), column("b")],
    };
    let made = catalog.create_collection(new).await.unwrap();
    (catalog, made)
}

fn query(i: usize) -> NewQuery {
    NewQuery {
        vector: vec![i as f32, -0.5],
        number: i.is_multiple_of(2).then_some(i as u64),
        text: (i == 3).then(|| "fog".to_owned()),
        filter: (i == 4).then(|| json!("n = 1")),
        relevant: (i == 5).then(|| json!({"k": 2.0})),
    }
}

async fn set(catalog: &Catalog, c: &Collection, column: usize, name: &str, n: usize) -> query_set::Model {
    let queries: Vec<NewQuery> = (0..n).map(query).collect();
    let new = NewQuerySet {
        collection: c.about.id,
        column: c.columns[column].id,
        name,
        spec: json!({"kind": "given"}),
        revision: 7,
        difficulty: None,
    };
    catalog.add_query_set(new, &queries).await.unwrap()
}

fn answers(n: usize, revision: u64) -> Answers {
    let neighbours = (0..n)
        .map(|i| Neighbours {
            nearest: vec![(u64::MAX / 2 + i as u64, -0.25), (i as u64, f32::MIN_POSITIVE)],
            typical: i as f32,
        })
        .collect();
    Answers { k: 2, revision, share: 0.04, n_rows: 50, seconds: 0.5, neighbours }
}

#[tokio::test]
async fn a_query_set_comes_back_as_it_was_and_in_pages() {
    let (catalog, c) = collection("sets").await;
    // More than one statement takes.
    let made = set(&catalog, &c, 0, "many", 1203).await;
    assert_eq!((made.n_queries, made.revision), (1203, 7));
    let all = catalog.queries(made.id, 0, 10_000).await.unwrap();
    assert_eq!(all.len(), 1203);
    for (i, row) in all.iter().enumerate() {
        let wanted = query(i);
        let vector: Vec<f32> = bytemuck::pod_collect_to_vec(&row.vector);
        assert_eq!((row.position, vector), (i as i64, wanted.vector));
        assert_eq!(row.number, wanted.number.map(|n| n as i64));
        assert_eq!((&row.text, &row.filter, &row.relevant), (&wanted.text, &wanted.filter, &wanted.relevant));
    }
    let page = catalog.queries(made.id, 1200, 10).await.unwrap();
    assert_eq!(page.iter().map(|q| q.position).collect::<Vec<_>>(), [1200, 1201, 1202]);
    // A name is taken once in a collection.
    let again = NewQuerySet {
        collection: c.about.id,
        column: c.columns[0].id,
        name: "many",
        spec: json!({}),
        revision: 8,
        difficulty: None,
    };
    let taken = catalog.add_query_set(again, &[query(1)]).await.unwrap_err();
    assert!(matches!(taken, CatalogError::Exists { what: "query set", .. }), "{taken}");
    assert_eq!(catalog.query_sets(c.about.id).await.unwrap().len(), 1);
}

#[tokio::test]
async fn exact_answers_are_replaced_whole_and_go_with_their_set() {
    let (catalog, c) = collection("truths").await;
    let made = set(&catalog, &c, 0, "q", 600).await;
    catalog.put_answers(&made, &answers(600, 1)).await.unwrap();
    catalog.put_answers(&made, &answers(600, 2)).await.unwrap();
    let kept = catalog.kept_answers(&[made.id]).await.unwrap();
    assert_eq!(kept.len(), 1, "the older ones are gone");
    assert_eq!(catalog.answers(&kept[0]).await.unwrap(), answers(600, 2));
    catalog.clear_discarded().await.unwrap();
    assert_eq!(catalog.answers(&kept[0]).await.unwrap(), answers(600, 2), "clearing leaves what is kept");
    catalog.delete_query_set(&made).await.unwrap();
    assert!(catalog.kept_answers(&[made.id]).await.unwrap().is_empty());
    catalog.clear_discarded().await.unwrap();
    assert!(catalog.queries(made.id, 0, 10).await.unwrap().is_empty());
    assert!(catalog.answers(&kept[0]).await.unwrap().neighbours.is_empty());
    // Answers that come too late for their set are refused, and leave nothing.
    let late = catalog.put_answers(&made, &answers(600, 3)).await.unwrap_err();
    assert!(matches!(late, CatalogError::Missing { what: "query set", .. }), "{late}");
    assert!(catalog.kept_answers(&[made.id]).await.unwrap().is_empty());
}

#[tokio::test]
async fn what_was_measured_goes_with_its_column_and_targets_are_counted_as_choices() {
    let (catalog, c) = collection("measured").await;
    let id = c.about.id;
    let columns: Vec<i64> = c.columns.iter().map(|c| c.id).collect();
    let choices = async || catalog.choices(id).await.unwrap();
    let before = choices().await.version;
    let sweep = catalog.add_measurement((id, columns[0]), "sweep", json!({}), json!({"n": 1})).await.unwrap();
    assert_eq!(choices().await.version, before, "a sweep chooses nothing");
    for column in &columns {
        catalog.add_measurement((id, *column), "target", json!({"c": column}), json!({})).await.unwrap();
    }
    let now = choices().await;
    assert_eq!((now.version, now.targets.len()), (before + 2, 2));
    assert_eq!(now.targets[0].column_id, columns[1], "the newest comes first");
    let sweeps = catalog.measurements(id, "sweep").await.unwrap();
    assert_eq!((sweeps.len(), sweeps[0].id, &sweeps[0].result), (1, sweep.id, &json!({"n": 1})));
    assert_eq!(catalog.measurement(id, "target", sweep.id).await.unwrap(), None, "a sweep is no target");
    set(&catalog, &c, 0, "of-a", 3).await;
    set(&catalog, &c, 1, "of-b", 3).await;
    catalog.change_shape(id, 0, ShapeChange::DropColumn(columns[0])).await.unwrap();
    let left: Vec<String> = catalog.query_sets(id).await.unwrap().into_iter().map(|s| s.name).collect();
    assert_eq!(left, ["of-b"]);
    assert!(catalog.measurements(id, "sweep").await.unwrap().is_empty());
    assert_eq!(choices().await.targets.len(), 1);
    let target = choices().await.targets.remove(0);
    catalog.delete_measurement(&target).await.unwrap();
    assert!(choices().await.targets.is_empty());
}

#[tokio::test]
async fn captured_searches_are_trimmed_by_number_and_age_and_observations_add_up() {
    let (catalog, c) = collection("watched").await;
    let (id, column) = (c.about.id, c.columns[0].id);
    let caught = |i: usize| Caught {
        collection: id,
        column,
        vector: vec![i as f32, 1.0],
        k: i + 1,
        filter: (i == 1).then(|| json!("n > 1")),
        text: None,
    };
    catalog.add_captured(&(0..10).map(caught).collect::<Vec<_>>()).await.unwrap();
    let long_ago = Utc::now() - TimeDelta::days(3);
    catalog.trim_captured(id, long_ago, 4).await.unwrap();
    let kept = catalog.captured(column, 100).await.unwrap();
    assert_eq!(kept.iter().map(|k| k.k).collect::<Vec<_>>(), [10, 9, 8, 7], "the newest stay");
    catalog.trim_captured(id, long_ago, 100).await.unwrap();
    assert_eq!(catalog.n_captured(id).await.unwrap(), 4);
    catalog.trim_captured(id, Utc::now() + TimeDelta::hours(1), 100).await.unwrap();
    assert_eq!(catalog.n_captured(id).await.unwrap(), 0, "all are older than that");
    // Two nodes see searches of the same minute.
    let at = chrono::DateTime::from_timestamp(1_700_000_040, 0).unwrap();
    let seen = |index: &str, n, sum| Observation {
        collection: id,
        index: index.into(),
        saved: String::new(),
        at,
        n,
        sum,
        squares: sum,
    };
    for one in [seen("g", 3, 2.5), seen("g", 2, 2.0), seen("h", 1, 0.0)] {
        catalog.observe(&one).await.unwrap();
    }
    let all = catalog.observed(id, at).await.unwrap();
    let sums: Vec<(&str, i64, f64)> = all.iter().map(|o| (o.index_name.as_str(), o.n, o.sum)).collect();
    assert_eq!(sums, [("g", 5, 4.5), ("h", 1, 0.0)]);
    assert!(catalog.observed(id, at + TimeDelta::minutes(1)).await.unwrap().is_empty());
    catalog.forget_observed(at + TimeDelta::minutes(1)).await.unwrap();
    assert!(catalog.observed(id, at).await.unwrap().is_empty());
    // What is watched is a choice that other nodes follow.
    let before = catalog.choices(id).await.unwrap();
    assert!(before.watch.is_none());
    for spec in [json!({"recall": {"budget": 0.1}}), json!({"recall": {"budget": 0.2}})] {
        catalog.set_watch(id, Some(spec.clone())).await.unwrap();
        assert_eq!(catalog.choices(id).await.unwrap().watch, Some(spec));
    }
    catalog.set_watch(id, None).await.unwrap();
    let after = catalog.choices(id).await.unwrap();
    assert_eq!((after.watch, after.version), (None, before.version + 3));
}

#[tokio::test]
async fn a_comparison_is_kept_with_every_query_judged_and_cleared_with_its_collection() {
    let (catalog, c) = collection("compares").await;
    let pair = |position: u64| ComparedPair {
        position,
        difference: (position % 3) as f64 / 2.0,
        figures: json!({"overlap": 0.5}),
        hits: [vec![(position, -0.5), (u64::MAX, 0.25)], Vec::new()],
        verdict: None,
    };
    let pairs: Vec<ComparedPair> = (0..450).map(pair).collect();
    let of = (c.about.id, c.columns[0].id);
    let kept = catalog.add_comparison(of, json!({}), json!({}), &pairs).await.unwrap();
    let page = catalog.compared(kept.id, 148, 4).await.unwrap();
    // Those that differ most come first, then by position.
    assert_eq!(page.iter().map(|p| p.position).collect::<Vec<_>>(), [446, 449, 1, 4]);
    assert_eq!(page[1], pair(449));
    assert_eq!(catalog.compared_query(kept.id, 450).await.unwrap(), None);
    for (position, verdict) in
        [(1, Some("left")), (2, Some("left")), (1, Some("same")), (7, Some("left")), (7, None)]
    {
        catalog.judge(kept.id, position, verdict).await.unwrap();
    }
    // The same verdict again changes no row, and is no error.
    catalog.judge(kept.id, 2, Some("left")).await.unwrap();
    let mut counted = catalog.verdicts(&[kept.id]).await.unwrap();
    counted.sort();
    assert_eq!(counted, [(kept.id, "left".to_owned(), 1), (kept.id, "same".to_owned(), 1)]);
    let missing = catalog.judge(kept.id, 450, Some("left")).await;
    assert!(matches!(missing, Err(CatalogError::Missing { .. })), "{missing:?}");
    catalog.delete_measurement(&kept).await.unwrap();
    catalog.clear_discarded().await.unwrap();
    assert!(catalog.compared(kept.id, 0, 10).await.unwrap().is_empty());
    // With the collection go those that are left.
    let kept = catalog.add_comparison(of, json!({}), json!({}), &pairs[..3]).await.unwrap();
    catalog.delete_collection(c.about.id).await.unwrap();
    catalog.clear_discarded().await.unwrap();
    assert!(catalog.compared(kept.id, 0, 10).await.unwrap().is_empty());
}
