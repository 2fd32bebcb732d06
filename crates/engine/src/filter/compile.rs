//! A filter against the fields of a collection: names are resolved, constants computed, literals
//! converted, comparisons reduced to ranges and sets over typed columns where they can be.

use super::formula::{Formula, Number};
use super::like::{Fold, Pattern};
use super::time::{MICROS_A_DAY, Span, whole_day};
use super::tree::{ArrayTest, Comparison, Expr, Function, Literal, Relation, Term, Value};
use super::{FilterError, MAX_CONDITIONS, MAX_PATTERN, error};
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
        fold: Fold,
        check: TextCheck,
    },
    /// Inclusive; empty when `low > high`. Dates and timestamps are integers too.
    Integer {
        field: usize,
        low: i64,
        high: i64,
    },
    /// Sorted.
    IntegerIn {
        field: usize,
        values: Vec<i64>,
    },
    /// Inclusive.
    Real {
        field: usize,
        low: f64,
        high: f64,
    },
    /// Sorted.
    RealIn {
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
    /// Two array fields of the same items.
    Arrays(ArrayTest, usize, usize),
    /// Row by row.
    Compare(Operand, Comparison, Operand),
    Time(Relation, Stretch, Stretch),
}

#[derive(Clone, Debug, PartialEq)]
pub enum TextCheck {
    Compare(Comparison, String),
    OneOf(HashSet<String>),
    Like(Pattern),
}

impl TextCheck {
    pub fn holds(&self, text: &str) -> bool {
        match self {
            TextCheck::Compare(comparison, other) => comparison.holds(text.cmp(other.as_str())),
            TextCheck::OneOf(values) => values.contains(text),
            TextCheck::Like(pattern) => pattern.matches(text),
        }
    }
}

/// One side of a comparison that is made row by row.
#[derive(Clone, Debug, PartialEq)]
pub enum Operand {
    Text { field: usize, fold: Fold },
    Number(Formula),
    Flag(usize),
    Moment { field: usize, is_date: bool },
}

/// An end of a stretch of time.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Moment {
    /// In days where all of a condition is dates, else in microseconds.
    At(i64),
    Field {
        field: usize,
        is_date: bool,
    },
    Unbounded,
}

/// A moment, which starts and ends there (a date among timestamps is the whole day), or an interval.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Stretch {
    pub start: Moment,
    pub end: Moment,
    /// Whether the condition counts days.
    pub in_days: bool,
}

/// What one side of a condition turned out to be.
enum Side<'a> {
    Literal(Literal),
    Field(FieldSide<'a>),
    Formula(Formula),
}

#[derive(Clone, Copy)]
struct FieldSide<'a> {
    of: &'a Value,
    field: usize,
    kind: FieldType,
    fold: Fold,
}

impl Test {
    /// Values that lists in it hold, and its conditions.
    pub(crate) fn n_values(&self) -> usize {
        1 + match self {
            Test::And(parts) | Test::Or(parts) => parts.iter().map(Test::n_values).sum(),
            Test::Not(part) => part.n_values(),
            Test::Text { check: TextCheck::OneOf(values), .. } => values.len(),
            Test::IntegerIn { values, .. } => values.len(),
            Test::RealIn { values, .. } => values.len(),
            Test::Texts { values, .. } => values.len(),
            Test::Integers { values, .. } => values.len(),
            _ => 0,
        }
    }

