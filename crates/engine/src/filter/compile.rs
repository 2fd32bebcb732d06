//! A parsed filter against the fields of a collection: names are resolved, literals converted,
//! comparisons reduced to ranges and sets over typed columns.

use super::FilterError;
use super::parser::{ArrayTest, Comparison, Expr, Literal, Node, Property, Value};
use crate::names::did_you_mean;
use crate::schema::{FieldType, Schema};
use std::collections::HashSet;

/// A filter that is known to fit a schema.
#[derive(Clone, Debug, PartialEq)]
pub enum Test {
    Constant(bool),
    And(Vec<Test>),
    Or(Vec<Test>),
    Not(Box<Test>),
    Missing(usize),
    Flag {
        field: usize,
        value: bool,
    },
    Text {
        field: usize,
        check: TextCheck,
    },
    /// Inclusive; empty when `low > high`. Dates and timestamps are integers too.
    Integer {
        field: usize,
        low: i64,
        high: i64,
    },
    IntegerIn {
        field: usize,
        values: HashSet<i64>,
    },
    /// Inclusive.
    Number {
        field: usize,
        low: f64,
        high: f64,
    },
    NumberIn {
        field: usize,
        values: Vec<f64>,
    },
    Texts {
        field: usize,
        test: ArrayTest,
        values: HashSet<String>,
    },
    Integers {
        field: usize,
        test: ArrayTest,
        values: HashSet<i64>,
    },
}

#[derive(Clone, Debug, PartialEq)]
pub enum TextCheck {
    Compare(Comparison, String),
    Between(String, String),
    OneOf(HashSet<String>),
    Like(Pattern),
}

impl TextCheck {
    pub fn holds(&self, text: &str) -> bool {
        match self {
            TextCheck::Compare(comparison, other) => {
                let order = text.cmp(other.as_str());
                match comparison {
                    Comparison::Equal => order.is_eq(),
                    Comparison::NotEqual => order.is_ne(),
                    Comparison::Less => order.is_lt(),
                    Comparison::LessOrEqual => order.is_le(),
                    Comparison::Greater => order.is_gt(),
                    Comparison::GreaterOrEqual => order.is_ge(),
                }
            }
            TextCheck::Between(low, high) => low.as_str() <= text && text <= high.as_str(),
            TextCheck::OneOf(values) => values.contains(text),
            TextCheck::Like(pattern) => pattern.matches(text),
        }
    }
}

/// A LIKE pattern: `%` is any run of characters, `_` any one, `\` takes the next literally.
#[derive(Clone, Debug, PartialEq)]
pub struct Pattern(Vec<Piece>);

#[derive(Clone, Copy, Debug, PartialEq)]
enum Piece {
    One(char),
    AnyOne,
    AnyRun,
}

impl Pattern {
    fn new(text: &str) -> Pattern {
        let mut pieces = Vec::new();
        let mut chars = text.chars();
        while let Some(c) = chars.next() {
            pieces.push(match c {
                '%' if pieces.last() == Some(&Piece::AnyRun) => continue,
                '%' => Piece::AnyRun,
                '_' => Piece::AnyOne,
                '\\' => Piece::One(chars.next().unwrap_or('\\')),
                c => Piece::One(c),
            });
        }
        Pattern(pieces)
    }

    /// Goes back to the last `%` only, so the time is at most pattern times text.
    fn matches(&self, text: &str) -> bool {
        let pieces = &self.0;
        let mut at = 0;
        let mut chars = text.chars();
        let mut retry: Option<(usize, std::str::Chars)> = None;
        loop {
            if let Some(Piece::AnyRun) = pieces.get(at) {
                at += 1;
                retry = Some((at, chars.clone()));
                continue;
            }
            let before = chars.clone();
            match (pieces.get(at), chars.next()) {
                (None, None) => return true,
                (Some(Piece::AnyOne), Some(_)) => at += 1,
                (Some(Piece::One(p)), Some(c)) if *p == c => at += 1,
                (_, None) if before.as_str().is_empty() && retry.is_none() => return false,
                _ => match &mut retry {
                    None => return false,
                    Some((piece, from)) => {
                        if from.next().is_none() {
                            return false;
                        }
                        at = *piece;
                        chars = from.clone();
                    }
                },
            }
        }
    }
}

fn error<T>(at: &std::ops::Range<usize>, message: impl Into<String>) -> Result<T, FilterError> {
    Err(FilterError { start: at.start, end: at.end, message: message.into() })
}

