//! The form of a recipe: its parts, as serde and the canonical text see them.

use crate::lines::whole_lines;
use serde::{Deserialize, Serialize};
use std::fmt;

/// What is done to vectors before they are stored.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Prepare {
    /// The mean is subtracted.
    pub center: bool,
    /// Only so many principal directions are kept.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reduce: Option<usize>,
    /// A rotation learned for the product codes that follow.
    pub rotate: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct GraphRecipe {
    /// Neighbours kept per node on upper layers; the ground layer keeps twice as many. 2 to 256.
    pub links: usize,
    /// Candidates kept open while a node is inserted. `links` to 4096.
    pub build: usize,
    /// Whether sparse upper layers lead to the entry of the ground layer.
    pub layers: bool,
    /// Whether the neighbours' codes are stored next to a node's links, so that one block of memory ranks them all.
    pub inline_codes: bool,
}

impl Default for GraphRecipe {
    fn default() -> Self {
        GraphRecipe { links: 16, build: 200, layers: true, inline_codes: false }
    }
}

/// How the nearest cells of a query are found.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Router {
    #[default]
    Scan,
    Graph,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct CellsRecipe {
    /// How many; `None` is about the square root of the rows, and four times as many if cells overlap.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub count: Option<usize>,
    pub router: Router,
    /// Whether the codes of rows lie in further cells too.
    pub overlap: bool,
}

impl CellsRecipe {
    /// The number of cells for so many rows.
    pub fn count_for(&self, rows: usize) -> usize {
        self.count.unwrap_or_else(|| {
            let root = (rows as f64).sqrt().max(1.0).log2().round().exp2() as usize;
            let count = if self.overlap { (4 * root).min(rows / 16) } else { root };
            count.clamp(1, rows.max(1))
        })
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CrossedRecipe {
    pub left: usize,
    pub right: usize,
}

/// How candidates are found.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Route {
    Scan,
    Graph(GraphRecipe),
    Cells(CellsRecipe),
    /// Two codebooks, one for each half of the dimensions; every pair of their entries is a cell.
    Crossed(CrossedRecipe),
}

/// How vectors are kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Store {
    #[default]
    F32,
    F16,
    Int8,
    /// The nearest of 256 (or 16) learned centres for each of so many parts of a vector.
    Pq {
        parts: usize,
        #[serde(default = "eight")]
        bits: usize,
    },
    /// So many bits for each dimension after a random rotation.
    Bits {
        #[serde(default = "one")]
        planes: usize,
    },
}

fn eight() -> usize {
    8
}

fn one() -> usize {
    1
}

impl Store {
    /// A product code of a byte for eight dimensions or more: as many parts as divide them.
    pub(crate) fn usual_pq(dimensions: usize) -> Store {
        let most = dimensions.div_ceil(8);
        let parts = (1..=most).rev().find(|parts| dimensions.is_multiple_of(*parts)).unwrap_or(1);
        Store::Pq { parts, bits: 8 }
    }

    /// The bytes of one vector, with the numbers that belong to its codes.
    pub fn n_bytes(self, dimensions: usize, metric: crate::Metric) -> usize {
        let squared = if metric == crate::Metric::Euclidean { 4 } else { 0 };
        match self {
            Store::F32 => 4 * dimensions,
            Store::F16 => 2 * dimensions,
            // With its scale.
            Store::Int8 => dimensions + 4 + squared,
            Store::Pq { parts, bits } => (parts * bits).div_ceil(8) + squared,
            // With a factor and the bound of the error, where they lie in blocks.
            Store::Bits { planes } => planes * dimensions.next_multiple_of(64) / 8 + 8 + squared,
        }
    }

    /// Whether it is a code that only estimates, and in cells tells only how a row differs from the centre.
    pub(crate) fn is_code(self) -> bool {
        matches!(self, Store::Pq { .. } | Store::Bits { .. })
    }

    /// Lower is finer. Product and bit codes cannot be compared with each other, and need not be.
    pub(crate) fn coarseness(self) -> usize {
        match self {
            Store::F32 => 0,
            Store::F16 => 1,
            Store::Int8 => 2,
            Store::Pq { .. } | Store::Bits { .. } => 3,
        }
    }
}

