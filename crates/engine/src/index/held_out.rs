//! Records that are inserted into a graph last, so that it can be searched as if they never had been.
//!
//! A record that is a node of a graph leads a walk to itself, and from there to its own neighbours, which are the answer:
//! a graph answers its own records better than anything else. So a share of the records, chosen by a hash of their
//! number, is inserted after all others, and an index notes what that changed. Recall is measured on those records, each
//! with links that it has no part in: for this graph they are queries that it has never seen.
//!
//! They are left out a part at a time. A collection hardly shrinks by one part, and all together are many queries.

/// So many of a power of two at most.
const MOST: f64 = 4000.0;
/// The share of the records that a part has at most.
const PART: f64 = 0.01;

/// The share of the records that is held out where there are so many. It changes where their number doubles, and with it
/// whatever was learned is learned again.
pub fn held_out_share(rows: usize) -> f64 {
    if rows < 8 {
        return 0.0;
    }
    let rows = f64::from(1u32 << rows.ilog2().min(31));
    (rows / 8.0).min(MOST) / rows
}

/// A number below 1 for each record, by the mixing of SplitMix64 (Steele, Lea and Flood, 2014), for numbers that follow
/// each other.
fn place(number: u64) -> f64 {
    let mut z = number.wrapping_add(0x9e37_79b9_7f4a_7c15);
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    ((z ^ (z >> 31)) >> 11) as f64 / (1u64 << 53) as f64
}

/// Whether a record is among those.
pub fn is_held_out(number: u64, share: f64) -> bool {
    place(number) < share
}

/// In how many parts records are left out.
pub fn held_out_parts(share: f64) -> usize {
    (share / PART).ceil().max(1.0) as usize
}

/// The part of a record that is held out.
pub fn held_out_part(number: u64, share: f64) -> Option<usize> {
    let part = place(number) / share * held_out_parts(share) as f64;
    is_held_out(number, share).then_some(part as usize)
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

    #[test]
    fn parts_are_alike_and_no_larger_than_a_hundredth() {
        for rows in [1000, 40_000, 100_000, 1_000_000] {
            let share = held_out_share(rows);
            let mut parts = vec![0usize; held_out_parts(share)];
            let of = (0..rows as u64).filter_map(|number| held_out_part(number, share));
            of.for_each(|part| parts[part] += 1);
            let most = rows as f64 * 0.01 + 4.0 * (rows as f64 * 0.01).sqrt();
            assert!(parts.iter().all(|n| *n > 0 && (*n as f64) < most), "{rows}: {parts:?}");
        }
    }
}
