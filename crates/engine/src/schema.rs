//! Fields of a collection: what JSON Schema (2020-12) properties we take, and whether a record
//! body fits them.

use crate::names::did_you_mean;
use chrono::{DateTime, NaiveDate};
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FieldType {
    String,
    Integer,
    Number,
    Boolean,
    /// `string` with `format: date`; days.
    Date,
    /// `string` with `format: date-time`; microseconds.
    Timestamp,
    /// `array` of `string`.
    Strings,
    /// `array` of `integer`.
    Integers,
}

impl FieldType {
    /// How messages and screens call it.
    pub fn name(self) -> &'static str {
        match self {
            FieldType::String => "string",
            FieldType::Integer => "integer",
            FieldType::Number => "number",
            FieldType::Boolean => "boolean",
            FieldType::Date => "date",
            FieldType::Timestamp => "timestamp",
            FieldType::Strings => "array of strings",
            FieldType::Integers => "array of integers",
        }
    }
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Field {
    /// Members of objects by dotted path: `place.lat`.
    pub name: String,
    pub kind: FieldType,
    pub description: Option<String>,
    /// Kept in the database only: no column in memory, so no filter but IS NULL.
    pub stored_only: bool,
    /// The collection whose keys are its values.
    pub refers_to: Option<String>,
}

/// The fields of a collection, in the order they were described.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Schema {
    pub fields: Vec<Field>,
    /// Objects that were described, by path.
    pub groups: BTreeMap<String, String>,
}

/// A wrong part of a JSON document: where (a JSON Pointer, RFC 6901) and what.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct Misfit {
    pub pointer: String,
    pub message: String,
}

fn misfit<T>(pointer: impl Into<String>, message: impl Into<String>) -> Result<T, Misfit> {
    Err(Misfit { pointer: pointer.into(), message: message.into() })
}

/// One step of a JSON Pointer.
pub fn pointer_step(name: &str) -> String {
    format!("/{}", name.replace('~', "~0").replace('/', "~1"))
}

/// A member of a body, and those that it lies in. Its pointer is written where something is wrong with it alone.
#[derive(Clone, Copy)]
struct At<'a> {
    name: &'a str,
    outer: Option<&'a At<'a>>,
}

impl At<'_> {
    fn pointer(&self) -> String {
        self.outer.map(At::pointer).unwrap_or_default() + &pointer_step(self.name)
    }

    fn has_no_dot(&self) -> bool {
        !self.name.contains('.') && self.outer.is_none_or(At::has_no_dot)
    }
}

const MAX_FIELDS: usize = 256;
/// Objects in objects.
const MAX_DEPTH: usize = 8;

impl Schema {
    /// Reads `{"type": "object", "properties": {...}}`.
    pub fn from_json(schema: &Value) -> Result<Schema, Misfit> {
        let Some(schema) = schema.as_object() else {
            return misfit("", "a schema is a JSON object with \"properties\"");
        };
        if let Some(kind) = schema.get("type")
            && kind != "object"
        {
            return misfit("/type", "the type of a record is \"object\"");
        }
        for word in schema.keys() {
            if !matches!(word.as_str(), "$schema" | "$id" | "title" | "description" | "type" | "properties") {
                return misfit(
                    pointer_step(word),
                    format!(
                        "\"{word}\" is not enforced here, so it is refused; describe fields under \"properties\""
                    ),
                );
            }
        }
        let mut out = Schema::default();
        out.add_properties(schema, "", "", 0)?;
        if out.fields.len() > MAX_FIELDS {
            let n = out.fields.len();
            return misfit("/properties", format!("{n} fields; a collection takes up to {MAX_FIELDS}"));
        }
        Ok(out)
    }

