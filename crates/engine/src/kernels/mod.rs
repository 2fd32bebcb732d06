//! Distance kernels for f32 and for codes, chosen once for the CPU at hand. Only this folder holds unsafe code.
//!
//! The loops are in `generic`, the registers in `registers`; `arch` compiles the loops for each instruction set, and
//! `dispatch` chooses among them.

mod arch;
mod dispatch;
mod functions;
mod generic;
mod marks;
mod picked;
mod registers;
mod tables;

pub use dispatch::{Kernels, Level};
pub(crate) use marks::mark;
pub use tables::{MOST_LOOKED_UP, put_table, tables_len};
