//! The service as callers meet it: over HTTP, through the client, on MariaDB.

// Tests are deep trees of futures.
#![recursion_limit = "256"]

mod access;
mod advising;
mod columns;
mod comparing;
mod disk;
mod examining;
mod files;
mod indexes;
mod lanes;
mod lifecycle;
mod limits;
mod loading;
mod mapping;
mod measuring;
mod nodes;
mod once;
mod points;
mod races;
mod records;
mod refusals;
mod restart;
mod saved;
mod schema;
mod search;
mod segments;
mod tenants;
mod tls;