    /// `at` is the pointer of the object's schema, `path` the dotted path with its last dot.
    fn add_properties(
        &mut self,
        object: &Map<String, Value>,
        at: &str,
        path: &str,
        depth: usize,
    ) -> Result<(), Misfit> {
        let none = Map::new();
        let at = format!("{at}/properties");
        let properties = match object.get("properties") {
            None => &none,
            Some(Value::Object(p)) => p,
            Some(_) => return misfit(at, "\"properties\" is an object: field name to its schema"),
        };
        for (name, property) in properties {
            let at = format!("{at}{}", pointer_step(name));
            let full = format!("{path}{name}");
            match property {
                Value::Object(inner) if inner.get("type").is_some_and(|t| t == "object") => {
                    check_name(name, path, &at)?;
                    only_words(inner, &["type", "properties", "description", "title"], &at)?;
                    if depth == MAX_DEPTH {
                        return misfit(at, format!("objects go {MAX_DEPTH} deep at most"));
                    }
                    if let Some(text) = inner.get("description").and_then(Value::as_str) {
                        self.groups.insert(full.clone(), text.into());
                    }
                    self.add_properties(inner, &at, &format!("{full}."), depth + 1)?;
                }
                property => self.fields.push(field(name, path, property, &at)?),
            }
        }
        Ok(())
    }

    pub fn to_json(&self) -> Value {
        let mut schema = json!({
            "$schema": "https://json-schema.org/draft/2020-12/schema",
            "type": "object",
            "properties": {},
        });
        for field in &self.fields {
            let (mut at, mut path) = (&mut schema, String::new());
            let mut steps: Vec<&str> = field.name.split('.').collect();
            let last = steps.pop().unwrap_or_default();
            for step in steps {
                path += step;
                at = &mut at["properties"][step];
                if at.is_null() {
                    *at = json!({"type": "object"});
                    if let Some(text) = self.groups.get(&path) {
                        at["description"] = json!(text);
                    }
                    at["properties"] = json!({});
                }
                path.push('.');
            }
            at["properties"][last] = field.to_json();
        }
        schema
    }

    pub fn position(&self, name: &str) -> Option<usize> {
        self.fields.iter().position(|f| f.name == name)
    }

    /// Whether a dotted path is a field or an object of fields.
    pub fn has(&self, path: &str) -> bool {
        let inside = format!("{path}.");
        self.names().any(|n| n == path || n.starts_with(&inside))
    }

    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.fields.iter().map(|f| f.name.as_str())
    }

    /// Checks that every member of a body is a known field of the right type. `null` and absence
    /// both mean that the value is missing.
    pub fn check(&self, body: &Map<String, Value>) -> Result<(), Misfit> {
        body.iter().try_for_each(|(name, value)| self.check_member(name, value, At { name, outer: None }))
    }

    fn check_member(&self, path: &str, value: &Value, at: At<'_>) -> Result<(), Misfit> {
        // A dot in the name of a member is not a path.
        let plain = at.has_no_dot();
        if let Some(field) = self.position(path).filter(|_| plain) {
            let kind = self.fields[field].kind;
            let wrong = |why| misfit(at.pointer(), format!("field \"{path}\" {why}"));
            return parse(kind, value).map(drop).or_else(wrong);
        }
        let inside = format!("{path}.");
        let is_group = plain && self.names().any(|n| n.starts_with(&inside));
        match value {
            Value::Null if is_group => Ok(()),
            Value::Object(members) if is_group => members.iter().try_for_each(|(name, value)| {
                self.check_member(&format!("{inside}{name}"), value, At { name, outer: Some(&at) })
            }),
            _ if is_group => misfit(at.pointer(), format!("field \"{path}\" takes an object")),
            _ => {
                let hint = did_you_mean(path, self.names());
                misfit(at.pointer(), format!("unknown field \"{path}\"{hint}"))
            }
        }
    }

    /// What turns this schema into `next` without touching a record, or why that cannot be.
    /// Fields can be added, described and widened; they cannot be taken away.
    pub fn change_to(&self, next: &Schema) -> Result<(), Misfit> {
        for old in &self.fields {
            let at = format!("/properties/{}", old.name.replace('.', "/properties/"));
            let Some(new) = next.fields.iter().find(|f| f.name == old.name) else {
                let detail = format!("field \"{}\" would be lost; a field that is described stays", old.name);
                return misfit(at, detail);
            };
            let same = old.kind == new.kind;
            let wider = matches!(
                (old.kind, new.kind),
                (FieldType::Integer, FieldType::Number)
                    | (FieldType::Date | FieldType::Timestamp, FieldType::String)
            );
            if !same && !wider {
                let detail = format!(
                    "field \"{}\" is {} and cannot become {}: stored values would not fit; integer widens to \
                     number, date and timestamp to string; anything else is a new field",
                    old.name,
                    article(old.kind),
                    article(new.kind)
                );
                return misfit(format!("{at}/type"), detail);
            }
        }
        Ok(())
    }
}

