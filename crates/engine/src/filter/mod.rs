//! Filters in CQL2 text (OGC 21-065): read ([`parse`]), checked against the fields ([`Test::new`]),
//! run over the field columns ([`Test::run`]).
//!
//! Missing values follow SQL: a comparison with a missing value is unknown, NOT unknown is unknown,
//! and only rows whose filter is true are allowed.

mod compile;
mod parser;
mod run;

pub use compile::Test;
pub use parser::{Comparison, Expr, Literal, MAX_BYTES, MAX_DEPTH, MAX_LIST, Node, parse};
pub use run::Truth;

/// What is wrong with a filter, and where: byte offsets into its text.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct FilterError {
    pub start: usize,
    pub end: usize,
    pub message: String,
}

impl FilterError {
    /// Line and column of the start, both from 1, in characters.
    pub fn place(&self, text: &str) -> (usize, usize) {
        let before = &text[..self.start.min(text.len())];
        let line = before.matches('\n').count() + 1;
        let column = before.rsplit('\n').next().unwrap_or("").chars().count() + 1;
        (line, column)
    }
}
