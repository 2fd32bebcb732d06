//! Collections and indexes as they are shown.

use crate::collections::live::{Live, Serving};
use crate::collections::reach::Reach;
use crate::collections::recipes::data_shape;
use crate::problem::Result;
use crate::search::settings::settings_of;
use zesty_catalog::index;
use zesty_engine::Recipe;
use zesty_engine::recipe::DataShape;
use zesty_wire as wire;

/// A collection as a key sees it. Bound to a filter, it counts its own records, and is told nothing that goes over all.
pub fn reached(reach: &Reach) -> Result<wire::Collection> {
    let live = &reach.live;
    let table = live.table.load();
    let Some(within) = reach.rows(&table)? else { return Ok(collection(live)) };
    let mut view = collection(live);
    for (column, held) in view.columns.iter_mut().zip(table.vectors()) {
        let mut rows = within.rows.clone();
        held.vectors.present().keep_in(&mut rows);
        column.n_vectors = rows.count_ones(..);
        column.n_bytes_memory = 0;
        column.n_bytes_mapped = 0;
    }
    Ok(wire::Collection { n_records: within.n, indexes: Vec::new(), trouble: None, ..view })
}

/// A collection as it is shown.
pub fn collection(live: &Live) -> wire::Collection {
    let table = live.table.load();
    let columns = live
        .columns()
        .iter()
        .enumerate()
        .map(|(i, c)| {
            let held = &table.vectors()[i];
            wire::Column {
                name: c.name.clone(),
                dimensions: c.dimensions,
                metric: live.metrics[i].to_string(),
                encoder: c.encoder.clone(),
                template: c.template.clone(),
                n_vectors: table.alive().intersection_count(held.vectors.present()),
                serving: live.serving(i).map(|s| serving_choice(live, s)),
                n_bytes_memory: held.n_bytes(),
                n_bytes_mapped: held.n_bytes_mapped(),
            }
        })
        .collect();
    wire::Collection {
        name: live.name.clone(),
        description: live.collection.about.description.clone(),
        fields: live.collection.about.fields.clone(),
        columns,
        default_column: live.default_column().map(|c| live.columns()[c].name.clone()),
        indexes: indexes(live),
        n_records: table.n_records(),
        revision: table.revision(),
        created_at: live.collection.about.created_at,
        schema_version: live.schema_version(),
        trouble: live.segment_trouble(),
    }
}

/// The share of living vectors that an index holds; `None` where there are none.
pub fn coverage(index: &wire::Index) -> Option<f64> {
    let covered = (index.n_rows as usize).saturating_sub(index.n_dead);
    let all = covered + index.n_uncovered;
    (all > 0).then(|| covered as f64 / all as f64)
}

/// The indexes of a collection as they are shown; what sweeps measured is added by who has them.
pub fn indexes(live: &Live) -> Vec<wire::Index> {
    let table = live.table.load();
    let indexes = live.kept.indexes.load();
    indexes
        .iter()
        .filter_map(|i| Some((i, live.position(i)?)))
        .map(|(i, column)| {
            let m = &i.model;
            let a = i.attached.as_ref();
            wire::Index {
                name: m.name.clone(),
                column: live.columns()[column].name.clone(),
                recipe: m.recipe.clone(),
                state: m.state.clone(),
                error: m.error.clone(),
                n_rows: m.n_rows,
                revision: m.revision,
                n_uncovered: a.map_or(0, |a| a.uncovered(&table, column).count_ones(..)),
                n_dead: a.map_or(0, |a| a.n_dead(&table)),
                n_bytes_file: m.n_bytes,
                n_bytes_vectors: a.map_or(0, |a| a.index.n_bytes_vectors()),
                n_bytes_structure: a.map_or(0, |a| a.index.n_bytes_structure()),
                n_bytes_memory: a.map_or(0, |a| a.index.n_bytes_memory()),
                n_bytes_copied: a.map_or(0, |a| a.index.n_bytes_copied()),
                expected: expected(live, column, m),
                measured: None,
                build_seconds: m.build_seconds,
                seed: m.seed,
                created_at: m.created_at,
                serving: live.serving(column).is_some_and(|s| s.index == m.name),
            }
        })
        .collect()
}

fn expected(live: &Live, column: usize, model: &index::Model) -> Option<wire::Expected> {
    let recipe: Recipe = model.recipe.parse().ok()?;
    let rows = if model.state == "ready" { model.n_rows as usize } else { data_shape(live, column).rows };
    let shape = DataShape { rows, ..data_shape(live, column) };
    let e = recipe.explain(shape).ok()?.expected;
    Some(wire::Expected {
        memory_bytes: e.memory_bytes,
        file_bytes: e.file_bytes,
        build_seconds: e.build_seconds,
    })
}

fn serving_choice(live: &Live, serving: Serving) -> wire::ServingChoice {
    let index = live.index(&serving.index).ok();
    let recipe = index.map(|i| i.model.recipe.clone()).unwrap_or_default();
    let settings = match serving.recall {
        Some(_) => wire::Settings::default(),
        None => settings_of(&recipe, serving.settings),
    };
    wire::ServingChoice { index: serving.index, settings, recall: serving.recall }
}