impl Field {
    pub fn to_json(&self) -> Value {
        let mut p = match self.kind {
            FieldType::String => json!({"type": "string"}),
            FieldType::Integer => json!({"type": "integer"}),
            FieldType::Number => json!({"type": "number"}),
            FieldType::Boolean => json!({"type": "boolean"}),
            FieldType::Date => json!({"type": "string", "format": "date"}),
            FieldType::Timestamp => json!({"type": "string", "format": "date-time"}),
            FieldType::Strings => json!({"type": "array", "items": {"type": "string"}}),
            FieldType::Integers => json!({"type": "array", "items": {"type": "integer"}}),
        };
        if let Some(text) = &self.description {
            p["description"] = json!(text);
        }
        if let Some(collection) = &self.refers_to {
            p["refersTo"] = json!(collection);
        }
        if self.stored_only {
            p["storedOnly"] = json!(true);
        }
        p
    }

    /// The field's value in a body.
    pub fn of<'a>(&self, body: &'a Map<String, Value>) -> Option<&'a Value> {
        let mut steps = self.name.split('.');
        let first = body.get(steps.next()?)?;
        steps.try_fold(first, |value, step| value.get(step))
    }
}

fn only_words(object: &Map<String, Value>, known: &[&str], at: &str) -> Result<(), Misfit> {
    match object.keys().find(|word| !known.contains(&word.as_str())) {
        None => Ok(()),
        Some(word) => misfit(
            format!("{at}{}", pointer_step(word)),
            format!("\"{word}\" is not enforced here, so it is refused; use {}", known.join(", ")),
        ),
    }
}

fn check_name(name: &str, path: &str, at: &str) -> Result<(), Misfit> {
    let plain = !name.is_empty()
        && name.len() <= 64
        && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
        && !name.starts_with(|c: char| c.is_ascii_digit());
    if name == "key" && path.is_empty() {
        return misfit(at, "\"key\" is the record's own key, not a field");
    }
    if !plain {
        let why = "field names are 1 to 64 letters, digits and _, not starting with a digit";
        return misfit(at, format!("\"{name}\": {why}"));
    }
    Ok(())
}

fn field(name: &str, path: &str, property: &Value, at: &str) -> Result<Field, Misfit> {
    check_name(name, path, at)?;
    let Some(p) = property.as_object() else {
        return misfit(at, format!("describe \"{name}\" with an object such as {{\"type\": \"string\"}}"));
    };
    only_words(p, &["type", "format", "items", "description", "title", "refersTo", "storedOnly"], at)?;
    let text = |key: &str| p.get(key).and_then(Value::as_str);
    let kind = match (text("type"), text("format")) {
        (Some("string"), None) => FieldType::String,
        (Some("string"), Some("date")) => FieldType::Date,
        (Some("string"), Some("date-time")) => FieldType::Timestamp,
        (Some("string"), Some(other)) => {
            return misfit(
                format!("{at}/format"),
                format!(
                    "format \"{other}\" of \"{name}\" is unknown; use date or date-time, or leave it out"
                ),
            );
        }
        (Some("integer"), None) => FieldType::Integer,
        (Some("number"), None) => FieldType::Number,
        (Some("boolean"), None) => FieldType::Boolean,
        (Some("array"), None) => match p.get("items").and_then(|i| i.get("type")).and_then(Value::as_str) {
            Some("string") => FieldType::Strings,
            Some("integer") => FieldType::Integers,
            _ => {
                return misfit(
                    format!("{at}/items"),
                    format!("the items of \"{name}\" must be of type string or integer"),
                );
            }
        },
        _ => {
            return misfit(
                format!("{at}/type"),
                format!("the type of \"{name}\" must be string, integer, number, boolean, array or object"),
            );
        }
    };
    let refers_to = match p.get("refersTo") {
        None | Some(Value::Null) => None,
        Some(Value::String(collection)) if kind == FieldType::String => Some(collection.clone()),
        Some(_) => {
            let why = "\"refersTo\" names a collection, and goes with a plain string, which holds its keys";
            return misfit(format!("{at}/refersTo"), why);
        }
    };
    let stored_only = match p.get("storedOnly") {
        None | Some(Value::Null) => false,
        Some(Value::Bool(b)) => *b,
        Some(_) => return misfit(format!("{at}/storedOnly"), "\"storedOnly\" is true or false"),
    };
    let description = text("description").map(Into::into);
    Ok(Field { name: format!("{path}{name}"), kind, description, stored_only, refers_to })
}

