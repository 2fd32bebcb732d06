//! Recipes: read, explained, and held against the memory budget.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::measure::advised::resolve;
use crate::node::memory::Wanted;
use crate::problem::{Kind, Problem, Result};
use serde_json::json;
use std::sync::Arc;
use zesty_engine::recipe::{DataShape, Explanation, Recipe, Wish};
use zesty_wire as wire;

/// The most dimensions of a vector column.
pub const MAX_DIMENSIONS: usize = 16_384;
/// Rows of one vector column.
const MAX_ROWS: usize = u32::MAX as usize - 1;

/// Says what a recipe does and costs, without building anything.
pub async fn explain(
    grant: &Grant,
    registry: &Registry,
    request: &wire::RecipeRequest,
) -> Result<wire::RecipeExplained> {
    grant.require_anywhere(Scope::Search)?;
    let shape = shape_for(grant, registry, request)?;
    let wish = read_recipe(&request.recipe)?;
    let (recipe, why) = match column_of(grant, registry, request)? {
        Some((live, column)) => resolve(registry, &live, column, wish, shape).await?,
        None => wish.resolve(shape),
    };
    let e = explained(recipe, shape)?;
    let stage = |s: zesty_engine::recipe::StageNote| wire::StageNote {
        stage: s.stage,
        what: s.what,
        bytes_per_row: s.bytes_per_row,
        fixed_bytes: s.fixed_bytes,
    };
    Ok(wire::RecipeExplained {
        rows: shape.rows,
        dimensions: shape.dimensions,
        metric: shape.metric.to_string(),
        why,
        form: serde_json::to_value(recipe).unwrap_or_default(),
        recipe: e.recipe,
        stages: e.stages.into_iter().map(stage).collect(),
        expected: wire::Expected {
            memory_bytes: e.expected.memory_bytes,
            file_bytes: e.expected.file_bytes,
            build_seconds: e.expected.build_seconds,
        },
        learns_from: e.learns_from,
        notices: e.notices,
    })
}

/// The column that a request names, if it names a collection.
fn column_of(
    grant: &Grant,
    registry: &Registry,
    request: &wire::RecipeRequest,
) -> Result<Option<(Arc<Live>, usize)>> {
    let Some(name) = &request.collection else { return Ok(None) };
    let live = registry.collection(grant, Scope::Search, name).map_err(|p| p.at("/collection"))?;
    let column = live.column(request.column.as_deref(), "/column")?;
    Ok(Some((live, column)))
}

/// The shape that a request gives, or that of the collection it names.
fn shape_for(grant: &Grant, registry: &Registry, request: &wire::RecipeRequest) -> Result<DataShape> {
    let known = column_of(grant, registry, request)?.map(|(live, column)| data_shape(&live, column));
    let metric = match &request.metric {
        Some(metric) => {
            metric.parse().map_err(|e: String| Problem::new(Kind::WrongShape, e).at("/metric"))?
        }
        None => known.map_or(zesty_engine::Metric::Cosine, |k| k.metric),
    };
    let missing = |what: &str| {
        let detail = format!("{what} is missing; give it, or a collection that has it");
        Problem::new(Kind::WrongShape, detail).at(format!("/{what}"))
    };
    let shape = DataShape {
        rows: request.rows.or(known.map(|k| k.rows)).ok_or_else(|| missing("rows"))?,
        dimensions: request
            .dimensions
            .or(known.map(|k| k.dimensions))
            .ok_or_else(|| missing("dimensions"))?,
        metric,
    };
    let refuse = |at: &str, detail: String| Err(Problem::new(Kind::WrongShape, detail).at(at));
    if !(1..=MAX_DIMENSIONS).contains(&shape.dimensions) {
        let n = shape.dimensions;
        return refuse("/dimensions", format!("dimensions is {n}; it goes from 1 to {MAX_DIMENSIONS}"));
    }
    if shape.rows > MAX_ROWS {
        return refuse("/rows", format!("rows is {}; it goes from 0 to {MAX_ROWS}", shape.rows));
    }
    Ok(shape)
}

/// Reads a recipe, or `auto`.
pub fn read_recipe(recipe: &wire::RecipeText) -> Result<Wish> {
    let read = match recipe {
        wire::RecipeText::Text(text) => text.parse(),
        wire::RecipeText::Form(form) => Recipe::from_json(form.clone()).map(Wish::Exactly),
    };
    read.map_err(|e: zesty_engine::recipe::RecipeError| {
        let place = match recipe {
            wire::RecipeText::Text(_) => format!("recipe, character {}: {e}", e.offset + 1),
            wire::RecipeText::Form(_) => format!("recipe: {e}"),
        };
        Problem::new(Kind::InvalidRecipe, place)
            .at("/recipe")
            .with("at", json!({"start": e.offset, "message": e.message}))
    })
}

pub fn explained(recipe: Recipe, shape: DataShape) -> Result<Explanation> {
    recipe.explain(shape).map_err(|why| Problem::new(Kind::InvalidRecipe, why).at("/recipe"))
}

/// What a recipe is calculated with: the rows, dimensions and metric of a column.
pub fn data_shape(live: &Live, column: usize) -> DataShape {
    let table = live.table.load();
    let vectors = &table.vectors()[column].vectors;
    DataShape {
        rows: table.alive().intersection_count(vectors.present()),
        dimensions: vectors.dimensions(),
        metric: live.metrics[column],
    }
}

/// What building an index takes: vectors are copied, and everything that goes to the file is held.
pub fn build_takes(explanation: &Explanation, shape: DataShape) -> Wanted {
    let copy = (shape.rows * shape.dimensions * 4) as u64;
    let parts = vec![("a copy of the vectors", copy), ("the index", explanation.expected.file_bytes)];
    Wanted { what: format!("building {}", explanation.recipe), parts }
}
