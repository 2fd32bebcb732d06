//! What was advised for a column: `auto` then takes what was measured rather than what is usual.

use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::measure::kept::{column_name, read};
use crate::problem::Result;
use zesty_catalog::measurement;
use zesty_engine::Recipe;
use zesty_engine::recipe::{DataShape, Wish};
use zesty_wire as wire;

pub fn view(live: &Live, m: &measurement::Model) -> Option<wire::Advice> {
    let (spec, result): (_, wire::AdviceResult) = read(m)?;
    Some(wire::Advice {
        id: m.id,
        column: column_name(live, m.column_id),
        stale: result.revision != live.table.load().revision(),
        spec,
        result,
        created_at: m.created_at,
    })
}

/// The recipe of a wish, and why it was chosen where it was: by advice, or as is usual.
pub async fn resolve(
    registry: &Registry,
    live: &Live,
    column: usize,
    wish: Wish,
    shape: DataShape,
) -> Result<(Recipe, Option<String>)> {
    match advised(registry, live, column, wish, shape).await? {
        Some((recipe, why)) => Ok((recipe, Some(why))),
        None => Ok(wish.resolve(shape)),
    }
}

/// The newest advice of a column that answers a wish: it asked for as much recall, its winner fits the memory, and there are
/// not twice or half as many records now.
async fn advised(
    registry: &Registry,
    live: &Live,
    column: usize,
    wish: Wish,
    shape: DataShape,
) -> Result<Option<(Recipe, String)>> {
    let Wish::Auto { recall, memory_mb } = wish else { return Ok(None) };
    let all = registry.catalog.measurements(live.id, "advice").await?;
    let of_column = all.iter().filter(|m| m.column_id == live.columns()[column].id);
    for advice in of_column.filter_map(|m| view(live, m)) {
        let r = &advice.result;
        let (asked, rows) = (&advice.spec, r.n_rows);
        let winner = r.candidates.iter().find(|c| Some(&c.recipe) == r.winner.as_ref());
        let Some((winner, trial)) = winner.and_then(|w| Some((w, w.on_all.as_ref()?))) else { continue };
        let fits = memory_mb.is_none_or(|mb| trial.memory_bytes as f64 <= mb * 1e6)
            && asked.recall >= recall
            && asked.aim == wire::Aim::Mean
            && shape.rows < 2 * rows
            && rows < 2 * shape.rows;
        let Some(recipe) = winner.recipe.parse().ok().filter(|_| fits) else { continue };
        let why = format!(
            "advice {} measured it on {} rows: recall {:.4} with {} in {:.0} us, the fastest of {} recipes, with {:.1} MB \
             in memory",
            advice.id,
            rows,
            trial.figures.recall_mean,
            match trial.settings.to_string() {
                words if words.is_empty() => "no settings".into(),
                words => words,
            },
            trial.figures.p50_us,
            r.candidates.iter().filter(|c| c.on_sample.is_some()).count(),
            trial.memory_bytes as f64 / 1e6
        );
        return Ok(Some((recipe, why)));
    }
    Ok(None)
}