/// A typed value; `None` when missing.
#[derive(Clone, Debug, PartialEq)]
pub enum FieldValue {
    Text(String),
    Integer(i64),
    Number(f64),
    Boolean(bool),
    Texts(Vec<String>),
    Integers(Vec<i64>),
}

/// Reads a JSON value as `kind`. Dates become days since 1970-01-01, timestamps microseconds.
/// The error completes the sentence `field "x" ...`.
pub fn parse(kind: FieldType, value: &Value) -> Result<Option<FieldValue>, String> {
    let wrong = || {
        let found = match value {
            Value::Null => "null",
            Value::Bool(_) => "a boolean",
            Value::Number(n) if n.is_f64() => "a number with a fraction",
            Value::Number(_) => "an integer",
            Value::String(_) => "a string",
            Value::Array(_) => "an array",
            Value::Object(_) => "an object",
        };
        format!("takes {}, not {found}{}", article(kind), shown(value))
    };
    let integer = |v: &Value| {
        // JSON Schema: a number without a fraction is an integer, however it is written.
        let whole = |x: f64| (x.fract() == 0.0 && x.abs() <= 9_007_199_254_740_992.0).then_some(x as i64);
        v.as_i64().or_else(|| v.as_f64().filter(|_| v.is_f64()).and_then(whole)).ok_or_else(|| match v {
            Value::Number(n) if !n.is_f64() || n.as_f64().is_some_and(|x| x.abs() >= 9.2e18) => {
                format!("takes {}; {v} is beyond 64 bits", article(kind))
            }
            _ => wrong(),
        })
    };
    Ok(Some(match (kind, value) {
        (_, Value::Null) => return Ok(None),
        (FieldType::String, Value::String(s)) => FieldValue::Text(s.clone()),
        (FieldType::Integer, v) => FieldValue::Integer(integer(v)?),
        (FieldType::Number, Value::Number(n)) => {
            FieldValue::Number(n.as_f64().filter(|x| x.is_finite()).ok_or_else(wrong)?)
        }
        (FieldType::Boolean, Value::Bool(b)) => FieldValue::Boolean(*b),
        (FieldType::Date, Value::String(s)) => FieldValue::Integer(
            date(s).ok_or_else(|| format!("takes a date such as 1931-10-04; \"{s}\" is not one"))?,
        ),
        (FieldType::Timestamp, Value::String(s)) => {
            FieldValue::Integer(timestamp(s).ok_or_else(|| {
                format!("takes a timestamp such as 1931-10-04T18:30:00Z; \"{s}\" is not one")
            })?)
        }
        (FieldType::Strings, Value::Array(items)) => {
            let text = |(i, item): (usize, &Value)| {
                item.as_str().map(Into::into).ok_or_else(|| {
                    format!("takes an array of strings, and its item {} is {}", i + 1, found_in(item))
                })
            };
            FieldValue::Texts(items.iter().enumerate().map(text).collect::<Result<_, _>>()?)
        }
        (FieldType::Integers, Value::Array(items)) => {
            let number = |(i, item): (usize, &Value)| {
                integer(item).map_err(|_| {
                    format!("takes an array of integers, and its item {} is {}", i + 1, found_in(item))
                })
            };
            FieldValue::Integers(items.iter().enumerate().map(number).collect::<Result<_, _>>()?)
        }
        _ => return Err(wrong()),
    }))
}

/// An item of an array as messages show it.
fn found_in(item: &Value) -> String {
    let text = item.to_string();
    if text.chars().count() <= 40 {
        text
    } else {
        format!("{}...", text.chars().take(40).collect::<String>())
    }
}

fn article(kind: FieldType) -> String {
    let name = kind.name();
    let vowel = name.starts_with(['a', 'e', 'i', 'o', 'u']);
    format!("{} {name}", if vowel { "an" } else { "a" })
}

