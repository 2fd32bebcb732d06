//! What goes over HTTP, read and written: no member is lost, added or guessed.

use base64::Engine as _;
use proptest::prelude::*;
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use zesty_wire::{
    AtMost, CollectionPatch, Filter, FilterRequest, GivenQuery, KeyRequest, Keys, LensRequest, LoadVectors,
    NewCollection, NewColumn, NewIndex, NewQuerySet, NewRecord, RecordBatch, RecordPatch, SearchRequest,
    SearchRequests, ServingChoice, Settings, SweepRequest, TargetRequest, Watch,
};
use zesty_wire::{strict, vectors};

fn refused<T: DeserializeOwned>(mut good: Value) -> String {
    let name = std::any::type_name::<T>();
    serde_json::from_value::<T>(good.clone()).map_err(|e| format!("{name}: {e}")).map(drop).unwrap();
    good["surprise"] = json!(1);
    match serde_json::from_value::<T>(good) {
        Ok(_) => panic!("{name} takes a member that it does not know"),
        Err(error) => error.to_string(),
    }
}

#[test]
fn requests_name_the_member_that_they_do_not_know() {
    let said = [
        refused::<NewCollection>(json!({"name": "logbook"})),
        refused::<NewColumn>(json!({"name": "meaning"})),
        refused::<CollectionPatch>(json!({})),
        refused::<FilterRequest>(json!({"filter": "year > 1910"})),
        refused::<NewIndex>(json!({"recipe": "graph"})),
        refused::<LoadVectors>(json!({"column": "meaning", "file": "a.npy"})),
        refused::<RecordBatch>(json!({"records": []})),
        refused::<NewRecord>(json!({"key": "a"})),
        refused::<RecordPatch>(json!({})),
        refused::<SearchRequest>(json!({"text": "fog"})),
        refused::<SearchRequests>(json!({"searches": []})),
        refused::<AtMost>(json!({"field": "station", "hits": 1})),
        refused::<Settings>(json!({"beam": 3})),
        refused::<ServingChoice>(json!({"index": "g", "settings": {}})),
        refused::<SweepRequest>(json!({"indexes": ["g"]})),
        refused::<TargetRequest>(json!({"index": "g", "recall": 0.9})),
        refused::<NewQuerySet>(json!({"name": "q", "kind": "sampled"})),
        refused::<GivenQuery>(json!({"text": "fog"})),
        refused::<LensRequest>(json!({"search": {"text": "fog"}})),
        refused::<Watch>(json!({"recall": {"budget": 0.1}})),
        refused::<KeyRequest>(json!({"name": "nightly", "scopes": ["search"]})),
    ];
    for error in said {
        assert!(error.contains("unknown field `surprise`"), "{error}");
    }
}

#[test]
fn a_search_that_says_little_is_written_short_and_read_with_its_defaults() {
    let read: SearchRequest = serde_json::from_str(r#"{"text": "fog"}"#).unwrap();
    assert_eq!(
        (read.k, read.skip, read.exact, read.explain, read.include_self),
        (10, 0, false, false, false)
    );
    assert_eq!(serde_json::to_value(&read).unwrap(), json!({"text": "fog", "k": 10}));
}

#[test]
fn one_key_and_several_are_read_alike() {
    let keys = |text: &str| serde_json::from_str::<Keys>(text).unwrap().list().to_vec();
    assert_eq!(keys(r#""a""#), ["a"]);
    assert_eq!(keys(r#"["a", "b"]"#), ["a", "b"]);
    assert!(serde_json::from_str::<Keys>("3").is_err());
}

#[test]
fn settings_say_only_what_is_set() {
    let settings = |value: Value| serde_json::from_value::<Settings>(value).unwrap().to_string();
    assert_eq!(settings(json!({"visit": 16, "rescore": 4})), "visit 16, rescore 4");
    assert_eq!(settings(json!({})), "");
}

#[test]
fn a_filter_is_text_or_json_and_comes_back_as_it_was() {
    for filter in [json!("year > 1910"), json!({"op": ">", "args": [{"property": "year"}, 1910]})] {
        let read: Filter = serde_json::from_value(filter.clone()).unwrap();
        assert_eq!(read.text(), filter.as_str().unwrap_or(""));
        assert_eq!(serde_json::to_value(&read).unwrap(), filter);
    }
    let twice = serde_json::from_str::<Filter>(r#"{"op": "=", "op": ">"}"#).unwrap_err();
    assert!(twice.to_string().contains("appears twice"), "{twice}");
}

/// Searches with any of their members.
/// Lists of numbers: short ones, and some about as long as `n`.
fn vectors_around(n: usize) -> impl Strategy<Value = Value> {
    let of = |lengths| prop::collection::vec(-1000i32..1000, lengths);
    prop_oneof![of(0..5), of(n - 1..n + 2)]
        .prop_map(|v| v.iter().map(|x| f64::from(*x) / 8.0).collect::<Vec<f64>>().into())
}

fn searches() -> impl Strategy<Value = Value> {
    let word = "[a-zé'\"\\\\ ]{0,8}";
    let some = |name: &'static str, value: BoxedStrategy<Value>| {
        prop::option::of(value).prop_map(move |v| v.map(|v| (name.to_owned(), v))).boxed()
    };
    let text = || word.prop_map(Value::from).boxed();
    let texts = || prop::collection::vec(word, 0..3).prop_map(Value::from).boxed();
    let number = |most: u32| (0..most).prop_map(Value::from).boxed();
    let vector = vectors_around(32);
    let members: Vec<BoxedStrategy<Option<(String, Value)>>> = vec![
        some("column", text()),
        some("text", text()),
        some("vector", vector.boxed()),
        some("examples", prop_oneof![text(), texts()].boxed()),
        some("counterexamples", prop_oneof![text(), texts()].boxed()),
        some("filter", text()),
        some("leave_out", texts()),
        some("skip", (1u32..100).prop_map(Value::from).boxed()),
        some("score_at_least", (-8i32..8).prop_map(|x| json!(f64::from(x) / 4.0)).boxed()),
        some("distance_at_most", (0i32..8).prop_map(|x| json!(f64::from(x) / 4.0)).boxed()),
        some("at_most", number(9).prop_map(|n| json!({"field": "station", "hits": n})).boxed()),
        some("fields", texts()),
        some("follow", texts()),
        some("sort", text()),
        some("explain", Just(json!(true)).boxed()),
        some("exact", Just(json!(true)).boxed()),
        some("settings", number(900).prop_map(|n| json!({"beam": n})).boxed()),
    ];
    (members, 1u32..1000).prop_map(|(members, k)| {
        let mut search: serde_json::Map<String, Value> = members.into_iter().flatten().collect();
        search.insert("k".into(), k.into());
        Value::Object(search)
    })
}

fn any_json() -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::from),
        any::<i64>().prop_map(Value::from),
        any::<f64>().prop_map(Value::from),
        ".{0,6}".prop_map(Value::from),
    ];
    leaf.prop_recursive(4, 30, 5, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..5).prop_map(Value::from),
            prop::collection::btree_map("[a-c]{1,2}", inner, 0..4)
                .prop_map(|m| Value::Object(m.into_iter().collect())),
        ]
    })
}

