//! A compiled filter over the field columns of a table: which rows it allows.

use super::compile::Test;
use super::parser::ArrayTest;
use crate::table::{Column, Table, Values};
use fixedbitset::FixedBitSet;
use std::collections::HashSet;

/// Rows for which a filter is true, and rows for which it is unknown; it is false for the rest.
#[derive(Clone, Debug, PartialEq)]
pub struct Truth {
    pub yes: FixedBitSet,
    pub unknown: FixedBitSet,
}

impl Test {
    /// The rows of `table` that are alive and for which the filter is true.
    pub fn run(&self, table: &Table) -> FixedBitSet {
        let mut yes = self.truth(table).yes;
        yes.intersect_with(table.alive());
        yes
    }

    fn truth(&self, table: &Table) -> Truth {
        let n = table.len();
        let none = || FixedBitSet::with_capacity(n);
        let filled = || {
            let mut all = none();
            all.insert_range(..);
            all
        };
        match self {
            Test::Constant(true) => Truth { yes: filled(), unknown: none() },
            Test::Constant(false) => Truth { yes: none(), unknown: none() },
            Test::And(parts) => {
                let (mut yes, mut possible) = (filled(), filled());
                for part in parts {
                    let truth = part.truth(table);
                    let mut part_possible = truth.unknown;
                    part_possible.union_with(&truth.yes);
                    yes.intersect_with(&truth.yes);
                    possible.intersect_with(&part_possible);
                    if possible.is_clear() {
                        break;
                    }
                }
                possible.difference_with(&yes);
                Truth { yes, unknown: possible }
            }
            Test::Or(parts) => {
                let (mut yes, mut unknown) = (none(), none());
                for part in parts {
                    let truth = part.truth(table);
                    yes.union_with(&truth.yes);
                    unknown.union_with(&truth.unknown);
                }
                unknown.difference_with(&yes);
                Truth { yes, unknown }
            }
            Test::Not(part) => {
                let truth = part.truth(table);
                let mut yes = filled();
                yes.difference_with(&truth.yes);
                yes.difference_with(&truth.unknown);
                Truth { yes, unknown: truth.unknown }
            }
            Test::Missing(field) => Truth { yes: table.missing(*field), unknown: none() },
            Test::Flag { field, value } => match table.column(*field) {
                Column::Boolean(v) => known(v, n, |x| x == *value),
                _ => unreachable!("compiled against the same schema"),
            },
            Test::Text { field, check } => match table.column(*field) {
                Column::Text(texts) => {
                    // Each distinct text is checked once.
                    let codes: Vec<bool> = texts.dictionary().map(|text| check.holds(text)).collect();
                    let rows = texts.codes();
                    let yes =
                        gather(rows.chunks(), n, |code| codes.get(code as usize).copied().unwrap_or(false));
                    Truth { yes, unknown: table.missing(*field) }
                }
                _ => unreachable!("compiled against the same schema"),
            },
            Test::Integer { field, low, high } => {
                let (low, high) = (*low, *high);
                self.integers(table, *field, |x| low <= x && x <= high)
            }
            Test::IntegerIn { field, values } => self.integers(table, *field, |x| values.contains(&x)),
            Test::Number { field, low, high } => match table.column(*field) {
                Column::Number(v) => known(v, n, |x| *low <= x && x <= *high),
                _ => unreachable!("compiled against the same schema"),
            },
            Test::NumberIn { field, values } => match table.column(*field) {
                // -0.0 and 0.0 are equal as numbers but not in total order, hence `==` last.
                Column::Number(v) => known(v, n, |x| {
                    let from = values.partition_point(|&y| y < x);
                    values.get(from).is_some_and(|&y| y == x)
                }),
                _ => unreachable!("compiled against the same schema"),
            },
            Test::Texts { field, test, values } => match table.column(*field) {
                Column::Texts(texts) => {
                    let wanted: Vec<Option<u32>> = values.iter().map(|v| texts.code(v)).collect();
                    let absent = wanted.iter().any(Option::is_none);
                    let wanted: HashSet<u32> = wanted.into_iter().flatten().collect();
                    let yes = gather(texts.lists().chunks(), n, |list: Option<std::sync::Arc<[u32]>>| {
                        list.is_some_and(|l| array(*test, &l, &wanted, absent))
                    });
                    Truth { yes, unknown: table.missing(*field) }
                }
                _ => unreachable!("compiled against the same schema"),
            },
            Test::Integers { field, test, values } => match table.column(*field) {
                Column::Integers(lists) => {
                    let yes = gather(lists.chunks(), n, |list: Option<std::sync::Arc<[i64]>>| {
                        list.is_some_and(|l| array(*test, &l, values, false))
                    });
                    Truth { yes, unknown: table.missing(*field) }
                }
                _ => unreachable!("compiled against the same schema"),
            },
        }
    }

    fn integers(&self, table: &Table, field: usize, holds: impl Fn(i64) -> bool) -> Truth {
        match table.column(field) {
            Column::Integer(v) | Column::Timestamp(v) | Column::Date(v) => known(v, table.len(), holds),
            _ => unreachable!("compiled against the same schema"),
        }
    }
}

/// `absent`: a wanted value occurs in no row at all.
fn array<T: Eq + std::hash::Hash>(test: ArrayTest, list: &[T], wanted: &HashSet<T>, absent: bool) -> bool {
    let contains = || !absent && wanted.iter().all(|w| list.contains(w));
    let contained = || list.iter().all(|x| wanted.contains(x));
    match test {
        ArrayTest::Contains => contains(),
        ArrayTest::ContainedBy => contained(),
        ArrayTest::Equals => contains() && contained(),
        ArrayTest::Overlaps => list.iter().any(|x| wanted.contains(x)),
    }
}

fn known<T: Clone + Copy>(values: &Values<T>, n: usize, holds: impl Fn(T) -> bool) -> Truth {
    let mut yes = gather(values.values().chunks(), n, holds);
    yes.difference_with(values.missing());
    let mut unknown = values.missing().clone();
    unknown.grow(n);
    Truth { yes, unknown }
}

/// One bit for each value, made a word at a time; chunks hold whole words.
fn gather<'a, T: Clone + 'a>(
    chunks: impl Iterator<Item = &'a [T]>,
    n: usize,
    holds: impl Fn(T) -> bool,
) -> FixedBitSet {
    const BITS: usize = usize::BITS as usize;
    let mut words = Vec::with_capacity(n.div_ceil(BITS));
    for chunk in chunks {
        for some in chunk.chunks(BITS) {
            let mut word = 0usize;
            for (i, value) in some.iter().enumerate() {
                word |= usize::from(holds(value.clone())) << i;
            }
            words.push(word);
        }
    }
    FixedBitSet::with_capacity_and_blocks(n, words)
}
