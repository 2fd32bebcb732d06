//! Fields of a collection: what JSON Schema (2020-12) properties we take, and whether a record
//! body fits them.

use crate::names::did_you_mean;
use chrono::{DateTime, NaiveDate};
use serde_json::{Map, Value, json};

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
    pub name: String,
    pub kind: FieldType,
    pub description: Option<String>,
}

/// The fields of a collection, in the order they were described.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Schema {
    pub fields: Vec<Field>,
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

const MAX_FIELDS: usize = 256;

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
        let none = Map::new();
        let properties = match schema.get("properties") {
            None => &none,
            Some(Value::Object(p)) => p,
            Some(_) => return misfit("/properties", "\"properties\" is an object: field name to its schema"),
        };
        if properties.len() > MAX_FIELDS {
            let n = properties.len();
            return misfit("/properties", format!("{n} fields; a collection takes up to {MAX_FIELDS}"));
        }
        let fields = properties.iter().map(|(name, p)| field(name, p)).collect::<Result<_, _>>()?;
        Ok(Schema { fields })
    }

    pub fn to_json(&self) -> Value {
        let properties: Map<String, Value> = self
            .fields
            .iter()
            .map(|f| {
                let mut p = match f.kind {
                    FieldType::String => json!({"type": "string"}),
                    FieldType::Integer => json!({"type": "integer"}),
                    FieldType::Number => json!({"type": "number"}),
                    FieldType::Boolean => json!({"type": "boolean"}),
                    FieldType::Date => json!({"type": "string", "format": "date"}),
                    FieldType::Timestamp => json!({"type": "string", "format": "date-time"}),
                    FieldType::Strings => json!({"type": "array", "items": {"type": "string"}}),
                    FieldType::Integers => json!({"type": "array", "items": {"type": "integer"}}),
                };
                if let Some(text) = &f.description {
                    p["description"] = json!(text);
                }
                (f.name.clone(), p)
            })
            .collect();
        json!({
            "$schema": "https://json-schema.org/draft/2020-12/schema",
            "type": "object",
            "properties": properties,
        })
    }

    pub fn position(&self, name: &str) -> Option<usize> {
        self.fields.iter().position(|f| f.name == name)
    }

    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.fields.iter().map(|f| f.name.as_str())
    }

    /// Checks that every member of a body is a known field of the right type. `null` and absence
    /// both mean that the value is missing.
    pub fn check(&self, body: &Map<String, Value>) -> Result<(), Misfit> {
        for (name, value) in body {
            let Some(at) = self.position(name) else {
                let hint = did_you_mean(name, self.names());
                return misfit(pointer_step(name), format!("unknown field \"{name}\"{hint}"));
            };
            let kind = self.fields[at].kind;
            if let Err(why) = parse(kind, value) {
                return misfit(pointer_step(name), format!("field \"{name}\" {why}"));
            }
        }
        Ok(())
    }
}

fn field(name: &str, property: &Value) -> Result<Field, Misfit> {
    let at = format!("/properties{}", pointer_step(name));
    let plain = !name.is_empty()
        && name.len() <= 64
        && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
        && !name.starts_with(|c: char| c.is_ascii_digit());
    if !plain || name == "key" {
        let why = if name == "key" {
            "\"key\" is the record's own key, not a field".to_owned()
        } else {
            format!("\"{name}\": field names are 1 to 64 letters, digits and _, not starting with a digit")
        };
        return misfit(at, why);
    }
    let Some(p) = property.as_object() else {
        return misfit(at, format!("describe \"{name}\" with an object such as {{\"type\": \"string\"}}"));
    };
    for word in p.keys() {
        if !matches!(word.as_str(), "type" | "format" | "items" | "description" | "title") {
            return misfit(
                format!("{at}{}", pointer_step(word)),
                format!(
                    "\"{word}\" is not enforced here, so it is refused; use type, format, items, description"
                ),
            );
        }
    }
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
                format!("the type of \"{name}\" must be string, integer, number, boolean or array"),
            );
        }
    };
    Ok(Field { name: name.into(), kind, description: text("description").map(Into::into) })
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
        v.as_i64().ok_or_else(|| match v {
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
            date(s).ok_or_else(|| format!("takes a date such as 1931-10-04; \"{s}\" is none"))?,
        ),
        (FieldType::Timestamp, Value::String(s)) => FieldValue::Integer(
            timestamp(s)
                .ok_or_else(|| format!("takes a timestamp such as 1931-10-04T18:30:00Z; \"{s}\" is none"))?,
        ),
        (FieldType::Strings, Value::Array(items)) => FieldValue::Texts(
            items.iter().map(|i| i.as_str().map(Into::into).ok_or_else(wrong)).collect::<Result<_, _>>()?,
        ),
        (FieldType::Integers, Value::Array(items)) => {
            FieldValue::Integers(items.iter().map(integer).collect::<Result<_, _>>()?)
        }
        _ => return Err(wrong()),
    }))
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
    let date = NaiveDate::parse_from_str(text, "%Y-%m-%d").ok()?;
    (text.len() == 10).then(|| i64::from(date.to_epoch_days()))
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
        }});
        let parsed = Schema::from_json(&schema).unwrap();
        assert_eq!(parsed.fields.len(), 8);
        assert_eq!(Schema::from_json(&parsed.to_json()).unwrap(), parsed);
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
        ] {
            assert_eq!(Schema::from_json(&schema).unwrap_err().pointer, pointer, "{schema}");
        }
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
        for (body, part) in [
            (json!({"yaer": 1}), "did you mean \"year\""),
            (json!({"year": "1931"}), "takes an integer, not a string (\"1931\")"),
            (json!({"year": 1.5}), "a number with a fraction"),
            (json!({"year": 99999999999999999999u128 as f64}), "beyond 64 bits"),
            (json!({"year": 9223372036854775808u64}), "beyond 64 bits"),
            (json!({"logged": "1931-02-30"}), "\"1931-02-30\" is none"),
            (json!({"logged": "1931-2-3"}), "is none"),
            (json!({"tags": ["a", 1]}), "array of strings"),
        ] {
            let error = check(body.clone()).unwrap_err();
            assert!(error.message.contains(part), "{body}: {error}");
        }
    }
}
