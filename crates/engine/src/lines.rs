//! Growing arrays that begin on a cache line and, where they are large, lie in large pages of memory.
//!
//! A walk reads rows at random, and with pages of 4 kB nearly each of them asks the page tables first: those of a
//! 20 MB index do not fit what the processor remembers of them. Pages of 2 MB do.

use bytemuck::Pod;
use memmap2::{Advice, MmapMut};
use std::fmt;

/// 64 bytes, aligned as a cache line.
#[derive(Clone, Copy, bytemuck::Pod, bytemuck::Zeroable)]
#[repr(C, align(64))]
struct Line([u8; LINE]);

const LINE: usize = 64;
/// Bytes of a large page, and of the smallest array that gets some.
pub(crate) const LARGE: usize = 2 << 20;

/// Words of 64 bits of a record that has so many, where it takes whole lines, or a part of one that no line's end cuts.
pub(crate) fn whole_lines(words: usize) -> usize {
    if words <= LINE / 8 { words.next_power_of_two() } else { words.next_multiple_of(LINE / 8) }
}

enum Room {
    Lines(Vec<Line>),
    Pages(MmapMut),
}

impl Room {
    /// Room for so many bytes.
    fn new(bytes: usize) -> Room {
        if bytes >= LARGE
            && let Ok(pages) = MmapMut::map_anon(bytes.next_multiple_of(LARGE))
        {
            // Systems without large pages keep small ones.
            let _ = pages.advise(Advice::HugePage);
            return Room::Pages(pages);
        }
        Room::Lines(Vec::with_capacity(bytes.div_ceil(LINE)))
    }

    /// Bytes that there is room for.
    fn capacity(&self) -> usize {
        match self {
            Room::Lines(lines) => lines.capacity() * LINE,
            Room::Pages(pages) => pages.len(),
        }
    }

    /// Makes the first bytes, which there is room for, ones to be written. Lines are not made before they are needed,
    /// because a line that was just made is still near.
    fn use_first(&mut self, bytes: usize) {
        if let Room::Lines(lines) = self {
            let n = bytes.div_ceil(LINE);
            if n > lines.len() {
                lines.resize(n, Line([0; LINE]));
            }
        }
    }

    fn bytes(&self) -> &[u8] {
        match self {
            Room::Lines(lines) => bytemuck::cast_slice(lines),
            Room::Pages(pages) => pages,
        }
    }

    fn bytes_mut(&mut self) -> &mut [u8] {
        match self {
            Room::Lines(lines) => bytemuck::cast_slice_mut(lines),
            Room::Pages(pages) => pages,
        }
    }
}

/// A growing array that starts on a cache line.
pub struct Aligned<T> {
    room: Room,
    len: usize,
    of: std::marker::PhantomData<T>,
}

impl<T: Pod> Aligned<T> {
    pub fn with_capacity(len: usize) -> Self {
        const { assert!(LINE.is_multiple_of(size_of::<T>())) };
        Aligned { room: Room::new(len * size_of::<T>()), len: 0, of: Default::default() }
    }

    /// Parts one after the other.
    pub fn of_parts<'a>(parts: impl IntoIterator<Item = &'a [T], IntoIter: Clone>) -> Self {
        let parts = parts.into_iter();
        let mut all = Self::with_capacity(parts.clone().map(<[T]>::len).sum());
        parts.for_each(|part| all.extend(part));
        all
    }

    /// Values that there is room for.
    pub fn capacity(&self) -> usize {
        self.room.capacity() / size_of::<T>()
    }

    /// Makes room for `len` values in all, and no more.
    pub fn reserve_to(&mut self, len: usize) {
        if len > self.capacity() {
            let mut room = Room::new(len * size_of::<T>());
            let used: &[u8] = bytemuck::cast_slice(self.as_slice());
            room.use_first(used.len());
            room.bytes_mut()[..used.len()].copy_from_slice(used);
            self.room = room;
        }
    }

    pub fn extend(&mut self, values: &[T]) {
        let end = self.len + values.len();
        if end > self.capacity() {
            self.reserve_to(end.max(2 * self.capacity()));
        }
        self.room.use_first(end * size_of::<T>());
        self.len = end;
        self.set(end - values.len(), values);
    }

    /// Replaces values that are there.
    pub fn set(&mut self, at: usize, values: &[T]) {
        let len = self.len;
        bytemuck::cast_slice_mut(self.room.bytes_mut())[..len][at..at + values.len()].copy_from_slice(values);
    }

    #[inline]
    pub fn as_slice(&self) -> &[T] {
        &bytemuck::cast_slice(self.room.bytes())[..self.len]
    }
}

impl<T: Pod> Clone for Aligned<T> {
    fn clone(&self) -> Self {
        Aligned::of_parts([self.as_slice()])
    }
}

impl<T: Pod> Default for Aligned<T> {
    fn default() -> Self {
        Aligned::with_capacity(0)
    }
}

impl<T: Pod + fmt::Debug> fmt::Debug for Aligned<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.as_slice().fmt(f)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn arrays_grow_from_lines_into_pages_and_keep_what_they_hold() {
        let mut all = Aligned::<u32>::default();
        let values: Vec<u32> = (0..1000).collect();
        let mut rooms = [0, 0];
        for _ in 0..1500 {
            all.extend(&values);
            rooms[usize::from(matches!(all.room, Room::Pages(_)))] += 1;
            assert_eq!(all.as_slice().as_ptr().addr() % LINE, 0);
        }
        assert!(rooms[0] > 100 && rooms[1] > 100, "{rooms:?}");
        assert!(all.as_slice().chunks(1000).all(|some| some == values));
        let before = all.clone();
        all.set(1_499_999, &[7]);
        assert_eq!(
            (before.as_slice()[1_499_999], all.as_slice()[1_499_999], all.as_slice().len()),
            (999, 7, 1_500_000)
        );
    }

    #[test]
    fn bytes_need_not_fill_a_line() {
        let all = Aligned::of_parts([&[1u8, 2][..], &[], &[3]]);
        assert_eq!((all.as_slice(), all.capacity()), (&[1, 2, 3][..], LINE));
        assert!(Aligned::<i8>::default().as_slice().is_empty());
    }
}
