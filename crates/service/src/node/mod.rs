//! What a process has: its data folder, threads, lanes, jobs, turns, encoders and uploads. Nothing here knows a collection.

mod awake;
pub mod computers;
pub mod database;
pub mod encoders;
pub mod folder;
pub mod hosts;
pub mod jobs;
pub mod lanes;
pub mod memory;
pub mod metrics;
pub mod pulse;
pub mod random;
pub mod threads;
pub mod trace;
pub mod turns;
pub mod uploads;
mod way;
