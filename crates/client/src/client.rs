//! The client: one method a route.

use eventsource_stream::Eventsource;
use futures::StreamExt;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::{Method, RequestBuilder};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::json;
use std::time::Duration;
use zesty_wire::problem::Problem;
use zesty_wire::*;

#[derive(Clone)]
pub struct Client {
    http: reqwest::Client,
    url: String,
    key: String,
}

/// Why a call did not succeed.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The service said no, as Problem Details.
    #[error("{}", .0.detail)]
    Refused(Box<Problem>),
    #[error("cannot reach {url}: {why}; is the service running? (bin/demo starts one)")]
    Unreachable { url: String, why: String },
    #[error("{0}")]
    Broken(String),
}

impl Error {
    pub fn problem(&self) -> Option<&Problem> {
        match self {
            Error::Refused(problem) => Some(problem),
            _ => None,
        }
    }
}

pub type Result<T, E = Error> = std::result::Result<T, E>;

/// Everything but letters, digits, - _ and ~ is escaped, dots too: a lone dot would be taken for "here".
const STEP: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'~');

/// One step of a path, with everything escaped that could be mistaken for structure.
pub(crate) fn step(name: &str) -> String {
    utf8_percent_encode(name, STEP).to_string()
}

fn plain() -> reqwest::ClientBuilder {
    // Whoever was first has chosen the same.
    let _ = rustls::crypto::ring::default_provider().install_default();
    reqwest::Client::builder().connect_timeout(Duration::from_secs(5))
}

impl Client {
    pub fn new(url: &str, key: &str) -> Client {
        Client::with(url, key, plain()).expect("a plain client can always be made")
    }

    /// A client that also trusts the certificates in `pem`: of an authority of one's own, or of the service itself.
    pub fn trusting(url: &str, key: &str, pem: &[u8]) -> std::result::Result<Client, String> {
        let certificates = reqwest::Certificate::from_pem_bundle(pem).map_err(|e| e.to_string())?;
        if certificates.is_empty() {
            return Err("no certificates in PEM".into());
        }
        Client::with(url, key, plain().tls_certs_merge(certificates)).map_err(|e| e.to_string())
    }

    fn with(url: &str, key: &str, http: reqwest::ClientBuilder) -> reqwest::Result<Client> {
        Ok(Client { http: http.build()?, url: url.trim_end_matches('/').into(), key: key.into() })
    }

    /// The same connection with another key.
    pub fn with_key(&self, key: &str) -> Client {
        Client { key: key.into(), ..self.clone() }
    }

    pub fn url(&self) -> &str {
        &self.url
    }

    pub fn request(&self, method: Method, path: &str) -> RequestBuilder {
        self.http.request(method, format!("{}{path}", self.url)).bearer_auth(&self.key)
    }

    async fn send(&self, request: RequestBuilder) -> Result<reqwest::Response> {
        let response = request.send().await.map_err(|e| self.unreachable(&e))?;
        if response.status().is_success() {
            return Ok(response);
        }
        let status = response.status();
        let body = response.bytes().await.map_err(|e| self.unreachable(&e))?;
        Err(match serde_json::from_slice::<Problem>(&body) {
            Ok(problem) => Error::Refused(Box::new(problem)),
            Err(_) => Error::Broken(format!(
                "{} answered {status} and no reason: {}",
                self.url,
                String::from_utf8_lossy(&body).chars().take(200).collect::<String>()
            )),
        })
    }

    fn unreachable(&self, error: &reqwest::Error) -> Error {
        let mut inner: &dyn std::error::Error = error;
        while let Some(source) = inner.source() {
            inner = source;
        }
        Error::Unreachable { url: self.url.clone(), why: inner.to_string() }
    }

    pub(crate) async fn read<T: DeserializeOwned>(&self, request: RequestBuilder) -> Result<T> {
        let response = self.send(request).await?;
        let bytes = response.bytes().await.map_err(|e| self.unreachable(&e))?;
        serde_json::from_slice(&bytes)
            .map_err(|e| Error::Broken(format!("{} answered what this client cannot read: {e}", self.url)))
    }

    pub(crate) async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T> {
        self.read(self.request(Method::GET, path)).await
    }

    pub(crate) async fn call<T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T> {
        self.read(self.request(method, path).json(body)).await
    }

    pub(crate) async fn delete(&self, path: &str) -> Result<()> {
        self.send(self.request(Method::DELETE, path)).await.map(drop)
    }

    pub async fn service(&self) -> Result<Service> {
        self.get("/api/service").await
    }

