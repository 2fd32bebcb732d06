//! Any measurement as a file of some format.

use crate::access::grant::{Grant, Scope};
use crate::collections::registry::Registry;
use crate::measure::report::page::png;
use crate::measure::report::{advice, comparison, sweep, target};
use crate::measure::{self, comparisons, kept};
use crate::problem::{Kind, Problem, Result};
use serde_json::{Value, json};
use zesty_files::Sheet;

/// A file to save.
pub struct Saved {
    pub media_type: &'static str,
    pub bytes: Vec<u8>,
}

const FORMATS: &str = "csv, parquet, json, html or png";

/// What a report is made of.
struct Parts {
    sheet: Sheet,
    whole: Value,
    page: Result<String>,
    /// The chart, as SVG.
    picture: Result<String>,
}

/// Saves a sweep, a target, a comparison or advice, by its number.
pub async fn save(
    grant: &Grant,
    registry: &Registry,
    (collection, id): (&str, i64),
    format: &str,
) -> Result<Saved> {
    let live = registry.collection(grant, Scope::Search, collection)?;
    let unknown = || Problem::unknown("measurement", &id.to_string(), []);
    let model = registry.catalog.any_measurement(live.id, id).await?.ok_or_else(unknown)?;
    let unreadable = || Problem::new(Kind::Internal, format!("measurement {id} cannot be read"));
    let parts = match model.kind.as_str() {
        "sweep" => {
            let one = kept::view(&live, model).ok_or_else(unreadable)?;
            Parts {
                sheet: sweep::sheet(&one),
                whole: json!(one),
                page: sweep::page(&one, collection),
                picture: sweep::picture(&one),
            }
        }
        "target" => {
            let one = measure::targets::view(&live, &model).ok_or_else(unreadable)?;
            Parts {
                sheet: target::sheet(&one),
                whole: json!(one),
                page: target::page(&one, collection),
                picture: target::picture(&one),
            }
        }
        "advice" => {
            let one = measure::advised::view(&live, &model).ok_or_else(unreadable)?;
            Parts {
                sheet: advice::sheet(&one),
                whole: json!(one),
                page: advice::page(&one, collection),
                picture: advice::picture(&one),
            }
        }
        "comparison" => {
            let one = comparisons::show(grant, registry, (collection, id)).await?;
            let queries = comparisons::figures_of(registry, &one).await?;
            let page = comparison::page(&one, collection, &queries);
            Parts {
                sheet: comparison::sheet(&queries),
                whole: json!(one),
                page,
                picture: comparison::picture(&one),
            }
        }
        _ => return Err(unknown()),
    };
    let failed =
        |e: std::io::Error| Problem::new(Kind::Internal, format!("the report cannot be written: {e}"));
    let (media_type, bytes) = match format {
        "csv" => ("text/csv", parts.sheet.csv().map_err(failed)?),
        "parquet" => ("application/vnd.apache.parquet", parts.sheet.parquet().map_err(failed)?),
        "json" => ("application/json", serde_json::to_vec_pretty(&parts.whole).unwrap_or_default()),
        "html" => ("text/html; charset=utf-8", parts.page?.into_bytes()),
        "png" => ("image/png", png(&parts.picture?)?),
        other => {
            let detail = format!("a measurement is saved as {FORMATS}, not as \"{other}\"");
            return Err(Problem::new(Kind::WrongShape, detail));
        }
    };
    Ok(Saved { media_type, bytes })
}
