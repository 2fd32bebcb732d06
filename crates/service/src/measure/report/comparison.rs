//! A comparison as a file: every query of it, and how much of the first hits both sides have.

use crate::measure::compared::QueryFigures;
use crate::measure::report::page::{EXACT, Page, drawing};
use crate::problem::Result;
use plotters::prelude::*;
use zesty_files::{Cells, Sheet};
use zesty_wire::{Comparison, PairedTest};

/// Queries on the page; the other formats have all.
const ON_PAGE: usize = 50;

pub fn sheet(queries: &[QueryFigures]) -> Sheet {
    let numbers =
        |of: &dyn Fn(&QueryFigures) -> Option<f64>| Cells::Numbers(queries.iter().map(of).collect());
    let verdict = |q: &QueryFigures| q.verdict.clone().unwrap_or_default();
    Sheet(vec![
        ("position", numbers(&|q| Some(q.position as f64))),
        ("overlap", numbers(&|q| Some(q.overlap))),
        ("left_recall", numbers(&|q| Some(q.recall[0]))),
        ("right_recall", numbers(&|q| Some(q.recall[1]))),
        ("left_ndcg", numbers(&|q| q.ndcg.map(|n| n[0]))),
        ("right_ndcg", numbers(&|q| q.ndcg.map(|n| n[1]))),
        ("verdict", Cells::Texts(queries.iter().map(verdict).collect())),
    ])
}

pub fn picture(c: &Comparison) -> Result<String> {
    let all = &c.result.overlap;
    let low = all.iter().copied().fold(1.0f64, f64::min);
    drawing((1000, 260), |area| {
        let mut chart = ChartBuilder::on(area)
            .margin(8)
            .x_label_area_size(36)
            .y_label_area_size(64)
            .build_cartesian_2d(1.0..(all.len() as f64).max(1.5), (low - 0.05).max(0.0)..1.0)?;
        chart
            .configure_mesh()
            .x_desc("first hits")
            .y_desc("both sides have")
            .x_label_formatter(&|x| format!("{x:.0}"))
            .light_line_style(TRANSPARENT)
            .draw()?;
        let line: Vec<(f64, f64)> = all.iter().enumerate().map(|(i, y)| ((i + 1) as f64, *y)).collect();
        chart.draw_series(LineSeries::new(line.iter().copied(), EXACT))?;
        chart.draw_series(line.into_iter().map(|at| Circle::new(at, 3, EXACT.filled())))?;
        Ok(())
    })
}

pub fn page(c: &Comparison, collection: &str, queries: &[QueryFigures]) -> Result<String> {
    let r = &c.result;
    let title = format!("Comparison {} of {collection}: {} and {}", c.id, c.spec.left, c.spec.right);
    let mut page = Page::new(&title, (c.created_at, r.revision, &r.machine));
    let set = &r.query_set;
    page.text(&format!(
        "{} queries of {}, k {}; {} queries left out.",
        set.n_queries, set.name, c.spec.k, set.n_left_out
    ));
    page.out += &picture(c)?;
    let rows = [("left", &r.left), ("right", &r.right)].map(|(name, s)| {
        let graded = |of: fn(&zesty_wire::GradedFigures) -> f64| {
            s.graded.as_ref().map_or_else(String::new, |g| format!("{:.4}", of(g)))
        };
        vec![
            name.to_owned(),
            s.column.clone(),
            s.index.clone().unwrap_or_else(|| "the exact scan".into()),
            s.settings.to_string(),
            format!("{:.4}", s.recall_mean),
            graded(|g| g.hit_rate),
            graded(|g| g.mean_reciprocal_rank),
            graded(|g| g.ndcg),
            format!("{:.0}", s.p50_us),
            format!("{:.0}", s.p95_us),
            format!("{:.0}", s.p99_us),
        ]
    });
    let headings =
        "side|.column|.answers|.settings|recall|hit rate|reciprocal rank|nDCG|p50 us|p95 us|p99 us";
    page.table(headings, rows.into_iter());
    let test = |name: &str, t: &PairedTest| {
        vec![
            name.to_owned(),
            t.left_better.to_string(),
            t.right_better.to_string(),
            t.same.to_string(),
            format!("{:.4}", t.difference),
            format!("{:.4} to {:.4}", t.interval.low, t.interval.high),
            format!("{:.4}", t.p),
        ]
    };
    let mut rows = vec![test("recall", &r.by_recall)];
    rows.extend(r.by_grades.as_ref().map(|t| test("nDCG", t)));
    rows.extend(r.distances.as_ref().map(|d| test("nearness", &d.nearer)));
    page.table("by|left better|right better|same|left less right|19 of 20 in|p", rows.into_iter());
    let m = &r.moves;
    page.text(&format!(
        "Hits of both: {} at the same rank, {} one rank apart, {} two or three, {} more. Only left has {}, only right {}.",
        m.same_rank, m.by_one, m.by_two_or_three, m.farther, m.left_alone, m.right_alone
    ));
    if let Some(f) = &r.finders {
        page.text(&format!(
            "True neighbours: both found {}, only left {}, only right {}, neither {}.",
            f.both, f.left_alone, f.right_alone, f.neither
        ));
    }
    let v = &c.verdicts;
    page.text(&format!(
        "Verdicts: left {}, right {}, as good {}, both bad {}; sign test p {:.4}.",
        v.left, v.right, v.same, v.neither, v.p
    ));
    page.heading("Queries that differ most");
    let rows = queries.iter().take(ON_PAGE).map(|q| {
        vec![
            q.position.to_string(),
            format!("{:.2}", q.overlap),
            format!("{:.2}", q.recall[0]),
            format!("{:.2}", q.recall[1]),
            q.verdict.clone().unwrap_or_default(),
        ]
    });
    page.table("query|both have|left recall|right recall|.verdict", rows);
    Ok(page.end(&r.notices, &c.spec))
}
