//! Files to read.

use serde_json::{Map, Value, json};
use std::path::Path;
use zesty_files::*;

pub fn named(folder: &Path, name: &str, bytes: impl AsRef<[u8]>) -> Named {
    let path = folder.join(name);
    std::fs::write(&path, bytes).unwrap();
    Named { path, name: name.into() }
}

pub fn shape() -> TargetFields {
    let fields = [
        ("year", Kind::Number),
        ("note", Kind::Text),
        ("tags", Kind::Array),
        ("dry", Kind::Boolean),
        ("place.lat", Kind::Number),
        ("place.name", Kind::Text),
    ];
    TargetFields { fields: fields.map(|(n, k)| (n.to_owned(), k)).into(), columns: vec!["meaning".into()] }
}

pub fn plan(records: Option<Named>) -> LoadSources {
    LoadSources {
        keep_text: false,
        records,
        vectors: Vec::new(),
        matching: Match::Row,
        mapping: Mapping::default(),
        target: shape(),
        limits: Limits::default(),
    }
}

pub fn vectors(file: Named) -> VectorSource {
    VectorSource { column: "meaning".into(), file, keys: None }
}

pub fn all(plan: &LoadSources) -> Result<Vec<Row>, FileError> {
    Rows::open(plan)?.collect()
}

pub fn records(plan: &LoadSources) -> Vec<Record> {
    all(plan).unwrap().into_iter().map(|r| r.record.unwrap()).collect()
}

pub fn refusal(plan: &LoadSources) -> String {
    all(plan).unwrap_err().to_string()
}

pub fn npy(header: &str, body: &[u8]) -> Vec<u8> {
    let mut header = header.to_owned();
    while !(header.len() + 11).is_multiple_of(64) {
        header.push(' ');
    }
    header.push('\n');
    let mut out = b"\x93NUMPY\x01\x00".to_vec();
    out.extend((header.len() as u16).to_le_bytes());
    out.extend(header.as_bytes());
    out.extend(body);
    out
}

pub fn npy_f32(rows: usize, dimensions: usize, value: impl Fn(usize, usize) -> f32) -> Vec<u8> {
    let header = format!("{{'descr': '<f4', 'fortran_order': False, 'shape': ({rows}, {dimensions}), }}");
    let body: Vec<u8> =
        (0..rows * dimensions).flat_map(|i| value(i / dimensions, i % dimensions).to_le_bytes()).collect();
    npy(&header, &body)
}

pub fn lines(n: usize) -> String {
    (0..n).map(|i| format!("{{\"key\": \"k{i}\", \"year\": {}}}\n", 1900 + i)).collect()
}

pub fn sample(n: usize) -> Vec<OutRecord> {
    (0..n)
        .map(|i| {
            let fields = json!({"year": 1900 + i, "depth": i as f64 / 3.0, "dry": i % 2 == 0, "logged": "1931-10-04",
                "at": "1931-10-04T18:30:00.5Z", "tags": ["a", "b"], "codes": [1, -2], "note": format!("n, \"{i}\"\n"),
                "place": {"lat": 1.25}});
            let Value::Object(mut fields) = fields else { unreachable!() };
            if i == 1 {
                fields = Map::new();
            }
            let vector = (i != 2).then(|| vec![i as f32, 0.1, -3e-9]);
            OutRecord { key: format!("k{i}"), fields, vectors: vec![vector] }
        })
        .collect()
}

pub fn written(layout: Layout, records: &[OutRecord], encoder: Option<&str>) -> Vec<u8> {
    let fields = [
        ("year", "integer"),
        ("depth", "number"),
        ("dry", "boolean"),
        ("logged", "date"),
        ("at", "timestamp"),
        ("tags", "array of strings"),
        ("codes", "array of integers"),
        ("note", "string"),
        ("place.lat", "number"),
    ];
    let column = OutColumn { name: "meaning".into(), dimensions: 3, encoder: encoder.map(Into::into) };
    let keys: Vec<String> = records.iter().map(|r| r.key.clone()).collect();
    let fields = fields.map(|(n, k)| (n.to_owned(), k.to_owned())).to_vec();
    let mut export = Export::new(layout, fields, vec![column], &keys).unwrap();
    let mut out = Vec::new();
    for portion in records.chunks(2) {
        out.extend(export.write(portion).unwrap());
    }
    out.extend(export.finish().unwrap());
    out
}