impl Test {
    pub fn new(expr: &Expr, schema: &Schema) -> Result<Test, FilterError> {
        let all = |parts: &[Expr]| parts.iter().map(|p| Test::new(p, schema)).collect::<Result<Vec<_>, _>>();
        Ok(match expr {
            Expr::Constant(value) => Test::Constant(*value),
            Expr::And(parts) => Test::And(all(parts)?),
            Expr::Or(parts) => Test::Or(all(parts)?),
            Expr::Not(part) => Test::Not(Box::new(Test::new(part, schema)?)),
            Expr::IsNull(property) => Test::Missing(known(property, schema)?),
            Expr::Flag(property) => match field(property, schema)? {
                (field, FieldType::Boolean) => Test::Flag { field, value: true },
                (_, kind) => {
                    return error(
                        &property.at,
                        format!("{} is {}, not a condition; compare it with something", property.is, a(kind)),
                    );
                }
            },
            Expr::Compare(property, comparison, value) => compare(property, *comparison, value, schema)?,
            Expr::Between(property, low, high) => {
                let (field, kind) = field(property, schema)?;
                if kind == FieldType::String {
                    let check = TextCheck::Between(text(property, low)?, text(property, high)?);
                    Test::Text { field, check }
                } else {
                    Test::And(vec![
                        compare(property, Comparison::GreaterOrEqual, low, schema)?,
                        compare(property, Comparison::LessOrEqual, high, schema)?,
                    ])
                }
            }
            Expr::In(property, values) => one_of(property, values, schema)?,
            Expr::Like(property, pattern) => match field(property, schema)? {
                (field, FieldType::String) => {
                    Test::Text { field, check: TextCheck::Like(Pattern::new(&pattern.is)) }
                }
                (_, kind) => {
                    return error(
                        &property.at,
                        format!("LIKE needs a string; {} is {}", property.is, a(kind)),
                    );
                }
            },
            Expr::Array(test, property, values) => match field(property, schema)? {
                (field, FieldType::Strings) => Test::Texts {
                    field,
                    test: *test,
                    values: values.iter().map(|v| text(property, v)).collect::<Result<_, _>>()?,
                },
                (field, FieldType::Integers) => Test::Integers {
                    field,
                    test: *test,
                    values: values
                        .iter()
                        .map(|v| match v.is {
                            Literal::Integer(n) => Ok(n),
                            _ => mismatch(property, FieldType::Integer, v),
                        })
                        .collect::<Result<_, _>>()?,
                },
                (_, kind) => {
                    return error(
                        &property.at,
                        format!("{} is {}, not an array; use = or IN", property.is, a(kind)),
                    );
                }
            },
        })
    }
}

fn a(kind: FieldType) -> String {
    let name = kind.name();
    format!("{} {name}", if name.starts_with(['a', 'i']) { "an" } else { "a" })
}

/// A field whose values can be looked at.
fn field(property: &Property, schema: &Schema) -> Result<(usize, FieldType), FilterError> {
    let at = known(property, schema)?;
    if schema.fields[at].stored_only {
        let why =
            "is stored only (storedOnly in its schema), so it can be tested with IS NULL and nothing else";
        return error(&property.at, format!("{} {why}", property.is));
    }
    Ok((at, schema.fields[at].kind))
}

fn known(property: &Property, schema: &Schema) -> Result<usize, FilterError> {
    match schema.position(&property.is) {
        Some(at) => Ok(at),
        None => {
            let hint = did_you_mean(&property.is, schema.names());
            let fields = match schema.fields.len() {
                0 => "the collection has no fields".to_owned(),
                _ => format!("fields: {}", schema.names().collect::<Vec<_>>().join(", ")),
            };
            error(&property.at, format!("unknown field \"{}\"{hint} ({fields})", property.is))
        }
    }
}

fn mismatch<T>(property: &Property, kind: FieldType, value: &Value) -> Result<T, FilterError> {
    let example = match kind {
        FieldType::String => "'fog'",
        FieldType::Integer => "4",
        FieldType::Number => "2.5",
        FieldType::Boolean => "TRUE",
        FieldType::Date => "DATE('1931-10-04')",
        FieldType::Timestamp => "TIMESTAMP('1931-10-04T18:30:00Z')",
        FieldType::Strings | FieldType::Integers => "A_CONTAINS(field, (...))",
    };
    error(&value.at, format!("{} is {}; compare it with a value such as {example}", property.is, a(kind)))
}

fn text(property: &Property, value: &Value) -> Result<String, FilterError> {
    match &value.is {
        Literal::Text(text) => Ok(text.clone()),
        _ => mismatch(property, FieldType::String, value),
    }
}

const MICROS_A_DAY: i64 = 86_400_000_000;

