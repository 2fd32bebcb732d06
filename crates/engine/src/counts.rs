//! What the values of a field look like: how many are there, which, how they spread. What people
//! look at before they write a filter.

use crate::rows::{Column, Table, Values};
use crate::schema::written;
use fixedbitset::FixedBitSet;
use serde::Serialize;
use std::collections::HashMap;
use std::hash::Hash;

/// The most bars of a histogram.
pub const BARS: usize = 20;

/// A value and how many records hold it.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct ValueCount {
    /// As in JSON; dates and timestamps as they are written.
    pub value: serde_json::Value,
    pub count: usize,
}

/// Equal-width bars from the lowest to the highest value.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Histogram {
    pub low: serde_json::Value,
    pub high: serde_json::Value,
    pub counts: Vec<usize>,
}

#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct FieldCounts {
    pub n_present: usize,
    pub n_missing: usize,
    /// Different values; of an array field, different items.
    pub n_distinct: usize,
    /// The most frequent values, most frequent first; equal counts in order of the value.
    pub values: Vec<ValueCount>,
    /// For numbers, dates and timestamps.
    pub histogram: Option<Histogram>,
}

/// Counts one field over `rows`; at most `limit` values are listed.
pub fn count(table: &Table, field: usize, rows: &FixedBitSet, limit: usize) -> FieldCounts {
    let n_rows = rows.count_ones(..);
    let kind = table.schema().fields[field].kind;
    let done = |n_present: usize, n_distinct: usize, values, histogram| FieldCounts {
        n_present,
        n_missing: n_rows - n_present,
        n_distinct,
        values,
        histogram,
    };
    match table.column(field) {
        Column::Stored(missing) => {
            done(rows.ones().filter(|r| !missing.contains(*r)).count(), 0, Vec::new(), None)
        }
        Column::Text(texts) => {
            let codes = rows.ones().filter_map(|r| texts.code_of(r as u32));
            let tally = tally(codes);
            let present = tally.values().sum();
            let n = tally.len();
            done(present, n, top(tally, limit, |c| texts.text(*c).into()), None)
        }
        Column::Texts(lists) => {
            let present = rows.ones().filter(|r| lists.list(*r as u32).is_some()).count();
            let items = rows.ones().filter_map(|r| lists.list(r as u32)).flat_map(|l| l.iter().copied());
            let tally = tally(items);
            let n = tally.len();
            done(present, n, top(tally, limit, |c| lists.text(*c).into()), None)
        }
        Column::Integers(lists) => {
            let list = |r: usize| lists.get(r as u32);
            let present = rows.ones().filter(|r| list(*r).is_some()).count();
            let tally = tally(rows.ones().filter_map(list).flat_map(|l| l.iter().copied()));
            let n = tally.len();
            done(present, n, top(tally, limit, |v| (*v).into()), None)
        }
        Column::Boolean(values) => {
            let tally = tally(present(values, rows));
            let n = tally.len();
            done(tally.values().sum(), n, top(tally, limit, |v| (*v).into()), None)
        }
        Column::Integer(values) | Column::Date(values) | Column::Timestamp(values) => {
            let present = || rows.ones().filter_map(|r| values.get(r as u32));
            let written = move |v: &i64| written(kind, *v);
            let ends = present().min().zip(present().max());
            let histogram = ends.map(|(low, high)| {
                // Every bar holds equally many whole numbers: others would rise and fall for nothing.
                let width = (high.abs_diff(low) / BARS as u64).saturating_add(1);
                let mut counts = vec![0; (high.abs_diff(low) / width) as usize + 1];
                present().for_each(|v| counts[(v.abs_diff(low) / width) as usize] += 1);
                Histogram { low: written(&low), high: written(&high), counts }
            });
            let tally = tally(present());
            let n = tally.len();
            done(tally.values().sum(), n, top(tally, limit, written), histogram)
        }
        Column::Number(values) => {
            let histogram = bars(present(values, rows)).map(|(low, high, counts)| Histogram {
                low: low.into(),
                high: high.into(),
                counts,
            });
            // Zero has two signs and is one value.
            let tally = tally(present(values, rows).map(|x| (x + 0.0).to_bits()));
            let n = tally.len();
            done(tally.values().sum(), n, top(tally, limit, |b| f64::from_bits(*b).into()), histogram)
        }
    }
}

fn present<T: Copy>(values: &Values<T>, rows: &FixedBitSet) -> impl Iterator<Item = T> {
    rows.ones().filter_map(|r| values.get(r as u32))
}

fn tally<T: Eq + Hash>(values: impl Iterator<Item = T>) -> HashMap<T, usize> {
    let mut tally = HashMap::new();
    values.for_each(|v| *tally.entry(v).or_default() += 1);
    tally
}

fn top<T>(tally: HashMap<T, usize>, limit: usize, show: impl Fn(&T) -> serde_json::Value) -> Vec<ValueCount> {
    let mut all: Vec<(T, usize)> = tally.into_iter().collect();
    if all.len() > limit && limit > 0 {
        all.select_nth_unstable_by(limit - 1, |a, b| b.1.cmp(&a.1));
        // Ties at the cut stay in, to be ordered by value below.
        let least = all[limit - 1].1;
        all.retain(|(_, n)| *n >= least);
    }
    let mut listed: Vec<ValueCount> =
        all.into_iter().map(|(v, count)| ValueCount { value: show(&v), count }).collect();
    listed.sort_by_cached_key(|v| (std::cmp::Reverse(v.count), v.value.to_string()));
    listed.truncate(limit);
    listed
}

/// Lowest, highest, and the counts of equal-width bars between; `None` without values.
fn bars(values: impl Iterator<Item = f64>) -> Option<(f64, f64, Vec<usize>)> {
    let values: Vec<f64> = values.collect();
    let low = values.iter().copied().reduce(f64::min)?;
    let high = values.iter().copied().reduce(f64::max)?;
    let mut counts = vec![0; BARS];
    for v in values {
        // Halves keep the difference of extreme values finite.
        let share = (v / 2.0 - low / 2.0) / (high / 2.0 - low / 2.0);
        let bar = if share.is_finite() { (share * BARS as f64) as usize } else { 0 };
        counts[bar.min(BARS - 1)] += 1;
    }
    Some((low, high, counts))
}
