//! A target as a file: the settings that were tried, and what verified the one that was chosen.

use crate::measure::report::page::{COLOURS, Page, drawing};
use crate::problem::Result;
use plotters::prelude::*;
use zesty_files::{Cells, Sheet};
use zesty_wire::{Aim, Target};

/// The settings that were tried on the half of the queries that chooses.
pub fn sheet(target: &Target) -> Sheet {
    let tried = &target.result.tried;
    let setting = |of: fn(&zesty_wire::Settings) -> Option<usize>| {
        Cells::Numbers(tried.iter().map(|t| of(&t.settings).map(|n| n as f64)).collect())
    };
    let chosen = tried.iter().map(|t| f64::from(u8::from(t.settings == target.result.settings)));
    Sheet(vec![
        ("index", Cells::Texts(tried.iter().map(|_| target.spec.index.clone()).collect())),
        ("beam", setting(|s| s.beam)),
        ("visit", setting(|s| s.visit)),
        ("rescore", setting(|s| s.rescore)),
        ("recall", Cells::Numbers(tried.iter().map(|t| Some(t.recall)).collect())),
        ("chosen", Cells::Numbers(chosen.map(Some).collect())),
    ])
}

/// How many queries had each recall, logarithmic: few that fail must be seen beside many that do not.
pub fn picture(target: &Target) -> Result<String> {
    let all = &target.result.achieved.histogram;
    let k = all.len().saturating_sub(1);
    let most = all.iter().copied().max().unwrap_or(0).max(1) as f64;
    drawing((1000, 260), |area| {
        let mut chart = ChartBuilder::on(area)
            .margin(8)
            .x_label_area_size(36)
            .y_label_area_size(64)
            .build_cartesian_2d(-0.5..k as f64 + 0.5, (0.5..most * 1.5).log_scale())?;
        chart
            .configure_mesh()
            .x_desc(format!("found of the true {k}"))
            .y_desc("queries")
            .x_label_formatter(&|x| format!("{x:.0}"))
            .y_label_formatter(&|y| format!("{y:.0}"))
            .light_line_style(TRANSPARENT)
            .draw()?;
        let bars = all.iter().enumerate().filter(|(_, n)| **n > 0).map(|(found, n)| {
            let x = found as f64;
            Rectangle::new([(x - 0.4, 0.5), (x + 0.4, *n as f64)], COLOURS[0].filled())
        });
        chart.draw_series(bars)?;
        Ok(())
    })
}

pub fn page(target: &Target, collection: &str) -> Result<String> {
    let (r, spec) = (&target.result, &target.spec);
    let of = match spec.aim {
        Aim::Mean => "mean",
        Aim::P5 => "5th percentile",
    };
    let title = format!(
        "Target {} of {collection}: {of} of recall@{} at least {} for {}",
        target.id, spec.k, spec.recall, spec.index
    );
    let mut page = Page::new(&title, (target.created_at, r.revision, &r.machine));
    let verdict = match r.reached {
        true => "Reached with",
        false if r.chosen_recall >= spec.recall && r.instead.is_none() => "Just missed with",
        false => "Not reached; the best is",
    };
    page.text(&format!("{verdict} {} ({}).", r.settings, r.recipe));
    page.heading("On queries that did not choose the settings");
    let all = [("all".to_owned(), r.n_queries / 2, &r.achieved)];
    let sets = r.sets.iter().map(|s| (s.query_set.clone(), s.n_queries, &s.figures));
    let rows = all.into_iter().chain(sets).map(|(name, n, f)| {
        vec![
            name,
            n.to_string(),
            format!("{:.4}", f.recall_mean),
            format!("{:.4} to {:.4}", f.recall_interval.low, f.recall_interval.high),
            format!("{:.2}", f.recall_p5),
            format!("{:.2}", f.recall_min),
            format!("{:.2}%", f.gap_mean * 100.0),
            format!("{:.0}", f.p50_us),
            format!("{:.0}", f.p95_us),
            format!("{:.0}", f.p99_us),
        ]
    });
    page.table("query set|queries|recall|19 of 20 in|p5|min|gap|p50 us|p95 us|p99 us", rows);
    page.heading("How many queries had each recall");
    page.out += &picture(target)?;
    page.heading("Settings that were tried on the other half");
    let rows = r.tried.iter().map(|t| vec![t.settings.to_string(), format!("{:.4}", t.recall)]);
    page.table("settings|recall", rows);
    Ok(page.end(&r.notices, spec))
}
