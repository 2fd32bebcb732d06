//! Names of columns: how long and deep they may be, and values put under dotted ones.

use serde_json::map::Entry;
use serde_json::{Map, Value};

/// Steps of a dotted name: objects in objects, and the field itself.
pub const MAX_STEPS: usize = 9;

/// Columns of a file, or members of a line of JSON, that are read.
pub const MAX_COLUMNS: usize = 4096;

/// Bytes of a column's name.
pub const MAX_NAME: usize = 1024;

/// Whether a column may be called so; the error completes the sentence "column ...".
pub(crate) fn check_name(name: &str) -> Result<(), String> {
    let shown = || name.chars().take(40).collect::<String>();
    let steps = name.split('.').count();
    if steps > MAX_STEPS {
        return Err(format!("\"{}...\" has {steps} parts between dots; {MAX_STEPS} is the most", shown()));
    }
    if name.len() > MAX_NAME {
        return Err(format!("\"{}...\" has {} bytes; {MAX_NAME} is the most", shown(), name.len()));
    }
    Ok(())
}

/// Puts a value under a dotted path, making the objects on the way. A member that is there is not replaced by an
/// object, nor an object by it: the error completes the sentence "line 7 ...".
pub fn put(fields: &mut Map<String, Value>, path: &str, value: Value) -> Result<(), String> {
    check_name(path).map_err(|why| format!("has a member {why}"))?;
    let mut at = fields;
    let mut rest = path;
    while let Some((first, then)) = rest.split_once('.') {
        let inner = at.entry(first).or_insert_with(|| Value::Object(Default::default()));
        let Value::Object(inner) = inner else {
            return Err(format!("has a value for \"{path}\", and one for \"{first}\", which holds it"));
        };
        (at, rest) = (inner, then);
    }
    match at.entry(rest) {
        Entry::Vacant(place) => {
            place.insert(value);
            Ok(())
        }
        Entry::Occupied(_) => Err(format!("has two values for \"{path}\"")),
    }
}
