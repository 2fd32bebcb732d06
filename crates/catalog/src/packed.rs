//! Neighbours as bytes: record numbers and ranks, little-endian.

pub(crate) fn packed(nearest: &[(u64, f32)]) -> Vec<u8> {
    nearest.iter().flat_map(|(n, rank)| n.to_le_bytes().into_iter().chain(rank.to_le_bytes())).collect()
}

pub(crate) fn unpacked(bytes: &[u8]) -> Vec<(u64, f32)> {
    let one = |b: &[u8; 12]| {
        let (number, rank) = b.split_at(8);
        (
            u64::from_le_bytes(number.try_into().expect("eight bytes")),
            f32::from_le_bytes(rank.try_into().expect("four bytes")),
        )
    };
    bytes.as_chunks::<12>().0.iter().map(one).collect()
}
