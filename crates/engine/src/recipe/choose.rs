//! `auto`: the recipe that the service chooses, and why.

use crate::names::grouped as n;
use crate::recipe::check::DataShape;
use crate::recipe::form::{CellsRecipe, GraphRecipe, Prepare, Recipe, Route, Store};
use std::fmt;

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
        let graph = |inline_codes| Route::Graph(GraphRecipe { links, build, layers: true, inline_codes });
        let with = |route, store, rescore| Recipe { prepare: Prepare::default(), route, store, rescore };
        let bits = Store::Bits { planes: 1 };
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
            let overlapping = Route::Cells(CellsRecipe { overlap: true, ..CellsRecipe::default() });
            choices.push((
                with(overlapping, bits, Some(Store::F32)),
                "a bit a dimension in several cells, ranked with whole vectors on disk",
            ));
            choices.push((
                with(graph(false), bits, Some(Store::F32)),
                "walks on signs, ranks with whole vectors on disk",
            ));
        }
        choices.push((
            with(cells, Store::usual_pq(dimensions), Some(Store::F32)),
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
