//! The HTTP interface: a skin over the use cases. A route reads the request, takes the grant, calls one use case and
//! shapes the answer.

pub mod answer;
pub mod app;
pub mod authentication;
pub mod bodies;
pub mod body;
mod browser;
mod compressed;
pub mod connections;
pub mod console;
mod document;
pub mod gates;
pub mod inputs;
mod kinds;
mod lanes;
mod limits;
mod lingering;
mod observe;
pub mod once;
mod pausing;
mod refusals;
pub mod router;
pub mod routes;
pub mod running;
pub mod tls;
