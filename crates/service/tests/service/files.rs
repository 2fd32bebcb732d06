//! Files to load, and what loads of them came to.

use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use zesty_client::load::{LoadError, LoadFiles, load_files};
use zesty_client::wire::LoadResult;
use zesty_client::{Client, Error};
use zesty_files::{Export, Layout, OutColumn, OutRecord};

pub fn points() -> Value {
    json!({"name": "points", "fields": {"properties": {"n": {"type": "integer"}, "day": {"type": "string", "format": "date"},
        "place": {"type": "object", "properties": {"lat": {"type": "number"}}}}},
        "columns": [{"name": "v", "dimensions": 2, "metric": "euclidean"}]})
}

pub fn file(folder: &Path, name: &str, bytes: impl AsRef<[u8]>) -> PathBuf {
    let path = folder.join(name);
    std::fs::write(&path, bytes).unwrap();
    path
}

pub fn line(i: usize) -> String {
    format!("{{\"key\": \"k{i}\", \"n\": {i}, \"v\": [{i}, 1]}}\n")
}

pub fn npy(rows: usize) -> Vec<u8> {
    let column = OutColumn { name: "v".into(), dimensions: 2, encoder: None };
    let keys: Vec<String> = (0..rows).map(|i| format!("k{i}")).collect();
    let mut export = Export::new(Layout::Npy, vec![], vec![column], &keys).unwrap();
    let records: Vec<OutRecord> = (0..rows)
        .map(|i| OutRecord {
            key: keys[i].clone(),
            fields: Default::default(),
            vectors: vec![Some(vec![i as f32, 1.0])],
        })
        .collect();
    let mut out = export.write(&records).unwrap();
    out.extend(export.finish().unwrap());
    out
}

pub fn of(path: PathBuf) -> LoadFiles {
    LoadFiles { records: Some(path), ..LoadFiles::default() }
}

pub fn with(path: PathBuf, options: Value) -> LoadFiles {
    LoadFiles { options: zesty_testing::options(options), ..of(path) }
}

pub async fn load(client: &Client, plan: &LoadFiles) -> Result<LoadResult, LoadError> {
    load_files(client, "points", plan, |_| ()).await
}

pub async fn load_refused(client: &Client, plan: &LoadFiles) -> String {
    load(client, plan).await.unwrap_err().to_string()
}

pub fn counts(d: &LoadResult) -> [u64; 5] {
    assert!(d.adds_up, "{d:?}");
    [d.read, d.new, d.replaced, d.unchanged, d.rejected]
}

pub fn record(key: &str, fields: Value, vector: Option<Vec<f32>>) -> OutRecord {
    let Value::Object(fields) = fields else { panic!("fields are an object") };
    OutRecord { key: key.into(), fields, vectors: vec![vector] }
}

pub fn written(layout: Layout, records: &[OutRecord], encoder: Option<&str>) -> Vec<u8> {
    let column = OutColumn { name: "v".into(), dimensions: 2, encoder: encoder.map(Into::into) };
    let mut export = Export::new(layout, vec![("n".into(), "integer".into())], vec![column], &[]).unwrap();
    let mut out = export.write(records).unwrap();
    out.extend(export.finish().unwrap());
    out
}

pub fn refused_word<T: std::fmt::Debug>(result: Result<T, Error>) -> String {
    zesty_testing::refused(result).word().to_owned()
}

pub fn keys(found: &zesty_client::wire::SearchAnswer) -> Vec<String> {
    found.hits.iter().map(|h| h.key.clone()).collect()
}
