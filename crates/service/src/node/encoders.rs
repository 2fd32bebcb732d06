//! Encoders, known only through the Open Inference Protocol v2: text in, vectors out.

use crate::access::grant::{Grant, Scope};
use crate::names::check_name;
use crate::node::database::Silence;
use crate::node::hosts::Hosts;
use crate::node::metrics::Metrics;
use crate::node::trace;
use crate::problem::{Kind, Problem, Result};
use parking_lot::Mutex;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use zesty_catalog::{Catalog, CatalogError, encoder};
use zesty_wire as wire;

/// How long an encoder is believed to be where it was.
const FRESH: Duration = Duration::from_secs(2);
/// Texts in one request to an encoder.
const BATCH: usize = 256;

/// The encoders that the database knows, and the way to them.
pub struct Encoders {
    http: reqwest::Client,
    hosts: Hosts,
    metrics: Arc<Metrics>,
    catalog: Catalog,
    silence: Silence,
    /// As the database last had them, and when.
    known: Arc<Mutex<BTreeMap<String, (encoder::Model, Instant)>>>,
    /// Whether they are being read again.
    reading: Arc<AtomicBool>,
}

fn view(e: encoder::Model) -> wire::Encoder {
    wire::Encoder { name: e.name, url: e.url, model: e.model, dimensions: e.dimensions }
}

/// What to do about an encoder that did not give vectors.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Trouble {
    /// It may answer later: not reachable, or too busy.
    Later,
    /// It does not take these texts.
    Refused,
    /// It is not the model that it should be.
    Wrong,
}

#[derive(Debug)]
pub struct EncodeFailure {
    pub trouble: Trouble,
    pub problem: Problem,
}

impl From<EncodeFailure> for Problem {
    fn from(failure: EncodeFailure) -> Problem {
        failure.problem
    }
}

fn failed(trouble: Trouble, name: &str, what: impl std::fmt::Display) -> EncodeFailure {
    let detail = format!("encoder \"{name}\": {what}");
    EncodeFailure { trouble, problem: Problem::new(Kind::EncoderFailed, detail).with("encoder", name) }
}

/// reqwest wraps the reason in layers; the innermost is what a person needs.
fn innermost(error: &dyn std::error::Error) -> String {
    let mut error = error;
    while let Some(inner) = error.source() {
        error = inner;
    }
    error.to_string()
}

/// What an encoder is known by.
const KNOWN_TEXT: &str = "The fog bell rang twice before dawn, and a schooner answered from beyond the bar.";
/// The cosine from which on two vectors of the known text come from one encoder: machines round differently.
pub const SAME: f32 = 0.9999;

fn cosine(a: &[f32], b: &[f32]) -> f32 {
    let dot = |a: &[f32], b: &[f32]| a.iter().zip(b).map(|(x, y)| x * y).sum::<f32>();
    dot(a, b) / (dot(a, a) * dot(b, b)).sqrt().max(f32::MIN_POSITIVE)
}

/// Bytes of an answer without vectors.
const META_BYTES: usize = 1 << 20;

/// The body of an answer, which is not read past `limit` bytes.
async fn bounded_body(mut response: reqwest::Response, limit: usize) -> Result<Vec<u8>, String> {
    let mut body = Vec::new();
    while let Some(chunk) = response.chunk().await.map_err(|e| innermost(&e))? {
        if body.len() + chunk.len() > limit {
            return Err(format!(
                "its answer is longer than {limit} bytes, more than what was asked for can take"
            ));
        }
        body.extend_from_slice(&chunk);
    }
    Ok(body)
}

impl Encoders {
    pub fn new(catalog: Catalog, silence: Silence, hosts: Hosts, metrics: Arc<Metrics>) -> Encoders {
        // Whoever was first has chosen the same.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let http = reqwest::Client::builder()
            .redirect(reqwest::redirect::Policy::none())
            .connect_timeout(Duration::from_secs(3))
            .timeout(Duration::from_secs(60))
            .build()
            .expect("a plain client can always be made");
        Encoders { http, hosts, metrics, catalog, silence, known: Arc::default(), reading: Arc::default() }
    }

    /// An encoder by name, as this node last read it. What is older than [`FRESH`] is read again beside the caller, so
    /// that no search waits for the database; one that this node does not know is asked for.
    pub async fn get(&self, name: &str) -> Result<encoder::Model> {
        let known = self.known.lock().get(name).cloned();
        if let Some((known, read)) = known {
            if read.elapsed() > FRESH && !self.silence.is_on() && !self.reading.swap(true, Ordering::Relaxed)
            {
                let (catalog, all, reading) =
                    (self.catalog.clone(), self.known.clone(), self.reading.clone());
                tokio::spawn(async move {
                    if let Ok(encoders) = catalog.encoders().await {
                        let now = Instant::now();
                        *all.lock() = encoders.into_iter().map(|e| (e.name.clone(), (e, now))).collect();
                    }
                    reading.store(false, Ordering::Relaxed);
                });
            }
            return Ok(known);
        }
        let found = self.catalog.encoder(name).await?;
        let found = found.ok_or_else(|| Problem::unknown("encoder", name, []))?;
        self.know(found.clone());
        Ok(found)
    }

