//! Writing an index file: under another name, synced and renamed, so that a reader sees a whole file or none.
//!
//! The header is padded so that the first tensor begins on a cache line.

use crate::index::cells::beside::Beside;
use crate::index::cells::layout::{Cells, Centers};
use crate::index::cells::overlap::Places;
use crate::index::file::format::{FORMAT_VERSION, FileError, Kept, crc};
use crate::index::graph::heads::Heads;
use crate::index::graph::walk::Graph;
use crate::index::graph::walk::Lists;
use crate::index::reach::RANKS;
use crate::index::store::blocks;
use crate::index::store::rows::BitCodes;
use crate::index::store::rows::Rows;
use crate::index::store::transform::Transform;
use crate::index::structure::Index;
use crate::index::structure::Structure;
use serde_json::{Value, json};
use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;

struct Part<'a> {
    name: String,
    dtype: &'static str,
    width: usize,
    shape: Vec<usize>,
    bytes: &'a [u8],
}

/// The tensors of a file to be written.
#[derive(Default)]
struct Parts<'a> {
    parts: Vec<Part<'a>>,
    meta: serde_json::Map<String, Value>,
}

impl<'a> Parts<'a> {
    fn add<T: Kept>(&mut self, name: impl Into<String>, values: &'a [T], shape: &[usize]) {
        debug_assert_eq!(shape.iter().product::<usize>(), values.len());
        self.parts.push(Part {
            name: name.into(),
            dtype: T::NAME,
            width: size_of::<T>(),
            shape: shape.to_vec(),
            bytes: bytemuck::cast_slice(values),
        });
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
            Rows::Bits { rotation, planes, codes, factor, error, squared } => {
                match codes {
                    BitCodes::Words(words) => self.add(name, words, &[n, *planes, rotation.padded / 64]),
                    BitCodes::Blocks(bytes) => {
                        let block = blocks::n_bytes(rotation.padded / 4);
                        self.add(name, bytes, &[bytes.len() / block, block / blocks::ROWS, blocks::ROWS]);
                    }
                }
                self.add(within("signs"), &rotation.signs, &[4, rotation.padded]);
                self.add(within("factor"), factor, &[n]);
                self.add(within("error"), error, &[n]);
                if let Some(squared) = squared {
                    self.add(within("squared"), squared, &[n]);
                }
            }
        }
    }

    fn add_cells(&mut self, prefix: &str, cells: &'a Cells) {
        let name = |part: &str| format!("{prefix}{part}");
        let d = cells.dimensions;
        self.add(name("starts"), &cells.starts, &[cells.count() + 1]);
        if let Some(overlap) = &cells.overlap {
            self.add(name("overlap.starts"), &overlap.rows.starts, &[cells.count() + 1]);
            self.add_places(&name("overlap"), &overlap.rows);
            if let Some(centers) = &overlap.centers {
                self.add_places(&name("overlap.centers"), centers);
            }
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
        self.meta.insert(name("entry"), json!(g.entry.to_string()));
        if let Some(before) = &g.before {
            self.add("before.held_out", &before.held_out, &[before.held_out.len()]);
            self.add("before.nodes", &before.nodes, &[before.nodes.len()]);
            self.add("before.starts", &before.starts, &[before.starts.len()]);
            self.add("before.ground", &before.ground, &[before.ground.len() / width, width]);
            self.add("before.lists", &before.lists, &[before.lists.len()]);
            self.add("before.upper", &before.upper, &[before.lists.len(), g.links]);
            self.meta.insert("before.entry".into(), json!(before.entry.to_string()));
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
        parts.add("reach", &self.reach, &[RANKS]);
        if let Some(Beside { cells, rotation }) = self.beside.as_deref() {
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
        let Parts { mut parts, mut meta } = parts;
        // What searches read most comes first, on cache lines, if that leaves what follows aligned; then wide
        // values before narrow ones, so that each tensor is aligned for its type.
        parts.sort_by_key(|part| match part.name.as_str() {
            "stored" if part.bytes.len().is_multiple_of(64) => 0,
            "finer" if part.bytes.len().is_multiple_of(64) => 1,
            "inline_codes" | "overlap" if part.bytes.len().is_multiple_of(64) => 2,
            "stored" | "finer" if part.width == 4 => 3,
            _ => 16 - part.width,
        });
        let description = serde_json::to_string(&self.description).expect("plain data");
        meta.insert("zesty_index".into(), json!(FORMAT_VERSION.to_string()));
        meta.insert("description_crc32".into(), json!(crc(description.as_bytes())));
        meta.insert("description".into(), json!(description));
        let mut header = serde_json::Map::new();
        let mut at = 0;
        for part in &parts {
            let offsets = [at, at + part.bytes.len()];
            let entry = json!({"dtype": part.dtype, "shape": part.shape, "data_offsets": offsets});
            header.insert(part.name.clone(), entry);
            meta.insert(format!("crc32.{}", part.name), json!(crc(part.bytes)));
            at += part.bytes.len();
        }
        header.insert("__metadata__".into(), Value::Object(meta));
        let mut header = serde_json::to_vec(&header).expect("plain data");
        // 8 bytes of length come before the header; spaces are legal padding.
        header.resize((header.len() + 8).next_multiple_of(64) - 8, b' ');

        let partial = path.with_extension("partial");
        let result = (|| {
            let mut out = BufWriter::with_capacity(1 << 20, File::create(&partial)?);
            out.write_all(&(header.len() as u64).to_le_bytes())?;
            out.write_all(&header)?;
            for part in &parts {
                out.write_all(part.bytes)?;
            }
            out.into_inner().map_err(|e| e.into_error())?.sync_all()?;
            std::fs::rename(&partial, path)?;
            // A bare name lies in the folder that the process is in.
            let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
            File::open(folder.unwrap_or(Path::new(".")))?.sync_all()?;
            Ok((8 + header.len() + at) as u64)
        })();
        if result.is_err() {
            let _ = std::fs::remove_file(&partial);
        }
        result
    }
}
