//! A collection as far as a key reaches: the records that its fixed filter allows are all that there are.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::problem::{Kind, Problem, Result};
use crate::records::select::read_and_compile;
use fixedbitset::FixedBitSet;
use std::sync::Arc;
use zesty_engine::filter::{Filter, Test};
use zesty_engine::search::{Passed, allowed};
use zesty_engine::{Schema, Table};
use zesty_wire as wire;

/// A collection, and who reaches into it.
#[derive(Clone)]
pub struct Reach {
    pub live: Arc<Live>,
    pub grant: Grant,
}

/// Filters that were held against the fields.
pub struct Allowing {
    /// What the caller gave.
    pub given: Option<Filter>,
    /// What the caller gave and what the key is bound to, together.
    pub test: Option<Test>,
}

/// The rows of a snapshot that a key reaches: all of them, unless a fixed filter hides some.
pub struct Within(Option<Arc<Passed>>);

impl Within {
    pub fn has(&self, row: u32) -> bool {
        self.0.as_ref().is_none_or(|within| within.rows.contains(row as usize))
    }

    /// The row of a record, if the key reaches it.
    pub fn row(&self, table: &Table, key: &str) -> Option<u32> {
        table.row(key).filter(|row| self.has(*row))
    }
}

impl Registry {
    /// A collection by name, as far as `grant` reaches into it.
    pub fn reach(&self, grant: &Grant, scope: Scope, name: &str) -> Result<Reach> {
        Ok(Reach { live: self.find(grant, scope, name)?, grant: grant.clone() })
    }

    /// Every collection that `grant` may use so, as far as it reaches into each.
    pub fn granted(&self, grant: &Grant, scope: Scope) -> Result<Vec<Reach>> {
        grant.require_anywhere(scope)?;
        let covered = self.all().into_iter().filter(|live| grant.covers(&live.name));
        Ok(covered.map(|live| Reach { live, grant: grant.clone() }).collect())
    }
}

impl Reach {
    /// Whether a fixed filter hides records.
    pub fn is_bound(&self) -> bool {
        self.grant.filter().is_some()
    }

    /// The fixed filter, held against the fields.
    fn fixed(&self, schema: &Schema) -> Result<Option<Test>> {
        let fixed = self.grant.filter().map(|filter| filter.compile(schema));
        // What does not fit is not told: it would tell of fields.
        fixed.transpose().map_err(|_| {
            let detail = format!(
                "the filter of key \"{}\" does not fit the fields of collection \"{}\"; who manages keys has to make \
                 another key",
                self.grant.name(),
                self.live.name
            );
            Problem::new(Kind::NotPermitted, detail)
        })
    }

    /// A caller's filter and the fixed one.
    pub fn filters(&self, schema: &Schema, given: Option<&wire::Filter>) -> Result<Allowing> {
        let fixed = self.fixed(schema)?;
        let (given, test) = read_and_compile(schema, given)?.unzip();
        let test = match (fixed, test) {
            (Some(fixed), Some(test)) => Some(Test::And(vec![fixed, test])),
            (fixed, test) => fixed.or(test),
        };
        Ok(Allowing { given, test })
    }

    /// What the fixed filter allows; `None` when there is none.
    pub fn rows(&self, table: &Table) -> Result<Option<Arc<Passed>>> {
        Ok(self.fixed(table.schema())?.map(|test| allowed(table, &test)))
    }

    /// The living rows that a caller's filter and the fixed one allow.
    pub fn allowed(&self, table: &Table, given: Option<&wire::Filter>) -> Result<FixedBitSet> {
        let within = self.rows(table)?;
        let test = read_and_compile(table.schema(), given)?.map(|(_, test)| test);
        Ok(match (within, test) {
            (None, None) => table.alive().to_set(),
            (None, Some(test)) => test.run(table),
            (Some(within), None) => within.rows.clone(),
            (Some(within), Some(test)) => {
                let mut rows = test.run(table);
                rows.intersect_with(&within.rows);
                rows
            }
        })
    }

    /// How many records there are.
    pub fn n_records(&self, table: &Table) -> Result<usize> {
        Ok(self.rows(table)?.map_or(table.n_records(), |rows| rows.n))
    }

    /// The same for whoever asks of many rows.
    pub fn within(&self, table: &Table) -> Result<Within> {
        self.rows(table).map(Within)
    }

    /// The row of a record, if the key reaches it.
    pub fn row(&self, table: &Table, key: &str) -> Result<Option<u32>> {
        Ok(self.within(table)?.row(table, key))
    }

    /// No such record; suggests the nearest key, where that tells of nobody else's records.
    pub fn unknown_record(&self, key: &str) -> Problem {
        let near = (!self.is_bound()).then(|| self.live.table.load().nearest_key(key)).flatten();
        Problem::unknown("record", key, near.as_deref())
    }
}
