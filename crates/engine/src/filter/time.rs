//! How stretches of time lie to each other (Allen 1983, as CQL2 names the relations).

use super::tree::Relation;

pub(super) const MICROS_A_DAY: i64 = 86_400_000_000;

/// First and last moment, both inclusive.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Span(pub i64, pub i64);

impl Relation {
    pub(super) fn holds(self, a: Span, b: Span) -> bool {
        match self {
            Relation::After => a.0 > b.1,
            Relation::Before => a.1 < b.0,
            Relation::Contains => a.0 < b.0 && a.1 > b.1,
            Relation::Disjoint => a.0 > b.1 || a.1 < b.0,
            Relation::During => a.0 > b.0 && a.1 < b.1,
            Relation::Equals => a == b,
            Relation::FinishedBy => a.0 < b.0 && a.1 == b.1,
            Relation::Finishes => a.0 > b.0 && a.1 == b.1,
            Relation::Intersects => a.0 <= b.1 && a.1 >= b.0,
            Relation::Meets => a.1 == b.0,
            Relation::MetBy => a.0 == b.1,
            Relation::OverlappedBy => a.0 > b.0 && a.0 < b.1 && a.1 > b.1,
            Relation::Overlaps => a.0 < b.0 && a.1 > b.0 && a.1 < b.1,
            Relation::StartedBy => a.0 == b.0 && a.1 > b.1,
            Relation::Starts => a.0 == b.0 && a.1 < b.1,
        }
    }

    /// Whether a side may be a single moment; the others compare ends that a moment does not have.
    pub(super) fn takes_moment(self, left: bool) -> bool {
        match self {
            Relation::After
            | Relation::Before
            | Relation::Disjoint
            | Relation::Equals
            | Relation::Intersects => true,
            Relation::During => left,
            Relation::Contains => !left,
            _ => false,
        }
    }
}

/// The first or last microsecond of a day.
pub(super) fn whole_day(days: i64, last: bool) -> i64 {
    let first = days.saturating_mul(MICROS_A_DAY);
    if last { first.saturating_add(MICROS_A_DAY - 1) } else { first }
}
