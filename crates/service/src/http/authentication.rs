//! From a request to its grant: a Bearer token (RFC 6750), or the cookie of a signed-in browser.

use crate::access::grant::Grant;
use crate::access::keys::{SESSION_DAYS, Secret};
use crate::http::app::App;
use crate::http::inputs::Named;
use crate::problem::{Kind, Problem, Result};
use axum::extract::{FromRequestParts, Request, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::middleware::Next;
use axum::response::{Html, IntoResponse, Response};
use headers::authorization::Bearer;
use headers::{Authorization, Cookie, HeaderMapExt};
use std::sync::Arc;

const COOKIE: &str = "zesty_console";

const SIGNED_OUT: &str = "<!doctype html><html lang=en><meta charset=utf-8><title>Zesty Lantern</title>\
<body style=\"font:16px/1.6 system-ui,sans-serif;max-width:34rem;margin:18vh auto;padding:0 1rem\">\
<h1 style=\"font-size:1.4rem\">This console is signed out</h1>\
<p>Run <code>zesty console</code> on the machine that has your key. It prints a link that signs this browser in. \
The link works once, for 15 minutes.</p>";

const SIGNED_IN: &str = "<!doctype html><html lang=en><meta http-equiv=refresh content=\"0;url=/\">\
<title>Zesty Lantern</title>Signed in.";

/// The session of the browser that a request comes from.
pub fn session(headers: &HeaderMap) -> Option<String> {
    headers.typed_get::<Cookie>()?.get(COOKIE).map(str::to_owned)
}

/// Lets requests through that show a valid key, with what it grants; refuses all others.
pub async fn require_key(State(app): State<Arc<App>>, mut request: Request, next: Next) -> Response {
    let bearer = request.headers().typed_get::<Authorization<Bearer>>();
    let session = session(request.headers());
    let granted = match (&bearer, &session) {
        (Some(bearer), _) => app.keys.grant(Secret::Key(bearer.token())).await,
        (None, Some(session)) => app.keys.grant(Secret::Session(session)).await,
        (None, None) => Ok(None),
    };
    match granted {
        Ok(Some(grant)) => {
            request.extensions_mut().insert(grant);
            let mut response = next.run(request).await;
            // RFC 9111: how old the answer is, once the database is silent and it may be old.
            if let Some(silent) = app.registry.silence.since() {
                response.headers_mut().insert(header::AGE, silent.as_secs().into());
            }
            response
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

/// Routes take their grant as an argument.
impl<S: Sync> FromRequestParts<S> for Grant {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Grant> {
        let grant = parts.extensions.get::<Grant>().cloned();
        grant.ok_or_else(|| Problem::new(Kind::Internal, "this route is reached without a key"))
    }
}

/// `GET /sign-in/{ticket}`: uses the link up and leaves a cookie. The page then moves on by itself, because a redirect
/// out of another site's page would not carry a Strict cookie.
pub async fn sign_in(State(app): State<Arc<App>>, Named(ticket): Named<String>) -> Result<Response> {
    let Some(session) = app.keys.sign_in(&ticket).await? else {
        return Ok((StatusCode::UNAUTHORIZED, Html(SIGNED_OUT)).into_response());
    };
    Ok((set_cookie(&session, SESSION_DAYS * 86_400), Html(SIGNED_IN)).into_response())
}

/// The header that leaves a session in a browser; an age of 0 takes it away.
pub fn set_cookie(session: &str, age_s: i64) -> HeaderMap {
    let cookie = format!("{COOKIE}={session}; Path=/; HttpOnly; SameSite=Strict; Max-Age={age_s}");
    let value = HeaderValue::from_str(&cookie).expect("hex and plain words");
    HeaderMap::from_iter([(header::SET_COOKIE, value)])
}
