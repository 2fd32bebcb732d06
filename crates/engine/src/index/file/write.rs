//! Writing an index file.

use crate::index::cells::beside::Beside;
use crate::index::cells::layout::{Cells, Centers};
use crate::index::cells::overlap::Places;
use crate::index::cells::widths::{SEEN, VISITS};
use crate::index::file::version::FORMAT_VERSION;
use crate::index::graph::heads::Heads;
use crate::index::graph::walk::Graph;
use crate::index::graph::walk::Lists;
use crate::index::reach::{DEPTHS, SHARES};
use crate::index::store::blocks;
use crate::index::store::rows::BitCodes;
use crate::index::store::rows::Rows;
use crate::index::store::transform::Transform;
use crate::index::structure::Index;
use crate::index::structure::Structure;
use crate::tensors::{FileError, Kept, Tensors, crc};
use std::path::Path;

/// The tensors of an index.
#[derive(Default)]
struct Parts<'a>(Tensors<'a>);

impl<'a> Parts<'a> {
    fn add<T: Kept>(&mut self, name: impl Into<String>, values: &'a [T], shape: &[usize]) {
        self.0.add(name, values, shape);
    }

    fn add_rows(&mut self, name: &str, rows: &'a Rows, n: usize, d: usize) {
        let within = |part: &str| format!("{name}.{part}");
        match rows {
            Rows::F32(v) => self.add(name, v, &[n, d]),
            Rows::F16(v) => self.add(name, v, &[n, d]),
            Rows::Int8 { codes, scale, squared } => {
                self.add(name, codes, &[n, d]);
                self.add(within("scale"), scale, &[n]);
                if let Some(squared) = squared {
                    self.add(within("squared"), squared, &[n]);
                }
            }
            Rows::Product { books, codes, in_blocks, squared } => {
                if *in_blocks {
                    let block = blocks::n_bytes(books.parts);
                    self.add(name, codes, &[codes.len() / block, block / blocks::ROWS, blocks::ROWS]);
                } else {
                    self.add(name, codes, &[n, (books.parts * books.bits).div_ceil(8)]);
                }
                let centers = 1 << books.bits;
                let shape = [books.parts, books.dimensions / books.parts, centers];
                self.add("codebooks", &books.columns, &shape);
                if let Some(squared) = squared {
                    self.add(within("squared"), squared, &[n]);
                }
            }
            Rows::Bits { rotation, planes, codes, error } => {
                match codes {
                    BitCodes::Lines(records) => {
                        self.add(name, records, &[n, BitCodes::words(rotation.padded, *planes)]);
                    }
                    BitCodes::Blocks { codes, factor, squared } => {
                        let block = blocks::n_bytes(rotation.padded / 4);
                        self.add(name, codes, &[codes.len() / block, block / blocks::ROWS, blocks::ROWS]);
                        self.add(within("factor"), factor, &[n]);
                        if let Some(squared) = squared {
                            self.add(within("squared"), squared, &[n]);
                        }
                    }
                }
                self.add(within("signs"), &rotation.signs, &[4, rotation.padded]);
                self.add(within("error"), error, &[n]);
            }
        }
    }

    fn add_cells(&mut self, prefix: &str, cells: &'a Cells) {
        let name = |part: &str| format!("{prefix}{part}");
        let d = cells.dimensions;
        self.add(name("starts"), &cells.starts, &[cells.count() + 1]);
        if let Centers::Whole { .. } = *cells.centers {
            self.add(name("spread"), &cells.spread, &[cells.count()]);
        }
        if let Some(overlap) = &cells.overlap {
            self.add(name("overlap.starts"), &overlap.starts, &[cells.count() + 1]);
            self.add_places(&name("overlap"), overlap);
        }
        if let Some(codes) = &cells.center_codes {
            self.add_places(&name("centers.codes"), codes);
        }
        match &*cells.centers {
            Centers::Whole { mean, rows, graph } => {
                self.add(name("centers.mean"), mean, &[d]);
                self.add_rows(&name("centers"), rows, cells.count(), d);
                if let Some(graph) = graph {
                    self.add_graph(&name("router."), graph);
                }
            }
            Centers::Crossed { left, right } => {
                let half = d / 2;
                self.add(name("centers.left"), left, &[left.len() / half, half]);
                self.add(name("centers.right"), right, &[right.len() / (d - half), d - half]);
            }
        }
    }

