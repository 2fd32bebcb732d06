//! INSERTs of many rows.

use crate::changes::STEP;

/// Cuts a list into parts that fit one statement, by count and by bytes.
pub(crate) fn in_statements<T>(all: &[T], limit: usize, bytes: impl Fn(&T) -> usize) -> Vec<&[T]> {
    let (mut parts, mut from, mut held) = (Vec::new(), 0, 0);
    for (i, one) in all.iter().enumerate() {
        // Beside the bytes themselves, each row has its numbers and lengths.
        let bytes = bytes(one) + 64;
        if i > from && (held + bytes > limit || i - from == STEP) {
            parts.push(&all[from..i]);
            (from, held) = (i, 0);
        }
        held += bytes;
    }
    if from < all.len() {
        parts.push(&all[from..]);
    }
    parts
}

/// The placeholders of so many rows in an INSERT. It is written here, because a query builder copies every value.
pub(crate) fn placeholders<const COLUMNS: usize>(rows: usize) -> String {
    let row = format!("({})", ["?"; COLUMNS].join(", "));
    vec![row; rows].join(", ")
}
