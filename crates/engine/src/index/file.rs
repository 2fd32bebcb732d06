//! Index files: safetensors (a JSON header, then raw little-endian tensors), so that any language
//! can read them with an ordinary library. `docs/index-file.md` describes every tensor.
//!
//! The metadata names the format version, the description, the entry node and a CRC-32 of every
//! tensor. The header is padded so that the first tensor begins on a cache line. Files are written beside
//! their place, synced and renamed: a reader sees a whole file or none.

use super::beside::Beside;
use super::bits::Rotation;
use super::blocks;
use super::cells::{Cells, Centers};
use super::graph::{Graph, Lists, NONE};
use super::heads::Heads;
use super::product::Codebooks;
use super::rows::{BitCodes, Rows};
use super::sketch::Sketch;
use super::spill::{Places, Spill};
use super::tensor::Tensor;
use super::transform::Transform;
use super::{Description, Found, Index};
use crate::Metric;
use crate::recipe::{CellsRecipe, GraphRecipe, Recipe, Route, Router, Store};
use bytemuck::Pod;
use memmap2::Mmap;
use safetensors::tensor::Metadata;
use safetensors::{Dtype, SafeTensors};
use serde_json::{Value, json};
use std::collections::HashMap;
use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::Path;
use std::sync::Arc;

pub const FORMAT_VERSION: u32 = 7;

#[derive(Debug, thiserror::Error)]
pub enum FileError {
    #[error("cannot read or write the index file: {0}")]
    Io(#[from] io::Error),
    #[error("the index file is damaged: {0}")]
    Damaged(String),
    #[error("the index file has format version {found}; this program reads version {FORMAT_VERSION}")]
    Version { found: String },
}

fn damaged(what: impl Into<String>) -> FileError {
    FileError::Damaged(what.into())
}

/// A type that tensors hold.
trait Kept: Pod {
    const NAME: &'static str;
    const DTYPE: Dtype;
}
macro_rules! kept {
    ($($t:ty, $name:literal, $dtype:ident;)*) => {
        $(impl Kept for $t {
            const NAME: &'static str = $name;
            const DTYPE: Dtype = Dtype::$dtype;
        })*
    };
}
// Halves are kept by their bits.
kept! { f32, "F32", F32; u16, "F16", F16; i8, "I8", I8; u8, "U8", U8; u32, "U32", U32; u64, "U64", U64; }

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
    }
}

