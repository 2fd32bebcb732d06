//! Graphs: walked, with heads that tell which vectors to read, and with codes inline.

pub(crate) mod before;
pub(crate) mod heads;
pub(crate) mod inline_codes;
pub(crate) mod walk;
pub(crate) mod without;
