//! What a route reads from the path and the query. A misfit is refused with Problem Details.

use crate::problem::{Kind, Problem};
use axum::extract::rejection::{PathRejection, QueryRejection};
use axum::extract::{FromRequestParts, Path, Query};

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
