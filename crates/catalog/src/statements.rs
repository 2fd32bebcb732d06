//! INSERTs of many rows.

use crate::changes::STEP;
use futures::future::BoxFuture;

/// Who goes before a write that nobody waits for. The database may share its cores with them, and knows nothing of them.
pub trait Way: Send + Sync {
    /// Whether they came lately.
    fn is_taken(&self) -> bool;
    /// Waits for a moment in which none of them is there, but not for ever.
    fn free(&self) -> BoxFuture<'_, ()>;
}

/// Records in a statement while others go first: it takes the database about a millisecond.
pub(crate) const FEW: usize = 50;

/// How many rows a statement takes at most, where `few` take the database about a millisecond.
pub(crate) fn at_a_time(way: Option<&dyn Way>, few: usize) -> usize {
    if way.is_some_and(Way::is_taken) { few } else { STEP }
}

/// Waits until the next statement may be sent.
pub(crate) async fn free(way: Option<&dyn Way>) {
    if let Some(way) = way {
        way.free().await;
    }
}

/// Cuts a list into parts that fit one statement, by count and by bytes.
pub(crate) fn in_statements<T>(
    all: &[T],
    most: usize,
    limit: usize,
    bytes: impl Fn(&T) -> usize,
) -> Vec<&[T]> {
    let (mut parts, mut from, mut held) = (Vec::new(), 0, 0);
    for (i, one) in all.iter().enumerate() {
        // Beside the bytes themselves, each row has its numbers and lengths.
        let bytes = bytes(one) + 64;
        if i > from && (held + bytes > limit || i - from == most) {
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
