//! Who asks, and what they may do.

pub mod audit;
pub mod believed;
mod check;
pub mod grant;
pub mod keys;
pub mod rates;