    /// The node looked at from end to end.
    pub async fn examination(&self) -> Result<Examination> {
        self.get("/api/examination").await
    }

    pub async fn collections(&self) -> Result<Vec<Collection>> {
        Ok(self.get::<CollectionList>("/api/collections").await?.collections)
    }

    pub async fn collection(&self, name: &str) -> Result<Collection> {
        self.get(&format!("/api/collections/{}", step(name))).await
    }

    pub async fn create_collection(&self, input: &impl Serialize) -> Result<Collection> {
        self.call(Method::POST, "/api/collections", input).await
    }

    /// Changes description, fields or default column.
    pub async fn patch_collection(&self, name: &str, patch: &impl Serialize) -> Result<Collection> {
        self.call(Method::PATCH, &format!("/api/collections/{}", step(name)), patch).await
    }

    /// The same, refused when fields or columns are not at version `schema_version` any more.
    pub async fn patch_collection_at(
        &self,
        name: &str,
        schema_version: i64,
        patch: &impl Serialize,
    ) -> Result<Collection> {
        let request = self.request(Method::PATCH, &format!("/api/collections/{}", step(name)));
        self.read(request.header("if-match", format!("\"schema-{schema_version}\"")).json(patch)).await
    }

    pub async fn costs(&self, collection: &str) -> Result<Costs> {
        self.get(&format!("/api/collections/{}/costs", step(collection))).await
    }

    pub async fn add_column(&self, collection: &str, column: &impl Serialize) -> Result<Collection> {
        self.call(Method::POST, &format!("/api/collections/{}/columns", step(collection)), column).await
    }

    pub async fn drop_column(&self, collection: &str, column: &str) -> Result<Collection> {
        let path = format!("/api/collections/{}/columns/{}", step(collection), step(column));
        self.read(self.request(Method::DELETE, &path)).await
    }

    /// Gives every record that has a text and no vector a vector, as a job.
    pub async fn backfill(&self, collection: &str, column: &str) -> Result<Job> {
        let path = format!("/api/collections/{}/columns/{}/backfill", step(collection), step(column));
        self.read(self.request(Method::POST, &path)).await
    }

    pub async fn unencoded(&self, collection: &str, column: &str, limit: u64) -> Result<Unencoded> {
        let path = format!("/api/collections/{}/columns/{}/unencoded", step(collection), step(column));
        self.get(&format!("{path}?limit={limit}")).await
    }

    pub async fn announce_file(&self, name: &str, bytes: Option<u64>) -> Result<Upload> {
        self.call(Method::POST, "/api/files", &json!({"name": name, "bytes": bytes})).await
    }

    pub async fn files(&self) -> Result<Vec<Upload>> {
        Ok(self.get::<UploadList>("/api/files").await?.files)
    }

    pub async fn remove_file(&self, id: &str) -> Result<()> {
        self.delete(&format!("/api/files/{}", step(id))).await
    }

    /// Sends a file from `offset` to its end.
    pub async fn send_content(&self, id: &str, offset: u64, body: reqwest::Body) -> Result<Upload> {
        let path = format!("/api/files/{}/content?offset={offset}&end=true", step(id));
        self.read(self.request(Method::PUT, &path).body(body)).await
    }

    pub async fn create_load(&self, collection: &str, input: &impl Serialize) -> Result<StartedLoad> {
        self.call(Method::POST, &format!("/api/collections/{}/loads", step(collection)), input).await
    }

    pub async fn loads(&self, collection: &str) -> Result<Vec<Load>> {
        let path = format!("/api/collections/{}/loads", step(collection));
        Ok(self.get::<LoadList>(&path).await?.loads)
    }

    /// Lets a load go on after its last committed batch.
    pub async fn resume_load(
        &self,
        collection: &str,
        load: i64,
        input: &impl Serialize,
    ) -> Result<StartedLoad> {
        let path = format!("/api/collections/{}/loads/{load}/resume", step(collection));
        self.call(Method::POST, &path, input).await
    }

    /// The rows that a load set aside, as JSON Lines.
    pub async fn rejects(&self, collection: &str, load: i64) -> Result<Vec<u8>> {
        let path = format!("/api/collections/{}/loads/{load}/rejects", step(collection));
        let response = self.send(self.request(Method::GET, &path)).await?;
        Ok(response.bytes().await.map_err(|e| self.unreachable(&e))?.to_vec())
    }

