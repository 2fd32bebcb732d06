//! A sweep as a file: its points as CSV or Parquet, all of it as JSON, or one page of HTML that needs no service.

use crate::access::grant::Grant;
use crate::collections::registry::Registry;
use crate::measure::sweeps;
use crate::problem::{Kind, Problem, Result};
use plotters::prelude::*;
use std::fmt::Write;
use zesty_files::{Cells, Sheet};
use zesty_wire as wire;
use zesty_wire::{Sweep, SweepPoint};

/// A file to save.
pub struct Saved {
    pub media_type: &'static str,
    pub bytes: Vec<u8>,
}

const FORMATS: &str = "csv, parquet, json or html";

pub async fn save(grant: &Grant, registry: &Registry, at: (&str, i64), format: &str) -> Result<Saved> {
    let sweep = sweeps::show(grant, registry, at).await?;
    let failed =
        |e: std::io::Error| Problem::new(Kind::Internal, format!("the report cannot be written: {e}"));
    let (media_type, bytes) = match format {
        "csv" => ("text/csv", sheet(&sweep).csv().map_err(failed)?),
        "parquet" => ("application/vnd.apache.parquet", sheet(&sweep).parquet().map_err(failed)?),
        "json" => ("application/json", serde_json::to_vec_pretty(&sweep).unwrap_or_default()),
        "html" => ("text/html; charset=utf-8", page(&sweep, at.0)?.into_bytes()),
        other => {
            let detail = format!("a sweep is saved as {FORMATS}, not as \"{other}\"");
            return Err(Problem::new(Kind::WrongShape, detail));
        }
    };
    Ok(Saved { media_type, bytes })
}

fn index_of<'s>(sweep: &'s Sweep, point: &SweepPoint) -> Option<&'s wire::SweptIndex> {
    sweep.result.indexes.iter().find(|i| i.name == point.index)
}

