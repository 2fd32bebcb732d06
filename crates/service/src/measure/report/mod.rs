//! A measurement as a file: its rows as CSV or Parquet, all of it as JSON, or one page of HTML that needs no service.

mod advice;
mod comparison;
mod page;
mod save;
mod sweep;
mod target;

pub use save::save;
