//! The parts of a page that needs no service: its head, tables, drawings, and what repeats it.

use crate::problem::{Kind, Problem, Result};
use chrono::{DateTime, Utc};
use plotters::coord::Shift;
use plotters::prelude::*;
use resvg::{tiny_skia, usvg};
use serde::Serialize;
use std::fmt::Write;
use zesty_wire as wire;

pub const COLOURS: [RGBColor; 7] = [
    RGBColor(168, 91, 0),
    RGBColor(91, 111, 181),
    RGBColor(160, 77, 126),
    RGBColor(107, 127, 46),
    RGBColor(138, 106, 79),
    RGBColor(61, 127, 156),
    RGBColor(123, 94, 167),
];
pub const EXACT: RGBColor = RGBColor(11, 122, 111);

/// How many nines a recall has; all of them are drawn as four.
pub fn nines(recall: f64) -> f64 {
    -(1.0 - recall).max(1e-4).log10()
}

pub fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// What drawing may end in.
pub type Drawn = std::result::Result<(), Box<dyn std::error::Error>>;
pub type Area<'a> = DrawingArea<SVGBackend<'a>, Shift>;

/// A drawing as SVG.
pub fn drawing(size: (u32, u32), draw: impl FnOnce(&Area<'_>) -> Drawn) -> Result<String> {
    let mut svg = String::new();
    {
        let area = SVGBackend::with_string(&mut svg, size).into_drawing_area();
        let drawn = draw(&area).and_then(|()| Ok(area.present()?));
        drawn.map_err(|e| Problem::new(Kind::Internal, format!("the chart cannot be drawn: {e}")))?;
    }
    Ok(svg)
}

/// How a series is marked.
#[derive(Clone, Copy)]
pub enum Mark {
    Dot,
    Ring,
    Triangle,
}

/// Pixels at the right of a chart that its names take.
pub const NAMES: u32 = 400;

/// Names the series of a chart beside it, from the top down.
pub fn names(area: &Area<'_>, all: &[(RGBColor, Mark, String)]) -> Drawn {
    let left = area.dim_in_pixel().0.saturating_sub(NAMES) as i32 + 16;
    for (i, (colour, mark, name)) in all.iter().enumerate() {
        let at = (left, 24 + 22 * i as i32);
        match mark {
            Mark::Dot => area.draw(&Circle::new(at, 5, colour.filled()))?,
            Mark::Ring => area.draw(&Circle::new(at, 5, colour.stroke_width(2)))?,
            Mark::Triangle => area.draw(&TriangleMarker::new(at, 6, colour.filled()))?,
        }
        area.draw(&Text::new(name.clone(), (at.0 + 14, at.1 - 6), ("sans-serif", 13)))?;
    }
    Ok(())
}

/// The letters of pictures, so that they are the same on machines without fonts.
const FONT: &[u8] = include_bytes!("../../../fonts/DejaVuSans-latin.ttf");

/// A drawing as PNG, twice as large as it says, on white.
pub fn png(svg: &str) -> Result<Vec<u8>> {
    let failed = |e: String| Problem::new(Kind::Internal, format!("the picture cannot be drawn: {e}"));
    let mut options = usvg::Options { font_family: "DejaVu Sans".into(), ..usvg::Options::default() };
    let fonts = options.fontdb_mut();
    fonts.load_font_data(FONT.to_vec());
    fonts.set_sans_serif_family("DejaVu Sans");
    let tree = usvg::Tree::from_str(svg, &options).map_err(|e| failed(e.to_string()))?;
    let size = tree.size().to_int_size();
    let picture = tiny_skia::Pixmap::new(2 * size.width(), 2 * size.height());
    let mut picture = picture.ok_or_else(|| failed("it has no size".into()))?;
    picture.fill(tiny_skia::Color::WHITE);
    resvg::render(&tree, tiny_skia::Transform::from_scale(2.0, 2.0), &mut picture.as_mut());
    picture.encode_png().map_err(|e| failed(e.to_string()))
}

const STYLE: &str = "body{font:14px/1.45 system-ui,sans-serif;margin:2rem auto;max-width:1080px;color:#1a1f20}\
    table{border-collapse:collapse;margin:1rem 0}td,th{padding:.25rem .7rem .25rem 0;border-bottom:1px solid #dcdcd5;\
    text-align:right;font-variant-numeric:tabular-nums}td:first-child,th:first-child,.t{text-align:left}\
    code{font-family:monospace}.soft{color:#565a57}svg{max-width:100%;height:auto}pre{white-space:pre-wrap}";

/// A page that is being written.
pub struct Page {
    pub out: String,
}

impl Page {
    /// When and where it was measured stands under the title.
    pub fn new(title: &str, (at, revision, machine): (DateTime<Utc>, u64, &wire::Machine)) -> Page {
        let title = escaped(title);
        let out = format!(
            "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><title>{title}</title><style>{STYLE}</style>\n\
             <h1>{title}</h1>\n<p class=\"soft\">{} at revision {revision}, {} cores of {}, Zesty Lantern {}.</p>\n",
            at.format("%Y-%m-%d %H:%M UTC"),
            machine.cores,
            escaped(&machine.cpu),
            escaped(&machine.version)
        );
        Page { out }
    }

    pub fn heading(&mut self, text: &str) {
        let _ = writeln!(self.out, "<h2>{}</h2>", escaped(text));
    }

    pub fn text(&mut self, text: &str) {
        let _ = writeln!(self.out, "<p class=\"soft\">{}</p>", escaped(text));
    }

    /// `headings` are parted by `|`; a column of words begins with a dot.
    pub fn table(&mut self, headings: &str, rows: impl Iterator<Item = Vec<String>>) {
        let words: Vec<bool> = headings.split('|').map(|h| h.starts_with('.')).collect();
        let line = |cell: &str, values: Vec<String>| {
            let cells = values.iter().enumerate().map(|(i, value)| {
                let class = if words.get(i) == Some(&true) { " class=\"t\"" } else { "" };
                format!("<{cell}{class}>{}", escaped(value))
            });
            format!("<tr>{}</tr>\n", cells.collect::<String>())
        };
        let heads = headings.split('|').map(|h| h.trim_start_matches('.').to_owned());
        self.out += "<table>";
        self.out += &line("th", heads.collect());
        rows.for_each(|row| self.out += &line("td", row));
        self.out += "</table>\n";
    }

    /// Notices, and the request that repeats it.
    pub fn end(mut self, notices: &[wire::Notice], spec: &impl Serialize) -> String {
        for notice in notices {
            let _ = writeln!(self.out, "<p>{}</p>", escaped(&notice.text));
        }
        self.heading("To repeat it");
        let spec = serde_json::to_string(spec).unwrap_or_default();
        let _ = writeln!(self.out, "<pre>{}</pre>\n</html>", escaped(&spec));
        self.out
    }
}
