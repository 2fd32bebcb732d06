//! What every request passes on its way. It is two functions, because a router boxes, clones and drops each of its layers
//! for every request.

use crate::http::answer::write_problem;
use crate::http::app::App;
use crate::http::authentication::require_key;
use crate::http::browser::set_headers;
use crate::http::document::{Methods, Parameters};
use crate::http::inputs::check_parameters;
use crate::http::lanes::take_lane;
use crate::http::observe::observe;
use crate::http::once::once;
use axum::extract::{Request, State};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use std::sync::Arc;

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
    require_key(&app, request, async |request| {
        if let Err(problem) = check_parameters(&taken.parameters, &request) {
            return problem.into_response();
        }
        once(&app, &taken.methods, request, async |request| match take_lane(&app, &request).await {
            Ok(_admission) => next.run(request).await,
            Err(problem) => problem.into_response(),
        })
        .await
    })
    .await
}

/// Around all routes.
pub async fn answered(State(app): State<Arc<App>>, request: Request, next: Next) -> Response {
    let mut response = write_problem(request, async |request| observe(&app, request, next).await).await;
    set_headers(response.headers_mut());
    response
}
