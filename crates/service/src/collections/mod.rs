//! The collections of this node: live in memory, kept equal to the database, changed and shown.

pub mod building;
pub mod change;
pub mod claims;
pub mod columns;
pub mod costs;
pub mod examine;
pub mod follow_indexes;
pub mod follower;
pub mod gauges;
pub mod index_files;
pub mod indexes;
pub mod lifecycle;
pub mod live;
pub mod loading;
pub mod reach;
pub mod recipes;
pub mod registry;
pub mod segment_state;
pub mod segments;
pub mod serving;
pub mod status;
pub mod upkeep;
pub mod view;
pub mod writer;