    fn know(&self, encoder: encoder::Model) {
        self.known.lock().insert(encoder.name.clone(), (encoder, Instant::now()));
    }

    /// Reads all encoders, so that searches by text need no database from then on.
    pub async fn read(&self) -> Result<(), CatalogError> {
        self.catalog.encoders().await?.into_iter().for_each(|e| self.know(e));
        Ok(())
    }

    pub async fn list(&self, grant: &Grant) -> Result<wire::EncoderList> {
        grant.require_anywhere(Scope::Search)?;
        let encoders = self.catalog.encoders().await?.into_iter().map(view).collect();
        Ok(wire::EncoderList { encoders })
    }

    /// Names an encoder, or says where a known one has moved. The server is asked for the model's dimensions, and for the
    /// vector of a known text: what makes another one of it is another encoder.
    pub async fn put(
        &self,
        grant: &Grant,
        name: &str,
        request: wire::EncoderRequest,
    ) -> Result<wire::Encoder> {
        grant.require(Scope::Manage, None)?;
        check_name("encoder", name, "")?;
        let known = self.catalog.encoder(name).await?;
        let dimensions = self.dimensions(name, &request.url, &request.model).await?;
        let asked = encoder::Model {
            id: 0,
            name: name.into(),
            url: request.url.clone(),
            model: request.model.clone(),
            dimensions,
            created_at: chrono::Utc::now(),
            known_vector: None,
        };
        let vector = self.encode(&asked, &[KNOWN_TEXT.to_owned()], dimensions).await?.remove(0);
        let Some(known) = known else {
            if vector.iter().all(|x| *x == 0.0) {
                let what = format!("model \"{}\" makes zeros of \"{KNOWN_TEXT}\"", request.model);
                return Err(failed(Trouble::Wrong, name, what).problem);
            }
            let added = self.catalog.add_encoder(name, &request.url, &request.model, &vector).await?;
            self.know(added.clone());
            return Ok(view(added));
        };
        if known.model != request.model || known.dimensions != dimensions {
            let detail = format!(
                "encoder \"{name}\" is model \"{}\" with {} dimensions, and vectors made by it are stored; give model \
                 \"{}\" ({dimensions}) a name of its own",
                known.model, known.dimensions, request.model
            );
            return Err(Problem::new(Kind::NameTaken, detail).at("/model"));
        }
        let before: Option<Vec<f32>> = known.known_vector.as_deref().map(bytemuck::pod_collect_to_vec);
        // The first one stays, so that small differences do not add up.
        let first = before.is_none().then_some(&vector[..]);
        if let Some(likeness) = before.map(|before| cosine(&before, &vector)).filter(|c| *c < SAME) {
            let detail = format!(
                "the server at {} makes another vector of a known text than \"{name}\" did (cosine {likeness:.4}, and \
                 {SAME} is needed): it is another model or version, and its vectors cannot be compared with those that \
                 are stored; give it a name of its own",
                request.url
            );
            return Err(Problem::new(Kind::WrongEncoder, detail).at("/url").with("cosine", likeness));
        }
        self.catalog.move_encoder(name, &request.url, first).await?;
        self.know(encoder::Model { url: request.url.clone(), ..known.clone() });
        Ok(wire::Encoder { url: request.url, ..view(known) })
    }

    /// Asks a named encoder for the known text; says how like its vector is to the known one.
    pub async fn try_out(&self, name: &str) -> Result<Option<f32>> {
        let encoder = self.get(name).await?;
        let vector = self.encode(&encoder, &[KNOWN_TEXT.to_owned()], encoder.dimensions).await?.remove(0);
        let known: Option<Vec<f32>> = encoder.known_vector.as_deref().map(bytemuck::pod_collect_to_vec);
        Ok(known.map(|known| cosine(&known, &vector)))
    }

    /// Forgets an encoder. The caller has made sure that no column uses it.
    pub async fn remove(&self, grant: &Grant, name: &str) -> Result<()> {
        grant.require(Scope::Manage, None)?;
        let known = self.catalog.encoders().await?;
        if !known.iter().any(|e| e.name == name) {
            return Err(Problem::unknown("encoder", name, known.iter().map(|e| e.name.as_str())));
        }
        self.catalog.remove_encoder(name).await?;
        self.known.lock().remove(name);
        Ok(())
    }