    /// A part of a filter by itself; [`super::Filter::compile`] says where in a filter in JSON an error is.
    pub fn of(expr: &Expr, schema: &Schema) -> Result<Test, FilterError> {
        let all = |parts: &[Expr]| parts.iter().map(|p| Test::of(p, schema)).collect::<Result<Vec<_>, _>>();
        Ok(match expr {
            Expr::Constant(value) => Test::Constant(*value),
            Expr::And(parts) => Test::And(all(parts)?),
            Expr::Or(parts) => Test::Or(all(parts)?),
            Expr::Not(part) => Test::Not(Box::new(Test::of(part, schema)?)),
            Expr::IsNull(value) => match &value.is {
                Term::Property(name) => Test::Missing(known(name, value, schema)?),
                _ => return error(&value.at, "IS NULL asks of a field"),
            },
            Expr::Flag(value) => match side(value, schema)? {
                Side::Field(FieldSide { field, kind: FieldType::Boolean, .. }) => {
                    Test::Flag { field, value: true }
                }
                Side::Field(f) => {
                    let kind = a(f.kind);
                    let detail =
                        format!("{} is {kind}, not a condition; compare it with something", value.is);
                    return error(&value.at, detail);
                }
                _ => return error(&value.at, "this is a value, not a condition; compare it with something"),
            },
            Expr::Compare(left, comparison, right) => compare(left, *comparison, right, schema)?,
            Expr::Between(value, low, high) => {
                let low = compare(value, Comparison::GreaterOrEqual, low, schema)?;
                match (low, compare(value, Comparison::LessOrEqual, high, schema)?) {
                    (Test::Integer { field, low, .. }, Test::Integer { high, .. }) => {
                        Test::Integer { field, low, high }
                    }
                    (Test::Real { field, low, .. }, Test::Real { high, .. }) => {
                        Test::Real { field, low, high }
                    }
                    (low, high) => Test::And(vec![low, high]),
                }
            }
            Expr::In(value, values) => one_of(value, values, schema)?,
            Expr::Like(value, pattern) => like(value, pattern, schema)?,
            Expr::Array(test, left, right) => arrays(*test, left, right, schema)?,
            Expr::Time(relation, left, right) => time(*relation, left, right, schema)?,
        })
    }
}

fn a(kind: FieldType) -> String {
    let name = kind.name();
    format!("{} {name}", if name.starts_with(['a', 'i']) { "an" } else { "a" })
}

fn known(name: &str, value: &Value, schema: &Schema) -> Result<usize, FilterError> {
    match schema.position(name) {
        Some(at) => Ok(at),
        None => {
            let mut hint = did_you_mean(name, schema.names());
            if hint.is_empty() && !schema.fields.is_empty() {
                hint = format!("; write a text in single quotes: '{}'", name.replace('\'', "''"));
            }
            let fields = match schema.fields.len() {
                0 => "the collection has no fields".to_owned(),
                _ => format!("fields: {}", schema.names().collect::<Vec<_>>().join(", ")),
            };
            error(&value.at, format!("unknown field \"{name}\"{hint} ({fields})"))
        }
    }
}