    /// Writes a batch: `[{"key", "fields", "vectors"}]`.
    pub async fn write(&self, collection: &str, records: &[impl Serialize]) -> Result<Written> {
        let path = format!("/api/collections/{}/records", step(collection));
        self.call(Method::POST, &path, &json!({"records": records})).await
    }

    /// As [`Client::write`], but bad records are listed as rejected and the others written.
    pub async fn write_good(&self, collection: &str, records: &[impl Serialize]) -> Result<Written> {
        let path = format!("/api/collections/{}/records", step(collection));
        self.call(Method::POST, &path, &json!({"records": records, "set_aside": true})).await
    }

    pub async fn records(
        &self,
        collection: &str,
        after: Option<&str>,
        limit: u64,
        filter: Option<&str>,
        sort: Option<&str>,
    ) -> Result<RecordPage> {
        let mut path = format!("/api/collections/{}/records?limit={limit}", step(collection));
        for (name, value) in [("after", after), ("filter", filter), ("sort", sort)] {
            if let Some(value) = value {
                path += &format!("&{name}={}", step(value));
            }
        }
        self.get(&path).await
    }

    /// Sets some fields and vectors of a record; null takes a value away.
    pub async fn patch_record(&self, collection: &str, key: &str, patch: &impl Serialize) -> Result<Record> {
        let path = format!("/api/collections/{}/records/{}", step(collection), step(key));
        self.call(Method::PATCH, &path, patch).await
    }

    /// Changes by `keys` or by `filter` what `patch` says; with `dry_run` it counts only.
    pub async fn patch_records(&self, collection: &str, input: &impl Serialize) -> Result<Patched> {
        self.call(Method::POST, &format!("/api/collections/{}/patches", step(collection)), input).await
    }

    /// Deletes by `keys` or by `filter`; with `dry_run` it counts only.
    pub async fn delete_records(&self, collection: &str, input: &impl Serialize) -> Result<Deleted> {
        self.call(Method::POST, &format!("/api/collections/{}/deletions", step(collection)), input).await
    }

    /// Counts the values of every field.
    pub async fn fields(&self, collection: &str, filter: Option<&str>, limit: u64) -> Result<Fields> {
        let mut path = format!("/api/collections/{}/fields?limit={limit}", step(collection));
        if let Some(filter) = filter {
            path += &format!("&filter={}", step(filter));
        }
        self.get(&path).await
    }

    /// Streams an export into `each`: `query` are the members of the route's query. Returns how many
    /// records there should be, and the revision they are of.
    pub async fn export(
        &self,
        collection: &str,
        query: &[(&str, String)],
        mut each: impl FnMut(&[u8]) -> std::io::Result<()>,
    ) -> Result<(u64, u64)> {
        let mut path = format!("/api/collections/{}/export", step(collection));
        for (i, (name, value)) in query.iter().enumerate() {
            path += &format!("{}{name}={}", if i == 0 { '?' } else { '&' }, step(value));
        }
        let response = self.send(self.request(Method::GET, &path)).await?;
        let header = |name: &str| response.headers().get(name).and_then(|v| v.to_str().ok()?.parse().ok());
        let said = header("x-record-count").zip(header("x-revision"));
        let mut body = response.bytes_stream();
        while let Some(bytes) = body.next().await {
            let bytes = bytes.map_err(|_| {
                Error::Broken("the export broke off: records were deleted meanwhile, or the service stopped; export again".into())
            })?;
            each(&bytes).map_err(|e| Error::Broken(format!("cannot write the export: {e}")))?;
        }
        said.ok_or_else(|| Error::Broken("the export does not say how many records it has".into()))
    }

    pub async fn record(&self, collection: &str, key: &str, vectors: bool) -> Result<Record> {
        let path = format!("/api/collections/{}/records/{}?vectors={vectors}", step(collection), step(key));
        self.get(&path).await
    }

    pub async fn delete_record(&self, collection: &str, key: &str) -> Result<()> {
        self.delete(&format!("/api/collections/{}/records/{}", step(collection), step(key))).await
    }

    pub async fn search(&self, collection: &str, input: &impl Serialize) -> Result<SearchAnswer> {
        self.call(Method::POST, &format!("/api/collections/{}/search", step(collection)), input).await
    }

    /// Up to a hundred searches in one request; `input` is `{"searches": [...]}`.
    pub async fn searches(&self, collection: &str, input: &impl Serialize) -> Result<Vec<SearchAnswer>> {
        let path = format!("/api/collections/{}/searches", step(collection));
        Ok(self.call::<SearchAnswers>(Method::POST, &path, input).await?.answers)
    }

