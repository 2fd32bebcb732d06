//! The service itself, its keys, and the encoders it knows.

use super::*;
use crate::auth::{self, KeyId, LINK_MINUTES};
use crate::edge::random_hex;
use axum::Extension;
use axum::http::HeaderMap;
use axum::response::Response;
use chrono::{DateTime, TimeDelta, Utc};
use zesty_catalog::access::Ticket;
use zesty_catalog::encoder;

#[derive(Serialize, ToSchema)]
pub struct ServiceView {
    pub service: String,
    pub version: String,
    /// This node's own name
    pub node: String,
    pub up_s: f64,
    pub n_collections: usize,
    pub n_records: usize,
    /// Instruction set of the distance kernels
    pub kernels: String,
    /// Whether MariaDB answers
    pub database: bool,
}

/// Show the service
#[utoipa::path(get, path = "/api/service", tag = "service", responses((status = 200, body = ServiceView)))]
pub async fn service(State(hub): Hubbed) -> Json<ServiceView> {
    let live = hub.collections();
    Json(ServiceView {
        service: "zesty-lantern".into(),
        version: env!("CARGO_PKG_VERSION").into(),
        node: hub.node.clone(),
        up_s: hub.started.elapsed().as_secs_f64(),
        n_collections: live.len(),
        n_records: live.iter().map(|l| l.table.load().n_records()).sum(),
        kernels: format!("{:?}", zesty_engine::kernels::Kernels::best().level()).to_lowercase(),
        database: hub.catalog.ping(std::time::Duration::from_secs(2)).await.is_ok(),
    })
}

#[derive(Serialize, ToSchema)]
pub struct KeyView {
    pub name: String,
    pub created_at: DateTime<Utc>,
}

#[derive(Serialize, ToSchema)]
pub struct KeyList {
    pub keys: Vec<KeyView>,
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct KeyInput {
    pub name: String,
}

#[derive(Serialize, ToSchema)]
pub struct NewKey {
    pub name: String,
    /// Shown this once; only its hash is kept
    pub key: String,
}

/// List keys; the keys themselves are not kept
#[utoipa::path(get, path = "/api/keys", tag = "service", responses((status = 200, body = KeyList)))]
pub async fn keys(State(hub): Hubbed) -> Result<Json<KeyList>> {
    let keys = hub.catalog.keys().await?;
    Ok(Json(KeyList {
        keys: keys.into_iter().map(|k| KeyView { name: k.name, created_at: k.created_at }).collect(),
    }))
}

/// Make a key
#[utoipa::path(post, path = "/api/keys", tag = "service", request_body = KeyInput,
    responses((status = 201, body = NewKey), (status = 409, body = crate::problem::ProblemBody)))]
pub async fn create_key(
    State(hub): Hubbed,
    Input(input): Input<KeyInput>,
) -> Result<(StatusCode, Json<NewKey>)> {
    check_name("key", &input.name, "/name")?;
    let key = auth::new_key();
    hub.catalog.add_key(&input.name, &auth::hash(&key)).await?;
    Ok((StatusCode::CREATED, Json(NewKey { name: input.name, key })))
}

/// Remove a key and end what is signed in with it
#[utoipa::path(delete, path = "/api/keys/{key}", tag = "service", params(("key" = String, Path)),
    responses((status = 204), (status = 404, body = crate::problem::ProblemBody),
        (status = 409, body = crate::problem::ProblemBody)))]
pub async fn remove_key(State(hub): Hubbed, Path(name): Path<String>) -> Result<StatusCode> {
    let keys = hub.catalog.keys().await?;
    if !keys.iter().any(|k| k.name == name) {
        return Err(Problem::unknown("key", &name, keys.iter().map(|k| k.name.as_str())));
    }
    if keys.len() == 1 {
        let detail = "this is the last key; make another first, or nobody can come in";
        return Err(Problem::new(Kind::StillUsed, detail));
    }
    hub.catalog.remove_key(&name).await?;
    hub.believed.forget();
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Serialize, ToSchema)]
pub struct SignInLink {
    /// To be put behind the service's address
    pub path: String,
    pub expires_at: DateTime<Utc>,
}

