//! The engine: indexes, searches, filters and tables, each against the slow and obvious answer.

mod filters;
mod identity;
mod indexes;
mod measuring;
mod naive;
mod points;
mod searching;
mod segments;
mod tables;
