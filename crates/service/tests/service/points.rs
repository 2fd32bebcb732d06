//! A small collection of points in the plane.

use serde_json::{Value, json};

pub fn two_dimensional(name: &str) -> Value {
    json!({"name": name, "fields": {"properties": {
        "n": {"type": "integer"}, "word": {"type": "string"}, "on": {"type": "string", "format": "date"}}},
        "columns": [{"name": "place", "dimensions": 2, "metric": "euclidean"}]})
}

pub fn point(key: &str, n: i64, x: f64, y: f64) -> Value {
    json!({"key": key, "fields": {"n": n}, "vectors": {"place": [x, y]}})
}
