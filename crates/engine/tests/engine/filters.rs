//! Filters against a naive evaluator over the JSON records, and what the parser says of bad text.

use crate::naive::*;
use proptest::prelude::*;
use serde_json::{Map, Value, json};
use zesty_engine::Metric;
use zesty_engine::filter::{Bound, Expr, Filter, FilterError, Literal, Node, Term, Test};
use zesty_engine::rows::{Change, Writer};

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn filters_allow_what_the_naive_evaluator_allows(
        records in prop::collection::vec(record(), 0..90),
        replaced in prop::collection::vec((0usize..90, prop::option::of(record())), 0..20),
        tree in tree(),
    ) {
        let mut writer = Writer::new(schema(), [("v".to_owned(), Metric::Dot, 1)]);
        let mut live: Vec<Option<Map<String, Value>>> = records.iter().cloned().map(Some).collect();
        let change = |i: usize, revision, body| Change {
            number: i as u64, key: format!("k{i}"), revision, body, vectors: vec![None.into()] };
        let all: Vec<_> = records.iter().cloned().enumerate().map(|(i, b)| change(i, 1, Some(b))).collect();
        writer.apply(1, &all);
        for (n, (i, body)) in replaced.into_iter().enumerate().filter(|(_, (i, _))| *i < records.len()) {
            live[i] = body.clone();
            writer.apply(2 + n as u64, &[change(i, 2 + n as u64, body)]);
        }
        let table = writer.snapshot();
        let text = tree.text();
        let filter = Filter::from_text(&text).unwrap();
        let test = filter.compile(&schema()).unwrap();
        let printed = filter.to_text();
        prop_assert_eq!(&Filter::from_text(&printed).unwrap().expr, &filter.expr, "{}", printed);
        let json = Filter::from_json(&filter.to_json()).unwrap();
        prop_assert_eq!(&json.expr, &filter.expr);
        prop_assert_eq!(&json.compile(&schema()).unwrap(), &test);
        let mut got: Vec<&str> = test.run(&table).ones().map(|row| table.key(row as u32)).collect();
        got.sort();
        let mut want: Vec<String> = live.iter().enumerate()
            .filter(|(_, b)| b.as_ref().is_some_and(|b| tree.holds(b) == Some(true)))
            .map(|(i, _)| format!("k{i}")).collect();
        want.sort();
        prop_assert_eq!(got, want, "{}", text);
    }

    #[test]
    fn values_of_parameters_stand_where_literals_stood(tree in tree()) {
        let filter = Filter::from_text(&tree.text()).unwrap();
        let (mut json, mut taken) = (filter.to_json(), Vec::new());
        take_literals(&mut json, &mut taken);
        let with_parameters = Filter::from_json(&json).unwrap();
        let names: Vec<String> = (0..taken.len()).map(|i| format!("p{i}")).collect();
        prop_assert!(with_parameters.parameters().len() == names.len());
        let value = |name: &str| names.iter().position(|n| n == name).map(|i| Bound::One(taken[i].clone()));
        let bound = with_parameters.bind(value).unwrap().unwrap();
        prop_assert_eq!(&bound.expr, &filter.expr);
        let text = with_parameters.to_text();
        prop_assert_eq!(&Filter::from_text(&text).unwrap().expr, &with_parameters.expr, "{}", text);
        if !taken.is_empty() {
            let refused = with_parameters.compile(&schema()).unwrap_err();
            prop_assert!(refused.message.contains("is a parameter"), "{}", refused.message);
        }
    }

    #[test]
    fn every_text_in_a_json_filter_has_a_readable_form(literal in "[a'\\\\\"%_é]{0,12}") {
        for op in ["=", "like"] {
            let json = json!({"op": op, "args": [{"property": "station"}, literal]});
            let filter = Filter::from_json(&json).unwrap();
            let again = Filter::from_text(&filter.to_text());
            prop_assert!(again.is_ok(), "{}", filter.to_text());
            prop_assert_eq!(&again.unwrap().expr, &filter.expr, "{}", filter.to_text());
        }
    }

    #[test]
    fn any_text_gets_an_answer(text in "[ a-z'\":()=<>,.0-9%_\\\\éANDORTI-]{0,60}") {
        if let Err(e) = Filter::from_text(&text) {
            prop_assert!(e.start <= e.end && e.end <= text.len() && text.is_char_boundary(e.start));
            e.place(&text);
        }
    }
}

