//! A target as a file: the settings that were tried, and what verified the one that was chosen.

use crate::measure::report::page::Page;
use crate::problem::Result;
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
    let verdict = if r.reached { "Reached with" } else { "Not reached; the best is" };
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
    let k = r.achieved.histogram.len().saturating_sub(1);
    let rows = r.achieved.histogram.iter().enumerate().rev();
    page.table("found|queries", rows.map(|(found, n)| vec![format!("{found} of {k}"), n.to_string()]));
    page.heading("Settings that were tried on the other half");
    let rows = r.tried.iter().map(|t| vec![t.settings.to_string(), format!("{:.4}", t.recall)]);
    page.table("settings|recall", rows);
    Ok(page.end(&r.notices, spec))
}
