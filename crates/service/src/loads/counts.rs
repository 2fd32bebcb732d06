//! What a load has counted.

use serde_json::{Value, json};
use zesty_catalog::load;

#[derive(Clone, Copy)]
pub struct Counts {
    pub new: i64,
    pub replaced: i64,
    pub unchanged: i64,
    pub rejected: i64,
    pub unencoded: i64,
}

impl Counts {
    pub fn of(m: &load::Model) -> Counts {
        Counts {
            new: m.n_new,
            replaced: m.n_replaced,
            unchanged: m.n_unchanged,
            rejected: m.n_rejected,
            unencoded: m.n_unencoded,
        }
    }

    pub fn view(&self, pace: f64) -> Value {
        let Counts { new, replaced, unchanged, rejected, unencoded } = self;
        json!({"read": new + replaced + unchanged + rejected, "new": new, "replaced": replaced,
            "unchanged": unchanged, "rejected": rejected, "unencoded": unencoded, "rows_per_s": pace.round()})
    }
}
