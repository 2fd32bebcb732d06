//! A map of a column, and a query on it with its neighbours.

use crate::access::grant::{Grant, Scope};
use crate::measure::lens::{looking, shown};
use crate::measure::query_sets::SetTools;
use crate::node::threads::blocking;
use crate::problem::{Kind, Problem, Result};
use crate::records::select::read_and_compile;
use crate::search::settings::check_range;
use serde_json::{Value, json};
use zesty_engine::Table;
use zesty_engine::index::Progress;
use zesty_engine::measure;
use zesty_engine::rows::order::{SortValue, sortable, value};
use zesty_engine::schema::written;

use zesty_wire as wire;

const USUAL: usize = 3000;
pub const MOST: usize = 20_000;

/// Draws a map.
pub async fn map(
    grant: &Grant,
    tools: &SetTools,
    collection: &str,
    request: wire::MapRequest,
) -> Result<wire::MapAnswer> {
    let registry = &tools.registry;
    let live = registry.collection(grant, Scope::Read, collection)?;
    let n = request.records.unwrap_or(USUAL);
    check_range("records", n, MOST, "/records")?;
    let column = live.column(request.column.as_deref(), "/column")?;
    let marked = match request.query {
        Some(query) => {
            let marked = looking(grant, tools, collection, query).await.map_err(|p| p.inside("/query"))?;
            if marked.column != column || marked.table.numbering() != live.table.load().numbering() {
                let name = &live.columns()[column].name;
                let detail = format!("the query is of another column than \"{name}\", which the map shows");
                return Err(Problem::new(Kind::WrongShape, detail).at("/query"));
            }
            Some(marked)
        }
        None => None,
    };
    // The map shows the rows that the query was asked of.
    let table = marked.as_ref().map_or_else(|| live.table.load_full(), |marked| marked.table.clone());
    let field = match &request.field {
        Some(name) => Some(colour(&table, name)?),
        None => None,
    };
    let test = read_and_compile(table.schema(), request.filter.as_ref())?.map(|(_, test)| test);
    let threads = registry.threads;
    let name = live.columns()[column].name.clone();
    blocking(move || {
        let allowed = test.map(|test| test.run(&table));
        let work = (threads, &Progress::default());
        let drawn = measure::map(&table, column, allowed.as_ref(), n, work)
            .map_err(|e| Problem::new(Kind::NoData, e.to_string()))?;
        let points = drawn.rows.iter().zip(&drawn.places).map(|(&row, &[x, y])| wire::MapPoint {
            key: table.key(row).to_owned(),
            x,
            y,
            value: field.map_or(Value::Null, |field| shown_value(&table, field, row)),
        });
        let vectors = &table.vectors()[column].vectors;
        let placed = |key: &str| table.row(key).map(|row| drawn.place(vectors.row(row)));
        let query = match &marked {
            None => None,
            Some(marked) => {
                let seen = shown(marked, threads)?;
                let truth = seen.truth.iter().map(|t| (&t.key, t.distance, Some(t.rank), t.found_at));
                let strays = seen.strays.iter().map(|s| (&s.key, s.distance, None, Some(s.rank)));
                let neighbours = truth.chain(strays).filter_map(|(key, distance, true_rank, found_at)| {
                    let [x, y] = placed(key)?;
                    Some(wire::MapNeighbour { key: key.clone(), x, y, distance, true_rank, found_at })
                });
                let [x, y] = drawn.place(&marked.query);
                let neighbours = neighbours.collect();
                Some(wire::MapQuery { x, y, index: seen.index, recall: seen.recall, neighbours })
            }
        };
        Ok(wire::MapAnswer {
            column: name,
            field: request.field,
            points: points.collect(),
            explained: drawn.explained,
            n_rows: drawn.n_rows,
            query,
            revision: table.revision(),
        })
    })
    .await
}

/// A field with one value a record.
fn colour(table: &Table, name: &str) -> Result<usize> {
    let schema = table.schema();
    let at =
        schema.position(name).ok_or_else(|| Problem::unknown("field", name, schema.names()).at("/field"))?;
    let field = &schema.fields[at];
    if sortable(field.kind, field.stored_only) {
        return Ok(at);
    }
    let what = if field.stored_only { "stored only" } else { field.kind.name() };
    let detail = format!("records cannot be coloured by \"{name}\": it is {what}");
    Err(Problem::new(Kind::WrongShape, detail).at("/field"))
}

/// A value as JSON has it; times as text.
fn shown_value(table: &Table, field: usize, row: u32) -> Value {
    let kind = table.schema().fields[field].kind;
    match value(table, field, row) {
        SortValue::Missing => Value::Null,
        SortValue::Text(text) => json!(text),
        SortValue::Integer(n) => written(kind, n),
        SortValue::Number(x) => json!(x),
        SortValue::Boolean(b) => json!(b),
    }
}
