//! What a recipe means for so many rows of so many dimensions: stage by stage, in bytes, before anything is built.

use crate::names::grouped as n;
use crate::recipe::check::DataShape;
use crate::recipe::form::{CellsRecipe, CrossedRecipe, GraphRecipe, Recipe, Route, Router, Store};
use serde::{Deserialize, Serialize};

/// Fewer rows than this for each centre, and centres settle on single rows.
const FEW_PER_CENTER: usize = 39;

/// Bytes an index will take.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Expected {
    /// What searches read throughout: links, cells, codes or vectors.
    pub memory_bytes: u64,
    /// The whole file. Vectors for re-ranking are part of it, and may stay on disk.
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

/// An explanation that is being written, stage by stage.
struct Notes {
    recipe: Recipe,
    shape: DataShape,
    /// Dimensions after preparing.
    stored: usize,
    /// Rows that are learned from.
    sample: Option<usize>,
    /// The canonical text of each stage to come.
    texts: std::vec::IntoIter<String>,
    stages: Vec<StageNote>,
    notices: Vec<String>,
    /// Processor seconds of the build so far.
    seconds: f64,
}

fn millions(count: f64) -> f64 {
    count / 1e6
}

impl Notes {
    fn add(&mut self, what: String, bytes_per_row: f64, fixed: usize) {
        let stage = self.texts.next().unwrap_or_default();
        self.stages.push(StageNote { stage, what, bytes_per_row, fixed_bytes: fixed as u64 });
    }

    /// Bytes of a place for one-bit codes with its node and two numbers.
    fn place(&self) -> f64 {
        self.stored.next_multiple_of(64) as f64 / 8.0 + 8.0
    }

    /// What is done to vectors first.
    fn prepare(&mut self) {
        let DataShape { rows, dimensions, .. } = self.shape;
        let stored = self.stored;
        if self.recipe.prepare.center {
            self.add(
                "subtracts the mean, so that codes spend nothing on what all vectors share".into(),
                0.0,
                4 * dimensions,
            );
        }
        if let Some(to) = self.recipe.prepare.reduce {
            let side = dimensions.min(4096) as f64;
            self.seconds += 2e-10 * side * side * side + 2e-11 * (rows * to * dimensions) as f64;
            self.add(
                format!("keeps the {to} directions of {dimensions} along which vectors differ most (PCA)"),
                0.0,
                4 * to * dimensions,
            );
        }
        if self.recipe.prepare.rotate {
            self.seconds +=
                8e-9 * (stored as f64).powi(3) + 8e-6 * stored as f64 * self.sample.unwrap_or(0) as f64;
            let fixed = if self.recipe.prepare.reduce.is_some() { 0 } else { 4 * stored * stored };
            self.add("learns the rotation under which product codes lose least".into(), 0.0, fixed);
        }
    }

    /// A graph, with what lies at its nodes.
    fn graph(&mut self, g: GraphRecipe) {
        let DataShape { rows, dimensions, metric } = self.shape;
        let place = self.place();
        let upper = if g.layers { 4.0 * g.links as f64 / (g.links as f64 - 1.0) } else { 0.0 };
        let block = 32.0 * (g.links as f64 * 2.0 / 32.0).ceil();
        let inline = if g.inline_codes { block * place } else { 0.0 };
        self.seconds += millions((rows * g.build) as f64 * (g.links as f64 / 16.0).sqrt())
            * (0.25 + 1.2e-3 * dimensions as f64);
        let mut codes =
            if g.inline_codes { "; the neighbours' codes are stored next to the links" } else { "" }
                .to_owned();
        let (mut beside, mut learned) = (0.0, 0);
        if self.recipe.has_cells_beside(rows) {
            let count = Recipe::cells_beside(rows);
            let padded = dimensions.next_multiple_of(64);
            let place = 8 + padded / 8;
            let center = CellsRecipe::store(dimensions).n_bytes(dimensions, metric);
            // Half a block of each cell is not filled.
            beside = place as f64 * (1.0 + 16.0 * count as f64 / rows as f64);
            learned =
                count * (center + 8) + place * count.next_multiple_of(32) + 4 * dimensions + 16 * padded;
            self.seconds +=
                4e-11 * ((6 * 32 * count + rows) * count * dimensions) as f64 + millions(3.0 * rows as f64);
            codes.push_str("; cells with codes of one bit a dimension serve filters");
        }
        // Without heads, where a list begins.
        let mut head = 4.0;
        if let Some(bytes) = self.recipe.head(rows, dimensions) {
            head = bytes as f64;
            learned += 16 * dimensions.next_multiple_of(64) + 4 * dimensions;
            codes.push_str("; signs tell which neighbours need be read");
        }
        self.add(
            format!(
                "walks from node to node towards the query; up to {} neighbours a node on the ground{codes}",
                2 * g.links
            ),
            PER_NODE + lists(g.links, rows) + upper + 1.0 + head + inline + beside,
            learned,
        );
        if g.links > rows {
            self.notices.push(format!(
                "links={} is more than the {} rows: every node is linked to all others, and a scan is as good",
                g.links,
                n(rows)
            ));
        }
    }

