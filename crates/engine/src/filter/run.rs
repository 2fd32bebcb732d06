//! A compiled filter over the field columns of a table: which rows it allows.

use super::compile::{Operand, Test, TextCheck};
use super::formula::{Formula, Number};
use super::like::Fold;
use super::time::whole_day;
use super::tree::{ArrayTest, Comparison};
use crate::kernels::{Kernels, mark};
use crate::rows::{Column, Integers, Table, TextLists, Texts, Values};
use fixedbitset::FixedBitSet;
use std::borrow::Cow;
use std::collections::HashSet;
use std::hash::Hash;

/// Ranges that are compared one after the other; more values are looked up for each row.
const FEW: usize = 4;

/// Rows for which a filter is true, and rows for which it is unknown; it is false for the rest.
struct Truth {
    yes: FixedBitSet,
    unknown: FixedBitSet,
}

fn filled(n: usize) -> FixedBitSet {
    let mut all = FixedBitSet::with_capacity(n);
    all.insert_range(..);
    all
}

impl Test {
    /// The rows of `table` that are alive and for which the filter is true.
    pub fn run(&self, table: &Table) -> FixedBitSet {
        let mut yes = self.yes(table);
        table.alive().keep_in(&mut yes);
        yes
    }

    /// The rows for which the filter is true. Which of the others are unknown matters only below a NOT.
    fn yes(&self, table: &Table) -> FixedBitSet {
        match self {
            Test::And(parts) => {
                let Some((first, rest)) = parts.split_first() else { return filled(table.len()) };
                let mut yes = first.yes(table);
                for part in rest {
                    if yes.is_clear() {
                        break;
                    }
                    yes.intersect_with(&part.yes(table));
                }
                yes
            }
            Test::Or(parts) => {
                let mut yes = FixedBitSet::with_capacity(table.len());
                parts.iter().for_each(|part| yes.union_with(&part.yes(table)));
                yes
            }
            _ => self.of_field(table).map_or_else(|| self.truth(table).yes, |(_, yes)| yes),
        }
    }

    /// The rows for which a test of one field is true, and the field; the test is unknown where that is missing.
    fn of_field(&self, table: &Table) -> Option<(usize, FixedBitSet)> {
        let n = table.len();
        let (field, mut yes, missing) = match self {
            // No text's code stands for a missing one.
            Test::Text { field, fold, check } => {
                return Some((*field, rows_with(texts(table, *field), *fold, check)));
            }
            Test::Flag { field, value } => match table.column(*field) {
                Column::Boolean(v) => {
                    let yes = marked(v, n, |some, words| mark(some, |x| x == *value, words));
                    (*field, yes, v.missing())
                }
                _ => unreachable!("compiled against the same schema"),
            },
            Test::Integer { field, low, high } => {
                let v = integers(table, *field);
                (*field, v.values().between(*low, *high), v.missing())
            }
            Test::IntegerIn { field, values: wanted } => {
                let v = integers(table, *field);
                let yes = match few_ranges(wanted) {
                    Some(ranges) => v.values().within(&ranges),
                    None => v.values().rows_where(|x| wanted.binary_search(&x).is_ok()),
                };
                (*field, yes, v.missing())
            }
            Test::Real { field, low, high } => {
                let (v, kernels) = (reals(table, *field), Kernels::best());
                let yes = marked(v, n, |some, words| kernels.mark(some, *low, *high, words));
                (*field, yes, v.missing())
            }
            Test::RealIn { field, values } => {
                // -0.0 and 0.0 are equal as numbers but not in total order, hence `==` last.
                let is_one = |x| {
                    let from = values.partition_point(|&y| y < x);
                    values.get(from).is_some_and(|&y| y == x)
                };
                let v = reals(table, *field);
                (*field, marked(v, n, |some, words| mark(some, is_one, words)), v.missing())
            }
            Test::Time(relation, a, b) => {
                // The usual case, a field against a constant, needs one column only.
                let (field, b) = (a.of_one_field()?, b.at(|_| None)?);
                let holds = |v: i64| a.at(|_| Some(v)).is_some_and(|a| relation.holds(a, b));
                let v = integers(table, field);
                (field, v.values().rows_where(holds), v.missing())
            }
            _ => return None,
        };
        missing.take_from(&mut yes);
        Some((field, yes))
    }

