//! What was found in a file.

use crate::file::Format;
use crate::sources::Mapping;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;

/// A type that a column could be taken as, and what that would cost.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Choice {
    pub r#type: String,
    /// Rows that would be rejected: of those that were read, or of all for a type that was asked for.
    pub n_rejected: u64,
    /// The first of them, as messages name rows, and its value.
    pub first: Option<(u64, Value)>,
}

/// A column that can be a field.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct FoundField {
    /// What the file calls it; members of objects by dotted path.
    pub source: String,
    /// A name that a collection takes.
    pub name: String,
    /// string, integer, number, boolean, date, timestamp, array of strings, array of integers
    pub r#type: String,
    pub n_missing: u64,
    pub n_distinct: u64,
    pub examples: Vec<Value>,
    /// What a person should know before taking the type.
    pub remark: Option<String>,
    /// Where values of several types stand: what else it could be taken as.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub choices: Vec<Choice>,
}

/// A column that can be a vector column.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FoundVectors {
    pub source: String,
    pub name: String,
    pub dimensions: usize,
    /// f16, f32, f64, u8, or text for numbers that are written out
    pub element: String,
    pub n_missing: u64,
    pub remark: Option<String>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Inspection {
    pub file: String,
    pub format: Format,
    /// Rows in the file, where it says.
    pub n_rows: Option<u64>,
    /// Rows that were read.
    pub n_sampled: u64,
    /// The column that should hold the keys.
    pub key: Option<String>,
    pub fields: Vec<FoundField>,
    pub vectors: Vec<FoundVectors>,
    /// What is wrong with rows that were read.
    pub troubles: Vec<String>,
}

impl Inspection {
    /// JSON Schema of the fields that were found.
    pub fn schema(&self) -> Value {
        let mut properties = Map::new();
        for field in &self.fields {
            let kind = match field.r#type.as_str() {
                "date" => json!({"type": "string", "format": "date"}),
                "timestamp" => json!({"type": "string", "format": "date-time"}),
                "array of strings" => json!({"type": "array", "items": {"type": "string"}}),
                "array of integers" => json!({"type": "array", "items": {"type": "integer"}}),
                plain => json!({"type": plain}),
            };
            place(&mut properties, &field.name, kind);
        }
        json!({"type": "object", "properties": properties})
    }

    /// What must be said to load the file into a collection made from it.
    pub fn mapping(&self) -> Mapping {
        let key = self.key.clone().filter(|k| k != "key");
        let names = self.fields.iter().map(|f| (&f.source, &f.name));
        let columns = self.vectors.iter().map(|v| (&v.source, &v.name));
        let rename = names.chain(columns).filter(|(s, n)| s != n).map(|(s, n)| (s.clone(), n.clone()));
        let rename = if self.format.is_matrix() { BTreeMap::new() } else { rename.collect() };
        Mapping { key, rename, ..Mapping::default() }
    }
}

/// Puts a property under a dotted path, making the objects on the way.
fn place(properties: &mut Map<String, Value>, path: &str, kind: Value) {
    let mut at = properties;
    let mut rest = path;
    while let Some((first, then)) = rest.split_once('.') {
        let group = at.entry(first).or_insert_with(|| json!({"type": "object", "properties": {}}));
        let Some(Value::Object(inside)) = group.get_mut("properties") else { return };
        (at, rest) = (inside, then);
    }
    at.insert(rest.to_owned(), kind);
}
