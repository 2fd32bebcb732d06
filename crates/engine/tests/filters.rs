//! Filters against a naive evaluator over the JSON records, and what the parser says of bad text.

use proptest::prelude::*;
use serde_json::{Map, Value, json};
use zesty_engine::filter::{FilterError, Test, parse};
use zesty_engine::schema::{date, timestamp};
use zesty_engine::table::{Change, Writer};
use zesty_engine::{Metric, Schema};

fn schema() -> Schema {
    Schema::from_json(&json!({"properties": {
        "station": {"type": "string"}, "year": {"type": "integer"}, "depth": {"type": "number"},
        "sketch": {"type": "boolean"}, "logged": {"type": "string", "format": "date"},
        "at": {"type": "string", "format": "date-time"},
        "tags": {"type": "array", "items": {"type": "string"}},
        "codes": {"type": "array", "items": {"type": "integer"}},
    }}))
    .unwrap()
}

/// One atom of a filter: its text, and what it says of a record (`None`: unknown).
#[derive(Clone, Debug)]
struct Atom {
    text: String,
    field: &'static str,
    check: Check,
}

#[derive(Clone, Debug)]
enum Check {
    Compare(&'static str, Value),
    Between(Value, Value),
    In(Vec<Value>),
    Like(String),
    IsNull,
    Array(&'static str, Vec<Value>),
}

#[derive(Clone, Debug)]
enum Tree {
    Atom(Atom),
    Not(Box<Tree>),
    And(Vec<Tree>),
    Or(Vec<Tree>),
}

impl Tree {
    fn text(&self) -> String {
        let join = |parts: &[Tree], word: &str| {
            let parts: Vec<_> = parts.iter().map(|p| format!("({})", p.text())).collect();
            parts.join(word)
        };
        match self {
            Tree::Atom(atom) => atom.text.clone(),
            Tree::Not(part) => format!("NOT ({})", part.text()),
            Tree::And(parts) => join(parts, " AND "),
            Tree::Or(parts) => join(parts, " or "),
        }
    }

    fn holds(&self, body: &Map<String, Value>) -> Option<bool> {
        match self {
            Tree::Atom(atom) => atom.holds(body),
            Tree::Not(part) => part.holds(body).map(|b| !b),
            Tree::And(parts) => {
                let all: Vec<_> = parts.iter().map(|p| p.holds(body)).collect();
                if all.contains(&Some(false)) {
                    Some(false)
                } else if all.contains(&None) {
                    None
                } else {
                    Some(true)
                }
            }
            Tree::Or(parts) => {
                let all: Vec<_> = parts.iter().map(|p| p.holds(body)).collect();
                if all.contains(&Some(true)) {
                    Some(true)
                } else if all.contains(&None) {
                    None
                } else {
                    Some(false)
                }
            }
        }
    }
}

/// Orders two JSON values of one field the slow way.
fn order(field: &str, a: &Value, b: &Value) -> std::cmp::Ordering {
    match field {
        "station" => a.as_str().unwrap().cmp(b.as_str().unwrap()),
        "logged" => date(a.as_str().unwrap()).cmp(&date(b.as_str().unwrap())),
        "at" => timestamp(a.as_str().unwrap()).cmp(&timestamp(b.as_str().unwrap())),
        "sketch" => a.as_bool().cmp(&b.as_bool()),
        "year" if b.is_i64() => a.as_i64().cmp(&b.as_i64()),
        _ => a.as_f64().unwrap().partial_cmp(&b.as_f64().unwrap()).unwrap(),
    }
}

fn like(pattern: &[char], text: &[char]) -> bool {
    match pattern.split_first() {
        None => text.is_empty(),
        Some(('%', rest)) => (0..=text.len()).any(|i| like(rest, &text[i..])),
        Some(('_', rest)) => !text.is_empty() && like(rest, &text[1..]),
        Some((c, rest)) => text.first() == Some(c) && like(rest, &text[1..]),
    }
}

impl Atom {
    fn holds(&self, body: &Map<String, Value>) -> Option<bool> {
        let value = body.get(self.field).filter(|v| !v.is_null());
        if matches!(self.check, Check::IsNull) {
            return Some(value.is_none());
        }
        let value = value?;
        let order = |other: &Value| order(self.field, value, other);
        Some(match &self.check {
            Check::Compare("=", v) => order(v).is_eq(),
            Check::Compare("<>", v) => order(v).is_ne(),
            Check::Compare("<", v) => order(v).is_lt(),
            Check::Compare("<=", v) => order(v).is_le(),
            Check::Compare(">", v) => order(v).is_gt(),
            Check::Compare(_, v) => order(v).is_ge(),
            Check::Between(low, high) => order(low).is_ge() && order(high).is_le(),
            Check::In(values) => values.iter().any(|v| order(v).is_eq()),
            Check::Like(pattern) => like(
                &pattern.chars().collect::<Vec<_>>(),
                &value.as_str().unwrap().chars().collect::<Vec<_>>(),
            ),
            Check::IsNull => unreachable!(),
            Check::Array(name, wanted) => {
                let list = value.as_array().unwrap();
                let contains = wanted.iter().all(|w| list.contains(w));
                let contained = list.iter().all(|x| wanted.contains(x));
                match *name {
                    "A_CONTAINS" => contains,
                    "A_CONTAINEDBY" => contained,
                    "A_EQUALS" => contains && contained,
                    _ => list.iter().any(|x| wanted.contains(x)),
                }
            }
        })
    }
}

const STATIONS: [&str; 6] = ["Gull Rock", "gull rock", "O'Dell", "", "Ness", "Gannet Öya"];

fn value(field: &'static str) -> BoxedStrategy<Value> {
    match field {
        "station" => prop::sample::select(&STATIONS[..]).prop_map(|s| json!(s)).boxed(),
        "year" => prop_oneof![4 => (1910i64..1915).prop_map(|y| json!(y)), 1 => Just(json!(i64::MAX)),
            1 => Just(json!(i64::MIN)), 1 => Just(json!(9007199254740993i64))]
        .boxed(),
        "depth" => prop::sample::select(&[0.0, -0.5, 2.25, 1e300][..]).prop_map(|x| json!(x)).boxed(),
        "sketch" => any::<bool>().prop_map(|b| json!(b)).boxed(),
        "logged" => (1u32..4).prop_map(|d| json!(format!("1931-10-0{d}"))).boxed(),
        "at" => (1u32..4).prop_map(|d| json!(format!("1931-10-04T0{d}:00:00Z"))).boxed(),
        "tags" => prop::collection::vec(prop::sample::select(&["fog", "oil", "glass"][..]), 0..3)
            .prop_map(|l| json!(l))
            .boxed(),
        _ => prop::collection::vec(1i64..4, 0..3).prop_map(|l| json!(l)).boxed(),
    }
}

/// The text of a literal of this field.
fn literal(field: &str, value: &Value) -> String {
    match (field, value) {
        ("logged", v) => format!("DATE('{}')", v.as_str().unwrap()),
        ("at", v) => format!("TIMESTAMP('{}')", v.as_str().unwrap()),
        (_, Value::String(s)) => format!("'{}'", s.replace('\'', "''")),
        (_, v) => v.to_string(),
    }
}

fn atom() -> impl Strategy<Value = Tree> {
    let scalar =
        prop::sample::select(&["station", "year", "depth", "logged", "at"][..]).prop_flat_map(|field| {
            let compare = (prop::sample::select(&["=", "<>", "<", "<=", ">", ">="][..]), value(field))
                .prop_map(move |(op, v)| Atom {
                    text: format!("{field} {op} {}", literal(field, &v)),
                    field,
                    check: Check::Compare(op, v),
                });
            let half = (prop::sample::select(&["=", "<", "<=", ">", ">="][..]), 1909i64..1916).prop_map(
                |(op, y)| Atom {
                    text: format!("{y}.5 {op} year"),
                    field: "year",
                    check: Check::Compare(
                        match op {
                            "<" => ">",
                            "<=" => ">=",
                            ">" => "<",
                            ">=" => "<=",
                            e => e,
                        },
                        json!(y as f64 + 0.5),
                    ),
                },
            );
            let between = (value(field), value(field)).prop_map(move |(a, b)| Atom {
                text: format!("{field} BETWEEN {} and {}", literal(field, &a), literal(field, &b)),
                field,
                check: Check::Between(a, b),
            });
            let one_of = prop::collection::vec(value(field), 0..4).prop_map(move |list| {
                let texts: Vec<_> = list.iter().map(|v| literal(field, v)).collect();
                Atom { text: format!("{field} IN ({})", texts.join(", ")), field, check: Check::In(list) }
            });
            prop_oneof![compare, half, between, one_of]
        });
    let flag = any::<bool>().prop_map(|b| Atom {
        text: if b { "sketch".into() } else { "sketch = FALSE".into() },
        field: "sketch",
        check: Check::Compare("=", json!(b)),
    });
    let like =
        prop::sample::select(&["%", "G%", "_ull%k", "%l%", "Ness", "", "%'%", "%Ö_a"][..]).prop_map(|p| {
            Atom {
                text: format!("station LIKE '{}'", p.replace('\'', "''")),
                field: "station",
                check: Check::Like(p.into()),
            }
        });
    let null =
        prop::sample::select(&["station", "year", "depth", "sketch", "logged", "at", "tags", "codes"][..])
            .prop_map(|field| Atom { text: format!("\"{field}\" IS NULL"), field, check: Check::IsNull });
    let array = (
        prop::sample::select(&["A_CONTAINS", "A_CONTAINEDBY", "A_EQUALS", "a_overlaps"][..]),
        prop::sample::select(&["tags", "codes"][..]),
    )
        .prop_flat_map(|(name, field)| {
            value(field).prop_map(move |list| {
                let list = list.as_array().unwrap().clone();
                let texts: Vec<_> = list.iter().map(|v| literal(field, v)).collect();
                Atom {
                    text: format!("{name}({field}, ({}))", texts.join(",")),
                    field,
                    check: Check::Array(name, list),
                }
            })
        });
    prop_oneof![4 => scalar, 1 => flag, 1 => like, 1 => null, 1 => array].prop_map(Tree::Atom)
}

fn tree() -> impl Strategy<Value = Tree> {
    atom().prop_recursive(4, 20, 3, |inner| {
        prop_oneof![
            inner.clone().prop_map(|t| Tree::Not(Box::new(t))),
            prop::collection::vec(inner.clone(), 2..4).prop_map(Tree::And),
            prop::collection::vec(inner, 2..4).prop_map(Tree::Or),
        ]
    })
}

fn record() -> impl Strategy<Value = Map<String, Value>> {
    let maybe = |f| prop_oneof![3 => value(f).prop_map(Some), 1 => Just(Some(Value::Null)), 1 => Just(None)];
    let fields = ["station", "year", "depth", "sketch", "logged", "at", "tags", "codes"];
    fields.map(maybe).prop_map(move |values| {
        fields.iter().zip(values).filter_map(|(f, v)| Some(((*f).to_owned(), v?))).collect()
    })
}

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
            number: i as u64, key: format!("k{i}"), revision, body, vectors: vec![None] };
        let all: Vec<_> = records.iter().cloned().enumerate().map(|(i, b)| change(i, 1, Some(b))).collect();
        writer.apply(1, &all);
        for (n, (i, body)) in replaced.into_iter().enumerate().filter(|(_, (i, _))| *i < records.len()) {
            live[i] = body.clone();
            writer.apply(2 + n as u64, &[change(i, 2 + n as u64, body)]);
        }
        let table = writer.snapshot();
        let text = tree.text();
        let test = Test::new(&parse(&text).unwrap(), &schema()).unwrap();
        let mut got: Vec<&str> = test.run(&table).ones().map(|row| table.key(row as u32)).collect();
        got.sort();
        let mut want: Vec<String> = live.iter().enumerate()
            .filter(|(_, b)| b.as_ref().is_some_and(|b| tree.holds(b) == Some(true)))
            .map(|(i, _)| format!("k{i}")).collect();
        want.sort();
        prop_assert_eq!(got, want, "{}", text);
    }

    #[test]
    fn any_text_gets_an_answer(text in "[ a-z'\"()=<>,.0-9%_\\\\éANDORTI-]{0,60}") {
        if let Err(e) = parse(&text) {
            prop_assert!(e.start <= e.end && e.end <= text.len() && text.is_char_boundary(e.start));
            e.place(&text);
        }
    }
}

fn refused(text: &str) -> FilterError {
    match parse(text) {
        Err(e) => e,
        Ok(expr) => Test::new(&expr, &schema()).expect_err(text),
    }
}

#[test]
fn errors_point_at_the_wrong_part() {
    for (text, wrong, part) in [
        ("year >", "", "expected a value"),
        ("year => 3", ">", "expected a value"),
        ("year == 3", "=", "expected a value"),
        ("year != 3", "!", "<>"),
        ("station = Ness", "Ness", "'Ness'"),
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
        ("CASEI(station) = 'x'", "CASEI", "not supported"),
        ("year + 1 = 3", "+", "arithmetic"),
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
    assert!(parse(&ok).is_ok());
    let long = format!("year IN ({}1)", "1,".repeat(100_000));
    assert!(refused(&long).message.contains("100000 values"));
    let fits = format!("year IN ({}1)", "1,".repeat(99_999));
    assert!(Test::new(&parse(&fits).unwrap(), &schema()).is_ok());
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
    let test = Test::new(&parse("year = 9007199254740993").unwrap(), &schema()).unwrap();
    assert_eq!(test.run(&writer.snapshot()).ones().collect::<Vec<_>>(), [1]);
}