    // Long because: one arm a kind of test.
    fn truth(&self, table: &Table) -> Truth {
        if let Some((field, yes)) = self.of_field(table) {
            return Truth { yes, unknown: table.missing(field) };
        }
        let n = table.len();
        let none = || FixedBitSet::with_capacity(n);
        match self {
            Test::Constant(true) => Truth { yes: filled(n), unknown: none() },
            Test::Constant(false) => Truth { yes: none(), unknown: none() },
            Test::And(parts) => {
                let Some((first, rest)) = parts.split_first() else {
                    return Truth { yes: filled(n), unknown: none() };
                };
                let Truth { mut yes, unknown: mut possible } = first.truth(table);
                possible.union_with(&yes);
                for part in rest {
                    if possible.is_clear() {
                        break;
                    }
                    let Truth { yes: part_yes, unknown: mut part_possible } = part.truth(table);
                    part_possible.union_with(&part_yes);
                    yes.intersect_with(&part_yes);
                    possible.intersect_with(&part_possible);
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
                let mut yes = filled(n);
                yes.difference_with(&truth.yes);
                yes.difference_with(&truth.unknown);
                Truth { yes, unknown: truth.unknown }
            }
            Test::Missing(field) => Truth { yes: table.missing(*field), unknown: none() },
            Test::Texts { field, test, values } => {
                let lists = text_lists(table, *field);
                let wanted: Vec<Option<u32>> = values.iter().map(|v| lists.code(v)).collect();
                let absent = wanted.iter().any(Option::is_none);
                let wanted: HashSet<u32> = wanted.into_iter().flatten().collect();
                by_row(n, |row| Some(array(*test, lists.list(row)?, &wanted, absent)))
            }
            Test::Integers { field, test, values } => match table.column(*field) {
                Column::Integers(lists) => {
                    by_row(n, |row| Some(array(*test, lists.get(row)?, values, false)))
                }
                _ => unreachable!("compiled against the same schema"),
            },
            Test::Arrays(test, a, b) => match (table.column(*a), table.column(*b)) {
                (Column::Integers(a), Column::Integers(b)) => by_row(n, |row| {
                    Some(array(*test, a.get(row)?, &b.get(row)?.iter().copied().collect(), false))
                }),
                _ => {
                    let (a, b) = (text_lists(table, *a), text_lists(table, *b));
                    by_row(n, |row| {
                        let list: Vec<&str> = a.list(row)?.iter().map(|c| a.text(*c)).collect();
                        Some(array(*test, &list, &b.list(row)?.iter().map(|c| b.text(*c)).collect(), false))
                    })
                }
            },
            Test::Compare(a, comparison, b) => compare(table, a, *comparison, b),
            Test::Time(relation, a, b) => {
                let of = |row: u32| move |field: usize| integers(table, field).get(row);
                by_row(n, |row| Some(relation.holds(a.at(of(row))?, b.at(of(row))?)))
            }
            Test::Flag { .. }
            | Test::Text { .. }
            | Test::Integer { .. }
            | Test::IntegerIn { .. }
            | Test::Real { .. }
            | Test::RealIn { .. } => unreachable!("tests of one field"),
        }
    }
}

fn integers(table: &Table, field: usize) -> &Integers {
    match table.column(field) {
        Column::Integer(v) | Column::Timestamp(v) | Column::Date(v) => v,
        _ => unreachable!("compiled against the same schema"),
    }
}

fn reals(table: &Table, field: usize) -> &Values<f64> {
    match table.column(field) {
        Column::Number(v) => v,
        _ => unreachable!("compiled against the same schema"),
    }
}

fn texts(table: &Table, field: usize) -> &Texts {
    match table.column(field) {
        Column::Text(texts) => texts,
        _ => unreachable!("compiled against the same schema"),
    }
}

fn text_lists(table: &Table, field: usize) -> &TextLists {
    match table.column(field) {
        Column::Texts(lists) => lists,
        _ => unreachable!("compiled against the same schema"),
    }
}

/// Values in ascending order as ranges of values that follow each other, where there are few of them.
fn few_ranges(values: &[i64]) -> Option<Vec<(i64, i64)>> {
    let runs = values.chunk_by(|a, b| a.checked_add(1) == Some(*b)).take(FEW + 1);
    let ranges: Vec<(i64, i64)> = runs.map(|run| (run[0], run[run.len() - 1])).collect();
    (ranges.len() <= FEW).then_some(ranges)
}

/// Rows whose text passes; each distinct text is compared once.
fn rows_with(texts: &Texts, fold: Fold, check: &TextCheck) -> FixedBitSet {
    let code = |text: &String| texts.code(text).map(i64::from);
    let mut wanted: Vec<i64> = match check {
        TextCheck::Compare(Comparison::Equal, text) if fold.is_none() => code(text).into_iter().collect(),
        TextCheck::OneOf(texts) if fold.is_none() => texts.iter().filter_map(code).collect(),
        _ => {
            let checked = texts.dictionary().enumerate().filter(|(_, text)| check.holds(&fold.of(text)));
            checked.map(|(code, _)| code as i64).collect()
        }
    };
    wanted.sort_unstable();
    if let Some(ranges) = few_ranges(&wanted) {
        return texts.codes().within(&ranges);
    }
    let mut passes = vec![false; texts.n_distinct()];
    wanted.iter().for_each(|code| passes[*code as usize] = true);
    texts.codes().rows_where(|code| usize::try_from(code).is_ok_and(|code| passes[code]))
}

/// What a text is compared as, for each distinct text.
fn folded(texts: &Texts, fold: Fold) -> Vec<Cow<'_, str>> {
    texts.dictionary().map(|text| fold.of(text)).collect()
}

