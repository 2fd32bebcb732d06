//! What a process has: its data folder, threads, jobs, turns, encoders and uploads. Nothing here knows a collection.

pub mod database;
pub mod encoders;
pub mod folder;
pub mod jobs;
pub mod memory;
pub mod random;
pub mod threads;
pub mod turns;
pub mod uploads;
