//! From a request to its grant: a Bearer token (RFC 6750), or the cookie of a signed-in browser.

use crate::access::believed::Opens;
use crate::access::grant::Grant;
use crate::access::keys::SESSION_DAYS;
use crate::http::answer::RequestId;
use crate::http::app::App;
use crate::http::browser::check_origin;
use crate::http::connections::Peer;
use crate::http::inputs::Named;
use crate::http::kinds::reads;
use crate::problem::{Kind, Problem, Result};
use axum::body::Body;
use axum::extract::{FromRequestParts, MatchedPath, Request, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderValue, Method, StatusCode, Uri, header};
use axum::response::{Html, IntoResponse, Response};
use chrono::{DateTime, Utc};
use headers::authorization::Bearer;
use headers::{Authorization, ContentLength, Cookie, HeaderMapExt};
use http_body_util::Limited;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Instant;
use zesty_wire::AuditEntry;

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
pub async fn require_key(
    app: &App,
    mut request: Request,
    next: impl AsyncFnOnce(Request) -> Response,
) -> Response {
    let bearer = request.headers().typed_get::<Authorization<Bearer>>();
    let session = session(request.headers());
    let granted = match (&bearer, &session) {
        (Some(bearer), _) => app.keys.grant(Opens::Key, bearer.token()).await,
        (None, Some(session)) => match check_origin(request.method(), request.headers()) {
            Ok(()) => app.keys.grant(Opens::Session, session).await,
            Err(problem) => Err(problem),
        },
        (None, None) => Ok(None),
    };
    match granted {
        Ok(Some(grant)) => {
            let peer = request.extensions().get::<Peer>().map(|peer| peer.0);
            app.keys.used(&grant, peer);
            if let Err(problem) = app.rates.take(&grant, Instant::now()) {
                return problem.into_response();
            }
            if let Some(most) = grant.permit().body_bytes {
                request = match bounded(request, most) {
                    Ok(request) => request,
                    Err(problem) => return problem.into_response(),
                };
            }
            let act = Act::of(&request, &grant, peer);
            request.extensions_mut().insert(grant);
            let mut response = next(request).await;
            act.note(app, response.status()).await;
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

/// A request whose body may have so many bytes.
fn bounded(request: Request, most: u64) -> Result<Request> {
    if request.headers().typed_get::<ContentLength>().is_some_and(|said| said.0 > most) {
        let detail = format!("the body has more than the {most} bytes that this key may send");
        return Err(Problem::new(Kind::TooLarge, detail).with("limit_bytes", most));
    }
    let most = usize::try_from(most).unwrap_or(usize::MAX);
    Ok(request.map(|body| Body::new(Limited::new(body, most))))
}

/// How much an act matters to the audit list.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Weight {
    /// Changes nothing.
    Reads,
    /// Changes single records, or sends parts of files: noted within a second.
    Writes,
    /// Noted before it is answered.
    Decides,
}

/// What a request does, for the audit list.
struct Act {
    weight: Weight,
    at: DateTime<Utc>,
    grant: Grant,
    method: Method,
    uri: Uri,
    peer: Option<IpAddr>,
    id: Option<RequestId>,
}

impl Act {
    fn of(request: &Request, grant: &Grant, peer: Option<IpAddr>) -> Act {
        let route = request.extensions().get::<MatchedPath>().map_or("", MatchedPath::as_str);
        let weight = match () {
            () if reads(request.method(), route) => Weight::Reads,
            () if route.contains("/records") || route.starts_with("/api/files") => Weight::Writes,
            () => Weight::Decides,
        };
        Act {
            weight,
            at: Utc::now(),
            grant: grant.clone(),
            method: request.method().clone(),
            uri: request.uri().clone(),
            peer,
            id: request.extensions().get().cloned(),
        }
    }

    fn entry(&self, status: StatusCode) -> AuditEntry {
        let id = self.id.as_ref().and_then(|id| id.0.to_str().ok());
        AuditEntry {
            id: 0,
            at: self.at,
            key: self.grant.name().to_owned(),
            method: self.method.to_string(),
            path: self.uri.path().to_owned(),
            status: status.as_u16(),
            from: self.peer.map_or_else(String::new, |peer| peer.to_string()),
            request_id: id.unwrap_or_default().to_owned(),
        }
    }

    async fn note(self, app: &App, status: StatusCode) {
        if self.weight == Weight::Reads && status != StatusCode::FORBIDDEN {
            return;
        }
        app.audit.note(self.entry(status));
        if self.weight == Weight::Decides
            && status != StatusCode::FORBIDDEN
            && !app.registry.silence.is_on()
            && let Err(problem) = app.audit.keep().await
        {
            tracing::warn!("an entry of the audit list is written later: {}", problem.detail);
        }
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
pub async fn sign_in(
    State(app): State<Arc<App>>,
    method: Method,
    Named(ticket): Named<String>,
) -> Result<Response> {
    if method == Method::HEAD {
        // Who looks whether the link is there does not use it up.
        return Ok(StatusCode::OK.into_response());
    }
    let Some(session) = app.keys.sign_in(&ticket).await? else {
        return Ok((StatusCode::UNAUTHORIZED, Html(SIGNED_OUT)).into_response());
    };
    Ok((set_cookie(&session, SESSION_DAYS * 86_400, app.behind_tls), Html(SIGNED_IN)).into_response())
}

/// The header that leaves a session in a browser; an age of 0 takes it away.
pub fn set_cookie(session: &str, age_s: i64, secure: bool) -> HeaderMap {
    let secure = if secure { "; Secure" } else { "" };
    let cookie = format!("{COOKIE}={session}; Path=/; HttpOnly; SameSite=Strict; Max-Age={age_s}{secure}");
    let value = HeaderValue::from_str(&cookie).expect("hex and plain words");
    HeaderMap::from_iter([(header::SET_COOKIE, value)])
}
