//! Reading an index file: version, checksums, types, shapes, and that links and cells point to what exists.

use crate::Metric;
use crate::index::cells::beside::Beside;
use crate::index::cells::layout::Cells;
use crate::index::cells::layout::Centers;
use crate::index::cells::overlap::Places;
use crate::index::cells::widths::{SEEN, VISITS};
use crate::index::description::Description;
use crate::index::file::version::FORMAT_VERSION;
use crate::index::graph::before::Before;
use crate::index::graph::heads::Heads;
use crate::index::graph::inline_codes::InlineCodes;
use crate::index::graph::walk::Graph;
use crate::index::graph::walk::Lists;
use crate::index::graph::walk::NONE;
use crate::index::graph::walk::node_number;
use crate::index::reach::{DEPTHS, SHARES};
use crate::index::store::bits::Rotation;
use crate::index::store::blocks;
use crate::index::store::product::Codebooks;
use crate::index::store::rows::BitCodes;
use crate::index::store::rows::Rows;
use crate::index::store::transform::Transform;
use crate::index::structure::Index;
use crate::index::structure::Structure;
use crate::large_pages::LargePages;
use crate::lines::{Aligned, LARGE};
use crate::recipe::{CellsRecipe, GraphRecipe, Recipe, Route, Router, Store};
use crate::tensors::{FileError, Kept, Tensor, TensorFile, crc, damaged};
use std::cell::Cell;
use std::path::Path;
use std::sync::Arc;

/// A mapped file on its way into an index.
struct Reader {
    file: TensorFile,
    pages: LargePages,
    copied: Cell<usize>,
}

impl std::ops::Deref for Reader {
    type Target = TensorFile;
    fn deref(&self) -> &TensorFile {
        &self.file
    }
}

