//! Tables that registers look codes up in: sixteen bytes for each place of a code.

/// What codes look up is at most this, so that four such values fit a byte.
pub const MOST_LOOKED_UP: u8 = 63;

/// Bytes of the tables of so many places; see [`Kernels::look_up`].
pub fn tables_len(places: usize) -> usize {
    places.div_ceil(4) * 128
}

/// Puts the table of a place where registers look for it.
pub fn put_table(tables: &mut [u8], place: usize, table: [u8; 16]) {
    for copy in tables[table_at(place)..][..32].as_chunks_mut().0 {
        *copy = table;
    }
}

/// Where the table of a place begins; see [`super::Kernels::look_up`].
#[inline(always)]
pub(crate) const fn table_at(place: usize) -> usize {
    place / 4 * 128 + place % 2 * 64 + place / 2 % 2 * 32
}
