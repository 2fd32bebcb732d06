//! Advice as a file: the recipes that were considered.

use crate::measure::report::page::{COLOURS, Mark, NAMES, Page, drawing, names};
use crate::problem::Result;
use plotters::prelude::*;
use zesty_files::{Cells, Sheet};
use zesty_wire::{Advice, Candidate, Trial};

fn trial(c: &Candidate) -> Option<&Trial> {
    c.on_all.as_ref().or(c.on_sample.as_ref())
}

pub fn sheet(advice: &Advice) -> Sheet {
    let all = &advice.result.candidates;
    let texts = |of: &dyn Fn(&Candidate) -> String| Cells::Texts(all.iter().map(of).collect());
    let numbers = |of: &dyn Fn(&Trial) -> f64| Cells::Numbers(all.iter().map(|c| trial(c).map(of)).collect());
    Sheet(vec![
        ("recipe", texts(&|c| c.recipe.clone())),
        ("verdict", texts(&|c| c.verdict.clone())),
        ("settings", texts(&|c| trial(c).map_or_else(String::new, |t| t.settings.to_string()))),
        ("records", numbers(&|t| t.n_rows as f64)),
        ("reached", numbers(&|t| f64::from(u8::from(t.reached)))),
        ("recall_mean", numbers(&|t| t.figures.recall_mean)),
        ("recall_p5", numbers(&|t| t.figures.recall_p5)),
        ("p50_us", numbers(&|t| t.figures.p50_us)),
        ("p99_us", numbers(&|t| t.figures.p99_us)),
        ("queries_per_s", numbers(&|t| t.queries_per_s)),
        ("memory_bytes", numbers(&|t| t.memory_bytes as f64)),
        ("build_s", numbers(&|t| t.build_seconds)),
        (
            "expected_memory_bytes",
            Cells::Numbers(all.iter().map(|c| Some(c.expected_memory_bytes as f64)).collect()),
        ),
    ])
}

/// Latency against memory, both logarithmic.
pub fn picture(advice: &Advice) -> Result<String> {
    let at = |c: &Candidate| {
        let t = trial(c)?;
        let bytes = if c.on_all.is_some() { t.memory_bytes } else { c.expected_memory_bytes };
        Some(((bytes as f64 / 1e6).max(1e-3), t.figures.p50_us.max(0.1), c.on_all.is_some()))
    };
    let points: Vec<_> = advice.result.candidates.iter().map(at).collect();
    let range = |of: &dyn Fn(&(f64, f64, bool)) -> f64| {
        let all = points.iter().flatten().map(of);
        (all.clone().fold(f64::INFINITY, f64::min), all.fold(0.0, f64::max))
    };
    let ((left, right), (low, high)) = (range(&|p| p.0), range(&|p| p.1));
    drawing((1280, 380), |area| {
        let (x, y) = ((left / 1.5..right * 1.5).log_scale(), (low / 1.5..high * 1.5).log_scale());
        let mut chart = ChartBuilder::on(area)
            .margin(8)
            .margin_right(NAMES)
            .x_label_area_size(36)
            .y_label_area_size(64)
            .build_cartesian_2d(x, y)?;
        chart
            .configure_mesh()
            .x_desc("memory, MB")
            .y_desc("latency p50, microseconds")
            .light_line_style(TRANSPARENT)
            .draw()?;
        let mut all = Vec::new();
        for (i, point) in points.iter().enumerate() {
            let Some((x, y, on_all)) = *point else { continue };
            let colour = COLOURS[i % COLOURS.len()];
            let style = if on_all { colour.filled() } else { colour.stroke_width(2) };
            chart.draw_series([Circle::new((x, y), 7, style)])?;
            let mark = if on_all { Mark::Dot } else { Mark::Ring };
            all.push((colour, mark, advice.result.candidates[i].recipe.clone()));
        }
        names(area, &all)
    })
}

pub fn page(advice: &Advice, collection: &str) -> Result<String> {
    let (r, spec) = (&advice.result, &advice.spec);
    let within = spec.memory_mb.map_or_else(String::new, |mb| format!(" within {mb} MB"));
    let title =
        format!("Advice {} for {collection}: recall@{} at least {}{within}", advice.id, spec.k, spec.recall);
    let mut page = Page::new(&title, (advice.created_at, r.revision, &r.machine));
    page.text(&r.why);
    if r.candidates.iter().any(|c| trial(c).is_some()) {
        page.out += &picture(advice)?;
        page.text("Hollow marks were tried on some of the records only.");
    }
    let rows = r.candidates.iter().map(|c| {
        let cell = |of: &dyn Fn(&Trial) -> String| trial(c).map_or_else(String::new, of);
        vec![
            c.recipe.clone(),
            cell(&|t| t.n_rows.to_string()),
            cell(&|t| t.settings.to_string()),
            cell(&|t| format!("{:.4}", t.figures.recall_mean)),
            cell(&|t| format!("{:.2}", t.figures.recall_p5)),
            cell(&|t| format!("{:.0}", t.figures.p50_us)),
            cell(&|t| format!("{:.0}", t.figures.p99_us)),
            cell(&|t| t.memory_bytes.to_string()),
            cell(&|t| format!("{:.1}", t.build_seconds)),
            c.verdict.clone(),
        ]
    });
    page.table("recipe|records|.settings|recall|p5|p50 us|p99 us|memory, bytes|build, s|.verdict", rows);
    Ok(page.end(&r.notices, spec))
}
