//! Rows in order of a field: what a page of sorted records is cut from.

use crate::rows::columns::Column;
use crate::rows::table::Table;
use crate::schema::FieldType;
use fixedbitset::FixedBitSet;
use std::cmp::Ordering;

/// A sortable value of one row. Missing values come last, whichever way the others run.
#[derive(Clone, Debug, PartialEq)]
pub enum SortValue {
    Text(String),
    Integer(i64),
    Number(f64),
    Boolean(bool),
    Missing,
}

impl SortValue {
    pub fn order(&self, other: &SortValue, descending: bool) -> Ordering {
        use SortValue::{Boolean, Integer, Missing, Number, Text};
        let order = match (self, other) {
            (Missing, Missing) => return Ordering::Equal,
            (Missing, _) => return Ordering::Greater,
            (_, Missing) => return Ordering::Less,
            (Text(a), Text(b)) => a.cmp(b),
            (Integer(a), Integer(b)) => a.cmp(b),
            (Number(a), Number(b)) => a.total_cmp(b),
            (Boolean(a), Boolean(b)) => a.cmp(b),
            // Values of one column are of one kind; a cursor of another kind starts from the beginning.
            _ => Ordering::Greater,
        };
        if descending { order.reverse() } else { order }
    }
}

/// Whether rows can be put in order of a field.
pub fn sortable(kind: FieldType, stored_only: bool) -> bool {
    !stored_only && !matches!(kind, FieldType::Strings | FieldType::Integers)
}

/// The value by which a row is sorted.
pub fn value(table: &Table, field: usize, row: u32) -> SortValue {
    let found = match table.column(field) {
        Column::Text(t) => t.code_of(row).map(|code| SortValue::Text(t.text(code).into())),
        Column::Integer(v) | Column::Date(v) | Column::Timestamp(v) => v.get(row).map(SortValue::Integer),
        Column::Number(v) => v.get(row).map(SortValue::Number),
        Column::Boolean(v) => v.get(row).map(SortValue::Boolean),
        Column::Texts(_) | Column::Integers(_) | Column::Stored(_) => None,
    };
    found.unwrap_or(SortValue::Missing)
}

/// The first `limit` of `rows` in order of a field (none: as if missing everywhere), then of their keys,
/// after a place between rows.
pub fn first(
    table: &Table,
    rows: &FixedBitSet,
    field: Option<usize>,
    descending: bool,
    after: Option<(&SortValue, &str)>,
    limit: usize,
) -> Vec<u32> {
    let order =
        |a: (&SortValue, &str), b: (&SortValue, &str)| a.0.order(b.0, descending).then_with(|| a.1.cmp(b.1));
    let mut kept: Vec<(SortValue, &str, u32)> = Vec::with_capacity(limit * 2 + 1);
    let by = |a: &(SortValue, &str, u32), b: &(SortValue, &str, u32)| order((&a.0, a.1), (&b.0, b.1));
    for row in rows.ones() {
        let row = row as u32;
        let value = field.map_or(SortValue::Missing, |field| value(table, field, row));
        let key = table.key(row);
        if after.is_some_and(|after| order((&value, key), after).is_le()) {
            continue;
        }
        kept.push((value, key, row));
        // Twice as many as wanted are gathered before half of them go: no heap, a few passes.
        if kept.len() > limit * 2 {
            kept.select_nth_unstable_by(limit, by);
            kept.truncate(limit);
        }
    }
    kept.sort_by(by);
    kept.truncate(limit);
    kept.into_iter().map(|(_, _, row)| row).collect()
}
