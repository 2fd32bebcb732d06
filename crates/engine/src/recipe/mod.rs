//! Recipes: the one-line description of an index.
//!
//! `stage | stage | ...`, read left to right; a stage is a word with optional arguments.
//!
//! | part | stages |
//! |---|---|
//! | prepare (any of them, once each) | `center`, `reduce(96)`, `rotate` |
//! | route (exactly one) | `scan`, `graph(links=16, build=200, layers=on, inline_codes=off)`, `cells(1024, router=scan, overlap=off)`, `cells(64x64)` |
//! | store (at most one; f32 when absent) | `f16`, `int8`, `pq(32)`, `pq(32, bits=4)`, `bits`, `bits(2)` |
//! | finish (optional) | `rescore(f32)`, `rescore(f16)`, `rescore(int8)` |
//!
//! Preparing is always done in the order center, reduce, rotate, whatever order they are written in. The JSON
//! form is [`Recipe`] as serde sees it; both forms pass the same checks.

mod check;
mod choose;
mod explain;
mod form;
mod parse;

pub use check::DataShape;
pub use choose::Wish;
pub use explain::{Expected, Explanation, StageNote};
pub use form::{CellsRecipe, CrossedRecipe, GraphRecipe, Prepare, Recipe, RecipeError, Route, Router, Store};