impl Index {
    /// Writes the index to `path`, atomically and durably. Returns the bytes written.
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
        if let Some(Sketch { books, codes, .. }) = &self.sketch {
            let block = blocks::n_bytes(books.parts);
            parts.add("sketch", codes, &[codes.len() / block, block / blocks::ROWS, blocks::ROWS]);
            parts.add("sketch.codebooks", &books.columns, &[books.parts, books.dimensions / books.parts, 16]);
        }
        match &self.route {
            Found::Scan => {}
            Found::Graph { graph, beside } => {
                parts.add_graph("", graph);
                if let Some(beside) = beside {
                    let words = beside.records.len() / n.max(1);
                    parts.add("beside", &beside.records, &[n, words]);
                }
            }
            Found::Cells(cells) => {
                parts.add("starts", &cells.starts, &[cells.count() + 1]);
                if let Some(spill) = &cells.spill {
                    parts.add("spill.starts", &spill.rows.starts, &[cells.count() + 1]);
                    parts.add_places("spill", &spill.rows);
                    if let Some(centers) = &spill.centers {
                        parts.add_places("spill.centers", centers);
                    }
                }
                match &*cells.centers {
                    Centers::Whole { mean, rows, graph } => {
                        parts.add("centers.mean", mean, &[to]);
                        parts.add_rows("centers", rows, cells.count(), to);
                        if let Some(graph) = graph {
                            parts.add_graph("router.", graph);
                        }
                    }
                    Centers::Crossed { left, right } => {
                        let half = to / 2;
                        parts.add("centers.left", left, &[left.len() / half, half]);
                        parts.add("centers.right", right, &[right.len() / (to - half), to - half]);
                    }
                }
            }
        }
        let Parts { mut parts, mut meta } = parts;
        // What searches read most stands first, on cache lines, where that leaves what follows aligned; then wide
        // values before narrow ones, so that each tensor is aligned for its type.
        parts.sort_by_key(|part| match part.name.as_str() {
            "stored" if part.bytes.len().is_multiple_of(64) => 0,
            "finer" if part.bytes.len().is_multiple_of(64) => 1,
            "beside" | "spill" if part.bytes.len().is_multiple_of(64) => 2,
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
            if let Some(folder) = path.parent() {
                File::open(folder)?.sync_all()?;
            }
            Ok((8 + header.len() + at) as u64)
        })();
        if result.is_err() {
            let _ = std::fs::remove_file(&partial);
        }
        result
    }

    /// Maps an index file and checks all of it: format, checksums, shapes, and that every number
    /// in it points somewhere that exists.
    #[allow(unsafe_code)]
    pub fn open(path: &Path) -> Result<Index, FileError> {
        let file = File::open(path)?;
        // SAFETY: index files are written once, renamed into place and never changed; the data
        // directory belongs to the service alone.
        let map = Arc::new(unsafe { Mmap::map(&file)? });
        let (header_len, metadata) =
            SafeTensors::read_metadata(&map).map_err(|e| damaged(format!("bad header ({e})")))?;
        let meta = metadata.metadata().as_ref().ok_or_else(|| damaged("no metadata"))?;
        let reader = Reader { map, start: 8 + header_len, metadata: &metadata, meta };
        let found = reader.text("zesty_index")?;
        if found != FORMAT_VERSION.to_string() {
            return Err(FileError::Version { found: found.into() });
        }
        let description = reader.text("description")?;
        if crc(description.as_bytes()) != reader.text("description_crc32")? {
            return Err(damaged("the checksum of the description is wrong"));
        }
        let description: Description =
            serde_json::from_str(description).map_err(|e| damaged(format!("description: {e}")))?;
        let recipe: Recipe = description.recipe.parse().map_err(|e| damaged(format!("recipe: {e}")))?;
        let euclidean = description.metric == Metric::Euclidean;
        let from = description.dimensions;
        let to = recipe.dimensions(from);

        let (numbers, shape) = reader.tensor::<u64>("numbers", &[None])?;
        let n = shape[0];
        let prints = reader.of("prints", &[n])?;
        let mean = recipe.prepare.center.then(|| reader.of("mean", &[from])).transpose()?;
        let turned = recipe.prepare.reduce.is_some() || recipe.prepare.rotate;
        let matrix = turned.then(|| reader.of("matrix", &[to, from])).transpose()?;
        let transform = Transform { mean, matrix, from, to };

        let mut starts = vec![0, n as u32];
        let mut cells = None;
        if let Some(count) = recipe.n_cells(n) {
            let (own, shape) = reader.tensor::<u32>("starts", &[None])?;
            let rising = own.windows(2).all(|two| two[0] <= two[1]);
            if own.first() != Some(&0) || own.last() != Some(&(n as u32)) || !rising {
                return Err(damaged("cells do not follow each other"));
            }
            let n_cells = shape[0] - 1;
            let centers = match recipe.route {
                Route::Crossed(c) => {
                    let half = to / 2;
                    if n_cells != count {
                        return Err(damaged("centres and cells are of different counts"));
                    }
                    Centers::Crossed {
                        left: reader.of("centers.left", &[c.left, half])?,
                        right: reader.of("centers.right", &[c.right, to - half])?,
                    }
                }
                Route::Cells(c) => {
                    let graph = (c.router == Router::Graph)
                        .then(|| reader.graph("router.", n_cells, GraphRecipe::default().links, None))
                        .transpose()?;
                    let rows =
                        reader.rows("centers", CellsRecipe::store(to), n_cells, to, None, euclidean)?;
                    Centers::Whole { mean: reader.of("centers.mean", &[to])?, rows, graph }
                }
                _ => unreachable!("only cells are counted"),
            };
            starts = own.to_vec();
            let mut read = Cells::new(to, Arc::new(centers), own);
            if let Route::Cells(c @ CellsRecipe { spill: true, .. }) = recipe.route {
                let starts = reader.of("spill.starts", &[n_cells + 1])?;
                let centers = match c.router {
                    Router::Scan => {
                        let starts = vec![0, n_cells.div_ceil(blocks::ROWS) as u32].into();
                        Some(reader.places("spill.centers", starts, to, n_cells)?)
                    }
                    Router::Graph => None,
                };
                read.spill = Some(Spill { rows: reader.places("spill", starts, to, n)?, centers });
            }
            cells = Some(read);
        }
        let blocked = recipe.store.in_blocks(recipe.route);
        let n_blocks = blocked.then(|| starts.windows(2).map(|r| (r[1] - r[0]).div_ceil(32) as usize).sum());
        let rows = reader.rows("stored", recipe.store, n, to, n_blocks, euclidean)?;
        let finer =
            recipe.rescore.map(|store| reader.rows("finer", store, n, from, None, euclidean)).transpose()?;
        let route = match (recipe.route, cells) {
            (Route::Graph(g), _) => {
                let graph = reader.graph("", n, g.links, recipe.head(n, from).map(|_| from))?;
                let beside = if g.beside {
                    let padded = Rotation::padded(to);
                    let words = Beside::words(g.links, padded);
                    let records: Tensor<u32> = reader.of("beside", &[n, words])?;
                    let mut links = records.chunks(words).flat_map(|r| &r[..2 * g.links]);
                    if !links.all(|node| *node == NONE || (*node as usize) < n) {
                        return Err(damaged("a link points to a node that does not exist"));
                    }
                    Some(Beside::new(&graph, &rows, padded, records))
                } else {
                    None
                };
                Found::Graph { graph, beside }
            }
            (_, Some(cells)) => Found::Cells(cells),
            _ => Found::Scan,
        };
        let sketch = recipe.sketch(n, from).map(|m| {
            let columns = reader.of("sketch.codebooks", &[m, from / m, 16])?;
            let codes = reader.of("sketch", &[n.div_ceil(blocks::ROWS), m.div_ceil(2), blocks::ROWS])?;
            Ok::<_, FileError>(Sketch { books: Arc::new(Codebooks::new(m, 4, from, columns)), codes })
        });
        let sketch = sketch.transpose()?;
        let transform = Arc::new(transform);
        Ok(Index {
            sketch,
            description,
            recipe,
            transform,
            rows,
            finer,
            numbers,
            prints,
            route,
            scratch: Default::default(),
        })
    }
}

