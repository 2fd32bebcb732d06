//! Index files: safetensors (a JSON header, then raw little-endian tensors), so that any language
//! can read them with an ordinary library.
//!
//! | tensor        | type, shape         | meaning                                              |
//! |---------------|---------------------|------------------------------------------------------|
//! | `vectors`     | f32 or f16 [n, dimensions] | prepared vectors (unit length under cosine): what a walk compares, unless there are codes; what candidates are ranked with anew, if there are |
//! | `codes`       | f16 or i8 [n, dimensions] | what a walk compares, where the recipe has a store |
//! | `scale`       | f32 [n]             | with i8 codes: a component is code x scale           |
//! | `squared`     | f32 [n]             | with i8 codes: the squared length of what they stand for |
//! | `numbers`     | u64 [n]             | the record number of each node                       |
//! | `ground`      | u32 [n, 2 x links]  | neighbours on the ground layer, 4294967295 for none  |
//! | `upper_start` | u32 [n]             | first upper list of each node                        |
//! | `upper`       | u32 [lists, links]  | neighbours on layers 1.. of each node                |
//! | `level`       | u8 [n]              | highest layer of each node                           |
//!
//! The metadata names the format version, the description, the entry node and a CRC-32 of every
//! tensor. The header is padded so that `vectors` begins on a cache line. Files are written beside
//! their place, synced and renamed: a reader sees a whole file or none.

use super::graph::{Graph, NONE};
use super::rows::Rows;
use super::tensor::Tensor;
use super::{Description, Index};
use crate::recipe::{Recipe, Route, Store};
use memmap2::Mmap;
use safetensors::{Dtype, SafeTensors};
use serde_json::{Value, json};
use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;

pub const FORMAT_VERSION: u32 = 2;

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

