//! The fields of a record, as answers carry them.

use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use serde_json::value::RawValue;
use serde_json::{Map, Value};
use std::ops::Deref;
use std::sync::OnceLock;

/// The fields of a record. A service passes them on as the text in which they are stored, and need not read them; who
/// receives them has them read.
#[derive(Clone, Debug, Default)]
pub struct Body {
    stored: Option<Box<RawValue>>,
    read: OnceLock<Map<String, Value>>,
}

impl Body {
    /// Fields as they are stored: a JSON object. An error says where it is not one.
    pub fn stored(text: &[u8]) -> Result<Body, serde_json::Error> {
        let stored: Box<RawValue> = serde_json::from_slice(text)?;
        match stored.get().starts_with('{') {
            true => Ok(Body { stored: Some(stored), read: OnceLock::new() }),
            false => Err(serde_json::Error::custom("fields are an object")),
        }
    }
}

impl From<Map<String, Value>> for Body {
    fn from(fields: Map<String, Value>) -> Body {
        Body { stored: None, read: fields.into() }
    }
}

impl From<Body> for Map<String, Value> {
    fn from(mut body: Body) -> Map<String, Value> {
        let _read: &Map<String, Value> = &body;
        body.read.take().unwrap_or_default()
    }
}

impl Deref for Body {
    type Target = Map<String, Value>;

    fn deref(&self) -> &Map<String, Value> {
        // What is stored was written from such a map, so it can be read.
        let read = || self.stored.as_ref().and_then(|text| serde_json::from_str(text.get()).ok());
        self.read.get_or_init(|| read().unwrap_or_default())
    }
}

impl Serialize for Body {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match &self.stored {
            Some(text) => text.serialize(serializer),
            None => (**self).serialize(serializer),
        }
    }
}

impl<'de> Deserialize<'de> for Body {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Body, D::Error> {
        Map::deserialize(deserializer).map(Body::from)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn stored_fields_are_passed_on_as_they_are_and_can_be_read() {
        let text = r#"{"b":1.50,"a":{"x":[1,"\u00e9"]}}"#;
        let body = Body::stored(text.as_bytes()).unwrap();
        assert_eq!(serde_json::to_string(&[&body]).unwrap(), format!("[{text}]"));
        assert_eq!(body["a"], json!({"x": [1, "é"]}));
        assert_eq!(Map::from(Body::stored(text.as_bytes()).unwrap()), *body);
        let sent: Body = serde_json::from_str(text).unwrap();
        assert_eq!((&*sent, sent.keys().next().unwrap().as_str()), (&*body, "b"));
        assert_eq!(serde_json::to_value(&body).unwrap(), serde_json::to_value(&sent).unwrap());
        assert_eq!(serde_json::to_string(&Body::from(Map::new())).unwrap(), "{}");
    }

    #[test]
    fn what_is_no_object_is_refused() {
        for text in [r#"{"a":1"#, "[1]", "1", "", "{} {}", "{\"a\":\"\u{1}\"}"] {
            assert!(Body::stored(text.as_bytes()).is_err(), "{text}");
        }
        assert!(Body::stored(b"{\"a\":\"\xff\"}").is_err());
    }
}