/// Resolves names and computes what is constant.
fn side<'a>(value: &'a Value, schema: &Schema) -> Result<Side<'a>, FilterError> {
    match &value.is {
        Term::Literal(literal) => Ok(Side::Literal(literal.clone())),
        Term::Property(name) => {
            let field = known(name, value, schema)?;
            let about = &schema.fields[field];
            if about.stored_only {
                let why = "is stored only (storedOnly in its schema), so it can be tested with IS NULL and \
                           nothing else";
                return error(&value.at, format!("{name} {why}"));
            }
            Ok(Side::Field(FieldSide { of: value, field, kind: about.kind, fold: Fold::default() }))
        }
        Term::Parameter(name) => error(
            &value.at,
            format!(":{name} is a parameter; only a saved search gives values to parameters"),
        ),
        Term::Arithmetic(operator, left, right) => {
            let (a, b) = (formula(left, schema)?, formula(right, schema)?);
            let (Formula::Constant(a), Formula::Constant(b)) = (&a, &b) else {
                return Ok(Side::Formula(Formula::Apply(*operator, Box::new(a), Box::new(b))));
            };
            match Number::apply(*operator, *a, *b) {
                Some(Number::Integer(n)) => Ok(Side::Literal(Literal::Integer(n))),
                Some(Number::Real(x)) => Ok(Side::Literal(Literal::Number(x))),
                None => error(&value.at, format!("{} is not a number of 64 bits", value.is)),
            }
        }
        Term::Call(Function::Length, inner) => match side(inner, schema)? {
            Side::Literal(Literal::Text(text)) => {
                Ok(Side::Literal(Literal::Integer(text.chars().count() as i64)))
            }
            Side::Field(f)
                if matches!(f.kind, FieldType::String | FieldType::Strings | FieldType::Integers) =>
            {
                Ok(Side::Formula(Formula::Length(f.field)))
            }
            _ => error(&inner.at, format!("LENGTH takes a text or an array; {} is neither", inner.is)),
        },
        Term::Call(function, inner) => {
            let this = Fold { case: *function == Function::Casei, accents: *function == Function::Accenti };
            match side(inner, schema)? {
                Side::Literal(Literal::Text(text)) => {
                    Ok(Side::Literal(Literal::Text(this.of(&text).into_owned())))
                }
                Side::Field(f) if f.kind == FieldType::String => {
                    let fold =
                        Fold { case: f.fold.case || this.case, accents: f.fold.accents || this.accents };
                    Ok(Side::Field(FieldSide { of: value, fold, ..f }))
                }
                _ => error(&inner.at, format!("{} takes a text; {} is none", function.name(), inner.is)),
            }
        }
        Term::List(_) => {
            error(&value.at, "a list may only follow IN, or be an argument of an array function")
        }
        Term::Interval(..) => {
            error(&value.at, "an interval may only be an argument of a temporal function (T_...)")
        }
        Term::Open => error(&value.at, "'..' may only be an end of an interval"),
    }
}

fn formula(value: &Value, schema: &Schema) -> Result<Formula, FilterError> {
    match side(value, schema)? {
        Side::Literal(Literal::Integer(n)) => Ok(Formula::Constant(Number::Integer(n))),
        Side::Literal(Literal::Number(x)) => Ok(Formula::Constant(Number::Real(x))),
        Side::Formula(formula) => Ok(formula),
        Side::Field(f) if matches!(f.kind, FieldType::Integer | FieldType::Number) => {
            Ok(Formula::Field(f.field))
        }
        Side::Field(f) => {
            error(&value.at, format!("{} is {}; arithmetic takes numbers", value.is, a(f.kind)))
        }
        Side::Literal(_) => error(&value.at, format!("{} is not a number", value.is)),
    }
}

fn mismatch<T>(f: FieldSide<'_>, value: &Value) -> Result<T, FilterError> {
    let example = match f.kind {
        FieldType::String => "'fog'",
        FieldType::Integer => "4",
        FieldType::Number => "2.5",
        FieldType::Boolean => "TRUE",
        FieldType::Date => "DATE('1931-10-04')",
        FieldType::Timestamp => "TIMESTAMP('1931-10-04T18:30:00Z')",
        FieldType::Strings | FieldType::Integers => return no_array(f),
    };
    let detail = format!("{} is {}; compare it with a value such as {example}", f.of.is, a(f.kind));
    error(&value.at, detail)
}

fn no_array<T>(f: FieldSide<'_>) -> Result<T, FilterError> {
    let (is, kind) = (&f.of.is, a(f.kind));
    error(&f.of.at, format!("{is} is {kind}; use A_CONTAINS({is}, (...)) or A_OVERLAPS({is}, (...))"))
}

fn text(f: FieldSide<'_>, literal: &Literal, value: &Value) -> Result<String, FilterError> {
    let Literal::Text(text) = literal else { return mismatch(f, value) };
    if f.fold.of(text) != *text {
        let other = match (f.fold.case, f.fold.accents) {
            (true, true) => format!("CASEI(ACCENTI({}))", value.is),
            (true, false) => format!("CASEI({})", value.is),
            _ => format!("ACCENTI({})", value.is),
        };
        return error(&value.at, format!("{} is never equal to {}; write {other}", f.of.is, value.is));
    }
    Ok(text.clone())
}

