//! What each command does, a file a family.

pub mod advise;
pub mod collections;
pub mod columns;
pub mod compare;
pub mod connect;
pub mod export;
pub mod indexes;
pub mod inspect;
pub mod jobs;
pub mod keys;
pub mod lens;
pub mod load;
pub mod map;
pub mod partial;
pub mod queries;
pub mod records;
pub mod saved;
pub mod search;
pub mod service;
pub mod sweeps;
pub mod targets;
pub mod watch;
