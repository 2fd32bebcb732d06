//! Who asks, and what they may do.

pub mod audit;
mod check;
pub mod grant;
pub mod keys;
pub mod rates;