    /// Cells around learned centres.
    fn cells(&mut self, c: CellsRecipe) {
        let DataShape { rows, metric, .. } = self.shape;
        let stored = self.stored;
        let place = self.place();
        let count = c.count_for(rows);
        let links = GraphRecipe::default().links;
        let router = if c.router == Router::Graph { count * (lists(links, count) as usize + 5) } else { 0 };
        let passes = self.sample.unwrap_or(0) * count * stored;
        self.seconds += 4e-11 * (12 * passes + rows * count * stored) as f64;
        let mut by =
            if c.router == Router::Graph { "a small graph finds" } else { "comparing all centres finds" };
        let center = CellsRecipe::store(stored).n_bytes(stored, metric);
        let (mut overlap, mut codes, mut twice) = (0.0, 0, "");
        if c.overlap {
            // Two places for each row, and half a block of each cell to fill it.
            overlap = place * (2.0 + 16.0 * count as f64 / rows as f64);
            twice = "; codes are stored in two cells or more";
            if c.router == Router::Scan {
                codes = count.next_multiple_of(32) * place as usize;
                by = "codes of the centres tell";
            }
            self.seconds += 4e-11 * (rows * count * stored) as f64 + millions(12.0 * rows as f64);
        }
        self.add(
            format!(
                "sorts rows into {} cells of about {} around learned centres; {by} the nearest cells{twice}",
                n(count),
                n(rows.div_ceil(count))
            ),
            PER_NODE + overlap,
            count * center + 4 * stored + 4 * (count + 1) + router + codes,
        );
        // Cells that share their rows may be small.
        let each = if c.overlap { FEW_PER_CENTER / 4 } else { FEW_PER_CENTER };
        few(&mut self.notices, "cells", count, rows, each);
    }