    pub async fn indexes(&self, collection: &str) -> Result<Vec<Index>> {
        let path = format!("/api/collections/{}/indexes", step(collection));
        Ok(self.get::<IndexList>(&path).await?.indexes)
    }

    pub async fn build_index(&self, collection: &str, input: &impl Serialize) -> Result<Job> {
        self.call(Method::POST, &format!("/api/collections/{}/indexes", step(collection)), input).await
    }

    /// Takes into an index what was written since it was made.
    pub async fn absorb(&self, collection: &str, index: &str) -> Result<Job> {
        let path = format!("/api/collections/{}/indexes/{}/absorb", step(collection), step(index));
        self.call(Method::POST, &path, &json!({})).await
    }

    /// Explains a recipe without building it.
    pub async fn explain_recipe(&self, input: &impl Serialize) -> Result<RecipeExplained> {
        self.call(Method::POST, "/api/recipes/explanation", input).await
    }

    /// Puts an index out of memory on all nodes.
    pub async fn unload_index(&self, collection: &str, index: &str) -> Result<Index> {
        let path = format!("/api/collections/{}/indexes/{}/memory", step(collection), step(index));
        self.read(self.request(Method::DELETE, &path)).await
    }

    /// Takes an index into memory again.
    pub async fn load_index(&self, collection: &str, index: &str) -> Result<Index> {
        let path = format!("/api/collections/{}/indexes/{}/memory", step(collection), step(index));
        self.read(self.request(Method::PUT, &path)).await
    }

    pub async fn drop_index(&self, collection: &str, index: &str) -> Result<()> {
        self.delete(&format!("/api/collections/{}/indexes/{}", step(collection), step(index))).await
    }

    /// Makes an index and its settings the serving choice of a column; `None` for the exact scan.
    pub async fn set_serving(
        &self,
        collection: &str,
        column: &str,
        choice: Option<&ServingChoice>,
    ) -> Result<Collection> {
        let path = format!("/api/collections/{}/columns/{}/serving", step(collection), step(column));
        match choice {
            Some(choice) => self.call(Method::PUT, &path, choice).await,
            None => self.read(self.request(Method::DELETE, &path)).await,
        }
    }

    pub async fn run_sweep(&self, collection: &str, input: &impl Serialize) -> Result<Job> {
        self.call(Method::POST, &format!("/api/collections/{}/sweeps", step(collection)), input).await
    }

    pub async fn sweeps(&self, collection: &str) -> Result<Vec<Sweep>> {
        let path = format!("/api/collections/{}/sweeps", step(collection));
        Ok(self.get::<SweepList>(&path).await?.sweeps)
    }

    pub async fn show_sweep(&self, collection: &str, id: i64) -> Result<Sweep> {
        self.get(&format!("/api/collections/{}/sweeps/{id}", step(collection))).await
    }

    /// A sweep, a target, a comparison or advice as a file: `csv`, `parquet`, `json` or `html`.
    pub async fn report(&self, collection: &str, id: i64, format: &str) -> Result<bytes::Bytes> {
        let path = format!("/api/collections/{}/measurements/{id}/report?format={format}", step(collection));
        let response = self.send(self.request(Method::GET, &path)).await?;
        response.bytes().await.map_err(|e| Error::Broken(format!("the report broke off: {e}")))
    }

    pub async fn delete_sweep(&self, collection: &str, id: i64) -> Result<()> {
        self.delete(&format!("/api/collections/{}/sweeps/{id}", step(collection))).await
    }

    /// Places records in two dimensions.
    pub async fn map(&self, collection: &str, input: &impl Serialize) -> Result<MapAnswer> {
        self.call(Method::POST, &format!("/api/collections/{}/map", step(collection)), input).await
    }

    /// Starts trying recipes against a target and a memory budget.
    pub async fn advise(&self, collection: &str, input: &impl Serialize) -> Result<Job> {
        self.call(Method::POST, &format!("/api/collections/{}/advice", step(collection)), input).await
    }

    pub async fn advice(&self, collection: &str) -> Result<Vec<Advice>> {
        let path = format!("/api/collections/{}/advice", step(collection));
        Ok(self.get::<AdviceList>(&path).await?.advice)
    }

    pub async fn show_advice(&self, collection: &str, id: i64) -> Result<Advice> {
        self.get(&format!("/api/collections/{}/advice/{id}", step(collection))).await
    }

