//! Which recipe reaches a recall within a memory budget: candidates, and how each does on a sample of the rows.

use super::error::MeasureError;
use super::exact::{Known, exact};
use super::set::{InPart, Parts, QuerySet, by_number};
use super::solve::{Solved, Stage, Target, solve};
use crate::Recipe;
use crate::index::{Description, Index, Progress, held_out_share, is_held_out};
use crate::recipe::{CellsRecipe, DataShape, GraphRecipe, Prepare, Route, Store};
use crate::rows::Table;
use crate::search::{Attached, source_of};
use rand::SeedableRng;
use rand::seq::SliceRandom;
use std::time::Instant;

/// Recipes that are worth trying on such data, of different sizes.
pub fn candidates(shape: DataShape) -> Vec<Recipe> {
    let with = |route, store, rescore| Recipe { prepare: Prepare::default(), route, store, rescore };
    let graph = |inline_codes| Route::Graph(GraphRecipe { inline_codes, ..GraphRecipe::default() });
    let cells = |overlap| Route::Cells(CellsRecipe { overlap, ..CellsRecipe::default() });
    let bits = Store::Bits { planes: 1 };
    let all = [
        with(graph(false), Store::F32, None),
        with(graph(false), Store::Int8, Some(Store::F32)),
        with(graph(true), bits, Some(Store::F32)),
        with(cells(true), bits, Some(Store::F32)),
        with(cells(true), bits, Some(Store::F16)),
        with(cells(false), Store::usual_pq(shape.dimensions), Some(Store::F32)),
        with(Route::Scan, bits, Some(Store::F32)),
    ];
    all.into_iter().filter(|recipe| recipe.check(shape).is_ok()).collect()
}

/// Some of the rows of a column, to try recipes on.
pub struct RowSample {
    /// The table in which all other rows are dead, and those that indexes hold out if the queries are of them.
    parts: Parts,
    column: usize,
    known: Known,
    /// Rows that are left.
    pub n_rows: usize,
}

impl RowSample {
    /// Picks up to `n` rows, the same for every node and restart, and answers the queries exactly among them. Queries that
    /// are records are held out.
    pub fn new(
        table: &Table,
        column: usize,
        (set, k): (QuerySet<'_>, usize),
        n: usize,
        work: (usize, &Progress),
    ) -> Result<RowSample, MeasureError> {
        let mut rows = by_number(table, column);
        let share = held_out_share(rows.len());
        let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(1);
        let (some, others) = rows.partial_shuffle(&mut rng, n);
        let mut out = others.to_vec();
        if set.records.iter().any(Option::is_some) {
            out.extend(some.iter().filter(|row| is_held_out(table.number(**row), share)));
        }
        let parts = Parts::whole(table.without(&out), set.len());
        let known = exact(&parts, column, set, k, work)?;
        Ok(RowSample { n_rows: known.n_rows, parts, column, known })
    }

    /// Builds a recipe over the sample and solves the target on it. `set` is that of the sample.
    pub fn try_recipe(
        &self,
        set: QuerySet<'_>,
        (recipe, target): (Recipe, Target),
        (threads, progress): (usize, &Progress),
    ) -> Result<Tried, MeasureError> {
        let table = &self.parts.all()[0].table;
        let about = &table.vectors()[self.column];
        let description = Description {
            recipe: String::new(),
            metric: about.metric,
            dimensions: about.vectors.dimensions(),
            revision: table.revision(),
            seed: 1,
            owner: String::new(),
            rows_at_build: 0,
        };
        let start = Instant::now();
        let source = source_of(table, self.column, description);
        let index = Index::build(source, recipe, threads, progress)?;
        let build_seconds = start.elapsed().as_secs_f64();
        let n_bytes_memory = index.n_bytes_memory();
        let attached = Attached::new(index, table, self.column).map_err(|_| MeasureError::RowsChanged)?;
        let stage = Stage { parts: &self.parts, index: &[InPart::Whole(&attached)], set, known: &self.known };
        let solved = solve(self.column, &[stage], target, None, progress)?;
        Ok(Tried { solved, build_seconds, n_bytes_memory })
    }
}

/// How a recipe did on a sample.
pub struct Tried {
    pub solved: Solved,
    pub build_seconds: f64,
    pub n_bytes_memory: usize,
}