impl Reader {
    /// What walks read at random: a copy in large pages, where it is large and there is room.
    fn in_pages<T: Kept>(&self, mapped: Tensor<T>) -> Tensor<T> {
        let len = size_of_val(&*mapped);
        let bytes = len.next_multiple_of(LARGE);
        // Pages that it fills by less than half would waste memory.
        if 2 * len < bytes {
            return mapped;
        }
        let Some(taken) = self.pages.take(bytes) else { return mapped };
        self.copied.set(self.copied.get() + bytes);
        Tensor::Copied { values: Aligned::of_parts([&*mapped]), _taken: taken }
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
            Store::F32 => Rows::F32(self.codes(name, &[n, d])?),
            Store::F16 => Rows::F16(self.codes(name, &[n, d])?),
            Store::Int8 => Rows::Int8 {
                codes: self.codes(name, &[n, d])?,
                scale: numbers("scale")?,
                squared: squared()?,
            },
            Store::Pq { parts, bits } => {
                if parts == 0 || !d.is_multiple_of(parts) {
                    return Err(damaged("parts do not divide the dimensions"));
                }
                let columns = self.of("codebooks", &[parts, d / parts, 1 << bits])?;
                let codes = match n_blocks {
                    Some(blocks) => self.codes(name, &[blocks, parts.div_ceil(2), blocks::ROWS])?,
                    None => self.codes(name, &[n, (parts * bits).div_ceil(8)])?,
                };
                let books = Arc::new(Codebooks::new(parts, bits, d, columns));
                Rows::Product { books, codes, in_blocks: n_blocks.is_some(), squared: squared()? }
            }
            Store::Bits { planes } => {
                let rotation = Arc::new(self.rotation(&format!("{name}.signs"), d)?);
                let padded = rotation.padded;
                let codes = match n_blocks {
                    Some(blocks) => BitCodes::Blocks {
                        codes: self.codes(name, &[blocks, padded / 8, blocks::ROWS])?,
                        factor: numbers("factor")?,
                        squared: squared()?,
                    },
                    None => BitCodes::Lines(self.codes(name, &[n, BitCodes::words(padded, planes)])?),
                };
                Rows::Bits { rotation, planes, codes, error: numbers("error")? }
            }
        })
    }

    /// Of finer vectors a search reads little: they stay in the file.
    fn codes<T: Kept>(&self, name: &str, shape: &[usize]) -> Result<Tensor<T>, FileError> {
        let mapped = self.of(name, shape)?;
        Ok(if name == "finer" { mapped } else { self.in_pages(mapped) })
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
        let ground = self.in_pages(ground);
        let lists = match heads {
            None => Lists::Starts(self.of(&name("ground_start"), &[n + 1])?),
            Some(d) => {
                let mean = Some(self.of(&name("heads.mean"), &[d])?);
                let center = Arc::new(Transform { mean, ..Transform::identity(d) });
                let rotation = Arc::new(self.rotation(&name("heads.signs"), d)?);
                Lists::Heads(Heads {
                    center,
                    rotation,
                    records: self.in_pages(self.of(&name("heads"), &[n, Heads::words(d)])?),
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

impl Reader {
    /// Where cells begin.
    fn starts(&self, name: &str, n: usize) -> Result<Tensor<u32>, FileError> {
        let (starts, _) = self.tensor::<u32>(name, &[None])?;
        let rising = starts.windows(2).all(|two| two[0] <= two[1]);
        if starts.first() != Some(&0) || starts.last() != Some(&(n as u32)) || !rising {
            return Err(damaged("cells do not follow each other"));
        }
        Ok(starts)
    }

    fn beside(&self, n: usize, d: usize, metric: Metric) -> Result<Beside, FileError> {
        let euclidean = metric == Metric::Euclidean;
        let starts = self.starts("filter.starts", n)?;
        let n_cells = starts.len() - 1;
        let rows = self.rows("filter.centers", CellsRecipe::store(d), n_cells, d, None, euclidean)?;
        let centers = Centers::Whole { mean: self.of("filter.centers.mean", &[d])?, rows, graph: None };
        let spread = self.of("filter.spread", &[n_cells])?;
        let mut cells = Cells::new((metric, d), Arc::new(centers), starts, spread);
        (cells.overlap, cells.center_codes) = self.overlap("filter.", (n_cells, true), d, n)?;
        Ok(Beside::new(cells, Arc::new(self.rotation("filter.signs", d)?), n))
    }

    /// Codes of rows cell by cell, and of the cells' centres where they are `coded`.
    fn overlap(
        &self,
        prefix: &str,
        (n_cells, coded): (usize, bool),
        d: usize,
        n: usize,
    ) -> Result<(Option<Places>, Option<Places>), FileError> {
        let name = |part: &str| format!("{prefix}{part}");
        let starts = self.of(&name("overlap.starts"), &[n_cells + 1])?;
        let of_centers = || {
            let starts = vec![0, n_cells.div_ceil(blocks::ROWS) as u32].into();
            self.places(&name("centers.codes"), starts, d, n_cells)
        };
        Ok((Some(self.places(&name("overlap"), starts, d, n)?), coded.then(of_centers).transpose()?))
    }

    /// The links as they were before the held-out nodes were inserted, where some were.
    fn before(&self, graph: &Graph) -> Result<Option<Before>, FileError> {
        if !self.says("before.entry") {
            return Ok(None);
        }
        let (n, links) = (graph.level.len(), graph.links);
        let width = Graph::width(n);
        let (held_out, _) = self.tensor::<u32>("before.held_out", &[None])?;
        let (adds, _) = self.tensor::<u32>("before.adds", &[None, Some(2)])?;
        let (nodes, shape) = self.tensor::<u32>("before.nodes", &[None])?;
        let starts: Tensor<u32> = self.of("before.starts", &[shape[0] + 1])?;
        let (ground, numbers) = self.tensor::<u8>("before.ground", &[None, Some(width)])?;
        let (lists, shape) = self.tensor::<u32>("before.lists", &[None])?;
        let upper: Tensor<u32> = self.of("before.upper", &[shape[0], links])?;
        let entry = self.text("before.entry")?.parse();
        let entry: u32 = entry.map_err(|_| damaged("the entry is not a number"))?;
        let rise = |list: &[u32], end: usize| {
            list.windows(2).all(|two| two[0] < two[1])
                && list.last().is_none_or(|last| (*last as usize) < end)
        };
        let fits = |two: &[u32]| two[0] <= two[1] && (two[1] - two[0]) as usize <= 2 * links;
        let follow = starts.first() == Some(&0)
            && starts.last().map(|end| *end as usize) == Some(numbers[0])
            && starts.windows(2).all(fits);
        let exist = ground.chunks(width).all(|b| (node_number(b) as usize) < n)
            && upper.iter().all(|node| *node == NONE || (*node as usize) < n)
            && (entry as usize) < n
            && adds.chunks(2).all(|add| (add[0] as usize) < n && held_out.binary_search(&add[1]).is_ok());
        let n_lists = graph.upper.len() / links;
        if !(rise(&held_out, n) && rise(&nodes, n) && rise(&lists, n_lists) && follow && exist) {
            return Err(damaged("links from before the held-out nodes do not fit the graph"));
        }
        Ok(Some(Before { held_out, adds, entry, nodes, starts, ground, lists, upper }))
    }
}

impl Index {
    /// Maps an index file and checks all of it: format, checksums, shapes, and that every number
    /// in it points somewhere that exists.
    pub fn open(path: &Path) -> Result<Index, FileError> {
        Index::open_into(path, &LargePages::default())
    }

    /// The same, with what walks read at random in large pages as far as there is room.
    // Long because: one line a tensor, in the order of the format.
    pub fn open_into(path: &Path, pages: &LargePages) -> Result<Index, FileError> {
        let file = TensorFile::open(path)?;
        let mut reader = Reader { file, pages: LargePages::default(), copied: Cell::default() };
        reader.check_version("zesty_index", FORMAT_VERSION)?;
        let description = reader.text("description")?;
        if crc(description.as_bytes()) != reader.text("description_crc32")? {
            return Err(damaged("the checksum of the description is wrong"));
        }
        let description: Description =
            serde_json::from_str(description).map_err(|e| damaged(format!("description: {e}")))?;
        let recipe: Recipe = description.recipe.parse().map_err(|e| damaged(format!("recipe: {e}")))?;
        // Scans and visits to cells read on and on, and have nothing of it.
        if matches!(recipe.route, Route::Graph(_)) {
            reader.pages = pages.clone();
        }
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
            let own = reader.starts("starts", n)?;
            let n_cells = own.len() - 1;
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
            let spread = match recipe.route {
                Route::Crossed(_) => Vec::new().into(),
                _ => reader.of("spread", &[n_cells])?,
            };
            let mut read = Cells::new((description.metric, to), Arc::new(centers), own, spread);
            if let Route::Cells(c @ CellsRecipe { overlap: true, .. }) = recipe.route {
                let coded = c.router == Router::Scan;
                (read.overlap, read.center_codes) = reader.overlap("", (n_cells, coded), to, n)?;
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
                let mut graph = reader.graph("", n, g.links, recipe.head(n, from).map(|_| from))?;
                graph.before = reader.before(&graph)?;
                let inline_codes = if g.inline_codes {
                    let padded = Rotation::padded(to);
                    let words = InlineCodes::words(g.links, padded);
                    let records: Tensor<u32> = reader.in_pages(reader.of("inline_codes", &[n, words])?);
                    let mut links = records.chunks(words).flat_map(|r| &r[..2 * g.links]);
                    if !links.all(|node| *node == NONE || (*node as usize) < n) {
                        return Err(damaged("a link points to a node that does not exist"));
                    }
                    Some(InlineCodes::new(&graph, &rows, padded, records))
                } else {
                    None
                };
                Structure::Graph { graph: Box::new(graph), inline_codes }
            }
            (_, Some(cells)) => Structure::Cells(Arc::new(cells)),
            _ => Structure::Scan,
        };
        let beside =
            recipe.has_cells_beside(n).then(|| reader.beside(n, from, description.metric)).transpose()?;
        let transform = Arc::new(transform);
        let reach: Tensor<f32> = reader.of("reach", &[SHARES.len(), DEPTHS.len()])?;
        if reach.iter().any(|rank| rank.is_nan()) {
            return Err(damaged("\"reach\" holds what is no number"));
        }
        let cells = |name: &str, shape: &[usize]| {
            let known: Tensor<f32> = reader.of(name, shape)?;
            match known.iter().all(|cells| (1.0..=u32::MAX as f32).contains(cells)) {
                true => Ok(known),
                false => Err(damaged(format!("\"{name}\" holds what is no number of cells"))),
            }
        };
        let depths = cells("depths", &[DEPTHS.len()])?;
        let widths = cells("widths", &[VISITS.len(), SEEN.len()])?;
        Ok(Index {
            reach,
            depths,
            widths,
            beside: beside.map(Arc::new),
            description,
            recipe,
            transform,
            rows: Arc::new(rows),
            finer: finer.map(Arc::new),
            numbers: Arc::new(numbers),
            prints: Arc::new(prints),
            route,
            withheld: None,
            scratch: Default::default(),
            copied: reader.copied.get(),
        })
    }
}
