//! Candidates: an engine search, repeated with more of them until enough may be hits.

use crate::search::check::Checked;
use crate::search::notices::passes;
use crate::search::settings::MAX_DEEP;
use std::collections::HashMap;
use zesty_engine::Table;
use zesty_engine::rows::order;
use zesty_engine::scan::Neighbour;
use zesty_engine::search::{Answer, Request, run};
use zesty_wire::SearchRequest;

/// Searches until there are enough hits after those that may not count were left out.
pub fn search_enough(
    table: &Table,
    mut request: Request<'_>,
    input: &SearchRequest,
    checked: &Checked,
) -> Found {
    let metric = table.vectors()[checked.column].metric;
    let enough = input.skip + input.k;
    let mut wanted = if checked.at_most.is_some() { 2 * enough } else { enough };
    loop {
        // Walks are made for few hits; a list this long is as quickly made from every row.
        if wanted > MAX_DEEP {
            request.index = None;
        }
        let mut answer = run(table, Request { k: wanted, ..request });
        let n_found = answer.nearest.len();
        let nearest = answer.nearest.clone();
        answer.nearest.retain(|n| passes(input, metric, n));
        // What is nearer than the last hit that passed is all that can pass.
        let all_passed = answer.nearest.len() == n_found;
        if let Some((field, most)) = checked.at_most {
            let mut counts: HashMap<String, usize> = HashMap::new();
            answer.nearest.retain(|n| {
                let count = counts.entry(format!("{:?}", order::value(table, field, n.row))).or_default();
                *count += 1;
                *count <= most
            });
        }
        let exhausted = answer.cut || n_found < wanted || wanted >= answer.plan.allowed || !all_passed;
        if answer.nearest.len() >= enough || exhausted || checked.at_most.is_none() {
            answer.nearest.truncate(enough);
            answer.nearest.drain(..input.skip.min(answer.nearest.len()));
            return Found { answer, nearest };
        }
        wanted = wanted.saturating_mul(4).min(answer.plan.allowed.max(1));
    }
}

pub struct Found {
    /// With the hits that count.
    pub answer: Answer,
    /// Before any were left out.
    pub nearest: Vec<Neighbour>,
}
