//! Searches: a request is checked, its query resolved, candidates found, fields fetched, and advice added.

pub mod candidates;
pub mod check;
pub mod choose;
pub mod explain;
pub mod fetch;
pub mod filters;
pub mod notices;
pub mod query;
pub mod run;
pub mod saved;
pub mod settings;