/// A mapped file on its way into an index.
struct Reader<'a> {
    map: Arc<Mmap>,
    start: usize,
    metadata: &'a Metadata,
    meta: &'a HashMap<String, String>,
}

impl Reader<'_> {
    fn text(&self, key: &str) -> Result<&str, FileError> {
        self.meta.get(key).map(String::as_str).ok_or_else(|| damaged(format!("no \"{key}\" entry")))
    }

    /// A tensor whose type, shape (as far as it is known) and checksum are right.
    fn tensor<T: Kept>(
        &self,
        name: &str,
        shape: &[Option<usize>],
    ) -> Result<(Tensor<T>, Vec<usize>), FileError> {
        let info = self.metadata.info(name).ok_or_else(|| damaged(format!("no tensor \"{name}\"")))?;
        let fits = info.dtype == T::DTYPE
            && info.shape.len() == shape.len()
            && info.shape.iter().zip(shape).all(|(have, want)| want.is_none_or(|w| w == *have));
        let range = self.start + info.data_offsets.0..self.start + info.data_offsets.1;
        let (true, Some(bytes)) = (fits, self.map.get(range.clone())) else {
            return Err(damaged(format!("tensor \"{name}\" has a wrong type or shape")));
        };
        if crc(bytes) != self.text(&format!("crc32.{name}"))? {
            return Err(damaged(format!("the checksum of tensor \"{name}\" is wrong")));
        }
        let tensor = Tensor::mapped(self.map.clone(), range)
            .ok_or_else(|| damaged(format!("tensor \"{name}\" is cut short")))?;
        Ok((tensor, info.shape.clone()))
    }

    fn of<T: Kept>(&self, name: &str, shape: &[usize]) -> Result<Tensor<T>, FileError> {
        let shape: Vec<Option<usize>> = shape.iter().copied().map(Some).collect();
        self.tensor(name, &shape).map(|(tensor, _)| tensor)
    }

    fn rows(
        &self,
        name: &str,
        store: Store,
        n: usize,
        d: usize,
        n_blocks: Option<usize>,
        euclidean: bool,
    ) -> Result<Rows, FileError> {
        let numbers = |part: &str| self.of::<f32>(&format!("{name}.{part}"), &[n]);
        let squared = || euclidean.then(|| numbers("squared")).transpose();
        Ok(match store {
            Store::F32 => Rows::F32(self.of(name, &[n, d])?),
            Store::F16 => Rows::F16(self.of(name, &[n, d])?),
            Store::Int8 => {
                Rows::Int8 { codes: self.of(name, &[n, d])?, scale: numbers("scale")?, squared: squared()? }
            }
            Store::Pq { parts, bits } => {
                if parts == 0 || !d.is_multiple_of(parts) {
                    return Err(damaged("parts do not divide the dimensions"));
                }
                let columns = self.of("codebooks", &[parts, d / parts, 1 << bits])?;
                let codes = match n_blocks {
                    Some(blocks) => self.of(name, &[blocks, parts.div_ceil(2), blocks::ROWS])?,
                    None => self.of(name, &[n, (parts * bits).div_ceil(8)])?,
                };
                let books = Arc::new(Codebooks::new(parts, bits, d, columns));
                Rows::Product { books, codes, in_blocks: n_blocks.is_some(), squared: squared()? }
            }
            Store::Bits { planes } => {
                let rotation = Arc::new(self.rotation(&format!("{name}.signs"), d)?);
                let padded = rotation.padded;
                let codes = match n_blocks {
                    Some(blocks) => BitCodes::Blocks(self.of(name, &[blocks, padded / 8, blocks::ROWS])?),
                    None => BitCodes::Words(self.of(name, &[n, planes, padded / 64])?),
                };
                let (factor, error) = (numbers("factor")?, numbers("error")?);
                Rows::Bits { rotation, planes, codes, factor, error, squared: squared()? }
            }
        })
    }

    fn places(&self, name: &str, starts: Tensor<u32>, d: usize, n: usize) -> Result<Places, FileError> {
        let padded = Rotation::padded(d);
        let (records, _) = self.tensor(name, &[None, Some(Places::words(padded))])?;
        let places = Places::new(starts, records, padded);
        if !places.is_sound(n) {
            return Err(damaged(format!("\"{name}\" is of rows or cells that do not exist")));
        }
        Ok(places)
    }

    fn rotation(&self, name: &str, d: usize) -> Result<Rotation, FileError> {
        let padded = Rotation::padded(d);
        Ok(Rotation { signs: self.of(name, &[4, padded])?, padded })
    }

    /// `heads`: the dimensions that those tell of, where there are any.
    fn graph(&self, prefix: &str, n: usize, links: usize, heads: Option<usize>) -> Result<Graph, FileError> {
        let name = |part: &str| format!("{prefix}{part}");
        let width = Graph::width(n);
        let (ground, all) = self.tensor::<u8>(&name("ground"), &[None, Some(width)])?;
        let lists = match heads {
            None => Lists::Starts(self.of(&name("ground_start"), &[n + 1])?),
            Some(d) => {
                let mean = Some(self.of(&name("heads.mean"), &[d])?);
                let center = Arc::new(Transform { mean, ..Transform::identity(d) });
                let rotation = Arc::new(self.rotation(&name("heads.signs"), d)?);
                Lists::Heads(Heads {
                    center,
                    rotation,
                    records: self.of(&name("heads"), &[n, Heads::words(d)])?,
                })
            }
        };
        let follow = match &lists {
            Lists::Starts(starts) => {
                let (first, last) = (starts.first(), starts.last().map(|end| *end as usize));
                let fits = |two: &[u32]| two[0] <= two[1] && (two[1] - two[0]) as usize <= 2 * links;
                first == Some(&0) && last == Some(all[0]) && starts.windows(2).all(fits)
            }
            Lists::Heads(heads) => {
                let mut lists = (0..n as u32).map(|node| heads.list(&heads.records, node));
                lists.all(|(start, len)| len <= 2 * links && start + len <= all[0])
            }
        };
        if !follow {
            return Err(damaged("lists of neighbours do not follow each other"));
        }
        let (upper, shape) = self.tensor::<u32>(&name("upper"), &[None, Some(links)])?;
        let level: Tensor<u8> = self.of(&name("level"), &[n])?;
        let entry: u32 =
            self.text(&name("entry"))?.parse().map_err(|_| damaged("the entry is not a number"))?;
        let exists = |node: &u32| *node == NONE || (*node as usize) < n;
        let lists_exist = level.iter().map(|l| usize::from(*l)).sum::<usize>() == shape[0];
        let graph = Graph::new(links, entry, level, (lists, ground), upper);
        let exist = |node| graph.ground().of(node).all(|next| (next as usize) < n);
        if !(n == 0 || (entry as usize) < n)
            || !(0..n as u32).all(exist)
            || !graph.upper.iter().all(exists)
            || !lists_exist
        {
            return Err(damaged("a link points to a node that does not exist"));
        }
        Ok(graph)
    }
}

fn crc(bytes: &[u8]) -> String {
    format!("{:08x}", crc32fast::hash(bytes))
}