/// Puts a parameter in the place of every literal that is compared with something.
fn take_literals(json: &mut Value, taken: &mut Vec<Literal>) {
    let moment = json.as_object().is_some_and(|o| o.contains_key("date") || o.contains_key("timestamp"));
    match json {
        Value::String(_) | Value::Number(_) => {}
        Value::Object(_) if moment => {}
        Value::Array(items) => return items.iter_mut().for_each(|item| take_literals(item, taken)),
        Value::Object(object) => {
            return object.get_mut("args").into_iter().for_each(|a| take_literals(a, taken));
        }
        _ => return,
    }
    let compared = Filter::from_json(&json!({"op": "=", "args": [{"property": "x"}, json]})).unwrap();
    let Expr::Compare(_, _, Node { is: Term::Literal(literal), .. }) = compared.expr else { unreachable!() };
    *json = json!({"parameter": format!("p{}", taken.len())});
    taken.push(literal);
}

fn refused(text: &str) -> FilterError {
    Filter::from_text(text).and_then(|f| f.compile(&schema())).expect_err(text)
}

fn compiled(text: &str) -> Result<Test, FilterError> {
    Filter::from_text(text)?.compile(&schema())
}

#[test]
fn errors_point_at_the_wrong_part() {
    for (text, wrong, part) in [
        ("year >", "", "expected a field or a value"),
        ("year => 3", ">", "expected a field or a value"),
        ("year == 3", "=", "expected a field or a value"),
        ("year != 3", "!", "<>"),
        ("station = Ness", "Ness", "'Ness'"),
        ("CASEI(station) = 'Ness'", "'Ness'", "CASEI('Ness')"),
        ("year + station = 3", "station", "arithmetic takes numbers"),
        ("year = 1 / 0", "1 / 0", "not a number"),
        ("- year = 3", "-", "0 - field"),
        ("year = keeper", "keeper", "cannot be compared"),
        ("year + 1", "year + 1", "not a condition"),
        ("year BETWEEN 1 OR 2", "OR", "expected AND"),
        ("S_INTERSECTS(year, POINT(1 2))", "S_INTERSECTS", "not supported"),
        ("station = POINT(1 2)", "POINT", "not supported"),
        ("T_DURING(INTERVAL('..', '..'), logged)", "logged", "takes an interval"),
        ("T_MEETS(logged, INTERVAL('..', '..'))", "logged", "takes an interval"),
        ("T_AFTER(year, DATE('1931-01-01'))", "year", "not a time"),
        (
            "T_AFTER(logged, INTERVAL('1931-01-02', '1931-01-01'))",
            "INTERVAL('1931-01-02', '1931-01-01')",
            "before",
        ),
        ("T_AFTER(logged, INTERVAL('1931', '..'))", "'1931'", "end of an interval"),
        ("A_CONTAINS(tags, codes)", "codes", "different items"),
        ("A_CONTAINS(tags, (1))", "1", "its items"),
        ("tags IN ('fog')", "tags", "A_CONTAINS"),
        ("nothing(year) = 1", "nothing", "not known"),
        ("LENGTH(year) = 1", "year", "neither"),
        ("station = \"Ness\"", "\"Ness\"", "'Ness'"),
        ("staton = 'Ness'", "staton", "did you mean \"station\""),
        ("year = '1931'", "'1931'", "year is an integer"),
        ("logged > '1931-01-01'", "'1931-01-01'", "DATE('1931-10-04')"),
        ("logged > DATE('1931-02-30')", "'1931-02-30'", "not a real date"),
        ("year = 99999999999999999999", "99999999999999999999", "64-bit"),
        ("depth < 1e999", "1e999", "64-bit"),
        ("(year = 1", "", "close the parenthesis"),
        ("station = 'Ness", "'", "not closed"),
        ("year = 1 station = 'x'", "station", "expected AND, OR"),
        ("year NOT 3", "3", "BETWEEN, IN or LIKE"),
        ("CASEY(station) = 'x'", "CASEY", "did you mean"),
        ("tags = 'fog'", "tags", "A_CONTAINS"),
        ("year LIKE 'x'", "year", "LIKE needs a string"),
        ("station", "station", "not a condition"),
        ("", "", "expected a"),
    ] {
        let e = refused(text);
        assert_eq!(&text[e.start..e.end], wrong, "{text}: {e}");
        assert!(e.message.contains(part), "{text}: {e}");
    }
    let text = "year = 1 AND\n  öde = 2";
    assert_eq!(refused(text).place(text), (2, 3));
}

