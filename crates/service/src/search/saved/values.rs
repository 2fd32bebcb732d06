//! Values that a saved search is given, held against the descriptions of its parameters.

use crate::problem::{Kind, Problem, Result};
use serde_json::{Number, Value};
use zesty_engine::filter::{Bound, Literal};
use zesty_engine::schema::{date, timestamp};
use zesty_wire::{Items, Parameter, ValueFormat, ValueType};

/// Characters of a string that is not bounded otherwise.
const LONGEST: usize = 10_000;
/// Items of an array that is not bounded otherwise.
const MOST_ITEMS: usize = 1_000;
/// Values that are listed in a refusal.
const LISTED: usize = 12;

/// The description of one value: of a parameter, or of the items of an array.
#[derive(Clone, Copy)]
struct One<'p> {
    kind: ValueType,
    format: Option<ValueFormat>,
    about: &'p Parameter,
}

impl<'p> One<'p> {
    fn of(about: &'p Parameter) -> One<'p> {
        let Items { r#type, format } =
            about.items.unwrap_or(Items { r#type: about.r#type, format: about.format });
        One { kind: r#type, format, about }
    }

    fn longest(self) -> usize {
        self.about.max_length.unwrap_or(LONGEST)
    }

    /// What it takes, in words.
    fn takes(self) -> String {
        let (low, high) = (self.about.minimum, self.about.maximum);
        let range = match (low, high) {
            (Some(low), Some(high)) => format!(" from {low} to {high}"),
            (Some(low), None) => format!(" from {low} on"),
            (None, Some(high)) => format!(" up to {high}"),
            (None, None) => String::new(),
        };
        match (self.kind, self.format) {
            (ValueType::Integer, _) => format!("an integer{range}"),
            (ValueType::Number, _) => format!("a number{range}"),
            (ValueType::Boolean, _) => "true or false".into(),
            (_, Some(ValueFormat::Date)) => "a date such as 1931-10-04".into(),
            (_, Some(ValueFormat::DateTime)) => "a time such as 1931-10-04T18:30:00Z".into(),
            (_, None) => format!("a string of up to {} characters", self.longest()),
        }
    }

    /// The value as it is used, if it is of the kind; integers may be written as 5.0 (JSON Schema).
    fn read(self, value: &Value) -> Option<Value> {
        let within = |x: f64| {
            self.about.minimum.is_none_or(|low| x >= low) && self.about.maximum.is_none_or(|high| x <= high)
        };
        let read = match (self.kind, value) {
            (ValueType::Boolean, Value::Bool(_)) => value.clone(),
            (ValueType::Integer, Value::Number(n)) => {
                let whole = n.as_f64().filter(|x| x.fract() == 0.0 && x.abs() < 9e15).map(|x| x as i64);
                let n = n.as_i64().or(whole)?;
                within(n as f64).then(|| Value::Number(n.into()))?
            }
            (ValueType::Number, Value::Number(n)) => within(n.as_f64()?).then(|| value.clone())?,
            (ValueType::String, Value::String(text)) => {
                let fits = match self.format {
                    Some(ValueFormat::Date) => date(text).is_some(),
                    Some(ValueFormat::DateTime) => timestamp(text).is_some(),
                    None => text.chars().count() <= self.longest(),
                };
                fits.then(|| value.clone())?
            }
            _ => return None,
        };
        self.about.one_of.as_ref().is_none_or(|all| all.contains(&read)).then_some(read)
    }

    /// A value out of a query string.
    fn typed(self, text: &str) -> Value {
        match self.kind {
            ValueType::Boolean => text.parse().map_or_else(|_| text.into(), Value::Bool),
            ValueType::Integer | ValueType::Number => {
                text.parse::<Number>().map_or_else(|_| text.into(), Value::Number)
            }
            ValueType::String | ValueType::Array => text.into(),
        }
    }

    fn literal(self, value: &Value) -> Option<Literal> {
        Some(match (self.format, value) {
            (Some(ValueFormat::Date), Value::String(text)) => Literal::Date(date(text)?),
            (Some(ValueFormat::DateTime), Value::String(text)) => Literal::Timestamp(timestamp(text)?),
            (_, Value::String(text)) => Literal::Text(text.clone()),
            (_, Value::Bool(b)) => Literal::Boolean(*b),
            (_, Value::Number(n)) => match n.as_i64() {
                Some(n) => Literal::Integer(n),
                None => Literal::Number(n.as_f64()?),
            },
            _ => return None,
        })
    }

    /// A value of the kind, to try a definition with.
    fn sample(self) -> Value {
        if let Some(first) = self.about.one_of.as_ref().and_then(|all| all.first()) {
            return first.clone();
        }
        let inside = 1f64.max(self.about.minimum.unwrap_or(1.0)).min(self.about.maximum.unwrap_or(f64::MAX));
        match (self.kind, self.format) {
            (ValueType::Integer, _) => (inside.floor() as i64).into(),
            (ValueType::Number, _) => inside.into(),
            (ValueType::Boolean, _) => true.into(),
            (_, Some(ValueFormat::Date)) => "2000-01-01".into(),
            (_, Some(ValueFormat::DateTime)) => "2000-01-01T00:00:00Z".into(),
            (_, None) => "x".into(),
        }
    }
}

/// What a parameter takes, in words.
pub fn takes(about: &Parameter) -> String {
    let one = One::of(about);
    let what = match &about.one_of {
        Some(all) => {
            let listed: Vec<String> = all.iter().take(LISTED).map(Value::to_string).collect();
            let more = if all.len() > LISTED { ", ..." } else { "" };
            format!("one of {}{more}", listed.join(", "))
        }
        None => one.takes(),
    };
    match about.r#type {
        ValueType::Array => format!("an array of up to {} values, each {what}", most_items(about)),
        _ => what,
    }
}

fn most_items(about: &Parameter) -> usize {
    about.max_items.unwrap_or(MOST_ITEMS)
}

/// A value as it is used, held against the description of its parameter.
pub fn read(name: &str, about: &Parameter, value: &Value) -> Result<Value> {
    let one = One::of(about);
    let pointer = format!("/{name}");
    let refuse = |given: &Value, at: String| {
        let given: String = given.to_string().chars().take(80).collect();
        let detail = format!("\"{name}\" is {}; {given} is given", takes(about));
        Problem::new(Kind::WrongShape, detail).at(at)
    };
    if about.r#type != ValueType::Array {
        return one.read(value).ok_or_else(|| refuse(value, pointer));
    }
    let Value::Array(items) = value else { return Err(refuse(value, pointer)) };
    if items.len() > most_items(about) {
        let detail =
            format!("\"{name}\" takes up to {} values; {} are given", most_items(about), items.len());
        return Err(Problem::new(Kind::WrongShape, detail).at(pointer));
    }
    let all = items.iter().enumerate();
    let all = all.map(|(i, item)| one.read(item).ok_or_else(|| refuse(item, format!("{pointer}/{i}"))));
    all.collect::<Result<Vec<_>>>().map(Value::Array)
}

/// A value out of a query string, where a parameter may stand several times.
pub fn from_texts(about: &Parameter, texts: &[&str]) -> Option<Value> {
    let one = One::of(about);
    if about.r#type != ValueType::Array {
        return match texts {
            [text] => Some(one.typed(text)),
            _ => None,
        };
    }
    // Numbers may stand with commas between: no number holds one.
    let numbers = matches!(one.kind, ValueType::Integer | ValueType::Number);
    let parts = texts.iter().flat_map(|text| match numbers {
        true => text.split(',').map(str::trim).collect(),
        false => vec![*text],
    });
    Some(Value::Array(parts.map(|text| one.typed(text)).collect()))
}

/// What stands in a filter for a value that was read.
pub fn bound(about: &Parameter, value: &Value) -> Option<Bound> {
    let one = One::of(about);
    match value {
        Value::Array(items) => items.iter().map(|i| one.literal(i)).collect::<Option<_>>().map(Bound::List),
        value => one.literal(value).map(Bound::One),
    }
}

/// A value that fits, to try a definition with.
pub fn sample(about: &Parameter) -> Value {
    let one = One::of(about).sample();
    match (&about.default, about.r#type) {
        (Some(default), _) => default.clone(),
        (None, ValueType::Array) => Value::Array(vec![one]),
        (None, _) => one,
    }
}

/// Whether the description of a parameter makes sense by itself.
pub fn check_parameter(name: &str, about: &Parameter) -> Result<()> {
    let pointer = format!("/parameters/{name}");
    let wrong = |member: &str, detail: String| {
        Err(Problem::new(Kind::WrongShape, format!("parameter \"{name}\": {detail}"))
            .at(format!("{pointer}/{member}")))
    };
    let is_array = about.r#type == ValueType::Array;
    if is_array != about.items.is_some() {
        return wrong("items", "an array says what its items are, and nothing else does".into());
    }
    let one = One::of(about);
    if one.kind == ValueType::Array {
        return wrong("items", "an array holds no arrays".into());
    }
    if is_array && about.format.is_some() || one.format.is_some() && one.kind != ValueType::String {
        return wrong("format", "a format goes with a string".into());
    }
    let is_number = matches!(one.kind, ValueType::Integer | ValueType::Number);
    if !is_number && (about.minimum.is_some() || about.maximum.is_some()) {
        return wrong("minimum", "minimum and maximum go with numbers".into());
    }
    if let (Some(low), Some(high)) = (about.minimum, about.maximum)
        && low > high
    {
        return wrong("maximum", format!("the maximum {high} is below the minimum {low}"));
    }
    if about.max_length.is_some_and(|_| one.kind != ValueType::String || one.format.is_some()) {
        return wrong("maxLength", "maxLength goes with strings that have no format".into());
    }
    if about.max_length.is_some_and(|n| !(1..=100_000).contains(&n)) {
        return wrong("maxLength", "maxLength goes from 1 to 100000".into());
    }
    if about.max_items.is_some_and(|n| !is_array || !(1..=100_000).contains(&n)) {
        return wrong("maxItems", "maxItems goes with an array, from 1 to 100000".into());
    }
    if let Some(all) = &about.one_of {
        if !(1..=1000).contains(&all.len()) {
            return wrong("enum", format!("{} values are listed; list 1 to 1000", all.len()));
        }
        if let Some(i) = all.iter().position(|v| one.read(v).as_ref() != Some(v)) {
            return wrong(&format!("enum/{i}"), format!("{} is not {}", all[i], one.takes()));
        }
    }
    match &about.default {
        Some(_) if about.optional => wrong(
            "default",
            "it has a default, so it is never left out; drop one of default and optional".into(),
        ),
        Some(default) => {
            let read = read(name, about, default);
            read.map(drop).map_err(|p| Problem { pointer: Some(format!("{pointer}/default")), ..p })
        }
        None => Ok(()),
    }
}
