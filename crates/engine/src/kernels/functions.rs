//! The table of functions that are compiled for each instruction set.

pub(super) type Pair = unsafe fn(*const f32, *const f32, usize) -> f32;

pub(super) type Rows = unsafe fn(&[f32], &[f32], &mut [f32]);

/// One query against rows of `E` picked by number.
pub(super) type Picked<E> = unsafe fn(&[f32], &[E], &[u32], &mut [f32]);

pub(super) type BytesPicked = unsafe fn(&[i16], &[i8], &[u32], &mut [i32]);

pub(super) type BitsPicked = unsafe fn(&[u8], &[u64], (usize, usize, usize), &[u32], (f32, f32), &mut [f32]);

pub(super) type Link = [f32; 32];

pub(super) type Estimate = unsafe fn(&[u8], &[u8], &[u32; 32], [f32; 4], &[u8], &mut Link) -> u32;

pub(super) type Pick = unsafe fn(u32, &Link, &[u32; 32], (&mut Link, &mut [u32; 32])) -> usize;

pub(super) type Mark<T> = unsafe fn(&[T], T, T, &mut Vec<usize>);

/// Rows, and words of a set.
pub(super) type Members = unsafe fn(&[u32], &[usize], usize) -> u32;

/// Rows, words of a set, how many rows that is of, the number of the first row, and where to.
pub(super) type Select = unsafe fn(&[u32], &[usize], usize, u32, &mut [u32]) -> usize;

pub(super) type Block = unsafe fn(&[f32], &[f32], usize, &mut [f32]);

#[derive(Clone, Copy)]
pub(crate) struct Functions {
    pub(super) dot: Pair,
    pub(super) euclid: Pair,
    pub(super) dot_rows: Rows,
    pub(super) euclid_rows: Rows,
    pub(super) dot_picked: Picked<f32>,
    pub(super) euclid_picked: Picked<f32>,
    pub(super) half_dot: Picked<u16>,
    pub(super) half_euclid: Picked<u16>,
    pub(super) byte_dot: BytesPicked,
    pub(super) byte_pair: unsafe fn(*const i8, *const i8, usize) -> i32,
    pub(super) rank_bits: BitsPicked,
    pub(super) look_up: unsafe fn(&[u8], &[u8], &mut [u32; 32]),
    pub(super) estimate: Estimate,
    pub(super) pick: Pick,
    pub(super) members: Members,
    pub(super) select: Select,
    pub(super) below: unsafe fn(&Link, f32) -> u32,
    pub(super) limit: unsafe fn(&[f32], usize, usize) -> (f32, usize),
    pub(super) keep_below: unsafe fn(&mut [f32], &mut [u32], f32) -> usize,
    pub(super) columns: Rows,
    pub(super) dot_block: Block,
    pub(super) euclid_block: Block,
    pub(super) read: unsafe fn(&[f32]) -> f32,
    pub(super) mark_bytes: Mark<u8>,
    pub(super) mark_shorts: Mark<u16>,
    pub(super) mark_words: Mark<u32>,
    pub(super) mark_longs: Mark<i64>,
    pub(super) mark_reals: Mark<f64>,
    pub(super) mix: unsafe fn(&mut [f32], &[f32]),
    pub(super) sign_tables: unsafe fn(&[f32], f32, &mut [u8]),
    pub(super) magnitudes: unsafe fn(&[f32]) -> (f32, f32),
    pub(super) shorts: unsafe fn(&[f32], f32, &mut [i16]),
    pub(super) bytes: unsafe fn(&[f32], f32, &mut [u8]) -> i32,
}