    pub async fn delete_advice(&self, collection: &str, id: i64) -> Result<()> {
        self.delete(&format!("/api/collections/{}/advice/{id}", step(collection))).await
    }

    pub async fn run_comparison(&self, collection: &str, input: &impl Serialize) -> Result<Job> {
        self.call(Method::POST, &format!("/api/collections/{}/comparisons", step(collection)), input).await
    }

    pub async fn comparisons(&self, collection: &str) -> Result<Vec<Comparison>> {
        let path = format!("/api/collections/{}/comparisons", step(collection));
        Ok(self.get::<ComparisonList>(&path).await?.comparisons)
    }

    pub async fn show_comparison(&self, collection: &str, id: i64) -> Result<Comparison> {
        self.get(&format!("/api/collections/{}/comparisons/{id}", step(collection))).await
    }

    /// Queries of a comparison with the hits of both sides, those that differ most first.
    pub async fn compared_queries(
        &self,
        collection: &str,
        id: i64,
        from: u64,
        limit: u64,
    ) -> Result<ComparedPage> {
        let page = format!("queries?from={from}&limit={limit}");
        self.get(&format!("/api/collections/{}/comparisons/{id}/{page}", step(collection))).await
    }

    pub async fn compared_query(&self, collection: &str, id: i64, position: u64) -> Result<ComparedPage> {
        let query = format!("queries/{position}");
        self.get(&format!("/api/collections/{}/comparisons/{id}/{query}", step(collection))).await
    }

    /// Says which side is better for a query; `None` takes it back. Returns what all verdicts come to.
    pub async fn judge(
        &self,
        collection: &str,
        id: i64,
        position: u64,
        verdict: Option<Verdict>,
    ) -> Result<Verdicts> {
        let query = format!("queries/{position}/verdict");
        let path = format!("/api/collections/{}/comparisons/{id}/{query}", step(collection));
        self.call(Method::PUT, &path, &VerdictRequest { verdict }).await
    }

    pub async fn delete_comparison(&self, collection: &str, id: i64) -> Result<()> {
        self.delete(&format!("/api/collections/{}/comparisons/{id}", step(collection))).await
    }

    /// Starts looking for the settings that reach a recall.
    pub async fn solve_target(&self, collection: &str, input: &impl Serialize) -> Result<Job> {
        self.call(Method::POST, &format!("/api/collections/{}/targets", step(collection)), input).await
    }

    pub async fn targets(&self, collection: &str) -> Result<Vec<Target>> {
        let path = format!("/api/collections/{}/targets", step(collection));
        Ok(self.get::<TargetList>(&path).await?.targets)
    }

    pub async fn show_target(&self, collection: &str, id: i64) -> Result<Target> {
        self.get(&format!("/api/collections/{}/targets/{id}", step(collection))).await
    }

    pub async fn delete_target(&self, collection: &str, id: i64) -> Result<()> {
        self.delete(&format!("/api/collections/{}/targets/{id}", step(collection))).await
    }

    /// Starts making a query set.
    pub async fn make_query_set(&self, collection: &str, input: &impl Serialize) -> Result<Job> {
        self.call(Method::POST, &format!("/api/collections/{}/query-sets", step(collection)), input).await
    }

    pub async fn query_sets(&self, collection: &str) -> Result<Vec<QuerySet>> {
        let path = format!("/api/collections/{}/query-sets", step(collection));
        Ok(self.get::<QuerySetList>(&path).await?.query_sets)
    }

    pub async fn query_set(&self, collection: &str, name: &str) -> Result<QuerySet> {
        self.get(&format!("/api/collections/{}/query-sets/{}", step(collection), step(name))).await
    }

    pub async fn delete_query_set(&self, collection: &str, name: &str) -> Result<()> {
        self.delete(&format!("/api/collections/{}/query-sets/{}", step(collection), step(name))).await
    }

    /// What is watched of a collection, and what was observed in so many hours.
    pub async fn watch_state(&self, collection: &str, hours: u64) -> Result<WatchState> {
        self.get(&format!("/api/collections/{}/watch?hours={hours}", step(collection))).await
    }

    pub async fn set_watch(&self, collection: &str, watch: &Watch) -> Result<WatchState> {
        self.call(Method::PUT, &format!("/api/collections/{}/watch", step(collection)), watch).await
    }

    /// Forgets the live searches that were captured.
    pub async fn forget_captured(&self, collection: &str) -> Result<u64> {
        let path = format!("/api/collections/{}/captured", step(collection));
        let gone: Forgotten = self.read(self.request(Method::DELETE, &path)).await?;
        Ok(gone.forgotten)
    }

