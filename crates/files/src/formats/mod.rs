//! One file a format.

pub mod columnar;
pub mod csv;
pub mod delimited;
pub mod jsonlines;
pub mod matrix;
pub mod nesting;
