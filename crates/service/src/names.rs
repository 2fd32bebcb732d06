//! Names that people give to collections, columns, indexes, keys and encoders.

use crate::problem::{Kind, Problem, Result};

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
