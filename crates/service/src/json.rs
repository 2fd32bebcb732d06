//! JSON text read into shapes. A misfit is refused with the JSON Pointer to it.

use crate::problem::{Kind, Problem, Result};
use serde::de::DeserializeOwned;

/// Reads JSON; `under` is the pointer of the whole in what the caller sent.
pub fn parse<T: DeserializeOwned>(bytes: &[u8], under: &str) -> Result<T> {
    let text = std::str::from_utf8(bytes).map_err(|e| {
        Problem::new(Kind::InvalidText, format!("byte {} is not valid UTF-8", e.valid_up_to() + 1))
            .at(under)
            .with("byte", e.valid_up_to() + 1)
    })?;
    // What fits is read without keeping track of where; that takes twice as long.
    if let Ok(parsed) = zesty_wire::vectors::quickly(text) {
        return Ok(parsed);
    }
    let mut reader = serde_json::Deserializer::from_str(text);
    let parsed = serde_path_to_error::deserialize(&mut reader).map_err(|e| {
        let pointer = format!("{under}{}", pointer(e.path()));
        let inner = e.into_inner();
        if inner.is_data() {
            // serde ends with the place in the text; the pointer says it better.
            let text = inner.to_string();
            let text = text.split(" at line ").next().unwrap_or(&text);
            return Problem::new(Kind::WrongShape, text).at(pointer);
        }
        malformed(text, &inner).at(under)
    })?;
    reader.end().map_err(|e| malformed(text, &e).at(under))?;
    Ok(parsed)
}

fn malformed(text: &str, error: &serde_json::Error) -> Problem {
    let line = text.lines().nth(error.line().saturating_sub(1)).unwrap_or("");
    let near: String = line.chars().skip(error.column().saturating_sub(2)).take(8).collect();
    let hint = if ["NaN", "nan", "Inf", "inf"].iter().any(|w| near.contains(w))
        || error.to_string().contains("out of range")
    {
        "; NaN, infinity and numbers beyond 64-bit floats are not JSON: every component must be a finite number"
    } else {
        ""
    };
    Problem::new(Kind::MalformedJson, format!("{error}{hint}"))
}

fn pointer(path: &serde_path_to_error::Path) -> String {
    use serde_path_to_error::Segment;
    path.iter()
        .map(|segment| match segment {
            Segment::Seq { index } => format!("/{index}"),
            Segment::Map { key } => zesty_engine::schema::pointer_step(key),
            Segment::Enum { variant } => zesty_engine::schema::pointer_step(variant),
            Segment::Unknown => String::new(),
        })
        .collect()
}
