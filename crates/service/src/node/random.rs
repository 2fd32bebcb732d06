//! Random names and secrets.

use std::fmt::Write;

/// As many random bytes, in hexadecimal digits: twice as many characters.
pub fn random_hex(bytes: usize) -> String {
    let mut out = String::with_capacity(bytes * 2);
    for _ in 0..bytes {
        let _ = write!(out, "{:02x}", rand::random::<u8>());
    }
    out
}
