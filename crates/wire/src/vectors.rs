//! Vectors as JSON writes them: a list of numbers, or base64 of the components.

use crate::lifted::{is_reading, leading_vector, read_lifted, taken};
use base64::Engine as _;
use base64::engine::{DecodePaddingMode, GeneralPurpose, GeneralPurposeConfig};
use serde::de::{Deserialize, DeserializeOwned, Deserializer, Error, MapAccess, SeqAccess, Visitor};
use serde_json::value::RawValue;
use std::collections::BTreeMap;
use std::fmt;

/// A vector: a list of numbers, or its components as 32-bit floats, lowest byte first, in base64 (RFC 4648), which is read
/// many times as fast; null is none
#[cfg(feature = "openapi")]
#[derive(serde::Serialize, utoipa::ToSchema)]
#[serde(untagged)]
pub enum Vector {
    Components(Vec<f32>),
    Base64(String),
    None,
}

const BASE64: GeneralPurpose = GeneralPurpose::new(
    &base64::alphabet::STANDARD,
    GeneralPurposeConfig::new().with_decode_padding_mode(DecodePaddingMode::Indifferent),
);

/// A component of a vector. What is beyond the range of f32 is infinite, so that it can be refused with its place.
struct Component(f32);

impl<'de> Deserialize<'de> for Component {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Component, D::Error> {
        f64::deserialize(deserializer).map(|x| Component(x as f32))
    }
}

/// A vector, or null.
struct Components(Option<Vec<f32>>);

/// Reads a JSON text of which vectors are most: those are read many times as fast, and any misfit is an error
/// without its place. Whoever needs the place reads again.
pub fn quickly<T: DeserializeOwned>(text: &str) -> serde_json::Result<T> {
    read_lifted(text, |short| serde_json::from_str(short)).ok_or_else(|| Error::custom("no plain vectors"))
}

impl<'de> Deserialize<'de> for Components {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Components, D::Error> {
        if is_reading() {
            let text = <&RawValue>::deserialize(deserializer)?.get();
            return match plain_vector(text) {
                Some(vector) => Ok(Components(Some(vector))),
                None if text == "null" => Ok(Components(None)),
                None => Err(D::Error::custom("not a plain vector")),
            };
        }
        deserializer.deserialize_any(Reader)
    }
}

/// Reads whatever may be a vector, with the place of what is wrong.
struct Reader;

impl<'de> Visitor<'de> for Reader {
    type Value = Components;

    fn expecting(&self, f: &mut fmt::Formatter) -> fmt::Result {
        f.write_str("a vector: a list of numbers, or base64 of 32-bit floats")
    }
    fn visit_unit<E: Error>(self) -> Result<Components, E> {
        Ok(Components(None))
    }
    fn visit_str<E: Error>(self, text: &str) -> Result<Components, E> {
        from_base64(text).map(|vector| Components(Some(vector))).map_err(E::custom)
    }
    fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<Components, A::Error> {
        let mut vector = Vec::new();
        while let Some(component) = seq.next_element::<Component>()? {
            vector.push(component.0);
        }
        Ok(Components(Some(vector)))
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

/// The components that a text holds in base64, with or without padding.
fn from_base64(text: &str) -> Result<Vec<f32>, String> {
    let bytes = BASE64.decode(text).map_err(|e| format!("the text of a vector is no base64: {e}"))?;
    match bytes.as_chunks::<4>() {
        (components, []) => Ok(components.iter().map(|c| f32::from_le_bytes(*c)).collect()),
        _ => Err(format!("the text of a vector has {} bytes; 32-bit floats have 4 each", bytes.len())),
    }
}

/// Reads a vector that looks as usual in one pass, or takes the one that was lifted from its place.
fn plain_vector(text: &str) -> Option<Vec<f32>> {
    if text == "[]" {
        return taken(text);
    }
    if let Some(text) = text.strip_prefix('"').and_then(|rest| rest.strip_suffix('"')) {
        return from_base64(text).ok();
    }
    let (vector, n) = leading_vector(text.as_bytes(), text.len() / 16)?;
    (n == text.len()).then_some(vector)
}

/// For `#[serde(deserialize_with)]`: vectors by column, null for none; no column appears twice.
pub fn vectors<'de, D: Deserializer<'de>>(
    deserializer: D,
) -> Result<BTreeMap<String, Option<Vec<f32>>>, D::Error> {
    struct ByColumn;
    impl<'de> Visitor<'de> for ByColumn {
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
    deserializer.deserialize_map(ByColumn)
}

#[cfg(test)]
mod tests {
    use super::*;

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
            r#""AACAPwAAAMA=""#,
            r#""AACAPwAAAMA""#,
            r#""AACAPwAA""#,
            r#""AACAP-AAAMA=""#,
            r#""AACAP\u0077AAAMA=""#,
            r#" "" "#,
            r#"""""#,
            "\"",
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
    fn what_is_wrong_with_base64_is_said() {
        let said = |text: &str| vector_from_str(text).unwrap_err().to_string();
        assert_eq!(vector_from_str(r#""AACAPwAAAMA=""#).unwrap(), Some(vec![1.0, -2.0]));
        assert!(said(r#""AACAPwAA""#).contains("has 6 bytes; 32-bit floats have 4 each"));
        assert!(said(r#""AACAP-AA""#).contains("no base64: Invalid symbol 45, offset 5"));
        assert!(said("7").contains("expected a vector: a list of numbers, or base64 of 32-bit floats"));
    }
}