#[test]
fn limits_are_named_not_crashed_into() {
    let deep = format!("{}year = 1{}", "(".repeat(100_000), ")".repeat(100_000));
    assert!(refused(&deep).message.contains("100 deep"));
    let nots = format!("{} year = 1", "NOT ".repeat(200_000));
    assert!(refused(&nots).message.contains("100 deep"));
    let ok = format!("{}year = 1{}", "(".repeat(99), ")".repeat(99));
    assert!(compiled(&ok).is_ok());
    let long = format!("year IN ({}1)", "1,".repeat(100_000));
    assert!(refused(&long).message.contains("100000 values"));
    let fits = format!("year IN ({}1)", "1,".repeat(99_999));
    assert!(compiled(&fits).is_ok());
    let many = vec!["year = 1"; 1001].join(" OR ");
    assert!(refused(&many).message.contains("1000 conditions"));
    let long = format!("year{} = 1", " + 1".repeat(101));
    assert!(refused(&long).message.contains("100 operators"));
    let nested = format!("{}year{} = 1", "(1 + ".repeat(101), ")".repeat(101));
    assert!(refused(&nested).message.contains("100"));
    let pattern = format!("station LIKE '{}'", "%a".repeat(501));
    assert!(refused(&pattern).message.contains("1000"));
    let loose = format!("year + 1 IN ({}1)", "1,".repeat(1000));
    assert!(refused(&loose).message.contains("1000"));
    let huge = "year = 1 OR ".repeat(200_000);
    assert!(refused(&huge).message.contains("1048576"));
}

#[test]
fn large_integers_are_exact() {
    let mut writer = Writer::new(schema(), []);
    let body = |y: i64| json!({"year": y}).as_object().cloned();
    let changes: Vec<_> = [9007199254740992i64, 9007199254740993]
        .iter()
        .enumerate()
        .map(|(i, y)| Change {
            number: i as u64,
            key: i.to_string(),
            revision: 1,
            body: body(*y),
            vectors: vec![],
        })
        .collect();
    writer.apply(1, &changes);
    let test = compiled("year = 9007199254740993").unwrap();
    assert_eq!(test.run(&writer.snapshot()).ones().collect::<Vec<_>>(), [1]);
}

