//! Encoders, known only through the Open Inference Protocol v2: text in, vectors out.

use crate::problem::{Kind, Problem, Result};
use serde_json::{Value, json};
use std::time::Duration;
use zesty_catalog::encoder;

/// Texts in one request to an encoder.
const BATCH: usize = 256;

#[derive(Clone)]
pub struct Encoders {
    http: reqwest::Client,
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

fn failed(trouble: Trouble, name: &str, url: &str, what: impl std::fmt::Display) -> EncodeFailure {
    let detail = format!("encoder \"{name}\" at {url}: {what}");
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
    pub fn new() -> Encoders {
        let http = reqwest::Client::builder()
            .connect_timeout(Duration::from_secs(3))
            .timeout(Duration::from_secs(60))
            .build()
            .expect("a plain client can always be made");
        Encoders { http }
    }

    async fn answer(
        &self,
        name: &str,
        url: &str,
        request: reqwest::RequestBuilder,
        limit: usize,
    ) -> Result<Value, EncodeFailure> {
        let response = request.send().await.map_err(|e| {
            let what = if e.is_timeout() { "no answer in time".into() } else { innermost(&e) };
            failed(Trouble::Later, name, url, format!("not reachable ({what}); is it running?"))
        })?;
        let status = response.status();
        let body =
            bounded_body(response, limit).await.map_err(|why| failed(Trouble::Later, name, url, why))?;
        if !status.is_success() {
            let said = serde_json::from_slice::<Value>(&body)
                .ok()
                .and_then(|v| Some(v["error"].as_str()?.to_owned()))
                .unwrap_or_else(|| String::from_utf8_lossy(&body).chars().take(200).collect());
            let busy = matches!(status.as_u16(), 408 | 429 | 502 | 503 | 504);
            let trouble = if busy { Trouble::Later } else { Trouble::Refused };
            return Err(failed(trouble, name, url, format!("answered {status}: {said}")));
        }
        serde_json::from_slice(&body)
            .map_err(|e| failed(Trouble::Later, name, url, format!("its answer is not JSON: {e}")))
    }

    /// Asks the model for its metadata; returns the dimensions of its output.
    pub async fn dimensions(&self, name: &str, url: &str, model: &str) -> Result<u32> {
        let at = format!("{}/v2/models/{model}", url.trim_end_matches('/'));
        let meta = self.answer(name, url, self.http.get(&at), META_BYTES).await?;
        let output = &meta["outputs"][0];
        if meta["inputs"][0]["datatype"] != "BYTES" || output["datatype"] != "FP32" {
            let what = format!("model \"{model}\" does not take BYTES and give FP32");
            return Err(failed(Trouble::Wrong, name, url, what).problem);
        }
        output["shape"]
            .as_array()
            .and_then(|s| s.last()?.as_u64())
            .and_then(|d| u32::try_from(d).ok())
            .filter(|d| *d > 0)
            .ok_or_else(|| {
                failed(Trouble::Wrong, name, url, format!("model \"{model}\" does not say its dimensions"))
                    .problem
            })
    }

    /// The vectors of texts, in order.
    pub async fn encode(
        &self,
        encoder: &encoder::Model,
        texts: &[String],
        dimensions: u32,
    ) -> Result<Vec<Vec<f32>>, EncodeFailure> {
        let at = format!("{}/v2/models/{}/infer", encoder.url.trim_end_matches('/'), encoder.model);
        let (name, url) = (&encoder.name, &encoder.url);
        let mut all = Vec::with_capacity(texts.len());
        for texts in texts.chunks(BATCH) {
            let request = json!({"inputs": [
                {"name": "text", "datatype": "BYTES", "shape": [texts.len()], "data": texts}]});
            // A number takes up to 25 bytes as JSON.
            let limit = META_BYTES + texts.len() * dimensions as usize * 32;
            let mut answer = self.answer(name, url, self.http.post(&at).json(&request), limit).await?;
            let output = &mut answer["outputs"][0];
            let shape: Vec<u64> =
                output["shape"].as_array().map_or(vec![], |s| s.iter().filter_map(Value::as_u64).collect());
            if output["datatype"] != "FP32" || shape.len() != 2 || shape[0] != texts.len() as u64 {
                return Err(failed(
                    Trouble::Later,
                    name,
                    url,
                    format!("asked for {} vectors, answered shape {shape:?}", texts.len()),
                ));
            }
            if shape[1] != u64::from(dimensions) {
                let what = format!(
                    "answered vectors of {} dimensions, and the column takes {dimensions}; it is not the model that \
                     the column was made for",
                    shape[1]
                );
                let EncodeFailure { trouble, problem } = failed(Trouble::Wrong, name, url, what);
                let problem = problem.with("expected", dimensions).with("got", shape[1]);
                return Err(EncodeFailure { trouble, problem });
            }
            let data: Vec<f32> = serde_json::from_value(output["data"].take())
                .map_err(|e| failed(Trouble::Refused, name, url, format!("its data are not numbers: {e}")))?;
            if data.len() != texts.len() * dimensions as usize {
                let what = format!("{} numbers do not fill shape {shape:?}", data.len());
                return Err(failed(Trouble::Later, name, url, what));
            }
            all.extend(data.chunks(dimensions as usize).map(<[f32]>::to_vec));
        }
        Ok(all)
    }
}

/// A text for the encoder, from a template such as `{station}: {note}`. Missing fields leave
/// nothing; `None` when no field had a value.
pub fn fill(template: &str, body: &serde_json::Map<String, Value>) -> Option<String> {
    let mut out = String::new();
    let mut any = false;
    let mut rest = template;
    while let Some((before, after)) = rest.split_once('{') {
        let Some((name, after)) = after.split_once('}') else { break };
        out += before;
        let mut steps = name.split('.');
        let value = steps.next().and_then(|first| body.get(first));
        match steps.try_fold(value.unwrap_or(&Value::Null), |value, step| value.get(step)) {
            Some(Value::String(s)) => {
                out += s;
                any |= !s.trim().is_empty();
            }
            None | Some(Value::Null) => {}
            Some(other) => {
                out += &other.to_string();
                any = true;
            }
        }
        rest = after;
    }
    out += rest;
    any.then_some(out)
}

/// The field names in a template, or what is wrong with it.
pub fn template_fields(template: &str) -> Result<Vec<&str>, String> {
    let mut fields = Vec::new();
    let mut rest = template;
    while let Some((_, after)) = rest.split_once('{') {
        let (name, after) = after.split_once('}').ok_or("a \"{\" is not closed")?;
        fields.push(name);
        rest = after;
    }
    if fields.is_empty() {
        return Err("it names no field; write a field in braces, such as {note}".into());
    }
    Ok(fields)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn templates_fill_from_fields() {
        let body =
            json!({"station": "Ness", "note": "fog", "year": 1931, "gone": null, "place": {"name": "Bay"}});
        let body = body.as_object().unwrap();
        assert_eq!(fill("{station} ({year}): {note}", body).unwrap(), "Ness (1931): fog");
        assert_eq!(fill("{place.name}, {place.lat}{gone.x}", body).unwrap(), "Bay, ");
        assert_eq!(fill("{gone}{absent}", body), None);
        assert_eq!(template_fields("{station}: {note}").unwrap(), ["station", "note"]);
        assert!(template_fields("{note").is_err() && template_fields("note").is_err());
    }
}