fn compare(table: &Table, a: &Operand, comparison: Comparison, b: &Operand) -> Truth {
    let n = table.len();
    match (a, b) {
        (Operand::Number(a), Operand::Number(b)) => by_row(n, |row| {
            let of = |part: &Formula| number(table, part, row);
            Some(comparison.holds(a.at(&of)?.order(b.at(&of)?)))
        }),
        (Operand::Text { field: a, fold: fold_a }, Operand::Text { field: b, fold: fold_b }) => {
            let (a, b) = (texts(table, *a), texts(table, *b));
            let (of_a, of_b) = (folded(a, *fold_a), folded(b, *fold_b));
            by_row(n, |row| {
                let (a, b) = (a.code_of(row)?, b.code_of(row)?);
                Some(comparison.holds(of_a[a as usize].cmp(&of_b[b as usize])))
            })
        }
        (Operand::Flag(a), Operand::Flag(b)) => match (table.column(*a), table.column(*b)) {
            (Column::Boolean(a), Column::Boolean(b)) => {
                by_row(n, |row| Some(comparison.holds(a.get(row)?.cmp(&b.get(row)?))))
            }
            _ => unreachable!("compiled against the same schema"),
        },
        (
            Operand::Moment { field: a, is_date: a_is_date },
            Operand::Moment { field: b, is_date: b_is_date },
        ) => {
            let of = |field: usize, is_date: bool, row: u32| {
                let value = integers(table, field).get(row)?;
                Some(if is_date { whole_day(value, false) } else { value })
            };
            by_row(n, |row| Some(comparison.holds(of(*a, *a_is_date, row)?.cmp(&of(*b, *b_is_date, row)?))))
        }
        _ => unreachable!("compiled so that both sides are alike"),
    }
}

fn number(table: &Table, part: &Formula, row: u32) -> Option<Number> {
    match part {
        Formula::Field(field) => match table.column(*field) {
            Column::Integer(v) => v.get(row).map(Number::Integer),
            Column::Number(v) => v.get(row).map(Number::Real),
            _ => unreachable!("compiled against the same schema"),
        },
        Formula::Length(field) => {
            let n = match table.column(*field) {
                Column::Text(texts) => texts.text(texts.code_of(row)?).chars().count(),
                Column::Texts(lists) => lists.list(row)?.len(),
                Column::Integers(lists) => lists.get(row)?.len(),
                _ => unreachable!("compiled against the same schema"),
            };
            Some(Number::Integer(n as i64))
        }
        Formula::Constant(_) | Formula::Apply(..) => unreachable!("computed by the formula itself"),
    }
}

/// `absent`: a wanted value occurs in no row at all.
fn array<T: Eq + Hash>(test: ArrayTest, list: &[T], wanted: &HashSet<T>, absent: bool) -> bool {
    let contains = || !absent && wanted.len() <= list.len() && wanted.iter().all(|w| list.contains(w));
    let contained = || list.iter().all(|x| wanted.contains(x));
    match test {
        ArrayTest::Contains => contains(),
        ArrayTest::ContainedBy => contained(),
        ArrayTest::Equals => contains() && contained(),
        ArrayTest::Overlaps => list.iter().any(|x| wanted.contains(x)),
    }
}

/// Rows of which something is true, false, or unknown.
fn by_row(n: usize, holds: impl Fn(u32) -> Option<bool>) -> Truth {
    let (mut yes, mut unknown) = (FixedBitSet::with_capacity(n), FixedBitSet::with_capacity(n));
    for row in 0..n {
        match holds(row as u32) {
            Some(true) => yes.insert(row),
            Some(false) => {}
            None => unknown.insert(row),
        }
    }
    Truth { yes, unknown }
}

/// Rows that are marked chunk by chunk, missing ones perhaps among them.
fn marked<T: Clone + Default>(
    values: &Values<T>,
    n: usize,
    by_chunk: impl Fn(&[T], &mut Vec<usize>),
) -> FixedBitSet {
    let mut words = Vec::with_capacity(n.div_ceil(usize::BITS as usize));
    values.values().chunks().for_each(|chunk| by_chunk(chunk, &mut words));
    FixedBitSet::with_capacity_and_blocks(n, words)
}