    /// Cells of two crossed codebooks.
    fn crossed(&mut self, c: CrossedRecipe) {
        let rows = self.shape.rows;
        let stored = self.stored;
        let count = c.left * c.right;
        self.seconds += 4e-11 * (8 * self.sample.unwrap_or(0) * (c.left + c.right) * stored) as f64;
        self.add(
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
        few(&mut self.notices, "cells", c.left.max(c.right), rows, FEW_PER_CENTER);
    }

    /// How vectors are kept.
    fn store(&mut self) {
        let DataShape { rows, metric, .. } = self.shape;
        let stored = self.stored;
        let mut own = self.recipe.n_bytes_stored(stored, metric) as f64;
        let mut codebooks = 0;
        if let Store::Pq { parts, bits } = self.recipe.store {
            codebooks = (4 * stored) << bits;
            self.seconds += millions((self.sample.unwrap_or(0) * 12 + rows) as f64 * parts as f64)
                * f64::from(1 << bits)
                / 3000.0;
            few(&mut self.notices, "centres of each part of pq", 1 << bits, rows, FEW_PER_CENTER);
        }
        // Blocks of 32 rows for each cell are filled up.
        if self.recipe.store.in_blocks(self.recipe.route) {
            let cells = self.recipe.n_cells(rows).unwrap_or(1);
            own *= 1.0 + (16 * cells) as f64 / rows.max(1) as f64;
        }
        if self.recipe.store == Store::F32 {
            if let Some(last) = self.stages.last_mut() {
                last.bytes_per_row += own;
                last.what.push_str("; vectors are kept as they are");
            }
        } else {
            let what = match self.recipe.store {
                Store::F16 => "keeps halves: half the bytes, hardly any loss".into(),
                Store::Int8 => "keeps a byte a dimension and one scale for each vector".into(),
                Store::Pq { parts, bits } => format!(
                    "keeps, for each of {parts} parts of {} dimensions, which of {} learned centres is nearest",
                    stored / parts,
                    1 << bits
                ),
                _ => "keeps signs after a random rotation, and what corrects the estimate: unbiased, with a bound".into(),
            };
            let stage = self.texts.next().unwrap_or_default();
            self.stages.push(StageNote { stage, what, bytes_per_row: own, fixed_bytes: codebooks as u64 });
        }
    }
}

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

    /// What each stage does with such data and costs; an error where it cannot be built.
    pub fn explain(&self, shape: DataShape) -> Result<Explanation, String> {
        self.check(shape)?;
        let mut notes = Notes {
            recipe: *self,
            shape,
            stored: self.dimensions(shape.dimensions),
            sample: self.sample(shape.rows, shape.dimensions),
            texts: self.stages().into_iter(),
            stages: Vec::new(),
            notices: Vec::new(),
            seconds: 0.0,
        };
        notes.prepare();
        match self.route {
            Route::Scan => notes.add("compares every row".into(), PER_NODE, 0),
            Route::Graph(graph) => notes.graph(graph),
            Route::Cells(cells) => notes.cells(cells),
            Route::Crossed(crossed) => notes.crossed(crossed),
        }
        notes.store();
        let DataShape { rows, dimensions, metric } = shape;
        let mut finish = 0;
        if let Some(finer) = self.rescore {
            finish = finer.n_bytes(dimensions, metric);
            let what = format!("re-ranks the best candidates with {finer} vectors, which may stay on disk");
            notes.add(what, finish as f64, 0);
        }
        let Notes { stages, notices, seconds, sample, .. } = notes;
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
        // Of rows that lie in several cells it is the codes there that are compared as a whole.
        let elsewhere = matches!(route, Route::Graph(_) | Route::Cells(CellsRecipe { overlap: true, .. }));
        !elsewhere && matches!(self, Store::Pq { bits: 4, .. } | Store::Bits { planes: 1 })
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Metric;
    use crate::recipe::choose::Wish;

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
            "graph(links=16, build=200, inline_codes=on) | bits | rescore(f32)"
        );
        assert_eq!(
            choose("auto(recall=0.99)", 1_000_000, 96),
            "graph(links=24, build=300) | int8 | rescore(f32)"
        );
        assert_eq!(
            choose("auto(memory=600)", 1_000_000, 384),
            "graph(links=16, build=200) | int8 | rescore(f32)"
        );
        assert_eq!(choose("auto(memory=300)", 1_000_000, 384), "cells(overlap=on) | bits | rescore(f32)");
        assert_eq!(choose("auto(memory=100)", 1_000_000, 384), "cells | pq(48) | rescore(f32)");
        assert_eq!(choose("auto", 1_000_000, 8), "graph(links=16, build=200)");
        assert!("graph".parse::<Wish>().unwrap().resolve(shape(5, 5)).1.is_none());
        for (text, part) in [
            ("auto(recall=2)", "0.5 to 0.999"),
            ("auto | int8", "takes no other stage"),
            ("auto(x=1)", "recall and memory"),
        ] {
            let error = text.parse::<Wish>().unwrap_err();
            assert!(error.message.contains(part), "{error}");
        }
    }
}
