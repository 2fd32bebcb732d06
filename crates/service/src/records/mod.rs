//! Records: checked, encoded, written, changed, read, counted and exported.

pub mod batch;
pub mod check;
pub mod edit;
pub mod encode;
pub mod export;
pub mod fields;
pub mod page;
pub mod patch;
pub mod references;
pub mod select;
pub mod stream;
pub mod template;
