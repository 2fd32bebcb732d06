//! JSON values read strictly: a member that appears twice is refused, and so is what outgrows a budget, while it
//! is read and not after.

use serde::de::{Deserialize, DeserializeSeed, Deserializer, Error, MapAccess, SeqAccess, Visitor};
use serde_json::value::RawValue;
use serde_json::{Map, Number, Value};
use std::cell::Cell;
use std::collections::BTreeMap;
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

/// A component of a vector. What is beyond the range of f32 is infinite, so that it can be refused with its place.
struct Component(f32);

impl<'de> Deserialize<'de> for Component {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Component, D::Error> {
        f64::deserialize(deserializer).map(|x| Component(x as f32))
    }
}

/// A vector, or null.
struct Components(Option<Vec<f32>>);

thread_local! {
    static QUICK: Cell<bool> = const { Cell::new(false) };
}

/// Reads a JSON text of which plain vectors are most: those are read three times as fast, and any misfit is an error
/// without its place. Whoever needs the place reads again.
pub fn quickly<'de, T: Deserialize<'de>>(text: &'de str) -> serde_json::Result<T> {
    struct Slow(bool);
    impl Drop for Slow {
        fn drop(&mut self) {
            QUICK.set(self.0);
        }
    }
    let _before = Slow(QUICK.replace(true));
    serde_json::from_str(text)
}

impl<'de> Deserialize<'de> for Components {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Components, D::Error> {
        if QUICK.get() {
            let text = <&RawValue>::deserialize(deserializer)?.get();
            return match plain_vector(text) {
                Some(vector) => Ok(Components(Some(vector))),
                None if text == "null" => Ok(Components(None)),
                None => Err(D::Error::custom("not a plain vector")),
            };
        }
        let all = Option::<Vec<Component>>::deserialize(deserializer)?;
        Ok(Components(all.map(|all| all.into_iter().map(|c| c.0).collect())))
    }
}

/// For `#[serde(deserialize_with)]`: a vector, or null.
pub fn vector<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Option<Vec<f32>>, D::Error> {
    Components::deserialize(deserializer).map(|c| c.0)
}

/// The vector that a text writes, or null. Numbers are read straight to the nearest f32;
/// whatever looks unusual is left to the JSON reader and its messages.
pub fn vector_from_str(text: &str) -> serde_json::Result<Option<Vec<f32>>> {
    match plain_vector(text.trim()) {
        Some(vector) => Ok(Some(vector)),
        None => {
            let mut reader = serde_json::Deserializer::from_str(text);
            let vector = vector(&mut reader)?;
            reader.end()?;
            Ok(vector)
        }
    }
}

/// Reads a vector that looks as usual in one pass, each number straight to the nearest f32.
fn plain_vector(text: &str) -> Option<Vec<f32>> {
    let mut rest = text.as_bytes().strip_prefix(b"[")?.trim_ascii_start();
    let mut vector = Vec::with_capacity(text.len() / 8);
    if rest == b"]" {
        return Some(vector);
    }
    loop {
        let digits = rest.strip_prefix(b"-").unwrap_or(rest);
        // What else the package takes for a number is not JSON.
        match digits {
            [b'0', b'0'..=b'9', ..] => return None,
            [b'0'..=b'9', ..] => {}
            _ => return None,
        }
        let (number, n) = fast_float2::parse_partial::<f32, _>(rest).ok()?;
        let (written, after) = rest.split_at(n);
        // Digits end it, and follow its point.
        let is_json = written.last().is_some_and(u8::is_ascii_digit)
            && written.iter().position(|b| *b == b'.').is_none_or(|at| written[at + 1].is_ascii_digit());
        if !is_json {
            return None;
        }
        vector.push(number);
        match after.trim_ascii_start() {
            [b',', more @ ..] => rest = more.trim_ascii_start(),
            [b']'] => return Some(vector),
            _ => return None,
        }
    }
}

/// For `#[serde(deserialize_with)]`: vectors by column, null for none; no column appears twice.
pub fn vectors<'de, D: Deserializer<'de>>(
    deserializer: D,
) -> Result<BTreeMap<String, Option<Vec<f32>>>, D::Error> {
    struct Reader;
    impl<'de> Visitor<'de> for Reader {
        type Value = BTreeMap<String, Option<Vec<f32>>>;
        fn expecting(&self, f: &mut fmt::Formatter) -> fmt::Result {
            f.write_str("an object of vectors by column")
        }
        fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
            let mut all = BTreeMap::new();
            while let Some(column) = map.next_key::<String>()? {
                let vector = map.next_value::<Components>()?.0;
                if all.contains_key(&column) {
                    return Err(A::Error::custom(format!("member \"{column}\" appears twice in one object")));
                }
                all.insert(column, vector);
            }
            Ok(all)
        }
    }
    deserializer.deserialize_map(Reader)
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
    fn vectors_are_read_alike_whichever_reader_takes_them() {
        for text in [
            "[1, -2.5e3,0.1]",
            " [ 0.30000001192092896 ] ",
            "[]",
            "[1e39, 1]",
            "null",
            "[1e-50]",
            "[-0]",
            "[01]",
            "[1.]",
            "[.5]",
            "[+1]",
            "[1,]",
            "[\"1\"]",
            "[null]",
            "[NaN]",
            "[[1]]",
            "[1] [2]",
            "[1e5.5]",
            "[1.e5]",
            "[1e]",
            "[1e+]",
            "[-]",
            "[-inf]",
            "[1,,2]",
            "[ 1 , 2 ]",
            "[\t1E+2,\n-0.0 ]",
            "[1 2]",
            "{}",
            "",
        ] {
            let mut reader = serde_json::Deserializer::from_str(text);
            let plain = vector(&mut reader).and_then(|v| reader.end().map(|()| v));
            match (vector_from_str(text), plain) {
                (Ok(a), Ok(b)) => assert_eq!(format!("{a:?}"), format!("{b:?}"), "{text}"),
                (Err(_), Err(_)) => {}
                (a, b) => panic!("{text}: {a:?}, {b:?}"),
            }
        }
    }

    #[test]
    fn components_are_the_nearest_there_are() {
        let written =
            "1.00000017881393432617187499, -16777217, 3.4028235677973366e38, 1e-46, 0.30000001192092896";
        let nearest: Vec<f32> = written.split(", ").map(|x| x.parse().unwrap()).collect();
        assert_eq!(vector_from_str(&format!("[{written}]")).unwrap(), Some(nearest));
    }

    #[test]
    fn numbers_come_back_to_the_last_bit() {
        for text in ["0.0038501026694045173", "5e-324", "1.7976931348623157e308", "0.1", "-0.0"] {
            let read = from_str(text).unwrap().as_f64().unwrap();
            assert_eq!(read.to_bits(), text.parse::<f64>().unwrap().to_bits(), "{text}");
        }
    }
}