impl Index {
    /// Writes the index to `path`, atomically and durably. Returns the bytes written.
    pub fn write(&self, path: &Path) -> Result<u64, FileError> {
        let n = self.len();
        let d = self.description.dimensions;
        let mut parts: Vec<(&str, &str, Vec<usize>, &[u8])> = Vec::new();
        // Codes are called so where there is something finer or they are no plain floats.
        let own = if matches!(self.rows, Rows::F32(_)) { "vectors" } else { "codes" };
        for (name, rows) in self.finer.iter().map(|r| ("vectors", r)).chain([(own, &self.rows)]) {
            match rows {
                Rows::F32(v) => parts.push((name, "F32", vec![n, d], bytemuck::cast_slice(v))),
                Rows::F16(v) => parts.push((name, "F16", vec![n, d], bytemuck::cast_slice(v))),
                Rows::Int8 { codes, scale, squared } => parts.extend([
                    ("scale", "F32", vec![n], bytemuck::cast_slice(scale)),
                    ("squared", "F32", vec![n], bytemuck::cast_slice(squared)),
                    (name, "I8", vec![n, d], bytemuck::cast_slice(codes)),
                ]),
            }
        }
        parts.push(("numbers", "U64", vec![n], bytemuck::cast_slice(&self.numbers)));
        let mut meta = serde_json::Map::new();
        if let Some(g) = &self.graph {
            let lists = g.upper.len() / g.links;
            parts.extend([
                ("ground", "U32", vec![n, 2 * g.links], bytemuck::cast_slice(&g.ground)),
                ("upper_start", "U32", vec![n], bytemuck::cast_slice(&g.upper_start)),
                ("upper", "U32", vec![lists, g.links], bytemuck::cast_slice(&g.upper)),
                ("level", "U8", vec![n], bytemuck::cast_slice(&g.level)),
            ]);
            meta.insert("entry".into(), json!(g.entry.to_string()));
        }
        // Wide values first, so that each tensor is aligned for its type. Codes are what a walk reads most: they
        // stand first, on cache lines, where that leaves what follows aligned.
        let width = |dtype: &str| match dtype {
            "U64" => 8,
            "F32" | "U32" => 4,
            "F16" => 2,
            _ => 1,
        };
        parts.sort_by_key(|(name, dtype, _, bytes)| match *name {
            "codes" if bytes.len().is_multiple_of(64) => 0,
            "vectors" if width(dtype) == 4 => 1,
            _ => 10 - width(dtype),
        });
        let description = serde_json::to_string(&self.description).expect("plain data");
        meta.insert("zesty_index".into(), json!(FORMAT_VERSION.to_string()));
        meta.insert("description_crc32".into(), json!(crc(description.as_bytes())));
        meta.insert("description".into(), json!(description));
        let mut header = serde_json::Map::new();
        let mut at = 0;
        for (name, dtype, shape, bytes) in &parts {
            let offsets = [at, at + bytes.len()];
            header.insert((*name).into(), json!({"dtype": dtype, "shape": shape, "data_offsets": offsets}));
            meta.insert(format!("crc32.{name}"), json!(crc(bytes)));
            at += bytes.len();
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
            for (_, _, _, bytes) in &parts {
                out.write_all(bytes)?;
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
        let start = 8 + header_len;
        let meta = metadata.metadata().as_ref().ok_or_else(|| damaged("no metadata"))?;
        let text = |key: &str| {
            meta.get(key).map(String::as_str).ok_or_else(|| damaged(format!("no \"{key}\" entry")))
        };
        let found = text("zesty_index")?;
        if found != FORMAT_VERSION.to_string() {
            return Err(FileError::Version { found: found.into() });
        }
        let description = text("description")?;
        if crc(description.as_bytes()) != text("description_crc32")? {
            return Err(damaged("the checksum of the description is wrong"));
        }
        let description: Description =
            serde_json::from_str(description).map_err(|e| damaged(format!("description: {e}")))?;
        let recipe: Recipe = description.recipe.parse().map_err(|e| damaged(format!("recipe: {e}")))?;

        let part = |name: &str,
                    dtype: Dtype,
                    shape: &[Option<usize>]|
         -> Result<(Range<usize>, Vec<usize>), FileError> {
            let info = metadata.info(name).ok_or_else(|| damaged(format!("no tensor \"{name}\"")))?;
            let fits = info.dtype == dtype
                && info.shape.len() == shape.len()
                && info.shape.iter().zip(shape).all(|(have, want)| want.is_none_or(|w| w == *have));
            let range = start + info.data_offsets.0..start + info.data_offsets.1;
            let bytes = map.get(range.clone());
            let (true, Some(bytes)) = (fits, bytes) else {
                return Err(damaged(format!("tensor \"{name}\" has a wrong type or shape")));
            };
            if crc(bytes) != text(&format!("crc32.{name}"))? {
                return Err(damaged(format!("the checksum of tensor \"{name}\" is wrong")));
            }
            Ok((range, info.shape.clone()))
        };
        let unaligned = || damaged("a tensor is not aligned");
        let shape = [None, Some(description.dimensions)];
        let mut counts = Vec::new();
        let mut stored = |store: Store, name: &str| -> Result<Rows, FileError> {
            let dtype = match store {
                Store::F32 => Dtype::F32,
                Store::F16 => Dtype::F16,
                Store::Int8 => Dtype::I8,
            };
            let (range, shape) = part(name, dtype, &shape)?;
            counts.push(shape[0]);
            let numbers = |name: &str| -> Result<Tensor<f32>, FileError> {
                let (range, _) = part(name, Dtype::F32, &[Some(shape[0])])?;
                Tensor::mapped(map.clone(), range).ok_or_else(unaligned)
            };
            Ok(match store {
                Store::F32 => Rows::F32(Tensor::mapped(map.clone(), range).ok_or_else(unaligned)?),
                Store::F16 => Rows::F16(Tensor::mapped(map.clone(), range).ok_or_else(unaligned)?),
                Store::Int8 => Rows::Int8 {
                    codes: Tensor::mapped(map.clone(), range).ok_or_else(unaligned)?,
                    scale: numbers("scale")?,
                    squared: numbers("squared")?,
                },
            })
        };
        let name = if recipe.store == Store::F32 { "vectors" } else { "codes" };
        let rows = stored(recipe.store, name)?;
        let finer = recipe.rescore.map(|store| stored(store, "vectors")).transpose()?;
        let n = counts[0];
        if counts.iter().any(|c| *c != n) {
            return Err(damaged("codes and vectors are of different counts"));
        }
        let (range, _) = part("numbers", Dtype::U64, &[Some(n)])?;
        let numbers = Tensor::mapped(map.clone(), range).ok_or_else(unaligned)?;
        let graph = match recipe.route {
            Route::Scan => None,
            Route::Graph(g) => {
                let (range, _) = part("ground", Dtype::U32, &[Some(n), Some(2 * g.links)])?;
                let ground: Tensor<u32> = Tensor::mapped(map.clone(), range).ok_or_else(unaligned)?;
                let (range, _) = part("upper_start", Dtype::U32, &[Some(n)])?;
                let upper_start: Tensor<u32> = Tensor::mapped(map.clone(), range).ok_or_else(unaligned)?;
                let (range, shape) = part("upper", Dtype::U32, &[None, Some(g.links)])?;
                let lists = shape[0];
                let upper: Tensor<u32> = Tensor::mapped(map.clone(), range).ok_or_else(unaligned)?;
                let (range, _) = part("level", Dtype::U8, &[Some(n)])?;
                let level: Tensor<u8> = Tensor::mapped(map.clone(), range).ok_or_else(unaligned)?;
                let entry: u32 = text("entry")?.parse().map_err(|_| damaged("the entry is not a number"))?;
                let exists = |node: &u32| *node == NONE || (*node as usize) < n;
                let lists_exist = upper_start
                    .iter()
                    .zip(level.iter())
                    .all(|(&from, &l)| from as usize + l as usize <= lists);
                if !(n == 0 || (entry as usize) < n)
                    || !ground.iter().all(exists)
                    || !upper.iter().all(exists)
                    || !lists_exist
                {
                    return Err(damaged("a link points to a node that does not exist"));
                }
                Some(Graph { links: g.links, entry, level, ground, upper_start, upper })
            }
        };
        let scratch = Default::default();
        Ok(Index { description, recipe, rows, finer, numbers, graph, scratch })
    }
}

fn crc(bytes: &[u8]) -> String {
    format!("{:08x}", crc32fast::hash(bytes))
}
