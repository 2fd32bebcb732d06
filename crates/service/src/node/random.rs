//! Random names and secrets.

use std::fmt::Write;

/// Bytes in hexadecimal digits: twice as many characters.
pub fn hex(bytes: impl IntoIterator<Item = u8>) -> String {
    let bytes = bytes.into_iter();
    let empty = String::with_capacity(2 * bytes.size_hint().0);
    bytes.fold(empty, |mut out, byte| {
        let _ = write!(out, "{byte:02x}");
        out
    })
}

/// As many random bytes, in hexadecimal digits.
pub fn random_hex(bytes: usize) -> String {
    hex((0..bytes).map(|_| rand::random()))
}