/// The literal on the integer scale of the field: the value, or the two integers it lies between.
fn integer(f: FieldSide<'_>, literal: &Literal, value: &Value) -> Result<(i64, bool), FilterError> {
    Ok(match (f.kind, literal) {
        (FieldType::Integer, Literal::Integer(n)) => (*n, true),
        // 1920.5 lies between 1920 and 1921; the flag says that it is not itself an integer.
        (FieldType::Integer, Literal::Number(x)) => (x.floor() as i64, x.fract() == 0.0 && x.abs() < 9.2e18),
        (FieldType::Date, Literal::Date(days)) => (*days, true),
        (FieldType::Date, Literal::Timestamp(t)) => {
            (t.div_euclid(MICROS_A_DAY), t.rem_euclid(MICROS_A_DAY) == 0)
        }
        (FieldType::Timestamp, Literal::Timestamp(t)) => (*t, true),
        (FieldType::Timestamp, Literal::Date(days)) => (days.saturating_mul(MICROS_A_DAY), true),
        _ => return mismatch(f, value),
    })
}

fn real(f: FieldSide<'_>, literal: &Literal, value: &Value) -> Result<f64, FilterError> {
    match literal {
        Literal::Integer(n) => Ok(*n as f64),
        Literal::Number(x) => Ok(*x),
        _ => mismatch(f, value),
    }
}

fn compare(
    left: &Value,
    comparison: Comparison,
    right: &Value,
    schema: &Schema,
) -> Result<Test, FilterError> {
    match (side(left, schema)?, side(right, schema)?) {
        (Side::Field(f), Side::Literal(literal)) => with_literal(f, comparison, &literal, right),
        (Side::Literal(literal), Side::Field(f)) => with_literal(f, comparison.turned(), &literal, left),
        (Side::Literal(a), Side::Literal(b)) => {
            let order = match (&a, &b) {
                (Literal::Text(a), Literal::Text(b)) => Some(a.cmp(b)),
                (Literal::Boolean(a), Literal::Boolean(b)) => Some(a.cmp(b)),
                _ => match (moment(&a), moment(&b)) {
                    (Some(a), Some(b)) => Some(a.cmp(&b)),
                    _ => number(&a).zip(number(&b)).map(|(a, b)| a.order(b)),
                },
            };
            match order {
                Some(order) => Ok(Test::Constant(comparison.holds(order))),
                None => error(&right.at, format!("{} cannot be compared with {}", left.is, right.is)),
            }
        }
        (a, b) => {
            let fits = |a: &Operand, b: &Operand| match (a, b) {
                (Operand::Flag(_), Operand::Flag(_)) => {
                    matches!(comparison, Comparison::Equal | Comparison::NotEqual)
                }
                (a, b) => std::mem::discriminant(a) == std::mem::discriminant(b),
            };
            match operand(a)?.zip(operand(b)?).filter(|(a, b)| fits(a, b)) {
                Some((a, b)) => Ok(Test::Compare(a, comparison, b)),
                None => error(&right.at, format!("{} cannot be compared with {}", left.is, right.is)),
            }
        }
    }
}

fn number(literal: &Literal) -> Option<Number> {
    match literal {
        Literal::Integer(n) => Some(Number::Integer(*n)),
        Literal::Number(x) => Some(Number::Real(*x)),
        _ => None,
    }
}

fn moment(literal: &Literal) -> Option<i64> {
    match literal {
        Literal::Date(days) => Some(days.saturating_mul(MICROS_A_DAY)),
        Literal::Timestamp(t) => Some(*t),
        _ => None,
    }
}

