//! Advice that comes with an answer.

use std::time::Duration;
use zesty_engine::Metric;
use zesty_engine::scan::Neighbour;
use zesty_engine::search::{Answer, SearchPlan};
use zesty_wire::{Notice, SearchRequest};

/// Whether a hit is as near as the search insists on.
pub fn passes(request: &SearchRequest, metric: Metric, at: &Neighbour) -> bool {
    request.score_at_least.is_none_or(|floor| metric.score(at.rank) >= floor)
        && request.distance_at_most.is_none_or(|ceiling| metric.distance(at.rank) <= ceiling)
}

/// The database has not answered for a while, so others may have written what this node has not.
pub fn old_copy(silent: Option<Duration>) -> Option<Notice> {
    let text = format!(
        "MariaDB has not answered for {} s; the answer is what this node had before, and others may have written since",
        silent?.as_secs()
    );
    Some(Notice { code: "copy-may-be-old".into(), text })
}

/// What advice is made from, besides the answer.
pub struct Circumstances<'a> {
    pub request: &'a SearchRequest,
    pub metric: Metric,
    /// What was found before any were left out.
    pub nearest: &'a [Neighbour],
    pub n_hits: usize,
}

impl Circumstances<'_> {
    pub fn advice(&self, answer: &Answer) -> Vec<Notice> {
        let (plan, mut notices) = (&answer.plan, Vec::new());
        if answer.cut {
            let text = format!(
                "the search stopped after {} ms, with {} distances evaluated: nearer records may be missing",
                self.request.time_limit_ms.unwrap_or(30_000.0),
                answer.work.distances
            );
            notices.push(Notice { code: "time-limit".into(), text });
        } else if self.n_hits < self.request.k {
            notices.extend(self.thin(plan));
        }
        if plan.unindexed > 0 && plan.unindexed * 5 > plan.rows {
            let text = format!(
                "{} of {} records are newer than the index, so the search scanned them; absorb them to search faster",
                plan.unindexed, plan.rows
            );
            notices.push(Notice { code: "index-behind".into(), text });
        }
        notices
    }

    /// Why there are fewer hits than were asked for.
    fn thin(&self, plan: &SearchPlan) -> Option<Notice> {
        let n = self.n_hits;
        let notice = |code: &str, text: String| Some(Notice { code: code.into(), text });
        let n_passed = self.nearest.iter().filter(|at| passes(self.request, self.metric, at)).count();
        if let Some(best) = self.nearest.first().filter(|_| n_passed < self.nearest.len()) {
            // What would let in as many as were asked for, or all that were found.
            let last = &self.nearest[self.nearest.len().min(self.request.skip + self.request.k) - 1];
            let (what, best, lower) = match self.request.score_at_least {
                Some(floor) => (
                    format!("a score of {floor} or more"),
                    format!("{:.4}", self.metric.score(best.rank)),
                    format!("a floor of {:.4}", self.metric.score(last.rank)),
                ),
                None => (
                    format!("a distance of {} or less", self.request.distance_at_most.unwrap_or_default()),
                    format!("{:.4}", self.metric.distance(best.rank)),
                    format!("a ceiling of {:.4}", self.metric.distance(last.rank)),
                ),
            };
            let all = self.nearest.len().min(self.request.skip + self.request.k);
            return notice(
                "below-floor",
                format!(
                    "{n_passed} of the {all} nearest have {what}; the best has {best}; {lower} would let all {all} pass"
                ),
            );
        }
        if let Some(at_most) = &self.request.at_most
            && self.nearest.len() > self.n_hits + self.request.skip
        {
            let (field, hits) = (&at_most.field, at_most.hits);
            return notice(
                "fewer-hits",
                format!(
                    "{n} hits of {}: no more values of {field}, of which each may give {hits}",
                    self.request.k
                ),
            );
        }
        let why = if self.request.filter.is_some() && plan.allowed < plan.rows {
            format!("the filter allows {} of {} records", plan.allowed, plan.rows)
        } else {
            format!("the collection holds {} records that could be hits", plan.rows)
        };
        let skipped =
            if self.request.skip > 0 { format!(" after {}", self.request.skip) } else { String::new() };
        notice("fewer-hits", format!("{n} hits of {} asked for{skipped}: {why}", self.request.k))
    }
}
