//! A sweep as a file: its points, and the frontier on a page.

use crate::measure::report::page::{COLOURS, EXACT, Mark, NAMES, Page, drawing, names, nines};
use crate::problem::Result;
use plotters::prelude::*;
use zesty_files::{Cells, Sheet};
use zesty_wire as wire;
use zesty_wire::{Sweep, SweepPoint};

fn index_of<'s>(sweep: &'s Sweep, point: &SweepPoint) -> Option<&'s wire::SweptIndex> {
    sweep.result.indexes.iter().find(|i| i.name == point.index)
}

pub fn sheet(sweep: &Sweep) -> Sheet {
    let points = &sweep.result.points;
    let texts = |of: &dyn Fn(&SweepPoint) -> String| Cells::Texts(points.iter().map(of).collect());
    let numbers = |of: &dyn Fn(&SweepPoint) -> Option<f64>| Cells::Numbers(points.iter().map(of).collect());
    let setting = |n: Option<usize>| n.map(|n| n as f64);
    let of_index = |p: &SweepPoint, of: fn(&wire::SweptIndex) -> f64| index_of(sweep, p).map(of);
    Sheet(vec![
        ("index", texts(&|p| p.index.clone())),
        ("recipe", texts(&|p| index_of(sweep, p).map_or_else(String::new, |i| i.recipe.clone()))),
        ("query_set", texts(&|p| p.query_set.clone())),
        ("k", numbers(&|p| Some(p.k as f64))),
        ("clients", numbers(&|p| Some(p.clients as f64))),
        ("beam", numbers(&|p| setting(p.settings.beam))),
        ("visit", numbers(&|p| setting(p.settings.visit))),
        ("rescore", numbers(&|p| setting(p.settings.rescore))),
        ("recall_mean", numbers(&|p| Some(p.figures.recall_mean))),
        ("recall_low", numbers(&|p| Some(p.figures.recall_interval.low))),
        ("recall_high", numbers(&|p| Some(p.figures.recall_interval.high))),
        ("recall_p5", numbers(&|p| Some(p.figures.recall_p5))),
        ("recall_min", numbers(&|p| Some(p.figures.recall_min))),
        ("recall_ties_mean", numbers(&|p| Some(p.figures.recall_ties_mean))),
        ("standout_recall", numbers(&|p| p.figures.standout_recall)),
        ("gap_mean", numbers(&|p| Some(p.figures.gap_mean))),
        ("gap_p95", numbers(&|p| Some(p.figures.gap_p95))),
        ("p50_us", numbers(&|p| Some(p.figures.p50_us))),
        ("p95_us", numbers(&|p| Some(p.figures.p95_us))),
        ("p99_us", numbers(&|p| Some(p.figures.p99_us))),
        ("queries_per_s", numbers(&|p| Some(p.queries_per_s))),
        ("distances_per_query", numbers(&|p| Some(p.figures.distances_per_query))),
        ("memory_bytes", numbers(&|p| of_index(p, |i| i.n_bytes_memory as f64))),
        ("file_bytes", numbers(&|p| of_index(p, |i| i.n_bytes_file as f64))),
        ("build_s", numbers(&|p| of_index(p, |i| i.build_seconds))),
    ])
}

