//! Names that people give to collections, columns, indexes, keys and encoders.

use crate::problem::{Kind, Problem, Result};

/// Names in one list of a request.
pub const MOST_NAMES: usize = 1000;

/// Refuses lists that are longer than they may be, each with its pointer.
pub fn check_lists<const N: usize>(lists: [(&str, usize); N], most: usize) -> Result<()> {
    match lists.into_iter().find(|(_, n)| *n > most) {
        Some((pointer, n)) => Err(Problem::too_many("are given", n, most).at(pointer)),
        None => Ok(()),
    }
}

/// Names of collections, columns, indexes, keys and encoders: 1 to 64 of a-z, 0-9, `-` and `_`,
/// beginning with a letter.
pub fn check_name(what: &str, name: &str, pointer: &str) -> Result<()> {
    let good = (1..=64).contains(&name.len())
        && name.starts_with(|c: char| c.is_ascii_lowercase())
        && name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-' || c == '_');
    if good {
        return Ok(());
    }
    Err(Problem::new(
        Kind::InvalidName,
        format!("\"{name}\" cannot name a {what}: use 1 to 64 of a-z, 0-9, - and _, beginning with a letter"),
    )
    .at(pointer))
}
