/// The version of the format of index files.
pub const FORMAT_VERSION: u32 = 16;