#[test]
fn stretches_of_time_lie_as_their_relation_says() {
    let day = |d: &str| if d == ".." { d.to_owned() } else { format!("1931-01-{d}") };
    let names = [
        "AFTER",
        "BEFORE",
        "CONTAINS",
        "DISJOINT",
        "DURING",
        "EQUALS",
        "FINISHEDBY",
        "FINISHES",
        "INTERSECTS",
        "MEETS",
        "METBY",
        "OVERLAPPEDBY",
        "OVERLAPS",
        "STARTEDBY",
        "STARTS",
    ];
    for (a, b, true_of) in [
        (["05", "06"], ["01", "02"], vec!["AFTER", "DISJOINT"]),
        (["01", "02"], ["05", "06"], vec!["BEFORE", "DISJOINT"]),
        (["01", "09"], ["03", "04"], vec!["CONTAINS", "INTERSECTS"]),
        (["03", "04"], ["..", ".."], vec!["DURING", "INTERSECTS"]),
        (["03", "04"], ["03", "04"], vec!["EQUALS", "INTERSECTS"]),
        (["01", "09"], ["04", "09"], vec!["FINISHEDBY", "INTERSECTS"]),
        (["04", ".."], ["01", ".."], vec!["FINISHES", "INTERSECTS"]),
        (["01", "04"], ["04", "09"], vec!["MEETS", "INTERSECTS"]),
        (["04", "09"], ["01", "04"], vec!["METBY", "INTERSECTS"]),
        (["03", "09"], ["01", "04"], vec!["OVERLAPPEDBY", "INTERSECTS"]),
        (["01", "04"], ["03", "09"], vec!["OVERLAPS", "INTERSECTS"]),
        (["01", "09"], ["01", "04"], vec!["STARTEDBY", "INTERSECTS"]),
        (["01", "04"], ["01", "09"], vec!["STARTS", "INTERSECTS"]),
    ] {
        let mut writer = Writer::new(schema(), []);
        let body = json!({"logged": day(a[0]), "ended": day(a[1])});
        let body = body.as_object().unwrap().iter().filter(|(_, v)| *v != "..");
        let body = Some(body.map(|(k, v)| (k.clone(), v.clone())).collect());
        writer.apply(1, &[Change { number: 0, key: "a".into(), revision: 1, body, vectors: vec![] }]);
        let end = if a[1] == ".." { "'..'" } else { "ended" };
        for name in names {
            let text =
                format!("T_{name}(INTERVAL(logged, {end}), INTERVAL('{}', '{}'))", day(b[0]), day(b[1]));
            let yes = compiled(&text).unwrap().run(&writer.snapshot()).contains(0);
            assert_eq!(yes, true_of.contains(&name), "{text} of {a:?}");
            let not = compiled(&format!("NOT {text}")).unwrap().run(&writer.snapshot()).contains(0);
            assert_eq!(not, !yes, "{text} of {a:?}");
        }
    }
}

#[test]
fn a_date_among_timestamps_is_the_whole_day() {
    let mut writer = Writer::new(schema(), []);
    let body = json!({"logged": "1931-10-04", "at": "1931-10-04T23:59:59.5Z"}).as_object().cloned();
    writer.apply(1, &[Change { number: 0, key: "a".into(), revision: 1, body, vectors: vec![] }]);
    for (text, yes) in [
        ("T_EQUALS(logged, DATE('1931-10-04'))", true),
        ("T_INTERSECTS(at, DATE('1931-10-04'))", true),
        ("T_INTERSECTS(at, INTERVAL('1931-10-01', '1931-10-04'))", true),
        ("T_AFTER(at, DATE('1931-10-04'))", false),
        ("T_DURING(at, INTERVAL(logged, '..'))", true),
        ("T_CONTAINS(INTERVAL('..', TIMESTAMP('1931-10-05T00:00:00Z')), logged)", true),
        ("T_BEFORE(at, INTERVAL(ended, '..'))", false),
        ("NOT T_BEFORE(at, INTERVAL(ended, '..'))", false),
        ("at > DATE('1931-10-04')", true),
        ("at < DATE('1931-10-05')", true),
    ] {
        assert_eq!(compiled(text).unwrap().run(&writer.snapshot()).contains(0), yes, "{text}");
    }
}

