//! Who asks, and what they may do.

pub mod grant;
pub mod keys;