fn sheet(sweep: &Sweep) -> Sheet {
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

/// How many nines a recall has; all of them are drawn as four.
fn nines(recall: f64) -> f64 {
    -(1.0 - recall).max(1e-4).log10()
}

const COLOURS: [RGBColor; 7] = [
    RGBColor(168, 91, 0),
    RGBColor(91, 111, 181),
    RGBColor(160, 77, 126),
    RGBColor(107, 127, 46),
    RGBColor(138, 106, 79),
    RGBColor(61, 127, 156),
    RGBColor(123, 94, 167),
];
const EXACT: RGBColor = RGBColor(11, 122, 111);

/// Recall against latency as a picture: recall where 0.9, 0.99 and 0.999 are equally far apart, latency logarithmic.
fn frontier(sweep: &Sweep) -> Result<String> {
    let r = &sweep.result;
    let mut svg = String::new();
    let failed =
        |e: &dyn std::fmt::Display| Problem::new(Kind::Internal, format!("the chart cannot be drawn: {e}"));
    let exact = r.query_sets.iter().filter_map(|s| s.exact.as_ref()).map(|e| e.p50_us);
    let times: Vec<f64> =
        r.points.iter().map(|p| p.figures.p50_us).chain(exact).map(|t| t.max(0.1)).collect();
    let (left, right) = times.iter().fold((f64::INFINITY, 0.0f64), |(a, b), t| (a.min(*t), b.max(*t)));
    let recalls: Vec<f64> = r.points.iter().map(|p| nines(p.figures.recall_mean)).collect();
    let (low, high) = recalls.iter().fold((4.0f64, 0.0f64), |(a, b), y| (a.min(*y), b.max(*y)));
    {
        let area = SVGBackend::with_string(&mut svg, (1000, 380)).into_drawing_area();
        let x = (left / 1.4..right * 1.4).log_scale();
        let mut chart = ChartBuilder::on(&area)
            .margin(8)
            .x_label_area_size(36)
            .y_label_area_size(64)
            .build_cartesian_2d(x, (low - 0.15).max(0.0)..high + 0.3)
            .map_err(|e| failed(&e))?;
        chart
            .configure_mesh()
            .x_desc("latency p50 of the engine, microseconds")
            .y_desc("recall, mean")
            .y_label_formatter(&|y| format!("{:.4}", 1.0 - 10f64.powf(-y)))
            .x_label_formatter(&|x| format!("{x:.0}"))
            .light_line_style(TRANSPARENT)
            .draw()
            .map_err(|e| failed(&e))?;
        for (i, index) in r.indexes.iter().enumerate() {
            let colour = COLOURS[i % COLOURS.len()];
            for set in &r.query_sets {
                let mut line: Vec<(f64, f64, &SweepPoint)> = r
                    .points
                    .iter()
                    .filter(|p| p.index == index.name && p.query_set == set.name)
                    .map(|p| (p.figures.p50_us.max(0.1), nines(p.figures.recall_mean), p))
                    .collect();
                line.sort_by(|a, b| a.0.total_cmp(&b.0));
                let at = line.iter().map(|(x, y, _)| (*x, *y));
                chart.draw_series(LineSeries::new(at.clone(), colour)).map_err(|e| failed(&e))?;
                let dots = at.map(|at| Circle::new(at, 4, colour.filled()));
                chart.draw_series(dots).map_err(|e| failed(&e))?;
            }
        }
        let exact = r.query_sets.iter().filter_map(|s| s.exact.as_ref());
        let marks = exact.map(|e| TriangleMarker::new((e.p50_us.max(0.1), high + 0.25), 8, EXACT.filled()));
        chart.draw_series(marks).map_err(|e| failed(&e))?;
        area.present().map_err(|e| failed(&e))?;
    }
    Ok(svg)
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

const STYLE: &str = "body{font:14px/1.45 system-ui,sans-serif;margin:2rem auto;max-width:1080px;color:#1a1f20}\
    table{border-collapse:collapse;margin:1rem 0}td,th{padding:.25rem .7rem .25rem 0;border-bottom:1px solid #dcdcd5;\
    text-align:right;font-variant-numeric:tabular-nums}td:first-child,th:first-child,.t{text-align:left}\
    code{font-family:monospace}.soft{color:#565a57}svg{max-width:100%;height:auto}";

/// One page that holds everything, with what repeats the sweep.
// Long because: one block a part of the page, in the order it is read.
fn page(sweep: &Sweep, collection: &str) -> Result<String> {
    let r = &sweep.result;
    let names: Vec<&str> = r.indexes.iter().map(|i| i.name.as_str()).collect();
    let title = format!("Sweep {} of {}: {}", sweep.id, collection, names.join(", "));
    let title = escaped(&title);
    let mut out = format!(
        "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><title>{title}</title><style>{STYLE}</style>\n\
         <h1>{title}</h1>\n<p class=\"soft\">{} at revision {}, {} cores of {}, Zesty Lantern {}.</p>\n",
        sweep.created_at.format("%Y-%m-%d %H:%M UTC"),
        r.revision,
        r.machine.cores,
        escaped(&r.machine.cpu),
        escaped(&r.machine.version)
    );
    out += &frontier(sweep)?;
    out += "\n<p class=\"soft\">";
    for (i, name) in names.iter().enumerate() {
        let RGBColor(red, green, blue) = COLOURS[i % COLOURS.len()];
        let _ =
            write!(out, "<span style=\"color:rgb({red},{green},{blue})\">&#9679;</span> {} ", escaped(name));
    }
    out += "<span style=\"color:#0b7a6f\">&#9650;</span> exact scan</p>\n";
    for set in &r.query_sets {
        let _ = writeln!(
            out,
            "<h2>{}</h2>\n<p class=\"soft\">{} queries among {} records; {} records were held out, {} queries left out.</p>",
            escaped(&set.name),
            set.n_queries,
            set.n_rows,
            set.n_held_out,
            set.n_left_out
        );
        out += "<table><tr><th>index<th class=\"t\">settings<th>k<th>clients<th>recall<th>19 of 20 in<th>p5<th>min<th>standout\
                <th>gap<th>p50 us<th>p95 us<th>p99 us<th>queries/s<th>distances</tr>\n";
        for p in r.points.iter().filter(|p| p.query_set == set.name) {
            let f = &p.figures;
            let standout = f.standout_recall.map_or_else(|| "none".into(), |x| format!("{x:.4}"));
            let _ = writeln!(
                out,
                "<tr><td>{}<td class=\"t\">{}<td>{}<td>{}<td>{:.4}<td>{:.4} to {:.4}<td>{:.2}<td>{:.2}<td>{standout}<td>{:.2}%\
                 <td>{:.0}<td>{:.0}<td>{:.0}<td>{:.0}<td>{:.0}</tr>",
                escaped(&p.index),
                p.settings,
                p.k,
                p.clients,
                f.recall_mean,
                f.recall_interval.low,
                f.recall_interval.high,
                f.recall_p5,
                f.recall_min,
                f.gap_mean * 100.0,
                f.p50_us,
                f.p95_us,
                f.p99_us,
                p.queries_per_s,
                f.distances_per_query
            );
        }
        out += "</table>\n";
    }
    out += "<h2>Indexes</h2>\n<table><tr><th>index<th class=\"t\">recipe<th>seed<th>memory, bytes<th>file, bytes<th>build, s</tr>\n";
    for i in &r.indexes {
        let _ = writeln!(
            out,
            "<tr><td>{}<td class=\"t\"><code>{}</code><td>{}<td>{}<td>{}<td>{:.1}</tr>",
            escaped(&i.name),
            escaped(&i.recipe),
            i.seed,
            i.n_bytes_memory,
            i.n_bytes_file,
            i.build_seconds
        );
    }
    out += "</table>\n";
    for notice in &r.notices {
        let _ = writeln!(out, "<p>{}</p>", escaped(&notice.text));
    }
    let spec = serde_json::to_string(&sweep.spec).unwrap_or_default();
    let _ = writeln!(out, "<h2>To repeat it</h2>\n<pre>{}</pre>\n</html>", escaped(&spec));
    Ok(out)
}