fn shown(value: &Value) -> String {
    let text = value.to_string();
    if text.chars().count() <= 40 { format!(" ({text})") } else { String::new() }
}

/// Days since 1970-01-01 of a real date written YYYY-MM-DD.
pub fn date(text: &str) -> Option<i64> {
    // Every row with a date comes here twice, and a pattern would be read each time.
    let [year @ .., b'-', m, mm, b'-', d, dd] = text.as_bytes() else { return None };
    let number = |digits: &[u8]| {
        let add = |n: u32, c: &u8| c.is_ascii_digit().then(|| 10 * n + u32::from(c - b'0'));
        digits.iter().try_fold(0, add)
    };
    let year = number(year).filter(|_| year.len() == 4)?;
    let date = NaiveDate::from_ymd_opt(year as i32, number(&[*m, *mm])?, number(&[*d, *dd])?)?;
    Some(i64::from(date.to_epoch_days()))
}

/// A value on the integer scale of a field, as it is written in JSON.
pub fn written(kind: FieldType, value: i64) -> Value {
    match kind {
        FieldType::Date => i32::try_from(value)
            .ok()
            .and_then(NaiveDate::from_epoch_days)
            .map_or(value.into(), |d| d.to_string().into()),
        FieldType::Timestamp => DateTime::from_timestamp_micros(value)
            .map_or(value.into(), |t| t.to_rfc3339_opts(chrono::SecondsFormat::AutoSi, true).into()),
        _ => value.into(),
    }
}