/// `None` for a literal that is not a number: it cannot be compared with a formula.
fn operand(side: Side<'_>) -> Result<Option<Operand>, FilterError> {
    Ok(Some(match side {
        Side::Formula(formula) => Operand::Number(formula),
        Side::Literal(literal) => match number(&literal) {
            Some(number) => Operand::Number(Formula::Constant(number)),
            None => return Ok(None),
        },
        Side::Field(f) => match f.kind {
            FieldType::String => Operand::Text { field: f.field, fold: f.fold },
            FieldType::Integer | FieldType::Number => Operand::Number(Formula::Field(f.field)),
            FieldType::Boolean => Operand::Flag(f.field),
            FieldType::Date => Operand::Moment { field: f.field, is_date: true },
            FieldType::Timestamp => Operand::Moment { field: f.field, is_date: false },
            FieldType::Strings | FieldType::Integers => return no_array(f),
        },
    }))
}

fn with_literal(
    f: FieldSide<'_>,
    comparison: Comparison,
    literal: &Literal,
    value: &Value,
) -> Result<Test, FilterError> {
    use Comparison as C;
    let field = f.field;
    if comparison == C::NotEqual {
        return Ok(Test::Not(Box::new(with_literal(f, C::Equal, literal, value)?)));
    }
    Ok(match f.kind {
        FieldType::String => {
            let check = TextCheck::Compare(comparison, text(f, literal, value)?);
            Test::Text { field, fold: f.fold, check }
        }
        FieldType::Integer | FieldType::Date | FieldType::Timestamp => {
            let (n, exact) = integer(f, literal, value)?;
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
            let x = real(f, literal, value)?;
            let (low, high) = match comparison {
                C::Equal => (x, x),
                C::LessOrEqual => (f64::NEG_INFINITY, x),
                C::Less => (f64::NEG_INFINITY, x.next_down()),
                C::GreaterOrEqual => (x, f64::INFINITY),
                _ => (x.next_up(), f64::INFINITY),
            };
            Test::Real { field, low, high }
        }
        FieldType::Boolean => match (literal, comparison) {
            (Literal::Boolean(value), C::Equal) => Test::Flag { field, value: *value },
            (Literal::Boolean(_), _) => {
                return error(&f.of.at, format!("{} is a boolean; compare it with = or <>", f.of.is));
            }
            _ => return mismatch(f, value),
        },
        FieldType::Strings | FieldType::Integers => return no_array(f),
    })
}

fn one_of(value: &Value, values: &[Value], schema: &Schema) -> Result<Test, FilterError> {
    let literals = || -> Result<Option<Vec<(Literal, &Value)>>, FilterError> {
        let mut literals = Vec::with_capacity(values.len());
        for v in values {
            match side(v, schema)? {
                Side::Literal(literal) => literals.push((literal, v)),
                _ => return Ok(None),
            }
        }
        Ok(Some(literals))
    };
    let (left, literals) = (side(value, schema)?, literals()?);
    let (Side::Field(f), Some(literals)) = (left, literals) else {
        if values.len() > MAX_CONDITIONS {
            let n = values.len();
            let detail = format!(
                "a list of {n} values needs a field before IN, and values that do not depend on the record; \
                 otherwise it takes up to {MAX_CONDITIONS}"
            );
            return error(&value.at, detail);
        }
        let parts = values.iter().map(|v| compare(value, Comparison::Equal, v, schema));
        return Ok(Test::Or(parts.collect::<Result<_, _>>()?));
    };
    let field = f.field;
    Ok(match f.kind {
        FieldType::String => {
            let values = literals.iter().map(|(l, v)| text(f, l, v)).collect::<Result<_, _>>()?;
            Test::Text { field, fold: f.fold, check: TextCheck::OneOf(values) }
        }
        FieldType::Integer | FieldType::Date | FieldType::Timestamp => {
            let mut values = Vec::with_capacity(literals.len());
            for (literal, value) in &literals {
                let (n, exact) = integer(f, literal, value)?;
                if exact {
                    values.push(n);
                }
            }
            values.sort_unstable();
            values.dedup();
            Test::IntegerIn { field, values }
        }
        FieldType::Number => {
            let mut values = literals.iter().map(|(l, v)| real(f, l, v)).collect::<Result<Vec<_>, _>>()?;
            values.sort_by(f64::total_cmp);
            Test::RealIn { field, values }
        }
        FieldType::Boolean => {
            let parts = literals.iter().map(|(l, v)| with_literal(f, Comparison::Equal, l, v));
            let mut parts: Vec<Test> = parts.collect::<Result<_, _>>()?;
            // There are two booleans, however long the list.
            let first = parts.first().cloned();
            parts.retain(|p| Some(p) != first.as_ref());
            parts.truncate(1);
            Test::Or(first.into_iter().chain(parts).collect())
        }
        FieldType::Strings | FieldType::Integers => return no_array(f),
    })
}

