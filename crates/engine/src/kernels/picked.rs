//! Rows picked by number: what is computed for each, and which of them are called into the caches meanwhile.

#![allow(unsafe_code)]

use crate::kernels::generic::Lanes;

/// Something computed for rows picked by number, `width` elements each. Rows come from anywhere in memory: the
/// second-level cache takes many more misses at once than the first, so rows are called there a few ahead, and into
/// the first while the one before is computed.
#[inline(always)]
pub(super) unsafe fn each<V: Lanes, E, R>(
    rows: &[E],
    width: usize,
    picks: &[u32],
    out: &mut [R],
    compute: impl Fn(*const E) -> R,
) {
    unsafe { together::<V, E, R, 1>(rows, width, picks, out, |[row]| [compute(row)]) }
}

/// The same, computed for so many rows at once.
#[inline(always)]
pub(super) unsafe fn together<V: Lanes, E, R, const N: usize>(
    rows: &[E],
    width: usize,
    picks: &[u32],
    out: &mut [R],
    compute: impl Fn([*const E; N]) -> [R; N],
) {
    let bytes = width * size_of::<E>();
    // As many rows as keep the lines between memory and the caches busy.
    let ahead = (6144 / bytes.max(1)).clamp(4, 16);
    let soon = (1024 / bytes.max(1)).clamp(1, 4);
    unsafe {
        let start = |pick: u32| rows.as_ptr().add(pick as usize * width).cast::<u8>();
        if let ([pick], [value]) = (picks, &mut *out) {
            compute([start(*pick).cast(); N]).into_iter().take(1).for_each(|found| *value = found);
            return;
        }
        // From the line that a row begins in to the one it ends in.
        let whole = rows.as_ptr().addr().is_multiple_of(64) && bytes.is_multiple_of(64);
        if whole && bytes <= 64 * FEW_LINES {
            return few_lines::<V, E, R, N>(rows, width, picks, out, compute);
        }
        let lines = |pick: u32| {
            let start = start(pick);
            let (within, n) = match start.addr() % 64 {
                _ if whole => (0, bytes / 64),
                within => (within, (within + bytes).div_ceil(64)),
            };
            (0..n).map(move |line| start.wrapping_sub(within).wrapping_add(64 * line))
        };
        let far = |i: usize| {
            if let Some(&pick) = picks.get(i) {
                lines(pick).for_each(|line| V::prefetch_far(line));
            }
        };
        let near = |i: usize| {
            if let Some(&pick) = picks.get(i) {
                lines(pick).for_each(|line| V::prefetch(line));
            }
        };
        (0..ahead).for_each(far);
        (1..soon).for_each(near);
        for (i, out) in out.chunks_mut(N).enumerate() {
            for i in i * N..(i + 1) * N {
                far(i + ahead);
                near(i + soon);
            }
            // Behind the last row it comes again.
            let mut some = [std::ptr::null(); N];
            for (at, row) in some.iter_mut().enumerate() {
                *row = start(picks[(i * N + at).min(picks.len() - 1)]).cast();
            }
            for (value, found) in out.iter_mut().zip(compute(some)) {
                *value = found;
            }
        }
    }
}

/// Rows of so many whole lines are so soon computed that to say which lines come next takes as long, if it is not told
/// in as few words.
const FEW_LINES: usize = 4;

/// [`together`] where each row is a few whole lines.
#[inline(always)]
unsafe fn few_lines<V: Lanes, E, R, const N: usize>(
    rows: &[E],
    width: usize,
    picks: &[u32],
    out: &mut [R],
    compute: impl Fn([*const E; N]) -> [R; N],
) {
    let lines = width * size_of::<E>() / 64;
    // SAFETY: every pick was checked, and rows are whole lines.
    unsafe {
        let start = |pick: u32| rows.as_ptr().add(pick as usize * width);
        let call = |pick: u32| {
            let start = start(pick).cast::<u8>();
            V::prefetch(start);
            (1..lines).for_each(|line| V::prefetch(start.add(64 * line)));
        };
        let ahead = 16 / lines / N * N;
        let (groups, rest) = picks.as_chunks::<N>();
        let (outs, rest_out) = out.as_chunks_mut::<N>();
        picks[..ahead.min(picks.len())].iter().for_each(|pick| call(*pick));
        for (i, (group, out)) in groups.iter().zip(outs).enumerate() {
            if let Some(soon) = groups.get(i + ahead / N) {
                soon.iter().for_each(|pick| call(*pick));
            }
            *out = compute(group.map(start));
        }
        if let Some(last) = rest.last() {
            rest.iter().for_each(|pick| call(*pick));
            // Behind the last row it comes again.
            let found = compute(std::array::from_fn(|at| start(*rest.get(at).unwrap_or(last))));
            rest_out.iter_mut().zip(found).for_each(|(value, found)| *value = found);
        }
    }
}