/// Make a link that signs one browser in, once
#[utoipa::path(post, path = "/api/sign-in-links", tag = "service", responses((status = 201, body = SignInLink)))]
pub async fn sign_in_link(
    State(hub): Hubbed,
    Extension(KeyId(key)): Extension<KeyId>,
) -> Result<(StatusCode, Json<SignInLink>)> {
    let ticket = random_hex(32);
    let expires_at = Utc::now() + TimeDelta::minutes(LINK_MINUTES);
    hub.catalog.add_ticket(Ticket::Link, &auth::hash(&ticket), key, expires_at).await?;
    Ok((StatusCode::CREATED, Json(SignInLink { path: format!("/sign-in/{ticket}"), expires_at })))
}

/// End this browser's session
#[utoipa::path(post, path = "/api/sign-out", tag = "service", responses((status = 204)))]
pub async fn sign_out(State(hub): Hubbed, headers: HeaderMap) -> Result<Response> {
    auth::sign_out(&hub, &headers).await
}

#[derive(Serialize, ToSchema)]
pub struct EncoderView {
    pub name: String,
    pub url: String,
    pub model: String,
    pub dimensions: u32,
}

#[derive(Serialize, ToSchema)]
pub struct EncoderList {
    pub encoders: Vec<EncoderView>,
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct EncoderInput {
    /// Of a server that speaks the Open Inference Protocol v2
    pub url: String,
    /// The model's name there
    pub model: String,
}

impl From<encoder::Model> for EncoderView {
    fn from(e: encoder::Model) -> Self {
        EncoderView { name: e.name, url: e.url, model: e.model, dimensions: e.dimensions }
    }
}

/// List encoders
#[utoipa::path(get, path = "/api/encoders", tag = "encoders", responses((status = 200, body = EncoderList)))]
pub async fn encoders(State(hub): Hubbed) -> Result<Json<EncoderList>> {
    Ok(Json(EncoderList { encoders: hub.catalog.encoders().await?.into_iter().map(Into::into).collect() }))
}

/// Name an encoder, or say where it has moved
///
/// The server is asked for the model's dimensions. A known encoder may change its address, not its model.
#[utoipa::path(put, path = "/api/encoders/{encoder}", tag = "encoders", params(("encoder" = String, Path)),
    request_body = EncoderInput,
    responses((status = 200, body = EncoderView), (status = 409, body = crate::problem::ProblemBody),
        (status = 502, body = crate::problem::ProblemBody)))]
pub async fn put_encoder(
    State(hub): Hubbed,
    Path(name): Path<String>,
    Input(input): Input<EncoderInput>,
) -> Result<Json<EncoderView>> {
    check_name("encoder", &name, "")?;
    let known = hub.catalog.encoder(&name).await?;
    let dimensions = hub.encoders.dimensions(&name, &input.url, &input.model).await?;
    if let Some(known) = &known {
        if known.model != input.model || known.dimensions != dimensions {
            let detail = format!(
                "encoder \"{name}\" is model \"{}\" with {} dimensions, and vectors made by it are stored; give model \
                 \"{}\" ({dimensions}) a name of its own",
                known.model, known.dimensions, input.model
            );
            return Err(Problem::new(Kind::NameTaken, detail).at("/model"));
        }
        hub.catalog.move_encoder(&name, &input.url).await?;
        return Ok(Json(EncoderView { url: input.url, ..known.clone().into() }));
    }
    Ok(Json(hub.catalog.add_encoder(&name, &input.url, &input.model, dimensions).await?.into()))
}

/// Forget an encoder that no column uses
#[utoipa::path(delete, path = "/api/encoders/{encoder}", tag = "encoders", params(("encoder" = String, Path)),
    responses((status = 204), (status = 404, body = crate::problem::ProblemBody),
        (status = 409, body = crate::problem::ProblemBody)))]
pub async fn remove_encoder(State(hub): Hubbed, Path(name): Path<String>) -> Result<StatusCode> {
    for live in hub.collections() {
        if live.columns().iter().any(|c| c.encoder.as_deref() == Some(&name)) {
            let detail = format!("encoder \"{name}\" is used by collection \"{}\"", live.name);
            return Err(Problem::new(Kind::StillUsed, detail));
        }
    }
    let known = hub.catalog.encoders().await?;
    if !known.iter().any(|e| e.name == name) {
        return Err(Problem::unknown("encoder", &name, known.iter().map(|e| e.name.as_str())));
    }
    hub.catalog.remove_encoder(&name).await?;
    Ok(StatusCode::NO_CONTENT)
}
