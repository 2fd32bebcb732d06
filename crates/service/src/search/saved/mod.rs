//! Saved searches: read ([`template`]), given values ([`values`]), kept, shown and asked ([`cases`]).

pub mod cases;
pub mod template;
pub mod values;
