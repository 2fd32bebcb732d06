//! A grant: who asks, and what they may do. Every use case takes one, so no path can forget to check it.

use crate::problem::{Kind, Problem, Result};

/// A kind of use.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Scope {
    /// Search, and see what searches need: collections, fields, filters
    Search,
    /// Read, count and export records
    Read,
    /// Write, change and delete records; load files
    Write,
    /// Build indexes, measure them, and choose what serves
    Tune,
    /// Create and delete collections; manage keys, encoders and jobs
    Manage,
}

impl Scope {
    pub const ALL: [Scope; 5] = [Scope::Search, Scope::Read, Scope::Write, Scope::Tune, Scope::Manage];

    /// The word that people use.
    pub fn word(self) -> &'static str {
        match self {
            Scope::Search => "search",
            Scope::Read => "read",
            Scope::Write => "write",
            Scope::Tune => "tune",
            Scope::Manage => "manage",
        }
    }
}

/// Who asks, and what they may do.
#[derive(Clone, Debug)]
pub struct Grant {
    /// The id of the key that the request came with.
    key: i64,
    scopes: &'static [Scope],
}

impl Grant {
    /// Every scope: what each key allows.
    pub fn everything(key: i64) -> Grant {
        Grant { key, scopes: &Scope::ALL }
    }

    /// No scope: every use case refuses it.
    #[cfg(test)]
    pub fn nothing() -> Grant {
        Grant { key: 0, scopes: &[] }
    }

    /// The id of the key that the request came with.
    pub fn key(&self) -> i64 {
        self.key
    }

    /// Refuses unless this grant has `scope` over `what`: a collection by name, or `None` for the service.
    pub fn require(&self, scope: Scope, what: Option<&str>) -> Result<()> {
        if self.scopes.contains(&scope) {
            return Ok(());
        }
        let over = what.map_or("the service".to_owned(), |name| format!("collection \"{name}\""));
        let detail = format!("this key does not have the scope \"{}\" over {over}", scope.word());
        Err(Problem::new(Kind::NotPermitted, detail).with("scope", scope.word()))
    }
}
