//! A column in two dimensions, with a query and its neighbours.

use serde_json::json;
use zesty_testing::*;

#[tokio::test(flavor = "multi_thread")]
async fn records_are_placed_coloured_and_filtered_with_a_query_among_its_neighbours() {
    let r = with_encoder().await;
    r.logbook(1600).await;
    let c = &r.client;
    r.build("logbook", "cells", "cells(64)").await;
    let whole = c.map("logbook", &json!({"field": "kind", "records": 700})).await.unwrap();
    assert_eq!((whole.points.len(), whole.n_rows, whole.column.as_str()), (700, 1600, "meaning"));
    assert!(whole.explained[0] >= whole.explained[1] && whole.explained[1] > 0.0);
    assert!(whole.explained[0] + whole.explained[1] <= 1.0 && whole.query.is_none());
    let record = c.record("logbook", &whole.points[0].key, false).await.unwrap();
    assert_eq!(record.fields["kind"], whole.points[0].value);
    // The same each time; a filter leaves the places as they are.
    let again = c.map("logbook", &json!({"field": "kind", "records": 700})).await.unwrap();
    assert_eq!(json!(whole.points), json!(again.points));
    let some = json!({"field": "logged", "filter": "kind = 'lamp'", "records": 20000});
    let some = c.map("logbook", &some).await.unwrap();
    let n = c.fields("logbook", Some("kind = 'lamp'"), 1).await.unwrap().n_records;
    assert_eq!((some.points.len() as u64, some.n_rows as u64), (n as u64, n as u64));
    assert!(some.points.iter().all(|p| p.value.as_str().is_none_or(|date| date.len() == 10)));
    let shared = whole.points.iter().find_map(|p| Some((p, some.points.iter().find(|s| s.key == p.key)?)));
    let (of_whole, of_some) = shared.expect("some are on both");
    assert_eq!((of_whole.x, of_whole.y), (of_some.x, of_some.y));
    // A query with its neighbours: as the lens tells it.
    let ask = json!({"search": {"text": "fog bell", "index": "cells", "settings": {"visit": 1}, "k": 20}});
    let seen = c.lens("logbook", &ask).await.unwrap();
    let with = c.map("logbook", &json!({"query": ask, "records": 1600})).await.unwrap();
    let query = with.query.unwrap();
    assert_eq!((query.index.as_str(), query.recall), ("cells", seen.recall));
    assert_eq!(query.neighbours.len(), seen.truth.len() + seen.strays.len());
    for (at, truth) in query.neighbours.iter().zip(&seen.truth) {
        assert_eq!((&at.key, at.true_rank, at.found_at), (&truth.key, Some(truth.rank), truth.found_at));
        let placed = with.points.iter().find(|p| p.key == at.key).unwrap();
        assert_eq!((placed.x, placed.y), (at.x, at.y));
    }
    for (input, pointer, part) in [
        (json!({"field": "tags"}), "/field", "coloured"),
        (json!({"field": "knd"}), "/field", "did you mean"),
        (json!({"records": 0}), "/records", "1 to 20000"),
        (json!({"records": 20001}), "/records", "1 to 20000"),
        (json!({"column": "small"}), "/column", "column"),
        (json!({"filter": "knd = 1"}), "/filter", "knd"),
        (json!({"query": {"search": {"text": "fog"}}}), "/query/search/index", "no index answers"),
    ] {
        if pointer == "/query/search/index" {
            c.set_serving("logbook", "meaning", None).await.unwrap();
        }
        let p = refused(c.map("logbook", &input).await);
        assert!(p.pointer.as_deref() == Some(pointer) && p.detail.contains(part), "{input}: {p:?}");
    }
}
