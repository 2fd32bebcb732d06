//! Keys. No route answers without one: a Bearer token (RFC 6750), or the cookie that a one-time
//! sign-in link leaves in a browser.
//!
//! Keys and tickets are 32 random bytes; what is stored is their SHA-256. A slow password hash
//! would add nothing to 256 random bits and would cost every request.

use crate::edge::random_hex;
use crate::hub::Hub;
use crate::problem::{Kind, Problem, Result};
use axum::extract::{Path, Request, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::middleware::Next;
use axum::response::{Html, IntoResponse, Response};
use chrono::{TimeDelta, Utc};
use sha2::{Digest, Sha256};
use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};
use zesty_catalog::CatalogError;
use zesty_catalog::access::Ticket;

const COOKIE: &str = "zesty_console";
pub const LINK_MINUTES: i64 = 15;
const SESSION_DAYS: i64 = 30;
/// How long a good key is believed without asking the database: a removed key dies within this.
const BELIEVED: Duration = Duration::from_secs(2);
/// How long a key that was good is believed while the database does not answer.
const BELIEVED_IN_SILENCE: Duration = Duration::from_secs(15 * 60);

/// Which key a request came with.
#[derive(Clone, Copy, Debug)]
pub struct KeyId(pub i64);

/// Secrets seen lately.
#[derive(Default)]
pub struct Believed(parking_lot::Mutex<HashMap<String, (i64, Instant)>>);

pub fn new_key() -> String {
    format!("zk_{}", random_hex(32))
}

pub fn hash(secret: &str) -> String {
    Sha256::digest(secret.as_bytes()).iter().map(|b| format!("{b:02x}")).collect()
}

fn bearer(headers: &HeaderMap) -> Option<&str> {
    let (scheme, token) = headers.get(header::AUTHORIZATION)?.to_str().ok()?.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then(|| token.trim())
}

fn cookie(headers: &HeaderMap) -> Option<&str> {
    headers
        .get_all(header::COOKIE)
        .iter()
        .filter_map(|v| v.to_str().ok())
        .flat_map(|v| v.split(';'))
        .find_map(|pair| pair.trim().strip_prefix(COOKIE)?.strip_prefix('='))
}

async fn key_of(hub: &Hub, headers: &HeaderMap) -> Result<Option<i64>> {
    let (secret, session) = match (bearer(headers), cookie(headers)) {
        (Some(token), _) => (token, false),
        (None, Some(ticket)) => (ticket, true),
        (None, None) => return Ok(None),
    };
    let hash = hash(secret);
    let seen = hub.believed.0.lock().get(&hash).copied();
    let within = |limit: Duration| seen.filter(|(_, at)| at.elapsed() < limit).map(|(key, _)| key);
    if let Some(key) = within(BELIEVED) {
        return Ok(Some(key));
    }
    // While the database is known to be silent, nobody waits for it to say so again.
    if hub.is_database_silent()
        && let Some(key) = within(BELIEVED_IN_SILENCE)
    {
        return Ok(Some(key));
    }
    let asked = match session {
        true => hub.catalog.session(&hash).await,
        false => hub.catalog.key_by_hash(&hash).await.map(|k| k.map(|k| k.id)),
    };
    match asked {
        Ok(key) => {
            let mut believed = hub.believed.0.lock();
            believed.retain(|_, (_, seen)| seen.elapsed() < BELIEVED_IN_SILENCE);
            match key {
                Some(key) => drop(believed.insert(hash, (key, Instant::now()))),
                None => drop(believed.remove(&hash)),
            }
            Ok(key)
        }
        Err(e) => {
            if let CatalogError::Unavailable(_) = &e {
                hub.set_database_silent(true);
                if let Some(key) = within(BELIEVED_IN_SILENCE) {
                    return Ok(Some(key));
                }
            }
            Err(e.into())
        }
    }
}

impl Believed {
    /// After a key is removed here, it is refused at once.
    pub fn forget(&self) {
        self.0.lock().clear();
    }
}

pub async fn require(State(hub): State<Arc<Hub>>, mut request: Request, next: Next) -> Response {
    match key_of(&hub, request.headers()).await {
        Ok(Some(key)) => {
            request.extensions_mut().insert(KeyId(key));
            next.run(request).await
        }
        Ok(None) => {
            let page = request.headers().get(header::ACCEPT).and_then(|v| v.to_str().ok());
            if page.is_some_and(|a| a.contains("text/html")) && !request.uri().path().starts_with("/api") {
                return (StatusCode::UNAUTHORIZED, Html(SIGNED_OUT)).into_response();
            }
            Problem::new(
                Kind::NoKey,
                "send a key as \"Authorization: Bearer zk_...\"; on the service's machine `zesty` finds its own, \
                 and `zesty console` prints a sign-in link",
            )
            .into_response()
        }
        Err(problem) => problem.into_response(),
    }
}

const SIGNED_OUT: &str = "<!doctype html><meta charset=utf-8><title>Zesty Lantern</title>\
<body style=\"font:16px/1.6 system-ui,sans-serif;max-width:34rem;margin:18vh auto;padding:0 1rem\">\
<h1 style=\"font-size:1.4rem\">This console is signed out</h1>\
<p>Run <code>zesty console</code> where your key is. It prints a link that signs this browser in; \
the link works once, for 15 minutes.</p>";

/// `GET /sign-in/{ticket}`: uses the link up and leaves a cookie. The page then moves on by itself,
/// because a redirect out of another site's page would not carry a Strict cookie.
pub async fn sign_in(State(hub): State<Arc<Hub>>, Path(ticket): Path<String>) -> Result<Response> {
    let Some(key) = hub.catalog.take_link(&hash(&ticket)).await? else {
        return Ok((StatusCode::UNAUTHORIZED, Html(SIGNED_OUT)).into_response());
    };
    let session = random_hex(32);
    let until = Utc::now() + TimeDelta::days(SESSION_DAYS);
    hub.catalog.add_ticket(Ticket::Session, &hash(&session), key, until).await?;
    let cookie =
        format!("{COOKIE}={session}; Path=/; HttpOnly; SameSite=Strict; Max-Age={}", SESSION_DAYS * 86_400);
    let page = Html(
        "<!doctype html><meta http-equiv=refresh content=\"0;url=/\"><title>Zesty Lantern</title>Signed in.",
    );
    let mut response = page.into_response();
    let value = HeaderValue::from_str(&cookie).expect("hex and plain words");
    response.headers_mut().insert(header::SET_COOKIE, value);
    Ok(response)
}

/// Ends the console session of this browser.
pub async fn sign_out(hub: &Hub, headers: &HeaderMap) -> Result<Response> {
    if let Some(ticket) = cookie(headers) {
        hub.catalog.end_session(&hash(ticket)).await?;
        hub.believed.forget();
    }
    let mut response = StatusCode::NO_CONTENT.into_response();
    let gone = HeaderValue::from_static("zesty_console=; Path=/; HttpOnly; SameSite=Strict; Max-Age=0");
    response.headers_mut().insert(header::SET_COOKIE, gone);
    Ok(response)
}