    fn add_places(&mut self, name: &str, places: &'a Places) {
        let n_blocks = places.n_places() / blocks::ROWS;
        self.add(name, &places.records, &[n_blocks, places.records.len() / n_blocks.max(1)]);
    }

    fn add_graph(&mut self, prefix: &str, g: &'a Graph) {
        let name = |part: &str| format!("{prefix}{part}");
        let n = g.level.len();
        match &g.lists {
            Lists::Starts(starts) => self.add(name("ground_start"), starts, &[n + 1]),
            Lists::Heads(Heads { center, rotation, records }) => {
                self.add(name("heads"), records, &[n, records.len() / n]);
                self.add(name("heads.signs"), &rotation.signs, &[4, rotation.padded]);
                let mean = center.mean.as_ref().expect("it takes off a mean");
                self.add(name("heads.mean"), mean, &[mean.len()]);
            }
        }
        let width = Graph::width(n);
        self.add(name("ground"), &g.ground, &[g.ground.len() / width, width]);
        self.add(name("upper"), &g.upper, &[g.upper.len() / g.links, g.links]);
        self.add(name("level"), &g.level, &[n]);
        self.0.say(name("entry"), g.entry.to_string());
        if let Some(before) = &g.before {
            self.add("before.held_out", &before.held_out, &[before.held_out.len()]);
            self.add("before.adds", &before.adds, &[before.adds.len() / 2, 2]);
            self.add("before.nodes", &before.nodes, &[before.nodes.len()]);
            self.add("before.starts", &before.starts, &[before.starts.len()]);
            self.add("before.ground", &before.ground, &[before.ground.len() / width, width]);
            self.add("before.lists", &before.lists, &[before.lists.len()]);
            self.add("before.upper", &before.upper, &[before.lists.len(), g.links]);
            self.0.say("before.entry", before.entry.to_string());
        }
    }
}

impl Index {
    /// Writes the index to `path`, atomically and durably. Returns the bytes written.
    // Long because: one line a tensor, in the order of the format.
    pub fn write(&self, path: &Path) -> Result<u64, FileError> {
        let n = self.len();
        let Transform { from, to, .. } = *self.transform;
        let mut parts = Parts::default();
        parts.add_rows("stored", &self.rows, n, to);
        if let Some(finer) = &self.finer {
            parts.add_rows("finer", finer, n, from);
        }
        if let Some(mean) = &self.transform.mean {
            parts.add("mean", mean, &[from]);
        }
        if let Some(matrix) = &self.transform.matrix {
            parts.add("matrix", matrix, &[to, from]);
        }
        parts.add("numbers", &self.numbers, &[n]);
        parts.add("prints", &self.prints, &[n]);
        parts.add("reach", &self.reach, &[SHARES.len(), DEPTHS.len()]);
        parts.add("depths", &self.depths, &[DEPTHS.len()]);
        parts.add("widths", &self.widths, &[VISITS.len(), SEEN.len()]);
        if let Some(Beside { cells, rotation, .. }) = self.beside.as_deref() {
            parts.add("filter.signs", &rotation.signs, &[4, rotation.padded]);
            parts.add_cells("filter.", cells);
        }
        match &self.route {
            Structure::Scan => {}
            Structure::Graph { graph, inline_codes } => {
                parts.add_graph("", graph);
                if let Some(inline_codes) = inline_codes {
                    let words = inline_codes.records.len() / n.max(1);
                    parts.add("inline_codes", &inline_codes.records, &[n, words]);
                }
            }
            Structure::Cells(cells) => {
                parts.add_cells("", cells);
            }
        }
        let Parts(mut tensors) = parts;
        let description = serde_json::to_string(&self.description).expect("plain data");
        tensors.say("zesty_index", FORMAT_VERSION.to_string());
        tensors.say("description_crc32", crc(description.as_bytes()));
        tensors.say("description", description);
        // What searches read most comes first.
        tensors.write(path, &["stored", "finer", "inline_codes", "overlap"])
    }
}