impl fmt::Display for Store {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match *self {
            Store::F32 => f.write_str("f32"),
            Store::F16 => f.write_str("f16"),
            Store::Int8 => f.write_str("int8"),
            Store::Pq { parts, bits: 8 } => write!(f, "pq({parts})"),
            Store::Pq { parts, bits } => write!(f, "pq({parts}, bits={bits})"),
            Store::Bits { planes: 1 } => f.write_str("bits"),
            Store::Bits { planes } => write!(f, "bits({planes})"),
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Recipe {
    #[serde(default, skip_serializing_if = "Prepare::is_empty")]
    pub prepare: Prepare,
    pub route: Route,
    #[serde(default)]
    pub store: Store,
    /// Finer vectors that re-rank candidates: f32, f16 or int8.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rescore: Option<Store>,
}

impl Prepare {
    pub fn is_empty(&self) -> bool {
        *self == Prepare::default()
    }
}

impl From<Route> for Recipe {
    fn from(route: Route) -> Self {
        Recipe { prepare: Prepare::default(), route, store: Store::F32, rescore: None }
    }
}

impl fmt::Display for Recipe {
    /// The canonical form: `links`, `build` are spelled out, the rest only where it is not the usual.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.stages().join(" | "))
    }
}

impl Recipe {
    /// The canonical text of each stage.
    pub fn stages(&self) -> Vec<String> {
        let mut stages = Vec::new();
        if self.prepare.center {
            stages.push("center".to_owned());
        }
        stages.extend(self.prepare.reduce.map(|to| format!("reduce({to})")));
        if self.prepare.rotate {
            stages.push("rotate".to_owned());
        }
        stages.push(match self.route {
            Route::Scan => "scan".to_owned(),
            Route::Graph(g) => {
                let layers = if g.layers { "" } else { ", layers=off" };
                let inline = if g.inline_codes { ", inline_codes=on" } else { "" };
                format!("graph(links={}, build={}{layers}{inline})", g.links, g.build)
            }
            Route::Cells(c) => {
                let count = c.count.map(|n| n.to_string());
                let router = (c.router == Router::Graph).then(|| "router=graph".to_owned());
                let overlap = c.overlap.then(|| "overlap=on".to_owned());
                let arguments: Vec<String> = count.into_iter().chain(router).chain(overlap).collect();
                if arguments.is_empty() {
                    "cells".to_owned()
                } else {
                    format!("cells({})", arguments.join(", "))
                }
            }
            Route::Crossed(c) => format!("cells({}x{})", c.left, c.right),
        });
        if self.store != Store::F32 {
            stages.push(self.store.to_string());
        }
        stages.extend(self.rescore.map(|finer| format!("rescore({finer})")));
        stages
    }

    /// Reads the JSON form, with the checks of the text.
    pub fn from_json(value: serde_json::Value) -> Result<Recipe, RecipeError> {
        let recipe: Recipe = serde_json::from_value(value)
            .map_err(|e| RecipeError { offset: 0, message: format!("not the JSON form of a recipe: {e}") })?;
        recipe.to_string().parse()
    }

    /// The setting that trades recall for speed, where there is one.
    pub fn setting(&self) -> Option<&'static str> {
        match self.route {
            Route::Scan => None,
            Route::Graph(_) => Some("beam"),
            Route::Cells(_) | Route::Crossed(_) => Some("visit"),
        }
    }

    /// Dimensions of what is stored.
    pub fn dimensions(&self, of_column: usize) -> usize {
        self.prepare.reduce.unwrap_or(of_column)
    }

    /// Bytes of what finds one row, of so many dimensions as are stored.
    pub(crate) fn n_bytes_stored(&self, stored: usize, metric: crate::Metric) -> usize {
        match self.store {
            // Whole lines hold what belongs to a code, but for the bound of its error.
            Store::Bits { planes } if !self.store.in_blocks(self.route) => {
                8 * whole_lines(1 + planes * stored.div_ceil(64)) + 4
            }
            store => store.n_bytes(stored, metric),
        }
    }

    /// Bytes of one row's vectors: codes, and the finer vectors for re-ranking.
    pub fn n_bytes_row(&self, dimensions: usize, metric: crate::Metric) -> usize {
        self.n_bytes_stored(self.dimensions(dimensions), metric)
            + self.rescore.map_or(0, |s| s.n_bytes(dimensions, metric))
    }
}

/// What is wrong with a recipe and where: `offset` counts bytes from its start.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct RecipeError {
    pub offset: usize,
    pub message: String,
}