/// Microseconds since 1970-01-01T00:00:00Z of an RFC 3339 timestamp.
pub fn timestamp(text: &str) -> Option<i64> {
    DateTime::parse_from_rfc3339(text).ok().map(|t| t.timestamp_micros())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_schema_round_trips() {
        let schema = json!({"type": "object", "properties": {
            "station": {"type": "string", "description": "where"},
            "logged": {"type": "string", "format": "date"},
            "at": {"type": "string", "format": "date-time"},
            "year": {"type": "integer"}, "depth": {"type": "number"}, "ok": {"type": "boolean"},
            "tags": {"type": "array", "items": {"type": "string"}},
            "codes": {"type": "array", "items": {"type": "integer"}},
            "place": {"type": "object", "description": "on the chart", "properties": {
                "lat": {"type": "number"}, "chart": {"type": "object", "properties": {"sheet": {"type": "string"}}}}},
            "log": {"type": "string", "storedOnly": true}, "ship": {"type": "string", "refersTo": "ships"},
        }});
        let parsed = Schema::from_json(&schema).unwrap();
        assert_eq!(parsed.fields.len(), 12);
        assert_eq!(parsed.fields[9].name, "place.chart.sheet");
        assert_eq!(parsed.to_json()["properties"]["place"], schema["properties"]["place"]);
        assert_eq!(Schema::from_json(&parsed.to_json()).unwrap(), parsed);
    }

    #[test]
    fn dates_are_those_of_the_calendar_and_written_in_one_way() {
        let first = NaiveDate::from_ymd_opt(0, 1, 1).unwrap();
        for day in first.iter_days().take_while(|day| day.to_string().len() == 10).step_by(17) {
            assert_eq!(date(&day.to_string()), Some(i64::from(day.to_epoch_days())), "{day}");
        }
        for wrong in [
            "1931-02-29",
            "1931-13-01",
            "1931-00-10",
            "1931-1-04",
            "19311-0-04",
            " 931-10-04",
            "+931-10-04",
            "-931-10-04",
            "1931-10-04 ",
            "1931/10/04",
            "1931-10-0\u{0664}",
            "931-10-04",
            "",
            "-----",
        ] {
            assert_eq!(date(wrong), None, "{wrong}");
        }
    }

    #[test]
    fn what_a_schema_cannot_say_is_refused_with_its_place() {
        for (schema, pointer) in [
            (json!([]), ""),
            (json!({"required": ["x"]}), "/required"),
            (json!({"properties": {"x": {"type": "strnig"}}}), "/properties/x/type"),
            (json!({"properties": {"a/b": {"type": "string"}}}), "/properties/a~1b"),
            (json!({"properties": {"x": {"type": "string", "format": "email"}}}), "/properties/x/format"),
            (json!({"properties": {"x": {"type": "integer", "minimum": 3}}}), "/properties/x/minimum"),
            (json!({"properties": {"x": {"type": "array"}}}), "/properties/x/items"),
            (json!({"properties": {"key": {"type": "string"}}}), "/properties/key"),
            (
                json!({"properties": {"o": {"type": "object", "properties": {"x": {"type": "strnig"}}}}}),
                "/properties/o/properties/x/type",
            ),
            (json!({"properties": {"x": {"type": "integer", "refersTo": "a"}}}), "/properties/x/refersTo"),
            (json!({"properties": {"x": {"type": "string", "storedOnly": 1}}}), "/properties/x/storedOnly"),
        ] {
            assert_eq!(Schema::from_json(&schema).unwrap_err().pointer, pointer, "{schema}");
        }
    }

    #[test]
    fn members_of_objects_are_fields_by_path() {
        let place = json!({"type": "object", "properties": {"lat": {"type": "number"}}});
        let schema = Schema::from_json(&json!({"properties": {"place": place}})).unwrap();
        let check = |body: Value| schema.check(body.as_object().unwrap()).map_err(|e| e.pointer);
        assert_eq!(check(json!({"place": {"lat": 1.5}})), Ok(()));
        assert_eq!(check(json!({"place": null})), Ok(()));
        assert_eq!(check(json!({"place": {"lat": "x"}})), Err("/place/lat".into()));
        assert_eq!(check(json!({"place": {"lon": 1}})), Err("/place/lon".into()));
        assert_eq!(check(json!({"place": 7})), Err("/place".into()));
        assert_eq!(check(json!({"place.lat": 7})), Err("/place.lat".into()), "a dotted name is no path");
        let body = json!({"place": {"lat": 2}});
        assert_eq!(schema.fields[0].of(body.as_object().unwrap()), Some(&json!(2)));
    }

    #[test]
    fn schemas_grow_and_widen_but_lose_nothing() {
        let schema = |p: Value| Schema::from_json(&json!({"properties": p})).unwrap();
        let old = schema(json!({"a": {"type": "integer"}, "d": {"type": "string", "format": "date"}}));
        let change = |p: Value| old.change_to(&schema(p)).map_err(|e| e.pointer);
        let date = json!({"type": "string", "format": "date"});
        assert_eq!(
            change(json!({"a": {"type": "number"}, "d": {"type": "string"}, "n": {"type": "boolean"}})),
            Ok(())
        );
        assert_eq!(change(json!({"a": {"type": "integer"}})), Err("/properties/d".into()));
        assert_eq!(change(json!({"a": {"type": "string"}, "d": date})), Err("/properties/a/type".into()));
    }

    #[test]
    fn bodies_are_checked_field_by_field() {
        let schema = Schema::from_json(&json!({"properties": {
            "year": {"type": "integer"}, "logged": {"type": "string", "format": "date"},
            "tags": {"type": "array", "items": {"type": "string"}}, "depth": {"type": "number"},
        }}))
        .unwrap();
        let check = |body: Value| schema.check(body.as_object().unwrap());
        assert_eq!(check(json!({"year": 1931, "logged": null, "tags": [], "depth": 3})), Ok(()));
        assert_eq!(check(json!({"year": 1931.0})), Ok(()), "no fraction: an integer, as in JSON Schema");
        for (body, part) in [
            (json!({"yaer": 1}), "did you mean \"year\""),
            (json!({"year": "1931"}), "takes an integer, not a string (\"1931\")"),
            (json!({"year": 1.5}), "a number with a fraction"),
            (json!({"year": 99999999999999999999u128 as f64}), "beyond 64 bits"),
            (json!({"year": 9223372036854775808u64}), "beyond 64 bits"),
            (json!({"logged": "1931-02-30"}), "\"1931-02-30\" is not one"),
            (json!({"logged": "1931-2-3"}), "is not one"),
            (json!({"tags": ["a", null]}), "takes an array of strings, and its item 2 is null"),
        ] {
            let error = check(body.clone()).unwrap_err();
            assert!(error.message.contains(part), "{body}: {error}");
        }
    }
}
