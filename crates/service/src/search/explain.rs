//! Explaining a search: its plan and its filter as a tree that people read.

use zesty_engine::Table;
use zesty_engine::filter::{Expr, Test};
use zesty_engine::names::grouped as count;
use zesty_wire::{CostOf, FilterPart, SearchAnswer, SearchCost, Strategy};

/// The parts of a filter with what each allows.
pub fn parts(expr: &Expr, table: &Table) -> Option<FilterPart> {
    let inner: &[Expr] = match expr {
        Expr::And(parts) | Expr::Or(parts) => parts,
        Expr::Not(part) if matches!(**part, Expr::And(_) | Expr::Or(_)) => std::slice::from_ref(part),
        _ => &[],
    };
    let test = Test::of(expr, table.schema()).ok()?;
    Some(FilterPart {
        text: expr.to_string(),
        allowed: test.run(table).count_ones(..),
        // A long list of alternatives is a line, not a page.
        parts: inner.iter().take(20).filter_map(|part| parts(part, table)).collect(),
    })
}

/// The tree that people read.
pub fn explain(view: &SearchAnswer, filter: Option<&FilterPart>) -> String {
    fn lines(part: &FilterPart, indent: &str, out: &mut String) {
        for (i, inner) in part.parts.iter().enumerate() {
            let last = i + 1 == part.parts.len();
            let (branch, below) = if last { ("└─", "   ") } else { ("├─", "│  ") };
            let text: String = inner.text.chars().take(100).collect();
            *out += &format!("{indent}{branch} {text}: {} records\n", count(inner.allowed));
            lines(inner, &format!("{indent}{below}"), out);
        }
    }
    let (plan, timing, work) = (&view.via.plan, &view.timing, &view.via.work);
    let name = Strategy::word;
    let mut out = format!("search of column {}, {}\n", view.via.column, view.via.metric);
    if let Some(filter) = filter {
        let text: String = filter.text.chars().take(200).collect();
        out += &format!("├─ filter, {:.0} us: {text}\n", timing.filter_us);
        out += &format!("│  allows {} of {} records with a vector\n", count(plan.allowed), count(plan.rows));
        lines(filter, "│  ", &mut out);
    } else {
        out += &format!("├─ no filter: {} records with a vector\n", count(plan.rows));
    }
    out += &format!("├─ plan, {:.0} us: {}\n", timing.plan_us, name(plan.strategy));
    for (i, c) in plan.considered.iter().enumerate() {
        let branch = if i + 1 == plan.considered.len() { "└─" } else { "├─" };
        let part = |cost: &SearchCost| match cost.of {
            CostOf::Search => format!("{:.1} us", cost.ns_each * cost.n as f64 / 1e3),
            of => format!("{} {} of {:.0} ns", count(cost.n), of.words(), cost.ns_each),
        };
        let parts: Vec<String> = c.costs.iter().map(part).collect();
        let (name, parts) = (name(c.strategy), parts.join(", "));
        out += &format!("│  {branch} {name}: {:.0} us expected ({parts})\n", c.expected_us);
    }
    out += &format!("├─ search, {:.0} us: {} distances", timing.search_us, count(work.distances));
    if work.hops > 0 {
        let is_visit = matches!(plan.strategy, Strategy::Visit | Strategy::VisitAllowed);
        out += &format!(", {} {}", count(work.hops), if is_visit { "cells visited" } else { "nodes opened" });
    }
    if work.blocks > 0 {
        out += &format!(", {} blocks of 32 codes compared", count(work.blocks));
    }
    if let Some(widened) = plan.widened {
        out += &format!(", with {widened} for what the filter leaves");
    }
    if work.repeated {
        out += ", repeated with wider settings because its hits were far";
    }
    if plan.unindexed > 0 {
        out += &format!(", {} records newer than the index", count(plan.unindexed));
    }
    let exact = if view.via.exact { "exact" } else { "approximate" };
    out += &format!("\n└─ {} hits, {exact}; fetched in {:.0} us\n", view.hits.len(), timing.fetch_us);
    out
}
