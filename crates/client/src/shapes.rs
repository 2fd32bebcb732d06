//! What the service answers. Members this client does not know are kept, so that `--json` prints
//! all that came.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Service {
    pub service: String,
    pub version: String,
    pub node: String,
    pub up_s: f64,
    pub n_collections: usize,
    pub n_records: usize,
    pub kernels: String,
    pub database: bool,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

/// Those settings that a recipe heeds.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Settings {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub beam: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub visit: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rescore: Option<u64>,
}

impl std::fmt::Display for Settings {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let words = [("beam", self.beam), ("visit", self.visit), ("rescore", self.rescore)];
        let words: Vec<String> = words.iter().filter_map(|(w, n)| Some(format!("{w} {}", (*n)?))).collect();
        f.write_str(&words.join(", "))
    }
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Serving {
    pub index: String,
    pub settings: Settings,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Column {
    pub name: String,
    pub dimensions: u32,
    pub metric: String,
    pub encoder: Option<String>,
    pub template: Option<String>,
    pub n_vectors: usize,
    pub serving: Option<Serving>,
    pub n_bytes_memory: u64,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Collection {
    pub name: String,
    pub description: String,
    pub fields: Value,
    pub columns: Vec<Column>,
    pub default_column: Option<String>,
    /// Counts changes of fields and columns.
    #[serde(default)]
    pub shape: i64,
    pub indexes: Vec<Index>,
    pub n_records: usize,
    pub revision: u64,
    pub created_at: String,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

/// What the last sweep of an index gave.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Measured {
    pub settings: Settings,
    pub k: u64,
    pub recall_mean: f64,
    pub p50_us: f64,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct StageNote {
    pub stage: String,
    pub what: String,
    pub bytes_per_row: f64,
    pub fixed_bytes: u64,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Expected {
    pub memory_bytes: u64,
    pub file_bytes: u64,
    pub build_seconds: f64,
}

/// A recipe, explained.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Explained {
    pub recipe: String,
    pub rows: u64,
    pub dimensions: u64,
    pub metric: String,
    pub why: Option<String>,
    pub stages: Vec<StageNote>,
    pub expected: Expected,
    pub learns_from: Option<u64>,
    pub notices: Vec<String>,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Index {
    pub name: String,
    pub column: String,
    pub recipe: String,
    pub state: String,
    pub error: Option<String>,
    pub n_rows: u64,
    pub n_uncovered: u64,
    pub n_dead: u64,
    pub n_bytes_file: u64,
    pub n_bytes_vectors: u64,
    pub n_bytes_structure: u64,
    pub n_bytes_memory: u64,
    pub measured: Option<Measured>,
    pub build_seconds: f64,
    pub serving: bool,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Written {
    pub read: usize,
    pub new: usize,
    pub replaced: usize,
    pub unchanged: usize,
    pub revision: u64,
    #[serde(default)]
    pub rejected: Vec<Rejected>,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Record {
    pub key: String,
    pub fields: Map<String, Value>,
    pub revision: u64,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct RecordPage {
    pub records: Vec<Record>,
    pub next: Option<String>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Hit {
    pub key: String,
    pub distance: f64,
    pub score: f64,
    pub fields: Map<String, Value>,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Via {
    pub column: String,
    pub metric: String,
    pub index: Option<String>,
    pub recipe: Option<String>,
    pub settings: Option<Settings>,
    pub plan: Value,
    pub work: Value,
    pub exact: bool,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Took {
    pub encode_us: f64,
    pub filter_us: f64,
    pub search_us: f64,
    pub fetch_us: f64,
    pub total_us: f64,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Notice {
    pub code: String,
    pub text: String,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Search {
    pub hits: Vec<Hit>,
    pub via: Via,
    pub revision: u64,
    pub took: Took,
    pub notices: Vec<Notice>,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Searches {
    pub answers: Vec<Search>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct LogLine {
    pub at: String,
    pub text: String,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Job {
    pub id: i64,
    pub kind: String,
    pub collection: String,
    pub subject: String,
    pub state: String,
    #[serde(default)]
    pub stage: Option<String>,
    pub done: u64,
    pub total: u64,
    pub elapsed_s: f64,
    pub left_s: Option<f64>,
    /// What it has counted so far
    #[serde(default)]
    pub counts: Option<Value>,
    pub log: Vec<LogLine>,
    pub result: Option<Value>,
    pub error: Option<String>,
    pub created_at: String,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Point {
    pub settings: Settings,
    pub queries_per_s: f64,
    pub recall_mean: f64,
    pub recall_p5: f64,
    pub recall_min: f64,
    pub recall_ties_mean: f64,
    pub p50_us: f64,
    pub p95_us: f64,
    pub p99_us: f64,
    pub distances_per_query: f64,
    pub histogram: Vec<u64>,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct ExactPoint {
    pub queries: u64,
    pub queries_per_s: f64,
    pub p50_us: f64,
    pub p99_us: f64,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct SweepResult {
    pub points: Vec<Point>,
    pub exact: ExactPoint,
    pub n_rows: u64,
    pub n_queries: u64,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Sweep {
    pub id: i64,
    pub index: String,
    pub column: String,
    pub recipe: String,
    pub spec: Value,
    pub result: SweepResult,
    pub created_at: String,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Encoder {
    pub name: String,
    pub url: String,
    pub model: String,
    pub dimensions: u32,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Key {
    pub name: String,
    pub created_at: String,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct NewKey {
    pub name: String,
    pub key: String,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Rejected {
    pub at: usize,
    pub word: String,
    pub detail: String,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Patched {
    pub matched: usize,
    pub changed: usize,
    pub unchanged: usize,
    pub left_out: usize,
    #[serde(default)]
    pub left_out_keys: Vec<String>,
    pub revision: u64,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Deleted {
    pub matched: usize,
    pub deleted: usize,
    pub left_out: usize,
    #[serde(default)]
    pub left_out_keys: Vec<String>,
    pub revision: u64,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct ValueCount {
    pub value: Value,
    pub count: u64,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Histogram {
    pub low: Value,
    pub high: Value,
    pub counts: Vec<u64>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Field {
    pub name: String,
    pub r#type: String,
    pub description: Option<String>,
    pub n_present: u64,
    pub n_missing: u64,
    pub n_distinct: u64,
    pub values: Vec<ValueCount>,
    pub histogram: Option<Histogram>,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Fields {
    pub n_records: u64,
    pub fields: Vec<Field>,
}

/// A file that was sent to the service.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Upload {
    pub id: String,
    pub name: String,
    pub bytes: Option<u64>,
    pub received: u64,
    pub complete: bool,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Load {
    pub id: i64,
    pub collection: String,
    pub state: String,
    pub error: Option<String>,
    pub job: i64,
    pub files: Vec<String>,
    pub read: u64,
    pub new: u64,
    pub replaced: u64,
    pub unchanged: u64,
    pub rejected: u64,
    pub unencoded: u64,
    pub created_at: String,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct StartedLoad {
    pub load: i64,
    pub job: Job,
}

/// The reconciliation of a load: `read` = `new` + `replaced` + `unchanged` + `rejected`.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct LoadDone {
    pub load: i64,
    pub read: u64,
    pub new: u64,
    pub replaced: u64,
    pub unchanged: u64,
    pub rejected: u64,
    /// Written without a vector because the encoder would not take their text
    pub unencoded: u64,
    /// Records in the collection when the load began, and now, counted by the database
    pub before: u64,
    pub in_database: u64,
    pub others_wrote: bool,
    pub adds_up: bool,
    pub notices: Vec<String>,
    pub revision: u64,
    #[serde(flatten)]
    pub rest: Map<String, Value>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct CostPart {
    pub part: String,
    pub name: String,
    pub n: u64,
    pub database: u64,
    pub disk: u64,
    pub memory: u64,
    pub coverage: Option<f64>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Costs {
    pub parts: Vec<CostPart>,
    pub database: u64,
    pub disk: u64,
    pub memory: u64,
    pub written_at: Option<String>,
    pub revision: u64,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct UnencodedRecord {
    pub key: String,
    pub reason: String,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Unencoded {
    pub n_without_vector: u64,
    pub records: Vec<UnencodedRecord>,
}

#[derive(Deserialize)]
pub(crate) struct SignInLink {
    pub path: String,
}

/// Lists come wrapped in an object, so that they can grow.
macro_rules! lists {
    ($($list:ident $name:ident $item:ident,)*) => {
        $(#[derive(Deserialize)] pub(crate) struct $list { pub $name: Vec<$item> })*
    };
}

lists! {
    Collections collections Collection,
    Indexes indexes Index,
    Uploads files Upload,
    Loads loads Load,
    Jobs jobs Job,
    Sweeps sweeps Sweep,
    Encoders encoders Encoder,
    Keys keys Key,
}