/// The literal on the integer scale of the field: the value, or the two integers it lies between.
fn integer(property: &Property, kind: FieldType, value: &Value) -> Result<(i64, bool), FilterError> {
    Ok(match (kind, &value.is) {
        (FieldType::Integer, Literal::Integer(n)) => (*n, true),
        // 1920.5 lies between 1920 and 1921; the flag says that it is not itself an integer.
        (FieldType::Integer, Literal::Number(x)) => (x.floor() as i64, x.fract() == 0.0 && x.abs() < 9.2e18),
        (FieldType::Date, Literal::Date(days)) => (*days, true),
        (FieldType::Date, Literal::Timestamp(t)) => {
            (t.div_euclid(MICROS_A_DAY), t.rem_euclid(MICROS_A_DAY) == 0)
        }
        (FieldType::Timestamp, Literal::Timestamp(t)) => (*t, true),
        (FieldType::Timestamp, Literal::Date(days)) => (days.saturating_mul(MICROS_A_DAY), true),
        _ => return mismatch(property, kind, value),
    })
}

fn number(property: &Property, value: &Value) -> Result<f64, FilterError> {
    match value.is {
        Literal::Integer(n) => Ok(n as f64),
        Literal::Number(x) => Ok(x),
        _ => mismatch(property, FieldType::Number, value),
    }
}

fn compare(
    property: &Property,
    comparison: Comparison,
    value: &Value,
    schema: &Schema,
) -> Result<Test, FilterError> {
    use Comparison as C;
    let (field, kind) = field(property, schema)?;
    if comparison == C::NotEqual {
        return Ok(Test::Not(Box::new(compare(property, C::Equal, value, schema)?)));
    }
    Ok(match kind {
        FieldType::String => {
            Test::Text { field, check: TextCheck::Compare(comparison, text(property, value)?) }
        }
        FieldType::Integer | FieldType::Date | FieldType::Timestamp => {
            let (n, exact) = integer(property, kind, value)?;
            // `n` is the floor of the literal. Past the ends of the scale the range is empty.
            let (low, high) = match comparison {
                C::Equal if exact => (n, n),
                C::Equal => (1, 0),
                C::LessOrEqual => (i64::MIN, n),
                C::Less if exact => n.checked_sub(1).map_or((1, 0), |high| (i64::MIN, high)),
                C::Less => (i64::MIN, n),
                C::GreaterOrEqual if exact => (n, i64::MAX),
                _ => n.checked_add(1).map_or((1, 0), |low| (low, i64::MAX)),
            };
            Test::Integer { field, low, high }
        }
        FieldType::Number => {
            let x = number(property, value)?;
            let (low, high) = match comparison {
                C::Equal => (x, x),
                C::LessOrEqual => (f64::NEG_INFINITY, x),
                C::Less => (f64::NEG_INFINITY, x.next_down()),
                C::GreaterOrEqual => (x, f64::INFINITY),
                _ => (x.next_up(), f64::INFINITY),
            };
            Test::Number { field, low, high }
        }
        FieldType::Boolean => match (&value.is, comparison) {
            (Literal::Boolean(value), C::Equal) => Test::Flag { field, value: *value },
            (Literal::Boolean(_), _) => {
                return error(&property.at, format!("{} is a boolean; compare it with = or <>", property.is));
            }
            _ => return mismatch(property, kind, value),
        },
        FieldType::Strings | FieldType::Integers => {
            let Node { at, is } = property;
            return error(
                at,
                format!("{is} is {}; use A_CONTAINS({is}, (...)) or A_OVERLAPS({is}, (...))", a(kind)),
            );
        }
    })
}

fn one_of(property: &Property, values: &[Value], schema: &Schema) -> Result<Test, FilterError> {
    let (field, kind) = field(property, schema)?;
    Ok(match kind {
        FieldType::String => {
            let values = values.iter().map(|v| text(property, v)).collect::<Result<_, _>>()?;
            Test::Text { field, check: TextCheck::OneOf(values) }
        }
        FieldType::Integer | FieldType::Date | FieldType::Timestamp => {
            let mut set = HashSet::new();
            for value in values {
                let (n, exact) = integer(property, kind, value)?;
                if exact {
                    set.insert(n);
                }
            }
            Test::IntegerIn { field, values: set }
        }
        FieldType::Number => {
            let mut values = values.iter().map(|v| number(property, v)).collect::<Result<Vec<_>, _>>()?;
            values.sort_by(f64::total_cmp);
            Test::NumberIn { field, values }
        }
        FieldType::Boolean | FieldType::Strings | FieldType::Integers => {
            let parts = values.iter().map(|v| compare(property, Comparison::Equal, v, schema));
            Test::Or(parts.collect::<Result<_, _>>()?)
        }
    })
}
