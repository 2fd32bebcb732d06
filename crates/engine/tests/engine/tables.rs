//! Rows in memory: their shape changes without reading a record again, vectors come later, pages
//! are cut from any order.

use proptest::prelude::*;
use serde_json::{Value, json};
use zesty_engine::filter::Filter;
use zesty_engine::rows::order::{SortValue, first, value};
use zesty_engine::rows::{Change, NewColumn, Writer};
use zesty_engine::{Metric, Schema, Table};

fn schema(properties: Value) -> Schema {
    Schema::from_json(&json!({"properties": properties})).unwrap()
}

fn old_schema() -> Schema {
    schema(
        json!({"year": {"type": "integer"}, "note": {"type": "string"}, "log": {"type": "string", "storedOnly": true},
        "place": {"type": "object", "properties": {"lat": {"type": "number"}}}}),
    )
}

fn writer(bodies: &[Value]) -> Writer {
    let mut writer = Writer::new(old_schema(), [("a".to_owned(), Metric::Dot, 2)]);
    let changes: Vec<Change> = bodies
        .iter()
        .enumerate()
        .map(|(i, body)| Change {
            number: i as u64,
            key: format!("k{i:03}"),
            revision: 1,
            body: Some(body.as_object().unwrap().clone()),
            vectors: vec![Some(vec![i as f32, 1.0]).into()],
        })
        .collect();
    writer.apply(1, &changes);
    writer
}

fn allowed(table: &Table, filter: &str) -> Vec<usize> {
    Filter::from_text(filter).unwrap().compile(table.schema()).unwrap().run(table).ones().collect()
}

#[test]
fn a_table_takes_new_fields_wider_fields_and_new_columns() {
    let bodies = [
        json!({"year": 1931, "note": "fog", "place": {"lat": 1.5}}),
        json!({"log": "long"}),
        json!({"year": 1940}),
    ];
    let before = writer(&bodies);
    let next = schema(json!({"year": {"type": "number"}, "note": {"type": "string", "description": "text"},
        "log": {"type": "string", "storedOnly": true}, "calm": {"type": "boolean"},
        "place": {"type": "object", "properties": {"lat": {"type": "number"}, "name": {"type": "string"}}}}));
    old_schema().change_to(&next).unwrap();
    let column = |id, name: &str, metric, dimensions| NewColumn { id, name: name.into(), metric, dimensions };
    let columns = [column(7, "b", Metric::Dot, 3), column(0, "a", Metric::Dot, 2)];
    let mut after = before.reshaped(next, &columns).unwrap();
    let table = after.snapshot();
    assert_eq!(allowed(&table, "year > 1931.5"), [2]);
    assert_eq!(allowed(&table, "year IS NULL"), [1]);
    assert_eq!(allowed(&table, "place.lat = 1.5 AND calm IS NULL AND place.name IS NULL"), [0]);
    assert_eq!(allowed(&table, "log IS NOT NULL"), [1]);
    let refused = Filter::from_text("log = 'long'").unwrap().compile(table.schema()).unwrap_err();
    assert!(refused.message.contains("stored only"), "{}", refused.message);
    assert_eq!(table.vectors()[1].vectors.row(2), [2.0, 1.0]);
    assert_eq!(table.vectors()[0].vectors.present().count_ones(), 0);

    // Vectors that come later are seen by later snapshots only, and not by rows that are gone.
    let gone = Change { number: 1, key: "k001".into(), revision: 2, body: None, vectors: vec![] };
    after.apply(2, &[gone]);
    let vector = [1.0f32, 2.0, 3.0];
    after.set_vectors(3, 0, [(0, &vector[..]), (1, &vector[..])]);
    let later = after.snapshot();
    assert_eq!((later.revision(), later.row_revision(0)), (3, 1), "the record is as it was");
    assert_eq!(later.vectors()[0].vectors.present().ones().collect::<Vec<_>>(), [0]);
    assert_eq!(later.vectors()[0].vectors.row(0), vector);
    assert_eq!(table.vectors()[0].vectors.present().count_ones(), 0);
    assert!(later.n_bytes_keys() > 0 && (0..5).all(|f| later.column(f).n_bytes() < 6000));

    // What is no longer stored only must be read from the bodies.
    let open =
        schema(json!({"year": {"type": "integer"}, "note": {"type": "string"}, "log": {"type": "string"},
        "place": {"type": "object", "properties": {"lat": {"type": "number"}}}}));
    let opened = before.reshaped(open, &[]).unwrap().snapshot();
    assert_eq!(allowed(&opened, "log = 'long'"), [1]);
}

proptest! {
    /// Pages of any size, put together, are all rows in the order of a plain sort.
    #[test]
    fn pages_are_a_plain_sort_cut_up(
        years in prop::collection::vec(prop::option::of(0i64..5), 1..40),
        field in prop::sample::select(vec!["year", "note", "place.lat"]),
        descending in any::<bool>(),
        page in 1usize..7,
    ) {
        let bodies: Vec<Value> = years
            .iter()
            .map(|y| y.map_or(json!({}), |y| json!({"year": y, "note": format!("n{}", 9 - y), "place": {"lat": y as f64 / 2.0}})))
            .collect();
        let table = writer(&bodies).snapshot();
        let field = table.schema().position(field).unwrap();
        let mut expected: Vec<u32> = (0..bodies.len() as u32).collect();
        expected.sort_by(|&a, &b| {
            let shown = |r: u32| match value(&table, field, r) {
                SortValue::Text(t) => Some(t),
                SortValue::Integer(n) => Some(n.to_string()),
                SortValue::Number(x) => Some(format!("{x:.2}")),
                _ => None,
            };
            match (shown(a), shown(b)) {
                (None, None) => std::cmp::Ordering::Equal,
                (None, _) => std::cmp::Ordering::Greater,
                (_, None) => std::cmp::Ordering::Less,
                (Some(a), Some(b)) if descending => b.cmp(&a),
                (Some(a), Some(b)) => a.cmp(&b),
            }.then(a.cmp(&b))
        });
        let mut got = Vec::new();
        let mut after: Option<(SortValue, String)> = None;
        loop {
            let place = after.as_ref().map(|(v, k)| (v, k.as_str()));
            let rows = first(&table, &table.alive().to_set(), Some(field), descending, place, page);
            let Some(&last) = rows.last() else { break };
            after = Some((value(&table, field, last), table.key(last).to_owned()));
            got.extend(rows);
        }
        prop_assert_eq!(got, expected);
    }
}
