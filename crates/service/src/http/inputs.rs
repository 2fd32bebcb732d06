//! What a route reads from the path and the query. A misfit is refused with Problem Details.

use crate::http::document::Parameters;
use crate::problem::{Kind, Problem, Result};
use axum::extract::rejection::{PathRejection, QueryRejection};
use axum::extract::{FromRequestParts, MatchedPath, Path, Query, Request};
use percent_encoding::percent_decode_str;
use zesty_engine::names::did_you_mean;

/// The names in the path of a route.
#[derive(FromRequestParts)]
#[from_request(via(Path), rejection(Problem))]
pub struct Named<T>(pub T);

/// The members of a query.
#[derive(FromRequestParts)]
#[from_request(via(Query), rejection(Problem))]
pub struct Params<T>(pub T);

impl From<PathRejection> for Problem {
    fn from(rejection: PathRejection) -> Problem {
        Problem::new(Kind::Unknown, rejection.body_text())
    }
}

impl From<QueryRejection> for Problem {
    fn from(rejection: QueryRejection) -> Problem {
        Problem::new(Kind::WrongShape, rejection.body_text())
    }
}

/// Refuses query parameters that the route does not know: a misspelt one would change nothing, silently.
pub fn check_parameters(known: &Parameters, request: &Request) -> Result<()> {
    let Some(query) = request.uri().query().filter(|query| !query.is_empty()) else { return Ok(()) };
    let route = request.extensions().get::<MatchedPath>().and_then(|route| known.get(route.as_str()));
    let Some(route) = route else { return Ok(()) };
    let mut given = query.split('&').map(|pair| pair.split('=').next().unwrap_or_default());
    let decoded = |name: &str| percent_decode_str(&name.replace('+', " ")).decode_utf8_lossy().into_owned();
    match given.find(|name| !route.contains(&decoded(name))) {
        None => Ok(()),
        Some(name) => {
            let name = decoded(name);
            let what = match route.is_empty() {
                true => format!("{} takes no query parameters; \"{name}\" is given", request.uri().path()),
                false => {
                    let hint = did_you_mean(&name, route.iter().map(String::as_str));
                    let all = route.iter().cloned().collect::<Vec<_>>().join(", ");
                    format!("there is no query parameter \"{name}\"{hint}; this route takes {all}")
                }
            };
            Err(Problem::new(Kind::WrongShape, what).at(format!("/{name}")))
        }
    }
}