fn back<T: Serialize + DeserializeOwned>(value: &Value) -> Value {
    serde_json::to_value(serde_json::from_value::<T>(value.clone()).unwrap()).unwrap()
}

proptest! {
    #[test]
    fn any_search_is_sent_as_it_was_asked(search in searches()) {
        prop_assert_eq!(back::<SearchRequest>(&search), search);
    }

    #[test]
    fn any_search_is_read_quickly_as_it_is_slowly(search in searches()) {
        let quick: SearchRequest = vectors::quickly(&search.to_string()).unwrap();
        let slow: SearchRequest = serde_json::from_str(&search.to_string()).unwrap();
        prop_assert_eq!(serde_json::to_value(quick).unwrap(), serde_json::to_value(slow).unwrap());
    }

    #[test]
    fn a_record_is_read_quickly_as_it_is_slowly_or_not_quickly(
        field in vectors_around(32), vector in vectors_around(32), word in "[a\\[\\]\"\\\\,1]{0,40}"
    ) {
        let has_long_field = field.as_array().unwrap().len() >= 32;
        let record = json!({"key": word, "fields": {"lists": [field, 1], "word": word}, "vectors": {"v": vector, "w": null}});
        let slow: NewRecord = serde_json::from_str(&record.to_string()).unwrap();
        match vectors::quickly::<NewRecord>(&record.to_string()) {
            Ok(quick) => prop_assert_eq!(json!(quick), json!(slow)),
            Err(_) => prop_assert!(has_long_field, "{}", record),
        }
    }

    #[test]
    fn the_strict_reader_reads_what_json_says(value in any_json()) {
        prop_assert_eq!(strict::from_str(&value.to_string()).unwrap(), value);
    }

    #[test]
    fn a_member_that_is_written_again_anywhere_is_refused(value in any_json(), depth in 0usize..6) {
        let twice = format!(r#"{{"x": {value}, "y": 1, "x": {value}}}"#);
        let text = "[".repeat(depth) + &twice + &"]".repeat(depth);
        prop_assert!(strict::from_str(&text).unwrap_err().to_string().contains("\"x\" appears twice"));
    }

    #[test]
    fn the_quick_reader_of_vectors_agrees_with_json(items in "[-+0-9.eEN ,\"\\[\\]]{0,24}") {
        let text = format!("[{items}]");
        let json = serde_json::from_str::<Vec<f64>>(&text);
        let quick = vectors::vector_from_str(&text);
        // What no number of 64 bits can hold is infinite, to be refused with its place.
        let beyond = quick.as_ref().is_ok_and(|v| v.iter().flatten().any(|x| x.is_infinite()));
        prop_assert!(quick.is_ok() == json.is_ok() || beyond, "{}: {:?}, {:?}", text, quick, json);
        let (Ok(Some(quick)), Ok(json)) = (quick, json) else { return Ok(()) };
        prop_assert_eq!(quick.len(), json.len());
        for (q, j) in quick.iter().zip(&json) {
            // Straight to f32, so at most half of a step from the number, as the way through f64 is nearly.
            let j = *j as f32;
            prop_assert!(q == &j || (q - j).abs() <= f32::EPSILON * j.abs(), "{}: {} {}", text, q, j);
        }
    }

    #[test]
    fn a_vector_in_base64_is_the_vector(vector in prop::collection::vec(any::<f32>(), 0..40)) {
        let bytes: Vec<u8> = vector.iter().flat_map(|x| x.to_le_bytes()).collect();
        let text = json!({"vector": base64::engine::general_purpose::STANDARD.encode(bytes)}).to_string();
        let bits = |v: &[f32]| v.iter().map(|x| x.to_bits()).collect::<Vec<_>>();
        for read in [vectors::quickly::<SearchRequest>(&text), serde_json::from_str(&text)] {
            prop_assert_eq!(bits(&read.unwrap().vector.unwrap()), bits(&vector));
        }
    }
}