fn like(value: &Value, pattern: &Value, schema: &Schema) -> Result<Test, FilterError> {
    let f = match side(value, schema)? {
        Side::Field(f) if f.kind == FieldType::String => f,
        Side::Field(f) => {
            return error(&value.at, format!("LIKE needs a string; {} is {}", value.is, a(f.kind)));
        }
        _ => return error(&value.at, "LIKE asks of a string field"),
    };
    let Side::Literal(literal @ Literal::Text(_)) = side(pattern, schema)? else {
        return error(&pattern.at, "expected a pattern such as 'fog%'");
    };
    let text = text(f, &literal, pattern)?;
    let n = text.chars().count();
    if n > MAX_PATTERN {
        return error(&pattern.at, format!("the pattern has {n} characters; the limit is {MAX_PATTERN}"));
    }
    Ok(Test::Text { field: f.field, fold: f.fold, check: TextCheck::Like(Pattern::new(&text)) })
}

fn arrays(test: ArrayTest, left: &Value, right: &Value, schema: &Schema) -> Result<Test, FilterError> {
    let array = |value: &'_ Value| match &value.is {
        Term::List(_) => Ok(None),
        _ => match side(value, schema)? {
            Side::Field(f) if matches!(f.kind, FieldType::Strings | FieldType::Integers) => {
                Ok(Some((f.field, f.kind)))
            }
            Side::Field(f) => {
                error(&value.at, format!("{} is {}, not an array; use = or IN", value.is, a(f.kind)))
            }
            _ => error(&value.at, "expected an array field or a list such as ('fog', 'oil')"),
        },
    };
    let (test, (field, kind), list, of) = match (array(left)?, array(right)?) {
        (Some((a, kind)), Some((b, other))) => {
            return match kind == other {
                true => Ok(Test::Arrays(test, a, b)),
                false => error(&right.at, format!("{} and {} hold different items", left.is, right.is)),
            };
        }
        (Some(field), None) => (test, field, right, left),
        (None, Some(field)) => (test.turned(), field, left, right),
        (None, None) => return error(&left.at, "one side must be an array field"),
    };
    let Term::List(values) = &list.is else {
        unreachable!("the side that is not an array field must be a list")
    };
    let wrong = |value: &Value| {
        let example = if kind == FieldType::Strings { "'fog'" } else { "4" };
        let message = format!("{} is {}; its items are like {example}", of.is, a(kind));
        FilterError { start: value.at.start, end: value.at.end, pointer: None, message }
    };
    Ok(if kind == FieldType::Strings {
        let texts = values.iter().map(|v| match side(v, schema)? {
            Side::Literal(Literal::Text(text)) => Ok(text),
            _ => Err(wrong(v)),
        });
        Test::Texts { field, test, values: texts.collect::<Result<_, _>>()? }
    } else {
        let integers = values.iter().map(|v| match side(v, schema)? {
            Side::Literal(Literal::Integer(n)) => Ok(n),
            _ => Err(wrong(v)),
        });
        Test::Integers { field, test, values: integers.collect::<Result<_, _>>()? }
    })
}

