//! Files of records and vectors.

mod exporting;
mod inspecting;
mod reading;
mod samples;
