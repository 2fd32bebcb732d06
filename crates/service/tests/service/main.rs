//! The service as callers meet it: over HTTP, through the client, on MariaDB.

mod api;
mod loading;
mod races;
mod restart;
mod search;
