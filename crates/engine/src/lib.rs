//! The computation behind Zesty Lantern: distances, exact scans, graphs, filters, recall.
//!
//! Nothing here knows HTTP, SQL or async. The story of a search, in the order of the modules:
//! [`recipe`] says what to build, [`index`] builds and walks it, [`schema`] and [`rows`] hold the
//! live rows, [`filter`] turns text into a set of rows, [`search`] plans and runs, and [`measure`]
//! tells how much of the truth came back.

pub mod counts;
pub mod filter;
pub mod index;
pub mod kernels;
pub mod large_pages;
pub mod limit;
pub mod lines;
pub mod measure;
pub mod metric;
pub mod names;
pub mod recipe;
pub mod rows;
pub mod scan;
pub mod schema;
pub mod search;
mod tensors;
pub mod until;

pub use metric::Metric;
pub use recipe::Recipe;
pub use rows::Table;
pub use schema::Schema;