#[test]
fn json_filters_are_read_and_their_faults_are_pointed_at() {
    let text =
        "CASEI(station) LIKE 'g%' AND (year + 1 > 1930 OR T_DURING(logged, INTERVAL('1931-01-01', '..')))";
    let json = json!({"op": "and", "args": [
        {"op": "like", "args": [{"op": "casei", "args": [{"property": "station"}]}, "g%"]},
        {"op": "or", "args": [
            {"op": ">", "args": [{"op": "+", "args": [{"property": "year"}, 1]}, 1930]},
            {"op": "t_during", "args": [{"property": "logged"}, {"interval": ["1931-01-01", ".."]}]},
        ]},
    ]});
    let filter = Filter::from_json(&json).unwrap();
    assert_eq!(filter.to_text(), text);
    assert_eq!(Filter::from_text(text).unwrap().to_json(), json);
    let year = || json!({"property": "year"});
    for (json, pointer, part) in [
        (json!({"op": "=", "args": [{"property": "yaer"}, 3]}), "/args/0", "did you mean \"year\""),
        (
            json!({"op": "and", "args": [true, {"op": "<", "args": [year(), "x"]}]}),
            "/args/1/args/1",
            "an integer",
        ),
        (json!({"op": "=", "args": [year()]}), "", "takes 2 arguments"),
        (json!({"op": "lik", "args": []}), "", "did you mean \"like\""),
        (json!({"op": "s_within", "args": []}), "", "not supported"),
        (
            json!({"op": "=", "args": [year(), {"type": "Point", "coordinates": [1, 2]}]}),
            "/args/1",
            "geometry",
        ),
        (json!({"op": "in", "args": [year(), 3]}), "/args/1", "array of values"),
        (json!({"op": "in", "args": [year(), [1, "b"]]}), "/args/1/1", "an integer"),
        (json!({"args": []}), "", "\"op\""),
        (json!({"op": "not", "args": 3}), "/args", "array"),
        (
            json!({"op": ">", "args": [{"property": "logged"}, {"date": "1931-02-30"}]}),
            "/args/1",
            "real date",
        ),
        (json!({"op": "+", "args": [1, 2]}), "", "not a condition"),
        (json!([]), "", "expected a condition"),
    ] {
        let e = Filter::from_json(&json).and_then(|f| f.compile(&schema())).expect_err(&json.to_string());
        assert_eq!(e.pointer.as_deref(), Some(pointer), "{json}: {e}");
        assert!(e.message.contains(part), "{json}: {e}");
    }
    let deep = (0..101).fold(json!(true), |inner, _| json!({"op": "not", "args": [inner]}));
    assert!(Filter::from_json(&deep).unwrap_err().message.contains("100 deep"));
}

#[test]
fn values_of_parameters_cannot_change_what_is_asked() {
    let bind = |text: &str, values: &[(&str, Bound)]| {
        let of = |name: &str| values.iter().find(|(n, _)| *n == name).map(|(_, v)| v.clone());
        Filter::from_text(text).unwrap().bind(of).map(|f| f.map(|f| f.to_text()))
    };
    let text = |t: &str| Bound::One(Literal::Text(t.into()));
    let hostile = text("x' OR TRUE OR 'a' = 'a");
    let bound = bind("station = :s", &[("s", hostile)]).unwrap().unwrap();
    assert_eq!(bound, "station = 'x'' OR TRUE OR ''a'' = ''a'");
    // Several values where a list can stand, and nowhere else.
    let two = Bound::List(vec![Literal::Text("a".into()), Literal::Text("b".into())]);
    let bound =
        bind("station IN (:s, 'c') AND A_OVERLAPS(tags, :s)", &[("s", two.clone())]).unwrap().unwrap();
    assert_eq!(bound, "station IN ('a', 'b', 'c') AND A_OVERLAPS(tags, ('a', 'b'))");
    let one = bind("A_CONTAINS(tags, :s)", &[("s", text("a"))]).unwrap().unwrap();
    assert_eq!(one, "A_CONTAINS(tags, ('a'))");
    let of = |_: &str| Some(two.clone());
    let misplaced = Filter::from_text("station = :s").unwrap().bind(of).unwrap().unwrap();
    assert!(misplaced.compile(&schema()).unwrap_err().message.contains("may only follow IN"));
    // A condition without a value is left out, with what it alone made up.
    let all = "NOT (station = :a) AND (wind > :b OR wind < 3) AND sketch";
    assert_eq!(bind(all, &[]).unwrap().unwrap(), "wind < 3 AND sketch");
    assert_eq!(bind("station = :a OR NOT wind > :b", &[]).unwrap(), None);
    let many = Bound::List(vec![Literal::Integer(1); 100_001]);
    assert!(bind("wind IN (:b)", &[("b", many)]).unwrap_err().message.contains("100000"));
    for wrong in ["station = :", "station = :1", "station = : a"] {
        assert!(
            Filter::from_text(wrong).unwrap_err().message.contains("a colon begins a parameter"),
            "{wrong}"
        );
    }
}
