//! The registers of each instruction set.

#[cfg(target_arch = "x86_64")]
mod marks;
#[cfg(target_arch = "aarch64")]
pub(in crate::kernels) mod neon;
pub(in crate::kernels) mod plain;
#[cfg(target_arch = "x86_64")]
pub(in crate::kernels) mod vnni;
#[cfg(target_arch = "x86_64")]
pub(in crate::kernels) mod x86;
