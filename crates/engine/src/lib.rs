//! The computation behind Zesty Lantern: distances, exact scans, graphs, filters, recall.
//!
//! Nothing here knows HTTP, SQL or async. The story of a search, in the order of the modules:
//! [`recipe`] says what to build, [`index`] builds and walks it, [`schema`] and [`table`] hold the
//! live rows, [`filter`] turns text into a set of rows, [`search`] plans and runs, and [`measure`]
//! tells how much of the truth came back.

pub mod bits;
pub mod chunked;
pub mod counts;
pub mod filter;
pub mod index;
pub mod kernels;
pub mod limit;
pub mod lines;
pub mod measure;
pub mod metric;
pub mod names;
pub mod order;
pub mod packed;
pub mod recipe;
pub mod scan;
pub mod schema;
pub mod search;
pub mod table;

pub use metric::Metric;
pub use recipe::Recipe;
pub use schema::Schema;
pub use table::Table;
