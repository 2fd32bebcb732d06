//! What a recipe means for so many rows of so many dimensions: stage by stage, in bytes, before anything is built.

use super::parse::parts_divide;
use super::{CellsRecipe, GraphRecipe, Prepare, Recipe, RecipeError, Route, Router, Store};
use crate::Metric;
use crate::names::grouped as n;
use serde::{Deserialize, Serialize};
use std::fmt;

/// The most dimensions a learned rotation may have: it is a square matrix, found by many decompositions.
const MOST_ROTATED: usize = 2048;

/// Fewer rows than this for each centre, and centres settle on single rows.
const FEW_PER_CENTER: usize = 39;

/// The shape of the data that a recipe is held against.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct DataShape {
    pub rows: usize,
    pub dimensions: usize,
    pub metric: Metric,
}

/// Bytes an index will take.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Expected {
    /// What searches read throughout: links, cells, codes or vectors.
    pub memory_bytes: u64,
    /// The whole file; what candidates are ranked with anew is part of it, and may stay on disk.
    pub file_bytes: u64,
    /// Processor seconds of the build, about, on a CPU of 2024.
    pub build_seconds: f64,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct StageNote {
    pub stage: String,
    pub what: String,
    /// Bytes that each row adds.
    pub bytes_per_row: f64,
    /// Bytes whatever the number of rows.
    pub fixed_bytes: u64,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Explanation {
    /// The canonical text.
    pub recipe: String,
    pub stages: Vec<StageNote>,
    pub expected: Expected,
    /// Rows that what is learned (means, directions, centres) is learned from.
    pub learns_from: Option<usize>,
    pub notices: Vec<String>,
}

/// Bytes of a node's list on the ground of a graph. Two thirds of the places are taken on real embeddings.
fn lists(links: usize, nodes: usize) -> f64 {
    let taken = (2.0 * links as f64 * 0.67).min(nodes as f64);
    taken * if nodes <= 1 << 24 { 3.0 } else { 4.0 }
}

/// Bytes that every node takes: its record's number and a fingerprint of its vector.
const PER_NODE: f64 = 8.0 + 4.0;

impl Recipe {
    /// How many rows each learned part is taught with, at most.
    pub(crate) fn sample(&self, rows: usize, dimensions: usize) -> Option<usize> {
        let mut most = 0;
        match self.route {
            Route::Cells(c) => most = most.max(256 * c.count_for(rows)),
            Route::Crossed(c) => most = most.max(256 * c.left.max(c.right)),
            _ => {}
        }
        if let Store::Pq { bits, .. } = self.store {
            most = most.max(256 << bits);
        }
        if self.prepare.reduce.is_some() || self.prepare.rotate {
            most = most.max(20_000).max(20 * dimensions.min(4096));
        }
        if self.prepare.center {
            most = most.max(100_000);
        }
        (most > 0).then(|| most.min(rows).min(1 << 20))
    }

    /// Why an index cannot be built of this recipe on such data, if it cannot.
    pub fn check(&self, shape: DataShape) -> Result<(), String> {
        let DataShape { rows, dimensions, .. } = shape;
        if let Some(to) = self.prepare.reduce
            && to >= dimensions
        {
            return Err(format!(
                "reduce({to}) would keep {to} of {dimensions} dimensions; use fewer than {dimensions}, or leave reduce out"
            ));
        }
        let stored = self.dimensions(dimensions);
        if self.prepare.rotate && stored > MOST_ROTATED {
            return Err(format!(
                "rotate learns a matrix of {stored} x {stored}, and is limited to {} dimensions; put \
                 reduce({MOST_ROTATED}) or less before it",
                n(MOST_ROTATED)
            ));
        }
        if let Store::Pq { parts, .. } = self.store {
            parts_divide(parts, stored)?;
        }
        if rows == 0 && (self.learns().is_some()) {
            return Err(format!(
                "{} learns from the data, and there are no rows yet; load some, or use graph or scan",
                self.learns().expect("just seen")
            ));
        }
        let cells = match self.route {
            Route::Cells(c) => c.count.map(|count| (count, format!("cells({count})"))),
            Route::Crossed(c) => {
                if stored < 2 {
                    return Err(
                        "crossed codebooks take one half of the dimensions each, and there is only one"
                            .into(),
                    );
                }
                Some((c.left.max(c.right), format!("cells({}x{})", c.left, c.right)))
            }
            _ => None,
        };
        if let Some((count, text)) = cells
            && count > rows
        {
            let fits = CellsRecipe::default().count_for(rows);
            return Err(format!(
                "{text} asks for more cells than there are rows ({}); use cells({fits}), or cells without a number",
                n(rows)
            ));
        }
        Ok(())
    }

    /// The stage that cannot do without data.
    fn learns(&self) -> Option<&'static str> {
        match (self.route, self.store) {
            (Route::Cells(_) | Route::Crossed(_), _) => Some("cells"),
            (_, Store::Pq { .. }) => Some("pq"),
            _ if self.prepare.reduce.is_some() => Some("reduce"),
            _ => None,
        }
    }

    /// What each stage does with such data and costs; an error where it cannot be built.
    pub fn explain(&self, shape: DataShape) -> Result<Explanation, String> {
        self.check(shape)?;
        let DataShape { rows, dimensions, metric } = shape;
        let stored = self.dimensions(dimensions);
        let texts = self.stages();
        let mut texts = texts.into_iter();
        let mut stages = Vec::new();
        let mut notices = Vec::new();
        let mut add = |what: String, bytes_per_row: f64, fixed: usize| {
            let stage = texts.next().unwrap_or_default();
            stages.push(StageNote { stage, what, bytes_per_row, fixed_bytes: fixed as u64 });
        };
        let sample = self.sample(rows, dimensions);
        let mut seconds = 0.0;
        let millions = |count: f64| count / 1e6;
        if self.prepare.center {
            add(
                "subtracts the mean, so that codes spend nothing on what all vectors share".into(),
                0.0,
                4 * dimensions,
            );
        }
        if let Some(to) = self.prepare.reduce {
            let side = dimensions.min(4096) as f64;
            seconds += 2e-10 * side * side * side + 2e-11 * (rows * to * dimensions) as f64;
            add(
                format!("keeps the {to} directions of {dimensions} along which vectors differ most (PCA)"),
                0.0,
                4 * to * dimensions,
            );
        }
        if self.prepare.rotate {
            seconds += 8e-9 * (stored as f64).powi(3) + 8e-6 * stored as f64 * sample.unwrap_or(0) as f64;
            let fixed = if self.prepare.reduce.is_some() { 0 } else { 4 * stored * stored };
            add("learns the rotation under which product codes lose least".into(), 0.0, fixed);
        }
        // A place for one-bit codes with its node and two numbers.
        let place = stored.next_multiple_of(64) as f64 / 8.0 + 8.0;
        match self.route {
            Route::Scan => add("compares every row".into(), PER_NODE, 0),
            Route::Graph(g) => {
                let upper = if g.layers { 4.0 * g.links as f64 / (g.links as f64 - 1.0) } else { 0.0 };
                let block = 32.0 * (g.links as f64 * 2.0 / 32.0).ceil();
                let beside = if g.beside { block * place } else { 0.0 };
                seconds += millions((rows * g.build) as f64 * (g.links as f64 / 16.0).sqrt())
                    * (0.25 + 1.2e-3 * dimensions as f64);
                let mut codes =
                    if g.beside { "; the neighbours' codes lie beside the links" } else { "" }.to_owned();
                let (mut sketch, mut learned) = (0.0, 0);
                if let Some(parts) = self.sketch(rows, dimensions) {
                    (sketch, learned) = (parts.div_ceil(2) as f64, 64 * dimensions);
                    seconds += millions(((4096 * 12 + rows) * parts) as f64) / 190.0;
                    codes.push_str("; sketches serve filters that allow only what lies far");
                }
                // Without heads, where a list begins.
                let mut head = 4.0;
                if let Some(bytes) = self.head(rows, dimensions) {
                    head = bytes as f64;
                    learned += 16 * dimensions.next_multiple_of(64) + 4 * dimensions;
                    codes.push_str("; signs tell which neighbours need be read");
                }
                add(
                    format!(
                        "walks from node to node towards the query; up to {} neighbours a node on the ground{codes}",
                        2 * g.links
                    ),
                    PER_NODE + lists(g.links, rows) + upper + 1.0 + head + beside + sketch,
                    learned,
                );
                if g.links > rows {
                    notices.push(format!(
                        "links={} is more than the {} rows: every node is linked to all others, and a scan is as good",
                        g.links,
                        n(rows)
                    ));
                }
            }
            Route::Cells(c) => {
                let count = c.count_for(rows);
                let links = GraphRecipe::default().links;
                let router =
                    if c.router == Router::Graph { count * (lists(links, count) as usize + 5) } else { 0 };
                let passes = sample.unwrap_or(0) * count * stored;
                seconds += 4e-11 * (12 * passes + rows * count * stored) as f64;
                let mut by = if c.router == Router::Graph {
                    "a small graph finds"
                } else {
                    "comparing all centres finds"
                };
                let center = CellsRecipe::store(stored).n_bytes(stored, metric);
                let (mut spilled, mut codes, mut twice) = (0.0, 0, "");
                if c.spill {
                    // Two places for each row, and half a block of each cell to fill it.
                    spilled = place * (2.0 + 16.0 * count as f64 / rows as f64);
                    twice = "; codes lie in two cells or more";
                    if c.router == Router::Scan {
                        codes = count.next_multiple_of(32) * place as usize;
                        by = "codes of the centres tell";
                    }
                    seconds += 4e-11 * (rows * count * stored) as f64 + millions(12.0 * rows as f64);
                }
                add(
                    format!(
                        "sorts rows into {} cells of about {} around learned centres; {by} the nearest cells{twice}",
                        n(count),
                        n(rows.div_ceil(count))
                    ),
                    PER_NODE + spilled,
                    count * center + 4 * stored + 4 * (count + 1) + router + codes,
                );
                // Cells that share their rows may be small.
                let each = if c.spill { FEW_PER_CENTER / 4 } else { FEW_PER_CENTER };
                few(&mut notices, "cells", count, rows, each);
            }
            Route::Crossed(c) => {
                let count = c.left * c.right;
                seconds += 4e-11 * (8 * sample.unwrap_or(0) * (c.left + c.right) * stored) as f64;
                add(
                    format!(
                        "learns {} centres for one half of the dimensions and {} for the other; each of the {} pairs is a \
                         cell, visited from the nearest",
                        c.left,
                        c.right,
                        n(count)
                    ),
                    PER_NODE,
                    4 * (c.left * (stored / 2) + c.right * (stored - stored / 2)) + 4 * (count + 1),
                );
                few(&mut notices, "cells", c.left.max(c.right), rows, FEW_PER_CENTER);
            }
        }
        let mut own = self.store.n_bytes(stored, metric) as f64;
        let mut codebooks = 0;
        if let Store::Pq { parts, bits } = self.store {
            codebooks = (4 * stored) << bits;
            seconds += millions((sample.unwrap_or(0) * 12 + rows) as f64 * parts as f64)
                * f64::from(1 << bits)
                / 3000.0;
            few(&mut notices, "centres of each part of pq", 1 << bits, rows, FEW_PER_CENTER);
        }
        // Blocks of 32 rows for each cell are filled up.
        if self.store.in_blocks(self.route) {
            let cells = self.n_cells(rows).unwrap_or(1);
            own *= 1.0 + (16 * cells) as f64 / rows.max(1) as f64;
        }
        if self.store == Store::F32 {
            if let Some(last) = stages.last_mut() {
                last.bytes_per_row += own;
                last.what.push_str("; vectors are kept as they are");
            }
        } else {
            let what = match self.store {
                Store::F16 => "keeps halves: half the bytes, hardly any loss".into(),
                Store::Int8 => "keeps a byte a dimension and one scale for each vector".into(),
                Store::Pq { parts, bits } => format!(
                    "keeps, for each of {parts} parts of {} dimensions, which of {} learned centres is nearest",
                    stored / parts,
                    1 << bits
                ),
                _ => "keeps signs after a random rotation, and what corrects the estimate: unbiased, with a bound".into(),
            };
            let stage = texts.next().unwrap_or_default();
            stages.push(StageNote { stage, what, bytes_per_row: own, fixed_bytes: codebooks as u64 });
        }
        let mut finish = 0;
        if let Some(finer) = self.rescore {
            finish = finer.n_bytes(dimensions, metric);
            let what = format!("ranks the best candidates anew with {finer} vectors, which may stay on disk");
            let stage = texts.next().unwrap_or_default();
            stages.push(StageNote { stage, what, bytes_per_row: finish as f64, fixed_bytes: 0 });
        }
        let file: f64 = stages.iter().map(|s| s.bytes_per_row * rows as f64 + s.fixed_bytes as f64).sum();
        let expected = Expected {
            memory_bytes: (file - (finish * rows) as f64) as u64,
            file_bytes: file as u64,
            build_seconds: seconds + 1e-9 * (rows * dimensions) as f64,
        };
        Ok(Explanation { recipe: self.to_string(), stages, expected, learns_from: sample, notices })
    }

    /// The number of cells, where there are any.
    pub(crate) fn n_cells(&self, rows: usize) -> Option<usize> {
        match self.route {
            Route::Cells(c) => Some(c.count_for(rows)),
            Route::Crossed(c) => Some(c.left * c.right),
            _ => None,
        }
    }
}

