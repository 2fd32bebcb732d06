//! The HTTP interface: a skin over the use cases. A route reads the request, takes the grant, calls one use case and
//! shapes the answer.

pub mod answer;
pub mod app;
pub mod authentication;
pub mod bodies;
pub mod body;
pub mod connections;
pub mod console;
pub mod inputs;
pub mod router;
pub mod routes;
