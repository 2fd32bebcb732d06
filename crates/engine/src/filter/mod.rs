//! Filters in CQL2 (OGC 21-065), text and JSON: read ([`Filter::from_text`], [`Filter::from_json`]), written
//! ([`Filter::to_text`], [`Filter::to_json`]), checked against the fields ([`Filter::compile`]), run over the
//! field columns ([`Test::run`]).
//!
//! Missing values follow SQL: a comparison with a missing value is unknown, NOT unknown is unknown,
//! and only rows whose filter is true are allowed.

mod bind;
mod compile;
mod formula;
mod json;
mod lex;
mod like;
mod print;
mod run;
mod text;
mod time;
mod tree;

pub use bind::Bound;
pub use compile::Test;
pub use like::MAX_PATTERN;
pub use tree::{ArrayTest, Comparison, Expr, Function, Literal, Node, Operator, Relation, Term, Value};

use crate::schema::Schema;
use std::collections::BTreeSet;

/// Bytes of filter text.
pub const MAX_BYTES: usize = 1 << 20;
/// Nested parentheses, NOTs and functions.
pub const MAX_DEPTH: usize = 100;
/// Values in one IN list or array.
pub const MAX_LIST: usize = 100_000;
/// Comparisons and other conditions in one filter.
pub const MAX_CONDITIONS: usize = 1_000;
/// Operators in one arithmetic expression.
pub const MAX_OPERATORS: usize = 100;

/// What is wrong with a filter, and where.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct FilterError {
    /// Byte offsets into the text; both 0 for a filter in JSON.
    pub start: usize,
    pub end: usize,
    /// A JSON Pointer into a filter in JSON.
    pub pointer: Option<String>,
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

fn error<T>(at: &std::ops::Range<usize>, message: impl Into<String>) -> Result<T, FilterError> {
    Err(FilterError { start: at.start, end: at.end, pointer: None, message: message.into() })
}

/// A filter that was read, not yet checked against fields.
#[derive(Clone, Debug, PartialEq)]
pub struct Filter {
    pub expr: Expr,
    /// For a filter in JSON: the pointers that nodes' places are numbers of.
    pointers: Option<Vec<String>>,
}

impl Filter {
    /// Reads CQL2 text. Never panics, whatever the text.
    pub fn from_text(text: &str) -> Result<Filter, FilterError> {
        Ok(Filter { expr: text::read(text)?, pointers: None })
    }

    /// Reads CQL2 JSON.
    pub fn from_json(value: &serde_json::Value) -> Result<Filter, FilterError> {
        let (expr, pointers) = json::read(value)?;
        Ok(Filter { expr, pointers: Some(pointers) })
    }

    /// One canonical form in text, and one in JSON.
    pub fn to_text(&self) -> String {
        self.expr.to_string()
    }

    pub fn to_json(&self) -> serde_json::Value {
        json::write(&self.expr)
    }

    /// The names of its parameters.
    pub fn parameters(&self) -> BTreeSet<&str> {
        bind::parameters(&self.expr)
    }

    /// The filter with values in place of its parameters: literals stay literals, so a value never changes what is
    /// asked. A condition whose parameter has no value is left out; `None` when that leaves nothing.
    pub fn bind(&self, values: impl Fn(&str) -> Option<Bound>) -> Result<Option<Filter>, FilterError> {
        let expr = bind::bind(&self.expr, &values)?;
        Ok(expr.map(|expr| Filter { expr, pointers: self.pointers.clone() }))
    }

    pub fn compile(&self, schema: &Schema) -> Result<Test, FilterError> {
        Test::of(&self.expr, schema).map_err(|e| match &self.pointers {
            Some(pointers) => json::pointed(e, pointers),
            None => e,
        })
    }
}