    async fn answer(
        &self,
        name: &str,
        request: reqwest::RequestBuilder,
        limit: usize,
    ) -> Result<Value, EncodeFailure> {
        let request = match trace::next() {
            Some(parent) => request.header("traceparent", parent),
            None => request,
        };
        let started = Instant::now();
        let response = request.send().await.map_err(|e| {
            let what = if e.is_timeout() { "no answer in time".into() } else { innermost(&e) };
            failed(Trouble::Later, name, format!("not reachable ({what}); is it running?"))
        })?;
        let status = response.status();
        let body = bounded_body(response, limit).await.map_err(|why| failed(Trouble::Later, name, why))?;
        if !status.is_success() {
            // What another server says goes into the log, and to no caller.
            let said: String = String::from_utf8_lossy(&body).chars().take(300).collect();
            tracing::warn!(encoder = name, %status, said, "an encoder refused");
            let busy = matches!(status.as_u16(), 408 | 429 | 502 | 503 | 504);
            let trouble = if busy { Trouble::Later } else { Trouble::Refused };
            return Err(failed(
                trouble,
                name,
                format!("answered {status}; the service's log has what it said"),
            ));
        }
        self.metrics.encoder(name, started.elapsed());
        let read = serde_json::from_slice(&body);
        read.map_err(|_| failed(Trouble::Later, name, "its answer is not JSON"))
    }

    /// Asks the model for its metadata; returns the dimensions of its output.
    async fn dimensions(&self, name: &str, url: &str, model: &str) -> Result<u32> {
        let at = self.hosts.address(name, url, model, None)?;
        let meta = self.answer(name, self.http.get(at), META_BYTES).await?;
        let output = &meta["outputs"][0];
        if meta["inputs"][0]["datatype"] != "BYTES" || output["datatype"] != "FP32" {
            let what = format!("model \"{model}\" does not take BYTES and give FP32");
            return Err(failed(Trouble::Wrong, name, what).problem);
        }
        output["shape"]
            .as_array()
            .and_then(|s| s.last()?.as_u64())
            .and_then(|d| u32::try_from(d).ok())
            .filter(|d| *d > 0)
            .ok_or_else(|| {
                failed(Trouble::Wrong, name, format!("model \"{model}\" does not say its dimensions")).problem
            })
    }

    /// The vectors of texts, in order.
    pub async fn encode(
        &self,
        encoder: &encoder::Model,
        texts: &[String],
        dimensions: u32,
    ) -> Result<Vec<Vec<f32>>, EncodeFailure> {
        let name = &encoder.name;
        let at = self.hosts.address(name, &encoder.url, &encoder.model, Some("infer"));
        let at = at.map_err(|p| {
            // It was allowed when it was set, and is not any more.
            let problem = Problem { kind: Kind::EncoderFailed, pointer: None, ..p };
            EncodeFailure { trouble: Trouble::Wrong, problem }
        })?;
        let mut all = Vec::with_capacity(texts.len());
        for texts in texts.chunks(BATCH) {
            let request = json!({"inputs": [
                {"name": "text", "datatype": "BYTES", "shape": [texts.len()], "data": texts}]});
            // A number takes up to 25 bytes as JSON.
            let limit = META_BYTES + texts.len() * dimensions as usize * 32;
            let mut answer = self.answer(name, self.http.post(at.clone()).json(&request), limit).await?;
            let output = &mut answer["outputs"][0];
            let shape: Vec<u64> =
                output["shape"].as_array().map_or(vec![], |s| s.iter().filter_map(Value::as_u64).collect());
            if output["datatype"] != "FP32" || shape.len() != 2 || shape[0] != texts.len() as u64 {
                return Err(failed(
                    Trouble::Later,
                    name,
                    format!("asked for {} vectors, answered shape {shape:?}", texts.len()),
                ));
            }
            if shape[1] != u64::from(dimensions) {
                let what = format!(
                    "answered vectors of {} dimensions, and the column takes {dimensions}; it is not the model that \
                     the column was made for",
                    shape[1]
                );
                let EncodeFailure { trouble, problem } = failed(Trouble::Wrong, name, what);
                let problem = problem.with("expected", dimensions).with("got", shape[1]);
                return Err(EncodeFailure { trouble, problem });
            }
            let data: Vec<f32> = serde_json::from_value(output["data"].take())
                .map_err(|_| failed(Trouble::Refused, name, "its data are not numbers"))?;
            if data.len() != texts.len() * dimensions as usize {
                let what = format!("{} numbers do not fill shape {shape:?}", data.len());
                return Err(failed(Trouble::Later, name, what));
            }
            all.extend(data.chunks(dimensions as usize).map(<[f32]>::to_vec));
        }
        Ok(all)
    }
}
