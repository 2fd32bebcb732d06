//! Explaining a search: its plan and its filter as a tree that people read.

use zesty_engine::Table;
use zesty_engine::filter::{Expr, Test};
use zesty_engine::names::grouped as count;
use zesty_wire::{FilterPart, SearchAnswer, Strategy};

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
        out += &format!(
            "│  {branch} {}: {:.0} us expected ({} distances of {:.0} ns)\n",
            name(c.strategy),
            c.expected_us,
            count(c.distances),
            c.ns_each
        );
    }
    out += &format!("├─ search, {:.0} us: {} distances", timing.search_us, count(work.distances));
    if work.hops > 0 {
        let what = match plan.strategy {
            Strategy::Visit | Strategy::VisitAllowed => "cells visited",
            Strategy::ScanSketches => "blocks of 32 short codes scanned",
            Strategy::ThenScanSketches => "nodes expanded and blocks of 32 short codes scanned",
            _ => "nodes opened",
        };
        out += &format!(", {} {what}", count(work.hops));
    }
    if work.stepped_over > 0 {
        out += &format!(", {} excluded nodes stepped over", count(work.stepped_over));
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