impl Store {
    /// Whether rows lie in blocks of 32, transposed, for registers to look up: where whole runs of rows are compared.
    pub(crate) fn in_blocks(self, route: Route) -> bool {
        let runs = !matches!(route, Route::Graph(_));
        runs && matches!(self, Store::Pq { bits: 4, .. } | Store::Bits { planes: 1 })
    }
}

fn few(notices: &mut Vec<String>, what: &str, centers: usize, rows: usize, each: usize) {
    let enough = each * centers;
    if rows < enough {
        notices.push(format!(
            "{} {what} are learned from {} rows, fewer than {each} each; {} rows would do",
            n(centers),
            n(rows),
            n(enough)
        ));
    }
}

/// A recipe, or the wish that one be chosen: `auto`, `auto(recall=0.95, memory=200)`.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Wish {
    Exactly(Recipe),
    Auto {
        /// What searches should reach, 0.5 to 0.999.
        recall: f64,
        /// Megabytes (10^6 bytes) that searches may keep in memory.
        memory_mb: Option<f64>,
    },
}

impl fmt::Display for Wish {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Wish::Exactly(recipe) => recipe.fmt(f),
            Wish::Auto { recall, memory_mb: None } => write!(f, "auto(recall={recall})"),
            Wish::Auto { recall, memory_mb: Some(mb) } => write!(f, "auto(recall={recall}, memory={mb})"),
        }
    }
}

