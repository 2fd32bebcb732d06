//! Exit codes that scripts can trust. 2 is clap's: the command line itself is wrong.

pub const FAILED: u8 = 1;
pub const NOTHING_FOUND: u8 = 3;
/// A target that the index cannot reach.
pub const NOT_REACHED: u8 = 3;
/// Not reachable, or the key was refused.
pub const NO_SERVICE: u8 = 4;
