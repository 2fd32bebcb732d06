//! JSON values read strictly: a member that appears twice is refused, and so is what outgrows a budget, while it
//! is read and not after.

use serde::de::{DeserializeSeed, Deserializer, Error, MapAccess, SeqAccess, Visitor};
use serde_json::{Map, Number, Value};
use std::cell::Cell;
use std::fmt;

/// Reads a value; each member, item and byte of text takes from the budget, where there is one.
#[derive(Clone, Copy, Default)]
pub struct Strict<'a> {
    pub budget: Option<&'a Budget>,
}

/// How many bytes of JSON may still be read.
pub struct Budget {
    left: Cell<usize>,
    limit: usize,
    /// What is read, for the refusal.
    what: &'static str,
}

impl Budget {
    pub fn new(limit: usize, what: &'static str) -> Budget {
        Budget { left: Cell::new(limit), limit, what }
    }
}

impl Strict<'_> {
    fn take<E: Error>(&self, bytes: usize) -> Result<(), E> {
        let Some(Budget { left, limit, what }) = self.budget else { return Ok(()) };
        match left.get().checked_sub(bytes) {
            Some(rest) => {
                left.set(rest);
                Ok(())
            }
            None => Err(E::custom(format!("{what} is too long: it may have {limit} bytes"))),
        }
    }
}

/// For `#[serde(deserialize_with)]`: an object in which no member appears twice, however deep.
pub fn object<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Map<String, Value>, D::Error> {
    match Strict::default().deserialize(deserializer)? {
        Value::Object(members) => Ok(members),
        other => Err(D::Error::custom(format!("{other} is not an object"))),
    }
}

/// Reads a text strictly.
pub fn from_str(text: &str) -> serde_json::Result<Value> {
    let mut reader = serde_json::Deserializer::from_str(text);
    let value = Strict::default().deserialize(&mut reader)?;
    reader.end()?;
    Ok(value)
}

impl<'de> DeserializeSeed<'de> for Strict<'_> {
    type Value = Value;
    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Value, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Strict<'_> {
    type Value = Value;

    fn expecting(&self, f: &mut fmt::Formatter) -> fmt::Result {
        f.write_str("a JSON value")
    }
    fn visit_unit<E: Error>(self) -> Result<Value, E> {
        self.take(4).map(|()| Value::Null)
    }
    fn visit_bool<E: Error>(self, v: bool) -> Result<Value, E> {
        self.take(4).map(|()| Value::Bool(v))
    }
    fn visit_i64<E: Error>(self, v: i64) -> Result<Value, E> {
        self.take(1).map(|()| v.into())
    }
    fn visit_u64<E: Error>(self, v: u64) -> Result<Value, E> {
        self.take(1).map(|()| v.into())
    }
    fn visit_f64<E: Error>(self, v: f64) -> Result<Value, E> {
        self.take(1)?;
        Number::from_f64(v).map(Value::Number).ok_or_else(|| E::custom("a number is not finite"))
    }
    fn visit_str<E: Error>(self, v: &str) -> Result<Value, E> {
        self.take(v.len()).map(|()| Value::String(v.into()))
    }
    fn visit_string<E: Error>(self, v: String) -> Result<Value, E> {
        self.take(v.len()).map(|()| Value::String(v))
    }
    fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<Value, A::Error> {
        let mut items = Vec::new();
        while let Some(item) = seq.next_element_seed(self)? {
            self.take(1)?;
            items.push(item);
        }
        Ok(Value::Array(items))
    }
    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Value, A::Error> {
        let mut members = Map::new();
        while let Some(name) = map.next_key::<String>()? {
            self.take(name.len() + 2)?;
            let value = map.next_value_seed(self)?;
            if members.contains_key(&name) {
                return Err(A::Error::custom(format!("member \"{name}\" appears twice in one object")));
            }
            members.insert(name, value);
        }
        Ok(Value::Object(members))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str, budget: usize) -> Result<Value, String> {
        let budget = Budget::new(budget, "the filter");
        let seed = Strict { budget: Some(&budget) };
        seed.deserialize(&mut serde_json::Deserializer::from_str(text)).map_err(|e| e.to_string())
    }

    #[test]
    fn what_fits_comes_back_and_what_does_not_is_refused_by_name() {
        let text = r#"{"op":"=","args":[{"property":"a"},[1,2.5,null,true,"x",18446744073709551615]]}"#;
        assert_eq!(read(text, 1000).unwrap(), serde_json::from_str::<Value>(text).unwrap());
        let long = format!("[{}1]", "1,".repeat(5000));
        assert!(read(&long, 1000).unwrap_err().starts_with("the filter is too long: it may have 1000 bytes"));
    }

    #[test]
    fn a_member_that_stands_twice_is_refused_however_deep() {
        assert!(from_str(r#"{"a":{"b":1,"c":2},"b":[{"b":1}]}"#).is_ok());
        let twice = from_str(r#"{"a":[{"b":1,"b":2}]}"#).unwrap_err().to_string();
        assert!(twice.contains("member \"b\" appears twice"), "{twice}");
        assert!(from_str("{} {}").is_err() && from_str(&"[".repeat(100_000)).is_err());
    }

    #[test]
    fn numbers_come_back_to_the_last_bit() {
        for text in ["0.0038501026694045173", "5e-324", "1.7976931348623157e308", "0.1", "-0.0"] {
            let read = from_str(text).unwrap().as_f64().unwrap();
            assert_eq!(read.to_bits(), text.parse::<f64>().unwrap().to_bits(), "{text}");
        }
    }
}