/// Recall against latency as a picture: recall where 0.9, 0.99 and 0.999 are equally far apart, latency logarithmic.
pub fn picture(sweep: &Sweep) -> Result<String> {
    let r = &sweep.result;
    let exact = r.query_sets.iter().filter_map(|s| s.exact.as_ref()).map(|e| e.p50_us);
    let times: Vec<f64> =
        r.points.iter().map(|p| p.figures.p50_us).chain(exact).map(|t| t.max(0.1)).collect();
    let (left, right) = times.iter().fold((f64::INFINITY, 0.0f64), |(a, b), t| (a.min(*t), b.max(*t)));
    let recalls: Vec<f64> = r.points.iter().map(|p| nines(p.figures.recall_mean)).collect();
    let (low, high) = recalls.iter().fold((4.0f64, 0.0f64), |(a, b), y| (a.min(*y), b.max(*y)));
    drawing((1280, 420), |area| {
        let x = (left / 1.4..right * 1.4).log_scale();
        let mut chart = ChartBuilder::on(area)
            .margin(8)
            .margin_right(NAMES)
            .x_label_area_size(36)
            .y_label_area_size(64)
            .build_cartesian_2d(x, (low - 0.15).max(0.0)..high + 0.3)?;
        chart
            .configure_mesh()
            .x_desc("latency p50 of the engine, microseconds")
            .y_desc("recall, mean")
            .y_label_formatter(&|y| format!("{:.4}", 1.0 - 10f64.powf(-y)))
            .x_label_formatter(&|x| format!("{x:.0}"))
            .light_line_style(TRANSPARENT)
            .draw()?;
        let mut all = Vec::new();
        for (i, index) in r.indexes.iter().enumerate() {
            let colour = COLOURS[i % COLOURS.len()];
            for (n, set) in r.query_sets.iter().enumerate() {
                let mut line: Vec<(f64, f64)> = r
                    .points
                    .iter()
                    .filter(|p| p.index == index.name && p.query_set == set.name)
                    .map(|p| (p.figures.p50_us.max(0.1), nines(p.figures.recall_mean)))
                    .collect();
                line.sort_by(|a, b| a.0.total_cmp(&b.0));
                chart.draw_series(LineSeries::new(line.iter().copied(), colour))?;
                // The first query set has dots, the others rings.
                let mark = if n == 0 { Mark::Dot } else { Mark::Ring };
                let style = if n == 0 { colour.filled() } else { colour.stroke_width(2) };
                let of = if r.query_sets.len() > 1 { format!(", {}", set.name) } else { String::new() };
                all.push((colour, mark, format!("{}{of}", index.name)));
                chart.draw_series(line.into_iter().map(|at| Circle::new(at, 4, style)))?;
            }
        }
        let exact = r.query_sets.iter().filter_map(|s| s.exact.as_ref());
        let marks = exact.map(|e| TriangleMarker::new((e.p50_us.max(0.1), high + 0.25), 8, EXACT.filled()));
        chart.draw_series(marks)?;
        all.push((EXACT, Mark::Triangle, "exact scan".into()));
        names(area, &all)
    })
}

/// One page that holds everything.
pub fn page(sweep: &Sweep, collection: &str) -> Result<String> {
    let r = &sweep.result;
    let indexes: Vec<&str> = r.indexes.iter().map(|i| i.name.as_str()).collect();
    let title = format!("Sweep {} of {collection}: {}", sweep.id, indexes.join(", "));
    let mut page = Page::new(&title, (sweep.created_at, r.revision, &r.machine));
    page.out += &picture(sweep)?;
    page.out += "\n";
    for set in &r.query_sets {
        page.heading(&set.name);
        page.text(&format!(
            "{} queries among {} records; {} records were held out in parts, {} queries left out.",
            set.n_queries, set.n_rows, set.n_held_out, set.n_left_out
        ));
        let rows = r.points.iter().filter(|p| p.query_set == set.name).map(|p| {
            let f = &p.figures;
            vec![
                p.index.clone(),
                p.settings.to_string(),
                p.k.to_string(),
                p.clients.to_string(),
                format!("{:.4}", f.recall_mean),
                format!("{:.4} to {:.4}", f.recall_interval.low, f.recall_interval.high),
                format!("{:.2}", f.recall_p5),
                format!("{:.2}", f.recall_min),
                f.standout_recall.map_or_else(|| "none".into(), |x| format!("{x:.4}")),
                format!("{:.2}%", f.gap_mean * 100.0),
                format!("{:.0}", f.p50_us),
                format!("{:.0}", f.p95_us),
                format!("{:.0}", f.p99_us),
                format!("{:.0}", p.queries_per_s),
                format!("{:.0}", f.distances_per_query),
            ]
        });
        let headings = "index|.settings|k|clients|recall|19 of 20 in|p5|min|standout|gap|p50 us|p95 us|p99 us|queries/s|distances";
        page.table(headings, rows);
    }
    page.heading("Indexes");
    let rows = r.indexes.iter().map(|i| {
        let bytes = [i.n_bytes_memory.to_string(), i.n_bytes_file.to_string()];
        let [memory, file] = bytes;
        vec![
            i.name.clone(),
            i.recipe.clone(),
            i.seed.to_string(),
            memory,
            file,
            format!("{:.1}", i.build_seconds),
        ]
    });
    page.table("index|.recipe|seed|memory, bytes|file, bytes|build, s", rows);
    Ok(page.end(&r.notices, &sweep.spec))
}
