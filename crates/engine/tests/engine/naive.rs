//! Random filters, and an evaluator that is slow and obvious.

use proptest::prelude::*;
use serde_json::{Map, Value, json};
use std::sync::Arc;
use zesty_engine::Schema;
use zesty_engine::filter::Filter;
use zesty_engine::schema::{date, timestamp};

pub fn schema() -> Schema {
    Schema::from_json(&json!({"properties": {
        "station": {"type": "string"}, "year": {"type": "integer"}, "depth": {"type": "number"},
        "sketch": {"type": "boolean"}, "logged": {"type": "string", "format": "date"},
        "at": {"type": "string", "format": "date-time"},
        "tags": {"type": "array", "items": {"type": "string"}},
        "codes": {"type": "array", "items": {"type": "integer"}},
        "keeper": {"type": "string"}, "ended": {"type": "string", "format": "date"},
        "marks": {"type": "array", "items": {"type": "string"}},
    }}))
    .unwrap()
}

/// One atom of a filter: its text, and what it says of a record (`None`: unknown).
#[derive(Clone, Debug)]
pub struct Atom {
    pub text: String,
    pub field: &'static str,
    pub check: Check,
}

#[derive(Clone, Debug)]
pub enum Check {
    Compare(&'static str, Value),
    Between(Value, Value),
    In(Vec<Value>),
    Like(String),
    IsNull,
    Array(&'static str, Vec<Value>),
    /// Whatever else a naive evaluator can be written for.
    Other(Other),
}

pub type Naive = dyn Fn(&Map<String, Value>) -> Option<bool> + Send + Sync;

#[derive(Clone)]
pub struct Other(pub Arc<Naive>);

impl std::fmt::Debug for Other {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("naive")
    }
}

#[derive(Clone, Debug)]
pub enum Tree {
    Atom(Atom),
    Not(Box<Tree>),
    And(Vec<Tree>),
    Or(Vec<Tree>),
}

impl Tree {
    pub fn text(&self) -> String {
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

    pub fn holds(&self, body: &Map<String, Value>) -> Option<bool> {
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
pub fn order(field: &str, a: &Value, b: &Value) -> std::cmp::Ordering {
    match field {
        "station" | "keeper" => a.as_str().unwrap().cmp(b.as_str().unwrap()),
        "logged" | "ended" => date(a.as_str().unwrap()).cmp(&date(b.as_str().unwrap())),
        "at" => timestamp(a.as_str().unwrap()).cmp(&timestamp(b.as_str().unwrap())),
        "sketch" => a.as_bool().cmp(&b.as_bool()),
        "year" if b.is_i64() => a.as_i64().cmp(&b.as_i64()),
        _ => a.as_f64().unwrap().partial_cmp(&b.as_f64().unwrap()).unwrap(),
    }
}

pub fn like(pattern: &[char], text: &[char]) -> bool {
    match pattern.split_first() {
        None => text.is_empty(),
        Some(('%', rest)) => (0..=text.len()).any(|i| like(rest, &text[i..])),
        Some(('_', rest)) => !text.is_empty() && like(rest, &text[1..]),
        Some((c, rest)) => text.first() == Some(c) && like(rest, &text[1..]),
    }
}

impl Atom {
    pub fn holds(&self, body: &Map<String, Value>) -> Option<bool> {
        if let Check::Other(other) = &self.check {
            return other.0(body);
        }
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
            Check::IsNull | Check::Other(_) => unreachable!(),
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

pub const STATIONS: [&str; 7] = ["Gull Rock", "gull rock", "O'Dell", "", "Ness", "Gannet Öya", "GANNET OYA"];

pub fn here<'a>(body: &'a Map<String, Value>, field: &str) -> Option<&'a Value> {
    body.get(field).filter(|v| !v.is_null())
}

/// A number that is computed, the slow way.
#[derive(Clone, Debug)]
pub enum Sum {
    Whole(i64),
    Real(f64),
    Field(&'static str),
    Length(&'static str),
    Of(&'static str, Box<Sum>, Box<Sum>),
}

impl Sum {
    pub fn text(&self) -> String {
        match self {
            Sum::Whole(n) => n.to_string(),
            Sum::Real(x) => format!("{x:?}"),
            Sum::Field(name) => (*name).into(),
            Sum::Length(name) => format!("length({name})"),
            Sum::Of(op, a, b) => format!("({} {op} {})", a.text(), b.text()),
        }
    }

    /// Whole numbers as such, others as 64-bit numbers.
    pub fn of(&self, body: &Map<String, Value>) -> Option<Result<i128, f64>> {
        let real = |n: Result<i128, f64>| n.map_or_else(|x| x, |n| n as f64);
        Some(match self {
            Sum::Whole(n) => Ok((*n).into()),
            Sum::Real(x) => Err(*x),
            Sum::Field("depth") => Err(here(body, "depth")?.as_f64()?),
            Sum::Field(name) => Ok(here(body, name)?.as_i64()?.into()),
            Sum::Length(name) => Ok(match here(body, name)? {
                Value::String(s) => s.chars().count() as i128,
                list => list.as_array()?.len() as i128,
            }),
            Sum::Of(op, a, b) => {
                let (a, b) = (a.of(body)?, b.of(body)?);
                let (x, y) = (real(a), real(b));
                let n = match (*op, a, b) {
                    ("+", Ok(a), Ok(b)) => Ok(a + b),
                    ("-", Ok(a), Ok(b)) => Ok(a - b),
                    ("*", Ok(a), Ok(b)) => Ok(a * b),
                    ("div", Ok(a), Ok(b)) => Ok(a.checked_div(b)?),
                    ("%", Ok(a), Ok(b)) => Ok(a.checked_rem(b)?),
                    ("+", ..) => Err(x + y),
                    ("-", ..) => Err(x - y),
                    ("*", ..) => Err(x * y),
                    ("/", ..) => Err(x / y),
                    ("div", ..) => Err((x / y).trunc()),
                    ("%", ..) => Err(x % y),
                    _ => Err(x.powf(y)),
                };
                match n {
                    Ok(n) if i64::try_from(n).is_err() => return None,
                    Err(x) if !x.is_finite() => return None,
                    n => n,
                }
            }
        })
    }
}

pub fn sum() -> impl Strategy<Value = Sum> {
    let leaf = prop_oneof![
        (-3i64..4).prop_map(Sum::Whole),
        prop::sample::select(&[0.5, -2.0, 1e18][..]).prop_map(Sum::Real),
        Just(Sum::Field("year")),
        Just(Sum::Field("depth")),
        Just(Sum::Length("station")),
        Just(Sum::Length("tags")),
    ];
    leaf.prop_recursive(3, 8, 2, |inner| {
        let ops = prop::sample::select(&["+", "-", "*", "/", "div", "%", "^"][..]);
        (ops, inner.clone(), inner).prop_map(|(op, a, b)| Sum::Of(op, Box::new(a), Box::new(b)))
    })
}

/// Conditions that are evaluated row by row.
pub fn computed() -> impl Strategy<Value = Tree> {
    pub fn other(
        text: String,
        holds: impl Fn(&Map<String, Value>) -> Option<bool> + Send + Sync + 'static,
    ) -> Tree {
        Tree::Atom(Atom { text, field: "", check: Check::Other(Other(Arc::new(holds))) })
    }
    pub fn test(op: &str, order: std::cmp::Ordering) -> bool {
        match op {
            "=" => order.is_eq(),
            "<>" => order.is_ne(),
            "<" => order.is_lt(),
            "<=" => order.is_le(),
            ">" => order.is_gt(),
            _ => order.is_ge(),
        }
    }
    pub fn bare(text: &str) -> String {
        text.to_lowercase().replace('ö', "o")
    }
    let ops = || prop::sample::select(&["=", "<>", "<", "<=", ">", ">="][..]);
    // Sums without a field are refused or constant; here one side always has one.
    let sums = (ops(), sum(), prop::sample::select(&["year", "depth"][..]), sum()).prop_filter_map(
        "a constant that is no number is refused",
        |(op, a, field, b)| {
            let a = Sum::Of("+", Box::new(a), Box::new(Sum::Field(field)));
            let text = format!("{} {op} {}", a.text(), b.text());
            Filter::from_text(&text).ok()?.compile(&schema()).ok()?;
            Some(other(text, move |body| {
                let order = match (a.of(body)?, b.of(body)?) {
                    (Ok(a), Ok(b)) => a.cmp(&b),
                    (Err(a), Err(b)) => a.partial_cmp(&b)?,
                    // Beyond 2^100 every float is whole and beyond every integer.
                    (Ok(a), Err(b)) => {
                        a.cmp(&(b.clamp(-1e30, 1e30).floor() as i128)).then(if b.fract() == 0.0 {
                            std::cmp::Ordering::Equal
                        } else {
                            std::cmp::Ordering::Less
                        })
                    }
                    (Err(a), Ok(b)) => {
                        (a.clamp(-1e30, 1e30).floor() as i128).cmp(&b).then(if a.fract() == 0.0 {
                            std::cmp::Ordering::Equal
                        } else {
                            std::cmp::Ordering::Greater
                        })
                    }
                };
                Some(test(op, order))
            }))
        },
    );
    let texts = (ops(), any::<bool>()).prop_map(move |(op, fold)| {
        let side = |name: &str| if fold { format!("ACCENTI(casei({name}))") } else { name.into() };
        other(format!("{} {op} {}", side("station"), side("keeper")), move |body| {
            let (a, b) = (here(body, "station")?.as_str()?, here(body, "keeper")?.as_str()?);
            Some(test(op, if fold { bare(a).cmp(&bare(b)) } else { a.cmp(b) }))
        })
    });
    let folded = (prop::sample::select(&STATIONS[..]), 0..3).prop_map(|(station, how)| {
        let literal = format!("CASEI(ACCENTI('{}'))", station.replace('\'', "''"));
        let text = match how {
            0 => format!("casei(ACCENTI(station)) = {literal}"),
            1 => format!("CASEI(ACCENTI(station)) IN ('nowhere', {literal})"),
            _ => format!("ACCENTI(CASEI(station)) LIKE {literal}"),
        };
        other(text, move |body| Some(bare(here(body, "station")?.as_str()?) == bare(station)))
    });
    let days = (ops(), any::<bool>()).prop_map(|(op, dates)| {
        let (left, right) = if dates { ("logged", "ended") } else { ("logged", "at") };
        other(format!("{left} {op} {right}"), move |body| {
            let day = |v: &Value| timestamp(&format!("{}T00:00:00Z", v.as_str().unwrap()));
            let a = day(here(body, left)?)?;
            let b = here(body, right)?;
            Some(test(op, a.cmp(&if dates { day(b)? } else { timestamp(b.as_str()?)? })))
        })
    });
    let arrays = prop::sample::select(&["A_CONTAINS", "A_CONTAINEDBY", "A_EQUALS", "A_OVERLAPS"][..])
        .prop_map(|name| {
            other(format!("{name}(tags, marks)"), move |body| {
                let (a, b) = (here(body, "tags")?.as_array()?, here(body, "marks")?.as_array()?);
                let (has, within) = (b.iter().all(|x| a.contains(x)), a.iter().all(|x| b.contains(x)));
                Some(match name {
                    "A_CONTAINS" => has,
                    "A_CONTAINEDBY" => within,
                    "A_EQUALS" => has && within,
                    _ => a.iter().any(|x| b.contains(x)),
                })
            })
        });
    let whole = (1u32..4, 1u32..4, any::<bool>()).prop_map(|(from, to, open)| {
        let (from, to) = (from.min(to), from.max(to));
        let end = if open { "..".into() } else { format!("1931-10-0{to}") };
        other(format!("T_INTERSECTS(logged, INTERVAL('1931-10-0{from}', '{end}'))"), move |body| {
            let day = here(body, "logged")?.as_str()?[9..].parse::<u32>().ok()?;
            Some(from <= day && (open || day <= to))
        })
    });
    prop_oneof![3 => sums, 1 => texts, 1 => folded, 1 => days, 1 => arrays, 1 => whole]
}

pub fn value(field: &'static str) -> BoxedStrategy<Value> {
    match field {
        "station" | "keeper" => prop::sample::select(&STATIONS[..]).prop_map(|s| json!(s)).boxed(),
        "year" => prop_oneof![4 => (1910i64..1915).prop_map(|y| json!(y)), 1 => Just(json!(i64::MAX)),
            1 => Just(json!(i64::MIN)), 1 => Just(json!(9007199254740993i64))]
        .boxed(),
        "depth" => prop::sample::select(&[0.0, -0.5, 2.25, 1e300][..]).prop_map(|x| json!(x)).boxed(),
        "sketch" => any::<bool>().prop_map(|b| json!(b)).boxed(),
        "logged" | "ended" => (1u32..4).prop_map(|d| json!(format!("1931-10-0{d}"))).boxed(),
        "at" => (1u32..4).prop_map(|d| json!(format!("1931-10-04T0{d}:00:00Z"))).boxed(),
        "tags" | "marks" => prop::collection::vec(prop::sample::select(&["fog", "oil", "glass"][..]), 0..3)
            .prop_map(|l| json!(l))
            .boxed(),
        _ => prop::collection::vec(1i64..4, 0..3).prop_map(|l| json!(l)).boxed(),
    }
}

/// The text of a literal of this field.
pub fn literal(field: &str, value: &Value) -> String {
    match (field, value) {
        ("logged" | "ended", v) => format!("DATE('{}')", v.as_str().unwrap()),
        ("at", v) => format!("TIMESTAMP('{}')", v.as_str().unwrap()),
        (_, Value::String(s)) => format!("'{}'", s.replace('\'', "''")),
        (_, v) => v.to_string(),
    }
}

pub fn atom() -> impl Strategy<Value = Tree> {
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
    let like = prop::sample::select(
        &["%", "G%", "_ull%k", "%l%", "%ull R%", "%%", "Ness", "", "%'%", "%Ö%", "%Ö_a"][..],
    )
    .prop_map(|p| Atom {
        text: format!("station LIKE '{}'", p.replace('\'', "''")),
        field: "station",
        check: Check::Like(p.into()),
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

pub fn tree() -> impl Strategy<Value = Tree> {
    prop_oneof![3 => atom(), 1 => computed()].prop_recursive(4, 20, 3, |inner| {
        prop_oneof![
            inner.clone().prop_map(|t| Tree::Not(Box::new(t))),
            prop::collection::vec(inner.clone(), 2..4).prop_map(Tree::And),
            prop::collection::vec(inner, 2..4).prop_map(Tree::Or),
        ]
    })
}

pub fn record() -> impl Strategy<Value = Map<String, Value>> {
    let maybe = |f| prop_oneof![3 => value(f).prop_map(Some), 1 => Just(Some(Value::Null)), 1 => Just(None)];
    let fields =
        ["station", "year", "depth", "sketch", "logged", "at", "tags", "codes", "keeper", "ended", "marks"];
    fields.map(maybe).prop_map(move |values| {
        fields.iter().zip(values).filter_map(|(f, v)| Some(((*f).to_owned(), v?))).collect()
    })
}
