//! What every request passes on its way. It is one function around routes that need a key, and one around those that need
//! none, because a router boxes, clones and drops each of its layers for every request.

use crate::http::answer::{REQUEST_ID, RequestId, write_problem};
use crate::http::app::App;
use crate::http::authentication::require_key;
use crate::http::browser::set_headers;
use crate::http::compressed::compressed;
use crate::http::document::{Methods, Parameters};
use crate::http::inputs::check_parameters;
use crate::http::lanes::take_lane;
use crate::http::observe::{observe, span, trace_of};
use crate::http::once::once;
use crate::node::random::random_hex;
use axum::extract::{Request, State};
use axum::http::{HeaderMap, HeaderValue, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use std::sync::Arc;
use tracing::Instrument;

/// What routes take, as the document says.
pub struct Taken {
    pub parameters: Parameters,
    pub methods: Methods,
}

/// Around routes that need a key.
pub async fn keyed(
    State((app, taken)): State<(Arc<App>, Arc<Taken>)>,
    request: Request,
    next: Next,
) -> Response {
    let routed = async |request| match take_lane(&app, &request).await {
        Ok(_admission) => next.run(request).await,
        Err(problem) => problem.into_response(),
    };
    let checked = async |request| match check_parameters(&taken.parameters, &request) {
        Ok(()) => once(&app, &taken.methods, request, routed).await,
        Err(problem) => problem.into_response(),
    };
    answered(&app, request, async |request| require_key(&app, request, checked).await).await
}

/// Around routes that anybody may ask.
pub async fn open(State(app): State<Arc<App>>, request: Request, next: Next) -> Response {
    answered(&app, request, async |request| next.run(request).await).await
}

/// Around all of them.
async fn answered(app: &App, mut request: Request, next: impl AsyncFnOnce(Request) -> Response) -> Response {
    let id = id_of(request.headers());
    request.extensions_mut().insert(RequestId(id.clone()));
    let accepted = request.headers().get(header::ACCEPT_ENCODING).cloned();
    let trace = trace_of(&request);
    let span = span(&request, &id, trace.as_ref());
    let answering = async {
        let next = async |request| observe(app, trace, request, next).await;
        let mut response = write_problem(request, &id, next).await;
        set_headers(response.headers_mut());
        response.headers_mut().insert(REQUEST_ID, id.clone());
        tracing::debug!(status = response.status().as_u16(), "answered");
        response
    };
    let response = answering.instrument(span).await;
    match accepted {
        Some(accepted) => compressed(accepted, response).await,
        None => response,
    }
}

/// The id of a request: its own, or a new one.
fn id_of(headers: &HeaderMap) -> HeaderValue {
    let new = || HeaderValue::try_from(random_hex(8)).expect("hexadecimal digits");
    headers.get(REQUEST_ID).cloned().unwrap_or_else(new)
}