/// An end of a stretch before the unit is known.
enum End {
    Literal(Literal),
    Field { field: usize, is_date: bool },
    Unbounded,
}

impl End {
    fn new(value: &Value, schema: &Schema) -> Result<End, FilterError> {
        if value.is == Term::Open {
            return Ok(End::Unbounded);
        }
        match side(value, schema)? {
            Side::Literal(literal @ (Literal::Date(_) | Literal::Timestamp(_))) => Ok(End::Literal(literal)),
            Side::Field(FieldSide { field, kind: FieldType::Date, .. }) => {
                Ok(End::Field { field, is_date: true })
            }
            Side::Field(FieldSide { field, kind: FieldType::Timestamp, .. }) => {
                Ok(End::Field { field, is_date: false })
            }
            _ => error(
                &value.at,
                format!(
                    "{} is not a time; write a date or timestamp field, DATE('1931-10-04'), TIMESTAMP('...') or \
                     INTERVAL('1931-01-01', '..')",
                    value.is
                ),
            ),
        }
    }

    fn is_timestamp(&self) -> bool {
        matches!(self, End::Literal(Literal::Timestamp(_)) | End::Field { is_date: false, .. })
    }

    /// `last`: the last moment of a date, not its first.
    fn moment(&self, in_days: bool, last: bool) -> Moment {
        match self {
            End::Unbounded => Moment::Unbounded,
            End::Field { field, is_date } => Moment::Field { field: *field, is_date: *is_date },
            End::Literal(Literal::Date(days)) if !in_days => Moment::At(whole_day(*days, last)),
            End::Literal(Literal::Date(n) | Literal::Timestamp(n)) => Moment::At(*n),
            End::Literal(_) => Moment::Unbounded,
        }
    }
}

fn time(relation: Relation, left: &Value, right: &Value, schema: &Schema) -> Result<Test, FilterError> {
    let ends = |value: &Value, is_left: bool| match &value.is {
        Term::Interval(from, to) => Ok((End::new(from, schema)?, Some(End::new(to, schema)?))),
        _ => {
            let end = End::new(value, schema)?;
            if !relation.takes_moment(is_left) {
                let detail = format!(
                    "this side takes an interval: INTERVAL(start, end); {} is a single moment",
                    value.is
                );
                return error(&value.at, detail);
            }
            Ok((end, None))
        }
    };
    let (a, b) = (ends(left, true)?, ends(right, false)?);
    let in_days =
        ![Some(&a.0), a.1.as_ref(), Some(&b.0), b.1.as_ref()].into_iter().flatten().any(End::is_timestamp);
    let stretch = |(from, to): (End, Option<End>), value: &Value| {
        let start = from.moment(in_days, false);
        let end = to.as_ref().unwrap_or(&from).moment(in_days, true);
        if let (Moment::At(start), Moment::At(end)) = (start, end)
            && start > end
        {
            return error(&value.at, "the interval ends before it begins");
        }
        Ok(Stretch { start, end, in_days })
    };
    Ok(Test::Time(relation, stretch(a, left)?, stretch(b, right)?))
}

impl Stretch {
    /// The field that it starts and ends with.
    pub(super) fn of_one_field(&self) -> Option<usize> {
        match (self.start, self.end) {
            (Moment::Field { field, .. }, Moment::Field { field: end, .. }) if field == end => Some(field),
            _ => None,
        }
    }

    /// The stretch that a row's values make; `None` when one is missing.
    pub(super) fn at(&self, of: impl Fn(usize) -> Option<i64>) -> Option<Span> {
        let end = |moment: Moment, last: bool| match moment {
            Moment::At(n) => Some(n),
            Moment::Unbounded => Some(if last { i64::MAX } else { i64::MIN }),
            Moment::Field { field, is_date: true } if !self.in_days => Some(whole_day(of(field)?, last)),
            Moment::Field { field, .. } => of(field),
        };
        Some(Span(end(self.start, false)?, end(self.end, true)?))
    }
}
