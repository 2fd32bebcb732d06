//! Whether an index can be built of a recipe on given data.

use crate::Metric;
use crate::names::grouped as n;
use crate::recipe::form::{CellsRecipe, Recipe, Route, Store};
use serde::{Deserialize, Serialize};

/// Whether product codes of so many parts fit; if not, the nearest that do.
pub(crate) fn parts_divide(parts: usize, dimensions: usize) -> Result<(), String> {
    if dimensions.is_multiple_of(parts) {
        return Ok(());
    }
    let fits = |n: &usize| dimensions.is_multiple_of(*n);
    let below = (1..parts).rev().find(fits);
    let above = (parts + 1..=dimensions).find(fits);
    let list: Vec<String> = below.into_iter().chain(above).map(|n| format!("pq({n})")).collect();
    Err(format!(
        "pq({parts}) cuts a vector into {parts} equal parts, and {parts} does not divide {dimensions} dimensions; \
         use {}",
        list.join(" or ")
    ))
}

/// The most dimensions a learned rotation may have: it is a square matrix, found by many decompositions.
const MOST_ROTATED: usize = 2048;

/// The shape of the data that a recipe is held against.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct DataShape {
    pub rows: usize,
    pub dimensions: usize,
    pub metric: Metric,
}

impl Recipe {
    /// Why an index cannot be built of this recipe on such data, if it cannot.
    pub fn check(&self, shape: DataShape) -> Result<(), String> {
        let DataShape { rows, dimensions, .. } = shape;
        if let Some(to) = self.prepare.reduce
            && to >= dimensions
        {
            return Err(format!(
                "reduce({to}) would keep {to} of {dimensions} dimensions; use fewer than {dimensions}, or leave reduce out"
            ));
        }
        let stored = self.dimensions(dimensions);
        if self.prepare.rotate && stored > MOST_ROTATED {
            return Err(format!(
                "rotate learns a matrix of {stored} x {stored}, and is limited to {} dimensions; put \
                 reduce({MOST_ROTATED}) or less before it",
                n(MOST_ROTATED)
            ));
        }
        if let Store::Pq { parts, .. } = self.store {
            parts_divide(parts, stored)?;
        }
        if rows == 0 && (self.learns().is_some()) {
            return Err(format!(
                "{} learns from the data, and there are no rows yet; load some, or use graph or scan",
                self.learns().expect("just seen")
            ));
        }
        let cells = match self.route {
            Route::Cells(c) => c.count.map(|count| (count, format!("cells({count})"))),
            Route::Crossed(c) => {
                if stored < 2 {
                    return Err(
                        "crossed codebooks take one half of the dimensions each, and there is only one"
                            .into(),
                    );
                }
                Some((c.left.max(c.right), format!("cells({}x{})", c.left, c.right)))
            }
            _ => None,
        };
        if let Some((count, text)) = cells
            && count > rows
        {
            let fits = CellsRecipe::default().count_for(rows);
            return Err(format!(
                "{text} asks for more cells than there are rows ({}); use cells({fits}), or cells without a number",
                n(rows)
            ));
        }
        Ok(())
    }

    /// The stage that needs data to learn from.
    pub(crate) fn learns(&self) -> Option<&'static str> {
        match (self.route, self.store) {
            (Route::Cells(_) | Route::Crossed(_), _) => Some("cells"),
            (_, Store::Pq { .. }) => Some("pq"),
            _ if self.prepare.reduce.is_some() => Some("reduce"),
            _ => None,
        }
    }
}