impl std::str::FromStr for Wish {
    type Err = RecipeError;

    fn from_str(text: &str) -> Result<Self, RecipeError> {
        match super::parse::auto(text) {
            Some(wish) => wish,
            None => text.parse().map(Wish::Exactly),
        }
    }
}

impl Wish {
    /// The recipe for such data, and why it was chosen where it was.
    pub fn resolve(self, shape: DataShape) -> (Recipe, Option<String>) {
        let (recall, memory_mb) = match self {
            Wish::Exactly(recipe) => return (recipe, None),
            Wish::Auto { recall, memory_mb } => (recall, memory_mb),
        };
        let DataShape { rows, dimensions, .. } = shape;
        let megabytes = |bytes: u64| bytes as f64 / 1e6;
        let budget = memory_mb.map_or(f64::INFINITY, |mb| mb);
        // About a millisecond of reading.
        let plain = (rows * dimensions * 4) as u64;
        if plain < 8_000_000 && megabytes(plain) <= budget {
            let why = format!(
                "{} rows are {:.1} MB: comparing them all takes about a millisecond, and is exact",
                n(rows),
                megabytes(plain)
            );
            return (Route::Scan.into(), Some(why));
        }
        let (links, build) = if recall > 0.97 { (24, 300) } else { (16, 200) };
        let graph = |beside| Route::Graph(GraphRecipe { links, build, layers: true, beside });
        let with = |route, store, rescore| Recipe { prepare: Prepare::default(), route, store, rescore };
        let bits = Store::Bits { planes: 1 };
        let parts = (1..=dimensions.div_ceil(8)).rev().find(|p| dimensions.is_multiple_of(*p)).unwrap_or(1);
        let cells = Route::Cells(CellsRecipe::default());
        // Fastest first; codes of few dimensions blur too much.
        let mut choices = Vec::new();
        if dimensions >= 128 {
            choices.push((
                with(graph(true), bits, Some(Store::F32)),
                "one block of memory for each step of a walk",
            ));
        }
        if dimensions >= 32 {
            choices.push((
                with(graph(false), Store::Int8, Some(Store::F32)),
                "walks on bytes, ranks with whole vectors",
            ));
        } else {
            choices.push((graph(false).into(), "short vectors are best walked as they are"));
        }
        if dimensions >= 128 {
            let spilled = Route::Cells(CellsRecipe { spill: true, ..CellsRecipe::default() });
            choices.push((
                with(spilled, bits, Some(Store::F32)),
                "a bit a dimension in several cells, ranked with whole vectors on disk",
            ));
            choices.push((
                with(graph(false), bits, Some(Store::F32)),
                "walks on signs, ranks with whole vectors on disk",
            ));
        }
        choices.push((
            with(cells, Store::Pq { parts, bits: 8 }, Some(Store::F32)),
            "the shortest codes that still find their way, ranked with whole vectors on disk",
        ));
        let sized: Vec<_> = choices
            .into_iter()
            .filter_map(|(recipe, why)| {
                Some((recipe, why, recipe.explain(shape).ok()?.expected.memory_bytes))
            })
            .collect();
        let fits = sized.iter().find(|(_, _, bytes)| megabytes(*bytes) <= budget);
        match fits.or_else(|| sized.iter().min_by_key(|(_, _, bytes)| *bytes)) {
            Some((recipe, why, bytes)) => {
                let limit = match memory_mb {
                    Some(mb) if megabytes(*bytes) > mb => {
                        format!("; nothing keeps within {mb} MB, this is the smallest")
                    }
                    Some(mb) => format!(", within {mb} MB"),
                    None => String::new(),
                };
                let why = format!(
                    "for {} rows x {dimensions} and recall {recall}: {why}; about {:.0} MB in memory{limit}",
                    n(rows),
                    megabytes(*bytes)
                );
                (*recipe, Some(why))
            }
            None => (graph(false).into(), Some("there are no rows to choose by yet".into())),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shape(rows: usize, dimensions: usize) -> DataShape {
        DataShape { rows, dimensions, metric: Metric::Cosine }
    }

    fn refusal(text: &str, rows: usize, dimensions: usize) -> String {
        text.parse::<Recipe>().unwrap().explain(shape(rows, dimensions)).unwrap_err()
    }

    #[test]
    fn what_cannot_be_built_says_what_would_work() {
        for (text, rows, dimensions, part) in [
            ("graph | pq(7)", 1000, 384, "use pq(6) or pq(8)"),
            ("graph | pq(500)", 1000, 384, "use pq(384)"),
            ("cells(2000)", 1000, 384, "use cells(32)"),
            ("cells(2000x2)", 1000, 384, "more cells than there are rows (1,000)"),
            ("cells(2x2)", 1000, 1, "one half"),
            ("reduce(384) | graph", 1000, 384, "fewer than 384"),
            ("rotate | scan | pq(64)", 100_000, 16_384, "reduce(2048)"),
            ("graph | pq(8)", 0, 384, "no rows yet"),
            ("cells", 0, 384, "no rows yet"),
        ] {
            let why = refusal(text, rows, dimensions);
            assert!(why.contains(part), "{text}: {why}");
        }
        assert!("graph".parse::<Recipe>().unwrap().explain(shape(0, 384)).is_ok());
    }

    #[test]
    fn little_data_is_noticed_with_the_number_that_would_do() {
        let notices =
            |text: &str, rows| text.parse::<Recipe>().unwrap().explain(shape(rows, 384)).unwrap().notices;
        assert!(notices("cells(100)", 3000)[0].contains("3,900 rows would do"));
        assert!(notices("scan | pq(48)", 3000)[0].contains("9,984 rows would do"));
        assert!(notices("graph(links=16)", 10)[0].contains("every node is linked"));
        assert_eq!(notices("cells(100) | pq(48)", 10_000), Vec::<String>::new());
    }

    #[test]
    fn auto_follows_size_memory_and_recall() {
        let choose = |text: &str, rows, dimensions| {
            let (recipe, why) = text.parse::<Wish>().unwrap().resolve(shape(rows, dimensions));
            assert!(why.is_some() && recipe.check(shape(rows, dimensions)).is_ok(), "{text}");
            recipe.to_string()
        };
        assert_eq!(choose("auto", 2000, 384), "scan");
        assert_eq!(
            choose("auto", 1_000_000, 384),
            "graph(links=16, build=200, beside=on) | bits | rescore(f32)"
        );
        assert_eq!(
            choose("auto(recall=0.99)", 1_000_000, 96),
            "graph(links=24, build=300) | int8 | rescore(f32)"
        );
        assert_eq!(
            choose("auto(memory=600)", 1_000_000, 384),
            "graph(links=16, build=200) | int8 | rescore(f32)"
        );
        assert_eq!(choose("auto(memory=300)", 1_000_000, 384), "cells(spill=on) | bits | rescore(f32)");
        assert_eq!(choose("auto(memory=100)", 1_000_000, 384), "cells | pq(48) | rescore(f32)");
        assert_eq!(choose("auto", 1_000_000, 8), "graph(links=16, build=200)");
        assert!("graph".parse::<Wish>().unwrap().resolve(shape(5, 5)).1.is_none());
        for (text, part) in [
            ("auto(recall=2)", "0.5 to 0.999"),
            ("auto | int8", "stands alone"),
            ("auto(x=1)", "recall and memory"),
        ] {
            let error = text.parse::<Wish>().unwrap_err();
            assert!(error.message.contains(part), "{error}");
        }
    }
}
