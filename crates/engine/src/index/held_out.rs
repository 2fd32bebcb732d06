//! Records that are inserted into a graph last, so that it can be searched as if they never had been.
//!
//! A record that is a node of a graph leads a walk to itself, and from there to its own neighbours, which are the answer:
//! a graph answers its own records better than anything else. So a small share of the records, chosen by a hash of their
//! number, is inserted after all others, and an index keeps the links as they were before that. Recall is measured with
//! those links, on those records: for this graph they are queries that it has never seen.

/// So many of a power of two at most.
const MOST: f64 = 4000.0;

/// The share of the records that is held out where there are so many. It changes where their number doubles, and with it
/// whatever was learned is learned again.
pub fn held_out_share(rows: usize) -> f64 {
    if rows < 8 {
        return 0.0;
    }
    let rows = f64::from(1u32 << rows.ilog2().min(31));
    // Enough queries to measure with, in a collection that hardly shrinks by them.
    (rows / 25.0).max((rows / 8.0).min(300.0)).min(MOST) / rows
}

/// Whether a record is among those.
pub fn is_held_out(number: u64, share: f64) -> bool {
    // The mixing of SplitMix64 (Steele, Lea and Flood, 2014), for numbers that follow each other.
    let mut z = number.wrapping_add(0x9e37_79b9_7f4a_7c15);
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    let part = (z ^ (z >> 31)) >> 11;
    (part as f64) < share * (1u64 << 53) as f64
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_share_is_held_out_and_smaller_shares_lie_within_larger_ones() {
        for (rows, least, most) in [(7, 0, 0), (100, 1, 30), (3000, 300, 450), (200_000, 5800, 6400)] {
            let share = held_out_share(rows);
            let n = (0..rows as u64).filter(|number| is_held_out(*number, share)).count();
            assert!((least..=most).contains(&n), "{n} of {rows}");
        }
        assert!((0..5000).all(|number| !is_held_out(number, 0.01) || is_held_out(number, 0.02)));
    }
}