    /// Looks at one query closely.
    pub async fn lens(&self, collection: &str, input: &impl Serialize) -> Result<LensAnswer> {
        self.call(Method::POST, &format!("/api/collections/{}/lens", step(collection)), input).await
    }

    /// Queries of a set, from a position on.
    pub async fn queries(&self, collection: &str, name: &str, from: u64, limit: u64) -> Result<QueryPage> {
        let (collection, name) = (step(collection), step(name));
        let path =
            format!("/api/collections/{collection}/query-sets/{name}/queries?from={from}&limit={limit}");
        self.get(&path).await
    }

    /// Starts computing the exact answers of a query set.
    pub async fn answer_query_set(&self, collection: &str, name: &str, k: usize) -> Result<Job> {
        let path = format!("/api/collections/{}/query-sets/{}/answers", step(collection), step(name));
        self.call(Method::POST, &path, &json!({"k": k})).await
    }

    pub async fn jobs(&self) -> Result<Vec<Job>> {
        Ok(self.get::<JobList>("/api/jobs").await?.jobs)
    }

    pub async fn job(&self, id: i64) -> Result<Job> {
        self.get(&format!("/api/jobs/{id}")).await
    }

    pub async fn cancel_job(&self, id: i64) -> Result<Job> {
        self.read(self.request(Method::POST, &format!("/api/jobs/{id}/cancel"))).await
    }

    /// Follows a job by its events until it ends; `each` sees it on the way.
    pub async fn watch_job(&self, id: i64, mut each: impl FnMut(&Job)) -> Result<Job> {
        let response = self.send(self.request(Method::GET, &format!("/api/jobs/{id}/events"))).await?;
        let mut events = response.bytes_stream().eventsource();
        while let Some(event) = events.next().await {
            let event = event.map_err(|e| Error::Broken(format!("the job's events broke off: {e}")))?;
            let job: Job = serde_json::from_str(&event.data)
                .map_err(|e| Error::Broken(format!("an event that this client cannot read: {e}")))?;
            each(&job);
            if event.event == "end" {
                return Ok(job);
            }
        }
        Err(Error::Broken(format!("the events of job {id} ended before the job did")))
    }

    pub async fn encoders(&self) -> Result<Vec<Encoder>> {
        Ok(self.get::<EncoderList>("/api/encoders").await?.encoders)
    }

    pub async fn put_encoder(&self, name: &str, url: &str, model: &str) -> Result<Encoder> {
        let body = json!({"url": url, "model": model});
        self.call(Method::PUT, &format!("/api/encoders/{}", step(name)), &body).await
    }

    pub async fn remove_encoder(&self, name: &str) -> Result<()> {
        self.delete(&format!("/api/encoders/{}", step(name))).await
    }

    pub async fn keys(&self) -> Result<Vec<Key>> {
        Ok(self.get::<KeyList>("/api/keys").await?.keys)
    }

    pub async fn make_key(&self, request: &KeyRequest) -> Result<NewKey> {
        self.call(Method::POST, "/api/keys", request).await
    }

    pub async fn change_key(&self, name: &str, change: &KeyChange) -> Result<Key> {
        self.call(Method::PATCH, &format!("/api/keys/{}", step(name)), change).await
    }

    /// A new secret; the one before stays good for `overlap_s` seconds.
    pub async fn rotate_key(&self, name: &str, overlap_s: u32) -> Result<NewKey> {
        let path = format!("/api/keys/{}/secrets", step(name));
        self.call(Method::POST, &path, &RotateRequest { overlap_s }).await
    }

    /// What the key of this client permits.
    pub async fn own_key(&self) -> Result<OwnKey> {
        self.get("/api/key").await
    }

    /// What was done, newest first; with `before`, what was done before that entry.
    pub async fn audit(&self, limit: usize, before: Option<i64>) -> Result<AuditList> {
        let before = before.map_or(String::new(), |id| format!("&before={id}"));
        self.get(&format!("/api/audit?limit={limit}{before}")).await
    }

    pub async fn remove_key(&self, name: &str) -> Result<()> {
        self.delete(&format!("/api/keys/{}", step(name))).await
    }

    /// A link that signs one browser in, once.
    pub async fn sign_in_link(&self) -> Result<String> {
        let link: SignInLink = self.read(self.request(Method::POST, "/api/sign-in-links")).await?;
        Ok(format!("{}{}", self.url, link.path))
    }
}
