//! The Open Inference Protocol v2 over HTTP: metadata, readiness, infer.

use crate::model::Model;
use axum::extract::{DefaultBodyLimit, Path, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use serde_json::{Value, json};
use std::sync::Arc;

/// Texts in one request.
pub const MAX_BATCH: usize = 1024;

type Models = Arc<Vec<Model>>;

struct Refusal(StatusCode, String);

impl IntoResponse for Refusal {
    fn into_response(self) -> Response {
        (self.0, Json(json!({"error": self.1}))).into_response()
    }
}

pub fn router(models: Vec<Model>) -> Router {
    Router::new()
        .route("/v2", get(server))
        .route("/v2/health/live", get(|| async { Json(json!({"live": true})) }))
        .route("/v2/health/ready", get(|| async { Json(json!({"ready": true})) }))
        .route("/v2/models/{name}", get(metadata))
        .route("/v2/models/{name}/ready", get(ready))
        .route("/v2/models/{name}/infer", post(infer))
        .layer(DefaultBodyLimit::max(16 << 20))
        .with_state(Arc::new(models))
}

async fn server() -> Json<Value> {
    Json(json!({"name": "zesty-encoder", "version": env!("CARGO_PKG_VERSION"), "extensions": []}))
}

fn find<'a>(models: &'a Models, name: &str) -> Result<&'a Model, Refusal> {
    models.iter().find(|m| m.name == name).ok_or_else(|| {
        let known: Vec<&str> = models.iter().map(|m| m.name.as_str()).collect();
        Refusal(StatusCode::NOT_FOUND, format!("no model \"{name}\"; models here: {}", known.join(", ")))
    })
}

async fn metadata(State(models): State<Models>, Path(name): Path<String>) -> Result<Json<Value>, Refusal> {
    let model = find(&models, &name)?;
    Ok(Json(json!({
        "name": model.name, "versions": ["1"], "platform": "zesty_word_vectors",
        "inputs": [{"name": "text", "datatype": "BYTES", "shape": [-1]}],
        "outputs": [{"name": "embedding", "datatype": "FP32", "shape": [-1, model.dimensions]}],
    })))
}

async fn ready(State(models): State<Models>, Path(name): Path<String>) -> Result<Json<Value>, Refusal> {
    let model = find(&models, &name)?;
    Ok(Json(json!({"name": model.name, "ready": true})))
}

async fn infer(
    State(models): State<Models>,
    Path(name): Path<String>,
    body: axum::body::Bytes,
) -> Result<Json<Value>, Refusal> {
    let bad = |text: String| Refusal(StatusCode::BAD_REQUEST, text);
    find(&models, &name)?;
    let request: Value =
        serde_json::from_slice(&body).map_err(|e| bad(format!("the body is not JSON: {e}")))?;
    let inputs = request["inputs"].as_array().map_or(&[][..], |a| a);
    let [input] = inputs else {
        return Err(bad(format!("{} inputs; the model takes one, \"text\"", inputs.len())));
    };
    if input["name"] != "text" || input["datatype"] != "BYTES" {
        return Err(bad("the input is named \"text\" and has datatype BYTES".into()));
    }
    let texts: Vec<String> = input["data"]
        .as_array()
        .and_then(|list| list.iter().map(|t| t.as_str().map(Into::into)).collect())
        .ok_or_else(|| bad("the data of \"text\" must be an array of strings".into()))?;
    let shape = &input["shape"];
    if *shape != json!([texts.len()]) && *shape != json!([texts.len(), 1]) {
        return Err(bad(format!("shape {shape} does not fit {} texts", texts.len())));
    }
    if texts.len() > MAX_BATCH {
        return Err(bad(format!("{} texts in one request; the limit is {MAX_BATCH}", texts.len())));
    }
    let id = request.get("id").cloned();
    // Encoding is arithmetic; it must not hold up the readiness of others.
    let models = models.clone();
    let encoded = tokio::task::spawn_blocking(move || {
        let model = find(&models, &name)?;
        let mut data: Vec<f32> = Vec::with_capacity(texts.len() * model.dimensions);
        texts.iter().for_each(|t| data.extend(model.encode(t)));
        Ok(json!({
            "model_name": model.name, "model_version": "1",
            "outputs": [{"name": "embedding", "datatype": "FP32",
                "shape": [texts.len(), model.dimensions], "data": data}],
        }))
    });
    let mut answer = encoded
        .await
        .map_err(|e| Refusal(StatusCode::INTERNAL_SERVER_ERROR, format!("encoding failed: {e}")))??;
    if let Some(id) = id {
        answer["id"] = id;
    }
    Ok(Json(answer))
}
